"""A setting that the machine keeps: put in force without a load, left so when the bench ends, until the safe one is back."""

import threading
from collections.abc import Callable
from pathlib import Path

import msgspec
import pytest

from niente.core.acquisition import recovery
from niente.core.acquisition.bench import Bench
from niente.core.acquisition.opening import open_bench
from niente.core.model.errors import BookError, CautionsError, RigError
from niente.core.model.limits import Limits
from niente.core.model.records import HandCardShown, MadeSafe, Record, RunOpened, SettingStays, WarningRaised
from niente.core.model.rig_card import RigCard
from niente.core.model.rig_sheet import sheet_of
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.storage.kinds import STAYS
from niente.core.storage.reader import BookReader
from niente.core.storage.recorder import Recorder
from niente.core.storage.writer import BookWriter
from tests.conftest import Watcher, larkspur_rig, short_plan
from tests.waiting import until

Make = Callable[..., Bench]
QUIET = Setting(sustained_power_w=103.0, fan_duty={"case": 24.0, "cooler": 40.0})


class RealMachine(SimulatedRig):
    """A machine that outlasts its bench, as far as its card says."""

    def describe(self) -> RigCard:
        return msgspec.structs.replace(super().describe(), simulated=False, on_this_computer=True)

    def close(self) -> None:
        self.make_safe()


class OldDriver(RealMachine):
    """A driver that can only make safe when it ends."""

    leave = None  # type: ignore[assignment]


def real_machine() -> RealMachine:
    return RealMachine(shipped_file("larkspur"), seed=1, pace=None)


def kept(bench: Bench, watcher: Watcher, setting: Setting = QUIET) -> list[SettingStays]:
    """Put a setting in force, and return what was told until that came to something."""
    before = len(watcher.of(SettingStays))
    bench.put_in_force(setting)
    until(lambda: not bench.busy and len(watcher.of(SettingStays)) > before)
    return watcher.of(SettingStays)[before:]


def opened(path: Path, watcher: Watcher, rig: SimulatedRig) -> Bench:
    bench = open_bench(rig, path, watcher.hear)
    bench.read_cautions()
    return bench


def test_a_setting_is_put_in_force_without_a_load_and_left_so(make_bench: Make, watcher: Watcher) -> None:
    rig = larkspur_rig()
    bench = make_bench(rig)
    whole = QUIET.over(bench.card.stock)
    assert kept(bench, watcher) == [SettingStays(whole)]
    assert (bench.stays, rig.setting, rig.load) == (whole, whole, "idle")
    assert not watcher.of(RunOpened)
    bench.close()
    assert rig.setting == whole
    book = BookReader(bench.path)
    assert [one.body for one in book.events(kind=STAYS)] == [msgspec.to_builtins(whole)]
    book.close()


def test_without_one_the_safe_setting_comes_back(make_bench: Make, watcher: Watcher) -> None:
    rig = larkspur_rig()
    bench = make_bench(rig)
    rig.apply(QUIET)
    bench.close()
    assert rig.setting.over(bench.card.stock) == bench.card.safe.over(bench.card.stock)


def test_a_plan_ends_it(make_bench: Make, watcher: Watcher) -> None:
    rig = larkspur_rig()
    bench = make_bench(rig)
    kept(bench, watcher)
    bench.start(short_plan(bench.card, Setting(sustained_power_w=90.0), seconds=20.0), Limits())
    assert watcher.end().complete
    assert watcher.of(SettingStays)[-1] == SettingStays(None)
    assert bench.stays is None
    bench.close()
    assert rig.setting.sustained_power_w == bench.card.safe.over(bench.card.stock).sustained_power_w


def test_a_stop_puts_the_safe_setting_back(make_bench: Make, watcher: Watcher) -> None:
    rig = larkspur_rig()
    bench = make_bench(rig)
    kept(bench, watcher)
    bench.stop()
    assert watcher.of(SettingStays)[-1] == SettingStays(None)
    assert rig.setting.sustained_power_w == bench.card.safe.over(bench.card.stock).sustained_power_w


def test_another_takes_its_place(make_bench: Make, watcher: Watcher) -> None:
    bench = make_bench()
    kept(bench, watcher)
    other = QUIET.replaced("fan_duty.case", 40.0)
    assert kept(bench, watcher, other) == [SettingStays(other.over(bench.card.stock))]


def test_what_the_machine_does_not_reach_is_refused(make_bench: Make, watcher: Watcher) -> None:
    bench = make_bench()
    with pytest.raises(RigError, match="range"):
        bench.put_in_force(QUIET.replaced("sustained_power_w", 5000.0))
    assert (bench.busy, bench.stays) == (False, None)


def test_nothing_is_put_in_force_under_a_plan(make_bench: Make, watcher: Watcher) -> None:
    bench = make_bench()
    bench.start(short_plan(bench.card, Setting(sustained_power_w=90.0), seconds=600.0), Limits())
    with pytest.raises(RigError, match="busy"):
        bench.put_in_force(QUIET)
    bench.stop()
    watcher.end()


def test_a_driver_that_can_leave_none_says_so(tmp_path: Path, watcher: Watcher) -> None:
    bench = opened(tmp_path / "old.niente", watcher, OldDriver(shipped_file("larkspur"), seed=1, pace=None))
    with pytest.raises(RigError, match="no other can stay"):
        bench.put_in_force(QUIET)
    bench.close()


def test_unread_cautions_come_first(tmp_path: Path, watcher: Watcher) -> None:
    bench = open_bench(real_machine(), tmp_path / "new.niente", watcher.hear)
    with pytest.raises(CautionsError):
        bench.put_in_force(QUIET)
    bench.close()


