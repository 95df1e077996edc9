"""The answers of a book: which questions it holds, and what is known of each."""

from collections.abc import Callable
from pathlib import Path

from niente.core.analysis.evidence import Evidence, RunSummary, column, trusted
from niente.core.analysis.settled_readings import settled_reading
from niente.core.answers.baseline import baseline_answer
from niente.core.answers.beside_choice import BesideChoice, next_beside
from niente.core.answers.burst import burst_answer
from niente.core.answers.cap_sweep import cap_answer
from niente.core.answers.capacity import capacity_answer
from niente.core.answers.clock_voltage import clock_answer
from niente.core.answers.fan_sweep import fan_answer
from niente.core.answers.framing import framed
from niente.core.answers.free import free_answer
from niente.core.answers.material import AnswerMaterial
from niente.core.answers.quiet_point import quiet_answer
from niente.core.answers.real_time import real_time_answer
from niente.core.answers.soak import soak_answer
from niente.core.answers.undervolting import undervolt_answer
from niente.core.answers.variants import variants_answer
from niente.core.answers.ways import ways_answer
from niente.core.model.answer_document import AnswerDocument, Value, value_of
from niente.core.model.errors import NienteError
from niente.core.model.limits import Limits
from niente.core.model.names import kind_of
from niente.core.model.plan import Plan
from niente.core.model.project import Project
from niente.core.model.question import Question, TemplateName
from niente.core.model.rig_card import RigCard
from niente.core.planning.layout import next_by
from niente.core.planning.progress import plan_rows
from niente.core.planning.templates import plan_for, template
from niente.core.science.arrays import Array, Vector
from niente.core.selection.answer import Analysis, Answer
from niente.core.storage.reader import BookReader

BUILDERS: dict[str, Callable[[AnswerMaterial], AnswerDocument]] = {
    TemplateName.QUIET_POINT: quiet_answer,
    TemplateName.BASELINE: baseline_answer,
    TemplateName.CAPACITY_LADDER: capacity_answer,
    TemplateName.FAN_SWEEP: fan_answer,
    TemplateName.CAP_SWEEP: cap_answer,
    TemplateName.UNDERVOLT_LADDER: undervolt_answer,
    TemplateName.CLOCK_VOLTAGE: clock_answer,
    TemplateName.HOLD_BACK: ways_answer,
    TemplateName.VARIANTS: variants_answer,
    TemplateName.SOAK: soak_answer,
    TemplateName.BURST: burst_answer,
    TemplateName.REAL_TIME: real_time_answer,
    TemplateName.FREE: free_answer,
}


def held_questions(card: RigCard, evidence: Evidence, project: Project | None) -> dict[str, list[tuple[Plan, Question | None]]]:
    """Return the questions of a book by their kind, the one that is asked now first: its plan as it stands, and of each
    kind the latest plan that runs were made for."""
    found: dict[str, list[tuple[Plan, Question | None]]] = {}
    if project is not None and template(project.question.template) is not None:
        found[project.question.template] = [(plan_for(card, project.question), project.question)]
    every = evidence.runs + tuple(run for other in evidence.elsewhere.values() for run in other.runs)
    run_for = {run.plan_id for run in every}
    latest: dict[str, Plan] = {}
    for number in sorted(run_for & evidence.plans.keys(), reverse=True):
        plan = evidence.plans[number]
        if plan.question in BUILDERS:
            latest.setdefault(plan.question, plan)
    for name, plan in latest.items():
        if all(plan != other for other, _ in found.setdefault(name, [])):
            found[name].append((plan, None))
    return found


