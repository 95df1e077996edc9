"""Answers held against the truth of a stand-in: how many standard errors each figure lies off."""

import math
from collections.abc import Callable
from pathlib import Path

import msgspec
from scipy.stats import norm

from niente.core.analysis.evidence import RunSummary, evidence_in
from niente.core.answers.answering import answers_of
from niente.core.model.answer_document import AnswerDocument, AnswerFigure
from niente.core.model.limits import Limits
from niente.core.model.names import kind_of
from niente.core.model.project import Project
from niente.core.model.question import Question
from niente.core.rigs.simulated.machine_files import shipped_file
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.rigs.simulated.truth import TrueSteadyState
from niente.core.science.statistics import Z95
from niente.core.selection.answer import work_out

HOURS = 5.0
TEN_MINUTES_S = 600.0
RESOLUTION = {"°C": 0.05, "K": 0.05, "W": 0.1, "MHz": 1.0, "%": 0.02, "1/s": 0.002}
"""What no mean is known better than, whatever its scatter: sensors come in steps."""


class Miss(msgspec.Struct, frozen=True):
    """One figure beside the truth: how many standard errors it lies off, and whether the truth lies in its interval."""

    question: str
    name: str
    value: float
    truth: float
    off: float
    inside: bool


def answer_in(book: Path, question: Question, limits: Limits | None = None) -> AnswerDocument:
    """Return the answer to a question of a book."""
    evidence = evidence_in(book)
    assert evidence is not None
    project = Project(rig=evidence.card.name, question=question, limits=limits or Limits())
    return answers_of(book, work_out(book, project.limits), project, question.template)[0]


class Judge:
    """Holds the figures of answers against what is true; ``rigs`` are the machine in each of its variants, the same sample."""

    def __init__(self, rigs: dict[str, SimulatedRig], book: Path) -> None:
        evidence = evidence_in(book)
        assert evidence is not None
        self._rigs = rigs
        self._runs = {run.run_id: run for run in evidence.runs}
        for other in evidence.elsewhere.values():
            self._runs |= {run.run_id: run for run in other.runs}
        self._stock = evidence.card.stock
        self._ceiling = evidence.card
        self._known: dict[int, TrueSteadyState] = {}

    def misses(self, answer: AnswerDocument) -> list[Miss]:
        """Return all figures of an answer whose truth can be worked out."""
        found = []
        for figure in answer.figures:
            truth = self._truth(answer.question, figure)
            width = figure.value.half_width
            if truth is None or figure.value.value is None or width is None:
                continue
            error = math.hypot(width / Z95, RESOLUTION.get(figure.unit, 0.0))
            off = (figure.value.value - truth) / error
            found.append(Miss(answer.question, figure.name, figure.value.value, truth, off, abs(off) <= Z95))
        return found

    def _truth(self, question: str, figure: AnswerFigure) -> float | None:
        if question == "baseline":
            return self._reading(figure.runs, figure.name.partition(".")[2])
        if question == "cap-sweep" and "." in figure.name:
            return self._against_stock(figure)
        if question == "variants":
            return self._difference(figure)
        if question == "real-time" and figure.name.endswith(".fits"):
            return self._fits(figure)
        if question == "capacity-ladder" and figure.name.endswith(".capacity_w"):
            return self._capacity(figure)
        return None

    def _at(self, run: RunSummary) -> TrueSteadyState:
        if run.run_id not in self._known:
            room = run.settled.room_c if run.settled.known else run.room_c
            self._known[run.run_id] = self._rigs[run.variant].true_settled(run.setting, run.load, room, HOURS)
        return self._known[run.run_id]

    def _reading(self, runs: tuple[int, ...], name: str) -> float | None:
        reads: dict[str, Callable[[TrueSteadyState], float]] = {
            "hottest_core_c": lambda true: true.hottest_c,
            "mean_of_cores_c": lambda true: true.mean_c,
        }
        found = []
        for run in (self._runs[number] for number in runs):
            true = self._at(run)
            if name in reads:
                found.append(reads[name](true))
                continue
            of_kind = [value for channel, value in true.readings.items() if kind_of(channel) == name]
            own = [true.readings[name]] if name in true.readings else of_kind
            if not own or name in ("noise_dba", "wall_energy_kwh"):
                return None
            found.append(max(own))
        return sum(found) / len(found)

    def _against_stock(self, figure: AnswerFigure) -> float | None:
        load, _, rest = figure.name.partition(".")
        name = rest.rpartition(".")[2]
        here = self._reading(figure.runs, _CAP_READS.get(name, ""))
        stock = next(
            (
                run
                for run in self._runs.values()
                if run.load == load and run.setting.temperature_cap_c == self._stock.temperature_cap_c
            ),
            None,
        )
        if here is None or stock is None:
            return None
        there = self._reading((stock.run_id,), _CAP_READS[name])
        if there is None:
            return None
        return 100.0 * here / there if name == "throughput_percent" else here - there

    def _difference(self, figure: AnswerFigure) -> float | None:
        pairs = [self._runs[number] for number in figure.runs]
        name = "effective_clock_mhz" if ".clock_mhz." in figure.name else ""
        total = 0.0
        for first, second in zip(pairs[::2], pairs[1::2], strict=True):
            if name:
                ends = self._reading((first.run_id,), name), self._reading((second.run_id,), name)
                if ends[0] is None or ends[1] is None:
                    return None
                total += ends[1] - ends[0]
            else:
                rises = [self._at(run).hottest_c - run.settled.room_c for run in (first, second)]
                total += rises[1] - rises[0]
        return total / (len(pairs) / 2)

    def _fits(self, figure: AnswerFigure) -> float | None:
        """Return the size at which a drop-out in ten minutes is as likely as not, on a warm machine: so far below what the
        load does as its restlessness comes to in as many seconds."""
        run = self._runs[figure.runs[0]]
        does = self._reading((run.run_id,), "throughput_per_s")
        load = next(one for one in shipped_file(self._ceiling.name).machine.loads if one.name == run.load)
        if does is None or run.size:
            return None
        return does / (1.0 + load.unrest * float(norm.isf(math.log(2.0) / TEN_MINUTES_S)))

    def _capacity(self, figure: AnswerFigure) -> float | None:
        """Return the package power at which the machine settles at its ceiling in the design room: that at which a cap there
        holds it. Firmware swings a few tenths of a kelvin over its cap, and those are taken off in proportion to the rise."""
        run = self._runs[figure.runs[-1]]
        card = self._ceiling
        cap = card.temperature_ceiling_c(run.setting)
        control = card.control("sustained_power_w")
        assert control is not None
        held = run.setting.replaced("sustained_power_w", control.high).replaced("temperature_cap_c", cap)
        true = self._rigs[run.variant].true_settled(held, run.load, Limits().design_room_c, HOURS)
        if true.hottest_c <= cap - 2.0:
            return None
        room_c = Limits().design_room_c
        return true.readings["package_power_w"] * (cap - room_c) / (true.hottest_c - room_c)


_CAP_READS = {
    "throughput_percent": "throughput_per_s",
    "saved_w": "package_power_w",
    "wall_w": "wall_power_w",
    "cooler_k": "hottest_core_c",
}
