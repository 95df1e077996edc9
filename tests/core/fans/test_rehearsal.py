"""Rehearsed days: against the models they come from, against the stand-in itself, and the rules of what is heard."""

import numpy as np
import pytest

from niente.core.analysis.prediction import predict_under_load
from niente.core.analysis.setting_batch import one_setting
from niente.core.fans.day import DayOfLoad, DayPart, day_of, standard_day
from niente.core.fans.machine import machine_at
from niente.core.fans.rehearsal import hunts_of, ramps_heard, rehearse
from niente.core.model.fan_curve import FanCurve
from tests.conftest import larkspur_rig
from tests.core.fans.conftest import ROOM_C, AtPick

SOURCE = "core_temperature_c"
USUAL = FanCurve(SOURCE, ((40.0, 25.0), (65.0, 50.0), (85.0, 100.0)))


def steady(activity: float, seconds: int = 7200, *, heavy: bool = True) -> DayOfLoad:
    return DayOfLoad("steady", np.full(seconds, int(heavy), dtype=np.int64), np.full(seconds, activity))


def test_a_steady_day_comes_to_what_the_models_say(at_pick: AtPick) -> None:
    models, _, machine = at_pick
    day = rehearse(machine, {}, steady(1.0), ROOM_C)
    there = predict_under_load(models, one_setting(machine.setting), models.heavy_load, ROOM_C)
    assert day.core_c[-1] == pytest.approx(float(there.core_c[0]), abs=0.3)
    assert day.power_w[-1] == pytest.approx(float(there.power_w[0]), rel=0.005)
    level, _ = models.noise.in_room(there.rpm, there.power_w)
    assert day.level_dba[-1] == pytest.approx(float(level[0]), abs=0.2)


@pytest.mark.parametrize("curve", [None, USUAL], ids=["fixed", "on a curve"])
def test_a_rehearsal_foretells_the_machine(at_pick: AtPick, curve: FanCurve | None) -> None:
    """The stand-in itself, from cold: idle, the heaviest load, idle. It was fitted to runs at other settings."""
    models, _, machine = at_pick
    setting = machine.setting if curve is None else machine.setting.on_curve("case", curve).on_curve("cooler", curve)
    rig = larkspur_rig()
    rig.apply(setting)
    read = []
    for works, seconds in ((False, 600), (True, 1500), (False, 600)):
        (rig.start if works else lambda load: rig.stop())(models.heavy_load)
        read += [frame.values for _ in range(seconds) if (frame := rig.frame(5.0)) is not None]
    rig.close()
    card, values = models.card, np.array(read)
    core = np.max(values[:, list(card.indices("core_temperature_c"))], axis=1)
    level, room = (values[:, card.index(name)] for name in ("noise_dba", "room_temperature_c"))
    day = DayOfLoad("idle, heavy, idle", np.ones(2700, dtype=np.int64), np.repeat([0.0, 1.0, 0.0], [600, 1500, 600]))
    curves = {} if curve is None else {"case": curve, "cooler": curve}
    told = rehearse(machine, curves, day, float(room.mean()))
    since = slice(420, None)  # the rehearsal begins settled, the machine cold
    assert np.quantile(np.abs(told.core_c - core)[since], 0.95) < 4.0
    assert abs(float(np.mean((told.core_c - core)[since]))) < 2.0
    settled = slice(1500, 2100)
    assert abs(float(np.mean((told.level_dba - level)[settled]))) < 1.0


def test_more_duty_is_never_hotter_and_a_higher_curve_never_quieter(at_pick: AtPick) -> None:
    machine = at_pick.machine
    temperatures = [machine.steady_core_c(0.8, np.array([duty, 30.0]), ROOM_C) for duty in (20.0, 40.0, 60.0, 90.0)]
    assert temperatures == sorted(temperatures, reverse=True)
    day = steady(0.8)
    lower = {"case": FanCurve(SOURCE, ((40.0, 20.0), (90.0, 60.0))), "cooler": USUAL}
    higher = {"case": FanCurve(SOURCE, ((40.0, 45.0), (90.0, 85.0))), "cooler": USUAL}
    low, high = rehearse(machine, lower, day, ROOM_C).figures, rehearse(machine, higher, day, ROOM_C).figures
    assert high.hottest_c < low.hottest_c
    assert high.mean_dba > low.mean_dba


