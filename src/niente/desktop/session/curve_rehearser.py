"""Fan curves rehearsed and drawn away from the window's thread; what came too late is dropped."""

import traceback
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from niente.core.analysis.models import Models
from niente.core.fans.point_curves import PointCurves
from niente.core.fans.told import DrawingStands, WorstCase, WorstCases
from niente.core.model.errors import NienteError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.limits import Limits
from niente.core.model.setting import Setting
from niente.core.selection.worker import Worker


class CurveRehearser(QObject):
    """Rehearses the curves of one point; ``worker`` does the work, best in a process of its own.

    All signals come in the window's thread, and only what is about the newest request of its kind.
    """

    pointed = Signal(object)
    """A point's facts (``PointFacts``), or why there are none (``NienteError``)."""
    rehearsed = Signal(str, object)
    """Whose day it is, and the day (``RehearsedDay``) or why there is none (``NienteError``)."""
    told_worst = Signal(object)
    """What goes wrong on the day, as far as it is known (``WorstCases``)."""
    drawing = Signal(object)
    """How a drawing stands (``DrawingStands``), or why it ended (``NienteError``)."""
    broke = Signal(str)
    working = Signal(bool)
    _came = Signal(str, int, object)

    def __init__(self, worker: Worker[PointCurves], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._worker = worker
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="niente-curves")
        self._newest: dict[str, int] = {}
        self._closed = False
        self._came.connect(self._hand_out)

    def request_point(self, book: Path, models: Models, limits: Limits, setting: Setting) -> None:
        """Take up a point: ``pointed`` comes, and days are of this point from now on."""
        for kind in list(self._newest):
            self._newest[kind] += 1  # what is under way is of another point
        self._submit("point", lambda: self._worker.call(PointCurves.point, book, models, limits, setting))

    def request_day(self, whose: str, curves: Mapping[str, FanCurve], day: str, room_c: float, *, quick: bool = False) -> None:
        """Rehearse a day; an older request under the same name is dropped where it has not begun."""
        given = dict(curves)
        self._submit(f"day {whose}", lambda: self._worker.call(PointCurves.day, given, day, room_c, quick=quick))

    def request_run(self, whose: str, book: Path, run_id: int) -> None:
        """Rehearse a run that was made on curves, beside what it read."""
        self._submit(f"day {whose}", lambda: self._worker.call(PointCurves.run, book, run_id))

    def request_worst(
        self, curves: Mapping[str, FanCurve], day: str, room_c: float, so_far: tuple[WorstCase, ...] = ()
    ) -> None:
        """Ask what a day comes to with something gone wrong; ``told_worst`` comes case by case, and whatever a person asks for
        meanwhile comes before the rest."""
        given = dict(curves)
        self._submit("worst", lambda: self._worst(given, day, room_c, so_far))

    def _worst(
        self, curves: dict[str, FanCurve], day: str, room_c: float, so_far: tuple[WorstCase, ...]
    ) -> tuple[WorstCases, str, float]:
        return self._worker.call(PointCurves.worst, curves, day, room_c, so_far), day, room_c

    def request_drawing(self, days: tuple[str, ...], source: str = "") -> None:
        """Begin to draw curves; ``drawing`` comes as it goes on, until it is over or cancelled."""
        self._submit("drawing", lambda: self._worker.call(PointCurves.begin_drawing, days, source))

    def cancel_drawing(self) -> None:
        """Draw no further."""
        self._newest["drawing"] = self._newest.get("drawing", 0) + 1

    def close(self) -> None:
        """Answer nothing any more."""
        self._closed = True
        self._worker.close()
        self._pool.shutdown(wait=True, cancel_futures=True)

    def _submit(self, kind: str, work: Callable[[], object]) -> None:
        number = self._newest[kind] = self._newest.get(kind, 0) + 1
        self._pool.submit(self._do, kind, number, work)

    def _do(self, kind: str, number: int, work: Callable[[], object]) -> None:
        if number != self._newest.get(kind) or self._closed:
            return
        self.working.emit(True)
        try:
            found: object = work()
        except NienteError as error:
            found = error
        except Exception:
            if not self._closed:  # its process was ended
                self.broke.emit(traceback.format_exc())
            return
        finally:
            self.working.emit(False)
        self._came.emit(kind, number, found)

    def _hand_out(self, kind: str, number: int, found: object) -> None:
        if number != self._newest.get(kind) or self._closed:
            return
        if kind == "point":
            self.pointed.emit(found)
        elif kind == "worst":
            self._take_worst(found)
        elif kind == "drawing":
            self.drawing.emit(found)
            if isinstance(found, DrawingStands) and not found.over and number == self._newest[kind]:
                self._pool.submit(self._do, kind, number, lambda: self._worker.call(PointCurves.draw_on))
        else:
            self.rehearsed.emit(kind.removeprefix("day "), found)

    def _take_worst(self, found: object) -> None:
        """Tell a case more, and go on to the next."""
        if isinstance(found, NienteError):
            return  # the day itself says why
        assert isinstance(found, tuple)
        worst, day, room_c = found
        self.told_worst.emit(worst)
        if not worst.over:
            self.request_worst(worst.curves, day, room_c, worst.cases)
