"""Each rule of the pick by itself: the unfavourable end of every interval, time enough, the maker's margin, and words that
leave nothing out."""

import math

import msgspec
import numpy as np
import pytest

from niente.core.analysis.beside import KnownFigure
from niente.core.analysis.evidence import Evidence
from niente.core.analysis.grid import SettingGrid, survey_grid
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.prediction import ceilings, predict_under_load
from niente.core.analysis.setting_batch import one_setting
from niente.core.model.limits import Limits
from niente.core.model.plan import Confirmation
from niente.core.model.setting import Setting
from niente.core.planning.confirmation import Decided, confirming, following
from niente.core.selection.explanation import (
    candidate_text,
    confirmation_text,
    pick_reason,
    reliability_text,
    short_candidate_text,
)
from niente.core.selection.kept import Limit, keeps, misses, short_of
from niente.core.selection.pick import Choice, Standing, choose, standing_of
from niente.core.selection.setting_words import brief_text, differing, parts_text, values_text


@pytest.fixture(scope="module")
def models(evidence: Evidence) -> Models:
    return fit_models(evidence)


@pytest.fixture(scope="module")
def field(models: Models) -> SettingGrid:
    return survey_grid(models, Limits())


def told(field: SettingGrid, **figures: float) -> SettingGrid:
    """The field with every setting predicted to be the same in some figures."""
    count = field.clean_s.shape[0]
    same = {name: np.full(count, value) for name, value in figures.items()}
    predicted = msgspec.structs.replace(field.predicted, **same)
    limited = msgspec.structs.replace(
        field.figures,
        throughput_percent=KnownFigure(predicted.throughput_percent, predicted.throughput_hw),
        headroom_k=KnownFigure(predicted.headroom_k, predicted.core_hw),
        heard_dba=KnownFigure(predicted.in_room_dba, predicted.in_room_hw),
    )
    return msgspec.structs.replace(field, predicted=predicted, figures=limited)


@pytest.mark.parametrize(
    ("limit", "figures", "kept"),
    [
        (Limit.THROUGHPUT, {"throughput_percent": 91.0, "throughput_hw": 2.0}, False),
        (Limit.THROUGHPUT, {"throughput_percent": 89.5, "throughput_hw": 2.0}, False),
        (Limit.THROUGHPUT, {"throughput_percent": 92.5, "throughput_hw": 2.0}, True),
        (Limit.HEADROOM, {"headroom_k": 8.5, "core_hw": 1.0}, False),
        (Limit.HEADROOM, {"headroom_k": 9.5, "core_hw": 1.0}, True),
        (Limit.NOISE, {"in_room_dba": 29.5, "in_room_hw": 1.0}, False),
        (Limit.NOISE, {"in_room_dba": 28.5, "in_room_hw": 1.0}, True),
    ],
)
def test_limits_are_kept_at_the_unfavourable_end(
    field: SettingGrid, limit: Limit, figures: dict[str, float], kept: bool
) -> None:
    limits = Limits(min_throughput_percent=90.0, min_headroom_k=8.0, max_noise_dba=30.0)
    missed = misses(told(field, **figures), limits)[limit]
    assert bool(np.all(missed <= 0.01)) is kept
    assert bool(np.any(missed <= 0.01)) is kept


@pytest.mark.parametrize(
    ("throughput_percent", "headroom_k", "broken"),
    [
        (92.5, 50.0, set()),
        (50.0 + 90.0, 9.25, set()),
        (92.5, 9.25, {Limit.THROUGHPUT, Limit.HEADROOM}),
        (92.4, 9.3, {Limit.THROUGHPUT}),
    ],
)
def test_all_limits_hold_together_with_99_percent(
    field: SettingGrid, throughput_percent: float, headroom_k: float, broken: set[Limit]
) -> None:
    """2.45 standard deviations from a limit leave 0.7 % (normal table): one such doubt is borne, two together are 1.4 %."""
    sure = {"throughput_percent": throughput_percent, "throughput_hw": 2.0, "headroom_k": headroom_k, "core_hw": 1.0}
    count = field.clean_s.shape[0]
    calm = msgspec.structs.replace(told(field, **sure), lasts=np.ones(count), against=np.zeros(count, dtype=np.int64))
    kept = keeps(calm, Limits(min_throughput_percent=90.0, min_headroom_k=8.0))
    found = {limit for limit, mask in kept.items() if not mask.all()}
    assert found <= broken
    assert bool(found) == bool(broken)
    assert all(mask.all() or not mask.any() for mask in kept.values())


@pytest.mark.parametrize(
    ("value", "half_width", "least", "probability"),
    [(10.0, 1.959964, 10.0, 0.5), (11.0, 1.959964, 10.0, 0.158655), (8.0, 1.959964, 10.0, 0.977250), (math.nan, 1.0, 0.0, 1.0)],
)
def test_how_surely_a_figure_falls_short(value: float, half_width: float, least: float, probability: float) -> None:
    """The normal distribution at 0, 1 and 2 standard deviations (Abramowitz and Stegun, table 26.1)."""
    assert short_of(np.array([value]), np.array([half_width]), least)[0] == pytest.approx(probability, abs=1e-5)


