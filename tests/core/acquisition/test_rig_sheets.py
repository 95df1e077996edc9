"""The bench takes a machine as its sheet has it; runs keep the variant that they were measured in."""

import sqlite3
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
import pytest

from niente.core.acquisition.attachment import attach
from niente.core.acquisition.bench import Bench
from niente.core.acquisition.guards.levels import LevelWatch
from niente.core.acquisition.opening import open_bench
from niente.core.analysis.evidence import gather
from niente.core.model.errors import DocumentError, RigError
from niente.core.model.frame import Frame
from niente.core.model.limits import Limits
from niente.core.model.plan import Guard, GuardAction
from niente.core.model.records import RigCardChanged
from niente.core.model.rig_card import Part, Trust
from niente.core.model.rig_sheet import sheet_of, with_part
from niente.core.model.setting import Setting
from niente.core.planning.templates import grid_project
from niente.core.rigs.replay import ReplayRig
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.storage.reader import BookReader
from niente.core.storage.schema import UPGRADES
from niente.core.storage.writer import BookWriter
from tests.conftest import Watcher, larkspur_rig, short_plan
from tests.contract.outside import Doorbell


def changed_to(bench: Bench, watcher: Watcher, variant: str) -> None:
    """Let the bench be in another variant, and wait until it is."""
    before = len(watcher.of(RigCardChanged))
    bench.take_sheet(msgspec.structs.replace(sheet_of(bench.own_card), variant=variant))
    for _ in range(500):
        if len(watcher.of(RigCardChanged)) > before:
            return
        time.sleep(0.01)
    raise AssertionError("the card did not change")


def run(bench: Bench, watcher: Watcher, watts: float) -> None:
    watcher.over.clear()
    bench.start(short_plan(bench.card, Setting(sustained_power_w=watts), seconds=30.0), Limits())
    assert watcher.end().complete


def test_runs_keep_what_they_were_measured_on(make_bench: Callable[..., Bench], watcher: Watcher) -> None:
    bench = make_bench()
    run(bench, watcher, 100.0)
    changed_to(bench, watcher, "filter out")
    assert bench.card.variant == "filter out"
    run(bench, watcher, 100.0)  # the same plan: in this variant nothing of it has an answer
    run(bench, watcher, 110.0)
    book = BookReader(bench.writer.path)
    assert [len(book.in_variant(name)) for name in ("filter in", "filter out")] == [1, 2]
    evidence = gather(book)
    assert evidence is not None
    assert [one.setting.sustained_power_w for one in evidence.runs] == [100.0, 110.0]
    changed_to(bench, watcher, "filter in")
    assert [run.setting.sustained_power_w for run in gather(book).runs] == [100.0]  # type: ignore[union-attr]
    book.close()


def test_a_book_opens_in_the_variant_it_was_left_in(tmp_path: Path, watcher: Watcher) -> None:
    path = tmp_path / "left.niente"
    bench = attach(path, watcher.hear, rig="larkspur")
    project = grid_project(bench.card)
    sheet = msgspec.structs.replace(sheet_of(bench.own_card), variant="filter out", title="The dome's")
    bench.save_project(msgspec.structs.replace(project, sheet=sheet))
    bench.close()
    bench = attach(path, watcher.hear)
    assert (bench.card.variant, bench.card.title, bench.rig.describe().variant) == ("filter out", "The dome's", "filter out")
    bench.close()
    bench = attach(path, watcher.hear, variant="front off")
    assert bench.card.variant == "front off"
    bench.close()
    with pytest.raises(RigError, match="'under water' is none of"):
        attach(path, watcher.hear, variant="under water")


def test_a_variant_of_ones_own_needs_no_rig_that_can_take_it(tmp_path: Path, watcher: Watcher) -> None:
    """A driver that knows nothing of variants: the sheet's word is what the runs go by."""
    bench = open_bench(Doorbell(), tmp_path / "bell.niente", watcher.hear)
    sheet = with_part(sheet_of(bench.own_card), Part("Button", "brass"), "brass button")
    bench.take_sheet(sheet)
    for _ in range(500):
        if bench.card.variant == "brass button":
            break
        time.sleep(0.01)
    assert bench.card.variant == "brass button"
    assert bench.card.parts[-1] == Part("Button", "brass")
    bench.close()


