"""What the readings come to, worked out away from the window's thread; answers that came too late are dropped."""

import datetime
import traceback
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import msgspec
from PySide6.QtCore import QObject, Signal

from niente import __version__
from niente.core.analysis.maps import MapRequest, SettingMap
from niente.core.analysis.models import Models
from niente.core.answers.answering import Answering
from niente.core.answers.beside_choice import BesideChoice
from niente.core.answers.card_check import check_in
from niente.core.exchange.card_files import card_file
from niente.core.model.answer_document import AnswerDocument
from niente.core.model.errors import NienteError
from niente.core.model.hand_over_card import HandOverCard
from niente.core.model.limits import Limits
from niente.core.model.project import Project
from niente.core.model.rig_sheet import RigSheet
from niente.core.model.setting import Setting
from niente.core.selection.answer import Analysis, Answer, chosen_anew
from niente.core.selection.worker import Worker
from niente.desktop.services.files import write
from niente.desktop.services.translation import tr

CARD_ENDINGS = {".pdf": "pdf", ".html": "html", ".json": "json", ".txt": "text", ".sh": "script"}


class MapResult(msgspec.Struct, frozen=True):
    """What became of a map that was asked for: the map, or in words why there is none."""

    request: MapRequest
    models: Models
    mapped: SettingMap | None = None
    problem: str = ""


