"""The margin: where words live, so that the page itself stays quiet."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QScrollArea, QVBoxLayout, QWidget

from niente.desktop.widgets.labels import label

WIDTH = 280


class Margin(QScrollArea):
    """Headings with their text, one below the other."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(WIDTH)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("Margin: explanations")
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        inside = QWidget()
        self._rows = QVBoxLayout(inside)
        self._rows.setContentsMargins(20, 10, 24, 8)
        self._rows.setSpacing(4)
        self._rows.addStretch(1)
        self._shown: list[tuple[str, str]] = []
        self._labels: list[tuple[QWidget, QWidget]] = []
        self.setWidget(inside)

    def show_words(self, words: list[tuple[str, str]]) -> None:
        """Show headings and texts; only what changed is touched."""
        if words == self._shown:
            return
        self._shown = list(words)
        while len(self._labels) < len(words):
            pair = (label("", "section", wrap=True), label("", "", wrap=True))
            for widget in pair:
                widget.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
                self._rows.insertWidget(self._rows.count() - 1, widget)
            self._labels.append(pair)
        for place, (heading, text) in enumerate(self._labels):
            has = place < len(words)
            heading.setVisible(has)
            text.setVisible(has)
            if has:
                heading.setText(words[place][0])  # type: ignore[attr-defined]
                text.setText(words[place][1] + "\n")  # type: ignore[attr-defined]
