"""The log: what goes wrong keeps its place and its traceback, in a file that turns over. It holds no personal data."""

import logging
import logging.handlers
import os
from pathlib import Path

import platformdirs

MAX_BYTES, KEPT = 1_000_000, 3


class _NoNames(logging.Formatter):
    """Formats a line without the names that paths carry: a person's folder is written ``~``."""

    def format(self, record: logging.LogRecord) -> str:
        """Return the line."""
        text = super().format(record)
        for folder in {str(Path.home()), os.environ.get("HOME", "")} - {"", "/"}:
            text = text.replace(folder, "~")
        return text


def log_folder() -> Path:
    """Return where logs are: the person's folder for states."""
    return Path(platformdirs.user_state_dir("niente"))


def log_file(name: str) -> Path:
    """Return the log of a name."""
    return log_folder() / f"{name}.log"


def start_log(name: str) -> None:
    """Write warnings and worse of this process to a log of that name. Without a place to write nothing is written."""
    package = logging.getLogger("niente")
    logging.captureWarnings(True)
    try:
        log_folder().mkdir(parents=True, exist_ok=True)
        handler = logging.handlers.RotatingFileHandler(
            log_file(name), maxBytes=MAX_BYTES, backupCount=KEPT, encoding="utf-8", delay=True
        )
    except OSError:
        return
    handler.setFormatter(_NoNames("%(asctime)s %(process)d %(threadName)s %(levelname)s %(name)s: %(message)s"))
    handler.setLevel(logging.WARNING)
    for logger in (package, logging.getLogger("py.warnings")):
        logger.addHandler(handler)
