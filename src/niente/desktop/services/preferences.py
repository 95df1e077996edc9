"""What the window remembers from one start to the next; kept in the person's own settings folder (XDG)."""

from pathlib import Path

import platformdirs
from PySide6.QtCore import QByteArray, QSettings

from niente.core.model.commands import WhenLost
from niente.desktop.services.theme import PaletteChoice

MAX_BOOKS = 8


class Preferences:
    """Window and splitters, the look, and the books opened lately. Nothing measured is kept here."""

    def __init__(self, path: Path | None = None) -> None:
        self._file = path or Path(platformdirs.user_config_dir("niente")) / "window.ini"
        self._kept = QSettings(str(self._file), QSettings.Format.IniFormat)

    @property
    def palette_choice(self) -> PaletteChoice:
        """The look a person chose."""
        wish = str(self._kept.value("look", PaletteChoice.DESKTOP))
        return PaletteChoice(wish) if wish in set(PaletteChoice) else PaletteChoice.DESKTOP

    @palette_choice.setter
    def palette_choice(self, wish: PaletteChoice) -> None:
        self._kept.setValue("look", str(wish))

    def shape(self, name: str) -> QByteArray | None:
        """Return how a window or splitter stood, as Qt saves it; ``None`` the first time."""
        kept = self._kept.value(f"shape/{name}")
        return kept if isinstance(kept, QByteArray) else None

    def keep_shape(self, name: str, shape: QByteArray) -> None:
        """Remember how a window or splitter stands."""
        self._kept.setValue(f"shape/{name}", shape)

    @property
    def margin_shown(self) -> bool:
        """Whether the margin stood open."""
        return str(self._kept.value("margin", "true")) == "true"

    @margin_shown.setter
    def margin_shown(self, shown: bool) -> None:
        self._kept.setValue("margin", "true" if shown else "false")

    @property
    def when_lost(self) -> WhenLost:
        """What the bench does when the window ends without a word."""
        kept = str(self._kept.value("when_lost", WhenLost.GO_ON))
        return WhenLost(kept) if kept in set(WhenLost) else WhenLost.GO_ON

    @when_lost.setter
    def when_lost(self, when_lost: WhenLost) -> None:
        self._kept.setValue("when_lost", str(when_lost))

    def books(self) -> list[Path]:
        """Return the books opened lately that are still there, the latest first."""
        kept = self._kept.value("books", [])
        names = kept if isinstance(kept, list) else [str(kept)]
        return [Path(str(name)) for name in names if Path(str(name)).exists()]

    def add_book(self, book: Path) -> None:
        """Remember a book; one in the cache (the demo's) goes with its window and is not worth it."""
        own = book.resolve()
        if own.is_relative_to(Path(platformdirs.user_cache_dir("niente")).resolve()):
            return
        names = [str(own), *(str(other) for other in self.books() if other != own)]
        self._kept.setValue("books", names[:MAX_BOOKS])

    def sync(self) -> None:
        """Write what is not written yet."""
        self._kept.sync()
