"""What a person does to the fan curves of a point; each is an edit that can be undone."""

import math
from pathlib import Path

import msgspec

from niente.core.exchange.curve_files import CurveFile, curves_csv, curves_json
from niente.core.fans.told import GroupFacts
from niente.core.model.curve_edits import rounded_curve
from niente.core.model.errors import DocumentError, NienteError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.kept_point import KeptPoint, kept_now, name_problem, with_point
from niente.core.model.rig_card import LoadKind
from niente.core.model.setting import Setting
from niente.desktop.commands.choice_commands import ChoiceCommands
from niente.desktop.services.files import write
from niente.desktop.services.translation import tr
from niente.desktop.session.notices import Notice
from niente.desktop.session.session import Session

PICK = ""
"""What stands for the pick where a point is named."""


class CurveCommands:
    """The commands of one window."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def setting_of(self, point: str) -> Setting | None:
        """Return the setting of a kept point of the machine as it is, or of the pick."""
        choice = self._session.answer.choice
        if point == PICK:
            return choice.pick.setting if choice is not None else None
        return next((one.setting for one in self.points() if one.name == point), None)

    def points(self) -> tuple[KeptPoint, ...]:
        """Return the points that are kept for the machine as it is."""
        project, card = self._session.project, self._session.card
        if project is None or card is None:
            return ()
        return tuple(one for one in project.points if one.variant in ("", card.variant))

    def runs_made(self, curves: dict[str, FanCurve]) -> list[tuple[int, str]]:
        """Return the runs of the book that were made on curves, by number and in words."""
        models = self._session.answer.models
        runs = models.evidence.runs if models is not None and curves else ()
        words = tr("run {n}, {load}, {min} min")
        return [
            (run.run_id, words.format(n=run.run_id, load=run.load, min=f"{run.seconds / 60:.0f}"))
            for run in runs
            if run.setting.fan_curve == curves and run.load_kind != LoadKind.IDLE
        ]

    def reads_now(self, curve: FanCurve | None) -> float:
        """Return what a curve's first sensor reads now in °C, the hottest of several; NaN where nothing is known."""
        card, frame = self._session.card, self._session.frame
        if curve is None or card is None or frame is None:
            return math.nan
        values = [float(frame.values[at]) for at in card.indices(curve.source) if at < frame.values.shape[0]]
        return max((value for value in values if math.isfinite(value)), default=math.nan)

    def put_curves(self, point: str, words: str, curves: dict[str, FanCurve | None]) -> str:
        """Put groups of a point on curves, or take them off (none), and return the point's name: the pick is kept under a free
        one first. A curve that cannot be is refused, and nothing changed."""
        project, card, setting = self._session.project, self._session.card, self.setting_of(point)
        if project is None or card is None or setting is None:
            return point
        for group, curve in curves.items():
            if curve is not None and (problems := [*curve.problems(), *curve.dangers()]):
                happened = tr("The curve of the {group} fans cannot be: {why}.").format(group=group, why="; ".join(problems))
                self._session.report(DocumentError(happened, safe=tr("Nothing was changed."), remedy=tr("Move a point.")))
                return point
        name, kept = self._kept(point)
        if problem := name_problem(name, project.points):
            remedy = tr("Let a point go on the Answer page.")
            self._session.report(DocumentError(problem, safe=tr("Nothing was changed."), remedy=remedy))
            return point
        changed = {**setting.fan_curve, **curves}
        left = {group: curve for group, curve in changed.items() if curve is not None}
        made = msgspec.structs.replace(kept, setting=msgspec.structs.replace(setting, fan_curve=left))
        self._session.edit(words, msgspec.structs.replace(project, points=with_point(project.points, made)))
        return name

    def round_all(self, point: str, step_c: float, step_percent: float) -> str:
        """Round the curves of a point to the steps of a board, and return the point's name."""
        setting = self.setting_of(point)
        curves = setting.fan_curve if setting is not None else {}
        rounded = {group: rounded_curve(curve, step_c, step_percent) for group, curve in curves.items()}
        return self.put_curves(point, tr("curves rounded"), dict(rounded))

    def write(self, point: str, groups: tuple[GroupFacts, ...], file: Path) -> None:
        """Write the curves of a point, as JSON or as a table by the file's ending."""
        setting, card = self.setting_of(point), self._session.card
        if setting is None or card is None:
            return
        data = curves_csv(groups, setting.fan_curve)
        if file.suffix.lower() == ".json":
            kept = CurveFile(machine=card.title, variant=card.variant, point=point, curves=setting.fan_curve)
            data = curves_json(kept)
        try:
            write(file, data, tr("The book is unchanged."))
        except NienteError as error:
            self._session.report(error)
            return
        self._session.notice.emit(Notice(tr("Written: {file}").format(file=file.name)))

    def _kept(self, point: str) -> tuple[str, KeptPoint]:
        """Return a point as it is kept, and of the pick as it is to be."""
        project, card, setting = self._session.project, self._session.card, self.setting_of(point)
        assert project is not None
        assert card is not None
        assert setting is not None
        found = next((one for one in project.points if one.name == point), None)
        if found is not None:
            return point, found
        name = ChoiceCommands(self._session).free_name() or tr("Curves")
        return name, kept_now(name, setting, project.limits, card.variant)
