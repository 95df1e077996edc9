"""The curves of one point, as a person works on them; the compiler is only loaded where that is done."""

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from niente.core.analysis.models import Models
from niente.core.fans.day import DayOfLoad, standard_day
from niente.core.fans.told import DrawingStands, PointFacts, RehearsedDay, WorstCase, WorstCases
from niente.core.model.errors import NotEnoughError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.limits import Limits
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting

if TYPE_CHECKING:
    from niente.core.analysis.sensor_shares import SensorShare
    from niente.core.fans.drawing import CurveSearch
    from niente.core.fans.machine import MachineAtPoint
    from niente.core.science.heat.response import HeatResponse


class PointCurves:
    """Works on the curves of one point at a time; what takes long to work out is kept from one question to the next."""

    def __init__(self) -> None:
        self._response: tuple[tuple[Path, RigCard, list[int]], HeatResponse, dict[str, SensorShare]] | None = None
        self._taken: tuple[MachineAtPoint, PointFacts, RigCard] | None = None
        self._search: CurveSearch | None = None
        self._days: dict[str, DayOfLoad] = {}

    def point(self, book: Path, models: Models, limits: Limits, setting: Setting) -> PointFacts:
        """Take up a point, and return what is known of it. Raises ``NotEnoughError`` where the runs do not tell how the machine
        warms, sounds or turns."""
        from niente.core.fans.curve_trials import responses
        from niente.core.fans.machine import machine_at
        from niente.core.fans.point_work import facts_of

        key = (book, models.card, [run.run_id for run in models.evidence.runs])
        if self._response is None or self._response[0] != key:
            self._response = (key, *responses(book, models))
        _, response, shares = self._response
        machine = machine_at(models, response, setting, models.room_c, shares)
        facts = facts_of(models, machine, limits, setting, response, shares)
        self._taken, self._search = (machine, facts, models.card), None
        return facts

    def day(self, curves: Mapping[str, FanCurve], day: str, room_c: float, *, quick: bool = False) -> RehearsedDay:
        """Rehearse a standard day under curves; ``quick`` in coarse steps. Raises ``PlanError`` for a curve that cannot be
        followed."""
        from niente.core.fans.point_work import rehearsed_day

        machine, facts, _ = self._point()
        return rehearsed_day(machine, facts, curves, self._day(day), room_c, quick=quick)

    def run(self, book: Path, run_id: int) -> RehearsedDay:
        """Rehearse a run that was made on curves, with what it drew, and hold it against what it read. Raises
        ``NotEnoughError`` for one that is too short."""
        from niente.core.fans.lived_runs import lived_run

        machine, _, card = self._point()
        return lived_run(book, card, machine, run_id)

    def worst(self, curves: Mapping[str, FanCurve], day: str, room_c: float, so_far: tuple[WorstCase, ...] = ()) -> WorstCases:
        """Return what a day comes to with something gone wrong: one case more than ``so_far``."""
        from niente.core.fans.point_work import one_mishap_more

        machine, facts, card = self._point()
        return one_mishap_more(card, machine, curves, self._day(day), (room_c, facts.design_c), so_far)

    def begin_drawing(self, days: tuple[str, ...], source: str = "") -> DrawingStands:
        """Begin to look for the quietest curves for some days, over a source, or over what the machine usually follows where no
        run tells what that reads. Raises ``NotEnoughError`` where the point keeps no headroom."""
        from niente.core.fans.curve_trials import drawn_groups, usual_source
        from niente.core.fans.drawing import CurveSearch

        machine, facts, card = self._point()
        known = machine.knows(FanCurve(source, ()))
        self._search = CurveSearch(
            machine, drawn_groups(card, machine), [self._day(day) for day in days], (facts.room_c, facts.design_c),
            facts.headroom_k, source if known else usual_source(card),
        )  # fmt: skip
        return self._search.stands

    def draw_on(self) -> DrawingStands:
        """Try the next curves of the drawing that was begun, and return how it stands."""
        assert self._search is not None, "begin_drawing comes first"
        return self._search.go_on()

    def _point(self) -> "tuple[MachineAtPoint, PointFacts, RigCard]":
        if self._taken is None:
            raise NotEnoughError("No point was taken up yet.", remedy="Choose one.")
        return self._taken

    def _day(self, name: str) -> DayOfLoad:
        return self._days.setdefault(name, standard_day(name))
