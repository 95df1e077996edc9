"""The traces show the samples as they are, and the limiter band what held."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QPainter, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from niente.core.acquisition.samples import Samples
from niente.core.acquisition.strip_chart import StripChart
from niente.core.analysis.evidence import column, limiters_of
from niente.core.model.frame import Frame
from niente.core.model.plan import Exposure, Step
from niente.core.model.records import RunOpened
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from niente.core.science.clock_limiter import ClockLimiter
from niente.core.science.dynamics import Scale
from niente.desktop.app.main import look_of, make_app
from niente.desktop.pages.run import traces as module
from niente.desktop.pages.run.painting import minute_ticks
from niente.desktop.pages.run.panels import Panel
from niente.desktop.pages.run.traces import Traces
from niente.desktop.services.preferences import Preferences
from niente.desktop.session.live_run import LiveRun, ShownNote
from tests.conftest import larkspur_rig


class Bench:
    """A run at a time, sampled from a rig, on one strip."""

    def __init__(self, traces: Traces) -> None:
        self.rig = larkspur_rig()
        self.card = self.rig.describe()
        self.strip = StripChart(self.card)
        self.traces = traces
        traces.attach(self.card)

    def run(self, run_id: int, setting: Setting, load: str, seconds: int, *forecasts: tuple[float, float, float]) -> LiveRun:
        self.rig.apply(setting.over(self.card.stock))
        self.rig.start(load)
        samples = Samples(len(self.card.channels))
        step = Step(setting, load, Exposure(60.0, 600.0), "test", "a test")
        for second in range(seconds):
            frame = self.rig.frame(1.0)
            assert isinstance(frame, Frame)
            if not second:
                self.strip.begin(run_id, run_id, step, frame.time_s, 50.0)
            samples.add(frame)
            self.strip.add(frame, run_id)
        start = float(samples.time_s[0])
        opened = RunOpened(run_id, 0, 1, step, 1, 0, setting.over(self.card.stock), load, start)
        live = LiveRun(opened, samples, [(start + at, value, half) for at, value, half in forecasts])
        self.show(live)
        return live

    def show(self, live: LiveRun, notes: list[ShownNote] | None = None) -> None:
        self.traces.show_run(self.strip, live, notes or [], Scale(22.0))


@pytest.fixture
def traces(qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> Traces:
    monkeypatch.setattr(module, "DRAW_S", 0.0)
    shown = Traces(look_of(make_app([]), Preferences()))
    qtbot.addWidget(shown)
    shown.resize(960, 520)
    shown.show()
    return shown


@pytest.fixture
def bench(traces: Traces) -> Bench:
    return Bench(traces)


def panel(traces: Traces, title: str) -> Panel:
    assert traces.sight is not None
    return next(one for one in traces.sight.panels if one.spec.title == title)


def test_the_lines_are_the_samples(bench: Bench, traces: Traces, card: RigCard) -> None:
    live = bench.run(1, Setting(sustained_power_w=100.0), "vector", 400)
    x, y = panel(traces, "Power").data["package_power_w"]
    assert np.array_equal(x, live.samples.time_s)
    assert np.array_equal(y, column(card, live.samples.values, "package_power_w"))
    levels = [level for level, _, _ in traces._levels()]
    assert levels == [card.limits.core_temperature_c, card.stock.temperature_cap_c]


def test_the_band_is_what_held(bench: Bench, traces: Traces, card: RigCard) -> None:
    live = bench.run(1, Setting(sustained_power_w=100.0), "vector", 300)
    assert np.array_equal(
        bench.strip.limiters, limiters_of(card, live.samples.values, live.opened.step.setting, live.opened.step.load)
    )
    hot = Setting(sustained_power_w=200.0, temperature_cap_c=62.0, fan_duty={"cooler": 25.0, "case": 20.0})
    bench.run(2, hot, "vector", 300)
    assert np.count_nonzero(bench.strip.limiters[300:] == ClockLimiter.TEMPERATURE_CAP) > 100
    bench.run(3, Setting(), "idle", 100)
    assert not np.any(bench.strip.limiters[600:])  # an idle machine is held by nothing


def test_the_picture_shows_the_band_in_its_colour(bench: Bench, traces: Traces) -> None:
    bench.run(1, Setting(sustained_power_w=100.0), "vector", 600)
    QApplication.processEvents()
    picture = traces.grab().toImage()
    orange = traces.look.palette.cap
    found = sum(
        picture.pixelColor(x, y).name() == orange.lower()
        for x in range(110, 500)
        for y in range(picture.height() - 60, picture.height())
    )
    assert found > 300


def test_the_forecast_closes_round_its_value(bench: Bench, traces: Traces) -> None:
    bench.run(1, Setting(sustained_power_w=100.0), "vector", 300, (150, 70.0, 40.0), (180, 71.0, 6.0), (240, 72.0, 2.0))
    assert traces._centre.getData()[1].tolist() == [71.0, 72.0]  # one that is known to ±40 K is not drawn
    assert traces._low.getData()[1].tolist() == [65.0, 70.0]
    assert traces._high.getData()[1].tolist() == [77.0, 74.0]


def test_a_steady_reading_looks_steady(bench: Bench, traces: Traces) -> None:
    bench.run(1, Setting(), "idle", 200)
    power = panel(traces, "Power").box
    before = tuple(power.viewRange()[1])
    assert before[1] - before[0] >= 20.0
    bench.run(2, Setting(), "idle", 60)
    assert tuple(power.viewRange()[1]) == before  # it still fits, and the axis stands still


def test_drawing_has_its_rests(bench: Bench, traces: Traces, monkeypatch: pytest.MonkeyPatch) -> None:
    live = bench.run(1, Setting(), "idle", 50)
    monkeypatch.setattr(module, "DRAW_S", 60.0)
    frame = Frame(live.samples.time_s[-1] + 1, live.samples.values[-1])
    live.samples.add(frame)
    bench.strip.add(frame, 1)
    bench.show(live)
    assert panel(traces, "Power").data["package_power_w"][0].shape == (50,)
    monkeypatch.setattr(module, "DRAW_S", 0.0)
    bench.show(live)
    assert panel(traces, "Power").data["package_power_w"][0].shape == (51,)


def test_looking_back_and_coming_home(bench: Bench, traces: Traces, qtbot: QtBot) -> None:
    bench.run(1, Setting(sustained_power_w=100.0), "vector", 600)
    assert traces.sight is not None
    followed = traces.sight.range_s
    told: list[bool] = []
    traces.looked_back.connect(told.append)
    at = QPointF(400.0, 200.0)
    wheel = QWheelEvent(
        at, traces.mapToGlobal(at), QPoint(), QPoint(0, 120), Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    under = traces.sight.time().value(400.0)
    QApplication.sendEvent(traces, wheel)
    low, high = traces.sight.range_s
    assert high - low == pytest.approx((followed[1] - followed[0]) / 1.25)
    assert traces.sight.time().value(400.0) == pytest.approx(under, abs=1.5)  # what lay under the pointer still does
    QTest.keyClick(traces, Qt.Key.Key_Left)
    assert traces.sight.range_s[0] < low
    assert not traces.following
    assert told == [True, True]
    QTest.keyClick(traces, Qt.Key.Key_Home)
    assert traces.following
    assert told[-1] is False
    assert traces.sight.range_s[0] <= bench.strip.time_s[-1] <= traces.sight.range_s[1]


def test_the_crosshair_reads_every_line_at_one_moment(bench: Bench, traces: Traces, card: RigCard) -> None:
    live = bench.run(1, Setting(sustained_power_w=100.0), "vector", 400)
    at = float(live.samples.time_s[100])
    traces.read_at(at)
    power = column(card, live.samples.values, "package_power_w")[100]
    assert f"package {power:.1f}" in traces.accessibleDescription().replace("\u00a0", " ")
    QTest.keyClick(traces, Qt.Key.Key_Escape)
    assert traces.sight is not None
    assert traces.sight.cross_s is None
    QTest.keyClick(traces, Qt.Key.Key_Left, Qt.KeyboardModifier.ControlModifier)
    assert traces.sight.cross_s is not None


def test_notes_stand_where_they_were_made(bench: Bench, traces: Traces) -> None:
    live = bench.run(1, Setting(sustained_power_w=100.0), "vector", 400)
    before = traces.grab().toImage()
    bench.strip.add(Frame(live.samples.time_s[-1] + 1, live.samples.values[-1]), 1)
    live.samples.add(Frame(live.samples.time_s[-1] + 1, live.samples.values[-1]))
    bench.show(live, [ShownNote(1, float(live.samples.time_s[200]), "fan ticks")])
    after = traces.grab().toImage()
    assert traces.sight is not None
    x = round(traces.sight.time().px(float(live.samples.time_s[200])))
    changed = [x for y in range(60, 300) if before.pixelColor(x, y) != after.pixelColor(x, y)]
    assert len(changed) > 100  # an upright line through the panels


def test_the_scale_moves_with_the_lines(bench: Bench, traces: Traces) -> None:
    """What is written beside a panel belongs to what is drawn in it: both change together."""

    def gutter() -> bytes:
        area = traces.sight.canvas.area(panel(traces, "Clock").box)  # type: ignore[union-attr]
        picture = traces.sight.canvas.grab().toImage()  # type: ignore[union-attr]
        left = picture.copy(60, int(area.top()), 34, int(area.height()))
        return bytes(left.constBits())

    bench.run(1, Setting(), "idle", 100)
    idle = gutter()
    bench.run(2, Setting(sustained_power_w=150.0), "vector", 300)
    loaded = gutter()
    assert idle != loaded


@pytest.mark.parametrize("hours", [0.1, 0.5, 2.0, 12.0, 60.0])
def test_minutes_are_round_and_few(hours: float) -> None:
    found = minute_ticks(-3.0, 60.0 * hours, 8)
    assert 2 <= len(found) <= 10
    steps = np.diff(found)
    assert np.allclose(steps, steps[0])


def test_one_drawing_is_one_painting(bench: Bench, traces: Traces, qtbot: QtBot) -> None:
    """Ranges that are set take effect as a plot paints, which would have it paint once more."""
    bench.run(1, Setting(sustained_power_w=100.0), "vector", 400)
    sight = traces.sight
    assert sight is not None
    qtbot.wait(50)
    painted: list[int] = []
    under = sight.canvas.under

    def paint(painter: QPainter) -> None:
        painted.append(1)
        under(painter)

    sight.canvas.under = paint
    traces.zoom(0.8)
    qtbot.wait(100)
    assert painted == [1]
