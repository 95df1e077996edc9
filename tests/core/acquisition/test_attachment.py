"""A book belongs to one individual machine, and knows which."""

from pathlib import Path
from typing import Any

import pytest

from niente.core.acquisition.attachment import Driver, attach
from niente.core.acquisition.opening import open_bench
from niente.core.model.errors import BookError, RigError, UntrustedDriverError
from niente.core.model.project import project_of
from niente.core.model.question import Axis
from niente.core.planning.templates import default_project, grid_project
from niente.core.rigs.registry import open_rig
from niente.core.storage.reader import BookReader
from niente.core.storage.writer import BookWriter
from tests.conftest import Watcher, larkspur_rig
from tests.contract.outside import Doorbell


def test_a_new_book_gets_the_rig_that_ships(tmp_path: Path, watcher: Watcher) -> None:
    bench = attach(tmp_path / "new.niente", watcher.hear)
    assert (bench.card.name, bench.card.serial, bench.project) == ("larkspur", "1", None)
    bench.close()


def test_a_book_says_which_machine_it_is_of(sweep_copy: Path, watcher: Watcher) -> None:
    bench = attach(sweep_copy, watcher.hear)
    assert bench.card.serial == "3"
    assert bench.project == grid_project(bench.card)
    bench.close()


@pytest.mark.parametrize("words", [{"seed": 4}, {"rig": "tests.contract.outside:Doorbell"}])
def test_another_machine_is_turned_away(sweep_copy: Path, watcher: Watcher, words: dict[str, Any]) -> None:
    before = sweep_copy.read_bytes()
    with pytest.raises(BookError, match="belongs to Larkspur, number 3"):
        attach(sweep_copy, watcher.hear, **words)
    assert sweep_copy.read_bytes() == before
    attach(sweep_copy, watcher.hear).close()  # nobody holds it


def test_a_document_that_cannot_be_read_is_said(tmp_path: Path, watcher: Watcher) -> None:
    path = tmp_path / "odd.niente"
    writer = BookWriter(path)
    writer.add_document("project", Axis("fan_duty.case", (1.0,)))
    writer.close()
    with pytest.raises(BookError, match="holds a project that this Niente cannot read"):
        open_bench(larkspur_rig(), path, watcher.hear)


def test_each_version_of_the_project_is_kept(tmp_path: Path, watcher: Watcher) -> None:
    path = tmp_path / "bell.niente"
    bench = open_bench(Doorbell(), path, watcher.hear)
    project = default_project(bench.card)
    bench.save_project(project)
    bench.save_project(project)
    bench.close()
    bench = open_bench(Doorbell(), path, watcher.hear)
    assert bench.project == project
    bench.close()
    book = BookReader(path)
    assert len(book.documents("project", project_of)) == 2
    assert len(book.cards()) == 1  # the same card is not added again
    book.close()


def test_a_book_that_knows_no_driver_is_opened_with_the_rig_at_hand(tmp_path: Path, watcher: Watcher) -> None:
    """As books of the first version are; one that knows its driver needs nobody to say it."""
    path = tmp_path / "bell.niente"
    open_bench(Doorbell(), path, watcher.hear).close()
    with pytest.raises(BookError, match="Open it with its own rig"):
        attach(path, watcher.hear)
    outside = "tests.contract.outside:Doorbell"
    attach(path, watcher.hear, otherwise=outside).close()
    bench = attach(path, watcher.hear)
    assert bench.card.name == Doorbell().describe().name
    bench.close()
    bench = attach(tmp_path / "new.niente", watcher.hear, rig="wren", otherwise=outside)
    assert bench.card.name == "wren"
    bench.close()


def test_a_book_runs_no_code_that_only_the_book_names(
    tmp_path: Path, watcher: Watcher, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whoever makes a book may name any code in it; it runs once a person has named it, and then without a question."""
    (tmp_path / "strangers_code.py").write_text(
        "import pathlib\npathlib.Path(__file__).with_name('ran').touch()\nfrom tests.contract.outside import Doorbell as it\n"
    )
    monkeypatch.syspath_prepend(str(tmp_path))
    path, ran, name = tmp_path / "gift.niente", tmp_path / "ran", "strangers_code:it"
    writer = BookWriter(path)
    writer.add_document("driver", Driver(name))
    writer.close()
    with pytest.raises(UntrustedDriverError, match="code that would run here"):
        attach(path, watcher.hear)
    assert not ran.exists()
    attach(path, watcher.hear, rig=name).close()
    assert ran.exists()
    attach(path, watcher.hear).close()


@pytest.mark.parametrize(
    "code", ["def it(:", "raise SystemError('no')", "import nowhere_at_all", "open('/none')", "it = 7", "1 / 0", "it = open"]
)
def test_a_driver_that_cannot_be_imported_is_said(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, code: str) -> None:
    number = abs(hash(code))
    (tmp_path / f"driver_{number}.py").write_text(code)
    monkeypatch.syspath_prepend(str(tmp_path))
    with pytest.raises(RigError, match=f"driver_{number}"):
        open_rig(f"driver_{number}:it")