@pytest.mark.parametrize(("clean_s", "confirmed"), [(0.0, False), (120.0, False), (1199.0, False), (1200.0, True)])
def test_twenty_minutes_confirm_and_two_do_not(
    models: Models, field: SettingGrid, limits: Limits, clean_s: float, confirmed: bool
) -> None:
    """20 min of the heaviest load (common practice, no source)."""
    ran = msgspec.structs.replace(field, clean_s=np.full(field.clean_s.shape, clean_s))
    assert choose(models, limits, ran).confirmed is confirmed


@pytest.mark.parametrize(("exposure_s", "clean_minutes", "least_s"), [(600.0, 45.0, 2700.0), (3600.0, 20.0, 3600.0)])
def test_a_confirming_run_is_as_long_as_either_wants(
    models: Models, field: SettingGrid, exposure_s: float, clean_minutes: float, least_s: float
) -> None:
    limits = Limits(clean_minutes=clean_minutes)
    ran = msgspec.structs.replace(field, clean_s=np.zeros(field.clean_s.shape))
    choice = choose(models, limits, ran)
    step = confirming(exposure_s, choice, models.heavy_load)
    assert step is not None
    assert least_s <= step.exposure.min_s < least_s + 5.0
    decided = Decided(models, limits, ran, choice)
    assert following(Confirmation(exposure_s=exposure_s, max_runs=2), decided, 1) == step
    assert following(Confirmation(exposure_s=exposure_s, max_runs=2), decided, 2) is None


def test_a_failure_at_the_pick_confirms_nothing(models: Models, field: SettingGrid, limits: Limits) -> None:
    ran = msgspec.structs.replace(field, clean_s=np.full(field.clean_s.shape, 9999.0))
    pick = choose(models, limits, ran).pick
    assert pick.failures == 0
    failed = np.zeros_like(field.failures)
    failed[
        np.all([field.settings.of("sustained_power_w") == pick.limit_w, field.settings.of("fan_duty.case") == pick.duty], 0)
    ] = 1
    other = choose(models, limits, msgspec.structs.replace(ran, failures=failed)).pick if np.any(failed) else pick
    assert (other.limit_w, other.duty) != (pick.limit_w, pick.duty)


@pytest.mark.parametrize(("cap", "ceiling"), [(95.0, 90.0), (90.0, 90.0), (82.0, 82.0)])
def test_headroom_counts_from_the_lower_of_cap_and_makers_limit_less_its_margin(
    models: Models, cap: float, ceiling: float
) -> None:
    """Larkspur's maker allows 95 °C, and its margin is 5 K."""
    setting = models.card.stock.replaced("temperature_cap_c", cap)
    assert ceilings(models, one_setting(setting)).tolist() == [ceiling]


def test_nothing_is_picked_from_beyond_what_was_measured_while_there_is_anything_within(
    models: Models, field: SettingGrid, limits: Limits
) -> None:
    pick = choose(models, limits, field).pick
    assert pick.inside
    quieter = field.predicted.in_room_dba.copy()
    beyond = np.flatnonzero(~field.inside)
    inside = field.inside.copy()
    if not beyond.shape[0]:
        beyond = np.array([0])
        inside[0] = False
    quieter[beyond] = 5.0
    loud = msgspec.structs.replace(
        field, inside=inside, predicted=msgspec.structs.replace(field.predicted, in_room_dba=quieter)
    )
    assert choose(models, limits, loud).pick.inside
    nowhere = msgspec.structs.replace(field, inside=np.zeros_like(field.inside))
    far = choose(models, limits, nowhere)
    assert not far.pick.inside
    assert "outside of what was measured" in pick_reason(far)


def _deep(choice: Choice) -> Choice:
    others = (("voltage_offset_mv", -45.0), ("core_offset_mv.3", -10.0), ("core_offset_mv.4", -10.0), ("fan_duty.cooler", 40.0))
    return msgspec.structs.replace(choice, pick=msgspec.structs.replace(choice.pick, others=others))


def test_a_pick_is_named_with_every_control_that_differs_from_stock(models: Models, limits: Limits) -> None:
    choice = choose(models, limits)
    stock = models.card.stock
    for name, value in differing(choice.pick.setting, stock):
        assert choice.pick.setting.value(name) == value != stock.value(name)
        assert name in ("sustained_power_w", "fan_duty.case") or (name, value) in choice.pick.others
    for text in (candidate_text(_deep(choice).pick), short_candidate_text(_deep(choice).pick)):
        for words in ("−45\u00a0mV", "cores\u00a03 to 4 −10\u00a0mV", "cooler\u00a0fans 40\u00a0%"):
            assert words in text