class Analyst(QObject):
    """Answers questions about a book in a thread of its own; ``worker`` does the work, best in a process: a fit that holds
    the interpreter then keeps nobody from painting."""

    answered = Signal(object)
    mapped = Signal(object)
    proved = Signal(object)
    documented = Signal()
    found_beside = Signal()
    """Circumstances, the setting that holds in all of them, and kept points are known anew."""
    card_written = Signal(object)
    """The file that a hand-over card was written to, or the error that kept it from being."""
    card_checked = Signal(object, object)
    """A hand-over card, and what its check found (``CheckedCard``) or why it is not known (``NienteError``)."""
    broke = Signal(str)
    working = Signal(bool)
    _documents_came = Signal(int, object)
    _beside_came = Signal(int, object)
    """Carry what was found into the window's thread: only there it takes the place of what was known before."""

    def __init__(self, worker: Worker[Answering], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._worker = worker
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="niente-analyst")
        self._newest = 0
        self._oldest = 0
        """Answers to requests before this one are about something else by now, or are not wanted any more."""
        self._about: tuple[Path, Limits, RigSheet | None] | None = None
        self._latest: tuple[Path, Answer] | None = None
        """What was answered last, and of which book: other limits are looked up in it while the whole is worked out."""
        self._maps = 0
        self._proofs = 0
        self._besides = 0
        self._closed = False
        self.documents: tuple[AnswerDocument, ...] = ()
        self.beside: BesideChoice | None = None
        self._documents_came.connect(self._take_documents)
        self._beside_came.connect(self._take_beside)

    def request_answer(self, book: Path, project: Project) -> None:
        """Ask for a fresh answer. One that is being worked out still comes where only the book has grown: it is newer than what
        is shown, and runs may end faster than answers are found. Where limits or machine are others it comes no more."""
        self._newest += 1
        number = self._newest
        if (about := (book, project.limits, project.sheet)) != self._about:
            if self._about is None or self._about[0] != book:  # nothing of another book stands beside this one's choice
                self.beside, self._latest = None, None
            self._about, self._oldest = about, number
        self._pool.submit(self._guarded, lambda: self._answer(number, book, project))
        before = self._latest[1].choice if self._latest is not None and self._latest[0] == book else None
        if self._latest is not None and before is not None and before.limits != project.limits:
            at_once = chosen_anew(self._latest[1], project.limits)
            if at_once is not None:
                self._latest = (book, at_once)
                self.answered.emit(at_once)

    def request_documents(self, book: Path, project: Project) -> None:
        """Ask for the answers to a book's questions anew, where only the question is another."""
        number = self._newest
        self._pool.submit(self._guarded, lambda: self._documents(number, book, project))

    def request_map(self, models: Models, limits: Limits, request: MapRequest, chosen: Setting | None) -> None:
        """Ask for another map of the same models; an older one still under way is then not answered any more."""
        self._maps += 1
        number = self._maps
        self._pool.submit(self._guarded, lambda: self._make_map(number, models, limits, request, chosen))

    def request_proof(self, answer: Answer, limits: Limits, setting: Setting) -> None:
        """Ask how surely a setting lasts; an older one still under way is then not answered any more."""
        self._proofs += 1
        number = self._proofs
        known = Answer(evidence=answer.evidence, models=answer.models, problem=answer.problem)
        self._pool.submit(self._guarded, lambda: self._prove(number, known, limits, setting))

    def request_card(self, book: Path, project: Project, file: Path, point: str = "") -> None:
        """Ask for the hand-over card of a book's pick, or of a kept point, in a file, by whose ending its format goes."""
        self._pool.submit(self._guarded, lambda: self._write_card(book, project, file, point))

    def request_check(self, book: Path, limits: Limits, card: HandOverCard) -> None:
        """Ask what the check of a hand-over card found in a book."""

        def check() -> None:
            self.card_checked.emit(card, self._told(lambda: self._worker.call(check_in, book, limits, card)))

        self._pool.submit(self._guarded, check)

    def request_beside(self, book: Path, project: Project) -> None:
        """Ask anew for what stands beside the choice, where only points or circumstances are others."""
        number = self._newest
        self._pool.submit(self._guarded, lambda: self._begin_beside(number, book, project))

    def _write_card(self, book: Path, project: Project, file: Path, point: str) -> None:
        made_at = datetime.datetime.now(datetime.UTC).replace(microsecond=0).isoformat()
        of = CARD_ENDINGS.get(file.suffix.lower(), "pdf")

        def written() -> Path:
            made = self._worker.call(card_file, book, project, (made_at, __version__), of, point)
            write(file, made, tr("The book is unchanged."))
            return file

        self.card_written.emit(self._told(written))

    def _told(self, work: Callable[[], object]) -> object:
        """Return what a piece of work comes to, or the error that it ended with, and say meanwhile that work is done."""
        self.working.emit(True)
        try:
            return work()
        except NienteError as error:
            return error
        finally:
            self.working.emit(False)

    def _prove(self, number: int, answer: Answer, limits: Limits, setting: Setting) -> None:
        if number == self._proofs:
            proof = self._worker.call(Analysis.proof, answer, limits, setting)
            if number == self._proofs:
                self.proved.emit(proof)

    def _make_map(self, number: int, models: Models, limits: Limits, request: MapRequest, chosen: Setting | None) -> None:
        if number != self._maps:
            return
        self.working.emit(True)
        try:
            answer = MapResult(request, models, self._worker.call(Analysis.map, models, limits, request, chosen))
        except NienteError as error:
            answer = MapResult(request, models, problem=f"{error.happened} {error.remedy}")
        finally:
            self.working.emit(False)
        if number == self._maps:
            self.mapped.emit(answer)

    def drop(self) -> None:
        """Drop the answer that is being worked out; the next question gets one again."""
        self._newest += 1
        self._oldest = self._newest
        self._latest = None
        self._maps += 1
        self._proofs += 1

    def close(self) -> None:
        """Answer nothing any more."""
        self._closed = True
        self.drop()
        self._worker.close()
        self._pool.shutdown(wait=True, cancel_futures=True)

    def _guarded(self, work: Callable[[], None]) -> None:
        try:
            work()
        except Exception:
            if not self._closed:  # its process was ended
                self.broke.emit(traceback.format_exc())

    def _answer(self, number: int, book: Path, project: Project) -> None:
        if number != self._newest:
            return
        self.working.emit(True)
        try:
            answer = self._worker.call(Analysis.answer, book, project.limits)
        finally:
            self.working.emit(False)
        if number >= self._oldest:
            self._latest = (book, answer)
            self.answered.emit(answer)
            self._documents(number, book, project)

    def _documents(self, number: int, book: Path, project: Project) -> None:
        if number >= self._oldest:
            documents = self._worker.call(Answering.answers, book, project)
            if number >= self._oldest:
                self._documents_came.emit(number, documents)
                self._begin_beside(number, book, project)

    def _take_documents(self, number: int, documents: tuple[AnswerDocument, ...]) -> None:
        if number >= self._oldest:
            self.documents = documents
            self.documented.emit()

    def _begin_beside(self, number: int, book: Path, project: Project) -> None:
        """Find what stands beside the choice, from its first part; what was being found before is left."""
        self._besides += 1
        self._find_beside((number, self._besides), book, project, None)

    def _find_beside(self, of: tuple[int, int], book: Path, project: Project, so_far: BesideChoice | None) -> None:
        """Find the next part of what stands beside the choice; whatever a person asks for meanwhile comes before the rest."""
        number, chain = of
        if number < self._oldest or number != self._newest or chain != self._besides or self._closed:
            return
        beside = self._worker.call(Answering.beside, book, project, so_far)
        self._beside_came.emit(number, beside)
        if not beside.whole and not self._closed:
            self._pool.submit(self._guarded, lambda: self._find_beside(of, book, project, beside))

    def _take_beside(self, number: int, beside: BesideChoice) -> None:
        if number >= self._oldest:
            self.beside = beside
            self.found_beside.emit()
