"""The traces show the samples as they are, and the hold band what held."""

import numpy as np
import pytest
from pytestqt.qtbot import QtBot

from niente.core.bench.events import RunOpened
from niente.core.bench.samples import Samples
from niente.core.evidence import column, holds_of
from niente.core.frame import Frame
from niente.core.plan import Exposure, Step
from niente.core.rigcard import RigCard
from niente.core.science.hold import Hold
from niente.core.setting import Setting
from niente.desktop.app import make_app
from niente.desktop.pages.run import traces as module
from niente.desktop.pages.run.traces import Traces
from niente.desktop.session import LiveRun
from niente.desktop.theme import PAPER
from tests.conftest import larkspur_rig


def live_run(run_id: int, setting: Setting, load: str, seconds: int) -> LiveRun:
    rig = larkspur_rig()
    card = rig.describe()
    rig.apply(setting.over(card.stock))
    rig.start(load)
    samples = Samples(len(card.channels))
    for _ in range(seconds):
        frame = rig.frame(1.0)
        assert isinstance(frame, Frame)
        samples.add(frame)
    step = Step(setting, load, Exposure(60.0, 600.0), "test", "a test")
    return LiveRun(RunOpened(run_id, 0, 1, step), samples, [])


@pytest.fixture
def traces(qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> Traces:
    make_app([])
    monkeypatch.setattr(module, "DRAW_S", 0.0)
    shown = Traces(PAPER)
    qtbot.addWidget(shown)
    shown.resize(900, 500)
    shown.show()
    return shown


def bars(traces: Traces, hold: Hold) -> list[tuple[float, float]]:
    options = traces._holds[hold].opts
    return list(zip(np.asarray(options["x0"]).tolist(), np.asarray(options["x1"]).tolist(), strict=True))


def test_the_lines_are_the_samples(traces: Traces, card: RigCard) -> None:
    live = live_run(1, Setting(sustained_power_w=100.0), "vector", 400)
    traces.show_run(card, live)
    x, y = traces.curves["power"].getData()
    assert np.allclose(x, np.arange(400) / 60.0)
    assert np.array_equal(y, column(card, live.samples.values, "package_power_w"))
    assert traces._limit.value() == 100.0
    assert traces._cap.value() == card.stock.temperature_cap_c


def test_the_band_is_what_held(traces: Traces, card: RigCard) -> None:
    live = live_run(1, Setting(sustained_power_w=100.0), "vector", 300)
    traces.show_run(card, live)
    held = holds_of(card, live.samples.values, live.opened.step.setting)
    minutes = sum(end - start for start, end in bars(traces, Hold.POWER_LIMIT))
    assert minutes == pytest.approx(np.count_nonzero(held == Hold.POWER_LIMIT) / 60.0, abs=0.1)
    assert not bars(traces, Hold.HEAT)
    hot = Setting(sustained_power_w=200.0, temperature_cap_c=62.0, fan_duty={"cooler": 25.0, "case": 20.0})
    traces.show_run(card, live_run(2, hot, "vector", 300))
    assert bars(traces, Hold.HEAT)


def test_idle_holds_nothing(traces: Traces, card: RigCard) -> None:
    traces.show_run(card, live_run(1, Setting(sustained_power_w=100.0), "vector", 100))
    traces.show_run(card, live_run(2, Setting(), "idle", 100))
    assert not any(bars(traces, hold) for hold in traces._holds)


def test_the_forecast_closes_round_its_value(traces: Traces, card: RigCard) -> None:
    live = live_run(1, Setting(sustained_power_w=100.0), "vector", 300)
    start = float(live.samples.time_s[0])
    live.forecasts += [(start + 150, 70.0, 40.0), (start + 180, 71.0, 6.0), (start + 240, 72.0, 2.0)]
    traces.show_run(card, live)
    x, y = traces.curves["forecast"].getData()
    assert x.tolist() == [3.0, 4.0]  # one that is known to ±40 K is not drawn
    assert y.tolist() == [71.0, 72.0]
    low, high = (edge.getData()[1].tolist() for edge in traces._band)
    assert (low, high) == ([65.0, 70.0], [77.0, 74.0])


def test_a_steady_reading_looks_steady(traces: Traces, card: RigCard) -> None:
    traces.show_run(card, live_run(1, Setting(), "idle", 200))
    bottom, top = traces._power.viewRange()[1]
    assert top - bottom >= 20.0
    before = (bottom, top)
    traces.show_run(card, live_run(2, Setting(), "idle", 260))
    assert tuple(traces._power.viewRange()[1]) == before  # it still fits, and the axis stands still


def test_drawing_has_its_rests(traces: Traces, card: RigCard, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "DRAW_S", 60.0)
    live = live_run(1, Setting(), "idle", 50)
    traces.show_run(card, live)
    frame = Frame(live.samples.time_s[-1] + 1, live.samples.values[-1])
    live.samples.add(frame)
    traces.show_run(card, live)
    assert traces.curves["power"].getData()[0].shape == (50,)
    other = live_run(2, Setting(), "idle", 30)
    traces.show_run(card, other)  # another run is drawn at once
    assert traces.curves["power"].getData()[0].shape == (30,)
