"""The hand-over card on the command line."""

import json
import shutil
from pathlib import Path

import pytest
from click.testing import CliRunner, Result

from niente.cli.main import commands
from niente.core.model.errors import NienteError, NotEnoughError
from niente.core.model.hand_over_card import hand_over_schema, read_card
from niente.core.model.project import Project
from niente.core.storage.kinds import STAYS
from niente.core.storage.reader import BookReader
from tests.cli.test_commands import niente


def told(*words: str) -> Result:
    return CliRunner().invoke(commands, ["card", *words])


def test_a_card_is_printed_or_written(sweep: tuple[Path, Project], tmp_path: Path) -> None:
    book = str(sweep[0])
    plain = told(book)
    assert plain.exit_code == 0, plain.output
    assert "Enter, in this order" in plain.stdout
    card = read_card(told(book, "--format", "json").stdout_bytes)
    assert json.loads(told(book, "--format", "json").stdout)["format"] == "niente-card/1"
    assert card.sentence in plain.stdout
    out = tmp_path / "card.pdf"
    assert told(book, "--format", "pdf", "--out", str(out)).exit_code == 0
    assert out.read_bytes().startswith(b"%PDF-")
    page = told(book, "--format", "html").stdout
    assert page.startswith("<!doctype html>")
    assert page.rstrip().endswith("</html>")


def test_no_file_is_overwritten_and_a_pdf_needs_one(sweep: tuple[Path, Project], tmp_path: Path) -> None:
    there = tmp_path / "card.html"
    there.write_text("mine")
    refused = told(str(sweep[0]), "--format", "html", "--out", str(there))
    assert isinstance(refused.exception, NienteError)
    assert "is there already" in str(refused.exception)
    assert there.read_text() == "mine"
    nowhere = told(str(sweep[0]), "--format", "html", "--out", str(tmp_path / "no" / "card.html"))
    assert "could not be written" in str(nowhere.exception)
    assert told(str(sweep[0]), "--format", "pdf").exit_code == 2


def test_a_book_without_a_pick_says_what_is_missing(tmp_path: Path) -> None:
    old = Path(__file__).parents[1] / "data" / "version-2.niente"
    book = Path(shutil.copyfile(old, tmp_path / "old.niente"))
    result = told(str(book))
    assert isinstance(result.exception, NotEnoughError)
    assert "no pick to hand over" in str(result.exception)
    assert "three settled runs" in str(result.exception)


@pytest.mark.parametrize("of", ["card"])
def test_its_schema_is_printed(of: str) -> None:
    assert CliRunner().invoke(commands, ["plan", "schema", of]).stdout_bytes == hand_over_schema()


def test_the_machine_keeps_the_pick_or_a_point(
    sweep_copy: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    code, _, err = niente(capsys, monkeypatch, "keep", str(sweep_copy))
    assert code == 0
    assert "Larkspur keeps" in err
    assert "simulated" in err
    book = BookReader(sweep_copy)
    kept = [one.body for one in book.events(kind=STAYS)]
    book.close()
    assert len(kept) == 1
    assert f"{kept[0]['sustained_power_w']:g} W" in err.replace("\N{NO-BREAK SPACE}", " ")
    code, _, err = niente(capsys, monkeypatch, "keep", str(sweep_copy), "--point", "Night")
    assert code == 3  # docs/reference/command-line.md
    assert "no point" in err
