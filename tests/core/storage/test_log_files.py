"""The log: bugs and warnings with their place, in files that turn over, without a person's names."""

import logging
from collections.abc import Iterator
from pathlib import Path

import pytest

from niente.core.storage.log_files import KEPT, MAX_BYTES, log_folder, start_log


@pytest.fixture
def log(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    monkeypatch.setenv("HOME", "/home/astrid")
    handlers = list(logging.getLogger("niente").handlers)
    start_log("test")
    yield log_folder() / "test.log"
    for name in ("niente", "py.warnings"):
        logger = logging.getLogger(name)
        for handler in [one for one in logger.handlers if one not in handlers]:
            handler.close()
            logger.removeHandler(handler)
    logging.captureWarnings(False)


def test_a_bug_keeps_its_traceback_and_no_name(log: Path) -> None:
    try:
        raise KeyError("/home/astrid/books/night.niente")
    except KeyError:
        logging.getLogger("niente.core").exception("reading /home/astrid/books failed")
    text = log.read_text()
    assert "Traceback" in text
    assert "test_log_files.py" in text
    assert "~/books" in text
    assert "astrid" not in text


def test_what_is_no_warning_is_not_kept(log: Path) -> None:
    logging.getLogger("niente.core").info("all is well")
    assert not log.exists()


def test_it_turns_over(log: Path) -> None:
    for _ in range(30):
        logging.getLogger("niente.core").warning("x" * (MAX_BYTES // 4))
    assert len(list(log.parent.glob("test.log*"))) == KEPT + 1
    assert sum(file.stat().st_size for file in log.parent.glob("test.log*")) < 6 * MAX_BYTES


def test_without_a_place_nothing_is_written(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "state").write_text("a file where the folder should be")
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    before = list(logging.getLogger("niente").handlers)
    start_log("test")
    assert logging.getLogger("niente").handlers == before
    logging.captureWarnings(False)
