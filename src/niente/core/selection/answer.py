"""What the readings of a book come to: evidence, models, the default map, the choice, and the ways of limiting."""

import time
from pathlib import Path

import msgspec

from niente.core.analysis.evidence import Evidence, evidence_in
from niente.core.analysis.grid import SettingGrid
from niente.core.analysis.judged import JudgedSettings
from niente.core.analysis.maps import MapRequest, SettingMap, make_map
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.residuals import Residual, residuals_of
from niente.core.model.errors import NienteError, NotEnoughError
from niente.core.model.limits import Limits
from niente.core.model.rig_card import LoadKind
from niente.core.model.setting import Setting
from niente.core.selection.methods import MethodStep, method_steps
from niente.core.selection.pick import Choice, choose
from niente.core.selection.proof import Proof, proof_of
from niente.core.selection.reach import reachable


class Answer(msgspec.Struct, frozen=True):
    """What is known now. Where something cannot be answered, ``problem`` says why, in words. ``mapped`` is the map over power
    limit and leading fans, ``reached`` the settings that the choice is made from, ``proof`` how surely the pick lasts; without
    a pick, what ran longest; ``residuals`` what runs read against what the models say of them."""

    evidence: Evidence | None = None
    models: Models | None = None
    mapped: SettingMap | None = None
    reached: JudgedSettings | None = None
    choice: Choice | None = None
    method_steps: tuple[MethodStep, ...] = ()
    proof: Proof | None = None
    residuals: tuple[Residual, ...] = ()
    problem: str = "Nothing has been measured yet. Start the plan, and the map fills as runs end."

    @property
    def field(self) -> SettingGrid | None:
        """The settings of the map."""
        return self.mapped.field if self.mapped is not None else None


def work_out(book: Path, limits: Limits, known: Evidence | None = None) -> Answer:
    """Return the whole answer for a book and limits, as far as it goes."""
    evidence = models = mapped = reached = choice = None
    ways: tuple[MethodStep, ...] = ()
    residuals: tuple[Residual, ...] = ()
    problem = ""
    try:
        evidence = evidence_in(book, known)
        if evidence is None:
            return Answer()
        models = fit_models(evidence)
        residuals = residuals_of(models)
        mapped = make_map(models, limits, MapRequest())
        ways = method_steps(models, limits)
        reached = reachable(models, limits)
        choice = choose(models, limits, reached)
    except NienteError as error:
        problem = f"{error.happened} {error.remedy}"
    proof = _proof(evidence, models, limits, choice) if evidence is not None else None
    return Answer(evidence, models, mapped, reached, choice, ways, proof, residuals, problem)


def chosen_anew(answer: Answer, limits: Limits) -> Answer | None:
    """Return an answer with the pick for other limits among the settings that it knows, at once; ``None`` where these have to
    be judged anew for that, or none of them keeps the limits: a search may still find one."""
    models, reached, before = answer.models, answer.reached, answer.choice
    if models is None or reached is None or before is None or not _judged_alike(reached, before.limits, limits):
        return None
    try:
        choice = choose(models, limits, reached)
    except NotEnoughError:
        return None
    return msgspec.structs.replace(answer, choice=choice, problem="")


def _judged_alike(reached: JudgedSettings, before: Limits, after: Limits) -> bool:
    """Return whether settings that were judged for some limits are known as well for others."""
    same = before.design_room_c == after.design_room_c and before.noise_at == after.noise_at and before.failure == after.failure
    known = after.ceilings.keys() <= reached.figures.ceilings.keys()
    return same and known and after.each_load.keys() <= reached.figures.each_load.keys()


def choice_in(evidence: Evidence, limits: Limits) -> Answer:
    """Return the choice of evidence with its models and the settings it is made from, and nothing else. Raises
    ``NotEnoughError`` where there is no pick."""
    models = fit_models(evidence)
    reached = reachable(models, limits)
    return Answer(evidence, models, reached=reached, choice=choose(models, limits, reached), problem="")


def _proof(evidence: Evidence, models: Models | None, limits: Limits, choice: Choice | None) -> Proof | None:
    """Return how surely the pick lasts; while there is none, the setting that ran longest without a failure."""
    if choice is not None:
        return proof_of(evidence, limits, choice.pick.setting, models, time.time())
    clean = [run for run in evidence.usable() if run.load_kind != LoadKind.IDLE and not run.failures]
    if not clean:
        return None
    setting = max(clean, key=lambda run: run.seconds).setting
    return proof_of(evidence, limits, setting, models, time.time())


class Analysis:
    """Works answers and maps out, and keeps what was summed up of each book. One thread uses it."""

    def __init__(self) -> None:
        self._known: dict[Path, Evidence] = {}

    def answer(self, book: Path, limits: Limits) -> Answer:
        """Return the whole answer for a book and limits."""
        found = work_out(book, limits, self._known.get(book))
        if found.evidence is not None:
            self._known[book] = found.evidence
        return found

    def proof(self, answer: Answer, limits: Limits, setting: Setting) -> Proof:
        """Return how surely another setting than the pick lasts. Raises ``NotEnoughError`` without evidence."""
        if answer.evidence is None:
            raise NotEnoughError(answer.problem, remedy="Run a plan first.")
        return proof_of(answer.evidence, limits, setting, answer.models, time.time())

    def map(self, models: Models, limits: Limits, request: MapRequest, chosen: Setting | None) -> SettingMap:
        """Return another map of the same models. Raises ``NienteError`` where there is none."""
        return make_map(models, limits, request, chosen)
