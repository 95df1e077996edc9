"""Fan curves on the command line: days rehearsed on a book, curves drawn, and what is refused."""

import json
from pathlib import Path

import pytest
from click.testing import CliRunner, Result

from niente.cli.books import project_in
from niente.cli.main import commands
from niente.core.exchange.curve_files import CurveFile, curves_json
from niente.core.model.errors import BookBusyError
from niente.core.model.fan_curve import FanCurve
from niente.core.storage.writer import BookWriter


def fans(*words: str) -> Result:
    return CliRunner().invoke(commands, ["fans", *words], standalone_mode=False)


def test_a_day_is_rehearsed_and_a_curve_drawn(sweep_copy: Path) -> None:
    curve = "=40:25,65:50,85:100"
    result = fans(str(sweep_copy), "--draw", "--curve", f"case{curve}", "--curve", f"cooler{curve}", "--smooth", "5")
    assert result.exception is None, result.exception
    assert "Trying curves: 0 of 58" in result.stderr
    lines = result.stdout.replace("\u00a0", " ").splitlines()
    assert lines[0].startswith("Show day (seven shows of fifty minutes, and frames rendered until dawn), room ")
    assert lines[1].split() == ["fixed", "duties", "curves", "as", "given", "curves", "as", "drawn"]
    heard = next(line for line in lines if "Changes heard" in line).split()[-3:]
    assert int(heard[0]) == 0
    assert int(heard[2]) <= int(heard[1]) / 5
    assert any(line.startswith("curves as given, case: 40 °C 25 %") and "averaged over 5 s" in line for line in lines)
    assert any("settle calmly" in line for line in lines)
    worst = {
        line[2:22].strip(): line.split()
        for line in lines
        if line.startswith(("  cooler fans dead", "  sensor lost", "  room of"))
    }
    assert set(worst) == {"room of 28 °C", "cooler fans dead", "sensor lost"}
    assert worst["sensor lost"][2] == "–"  # fixed duties follow none
    assert any("How fast it warms was told by" in line for line in lines)
    assert "full speed where its sensor is lost" in lines[-1]


def test_it_is_data_for_scripts(sweep_copy: Path) -> None:
    result = fans(str(sweep_copy), "--json", "--day", "office", "--day", "bursts", "--room", "28")
    assert result.exception is None, result.exception
    data = json.loads(result.stdout)
    assert data["format"] == "niente-fans/1"
    assert data["days"] == ["office", "bursts"]
    assert data["room_c"] == 28.0
    assert [trial["name"] for trial in data["trials"]] == ["fixed duties"]
    assert len(data["trials"][0]["days"]) == 2
    assert data["trials"][0]["days"][0]["hottest_c"] > 40.0


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["--curve", "case=65:50,40:25"], "do not rise"),
        (["--curve", "case=40:25,40:50"], "do not rise"),
        (["--curve", "case=40:125"], "outside 0 to 100"),
        (["--curve", "attic=40:25,60:50"], "no such group"),
        (["--curve", "case"], "no curve"),
        (["--curve", "case=warm:loud"], "no curve"),
        (["--dead", "attic"], "no fan group 'attic'"),
        (["--point", "Dusk"], "Dusk"),
    ],
)
def test_what_cannot_be_rehearsed_is_refused_in_words(sweep_copy: Path, words: list[str], told: str) -> None:
    result = fans(str(sweep_copy), *words)
    assert result.exception is not None
    assert told in str(result.exception)
    assert type(result.exception).__module__.startswith("niente")


def test_a_dead_fan_is_held_by_the_cap_and_not_warned_of(sweep_copy: Path) -> None:
    """Larkspur's card has 95 °C as its maker's limit, and firmware that holds 90 °C."""
    data = json.loads(fans(str(sweep_copy), "--json", "--day", "render").stdout)
    cases = {case["name"]: case for case in data["trials"][0]["worst"]}
    assert cases["cooler fans dead"]["hottest_c"] > cases["room of 28 °C"]["hottest_c"]
    assert cases["cooler fans dead"]["throttled_s"] > 0
    for case in cases.values():
        assert bool(case["warning"]) == (case["hottest_c"] >= 95.0)


def test_a_dead_group_is_hotter(sweep_copy: Path) -> None:
    hottest = []
    for more in ([], ["--dead", "cooler"]):
        result = fans(str(sweep_copy), "--json", "--day", "render", *more)
        hottest.append(json.loads(result.stdout)["trials"][0]["days"][0]["hottest_c"])
    assert hottest[1] > hottest[0] + 5.0


def test_drawn_curves_are_kept_with_their_point_and_stand_on_its_card(sweep_copy: Path) -> None:
    result = fans(str(sweep_copy), "--draw", "--keep", "Quiet evening")
    assert result.exception is None, result.exception
    assert "Kept as Quiet evening." in result.stderr
    (point,) = (one for one in project_in(sweep_copy).points if one.name == "Quiet evening")
    assert set(point.setting.fan_curve) == {"case", "cooler"}
    again = fans(str(sweep_copy), "--point", "Quiet evening", "--json")
    assert [trial["name"] for trial in json.loads(again.stdout)["trials"]] == ["fixed duties", "the point's curves"]
    card = CliRunner().invoke(commands, ["card", str(sweep_copy), "--point", "Quiet evening"], standalone_mode=False)
    assert card.exception is None, card.exception
    assert "Fan curves" in card.output
    assert point.setting.fan_curve["case"].text in card.output
    for words, told in (((), "there are no curves to keep"), (("--draw",), "at most")):
        refused = fans(str(sweep_copy), *words, "--keep", "x" * 200 if words else "Dawn")
        assert told in str(refused.exception)
    assert [one.name for one in project_in(sweep_copy).points] == ["Quiet evening"]


def test_a_book_that_is_written_keeps_nothing_from_another(sweep_copy: Path) -> None:
    writer = BookWriter(sweep_copy)
    try:
        result = fans(str(sweep_copy), "--curve", "case=40:25,65:50,85:100", "--keep", "Dawn")
    finally:
        writer.close()
    assert isinstance(result.exception, BookBusyError)
    assert not project_in(sweep_copy).points


def test_curves_come_from_a_file_and_dangerous_ones_are_not_kept(sweep_copy: Path, tmp_path: Path) -> None:
    points = ((40.0, 5.0), (70.0, 60.0), (80.0, 100.0))
    file = tmp_path / "curves.json"
    for off_w, told in ((None, "a low power"), (15.0, "")):
        curve = FanCurve("core_temperature_c", points, off_below_c=30.0, off_below_w=off_w)
        file.write_bytes(curves_json(CurveFile(machine="", variant="", point="", curves={"case": curve})))
        result = fans(str(sweep_copy), "--curves", str(file), "--keep", "From file")
        assert (told in str(result.exception)) if told else result.exception is None, result.exception
    assert "The case fans were seen to turn from 20 %: at the 5 %" in result.stdout
    (point,) = project_in(sweep_copy).points
    assert point.setting.fan_curve == {"case": curve}
    file.write_text("{}")
    assert "no file of curves" in str(fans(str(sweep_copy), "--curves", str(file)).exception)