def test_a_machine_does_not_change_under_a_plan(make_bench: Callable[..., Bench], watcher: Watcher) -> None:
    bench = make_bench(larkspur_rig(pace=10.0))
    bench.start(short_plan(bench.card, Setting(), seconds=600.0), Limits())
    with pytest.raises(RigError, match="A plan is running on this machine as it is"):
        bench.take_sheet(sheet_of(bench.own_card))
    with pytest.raises(DocumentError, match="cannot be described like that"):
        bench.take_sheet(msgspec.structs.replace(sheet_of(bench.own_card), variant="under water"))
    bench.stop()
    watcher.end()


def test_a_sheet_that_fits_no_more_is_left_aside(tmp_path: Path, watcher: Watcher) -> None:
    path = tmp_path / "odd.niente"
    bench = attach(path, watcher.hear, rig="larkspur")
    sheet = msgspec.structs.replace(sheet_of(bench.own_card), variant="a variant that is gone")
    bench.save_project(msgspec.structs.replace(grid_project(bench.card), sheet=sheet))
    bench.close()
    bench = attach(path, watcher.hear)
    assert bench.sheet_problems
    assert bench.card.variant == "filter in"
    bench.close()


def test_a_book_keeps_the_machine_file_it_was_made_with(tmp_path: Path, watcher: Watcher) -> None:
    document = {**shipped_file("wren").document, "name": "mine", "title": "Mine", "colour": "grey"}
    file = tmp_path / "mine.json"
    file.write_bytes(msgspec.json.encode(document))
    attach(tmp_path / "mine.niente", watcher.hear, rig=str(file)).close()
    file.unlink()
    bench = attach(tmp_path / "mine.niente", watcher.hear)
    assert (bench.card.name, bench.card.title) == ("mine", "Mine")
    bench.close()


def test_a_new_book_stands_alone(tmp_path: Path) -> None:
    """It comes to the present version step by step, and leaves no copies of its empty beginnings."""
    BookWriter(tmp_path / "new.niente").close()
    assert {file.name for file in tmp_path.iterdir()} == {"new.niente"}


def test_a_book_of_the_first_version_is_brought_up(tmp_path: Path) -> None:
    """Its runs belong to the first card; a copy of the old book stays beside it."""
    path = tmp_path / "old.niente"
    link = sqlite3.connect(path)
    link.executescript(f"PRAGMA application_id={0x6E69656E}; {UPGRADES[0]} PRAGMA user_version=1;")
    card = msgspec.json.encode(larkspur_rig().describe()).decode()
    link.execute("INSERT INTO document (kind, written_at, body) VALUES ('rig', 0, ?)", (card,))
    link.execute(
        "INSERT INTO run (plan_id, step, kind, opened_at, rig_time_s, setting, load, channels)"
        " VALUES (1, 0, 'step', 0, 0, '{}', 'vector', '[]')"
    )
    link.commit()
    link.close()
    BookWriter(path).close()
    book = BookReader(path)
    assert [run.card_id for run in book.runs()] == [None]
    assert len(book.in_variant("filter in")) == 1
    assert book.in_variant("filter out") == []
    book.close()
    assert len(list(tmp_path.glob("old.version-1-*.niente"))) == 1


def test_a_guard_goes_by_the_higher_of_reading_and_trust(watcher: Watcher) -> None:
    """A sensor that reads a tenth too little must not let the machine run a tenth too hot."""
    card = larkspur_rig().describe()
    guard = Guard("board_temperature_c", 100.0, 85.0, 0.0, GuardAction.STOP, "Too hot.")
    values = np.full(len(card.channels), 40.0)
    values[card.index("board_temperature_c")] = 92.0

    def trips(trust: tuple[Trust, ...]) -> bool:
        watch = LevelWatch(guard, msgspec.structs.replace(card, trust=trust))
        return watch.look(Frame(1.0, values)) is not None

    assert not trips(())
    assert trips((Trust("board_temperature_c", 0.0, 0.9),))
    assert not trips((Trust("board_temperature_c", 0.0, 1.2),))
    values[card.index("board_temperature_c")] = 101.0
    assert trips((Trust("board_temperature_c", 0.0, 1.2),))  # what is read never counts for less


def test_a_book_played_again_is_the_machine_as_it_was_left(make_bench: Callable[..., Bench], watcher: Watcher) -> None:
    """Runs of other variants are not played: they were another machine."""
    bench = make_bench()
    run(bench, watcher, 100.0)
    changed_to(bench, watcher, "filter out")
    run(bench, watcher, 130.0)
    replay = ReplayRig(bench.writer.path)
    assert replay.describe().variant == "filter out"
    replay.apply(Setting(sustained_power_w=100.0))
    replay.start("vector")
    assert [one.setting.sustained_power_w for one in replay._runs] == [130.0]
    replay.close()