def test_a_machine_that_refuses_is_left_safe(make_bench: Make, watcher: Watcher, monkeypatch: pytest.MonkeyPatch) -> None:
    rig = larkspur_rig()
    bench = make_bench(rig)

    def refuse(setting: Setting) -> str | None:
        raise RigError("The limit is locked by the firmware.", remedy="Unlock it there.")

    monkeypatch.setattr(rig, "apply", refuse)
    (told,) = kept(bench, watcher)
    assert told.setting is None
    assert "locked by the firmware" in told.problem
    assert rig.setting.over(bench.card.stock) == bench.card.safe.over(bench.card.stock)


def test_a_full_disk_does_not_end_the_bench(make_bench: Make, watcher: Watcher, monkeypatch: pytest.MonkeyPatch) -> None:
    bench = make_bench()
    write = Recorder.write

    def full(recorder: Recorder, record: Record) -> None:
        if isinstance(record, SettingStays):
            raise BookError("The disk is full.", remedy="Make room.")
        write(recorder, record)

    monkeypatch.setattr(Recorder, "write", full)
    assert kept(bench, watcher) == [SettingStays(QUIET.over(bench.card.stock))]  # it is told all the same
    monkeypatch.undo()
    bench.start(short_plan(bench.card, Setting(sustained_power_w=90.0), seconds=20.0), Limits())
    assert watcher.end().complete


def test_hands_set_what_only_they_can_first(make_bench: Make, watcher: Watcher) -> None:
    rig = SimulatedRig(shipped_file("plover"), seed=3)  # its power limit is set in the firmware
    bench = make_bench(rig)
    asked: list[dict[str, float]] = []

    def confirm(event: Record) -> None:
        if isinstance(event, HandCardShown) and event.card is not None:
            asked.append(event.card.sets)
            threading.Timer(0.05, lambda: bench.confirm()).start()

    watcher.on = confirm
    whole = Setting(sustained_power_w=24.0).over(bench.card.stock)
    assert kept(bench, watcher, whole) == [SettingStays(whole)]
    assert asked[0]["sustained_power_w"] == 24.0
    assert rig.setting.sustained_power_w == 24.0


def test_a_stop_before_hands_are_done_sets_nothing(make_bench: Make, watcher: Watcher) -> None:
    bench = make_bench(SimulatedRig(shipped_file("plover"), seed=3))
    watcher.on = lambda event: bench.stop() if isinstance(event, HandCardShown) and event.card is not None else None
    (told,) = kept(bench, watcher, Setting(sustained_power_w=24.0))
    assert told.setting is None
    assert told.problem
    assert watcher.of(HandCardShown)[-1].card is None
    assert not watcher.of(WarningRaised)  # no hand has set anything that would have to be set back


# -- the next bench ---------------------------------------------------------------------------------------------------


@pytest.fixture
def boot(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """The file that tells one start of this computer from the next."""
    file = tmp_path / "boot_id"
    file.write_text("first\n")
    monkeypatch.setattr(recovery, "BOOT_ID", file)
    return file


def test_the_next_bench_leaves_the_machine_as_it_keeps_it(tmp_path: Path, watcher: Watcher, boot: Path) -> None:
    rig, path = real_machine(), tmp_path / "kept.niente"
    bench = opened(path, watcher, rig)
    kept(bench, watcher)
    bench.close()
    bench = opened(path, watcher, rig)
    assert bench.stays == QUIET.over(bench.card.stock)
    bench.close()
    assert rig.setting == QUIET.over(bench.card.stock)


def test_a_computer_that_was_started_anew_keeps_nothing(tmp_path: Path, watcher: Watcher, boot: Path) -> None:
    rig, path = real_machine(), tmp_path / "kept.niente"
    bench = opened(path, watcher, rig)
    kept(bench, watcher)
    bench.close()
    boot.write_text("second\n")
    bench = opened(path, watcher, rig)
    assert bench.stays is None
    bench.close()


def test_what_a_guardian_made_safe_keeps_nothing(tmp_path: Path, watcher: Watcher, boot: Path) -> None:
    rig, path = real_machine(), tmp_path / "kept.niente"
    bench = opened(path, watcher, rig)
    kept(bench, watcher)
    bench.close()
    writer = BookWriter(path)
    Recorder(writer, bench.card).write(MadeSafe(True, "the guardian made it safe"))
    writer.close()
    bench = opened(path, watcher, rig)
    assert bench.stays is None
    bench.close()


@pytest.mark.parametrize("body", ["nonsense", 5, {"sustained_power_w": "much"}, []])
def test_what_is_no_setting_in_a_book_is_none(tmp_path: Path, watcher: Watcher, boot: Path, body: object) -> None:
    rig, path = real_machine(), tmp_path / "odd.niente"
    bench = opened(path, watcher, rig)
    kept(bench, watcher)
    bench.close()
    writer = BookWriter(path)
    writer.add_event(STAYS, body)
    writer.close()
    bench = opened(path, watcher, rig)
    assert bench.stays is None
    bench.close()


def test_a_machine_that_was_opened_up_keeps_nothing(make_bench: Make, watcher: Watcher) -> None:
    bench = make_bench()
    kept(bench, watcher)
    bench.take_sheet(msgspec.structs.replace(sheet_of(bench.own_card), variant="filter out"))
    until(lambda: bench.card.variant == "filter out")
    until(lambda: bench.stays is None)
    until(lambda: watcher.of(SettingStays)[-1] == SettingStays(None))  # told after it is so


def test_a_simulated_machine_begins_anew_with_its_bench(make_bench: Make, watcher: Watcher, tmp_path: Path) -> None:
    path = tmp_path / "again.niente"
    bench = make_bench(larkspur_rig(), book=path)
    kept(bench, watcher)
    bench.close()
    bench = make_bench(larkspur_rig(), book=path)
    assert bench.stays is None
