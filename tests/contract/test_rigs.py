"""The contract that every rig keeps: those that ship, two from outside, and a book played again."""

import re
import shlex
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import msgspec
import numpy as np
import pytest

from niente.cli.main import main
from niente.core.acquisition.attachment import attach
from niente.core.model.errors import RigError
from niente.core.model.plan import read_plan
from niente.core.model.quantities import quantity_of
from niente.core.model.rig_card import LoadKind, RigCard
from niente.core.rigs.contract_check import ContractCheck
from niente.core.rigs.protocol import Rig
from niente.core.rigs.registry import open_rig, shipped
from niente.desktop.app.main import arguments
from niente.rig import Frame, Setting
from tests.contract.outside import Doorbell

OUTSIDE = "tests.contract.outside:Doorbell"


HOW_TO = Path(__file__).parents[2] / "docs" / "how-to" / "write-a-rig.md"


@pytest.fixture
def taught(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> str:
    """The driver of the how-to, taken from its page word for word, over a folder of readings."""
    code = re.search(r"```python\n(.*?)```", HOW_TO.read_text(encoding="utf-8"), re.DOTALL)
    assert code is not None
    (tmp_path / "bench.py").write_text(code[1], encoding="utf-8")
    folder = tmp_path / "readings"
    folder.mkdir()
    readings = {
        "core_temperature_c.1": 51,
        "core_temperature_c.2": 53,
        "room_temperature_c": 22.5,
        "package_power_w": 38.4,
        "effective_clock_mhz": 3600,
        "throughput_per_s": 12.5,
        "fan_speed_rpm.case": 900,
        "noise_dba": 31.2,
    }
    for name, value in readings.items():
        (folder / name).write_text(f"{value}\n")
    monkeypatch.setenv("BENCH_FOLDER", str(folder))
    monkeypatch.setenv("BENCH_PERIOD_S", "0.02")
    monkeypatch.syspath_prepend(str(tmp_path))
    monkeypatch.delitem(sys.modules, "bench", raising=False)
    return "bench:Bench"


@pytest.fixture(params=[*shipped(), OUTSIDE, "how-to", "replay"])
def rig(request: pytest.FixtureRequest) -> Iterator[Rig]:
    name = request.param
    if name == "how-to":
        name = request.getfixturevalue("taught")
    elif name == "replay":
        name = str(request.getfixturevalue("sweep")[0])
    opened = open_rig(name, seed=2)
    yield opened
    opened.close()


def test_the_how_to_sets_and_reads_real_files(taught: str, tmp_path: Path) -> None:
    rig = open_rig(taught)
    rig.apply(rig.describe().stock)
    assert (tmp_path / "readings" / "sustained_power_w").read_text() == "65\n"
    rig.start("heavy")
    process = rig._process  # type: ignore[attr-defined]
    assert process.poll() is None
    (tmp_path / "readings" / "core_temperature_c.2").write_text("no reading")
    frame = rig.frame(1.0)
    assert frame is not None
    assert np.isnan(frame.values[1])
    rig.close()
    assert process.poll() is not None  # its load is over
    assert (tmp_path / "readings" / "fan_duty.case").read_text() == "100\n"


def test_the_card_is_whole(rig: Rig) -> None:
    card = rig.describe()
    assert rig.describe() == card
    assert msgspec.json.decode(msgspec.json.encode(card), type=RigCard) == card
    for name in [channel.name for channel in card.channels] + [control.name for control in card.controls]:
        quantity_of(name)
    assert len({channel.name for channel in card.channels}) == len(card.channels)
    assert card.indices("core_temperature_c")
    assert card.load_of(LoadKind.HEAVY) is not None
    assert card.limits.core_temperature_c < card.limits.shut_down_c


def test_stock_and_safe_are_settings_it_takes(rig: Rig) -> None:
    card = rig.describe()
    for setting in (card.stock, card.safe):
        assert rig.check(setting) == []
        assert rig.apply(setting) is None
    assert set(dict(card.safe.controls())) == {control.name for control in card.controls}


def test_what_it_does_not_reach_is_said(rig: Rig) -> None:
    for control in rig.describe().controls:
        said = rig.check(rig.describe().stock.replaced(control.name, control.high + 1000))
        assert len(said) == 1
        assert control.name in said[0]


def test_frames_come_in_the_cards_order_and_time_goes_on(rig: Rig) -> None:
    card = rig.describe()
    rig.apply(card.stock)
    rig.start(card.load_of(LoadKind.HEAVY).name)  # type: ignore[union-attr]
    frames = [frame for _ in range(30) if (frame := rig.frame(2.0)) is not None]
    assert len(frames) == 30
    assert all(frame.values.shape == (len(card.channels),) for frame in frames)
    assert all(frame.values.dtype == np.float64 for frame in frames)
    assert np.all(np.diff([frame.time_s for frame in frames]) > 0)
    for frame in frames:
        for channel, value in zip(card.channels, frame.values, strict=True):
            quantity = quantity_of(channel.name)
            assert quantity.low <= value <= quantity.high, channel.name


def test_an_unknown_load_is_refused(rig: Rig) -> None:
    with pytest.raises(RigError):
        rig.start("juggling")


def test_the_timeout_is_kept(rig: Rig) -> None:
    start = time.monotonic()
    rig.frame(0.01)
    assert time.monotonic() - start < 5.0


def test_make_safe_may_come_at_any_time_from_any_thread(rig: Rig) -> None:
    card = rig.describe()
    rig.start(card.load_of(LoadKind.HEAVY).name)  # type: ignore[union-attr]
    stop = threading.Event()

    def keep_safe() -> None:
        while not stop.is_set():
            rig.make_safe()

    other = threading.Thread(target=keep_safe)
    other.start()
    try:
        assert all(rig.frame(1.0) is not None for _ in range(20))
    finally:
        stop.set()
        other.join()
    rig.make_safe()
    rig.make_safe()
    rig.stop()


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("nobody", "no rig called"),
        ("no.such.module:factory", "could not be loaded"),
        ("tests.contract.outside:missing", "could not be loaded"),
        ("tests.contract.outside:not_a_factory", "not a factory"),
        ("tests.contract.outside:broken", "the cable is out"),
    ],
)
def test_a_rig_that_cannot_be_opened_says_why(name: str, words: str) -> None:
    with pytest.raises(RigError, match=words):
        open_rig(name)


