"""Plans that count what is measured from now on, in a book that was last written by a clock that was ahead."""

import datetime
import time
from pathlib import Path

import msgspec

from niente.core.model.plan import Plan
from niente.core.storage.reader import BookReader

AHEAD_S = 60.0
"""A clock that is so much behind a book is not merely set more exactly."""


def in_book_time(plan: Plan, path: Path) -> Plan:
    """Return a plan whose ``since`` is told by its book's time: else what is in the book already would count as made since, and
    nothing would be run. One that was begun so before goes on. Raises ``BookError``."""
    if not plan.since:
        return plan
    book = BookReader(path)
    try:
        latest_s = book.last_written_s()
        if latest_s - time.time() <= AHEAD_S or plan.since_s >= latest_s:
            return plan
        plans = book.plans()
    finally:
        book.close()
    for known in reversed(plans.values()):
        if known.since_s > plan.since_s and msgspec.structs.replace(known, since=plan.since) == plan:
            return known
    return msgspec.structs.replace(plan, since=datetime.datetime.fromtimestamp(latest_s, datetime.UTC).isoformat())
