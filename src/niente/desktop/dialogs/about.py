"""What Niente is: its version, its licence, and the libraries it stands on."""

from importlib.metadata import PackageNotFoundError, version

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QGridLayout, QVBoxLayout, QWidget

from niente import __version__
from niente.desktop.services.translation import tr
from niente.desktop.widgets.labels import label, rule

LIBRARIES = ("PySide6-Essentials", "numpy", "scipy", "numba", "pyqtgraph", "contourpy", "msgspec", "rapidfuzz", "platformdirs")


class About(QDialog):
    """A page of words."""

    def __init__(self, over: QWidget) -> None:
        super().__init__(over)
        self.setWindowTitle(tr("About Niente"))
        self.setMinimumWidth(420)
        rows = QVBoxLayout(self)
        rows.setContentsMargins(20, 16, 20, 16)
        rows.setSpacing(8)
        rows.addWidget(label(tr("Niente {version}").format(version=__version__), "title"))
        rows.addWidget(label(tr("Finds a quiet, stable operating point for a computer, by measuring it."), "", wrap=True))
        licence = tr("Free software under the MIT licence, without any warranty. The maker's limits come first.")
        rows.addWidget(label(licence, "soft", wrap=True))
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
        rows.addWidget(label(tr("Type: B612, under the SIL Open Font Licence."), "soft", wrap=True))
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(self.reject)
        rows.addWidget(buttons)


def libraries() -> list[tuple[str, str]]:
    """Return the libraries with their versions, as they are installed."""
    found = []
    for name in LIBRARIES:
        try:
            found.append((name.removesuffix("-Essentials"), version(name)))
        except PackageNotFoundError:
            continue
    return found
