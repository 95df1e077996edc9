"""Bench cards: what hands are asked, what they may answer, and that a card outlasts a restart."""

import threading
from collections.abc import Callable
from pathlib import Path

import msgspec
import pytest

from niente.core.acquisition.bench import Bench
from niente.core.acquisition.hand_cards import hand_work, reading_card, setting_card, variant_card
from niente.core.acquisition.opening import open_bench
from niente.core.analysis.evidence import evidence_in
from niente.core.model.commands import Command
from niente.core.model.errors import DocumentError
from niente.core.model.guard_rules import guard_on
from niente.core.model.hand_cards import CardKind, HandCard
from niente.core.model.limits import Limits
from niente.core.model.records import FrameTaken, HandCardShown, Record, RunClosed, StateChanged, WarningRaised
from niente.core.model.rig_card import RigCard, SetBy
from niente.core.model.rig_sheet import applied, problems, sheet_of
from niente.core.model.setting import Setting
from niente.core.model.states import BenchState
from niente.core.rigs.simulated.faults import Fault, FaultKind
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.storage.kinds import CARD_CONFIRMED, CARD_SHOWN, CARD_TICKED
from niente.core.storage.reader import BookReader
from tests.conftest import Watcher, larkspur_rig, short_plan
from tests.waiting import PATIENCE_S

Make = Callable[..., Bench]


def plover() -> SimulatedRig:
    """A machine whose power limit is set in its firmware."""
    return SimulatedRig(shipped_file("plover"), seed=3)


def at(watts: float) -> Setting:
    return Setting(sustained_power_w=watts)


def answering(watcher: Watcher, do: Callable[[HandCardShown], object]) -> None:
    """Do something, from another thread, at every card."""

    def on(event: Record) -> None:
        if isinstance(event, HandCardShown) and event.card is not None:
            threading.Timer(0.05, lambda: do(event)).start()

    watcher.on = on


def test_a_card_says_what_to_set_in_order_with_unit_and_caution() -> None:
    card = plover().describe()
    whole = Setting(sustained_power_w=24.0, temperature_cap_c=85.0, voltage_offset_mv=-60.0).over(card.stock)
    asked = setting_card(card, whole, {})
    assert asked is not None
    assert [(line.words, line.value, line.before) for line in asked.lines] == [
        ("Sustained power limit", "24\u00a0W", "30\u00a0W"),
        ("Temperature cap", "85\u00a0°C", "97\u00a0°C"),
    ]
    assert all("firmware" in line.where for line in asked.lines)
    assert any("goes on from this card" in caution for caution in asked.cautions)
    assert asked.boxes == len(asked.lines) + len(asked.checks)
    assert setting_card(card, whole, asked.sets) is None  # hands have done that already
    back = setting_card(card, card.stock, asked.sets)
    assert back is not None
    assert back.lines[0].before == "24\u00a0W"


def test_a_voltage_by_hand_has_its_caution(card: RigCard) -> None:
    offset = card.control("voltage_offset_mv")
    assert offset is not None
    by_hand = msgspec.structs.replace(card, controls=(msgspec.structs.replace(offset, set_by=SetBy.HANDS),))
    asked = setting_card(by_hand, Setting(voltage_offset_mv=-50.0).over(card.stock), {})
    assert asked is not None
    assert any("voltage limits" in caution for caution in asked.cautions)
    assert any("Mains off" in caution for caution in asked.cautions)


def test_a_variant_is_a_card_of_steps_with_the_mains_first(card: RigCard) -> None:
    asked = variant_card(card, "filter out")
    assert asked.kind == CardKind.VARIANT
    assert asked.lines
    assert "Mains off" in asked.cautions[0]  # P63 (common practice, no source)


def test_what_a_plan_needs_hands_for_is_known_before_it_starts() -> None:
    card = plover().describe()
    assert hand_work(short_plan(card, at(30.0)), card) == []
    assert hand_work(short_plan(card, at(30.0), at(24.0)), card) == ["set sustained power limit"]
    read = msgspec.structs.replace(sheet_of(card), by_hand=("noise_dba",))
    assert problems(read, card) == []
    assert "read noise" in hand_work(short_plan(card, at(30.0)), applied(card, read))[0]


