"""The ``qtbot`` of the tests that drive a window: as patient as every other wait."""

from collections.abc import Callable
from typing import Any

import pytest
from pytestqt.qtbot import QtBot

from tests.waiting import PATIENCE_S

PATIENCE_MS = round(1000 * PATIENCE_S)


class PatientBot(QtBot):
    """Waits until it comes, or as long as every other wait."""

    def waitUntil(self, callback: Callable[[], Any], *, timeout: int = PATIENCE_MS) -> None:
        super().waitUntil(callback, timeout=timeout)

    def waitSignal(self, signal: Any, *, timeout: int = PATIENCE_MS, **more: Any) -> Any:
        return super().waitSignal(signal, timeout=timeout, **more)


@pytest.fixture
def qtbot(qapp: object, request: pytest.FixtureRequest) -> PatientBot:
    """The window's user, who has patience."""
    return PatientBot(request)
