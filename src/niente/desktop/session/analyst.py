"""What the readings come to, worked out away from the window's thread; answers that came too late are dropped."""

import traceback
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import msgspec
from PySide6.QtCore import QObject, Signal

from niente.core.analysis.evidence import Evidence, evidence_in
from niente.core.analysis.grid import SettingGrid
from niente.core.analysis.maps import MapRequest, SettingMap, make_map
from niente.core.analysis.models import Models, fit_models
from niente.core.model.errors import NienteError
from niente.core.model.project import Limits
from niente.core.model.setting import Setting
from niente.core.selection.methods import MethodStep, method_steps
from niente.core.selection.pick import Choice, choose


class Answer(msgspec.Struct, frozen=True):
    """What is known now. Where something cannot be answered, ``problem`` says why, in words. ``mapped`` is the map over the
    controls that a choice is made over."""

    evidence: Evidence | None = None
    models: Models | None = None
    mapped: SettingMap | None = None
    choice: Choice | None = None
    method_steps: tuple[MethodStep, ...] = ()
    problem: str = "Nothing has been measured yet. Start the plan, and the map fills as runs end."

    @property
    def field(self) -> SettingGrid | None:
        """The settings that the choice is made from."""
        return self.mapped.field if self.mapped is not None else None


class MapResult(msgspec.Struct, frozen=True):
    """What became of a map that was asked for: the map, or in words why there is none."""

    request: MapRequest
    models: Models
    mapped: SettingMap | None = None
    problem: str = ""


class Analyst(QObject):
    """Answers questions about a book in a thread of its own."""

    answered = Signal(object)
    mapped = Signal(object)
    broke = Signal(str)
    working = Signal(bool)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="niente-analyst")
        self._newest = 0
        self._maps = 0
        self._known: Evidence | None = None

    def request_answer(self, book: Path, limits: Limits) -> None:
        """Ask for a fresh answer; an older question still under way is then not answered any more."""
        self._newest += 1
        number = self._newest
        self._pool.submit(self._guarded, lambda: self._answer(number, book, limits))

    def request_map(self, models: Models, limits: Limits, request: MapRequest, chosen: Setting | None) -> None:
        """Ask for another map of the same models; an older one still under way is then not answered any more."""
        self._maps += 1
        number = self._maps
        self._pool.submit(self._guarded, lambda: self._make_map(number, models, limits, request, chosen))

    def _make_map(self, number: int, models: Models, limits: Limits, request: MapRequest, chosen: Setting | None) -> None:
        if number != self._maps:
            return
        self.working.emit(True)
        try:
            answer = MapResult(request, models, make_map(models, limits, request, chosen))
        except NienteError as error:
            answer = MapResult(request, models, problem=f"{error.happened} {error.remedy}")
        finally:
            self.working.emit(False)
        if number == self._maps:
            self.mapped.emit(answer)

    def drop(self) -> None:
        """Drop the answer that is being worked out; the next question gets one again."""
        self._newest += 1
        self._maps += 1

    def close(self) -> None:
        """Answer nothing any more."""
        self.drop()
        self._pool.shutdown(wait=True, cancel_futures=True)

    def _guarded(self, work: Callable[[], None]) -> None:
        try:
            work()
        except Exception:
            self.broke.emit(traceback.format_exc())

    def _answer(self, number: int, book: Path, limits: Limits) -> None:
        if number != self._newest:
            return
        self.working.emit(True)
        try:
            answer = work_out(book, limits, self._known)
        finally:
            self.working.emit(False)
        self._known = answer.evidence or self._known
        if number == self._newest:
            self.answered.emit(answer)


def work_out(book: Path, limits: Limits, known: Evidence | None = None) -> Answer:
    """Return the whole answer for a book and limits, as far as it goes."""
    evidence = models = mapped = choice = None
    ways: tuple[MethodStep, ...] = ()
    problem = ""
    try:
        evidence = evidence_in(book, known)
        if evidence is None:
            return Answer()
        models = fit_models(evidence)
        mapped = make_map(models, limits, MapRequest())
        ways = method_steps(models, limits)
        choice = choose(models, limits, mapped.field)
    except NienteError as error:
        problem = f"{error.happened} {error.remedy}"
    return Answer(evidence, models, mapped, choice, ways, problem)