def test_guards_keep_their_cables(card: RigCard) -> None:
    wrong = msgspec.structs.replace(sheet_of(card), by_hand=("core_temperature_c.1", "no_such"))
    assert ["wanted at every sample" in problems(wrong, card)[0], "no channel" in problems(wrong, card)[1]] == [True, True]
    watched = msgspec.structs.replace(
        sheet_of(card), by_hand=("wall_power_w",), guards=(*sheet_of(card).guards, guard_on(card, "wall_power_w"))
    )
    assert "a guard watches 'wall_power_w'" in problems(watched, card)[0]


def test_the_plan_waits_for_hands_with_the_load_off_and_sets_what_they_set(make_bench: Make, watcher: Watcher) -> None:
    rig = plover()
    bench = make_bench(rig)
    loads = []

    def do(event: HandCardShown) -> None:
        loads.append(rig.load)
        bench.tick((0,))
        bench.confirm()

    answering(watcher, do)
    plan = short_plan(bench.card, at(30.0), at(24.0), at(24.0), seconds=40.0)
    bench.start(plan, Limits())
    assert watcher.end().complete
    shown = [event.card for event in watcher.of(HandCardShown) if event.card is not None]
    assert len(shown) == 1  # the first run is as found, the third as the second
    assert loads == ["idle"]
    assert rig.setting.sustained_power_w == 24.0  # software cannot set back what hands have set,
    warned = [event.text for event in watcher.of(WarningRaised)]
    assert any("sustained power limit 24\u00a0W (safe: 20\u00a0W)" in text for text in warned)  # and says so
    book = BookReader(bench.writer.path)
    assert [item.kind for item in book.events() if "card" in item.kind] == [CARD_SHOWN, CARD_TICKED, CARD_CONFIRMED]
    book.close()


def test_a_card_outlasts_a_restart(tmp_path: Path, watcher: Watcher) -> None:
    """The plan goes on after a restart of the machine and of Niente: what was not confirmed is asked again, with its ticks;
    what was is not."""
    book = tmp_path / "hands.niente"
    bench = open_bench(plover(), book, watcher.hear)
    plan = short_plan(bench.card, at(24.0), seconds=40.0)
    shown = threading.Event()

    def tick(_: HandCardShown) -> None:
        bench.tick((0, 1))
        shown.set()

    answering(watcher, tick)
    bench.start(plan, Limits())
    assert shown.wait(PATIENCE_S)
    bench.close()
    again = Watcher()
    bench = open_bench(plover(), book, again.hear)
    ticked = []

    def confirm(event: HandCardShown) -> None:
        ticked.append(event.ticked)
        bench.confirm()

    answering(again, confirm)
    bench.start(plan, Limits())
    assert again.end().complete
    assert ticked == [(0, 1)]
    bench.close()
    third = Watcher()
    bench = open_bench(plover(), book, third.hear)
    bench.start(short_plan(bench.card, at(24.0), at(24.0), seconds=40.0), Limits())
    assert third.end().complete
    assert not [event for event in third.of(HandCardShown) if event.card is not None]
    bench.close()


def test_a_second_press_confirms_no_card_that_nobody_has_seen(make_bench: Make, watcher: Watcher) -> None:
    bench = make_bench(plover())
    shown: list[HandCard] = []

    def do(event: HandCardShown) -> None:
        assert event.card is not None
        shown.append(event.card)
        bench.confirm()
        bench.confirm()  # a double click
        bench.send_command(Command.RESUME)  # which is for holds

    answering(watcher, do)
    bench.start(short_plan(bench.card, at(24.0), at(22.0), seconds=40.0), Limits())
    assert watcher.end().complete
    assert [card.lines[0].value for card in shown] == ["24\u00a0W", "22\u00a0W"]
    assert bench.by_hand == {"sustained_power_w": 22.0}
    book = BookReader(bench.path)
    assert len(book.events(kind=CARD_CONFIRMED)) == 2
    book.close()


def test_a_stop_at_a_card_puts_it_away(make_bench: Make, watcher: Watcher) -> None:
    bench = make_bench(plover())
    answering(watcher, lambda _: bench.stop())
    bench.start(short_plan(bench.card, at(24.0), seconds=40.0), Limits())
    assert not watcher.end().complete
    assert [event.card is None for event in watcher.of(HandCardShown)] == [False, True]
    assert bench.open_card is None
    assert not any(
        "stay as hands" in event.text for event in watcher.of(WarningRaised)
    )  # nothing was confirmed, nothing was set


# -- readings ------------------------------------------------------------------------------------------------------------


