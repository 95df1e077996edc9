"""The book's tables. Nothing that is written is ever changed: triggers refuse UPDATE and DELETE.

A new version of the schema adds an entry to ``UPGRADES``; entry ``n`` leads from version ``n`` to ``n + 1``.
"""

APPLICATION_ID = 0x6E69656E
"""The ASCII letters "nien", in SQLite's ``application_id``."""

_TABLES = {
    "document": """
        id INTEGER PRIMARY KEY, kind TEXT NOT NULL, written_at REAL NOT NULL, body TEXT NOT NULL""",
    "run": """
        id INTEGER PRIMARY KEY, plan_id INTEGER NOT NULL REFERENCES document(id), step INTEGER NOT NULL,
        kind TEXT NOT NULL, opened_at REAL NOT NULL, rig_time_s REAL NOT NULL, setting TEXT NOT NULL,
        load TEXT NOT NULL, channels TEXT NOT NULL""",
    "frames": """
        id INTEGER PRIMARY KEY, run_id INTEGER NOT NULL REFERENCES run(id), count INTEGER NOT NULL,
        data BLOB NOT NULL""",
    "happening": """
        id INTEGER PRIMARY KEY, run_id INTEGER REFERENCES run(id), rig_time_s REAL, written_at REAL NOT NULL,
        kind TEXT NOT NULL, body TEXT NOT NULL""",
    "closing": """
        run_id INTEGER PRIMARY KEY REFERENCES run(id), closed_at REAL NOT NULL, rig_time_s REAL NOT NULL,
        how TEXT NOT NULL, why TEXT NOT NULL""",
}


def _append_only(table: str, columns: str) -> str:
    """Return the script of a table whose rows are never changed."""
    script = [f"CREATE TABLE {table} ({columns}) STRICT;"]
    for verb in ("UPDATE", "DELETE"):
        script.append(
            f"CREATE TRIGGER {table}_no_{verb.lower()} BEFORE {verb} ON {table} "
            f"BEGIN SELECT RAISE(ABORT, 'the book is append only'); END;"
        )
    return "\n".join(script)


def _first_version() -> str:
    script = [_append_only(table, columns) for table, columns in _TABLES.items()]
    script.append("CREATE INDEX frames_of_run ON frames(run_id);")
    script.append("CREATE INDEX happenings_of_run ON happening(run_id);")
    return "\n".join(script)


_RUNS_NAME_THEIR_CARD = "ALTER TABLE run ADD COLUMN card_id INTEGER REFERENCES document(id);"
"""Which rig card a run was measured on, and so in which variant; null in runs from before that was kept."""

_RECORDS_IN_ORDER = _append_only(
    "record",
    "id INTEGER PRIMARY KEY, frames_id INTEGER NOT NULL, written_at REAL NOT NULL, kind TEXT NOT NULL, body TEXT NOT NULL",
)
"""Everything that happened but the samples, in order; ``frames_id`` is the last row of samples that came before."""

_DOCUMENTS_BY_KIND = "CREATE INDEX documents_of_kind ON document(kind, id);"
"""The newest of a kind is found without reading the others."""

UPGRADES: tuple[str, ...] = (_first_version(), _RUNS_NAME_THEIR_CARD, _RECORDS_IN_ORDER + _DOCUMENTS_BY_KIND)
SCHEMA_VERSION = len(UPGRADES)
