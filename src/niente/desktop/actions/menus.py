"""The menus: which actions stand in which, in groups, and the letter that chooses each while its menu is open."""

from collections.abc import Sequence

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu, QMenuBar

from niente.desktop.actions.registry import Actions
from niente.desktop.services.decimal_sign import in_locale
from niente.desktop.services.translation import tr

RECENT = "recent"
"""Where the books opened lately stand."""
MENUS = {
    "Book": (
        ("rig.copy", "book.open", RECENT),
        ("plan.open", "plan.save"),
        ("rig.new", "rig.import", "rig.export"),
        ("answer.card", "answer.check", "map.picture", "map.csv"),
        ("book.reopen", "book.close", "book.quit"),
    ),
    "Edit": (
        ("edit.undo", "edit.redo"),
        ("plan.up", "plan.down", "plan.skip", "plan.repeat", "plan.insert", "plan.anew", "plan.keep"),
        ("answer.keep", "answer.let_go", "answer.take_limits", "answer.copy"),
        ("rig.part", "rig.calibrate"),
        ("edit.find",),
    ),
    "Go": (("page.rig", "page.plan", "page.run", "page.map", "page.answer", "page.fans", "page.proof"),),
    "View": (
        ("view.margin", "answer.to_pick", "map.table", "map.prove", "run.follow"),
        ("view.desktop", "view.paper", "view.dusk"),
    ),
    "Bench": (
        (
            "plan.ask",
            "plan.compare",
            "plan.start",
            "run.pause_after",
            "run.pause_now",
            "run.resume",
            "run.skip",
            "run.repeat",
            "run.note",
            "run.stop",
        ),
        (
            "answer.surer",
            "answer.run_here",
            "answer.stay",
            "map.run_here",
            "map.missing",
            "proof.run",
            "proof.soak",
        ),
        ("bench.leave", "bench.ask", "bench.hand_over", "bench.lost_go_on", "bench.lost_stop"),
    ),
    "Curves": (
        ("fans.draw", "fans.stop_drawing"),
        ("fans.give", "fans.take_off", "fans.to_others"),
        ("fans.add_point", "fans.drop_point", "fans.round"),
        ("fans.run_here", "fans.export"),
    ),
    "Help": (("help.here", "help.keys"), ("help.log", "help.about")),
}
"""The menus: names of actions, in groups with a rule between them; the recent books stand among them."""


def menu_text(name: str) -> str:
    """Return a menu's name with the letter that opens it: the first, or one that no other menu has."""
    return {"Bench": tr("Be&nch")}.get(name, f"&{tr(name)}")


class MenuEntry(QAction):
    """An action as it stands in a menu: its words with a letter marked, and its keys; it does what the action does.

    The action itself keeps plain words: buttons and the finder show them too.
    """

    def __init__(self, action: QAction, letter: str, menu: QMenu) -> None:
        super().__init__(menu)
        self._action = action
        self._letter = letter
        self._follow()
        action.changed.connect(self._follow)
        self.triggered.connect(self._do)

    def _do(self) -> None:
        self._action.trigger()
        self._follow()  # a switch shows what has become of it

    def _follow(self) -> None:
        action = self._action
        keys = action.shortcut().toString(QKeySequence.SequenceFormat.NativeText)
        words = marked(in_locale(action.text()), self._letter)
        self.setText(f"{words}\t{keys}" if keys else words)
        self.setToolTip(action.toolTip())
        self.setCheckable(action.isCheckable())
        self.setChecked(action.isChecked())
        self.setEnabled(action.isEnabled())
        self.setVisible(action.isVisible())


def fill_menus(bar: QMenuBar, actions: Actions, recent: QMenu) -> None:
    """Put all menus into a bar; ``recent`` are the books opened lately."""
    for name, groups in MENUS.items():
        menu = bar.addMenu(menu_text(name))
        menu.setToolTipsVisible(True)
        _fill(menu, groups, actions, recent)


def _fill(menu: QMenu, groups: tuple[tuple[str, ...], ...], actions: Actions, recent: QMenu) -> None:
    """Put the actions of a menu into it, a rule between groups."""
    names = [name for group in groups for name in group]
    letters = dict(zip(names, letters_for([_words(name, actions, recent) for name in names]), strict=True))
    for number, group in enumerate(groups):
        if number:
            menu.addSeparator()
        for name in group:
            if name == RECENT:
                recent.setTitle(marked(recent.title(), letters[name]))
                menu.addMenu(recent)
            else:
                menu.addAction(MenuEntry(actions[name], letters[name], menu))


def _words(name: str, actions: Actions, recent: QMenu) -> str:
    return recent.title() if name == RECENT else actions[name].text()


def letters_for(texts: Sequence[str]) -> list[str]:
    """Return a letter for each text of a menu, each only once: the first of a word where it is free, else any other; where none
    is free another text gives its own up that has one besides.

    Only where there are too few letters for all does a text get none.
    """
    every = [text.casefold().split() for text in texts]
    offered = [[letter for letter in (*(word[0] for word in words), *"".join(words)) if letter.isalpha()] for words in every]
    holder: dict[str, int] = {}

    def give(index: int, tried: set[str]) -> bool:
        """Find a letter for a text; augmenting paths of bipartite matching (Kuhn)."""
        free = next((letter for letter in offered[index] if letter not in holder), "")
        for letter in [free] if free else offered[index]:
            if letter not in tried:
                tried.add(letter)
                if letter == free or give(holder[letter], tried):
                    holder[letter] = index
                    return True
        return False

    # a text with few letters chooses first: long ones have more to choose from
    for index in sorted(range(len(texts)), key=lambda at: len(set(texts[at].casefold()))):
        give(index, set())
    letters = {index: letter for letter, index in holder.items()}
    return [letters.get(index, "") for index in range(len(texts))]


def marked(text: str, letter: str) -> str:
    """Return a text with a letter marked for Qt, where it stands in it; the first of a word before any other."""
    plain = text.replace("&", "&&")
    if not letter:
        return plain
    lower = f" {plain}".casefold()
    at = lower.find(f" {letter}")
    at = at if at >= 0 else lower.find(letter) - 1
    return plain if at < 0 else f"{plain[:at]}&{plain[at:]}"
