"""The house itself: what may import what at start, what is pinned, what ships."""

import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]


def modules_after(code: str) -> set[str]:
    told = subprocess.run(
        [sys.executable, "-c", f"{code}\nimport sys; print('\\n'.join(sys.modules))"],
        capture_output=True,
        text=True,
        check=True,
        env={**os.environ, "QT_QPA_PLATFORM": "offscreen"},
    )
    return {name.partition(".")[0] for name in told.stdout.split()}


def test_the_core_stands_without_qt() -> None:
    loaded = modules_after(
        "import niente.core.demo, niente.core.acquisition.attachment, niente.core.rigs.simulated.rig\n"
        "import niente.core.selection.explanation, niente.cli.main"
    )
    assert not loaded & {"PySide6", "shiboken6", "pyqtgraph"}


def test_nothing_slow_is_loaded_before_the_window_shows() -> None:
    loaded = modules_after(
        "from niente.desktop.app.main import look_of, make_app; app = make_app([])\n"
        "from niente.desktop.session.session import Session; from niente.desktop.services.preferences import Preferences\n"
        "from niente.desktop.app.window import Window; preferences = Preferences()\n"
        "window = Window(Session(), look_of(app, preferences), preferences); window.show()\n"
    )
    assert "PySide6" in loaded
    assert not loaded & {"scipy", "numba", "pyqtgraph", "llvmlite", "rapidfuzz", "jeepney"}


@pytest.mark.parametrize("name", ["run.lock", "dev.lock"])
def test_the_lock_is_hashed_and_holds_no_address(name: str) -> None:
    text = (ROOT / "requirements" / name).read_text()
    pinned = re.findall(r"^([\w.-]+)==", text, re.MULTILINE)
    assert len(pinned) > 10
    assert text.count("--hash=sha256:") >= len(pinned)
    assert "://" not in text
    assert "index" not in text


def test_without_a_display_the_demo_says_so() -> None:
    bare = {name: value for name, value in os.environ.items() if name not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
    told = subprocess.run(["bash", str(ROOT / "tools" / "demo.sh")], env=bare, capture_output=True, text=True, check=False)
    assert told.returncode == 3
    assert "no display" in told.stderr
    assert "make shots" in told.stderr


def test_fonts_ship_with_their_licence() -> None:
    fonts = ROOT / "src" / "niente" / "assets" / "fonts"
    assert len(list(fonts.glob("B612*.otf"))) >= 6
    assert "SIL" in (fonts / "LICENCE.txt").read_text()


def test_the_readme_begins_with_the_two_commands() -> None:
    top = (ROOT / "README.md").read_text().splitlines()[:8]
    assert any("make demo" in line for line in top)
    assert any("make test" in line for line in top)
    for picture in re.findall(r"\((docs/screenshots/[\w.]+)\)", (ROOT / "README.md").read_text()):
        assert (ROOT / picture).is_file()
