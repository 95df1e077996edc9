"""The dialog for a machine of one's own: its class, which its typical heat path comes from, and its name."""

from PySide6.QtWidgets import QGridLayout, QLineEdit, QListWidget, QWidget

from niente.core.rigs.registry import classes
from niente.desktop.dialogs.sheet import SheetDialog
from niente.desktop.services.translation import tr
from niente.desktop.widgets.labels import label


class NewRig(SheetDialog):
    """A list of classes over a name; ``values`` is the class's template and the name."""

    def __init__(self, over: QWidget) -> None:
        words = tr(
            "A simulated machine of this class, to try plans on; its parts, limits and room are yours to say. For a real "
            "machine open a book on its driver instead, and describe it there."
        )
        super().__init__(over, tr("New rig"), words)
        self._templates = list(classes())
        self.kinds = QListWidget()
        self.kinds.setAccessibleName(tr("Class of the machine"))
        self.kinds.addItems([tr(kind) for _, kind in self._templates])
        self.kinds.setCurrentRow(0)
        self.title = QLineEdit()
        self.title.setAccessibleName(tr("Name"))
        self.column.addWidget(self.kinds)
        grid = QGridLayout()
        name = label(tr("Name"))
        name.setBuddy(self.title)
        grid.addWidget(name, 0, 0)
        grid.addWidget(self.title, 0, 1)
        self.column.addLayout(grid)
        self.take = self.take_or_leave(tr("Make its book …"))
        self.title.textChanged.connect(self._look)
        self._look()

    def _look(self) -> None:
        self.take.setEnabled(bool(self.title.text().strip()))

    @property
    def values(self) -> tuple[str, str]:
        """The name of the class's template, and the machine's own."""
        return self._templates[self.kinds.currentRow()][0], self.title.text().strip()