def test_every_rig_passes_the_check_that_a_stranger_runs(rig: Rig, request: pytest.FixtureRequest) -> None:
    replayed = "replay" in request.node.name
    found = ContractCheck(rig, lambda text: None, with_load=not replayed).run()
    if "how-to" in request.node.name:  # its readings are files that nobody writes: nothing rises under a load
        found = [one for one in found if "does not rise" not in one]
    assert found == []


class Sloppy(Doorbell):
    """A driver that breaks one point after another."""

    def check(self, setting: Setting) -> list[str]:
        return []

    def start(self, load: str) -> None:
        self._load = "ring"

    def frame(self, timeout_s: float) -> Frame | None:
        time.sleep(0.6 if timeout_s < 0.1 else 0.0)
        frame = super().frame(timeout_s)
        assert frame is not None
        frame.values[1] = 400.0
        return frame


def test_what_breaks_the_contract_is_named() -> None:
    found = "\n".join(ContractCheck(Sloppy(), lambda text: None, with_load=True).run())
    for words in (
        "check says nothing of sustained_power_w",
        "start takes a load that is not on the card",
        "room_temperature_c reads 400 °C, which cannot be",
        "never waits longer than its timeout",
    ):
        assert words in found


def test_a_make_safe_that_does_nothing_breaks_it() -> None:
    class Pretends(Doorbell):
        def make_safe(self) -> None:
            pass

    found = ContractCheck(Pretends(), lambda text: None, with_load=True).run()
    assert any("the load is still on" in one for one in found)


def test_a_card_that_cannot_be_used_ends_the_check() -> None:
    class Cardless(Doorbell):
        def describe(self) -> RigCard:
            return msgspec.structs.replace(super().describe(), safe=Setting(), sample_period_s=0.0)

    (found,) = ContractCheck(Cardless(), lambda text: None, with_load=True).run()
    assert "its sample period is 0 s" in found
    assert "its safe setting leaves fan_duty.case, sustained_power_w open" in found


def test_every_command_of_the_how_to_runs(
    taught: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    page = HOW_TO.read_text(encoding="utf-8")
    commands = [line for line in page.splitlines() if line.startswith(("niente ", "niente-cli "))]
    assert len(commands) == 3
    monkeypatch.chdir(tmp_path)
    for line in commands:
        words, _, out = line.partition(" > ")
        program, *rest = shlex.split(words)
        monkeypatch.setattr(sys, "argv", [program, *rest])
        if program == "niente":
            wanted = arguments(rest)
            attach(wanted.book, lambda record: None, rig=wanted.rig).close()
            continue
        with pytest.raises(SystemExit) as left:
            main()
        said = capsys.readouterr()
        assert left.value.code == 0, said
        if out:
            (tmp_path / out).write_text(said.out)
    assert read_plan((tmp_path / "plan.json").read_bytes(), "plan.json").rig == "bench"
    assert (tmp_path / "my-machine.niente").exists()
