"""The strip keeps every sample, and draws a span as finely as its pixels can show, without losing a spike."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from niente.core.acquisition.strip_chart import BLOCK, MEAN_CORE, THROUGHPUT_PERCENT, Pyramid, StripChart
from niente.core.analysis.evidence import limiters_of
from niente.core.model.frame import Frame
from niente.core.model.plan import Exposure, Step
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from tests.conftest import larkspur_rig


@settings(max_examples=60, deadline=None)
@given(
    lengths=st.lists(st.integers(1, 900), min_size=1, max_size=5),
    span=st.tuples(st.floats(0, 1), st.floats(0, 1)),
    pixels=st.integers(10, 400),
    seed=st.integers(0, 1000),
)
def test_the_envelope_keeps_what_the_samples_reach(
    lengths: list[int], span: tuple[float, float], pixels: int, seed: int
) -> None:
    """Whatever the width and however the samples came in, least and greatest of the span are those drawn."""
    values = np.random.default_rng(seed).normal(size=(sum(lengths), 2))
    time_s = np.arange(values.shape[0], dtype=float)
    pyramid = Pyramid()
    for end in np.cumsum(lengths):
        pyramid.extend(values[:end])
    first, last = sorted(round(share * values.shape[0]) for share in span)
    x, y = pyramid.envelope(time_s, values, 1, first, last, pixels)
    own = values[first:last, 1]
    if own.shape[0]:
        assert np.min(y) <= np.min(own)
        assert np.max(y) >= np.max(own)
        assert x.shape == y.shape
        assert np.all(np.diff(x) >= 0)
        assert y.shape[0] <= max(2 * BLOCK * pixels, 2 * BLOCK) + 2 * BLOCK


def test_few_samples_are_drawn_as_they_are() -> None:
    values = np.arange(50.0).reshape(-1, 1)
    pyramid = Pyramid()
    pyramid.extend(values)
    x, y = pyramid.envelope(np.arange(50.0), values, 0, 10, 30, 100)
    assert np.array_equal(x, np.arange(10.0, 30.0))
    assert np.array_equal(y, np.arange(10.0, 30.0))


def test_a_lost_sensor_does_not_hide_the_rest() -> None:
    values = np.ones((BLOCK * 4, 1))
    values[3] = np.nan
    pyramid = Pyramid()
    pyramid.extend(values)
    _, y = pyramid.envelope(np.arange(64.0), values, 0, 0, 64, 2)
    assert np.all(y == 1.0)


def filled(card: RigCard, seconds: int, most: int = 200_000) -> tuple[StripChart, np.ndarray, Setting]:
    rig = larkspur_rig()
    setting = Setting(sustained_power_w=100.0)
    rig.apply(setting.over(card.stock))
    rig.start("vector")
    strip = StripChart(card, most)
    step = Step(setting, "vector", Exposure(60.0, 60.0))
    strip.begin(1, 1, step, 0.0, 46.0)
    kept = []
    for _ in range(seconds):
        frame = rig.frame(1.0)
        assert isinstance(frame, Frame)
        strip.add(frame, 1)
        kept.append(np.append(frame.time_s, frame.values))
    rig.close()
    return strip, np.array(kept), setting


def test_what_follows_from_the_samples_is_worked_out(card: RigCard) -> None:
    strip, kept, setting = filled(card, 400)
    strip.catch_up()
    cores = kept[:, 1:][:, list(card.indices("core_temperature_c"))]
    _, mean = strip.line(MEAN_CORE, 0.0, 1e9, 10_000)
    assert np.allclose(mean, cores.mean(axis=1))
    _, percent = strip.line(THROUGHPUT_PERCENT, 0.0, 1e9, 10_000)
    assert np.allclose(percent, 100.0 * kept[:, 1 + (card.index("throughput_per_s") or 0)] / 46.0)
    assert np.array_equal(strip.limiters, limiters_of(card, kept[:, 1:], setting, "vector"))
    assert strip.line("no such channel", 0.0, 1e9, 10)[0].shape == (0,)


def test_it_reads_what_lies_nearest(card: RigCard) -> None:
    strip, kept, _ = filled(card, 60)
    strip.catch_up()
    index = card.index("package_power_w")
    assert index is not None
    assert strip.at("package_power_w", kept[20, 0] + 0.3) == kept[20, 1 + index]
    assert strip.at("package_power_w", kept[20, 0] + 0.7) == kept[21, 1 + index]
    assert strip.at("package_power_w", -1e6) == kept[0, 1 + index]
    assert strip.at("package_power_w", 1e9) == kept[-1, 1 + index]


def test_the_oldest_half_goes_when_it_is_full(card: RigCard) -> None:
    strip, kept, setting = filled(card, 350, most=200)
    strip.catch_up()
    assert 100 <= strip.time_s.shape[0] <= 200
    assert np.array_equal(strip.time_s, kept[-strip.time_s.shape[0] :, 0])
    assert strip.runs
    assert np.array_equal(strip.limiters, limiters_of(card, kept[-strip.time_s.shape[0] :, 1:], setting, "vector"))


def test_without_samples_there_is_nothing(card: RigCard) -> None:
    strip = StripChart(card)
    strip.catch_up()
    assert np.isnan(strip.at("package_power_w", 0.0))
    assert strip.line("package_power_w", 0.0, 1.0, 10)[0].shape == (0,)
    assert strip.window(0.0, 1.0) == pytest.approx((0, 0))
