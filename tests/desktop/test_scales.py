"""At other scale factors the window comes up, every page is drawn, and nothing is squeezed below its least size."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from niente.core.model.project import Project

WALK = """
import sys, time
from pathlib import Path
from niente.desktop.app.main import arguments, make_app, show
from niente.desktop.services.theme import PaletteChoice
from niente.desktop.app.window import NAMES
app = make_app([])
window = show(arguments([sys.argv[1]]))
window.resize(1100, 700)
end = time.monotonic() + 300
while window.session.answer.choice is None and time.monotonic() < end:
    app.processEvents()
    time.sleep(0.01)
window.apply(PaletteChoice(sys.argv[2]))
for index, name in enumerate(NAMES):
    window.go_to(index)
    app.processEvents()
    picture = window.grab()
    page = window.pages[index]
    least = page.minimumSizeHint()
    fits = least.width() <= page.width() and least.height() <= page.height()
    print(name, picture.devicePixelRatio(), picture.width(), fits)
window.session.close()
"""


@pytest.mark.parametrize(("scale", "palette"), [("1.5", "dusk"), ("2", "paper")])
def test_every_page_at_another_scale(sweep: tuple[Path, Project], tmp_path: Path, scale: str, palette: str) -> None:
    book = shutil.copyfile(sweep[0], tmp_path / "copy.niente")
    env = {**os.environ, "QT_SCALE_FACTOR": scale, "QT_QPA_PLATFORM": "offscreen", "XDG_CONFIG_HOME": str(tmp_path)}
    told = subprocess.run(
        [sys.executable, "-c", WALK, str(book), palette], env=env, capture_output=True, text=True, check=True, timeout=400
    )
    assert "Traceback" not in told.stderr
    lines = [line.split() for line in told.stdout.splitlines()]
    assert len(lines) == 6
    for name, ratio, width, fits in lines:
        assert ratio == str(float(scale)), name
        assert int(width) == round(1100 * float(scale)), name
        assert fits == "True", name
