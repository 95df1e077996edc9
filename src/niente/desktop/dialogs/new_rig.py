"""The dialog for a machine of one's own: its class, which its typical heat path comes from, and its name."""

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QGridLayout, QLineEdit, QListWidget, QVBoxLayout, QWidget

from niente.core.rigs.registry import classes
from niente.desktop.services.translation import tr
from niente.desktop.widgets.labels import label


class NewRig(QDialog):
    """A list of classes over a name; ``values`` is the class's template and the name."""

    def __init__(self, over: QWidget) -> None:
        super().__init__(over)
        self.setWindowTitle(tr("New rig"))
        self.setMinimumWidth(420)
        self._templates = list(classes())
        self.kinds = QListWidget()
        self.kinds.setAccessibleName(tr("Class of the machine"))
        self.kinds.addItems([tr(kind) for _, kind in self._templates])
        self.kinds.setCurrentRow(0)
        self.title = QLineEdit()
        self.title.setAccessibleName(tr("Name"))
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.buttons.button(QDialogButtonBox.StandardButton.Ok).setText(tr("Make its book …"))
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        rows = QVBoxLayout(self)
        words = tr(
            "A simulated machine of this class, to try plans on; its parts, limits and room are yours to say. For a real "
            "machine open a book on its driver instead, and describe it there."
        )
        rows.addWidget(label(words, "soft", wrap=True))
        rows.addWidget(self.kinds)
        grid = QGridLayout()
        name = label(tr("Name"))
        name.setBuddy(self.title)
        grid.addWidget(name, 0, 0)
        grid.addWidget(self.title, 0, 1)
        rows.addLayout(grid)
        rows.addWidget(self.buttons)
        self.title.textChanged.connect(self._look)
        self._look()

    def _look(self) -> None:
        self.buttons.button(QDialogButtonBox.StandardButton.Ok).setEnabled(bool(self.title.text().strip()))

    @property
    def values(self) -> tuple[str, str]:
        """The name of the class's template, and the machine's own."""
        return self._templates[self.kinds.currentRow()][0], self.title.text().strip()