def test_a_dead_group_is_hotter_and_a_cap_throttles(at_pick: AtPick) -> None:
    machine = at_pick.machine
    whole, dead = (rehearse(machine, {}, steady(1.0), ROOM_C, dead=group).figures for group in ("", "cooler"))
    assert dead.hottest_c > whole.hottest_c + 5.0
    assert whole.throttled_s == 0
    capped = machine_at(
        at_pick.models, at_pick.response, machine.setting.replaced("temperature_cap_c", whole.hottest_c - 6.0), ROOM_C
    )
    held = rehearse(capped, {}, steady(1.0), ROOM_C)
    assert held.figures.throttled_s > 3600
    assert held.core_c[-600:].max() < whole.hottest_c - 4.5


def test_a_warmer_room_is_heard_where_fans_follow_a_curve(at_pick: AtPick) -> None:
    """Fans that follow the core turn a warmer room into noise; fixed ones do not (fact of the trade: common practice)."""
    machine, day = at_pick.machine, steady(1.0)
    fixed = [rehearse(machine, {}, day, room).figures for room in (22.0, 30.0)]
    follow = [rehearse(machine, {"case": USUAL, "cooler": USUAL}, day, room).figures for room in (22.0, 30.0)]
    assert fixed[1].mean_dba == pytest.approx(fixed[0].mean_dba, abs=0.05)
    assert follow[1].mean_dba > follow[0].mean_dba + 1.0
    assert follow[1].hottest_c - follow[0].hottest_c < fixed[1].hottest_c - fixed[0].hottest_c - 2.0


def test_fast_changes_are_heard_and_slow_ones_are_not(at_pick: AtPick) -> None:
    """Fast changes are heard more than steady levels: spin up and down slowly (fact of the trade, common practice)."""
    curves = [
        {group: FanCurve(SOURCE, USUAL.points, 2.0, up, down, smoothing_s=smooth) for group in ("case", "cooler")}
        for up, down, smooth in ((5.0, 5.0, 0.0), (0.1, 0.1, 60.0))
    ]
    fast, slow = (rehearse(at_pick.machine, one, standard_day("play"), ROOM_C).figures for one in curves)
    assert slow.ramps < 0.2 * fast.ramps
    assert fast.ramps > 50


@pytest.mark.parametrize(
    ("seconds", "rise_db", "heard"),
    [(10, 3.0, 1), (600, 3.0, 0), (10, 1.0, 0), (25, 4.6, 3)],
    ids=["a step", "a drift", "a small step", "a long climb"],
)
def test_a_ramp_is_a_change_by_so_much_in_so_long(seconds: int, rise_db: float, heard: int) -> None:
    level = np.concatenate([np.full(300, 22.0), np.linspace(22.0, 22.0 + rise_db, seconds), np.full(300, 22.0 + rise_db)])
    assert len(ramps_heard(level, by_db=1.5, within_s=30.0)) == heard
    assert len(ramps_heard(level[::-1].copy(), by_db=1.5, within_s=30.0)) == heard


def test_a_duty_that_moves_by_itself_hunts() -> None:
    work = day_of("steady", (DayPart(0.0, 24.0, 0.6),))
    swings = np.round(40.0 + 5.0 * np.sin(2 * np.pi * np.arange(work.seconds) / 90.0))
    assert hunts_of(swings, work) > 100
    assert hunts_of(np.round(40.0 + 1.0 * np.sin(2 * np.pi * np.arange(work.seconds) / 90.0)), work) == 0
    moves = day_of("moves", (DayPart(0.0, 24.0, 0.6, period_s=90.0, busy=0.5, between=0.2),))
    assert hunts_of(swings, moves) == 0  # it follows the work
