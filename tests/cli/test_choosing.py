"""The choice in a terminal: every limit, why not another setting, circumstances, and cards of kept points."""

import json
from pathlib import Path

import msgspec
import pytest
from click.testing import CliRunner

from niente.cli.main import commands
from niente.core.acquisition.opening import open_bench
from niente.core.model.errors import NienteError
from niente.core.model.kept_point import KeptPoint
from niente.core.model.limits import Limits
from niente.core.model.project import Project
from niente.core.model.what_if import Circumstance, WhatIf
from niente.core.storage.reader import BookReader
from tests.conftest import larkspur_rig
from tests.grids import grid_question


def said(*words: str | Path) -> str:
    done = CliRunner().invoke(commands, [str(word) for word in words], catch_exceptions=False)
    assert done.exit_code == 0, done.output
    return done.output


def save(book: Path, project: Project) -> None:
    """Keep another version of a book's project, as a window does."""
    bench = open_bench(larkspur_rig(), book, lambda _: None)
    try:
        bench.save_project(project)
    finally:
        bench.close()


def refused(*words: str | Path) -> NienteError:
    with pytest.raises(NienteError) as error:
        CliRunner().invoke(commands, [str(word) for word in words], catch_exceptions=False, standalone_mode=False)
    return error.value


def test_every_limit_is_an_option(sweep_copy: Path) -> None:
    options = (
        *("--throughput", "85", "--headroom", "9", "--room", "29", "--noise", "30", "--over-background", "8"),
        *("--most", "wall_power_w=190", "--most", "board_temperature_c=60", "--of-load", "dome:throughput=85,headroom=10"),
        *("--fans-turn", "--aim", "best-as-weighed", "--weights", "1,0.2,0,0.1", "--failure", "2", "--sure", "98"),
    )
    data = json.loads(said("choose", sweep_copy, *options, "--json"))
    limits = data["limits"]
    assert limits["ceilings"] == {"wall_power_w": 190.0, "board_temperature_c": 60.0}
    assert limits["each_load"] == {"dome": {"min_throughput_percent": 85.0, "min_headroom_k": 10.0}}
    assert (limits["most_over_background_db"], limits["fans_turn"], limits["aim"]) == (8.0, True, "best as weighed")
    assert limits["weights"] == {"noise_db": 1.0, "throughput_percent": 0.2, "power_w": 0.0, "core_k": 0.1}
    assert not data["pick"]["breaks"]
    assert {"wall", "board", "loads", "fans"} <= {cost["limit"] for cost in data["costs"]}


@pytest.mark.parametrize(
    ("options", "told"),
    [
        (("--most", "mood=3"), "no limit of that name"),
        (("--most", "wall_power_w=much"), "--most wall_power_w=much"),
        (("--of-load", "nobody:headroom=3"), "no load 'nobody'"),
        (("--of-load", "dome:mood=3"), "'mood' is no limit"),
        (("--weights", "1,2"), "four figures are wanted"),
        (("--why-not", "sustained_power_w=9000"), "refuses the setting"),
        (("--headroom", "60"), "No setting keeps every limit"),
    ],
)
def test_limits_that_cannot_be_are_refused_in_words(sweep_copy: Path, options: tuple[str, ...], told: str) -> None:
    error = refused("choose", sweep_copy, *options)
    assert told in str(error)
    assert error.remedy


def test_why_not_and_what_if_are_said(sweep_copy: Path) -> None:
    words = said("choose", sweep_copy, "--why-not", "sustained_power_w=150", "--what-if")
    assert "Why not 150\N{NO-BREAK SPACE}W" in words
    assert "of headroom at 28" in words
    assert "hotter room, 32\N{NO-BREAK SPACE}°C" in words
    data = json.loads(said("choose", sweep_copy, "--why-not", "sustained_power_w=150", "--what-if", "--json"))
    assert "headroom" in data["why_not"]
    kinds = [one["what_if"]["kind"] for one in data["what_ifs"]["circumstances"]]
    assert kinds[0] == "hotter room"
    assert data["what_ifs"]["robust"] is None
    never = next(one for one in data["what_ifs"]["circumstances"] if one["what_if"]["kind"] == "another load counts")
    assert (never["holds"], never["there"], never["words"]) == (False, None, "not known: show was not run")
    assert "another load counts, show: not known: show was not run" in words


def test_the_book_s_own_points_and_circumstances_count(sweep_copy: Path, tmp_path: Path) -> None:
    card = larkspur_rig().describe()
    limits, when = Limits(), "2026-03-01T20:00:00+00:00"
    point = KeptPoint("Night", card.stock.replaced("sustained_power_w", 104.0), limits, card.variant, when)
    must = (WhatIf(Circumstance.ROOM, 30.0, must_hold=True),)
    project = Project(card.name, grid_question(card), limits, points=(point,), what_ifs=must)
    save(sweep_copy, project)
    reader = BookReader(sweep_copy)
    assert reader.project() == project
    reader.close()
    data = json.loads(said("choose", sweep_copy, "--what-if", "--json"))
    assert [one["name"] for one in data["what_ifs"]["points"]] == ["Night"]
    assert data["what_ifs"]["robust"]["pick"] is not None
    assert len(data["what_ifs"]["circumstances"]) == 1
    text = said("card", sweep_copy, "--point", "Night")
    assert "Kept as Night on 2026-03-01" in text
    assert "Sustained power limit 104" in text.replace("\N{NO-BREAK SPACE}", " ")
    error = refused("card", sweep_copy, "--point", "Day")
    assert "keeps no point 'Day'" in str(error)
    assert "Night" in error.remedy
    other = msgspec.structs.replace(point, name="Old", variant="another state")
    save(sweep_copy, msgspec.structs.replace(project, points=(point, other)))
    assert "another state" in str(refused("card", sweep_copy, "--point", "Old"))
