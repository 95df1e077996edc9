"""The tutorial's commands do what it says, one after the other."""

import shlex
from pathlib import Path

import pypdf
import pytest

from niente.core.model.hand_over_card import read_card
from niente.core.model.kept_point import KeptPoint
from niente.core.model.limits import Limits
from niente.core.model.project import Project
from niente.core.selection.answer import work_out
from tests.cli.test_choosing import save
from tests.cli.test_commands import niente
from tests.conftest import larkspur_rig
from tests.grids import grid_question

TUTORIAL = Path(__file__).parents[2] / "docs" / "tutorial" / "from-the-demo-to-a-card.md"


def commands_of(text: str) -> list[str]:
    """Return the lines of the tutorial's blocks of commands."""
    blocks = text.split("```sh\n")[1:]
    return [line for block in blocks for line in block.split("```")[0].splitlines() if line.strip()]


def test_every_command_is_one_that_there_is() -> None:
    kinds = {line.split()[0] for line in commands_of(TUTORIAL.read_text())}
    assert kinds == {"make", "cp", "niente-cli"}


def test_pictures_and_keys_are_those_of_the_window() -> None:
    from niente.desktop.actions.registry import SPECS

    text = TUTORIAL.read_text()
    assert (TUTORIAL.parent / "../screenshots/choice.png").resolve().exists()
    keys = {spec.name: spec.keys for spec in SPECS}
    for name, told in (
        ("page.answer", "Ctrl+5"),
        ("answer.keep", "Ctrl+B"),
        ("answer.card", "Ctrl+E"),
        ("edit.undo", "Ctrl+Z"),
    ):
        assert keys[name] == told
        assert told in text


@pytest.mark.timeout(600)
def test_the_commands_run_one_after_the_other(
    sweep_copy: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    card = larkspur_rig().describe()
    choice = work_out(sweep_copy, Limits()).choice
    assert choice is not None
    night = KeptPoint("Night", choice.pick.setting, Limits(), card.variant, "2026-03-14T20:00:00+00:00")
    save(sweep_copy, Project(card.name, grid_question(card), Limits(), points=(night,)))
    (tmp_path / "larkspur.niente").write_bytes(sweep_copy.read_bytes())
    said = []
    for line in commands_of(TUTORIAL.read_text()):
        words = shlex.split(line)
        if words[0] != "niente-cli":
            continue
        target = words[words.index(">") + 1] if ">" in words else ""
        words = words[1 : words.index(">")] if target else words[1:]
        code, out, err = niente(capsys, monkeypatch, *words)
        assert code == 0, (line, out, err)
        if target:
            (tmp_path / target).write_text(out)
        said.append(out)
    assert "hotter room" in said[0]
    assert "Why not 130" in said[1]
    assert "Night" in "".join(page.extract_text() for page in pypdf.PdfReader(tmp_path / "night.pdf").pages)
    assert read_card((tmp_path / "night.json").read_bytes()).point == "Night"
    assert "behaves as it did" in said[-1]
