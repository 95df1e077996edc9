"""The check of a hand-over card from a terminal: its plan, its run, and what moved."""

import json
from pathlib import Path

import msgspec
import pytest
from click.testing import CliRunner

from niente.cli.main import commands
from niente.core.model.errors import NienteError
from niente.core.model.hand_over_card import read_card
from niente.core.model.plan import read_plan
from tests.conftest import larkspur_rig
from tests.core.planning.plans import run


def invoked(*words: str | Path) -> tuple[int, str]:
    done = CliRunner().invoke(commands, [str(word) for word in words], catch_exceptions=False, standalone_mode=False)
    return done.return_value or 0, done.output


def test_a_card_is_checked_to_its_end(sweep_copy: Path, tmp_path: Path) -> None:
    made = tmp_path / "card.json"
    assert invoked("card", sweep_copy, "--format", "json", "--out", made)[0] == 0
    earlier = msgspec.structs.replace(read_card(made.read_bytes()), made_at="2020-01-01T00:00:00+00:00")
    made.write_bytes(earlier.to_json())
    _, text = invoked("card-check", made, "--plan", "--rig", "larkspur")
    plan = read_plan(text, "check.json")
    run(plan, larkspur_rig(seed=21), tmp_path / "check.niente")
    code, words = invoked("card-check", made, tmp_path / "check.niente")
    assert code == 0, words
    assert "behaves as it did since 2020-01-01" in words
    data = json.loads(invoked("card-check", made, tmp_path / "check.niente", "--json")[1])
    assert data["format"] == "niente-card-check/1"
    assert data["as_then"]
    assert {"core_rise_k", "package_power_w"} <= {one["name"] for one in data["figures"]}
    assert earlier.check is not None
    drawn = next(one for one in earlier.check.figures if one.name == "package_power_w")
    value = drawn.value
    less = msgspec.structs.replace(value, value=(value.value or 0.0) - 12.0, low=(value.low or 0.0) - 12.0)
    less = msgspec.structs.replace(less, high=(value.high or 0.0) - 12.0)
    figures = tuple(msgspec.structs.replace(drawn, value=less) if one is drawn else one for one in earlier.check.figures)
    moved = msgspec.structs.replace(earlier, check=msgspec.structs.replace(earlier.check, figures=figures))
    made.write_bytes(moved.to_json())
    code, words = invoked("card-check", made, tmp_path / "check.niente")
    assert code == 7
    assert "Package power moved since" in words
    assert "Go through the card's entries again" in words


def test_what_a_check_needs_is_said(sweep_copy: Path, tmp_path: Path) -> None:
    made = tmp_path / "card.json"
    invoked("card", sweep_copy, "--format", "json", "--out", made)
    later = msgspec.structs.replace(read_card(made.read_bytes()), made_at="2096-01-01T00:00:00+00:00")
    made.write_bytes(later.to_json())
    with pytest.raises(NienteError, match="was made since 2096"):
        invoked("card-check", made, sweep_copy)
    for words, told in (((made, "--plan"), "--rig"), ((made,), "--plan")):
        done = CliRunner().invoke(commands, ["card-check", *(str(word) for word in words)])
        assert done.exit_code == 2
        assert told in done.output
    made.write_text('{"format": "something else"}')
    with pytest.raises(NienteError, match="not a hand-over card"):
        invoked("card-check", made, sweep_copy)
