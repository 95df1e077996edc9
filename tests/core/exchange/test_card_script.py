"""The card as a shell script: read by a shell that is not ours, on files that stand in for the kernel's."""

import shutil
import subprocess
from pathlib import Path

import msgspec
import pytest

from niente.core.answers.hand_over import hand_over_card
from niente.core.exchange.card_script import card_script
from niente.core.model.errors import DocumentError, NotEnoughError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.hand_over_card import CurveRow, EntryStep, HandOverCard
from niente.core.model.limits import Limits
from niente.core.model.project import Project
from niente.core.model.rig_card import ControlFile, SetBy
from niente.core.selection.answer import work_out

# The kernel's documentation (Documentation/hwmon/sysfs-interface.rst; from memory): a duty is pwmN, 0 to 255, and pwmN_enable
# is 1 for a duty set by hand and 2 and above for the machine's own; a frequency limit of cpufreq is in kHz.
FAN = ControlFile("/sys/class/hwmon/hwmon2/pwm1", 2.55, {"/sys/class/hwmon/hwmon2/pwm1_enable": (1, 2)})
CLOCK = ControlFile("/sys/devices/system/cpu/cpufreq/policy0/scaling_max_freq", 1000.0)
OFFSET = EntryStep("voltage_offset_mv", "Voltage offset", SetBy.FIRMWARE, -10.0, "mV", "Voltage offset −10 mV", 0.0)


def step(control: str, value: float, stock: float, file: ControlFile, title: str) -> EntryStep:
    return EntryStep(control, title, SetBy.SOFTWARE, value, "", f"{title} {value:g}", stock, file)


@pytest.fixture(scope="module")
def card(sweep: tuple[Path, Project]) -> HandOverCard:
    """A card of a machine whose clock and fans are files, and whose voltage is the firmware's."""
    made = hand_over_card(sweep[0], work_out(sweep[0], Limits()), "2026-12-01T12:00:00+00:00", "0.1.0")
    fan, clock = step("fan_duty.case", 40.0, 60.0, FAN, "Fan duty, case"), step("clock_cap_mhz", 4300, 4700, CLOCK, "Clock cap")
    back = tuple(msgspec.structs.replace(one, value=one.stock) for one in (fan, clock, OFFSET))
    return msgspec.structs.replace(made, steps=(OFFSET, clock, fan), back=back, point="Night")


@pytest.fixture
def kernel(tmp_path: Path) -> Path:
    """A folder that stands in for /sys, as the machine was found."""
    for path, value in ((FAN.path, 153), (next(iter(FAN.first)), 2), (CLOCK.path, 4700000)):
        file = tmp_path / path.removeprefix("/")
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(f"{value}\n")
    return tmp_path / "sys"


def read(kernel: Path) -> tuple[str, str, str]:
    """The fan's duty, who sets it, and the clock's limit."""
    paths = (FAN.path, next(iter(FAN.first)), CLOCK.path)
    pwm, enable, clock = ((kernel.parent / path.removeprefix("/")).read_text().strip() for path in paths)
    return pwm, enable, clock


def run(card: HandOverCard, kernel: Path, *words: str) -> subprocess.CompletedProcess[str]:
    """Run the script of a card, with the folder in place of /sys."""
    script = kernel.parent / "night.sh"
    script.write_text(card_script(card).replace("/sys/", f"{kernel}/"))
    return subprocess.run(["sh", str(script), *words], capture_output=True, text=True, timeout=20, check=False)


def test_unarmed_it_only_shows_what_it_would_write(card: HandOverCard, kernel: Path) -> None:
    done = run(card, kernel)
    assert done.returncode == 0, done.stderr
    assert read(kernel) == ("153", "2", "4700000")
    for words in ("would write 102 to", "would write 1 to", "would write 4300000 to", "now 153", "Nothing was written"):
        assert words in done.stdout
    assert "By hand: Voltage offset −10 mV" in done.stdout


