"""The Fans page: for a point that is kept, a curve a fan group, rehearsed over a day before a machine hears it."""

from collections.abc import Callable

import msgspec
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from niente.core.fans.told import DrawingStands, GroupFacts, PointFacts, RehearsedDay, WorstCases, first_curve
from niente.core.model.errors import NienteError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.quantities import NO_BREAK_SPACE, number_text
from niente.core.model.setting import Setting
from niente.core.science.dynamics import Scale
from niente.desktop.actions.registry import Actions
from niente.desktop.commands.curve_commands import PICK, CurveCommands
from niente.desktop.commands.plan_commands import PlanCommands
from niente.desktop.dialogs import prompts
from niente.desktop.dialogs.round_curves import ask_for_steps
from niente.desktop.pages.fans import margin
from niente.desktop.pages.fans.allowing import allow
from niente.desktop.pages.fans.curve_panel import CurvePanel
from niente.desktop.pages.fans.curve_picture import Shown
from niente.desktop.pages.fans.curve_view import CurveView
from niente.desktop.pages.fans.day_row import BEFORE, FOUND, DayRow
from niente.desktop.pages.fans.rehearsal_view import DayShown, RehearsalView
from niente.desktop.pages.page import Page
from niente.desktop.services.theme import Look
from niente.desktop.services.translation import tr
from niente.desktop.session.session import Session
from niente.desktop.widgets import form
from niente.desktop.widgets.blocks import Block
from niente.desktop.widgets.empty import Empty
from niente.desktop.widgets.labels import rule
from niente.desktop.widgets.views import NamedViews

NOW, BESIDE = "now", "beside"


