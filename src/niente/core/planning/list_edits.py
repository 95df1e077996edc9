"""Changes of the run list by hand. They name entries by what these are, so that they outlive a change of the axes."""

import hashlib
from collections.abc import Sequence

import msgspec

from niente.core.model.plan import Confirmation, Entry, PickRuns, Search, Step
from niente.core.model.question import ListChange, ListEdit

KEY_CHARACTERS = 12


class KeyedEntries:
    """Entries with their keys. A key is a digest of the entry, and its number among its equals."""

    def __init__(self, entries: Sequence[Entry]) -> None:
        self.entries = list(entries)
        self.keys: list[str] = []
        self._count: dict[str, int] = {}
        for entry in entries:
            self.keys.append(self._key(entry))

    def apply(self, edit: ListEdit) -> bool:
        """Do what an edit says; return whether it could be done. What it names may be gone: it then does nothing."""
        if not self._can(edit):
            return False
        match edit.change:
            case ListChange.INSERT if edit.step is not None:
                self._put(self._index_after(edit.after), edit.step)
            case ListChange.MOVE:
                at = self.keys.index(edit.entry)
                entry, key = self.entries.pop(at), self.keys.pop(at)
                index = self._index_after(edit.after)
                self.entries.insert(index, entry)
                self.keys.insert(index, key)
            case ListChange.REMOVE:
                at = self.keys.index(edit.entry)
                del self.entries[at], self.keys[at]
            case ListChange.REPEAT:
                at = self.keys.index(edit.entry)
                self._put(at + 1, self.entries[at])
            case ListChange.SKIP | ListChange.TAKE_UP:
                at = self.keys.index(edit.entry)
                self.entries[at] = msgspec.structs.replace(self.entries[at], skip=edit.change == ListChange.SKIP)
        return True

    def _can(self, edit: ListEdit) -> bool:
        """Whether everything that an edit names is there."""
        if edit.change == ListChange.INSERT:
            return edit.step is not None and self._has_key(edit.after)
        if edit.change == ListChange.MOVE and (not self._has_key(edit.after) or edit.after == edit.entry):
            return False
        return edit.entry in self.keys

    def copy(self) -> "KeyedEntries":
        """Return the same entries with the same keys, to be edited apart."""
        other = KeyedEntries(())
        other.entries, other.keys, other._count = list(self.entries), list(self.keys), dict(self._count)
        return other

    @property
    def done(self) -> tuple[Entry, ...]:
        """The entries as they stand now."""
        return tuple(self.entries)

    def _has_key(self, key: str) -> bool:
        return key == "" or key in self.keys

    def _index_after(self, key: str) -> int:
        return self.keys.index(key) + 1 if key else 0

    def _put(self, index: int, entry: Entry) -> None:
        self.entries.insert(index, entry)
        self.keys.insert(index, self._key(entry))

    def _key(self, entry: Entry) -> str:
        digest = hashlib.blake2b(msgspec.json.encode(_plain(entry)), digest_size=KEY_CHARACTERS // 2).hexdigest()
        number = self._count[digest] = self._count.get(digest, 0) + 1
        return digest if number == 1 else f"{digest}-{number}"


def edited(entries: tuple[Entry, ...], edits: Sequence[ListEdit]) -> tuple[Entry, ...]:
    """Return entries with the edits done, in their order."""
    return tuple(keyed(entries, edits).entries) if edits else entries


def keyed(entries: Sequence[Entry], edits: Sequence[ListEdit]) -> KeyedEntries:
    """Return the entries with the edits done, and their keys."""
    at = KeyedEntries(entries)
    for edit in edits:
        at.apply(edit)
    return at


def _plain(entry: Entry) -> Entry:
    """Return what makes an entry what it is: not its reason, and not whether it is skipped."""
    match entry:
        case Step():
            return msgspec.structs.replace(entry, reason="", skip=False)
        case Search() | Confirmation() | PickRuns():
            return msgspec.structs.replace(entry, skip=False)