def test_a_curve_is_left_to_hands(card: HandOverCard, kernel: Path) -> None:
    curve = FanCurve("core_temperature_c", ((70.0, 20.0), (85.0, 100.0)))
    done = run(msgspec.structs.replace(card, curves=(CurveRow("cooler", curve, curve.text),)), kernel, "--arm")
    assert done.returncode == 0, done.stderr
    assert "By hand: fan curve, cooler: 70 °C 20 %, 85 °C 100 %" in done.stdout
    assert "fan curve" not in run(card, kernel, "--back").stdout


def test_armed_it_sets_the_card_and_says_what_was_there(card: HandOverCard, kernel: Path) -> None:
    done = run(card, kernel, "--arm")
    assert done.returncode == 0, done.stderr
    assert read(kernel) == ("102", "1", "4300000")  # 40 % of 255, by hand, in kHz
    assert "was 153, is 102" in done.stdout
    assert not done.stderr


def test_the_way_back_gives_the_fan_to_the_machine_last(card: HandOverCard, kernel: Path) -> None:
    run(card, kernel, "--arm")
    done = run(card, kernel, "--back", "--arm")
    assert done.returncode == 0, done.stderr
    assert read(kernel) == ("153", "2", "4700000")
    assert done.stdout.index("pwm1 was") < done.stdout.index("pwm1_enable was")


def test_nothing_is_written_where_one_file_is_missing(card: HandOverCard, kernel: Path) -> None:
    (kernel.parent / FAN.path.removeprefix("/")).unlink()
    done = run(card, kernel, "--arm")
    assert done.returncode == 1
    assert "nothing was set" in done.stderr
    assert (kernel.parent / CLOCK.path.removeprefix("/")).read_text() == "4700000\n"
    assert "not there" in run(card, kernel).stdout  # unarmed it is only said


def test_a_file_that_takes_no_value_ends_it_in_words(card: HandOverCard, kernel: Path) -> None:
    fan = kernel.parent / FAN.path.removeprefix("/")
    fan.unlink()
    fan.mkdir()  # which may be written to, but not like that
    done = run(card, kernel, "--arm")
    assert done.returncode == 1
    assert "does not take 102" in done.stderr
    assert "--back --arm" in done.stderr
    assert (kernel.parent / CLOCK.path.removeprefix("/")).read_text() == "4300000\n"


def test_other_words_end_it(card: HandOverCard, kernel: Path) -> None:
    done = run(card, kernel, "--force")
    assert done.returncode == 2
    assert "usage" in done.stderr
    assert read(kernel) == ("153", "2", "4700000")


def test_words_of_a_card_are_never_run(card: HandOverCard, kernel: Path) -> None:
    trap = f"$(touch {kernel}/run) `touch {kernel}/run`; touch {kernel}/run\n touch {kernel}/run '\""
    hostile = msgspec.structs.replace(OFFSET, words=trap)
    nasty = msgspec.structs.replace(card, sentence=trap, machine=trap, cautions=(trap,), steps=(hostile, *card.steps))
    done = run(nasty, kernel, "--arm")
    assert done.returncode == 0, done.stderr
    assert not (kernel / "run").exists()
    assert read(kernel)[0] == "102"


@pytest.mark.parametrize("path", ["/etc/passwd", "/sys/../etc/passwd", "sys/class", "/sys/a\nb"])
def test_only_files_of_the_kernel_are_written(card: HandOverCard, path: str) -> None:
    wrong = step("fan_duty.case", 40.0, 60.0, ControlFile(path), "Fan duty, case")
    with pytest.raises(DocumentError, match="none of the kernel's"):
        card_script(msgspec.structs.replace(card, steps=(wrong,)))


def test_a_card_without_files_is_no_script(card: HandOverCard) -> None:
    with pytest.raises(NotEnoughError, match="nothing that a script could set"):
        card_script(msgspec.structs.replace(card, steps=(OFFSET,)))


@pytest.mark.skipif(shutil.which("dash") is None, reason="no dash here")
def test_it_is_plain_posix_shell(card: HandOverCard) -> None:
    done = subprocess.run(["dash", "-n"], input=card_script(card), capture_output=True, text=True, timeout=20, check=False)
    assert done.returncode == 0, done.stderr