class FansPage(Page):
    """A curve and its figures above, the day that was rehearsed with it below."""

    name = "Fans"

    def __init__(self, session: Session, actions: Actions, look: Look, plan_commands: PlanCommands) -> None:
        super().__init__(session, actions, look)
        self._plan = plan_commands
        self._commands = CurveCommands(session)
        self._point, self._group = PICK, ""
        self._key: tuple[object, ...] = ()
        """What the facts are of: another book, machine, setting or limits; and, last, the runs that tell them."""
        self._facts: PointFacts | None = None
        self._problem = ""
        self._before: dict[str, FanCurve] | None = None
        """The curves before the last change."""
        self._last: dict[str, FanCurve] = {}
        self._days: dict[str, RehearsedDay] = {}
        self._worst: WorstCases | None = None
        self._drawing: DrawingStands | None = None
        self.view, self.panel, self.rehearsal = CurveView(look), CurvePanel(look), RehearsalView(look)
        self.problem = Empty(actions, look, "Fans")
        self.point = form.choice(tr("The point whose curves these are"), [], self._choose_point)
        self.groups = NamedViews()
        self.groups.chosen.connect(self._choose_group)
        self.days = DayRow()
        self.days.changed.connect(self._rehearse)
        self.days.beside_changed.connect(self._rehearse_beside)
        self._found = QWidget()
        self._lay_out()
        self.view.dragged.connect(self._look_at)
        self.view.edited.connect(self._edit)
        self.view.chosen.connect(self._point_chosen)
        self.panel.edited.connect(self._edit)
        self.panel.chosen.connect(self.view.select)
        for widget in (self.view, self.rehearsal):
            self.offer(widget, "fans.draw", "fans.add_point", "fans.drop_point", "fans.to_others", "fans.take_off", "help.here")
        session.curves.pointed.connect(self._take_point)
        session.curves.rehearsed.connect(self._take_day)
        session.curves.told_worst.connect(self._take_worst)
        session.curves.drawing.connect(self._take_drawing)
        session.curves.broke.connect(self._ask_again)
        session.opened.connect(self._forget)
        self.follow(session.answered, session.project_changed, session.command_changed)

    def _lay_out(self) -> None:
        for widget in (self.point, self.groups):
            self.head.addWidget(widget, 0, Qt.AlignmentFlag.AlignBottom)
        upper = QHBoxLayout()
        upper.setSpacing(12)
        upper.addWidget(self.view, 1)
        upper.addWidget(self.panel)
        rows = QVBoxLayout(self._found)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(6)
        rows.addLayout(upper, 1)
        rows.addWidget(rule())
        rows.addWidget(self.days)
        rows.addWidget(self.rehearsal, 1)
        self.body.addWidget(self._found, 1)
        self.body.addWidget(self.problem, 1)

    # -- what stands -----------------------------------------------------------------------------------------------

    @property
    def setting(self) -> Setting | None:
        """The setting of the point, with its curves."""
        return self._commands.setting_of(self._point)

    @property
    def curves(self) -> dict[str, FanCurve]:
        """The curves of the point."""
        return self.setting.fan_curve if self.setting is not None else {}

    @property
    def group(self) -> GroupFacts | None:
        """The group whose curve shows."""
        groups = self._facts.groups if self._facts is not None else ()
        return next((one for one in groups if one.name == self._group), groups[0] if groups else None)

    @property
    def scale(self) -> Scale:
        """The room's dynamic scale."""
        models = self.session.answer.models
        return models.scale if models is not None else Scale()

    def _forget(self) -> None:
        self._point, self._group, self._key, self._facts, self._problem = PICK, "", (), None, ""
        self._before, self._last, self._days, self._worst, self._drawing = None, {}, {}, None, None

    def _ask_again(self) -> None:
        """Take the point up anew the next time that anything is told: another process knows none."""
        self._key, self._drawing = (*self._key[:-1], None) if self._key else (), None

    def refresh(self) -> None:
        """Show the point as it stands, and ask for what is not known of it."""
        names = [one.name for one in self._commands.points()]
        if self._point not in (PICK, *names):
            self._point = PICK
        if self._point == PICK and not self._key and names:
            self._point = names[0]
        items = [tr("the pick"), *names]
        if [self.point.itemText(at) for at in range(self.point.count())] != items:
            self.point.clear()
            self.point.addItems(items)
        self.point.setCurrentIndex([PICK, *names].index(self._point))
        self.days.show_runs(self._commands.runs_made(self.curves))
        self._ask()
        self._show()

    def _ask(self) -> None:
        """Take up the point where it is another than before; else rehearse its curves where those are others."""
        models, project, bench, setting = self.session.answer.models, self.session.project, self.session.bench, self.setting
        if models is None or project is None or bench is None or setting is None:
            self._key, self._facts = (), None
            return
        bare = msgspec.structs.replace(setting, fan_curve={})
        runs = [run.run_id for run in models.evidence.runs]
        key = (bench.path, models.card, bare.key(), project.limits, self._point, runs)
        same = key[:-1] == self._key[:-1]
        if self._is_drawing() and same:
            return  # runs that end meanwhile are taken in once curves are drawn
        if not same:
            self._facts, self._days, self._worst, self._problem = None, {}, None, ""
            self._before, self._last, self._drawing = None, dict(setting.fan_curve), None
        if key != self._key:  # where only runs have come, what is known stands until they are taken in
            self._key = key
            self.session.curves.request_point(bench.path, models, project.limits, bare)
        elif self._facts is not None and setting.fan_curve != self._last:
            self._before, self._last = self._last, dict(setting.fan_curve)
            self._rehearse()

    def _take_point(self, found: PointFacts | NienteError) -> None:
        if isinstance(found, NienteError):
            self._facts, self._problem = None, f"{found.happened} {found.remedy}"
        else:
            if self._facts is None:
                self.days.room.put(found.room_c)
            self._facts, self._last = found, dict(self.curves)
            self._rehearse()
        self.when_seen(self._show)

    def _rehearse(self) -> None:
        """Ask for the day under the curves as they are, and for those beside it."""
        if self._facts is None:
            return
        self._worst = None
        run, bench = self.days.run_id, self.session.bench
        if run is not None and bench is not None:
            self._days.pop(BESIDE, None)
            self.session.curves.request_run(NOW, bench.path, run)
            return
        self.session.curves.request_day(NOW, self.curves, self.days.day_name, self.days.room_c)
        self._rehearse_beside()
        self.session.curves.request_worst(self.curves, self.days.day_name, self.days.room_c)

    def _rehearse_beside(self) -> None:
        if self._facts is not None and self.days.run_id is None:
            self._days.pop(BESIDE, None)
            self.session.curves.request_day(BESIDE, self._beside(), self.days.day_name, self.days.room_c)

    def _beside(self) -> dict[str, FanCurve]:
        """Return the curves that these are compared with."""
        found = self._facts.found if self._facts is not None else {}
        return {BEFORE: self._before or {}, FOUND: found}.get(self.days.compared.currentIndex(), {})

    def _take_day(self, whose: str, found: RehearsedDay | NienteError) -> None:
        if isinstance(found, NienteError):
            self._days.pop(whose, None)
            self.session.report(found)
        elif whose != BESIDE or self.days.run_id is None:
            last = self._days.get(whose)
            if found.quick and last is not None:  # what a look leaves out stands until the point is let go
                found = msgspec.structs.replace(found, loops=last.loops, settles_c=last.settles_c)
            self._days[whose] = found
        self.when_seen(self._show)
        self.margin_changed.emit()

    def _take_worst(self, found: WorstCases) -> None:
        self._worst = found
        self.when_seen(self._show)
        self.margin_changed.emit()

    def _allow(self) -> None:
        """Let those actions be done that have something to act on."""
        bench, known, curves = self.session.bench, self._facts is not None, self.curves
        looks_on = bench is None or bench.follows or bench.lost
        on_curve, moved = known and self._group in curves, self.group is not None and self.group.moved
        of = {"curves": bool(curves), "on_curve": on_curve, "moved": moved, "drawing": self._is_drawing()}
        allow(self.actions_, known, looks_on, **of)

    # -- showing -----------------------------------------------------------------------------------------------------

    def _show(self) -> None:
        facts, group = self._facts, self.group
        self._allow()
        known = facts is not None and group is not None
        working = bool(self._key) and not self._problem
        self._found.setVisible(known)
        words = self._problem or (tr("Working out how fast the machine warms …") if working else self.session.why_nothing())
        self.problem.show_problem("" if known else words)
        self.groups.setVisible(known)
        self.point.setVisible(self.setting is not None)
        if facts is None or group is None:
            self.set_head(tr("A curve for each fan group"), tr("No curve yet"))
            return
        self._group = group.name
        self.groups.show_names([(one.name, one.name.capitalize()) for one in facts.groups], group.name)
        self.set_head(*margin.head(facts, group, self.curves.get(group.name), self._point or tr("the pick")))
        curve = self.curves.get(group.name)
        day, beside = self._days.get(NOW), self._days.get(BESIDE)
        compared = self._beside().get(group.name)
        now_c = self._commands.reads_now(curve)
        settles = day.settles_c.get(group.name) if day is not None else None
        name = self.days.compared_name
        self.days.offer(before=self._before is not None, found=bool(facts.found))
        self.view.show_curve(
            curve, Shown(group, self.scale, compared if compared != curve else None, settles, facts.full_w, now_c)
        )
        self.panel.show_curve(curve, facts, group, self.scale)
        self.panel.select(self.view.selected)
        worst = self._worst.cases if self._worst is not None else ()
        self.rehearsal.show_day(DayShown(facts, day, beside, name, worst, self.scale) if day is not None else None)
        self._show_stands()

    def _show_stands(self) -> None:
        words = "" if NOW in self._days else tr("Rehearsing …")
        if self._drawing is not None and self._is_drawing():
            tried, of = self._drawing.tried, self._drawing.of or "…"
            words = tr("Drawing: {n} of {m} sets of curves tried").format(n=tried, m=of)
        self.days.stands.setText(words)

    # -- what a person does --------------------------------------------------------------------------------------------

    def _choose_point(self, index: int) -> None:
        self._point = [PICK, *(one.name for one in self._commands.points())][index]
        self.stop_drawing()
        self.refresh()
        self.margin_changed.emit()

    def _choose_group(self, name: str) -> None:
        self._group = name
        self._show()
        self.margin_changed.emit()

    def _point_chosen(self, index: int) -> None:
        self.panel.select(index)
        self.margin_changed.emit()

    def _look_at(self, curve: FanCurve) -> None:
        """Rehearse a curve that is being dragged, in coarse steps."""
        curves = {**self.curves, self._group: curve}
        quick = curves != self.curves
        self.session.curves.request_day(NOW, curves, self.days.day_name, self.days.room_c, quick=quick)

    def _edit(self, curve: FanCurve, words: str) -> None:
        self._put(tr("{group} curve: {what}").format(group=self._group, what=words), {self._group: curve})

    def _put(self, words: str, curves: dict[str, FanCurve | None]) -> None:
        """Put curves into the point; of the pick a point is kept first, and shown from now on."""
        self._renamed(self._commands.put_curves(self._point, words, curves))

    def _renamed(self, name: str) -> None:
        """Show the point that an edit went into, and what came of it."""
        if name != self._point:
            self._point = name
            self._key = (*self._key[:-2], name, self._key[-1]) if self._key else ()
        self.refresh()
        self.margin_changed.emit()

    def _is_drawing(self) -> bool:
        return self._drawing is not None and not self._drawing.over

    def draw(self) -> None:
        """Begin to draw curves for the day that is rehearsed."""
        if self._facts is not None:
            self._drawing = DrawingStands(0, 0, {}, over=False)
            curve = self.curves.get(self._group)
            self._show()
            self.session.curves.request_drawing((self.days.day_name,), curve.source if curve is not None else "")

    def stop_drawing(self) -> None:
        """Draw no further; nothing is changed."""
        if self._is_drawing():
            self.session.curves.cancel_drawing()
        self._drawing = None
        self._allow()
        self._show_stands()
        self.margin_changed.emit()

    def _take_drawing(self, found: DrawingStands | NienteError) -> None:
        if isinstance(found, NienteError):
            self._drawing = None
            self.session.report(found)
        else:
            self._drawing = found
            if found.over:
                self._put(tr("curves drawn"), dict(found.curves))
        self._allow()
        self.when_seen(self._show_stands)
        self.margin_changed.emit()

    def give_curve(self) -> None:
        """Put the group on a first curve."""
        if self._facts is not None and self.group is not None:
            self._put(tr("{group} on a curve").format(group=self._group), {self._group: first_curve(self._facts, self.group)})

    def take_off(self) -> None:
        """Take the group off its curve, to the fixed duty of its point."""
        if self._group in self.curves:
            self._put(tr("{group} off its curve").format(group=self._group), {self._group: None})

    def copy_to_others(self) -> None:
        """Put the other groups on this one's curve, not under the duty at which each turns."""
        curve = self.curves.get(self._group)
        if curve is None or self._facts is None:
            return
        others = {one.name: one.fitted(curve) for one in self._facts.groups if one.moved and one.name != self._group}
        self._put(tr("{group} curve for all groups").format(group=self._group), dict(others))

    def run_here(self) -> None:
        """Plan a run of the point on its curves, next: it shows how true the rehearsal is."""
        models, setting = self.session.answer.models, self.setting
        if models is not None and setting is not None:
            why = tr("On the curves of {point}").format(point=self._point or tr("the pick"))
            self._plan.run_next(setting, models.heavy_load, why)

    def round_curves(self) -> None:
        """Round the curves to the steps of a board; the ones before then stand beside the rehearsal."""
        steps = ask_for_steps(self)
        if steps is not None:
            self.days.compared.setCurrentIndex(BEFORE)
            self._renamed(self._commands.round_all(self._point, *steps))

    def export(self) -> None:
        """Write the curves to a file."""
        file = prompts.where_to_save_curves(self, self._point or tr("curves"))
        if file is not None and self._facts is not None:
            self._commands.write(self._point, self._facts.groups, file)

    def handlers(self) -> dict[str, Callable[[], None]]:
        """Return what the page does for actions."""
        return {
            "fans.draw": self.draw,
            "fans.stop_drawing": self.stop_drawing,
            "fans.give": self.give_curve,
            "fans.take_off": self.take_off,
            "fans.to_others": self.copy_to_others,
            "fans.run_here": self.run_here,
            "fans.round": self.round_curves,
            "fans.export": self.export,
            "fans.add_point": lambda: self.view.add_point(self.view.after_selected()),
            "fans.drop_point": self.view.take_point_away,
        }

    def editors(self) -> tuple[QWidget, ...]:
        """Return what changes a point's curves."""
        return (self.panel, self.view)

    # -- words ---------------------------------------------------------------------------------------------------------

    def live_line(self) -> str:
        """Say how often a day's curves are heard, where they were rehearsed."""
        day = self._days.get(NOW)
        if day is None or not day.curves:
            kept = sum(bool(one.setting.fan_curve) for one in self._commands.points())
            return tr("{n} points on curves").format(n=kept) if kept else tr("no curve yet")
        mean = f"{number_text(day.figures.mean_dba, 1)}{NO_BREAK_SPACE}dBA"
        return tr("{n} heard a day, {dba}").format(n=day.figures.ramps, dba=mean)

    def finished(self) -> bool:
        """Return whether the point has curves that were rehearsed as they are."""
        day = self._days.get(NOW)
        return day is not None and bool(day.curves) and day.curves == self.curves

    def margin(self) -> list[Block]:
        """Return the selected point, the day in figures, and what is not known."""
        facts, group = self._facts, self.group
        if facts is None or group is None:
            return []
        days = [(tr("now"), self._days[NOW])] if NOW in self._days else []
        days += [(tr("beside"), self._days[BESIDE])] if BESIDE in self._days and days else []
        worst = self._worst.cases if self._worst is not None else ()
        curve = self.view.curve if group.name == self._group else self.curves.get(group.name)
        point = curve, self.view.selected
        return margin.blocks(group, point, self.scale, facts, days, worst, drawing=self._is_drawing())