def read_by_hand(bench: Bench, watcher: Watcher) -> None:
    """Let the meter of a bench be read by hand from now on."""
    bench.take_sheet(msgspec.structs.replace(sheet_of(bench.own_card), by_hand=("noise_dba",)))
    for _ in range(200):
        if any(channel.by == SetBy.HANDS for channel in bench.card.channels):
            return
        threading.Event().wait(0.02)
    raise AssertionError("the sheet was not taken")


def test_a_meter_without_a_cable_is_asked_for_at_the_runs_end(make_bench: Make, watcher: Watcher) -> None:
    bench = make_bench()
    read_by_hand(bench, watcher)
    loads, refused = [], []

    def do(_: HandCardShown) -> None:
        loads.append(bench.rig.load)  # type: ignore[attr-defined]
        for wrong in ({"noise_dba": 3140.0}, {}, {"noise_dba": float("nan")}, {"noise_dba": 31.4, "wall_power_w": 9.0}):
            try:
                bench.confirm(wrong)
            except DocumentError as error:
                refused.append(error.happened)
        bench.confirm({"noise_dba": 31.4})

    answering(watcher, do)
    bench.start(short_plan(bench.card, Setting(sustained_power_w=100.0), seconds=90.0), Limits())
    assert watcher.end().complete
    assert loads == ["vector"]  # with the load on
    assert len(refused) == 4
    assert "cannot be, it lies between 0.0 to 130.0\u00a0dBA" in refused[0]
    frames = [event.frame for event in watcher.of(FrameTaken) if event.run_id is not None]
    index = bench.card.index("noise_dba")
    assert all(frame.values[index] != frame.values[index] for frame in frames)  # no cable, no reading
    evidence = evidence_in(bench.writer.path)
    assert evidence is not None
    assert evidence.runs[-1].noise_dba == 31.4


def test_a_simulated_meter_shows_what_there_is_to_read(make_bench: Make, watcher: Watcher) -> None:
    bench = make_bench()
    read_by_hand(bench, watcher)
    answering(watcher, lambda _: bench.confirm(bench.shown))
    bench.start(short_plan(bench.card, Setting(sustained_power_w=100.0), seconds=90.0), Limits())
    assert watcher.end().complete
    assert 15.0 < bench.shown["noise_dba"] < 80.0


def test_guards_stand_while_hands_read(make_bench: Make, watcher: Watcher) -> None:
    bench = make_bench(larkspur_rig(Fault(FaultKind.SENSOR_LOST, 150.0, "core_temperature_c.4")))
    read_by_hand(bench, watcher)  # nobody comes
    bench.start(short_plan(bench.card, Setting(sustained_power_w=100.0), seconds=60.0), Limits())
    ended = watcher.end()
    assert "core 4" in ended.reason
    assert [event.outcome for event in watcher.of(RunClosed)] == ["guard"]
    assert bench.open_card is None


def test_a_reading_may_be_passed_over(make_bench: Make, watcher: Watcher) -> None:
    bench = make_bench()
    read_by_hand(bench, watcher)
    answering(watcher, lambda _: bench.send_command(Command.SKIP))
    bench.start(short_plan(bench.card, Setting(sustained_power_w=100.0), seconds=60.0), Limits())
    assert watcher.end().complete
    assert [event.outcome for event in watcher.of(RunClosed)] == ["done"]
    assert watcher.of(HandCardShown)[-1].card is None  # whoever shows the card knows that it is over
    assert reading_card(bench.own_card) is None


def test_nothing_waits_where_nobody_asks(make_bench: Make, watcher: Watcher) -> None:
    bench = make_bench()
    bench.confirm()  # no card is shown: nothing happens
    bench.tick((0,))
    bench.start(short_plan(bench.card, Setting(sustained_power_w=100.0), seconds=30.0), Limits())
    assert watcher.end().complete
    assert BenchState.WAITING_FOR_HANDS not in [event.state for event in watcher.of(StateChanged)]


def test_impossible_confirmation_leaves_the_card(make_bench: Make, watcher: Watcher) -> None:
    card = larkspur_rig().describe()
    asked = reading_card(applied(card, msgspec.structs.replace(sheet_of(card), by_hand=("wall_power_w",))))
    assert asked is not None
    with pytest.raises(DocumentError, match="no reading was given"):
        asked.insist({})
    with pytest.raises(DocumentError, match="Look again"):
        asked.insist({"wall_power_w": -4.0})
    asked.insist({"wall_power_w": 187.5})
