"""Help without a network: a page for every page and action, and the sheet of keys, made from the registry."""

from importlib import resources

from PySide6.QtCore import QUrl
from PySide6.QtGui import QTextBlockFormat, QTextCursor, QTextDocument, QTextLength, QTextTable
from PySide6.QtWidgets import QDialog, QHBoxLayout, QListWidget, QTextBrowser, QWidget

from niente.desktop.actions.menus import MENUS
from niente.desktop.actions.registry import SPECS
from niente.desktop.services.decimal_sign import in_locale
from niente.desktop.services.translation import tr

TOPICS = ("window", "books", "rig", "plan", "run", "bench", "map", "answer", "fans", "proof", "noise", "safety", "keys")


def page_of(topic: str) -> str:
    """Return a topic's page as Markdown. Raises ``FileNotFoundError`` for a topic that is none."""
    text = (resources.files("niente") / "assets" / "help" / f"{topic}.md").read_text(encoding="utf-8")
    return text + sheet_of_keys() if topic == "keys" else text


def title_of(topic: str) -> str:
    """Return a topic's title: the first line of its page."""
    return page_of(topic).partition("\n")[0].removeprefix("# ")


def sheet_of_keys() -> str:
    """Return every action with its keys, as a Markdown table a menu."""
    parts = []
    for menu in MENUS:
        rows = [f"| {tr(spec.text).removesuffix(' …')} | {spec.keys} | {tr(spec.tip)} |" for spec in SPECS if spec.menu == menu]
        parts.append(f"\n## {tr(menu)}\n\n| {tr('Action')} | {tr('Keys')} | {tr('What it does')} |\n|---|---|---|\n")
        parts.append("\n".join(rows) + "\n")
    return "".join(parts)


def topic_of(widget: QWidget | None, otherwise: str) -> str:
    """Return the topic of the thing in focus: its own ``help`` property, or that of what it lies in."""
    while widget is not None:
        topic = widget.property("help")
        if topic:
            return str(topic)
        widget = widget.parentWidget()
    return otherwise


def set_with_air(document: QTextDocument) -> None:
    """Part a page's paragraphs, and rule its tables with nothing but air."""
    cursor = QTextCursor(document)
    for frame in document.rootFrame().childFrames():
        if isinstance(frame, QTextTable):
            dress = frame.format().toTableFormat()
            dress.setBorder(0)
            dress.setCellSpacing(0)
            dress.setCellPadding(0)
            dress.setWidth(QTextLength(QTextLength.Type.PercentageLength, 100))
            frame.setFormat(dress)
    block = document.firstBlock()
    while block.isValid():
        air = block.blockFormat()
        in_table = QTextCursor(block).currentTable() is not None
        head = air.headingLevel()
        air.setTopMargin(18.0 if head > 1 else 3.0 if in_table else 4.0)
        air.setBottomMargin(3.0 if in_table else 8.0)
        air.setRightMargin(16.0 if in_table else 0.0)
        air.setLineHeight(125.0, QTextBlockFormat.LineHeightTypes.ProportionalHeight.value)
        cursor.setPosition(block.position())
        cursor.setBlockFormat(air)
        block = block.next()


class Guide(QDialog):
    """The topics at the left, one page at the right."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Help"))
        self.resize(820, 600)
        self.topics = QListWidget()
        self.topics.setAccessibleName(tr("Topics"))
        self.topics.setFixedWidth(180)
        self.topics.addItems([title_of(topic) for topic in TOPICS])
        self.text = QTextBrowser()
        self.text.setAccessibleName(tr("Page of help"))
        self.text.setOpenLinks(False)
        self.text.anchorClicked.connect(self._follow)
        self.topics.currentRowChanged.connect(self._turn_to)
        row = QHBoxLayout(self)
        row.setContentsMargins(20, 20, 8, 12)
        row.setSpacing(24)
        row.addWidget(self.topics)
        row.addWidget(self.text, 1)

    @classmethod
    def over(cls, window: QWidget) -> "Guide":
        """Return the one help window of a window."""
        return window.findChild(cls) or cls(window)

    def open_at(self, topic: str) -> None:
        """Show a topic."""
        index = TOPICS.index(topic) if topic in TOPICS else 0
        self.topics.setCurrentRow(index)
        self._turn_to(index)
        self.show()
        self.raise_()

    def _turn_to(self, index: int) -> None:
        self.text.setMarkdown(in_locale(page_of(TOPICS[index])))
        set_with_air(self.text.document())

    def _follow(self, link: QUrl) -> None:
        topic = link.fileName().removesuffix(".md")
        if topic in TOPICS:
            self.topics.setCurrentRow(TOPICS.index(topic))
