"""A hand-over card as a shell script, where the kernel's own files set its controls: to be read, and armed by hand.

It is plain POSIX shell (IEEE Std 1003.1, XCU): without ``--arm`` it only shows what it would write.
"""

import shlex
from collections.abc import Sequence

from niente.core.model.errors import DocumentError, NotEnoughError
from niente.core.model.hand_over_card import EntryStep, HandOverCard

BODY = r"""set -eu
say() {
    printf '%s\n' "$*"
}

check() { # file
    if [ ! -w "$1" ]; then
        say "$1 cannot be written: nothing was set. Look at its name, and at who runs this." >&2
        exit 1
    fi
}

put() { # file, value, what
    now=$(cat "$1" 2>/dev/null || say "not there")
    if [ "$armed" = no ]; then
        say "$3: would write $2 to $1 (now $now)"
        return
    fi
    if ! printf '%s\n' "$2" >"$1"; then
        say "$1 does not take $2: what stands above was set, and nothing after it. --back --arm undoes it." >&2
        exit 1
    fi
    found=$(cat "$1")
    say "$3: $1 was $now, is $found"
    if [ "$found" != "$2" ]; then
        say "  $2 was written, and $found is there: the kernel took another value" >&2
    fi
}

hands() { # what
    say "By hand: $1"
}

nothing() { :; }

target=setting armed=no
for word in "$@"; do
    case "$word" in
    --arm) armed=yes ;;
    --back) target=stock ;;
    *) say "usage: $0 [--back] [--arm]" >&2 && exit 2 ;;
    esac
done
"""
END = r"""
if [ "$armed" = yes ]; then
    "$target" check nothing
fi
"$target" put hands
if [ "$armed" = no ]; then
    say "Nothing was written. Read this script; then run it with --arm, as root."
fi
"""


def card_script(card: HandOverCard) -> str:
    """Return a script that sets what a card says, and ``--back`` what stock has. Raises ``NotEnoughError`` where no control of
    the card is a file, and ``DocumentError`` for one that is none of the kernel's."""
    if not any(step.file for step in card.steps):
        raise NotEnoughError(
            "No control of this card is a file of the kernel: there is nothing that a script could set.",
            safe="Nothing was written.",
            remedy="Enter the setting by the card as a page or as text.",
        )
    for step in (*card.steps, *card.back):
        if step.file is not None and (problem := step.file.problem()):
            raise DocumentError(f"{step.title}: {problem}.", safe="Nothing was written.", remedy="Look at who made this book.")
    point = f", {card.point}" if card.point else ""
    head = [
        f"{card.machine}, {card.variant}{point}: {card.sentence}",
        f"Made {card.made_at} by Niente {card.niente}. {card.standing_words}",
        "It writes to files of the kernel, and only with --arm: read it first. --back writes what stock has.",
        "What it sets is gone after a restart of the machine.",
        *card.cautions,
    ]
    lines = ["#!/bin/sh", *(f"# {_line(text)}" for text in head), BODY]
    curves = [f"fan curve, {row.group}: {row.words}" for row in card.curves]
    lines += [*_listed("setting", card.steps, curves, back=False), "", *_listed("stock", card.back, (), back=True)]
    return "\n".join(lines) + "\n" + END.lstrip("\n")


def _listed(name: str, steps: Sequence[EntryStep], by_hand: Sequence[str], *, back: bool) -> list[str]:
    """Return a shell function that hands every file of some steps, with its value, to what it is given, and what no file
    sets."""
    lines = [f"{name}() {{ # for each file, for each step by hand", *(f'    "$2" {_quoted(words)}' for words in by_hand)]
    for step in steps:
        if step.file is None:
            lines.append(f'    "$2" {_quoted(step.words)}')
            continue
        own = [(step.file.path, step.file.number(step.value))]
        first = [(path, values[1] if back else values[0]) for path, values in step.file.first.items()]
        for path, value in [*own, *first] if back else [*first, *own]:  # the machine gets the control back last
            lines.append(f'    "$1" {shlex.quote(path)} {value} {_quoted(step.words)}')
    return [*lines, "    :", "}"]


def _quoted(text: str) -> str:
    return shlex.quote(_line(text))


def _line(text: str) -> str:
    """Return a text in one line, without what a terminal would take for more than text."""
    return " ".join("".join(one if one.isprintable() or one.isspace() else "?" for one in text).split())
