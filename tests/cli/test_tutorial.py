"""The tutorial's commands do what it says, one after the other."""

import shlex
from collections.abc import Callable
from pathlib import Path

import pypdf
import pytest

from niente.core.model.hand_over_card import read_card
from niente.core.model.kept_point import KeptPoint
from niente.core.model.limits import Limits
from niente.core.model.plan import read_plan
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


Commands = Callable[[str], list[str]]
"""Runs a page's commands, and returns what each has said."""


@pytest.fixture
def run_all(sweep_copy: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch) -> Commands:
    """Where a book of Larkspur stands that keeps the point Night."""
    monkeypatch.chdir(tmp_path)
    card = larkspur_rig().describe()
    choice = work_out(sweep_copy, Limits()).choice
    assert choice is not None
    night = KeptPoint("Night", choice.pick.setting, Limits(), card.variant, "2026-03-14T20:00:00+00:00")
    save(sweep_copy, Project(card.name, grid_question(card), Limits(), points=(night,)))
    (tmp_path / "larkspur.niente").write_bytes(sweep_copy.read_bytes())

    def run(text: str) -> list[str]:
        said = []
        for line in commands_of(text):
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
        return said

    return run


@pytest.mark.timeout(600)
def test_the_commands_run_one_after_the_other(run_all: Commands, tmp_path: Path) -> None:
    said = run_all(TUTORIAL.read_text())
    assert "hotter room" in said[0]
    assert "Why not 130" in said[1]
    assert "Night" in "".join(page.extract_text() for page in pypdf.PdfReader(tmp_path / "night.pdf").pages)
    assert read_card((tmp_path / "night.json").read_bytes()).point == "Night"
    assert "behaves as it did" in said[-1]


@pytest.mark.timeout(600)
def test_curves_are_rehearsed_as_the_page_says(run_all: Commands, tmp_path: Path) -> None:
    said = run_all((TUTORIAL.parents[1] / "how-to" / "rehearse-a-fan-curve.md").read_text())
    assert said[0].startswith("Render day (")
    assert "Show day" in said[1]
    assert "Office day" in said[1]
    assert "curves as drawn, case" in said[2]
    assert "room 32.0 °C" in said[3]
    assert "Fan curves" in said[5]
    plan = read_plan((tmp_path / "soak.json").read_text())
    assert plan.steps[0].setting.fan_curve["case"].points == ((73.0, 20.0), (81.0, 29.0), (87.0, 100.0))
