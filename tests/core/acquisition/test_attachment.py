"""A book belongs to one individual machine, and knows which."""

from pathlib import Path
from typing import Any

import pytest

from niente.core.acquisition.attachment import attach
from niente.core.acquisition.opening import open_bench
from niente.core.model.errors import BookError
from niente.core.model.project import project_of
from niente.core.model.question import Axis
from niente.core.planning.templates import default_project
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
    assert bench.project == default_project(bench.card)
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