class RunSamples:
    """The samples behind the runs of a book: where a channel settles, and its readings; each is read once."""

    def __init__(self, book: Path, evidence: Evidence) -> None:
        self._book, self._evidence = book, evidence
        self._settled: dict[tuple[int, str], Value] = {}
        self._latest: tuple[int, Vector, Array] | None = None

    def settle(self, run: RunSummary, channel: str) -> Value:
        """Return where a channel settles in a run (°C); of several of one quantity, none of that very name, the hottest."""
        names = [channel] if channel in run.channels else [name for name in run.channels if kind_of(name) == channel]
        if not names:
            return Value()
        name = max(names, key=lambda one: run.channels[one].mean)
        key = (run.run_id, name)
        if key not in self._settled:
            self._settled[key] = self._settles(run, name)
        return self._settled[key]

    def _settles(self, run: RunSummary, name: str) -> Value:
        time_s, values = self.samples(run, name)
        _, room = self.samples(run, "room_temperature_c")
        found = settled_reading(time_s, values, room)
        if found.known:
            return value_of(found.value_c, found.half_width_k)
        read = run.channels[name]
        return value_of(read.mean)

    def samples(self, run: RunSummary, channel: str) -> tuple[Vector, Vector]:
        """Return the times and readings of a channel in a run ``(n,)``, as the person trusts them."""
        card = self._evidence.card
        for variant, other in self._evidence.elsewhere.items():
            if variant == run.variant:
                card = other.card
        time_s, values = self._frames(run.run_id, card)
        return time_s, column(card, trusted(card, values), channel)

    def _frames(self, run_id: int, card: RigCard) -> tuple[Vector, Array]:
        """Return the samples of a run by the channels of its variant's card; those of the latest are kept."""
        if self._latest is None or self._latest[0] != run_id:
            reader = BookReader(self._book)
            try:
                record = next(one for one in reader.runs() if one.id == run_id)
                self._latest = (run_id, *reader.frames(record, [channel.name for channel in card.channels]))
            finally:
                reader.close()
        return self._latest[1], self._latest[2]


def answers_of(book: Path, findings: Answer, project: Project, only: str = "") -> tuple[AnswerDocument, ...]:
    """Return the answers to the questions of a book, the one that is asked now first; ``only`` names one kind."""
    evidence = findings.evidence
    if evidence is None:
        return ()
    samples = RunSamples(book, evidence)
    confirming = next_by(findings)
    found = []
    for name, asked in held_questions(evidence.card, evidence, project).items():
        kind = template(name)
        if kind is None or (only and name != only):
            continue
        ways = [
            AnswerMaterial(
                kind.title,
                plan,
                plan_rows(plan, evidence.card, evidence, confirming),
                findings,
                project.limits,
                question,
                samples.settle,
                samples.samples,
            )
            for plan, question in asked
        ]
        found.append(_answered(BUILDERS[name], max(ways, key=lambda one: len(one.runs))))
    return tuple(found)


def _answered(build: Callable[[AnswerMaterial], AnswerDocument], of: AnswerMaterial) -> AnswerDocument:
    """Return an answer; where the evidence does not allow one, that it is so and why."""
    try:
        return build(of)
    except NienteError as error:
        return framed(of, [], "It cannot be answered yet", "no answer yet", consequence=f"{error.happened} {error.remedy}")


class Answering(Analysis):
    """Works out findings, maps and answers, and keeps what was summed up of each book. One thread uses it."""

    def __init__(self) -> None:
        super().__init__()
        self._found: dict[Path, Answer] = {}

    def answer(self, book: Path, limits: Limits) -> Answer:
        """Return what all readings of a book come to, and keep it for the answers."""
        self._found = {book: super().answer(book, limits)}
        return self._found[book]

    def answers(self, book: Path, project: Project) -> tuple[AnswerDocument, ...]:
        """Return the answers to all questions of a book, from what was found last."""
        return answers_of(book, self.found(book, project.limits), project)

    def beside(self, book: Path, project: Project, so_far: BesideChoice | None) -> BesideChoice:
        """Return what stands beside the choice that was found of a book last, with its next part."""
        return next_beside(self.found(book, project.limits), project, so_far)

    def found(self, book: Path, limits: Limits) -> Answer:
        """Return what was found of a book last; where nothing was, what its readings come to."""
        return self._found.get(book) or self.answer(book, limits)
