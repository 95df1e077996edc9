"""What a run is summed up as: its last minutes and nothing before, levels as energies, and no reading that cannot be."""

import msgspec
import numpy as np
import pytest

from niente.core.analysis.evidence import RunSummary, summarise
from niente.core.model.rig_card import RigCard
from niente.core.model.runs import RunKind, RunOutcome
from niente.core.storage.reader import RunRecord


def summed_up(card: RigCard, values: np.ndarray, load: str = "vector") -> RunSummary:
    channels = tuple(channel.name for channel in card.channels)
    setting = card.stock
    record = RunRecord(1, 1, 1, RunKind.STEP, 0.0, 0.0, setting, load, channels, RunOutcome.DONE, "", None, 1)
    return summarise(card, record, np.arange(float(values.shape[0])), values, 0)


def steady(card: RigCard, seconds: int = 900, **readings: float) -> np.ndarray:
    """A machine that does the same all the time, with some readings in their stead; names are quantities."""
    usual = {"room_temperature_c": 23.0, "package_power_w": 100.0, "effective_clock_mhz": 4200.0, "noise_dba": 30.0}
    values = np.full((seconds, len(card.channels)), 60.0)
    for name, value in {**usual, **readings}.items():
        values[:, list(card.indices(name))] = value
    return values


def put(card: RigCard, values: np.ndarray, name: str, some: slice | int, reading: float) -> np.ndarray:
    values[some, list(card.indices(name))] = reading
    return values


@pytest.mark.parametrize(("load", "field"), [("vector", "power_w"), ("vector", "noise_dba"), ("idle", "noise_dba")])
def test_means_are_of_the_last_minutes(card: RigCard, load: str, field: str) -> None:
    """Fifteen minutes of which the first ten were louder and drew more: neither is what the setting comes to."""
    values = steady(card)
    put(card, values, "noise_dba", slice(0, 600), 55.0)
    put(card, values, "package_power_w", slice(0, 600), 190.0)
    run = summed_up(card, values, load)
    assert getattr(run, field) == pytest.approx({"power_w": 100.0, "noise_dba": 30.0}[field])


def test_levels_are_averaged_as_energies(card: RigCard) -> None:
    """ISO 3744:2010, 8.2.2: 30, 32, 34 and 38 dB have the mean 34.5509 dB; as numbers 33.5 (derived from the equation)."""
    values = steady(card, 960)
    values[:, card.index("noise_dba")] = np.tile([30.0, 32.0, 34.0, 38.0], 240)
    assert summed_up(card, values, "idle").noise_dba == pytest.approx(34.5509, abs=0.03)


def test_five_minutes_in_an_hour_count_as_their_energy(card: RigCard) -> None:
    """IEC 61672-1:2013, 3.9: 5 min at 40 dB and 55 min at 30 dB have the equivalent level 32.4304 dB (derived)."""
    values = steady(card, 480)
    level = values[:, card.index("noise_dba")]
    level[-240:-220] = 40.0  # a twelfth of the four minutes that count
    assert summed_up(card, values, "idle").noise_dba == pytest.approx(32.4304, abs=0.02)


@pytest.mark.parametrize(("share", "limited"), [(0.0, False), (0.04, False), (0.06, True), (0.3, True), (1.0, True)])
def test_a_twentieth_of_the_time_at_the_cap_is_heat_limited(card: RigCard, share: float, limited: bool) -> None:
    """A run that its cap touches has no settled temperature of its own; its power was that which the cap left."""
    run = summed_up(card, steady(card))
    held = msgspec.structs.replace(run, limiter_shares={"temperature cap": share, "sustained limit": 1.0 - share})
    assert held.heat_limited is limited


@pytest.mark.parametrize(
    ("name", "reading", "field"),
    [("noise_dba", 120.0, "noise_dba"), ("room_temperature_c", -200.0, "room_c"), ("room_temperature_c", 49.0, "room_c")],
)
def test_one_reading_that_cannot_be_moves_nothing(card: RigCard, name: str, reading: float, field: str) -> None:
    clean = steady(card, 900)
    rng = np.random.default_rng(1)
    clean += 0.1 * rng.standard_normal(clean.shape)
    before = summed_up(card, clean.copy())
    after = summed_up(card, put(card, clean.copy(), name, 800, reading))
    assert getattr(after, field) == pytest.approx(getattr(before, field), abs=0.01)
    assert after.settled.known
    assert after.settled.value_c == pytest.approx(before.settled.value_c, abs=0.05)


def test_a_core_that_reads_wildly_once_does_not_move_its_settled_temperature(card: RigCard) -> None:
    values = steady(card, 900)
    values += 0.2 * np.random.default_rng(2).standard_normal(values.shape)
    before = summed_up(card, values.copy()).settled
    after = summed_up(card, put(card, values.copy(), "core_temperature_c", 700, 0.0)).settled
    assert after.value_c == pytest.approx(before.value_c, abs=0.05)


def test_a_room_that_is_never_read_leaves_no_settled_temperature(card: RigCard) -> None:
    run = summed_up(card, steady(card, room_temperature_c=np.nan))
    assert not run.settled.known
    assert "missing" in run.settled.reason
