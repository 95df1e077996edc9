"""What Niente is: its version, its licence, and the libraries it stands on."""

from importlib.metadata import PackageNotFoundError, version

from PySide6.QtWidgets import QGridLayout, QWidget

from niente import __version__
from niente.desktop.dialogs.sheet import SheetDialog
from niente.desktop.services.translation import tr
from niente.desktop.widgets.labels import label, rule

LIBRARIES = ("PySide6-Essentials", "numpy", "scipy", "numba", "pyqtgraph", "contourpy", "msgspec", "rapidfuzz", "platformdirs")


class About(SheetDialog):
    """A page of words."""

    def __init__(self, over: QWidget) -> None:
        super().__init__(over, tr("About Niente"))
        rows = self.column
        self.say(tr("Version {version}").format(version=__version__))
        self.say(tr("Finds a quiet, stable operating point for a computer, by measuring it."))
        licence = tr("Free software under the MIT licence, without any warranty. The maker's limits come first.")
        self.say(licence, "soft")
        rows.addWidget(rule())
        rows.addWidget(label(tr("Libraries"), "section"))
        grid = QGridLayout()
        grid.setHorizontalSpacing(24)
        grid.setVerticalSpacing(2)
        grid.setColumnStretch(1, 1)
        for row, (name, found) in enumerate(libraries()):
            grid.addWidget(label(name), row, 0)
            grid.addWidget(label(found, "soft"), row, 1)
        rows.addLayout(grid)
        self.say(tr("Type: B612, under the SIL Open Font Licence."), "soft")
        self.answer(tr("Close"), usual=True).clicked.connect(self.accept)


def libraries() -> list[tuple[str, str]]:
    """Return the libraries with their versions, as they are installed."""
    found = []
    for name in LIBRARIES:
        try:
            found.append((name.removesuffix("-Essentials"), version(name)))
        except PackageNotFoundError:
            continue
    return found
