"""What can go wrong in a way that a person can act on.

Every such error carries three sentences: what happened, what is safe now, and what to do. Everything that is not
a ``NienteError`` is a bug of ours and is shown as one.
"""

import msgspec


class ErrorText(msgspec.Struct, frozen=True):
    """An error as data, as it goes into the record and from one process to another. ``kind`` is the name of its class."""

    kind: str
    happened: str
    safe: str
    remedy: str

    def __str__(self) -> str:
        """Return the three sentences."""
        return f"{self.happened} {self.safe} {self.remedy}"

    def error(self) -> "NienteError":
        """Return the error again, of its own class where that is one that this Niente knows."""
        kind = next((one for one in _kinds(NienteError) if one.__name__ == self.kind), NienteError)
        return kind(self.happened, safe=self.safe, remedy=self.remedy)


class NienteError(Exception):
    """Something the person at the bench can act on.

    ``happened`` says what is wrong (and where), ``safe`` what has been kept and which state things are in,
    ``remedy`` what to do next. ``str()`` joins the three.
    """

    def __init__(self, happened: str, *, safe: str = "Nothing was changed.", remedy: str) -> None:
        super().__init__(f"{happened} {safe} {remedy}")
        self.happened = happened
        self.safe = safe
        self.remedy = remedy

    @property
    def text(self) -> ErrorText:
        """The error as data."""
        return ErrorText(type(self).__name__, self.happened, self.safe, self.remedy)


class DocumentError(NienteError):
    """A plan, project or rig file that cannot be read as what it should be."""


class PlanError(NienteError):
    """A plan that the rig cannot or must not run."""


class CautionsError(NienteError):
    """The cautions for a real machine have not been read yet; ``happened`` holds them."""


class RigError(NienteError):
    """A rig that cannot be opened, refuses a setting, or does not answer."""


class MachineAwayError(RigError):
    """A machine that went down and is starting again: it cannot be reached yet, and will be."""


class UntrustedDriverError(RigError):
    """A book that names code as its rig's driver, which nobody has said may run."""


class BookError(NienteError):
    """A book that cannot be opened or written."""


class BookBusyError(BookError):
    """A book that another Niente writes; it can still be looked at."""


class NotEnoughError(NienteError):
    """A question that the readings so far cannot answer."""


def _kinds(kind: type["NienteError"]) -> list[type["NienteError"]]:
    """Return the classes below one, theirs included."""
    return [one for below in kind.__subclasses__() for one in (below, *_kinds(below))]