def test_controls_are_said_with_what_they_are() -> None:
    found = values_text(
        [("clock_cap_mhz", 4200.0), ("temperature_cap_c", 80.0), ("fixed_clock_mhz", 4000.0), ("point_offset_mv.8", 20.0)]
    )
    assert found == [
        "clock cap 4\u00a0200\u00a0MHz",
        "temperature cap 80\u00a0°C",
        "clock fixed at 4\u00a0000\u00a0MHz",
        "curve point\u00a08 20\u00a0mV",
    ]


def test_many_offsets_are_told_in_brief_and_nowhere_lost() -> None:
    """Twelve cores at three offsets: a heading says from where to where, the full list stands beside it."""
    offsets = {str(core): -20.0 - 5.0 * (core % 3) for core in range(1, 13)}
    setting = Setting(sustained_power_w=101.0, core_offset_mv=offsets)
    values = [(name, value) for name, value in setting.controls() if name.startswith("core_offset_mv")]
    assert values_text(values, brief=True) == ["cores \u221220\u00a0mV to \u221230\u00a0mV"]
    full = parts_text(values)
    assert all(f"{core}" in full for core in offsets)
    assert full.count("mV") == 3
    assert brief_text(setting) == "101\u00a0W, cores \u221220\u00a0mV to \u221230\u00a0mV"
    assert parts_text(values[:2]) == ""  # two are told in full anyway


@pytest.mark.parametrize(
    ("clean_s", "risk", "by_law", "makers", "standing"),
    [
        (0.0, 0.001, True, False, Standing.PROPOSED),
        (1199.0, 0.001, True, False, Standing.PROPOSED),
        (1200.0, 0.0099, True, False, Standing.PROVEN),
        (1200.0, 0.0101, True, False, Standing.CONFIRMED),
        (1200.0, 0.0001, False, False, Standing.CONFIRMED),
        (1200.0, 0.9, False, True, Standing.MAKERS),
        (1200.0, 0.001, True, True, Standing.PROVEN),
    ],
)
def test_how_a_pick_stands(
    models: Models, limits: Limits, clean_s: float, risk: float, by_law: bool, makers: bool, standing: Standing
) -> None:
    """Proposed until it ran 20 min, proven where a failure in a day is under 1 % by a law that failures taught."""
    pick = choose(models, limits).pick
    changed = msgspec.structs.replace(pick, clean_s=clean_s, failures=0, risk=risk, by_law=by_law, makers=makers)
    assert standing_of(changed, limits) == standing


@pytest.mark.parametrize(
    ("lasts", "by_law", "makers", "against", "kept"),
    [
        (0.98, True, False, 0, False),
        (0.991, True, False, 0, True),
        (0.98, False, False, 0, True),
        (0.98, True, True, 0, True),
        (0.98, True, True, 1, False),
        (math.nan, True, False, 0, False),
    ],
)
def test_the_limit_on_failures(
    field: SettingGrid, limits: Limits, lasts: float, by_law: bool, makers: bool, against: int, kept: bool
) -> None:
    """It excludes nothing before a law is known, nor the maker's own voltage unless something failed there."""
    count = field.clean_s.shape[0]
    changed = msgspec.structs.replace(
        field,
        lasts=np.full(count, lasts),
        by_law=by_law,
        makers=np.full(count, makers),
        against=np.full(count, against, dtype=np.int64),
    )
    missed = misses(changed, limits)[Limit.FAILURES]
    assert bool(np.all(missed <= 0.01)) is kept
    assert bool(np.any(missed <= 0.01)) is kept


def test_risk_and_how_surely_it_is_kept_agree(field: SettingGrid, limits: Limits) -> None:
    """The chance that is surely not exceeded lies under the one allowed exactly where that is kept as surely."""
    assert field.by_law
    clear = np.abs(field.risk - limits.failure.chance) > 1e-3
    assert np.any(clear)
    assert np.array_equal((field.risk <= limits.failure.chance)[clear], (field.lasts >= limits.failure.sure)[clear])


def test_confirmed_is_not_proven_and_says_how_sure(models: Models, limits: Limits) -> None:
    choice = choose(models, limits)
    assert choice.confirmed
    doubtful = msgspec.structs.replace(choice, standing=Standing.CONFIRMED)
    assert "confirmed, not proven" in confirmation_text(doubtful)
    twelve = msgspec.structs.replace(choice.pick, risk=0.12, by_law=True)
    assert "at most 12\u00a0% within 24 h (99\u00a0% sure)" in reliability_text(twelve, limits).replace("24\u00a0h", "24 h")
    assert "Nothing has failed yet" in reliability_text(msgspec.structs.replace(twelve, by_law=False), limits)
    never = msgspec.structs.replace(choice, confirmed=False, pick=msgspec.structs.replace(choice.pick, clean_s=0.0))
    assert "not proven" in confirmation_text(never)


def test_where_heat_limits_there_is_no_headroom(models: Models) -> None:
    setting = Setting(sustained_power_w=160.0, fan_duty={"case": 20.0}).over(models.base)
    hot = predict_under_load(models, one_setting(setting), models.heavy_load, 30.0)
    assert hot.limiter[0] == 2
    assert hot.clock_mhz[0] < 4800.0
