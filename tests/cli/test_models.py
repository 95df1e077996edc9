"""What the models say, on the command line."""

import json
from pathlib import Path

import pytest

from niente.cli.main import REFUSED
from niente.core.model.project import Project
from tests.cli.test_commands import niente


def test_a_prediction_has_intervals_and_says_whether_it_is_inside(
    sweep: tuple[Path, Project], capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    words = ["predict", str(sweep[0]), "--set", "sustained_power_w=0.1 kW", "--set", "case_duty_pct=38", "--room-c", "28"]
    code, out, _ = niente(capsys, monkeypatch, *words, "--json")
    prediction = json.loads(out)
    assert code == 0
    assert prediction["format"] == "niente-prediction/1"
    assert prediction["setting"]["fan_duty"]["case"] == 38.0
    assert prediction["inside"]
    for name in ("core_c", "headroom_k", "in_room_dba", "throughput_percent", "clock_mhz"):
        assert prediction[name]["half_width"] > 0
    reference = (Path(__file__).parents[2] / "docs" / "reference" / "command-line.md").read_text()
    assert all(f"`{key}`" in reference for key in prediction)
    code, out, _ = niente(capsys, monkeypatch, *words)
    assert "Hottest core" in out
    assert "±" in out
    code, out, _ = niente(capsys, monkeypatch, "predict", str(sweep[0]), "--set", "sustained_power_w=50")
    assert "Outside what was measured: the power lies outside" in out


def test_a_fit_tells_its_parameters(
    sweep: tuple[Path, Project], capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    code, out, _ = niente(capsys, monkeypatch, "fit", str(sweep[0]), "--json")
    prediction = json.loads(out)
    assert code == 0
    assert prediction["heat_path"]["runs"] >= 10
    reference = (Path(__file__).parents[2] / "docs" / "reference" / "command-line.md").read_text()
    for part in (
        prediction,
        prediction["heat_path"],
        prediction["loads"]["vector"],
        prediction["heat_path"]["parameters"],
        prediction["noise"],
        prediction["noise"]["groups"]["case"],
    ):
        assert all(f"`{key}`" in reference for key in part if key not in ("case", "cooler") and ": " not in key)
    code, out, _ = niente(capsys, monkeypatch, "fit", str(sweep[0]))
    assert "Heat path, from" in out
    assert "dB a decade" in out


@pytest.mark.parametrize(
    ("words", "prediction"),
    [
        (["--set", "foo=3"], "no such control"),
        (["--set", "sustained_power_w=much"], "no number"),
        (["--set", "sustained_power_w=900"], "outside the rig's range"),
        (["--load", "song"], "no load 'song'"),
    ],
)
def test_what_cannot_be_asked_is_refused(
    sweep: tuple[Path, Project],
    capsys: pytest.CaptureFixture[str],
    monkeypatch: pytest.MonkeyPatch,
    words: list[str],
    prediction: str,
) -> None:
    code, _, err = niente(capsys, monkeypatch, "predict", str(sweep[0]), *words)
    assert code == REFUSED
    assert prediction in err
