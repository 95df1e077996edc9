"""Undervolting: how deep the offset goes and still lasts, under which load it failed, and what it wins against stock."""

import math
from collections.abc import Sequence

from niente.core.analysis.evidence import RunSummary
from niente.core.analysis.stability import RunExposure, Stability, depth_and_family, exposures_in, laws_by_core, stability_of
from niente.core.answers.framing import WALL, framed, known_figures
from niente.core.answers.material import (
    KWH_A_DAY,
    AnswerMaterial,
    against,
    by_load,
    clock_of,
    load_card,
    main_limiter,
    noise_of_run,
    power_in,
    rise_of,
    times,
    wall_in,
)
from niente.core.answers.wording import amount, known_differences, listed, load_title, signed, title_rest
from niente.core.model.answer_document import (
    AnswerDocument,
    AnswerFigure,
    Column,
    Depths,
    MakesSurer,
    Mark,
    Rail,
    Remark,
    RestsOn,
    Table,
    TableRow,
    Value,
    value_of,
)
from niente.core.model.names import kind_of
from niente.core.model.plan import Search
from niente.core.model.quantities import duration_text, number_text
from niente.core.model.rig_card import LoadCard
from niente.core.model.setting import Setting
from niente.core.planning.progress import RunStatus
from niente.core.science.stability.drawn_laws import DrawnLaws, rate_for
from niente.core.selection.explanation import risk_text
from niente.core.selection.proof import Proof, proof_of
from niente.core.selection.proof_words import CORRUPTS, more_sentence
from niente.core.selection.setting_words import parts_text, values_text

HOUR_S = 3600.0
TELLING_MHZ = 5.0
"""A clock that rises by less than this wins nothing."""
LIMITS = ("sustained_power_w", "burst_power_w", "temperature_cap_c", "clock_cap_mhz", "fixed_clock_mhz")
OFFSETS = ("voltage_offset_mv", "core_offset_mv", "point_offset_mv", "fixed_voltage_v")


def undervolt_answer(of: AnswerMaterial) -> AnswerDocument:
    """Return how deep an undervolt ladder went, what is recommended, and what that wins."""
    search = next((entry for entry in of.plan.entries if isinstance(entry, Search)), None)
    found = _found(of, search)
    setting = (found or of.card.stock).over(of.card.stock)
    every = exposures_in(of.evidence.runs, of.card)
    stability = stability_of(every, setting)
    proof = proof_of(of.evidence, of.limits, setting, of.models, max((run.opened_at for run in of.runs), default=0.0))
    wins = _wins(of)
    failed = {one.load for one in stability.exposures if one.seen.failed}
    hourly = {load: _depth_at(laws, 1.0 / HOUR_S) for load, laws in stability.laws.items() if load in failed}
    return framed(
        of,
        [_limits(of, search), _way(search)],
        _sentence(of, search, found, proof, hourly),
        _short(search, found, proof),
        consequence=_consequence(stability, proof, search, found, wins),
        tag=""
        if found is None or _depth(found, of.card.stock) == 0.0
        else "proven"
        if proof.proven
        else "proposal, not proven",
        figures=_figures(of, search, found, proof, hourly, wins),
        table=_table(of, stability, hourly, found),
        picture=_picture(of, stability, hourly, found, proof, _parts(every, setting, proof)),
        rests_on=_rests_on(proof),
        basis=_basis(stability, proof),
        remarks=_remarks(of, found, proof, wins),
        surer=_surer(proof),
        cautions=(CORRUPTS, "A pass is evidence for this clock, load and paste, not a guarantee."),
    )


def _limits(of: AnswerMaterial, search: Search | None) -> str:
    """Return what the search held the machine to, in words, where that is not what it has at stock."""
    if search is None:
        return "stock limits"
    changed = [
        (name, value) for name, value in search.setting.controls() if name in LIMITS and value != of.card.stock.value(name)
    ]
    return ", ".join(values_text(changed)) or "stock limits"


def _way(search: Search | None) -> str:
    if search is None:
        return ""
    kind = kind_of(search.controls[0])
    if kind == "core_offset_mv":
        return "each core by an offset of its own"
    if kind == "point_offset_mv":
        return "each point of the curve by an offset of its own"
    return "all cores by one offset"


def _found(of: AnswerMaterial, search: Search | None) -> Setting | None:
    """Return the setting that the search handed out, over its own; ``None`` while it is under way."""
    if search is None:
        return None
    taken = next(iter(of.taken(search.name)), None)
    return taken.step.setting if taken is not None else None


def _depth(setting: Setting, stock: Setting) -> float:
    """Return how deep a setting goes, the deepest of its offsets (mV)."""
    whole = setting.over(stock)
    parts = [*whole.core_offset_mv.values(), *whole.point_offset_mv.values()]
    return depth_and_family(whole)[0] + max((-value for value in parts), default=0.0)


def _depth_at(laws: DrawnLaws, rate_per_s: float) -> Value:
    """Return the offset in mV at which a load fails so often: the likely one, and its 95 % interval."""
    depths = laws.depths_mv(rate_per_s)
    return Value(-laws.quantile(depths, 0.5), -laws.quantile(depths, 0.975), -laws.quantile(depths, 0.025))


def _offsets_text(found: Setting, search: Search) -> str:
    values = [(name, value) for name in search.controls if (value := found.value(name)) is not None]
    return ", ".join(values_text(values, brief=True)) or "no offset"


def _sentence(of: AnswerMaterial, search: Search | None, found: Setting | None, proof: Proof, hourly: dict[str, Value]) -> str:
    if search is None:
        return "The question varies no voltage"
    if found is None:
        if not hourly:
            return "Nothing has failed yet: how deep it goes is not known"
        return "The search is under way: what is handed out is not known yet"
    text = _offsets_text(found, search)
    if not any(found.value(name) for name in search.controls):
        return f"{text}: nothing deeper is sure enough"
    band = proof.guard_band_mv
    if not math.isfinite(band.value):
        return f"{text}; nothing failed on the way"
    in_hand = value_of(band.value, 0.5 * (band.high - band.low))
    return f"{text}, with {amount(in_hand, 0, 'mV')} in hand"


def _short(search: Search | None, found: Setting | None, proof: Proof) -> str:
    if search is None or found is None:
        return "under way"
    return f"{_offsets_text(found, search)}, {'proven' if proof.proven else 'proposal'}"


def _consequence(stability: Stability, proof: Proof, search: Search | None, found: Setting | None, wins: list["_Win"]) -> str:
    words = []
    failed = [one for one in stability.exposures if one.seen.failed]
    if failed and found is not None:
        gentlest = min(failed, key=lambda one: one.seen.depth_mv)
        load = next((one.title for one in proof.loads if one.load == gentlest.load), gentlest.load)
        name = load.partition(",")[0]
        words.append(f"Core {gentlest.cores[0]} of {name.lower()} failed first." if gentlest.cores else f"{name} failed first.")
        words.append(f"A failure in {duration_text(proof.goal.horizon_s)} is at most {risk_text(proof.at_most)} likely.")
    if search is not None and found is not None and any(found.value(name) for name in search.controls):
        words += [f"{win.title} wins {leading}." for win in wins[:1] if (leading := win.leading())]
    return " ".join(words)


class _Win:
    """What the offset wins under one load, against stock: what its limiter gives leads."""

    def __init__(self, load: LoadCard, stock: Sequence[RunSummary], found: Sequence[RunSummary]) -> None:
        self.load, self.runs = load, (*stock, *found)
        self.limiter = main_limiter(found[-1])
        self.clock = against(clock_of, found, stock)
        self.power = against(power_in, found, stock)
        self.wall = against(wall_in, found, stock)
        self.core = against(rise_of, found, stock)
        self.noise = against(noise_of_run, found, stock)
        width = self.clock.half_width or 0.0
        self.by_clock = self.clock.value is not None and self.clock.value > max(width, TELLING_MHZ)

    @property
    def title(self) -> str:
        """What the load is called."""
        return load_title(self.load)

    def leading(self) -> str:
        """Return what its limiter gives, in words."""
        if self.by_clock and self.clock.value is not None:
            return signed(self.clock, 0, "MHz")
        return listed(known_differences([(self.power, 1, "W"), (self.core, 1, "K")]))


def _wins(of: AnswerMaterial) -> list[_Win]:
    """Return what was found against stock, load by load."""
    searches = [entry.name for entry in of.plan.entries if isinstance(entry, Search)]
    stock = by_load(of.stage("baseline"))
    found = by_load([row for name in searches for row in of.taken(name) if row.status == RunStatus.DONE])
    return [_Win(load_card(of.card, load), stock[load], runs) for load, runs in found.items() if load in stock]


def _figures(
    of: AnswerMaterial,
    search: Search | None,
    found: Setting | None,
    proof: Proof,
    hourly: dict[str, Value],
    wins: list[_Win],
) -> tuple[AnswerFigure, ...]:
    ids = tuple(one.run_id for one in proof.exposures)
    figures = []
    if search is not None and found is not None:
        for name in search.controls:
            if (offset := found.value(name)) is not None:
                title = f"Handed out, {', '.join(values_text([(name, offset)]))}"
                figures.append(AnswerFigure(name, title, "mV", 0, Value(offset), ids))
    chance = Value(100.0 * proof.expected, 0.0, 100.0 * proof.at_most) if math.isfinite(proof.expected) else Value()
    if chance.known:
        title = f"Chance of a failure in {duration_text(proof.goal.horizon_s)}"
        figures.append(AnswerFigure("failure_chance_percent", title, "%", 2, chance, ids))
    for load, value in hourly.items():
        title = f"{load_title(load_card(of.card, load))}: a failure an hour"
        figures.append(AnswerFigure(f"{load}.hourly_mv", title, "mV", 0, value, ids))
    for win in wins:
        runs = tuple(run.run_id for run in win.runs)
        told = (
            ("clock_mhz", "clock against stock", "MHz", 0, win.clock),
            ("power_w", "package against stock", "W", 1, win.power),
            ("core_k", "core against stock", "K", 1, win.core),
            ("noise_db", "noise against stock", "dB", 1, win.noise),
            ("wall_w", "wall against stock", "W", 0, win.wall),
        )
        figures += known_figures(win.load.name, win.title, told, runs)
    return tuple(figures)


def _table(of: AnswerMaterial, stability: Stability, hourly: dict[str, Value], found: Setting | None) -> Table | None:
    """Return the loads, the one that fails first on top: last pass, first failure, and what is in hand."""
    if not stability.exposures:
        return None
    taken = depth_and_family(found.over(of.card.stock))[0] if found is not None else None
    rows = []
    for load in stability.loads:
        mine = stability.of_load(load)
        failed = [one for one in mine if one.seen.failed]
        first = min((one.seen.depth_mv for one in failed), default=math.inf)
        passed = [one.seen.depth_mv for one in mine if not one.seen.failed and one.seen.depth_mv < first]
        last = max(passed, default=math.nan)
        there = sum(one.seen.seconds for one in mine if not one.seen.failed and abs(one.seen.depth_mv - last) < 0.5)
        once = hourly.get(load, Value())
        hand = Value()
        if once.value is not None and taken is not None and once.low is not None and once.high is not None:
            hand = Value(-taken - once.value, -taken - once.high, -taken - once.low)
        gentlest = [one for one in failed if one.seen.depth_mv == first]
        rows.append(
            TableRow(
                load_title(load_card(of.card, load)),
                (
                    value_of(-last + 0.0),
                    value_of(there / 60.0 if passed else math.nan),
                    value_of(-first),
                    Value(words=duration_text(min(one.seen.seconds for one in gentlest))) if gentlest else Value(),
                    Value(words=_what_failed(gentlest)),
                    once,
                    hand,
                ),
                title_rest(load_card(of.card, load)),
                tuple(one.run_id for one in mine),
            )
        )
    rows.sort(key=lambda row: row.values[5].value if row.values[5].value is not None else -math.inf, reverse=True)
    columns = (
        Column("last_pass_mv", "Last pass", "mV", 0),
        Column("passed_min", "For", "min", 0),
        Column("first_failure_mv", "First failure", "mV", 0),
        Column("after", "After"),
        Column("what", "What failed"),
        Column("hourly_mv", "Once an hour", "mV", 0),
        Column("in_hand_mv", "In hand", "mV", 0),
    )
    return Table("Behind it", columns, tuple(rows))


def _what_failed(gentlest: Sequence[RunExposure]) -> str:
    if not gentlest:
        return "nothing failed"
    one = gentlest[0]
    if one.crashed:
        return "it went down"
    return f"core {one.cores[0]}" if one.cores else "wrong result"


def _picture(
    of: AnswerMaterial,
    stability: Stability,
    hourly: dict[str, Value],
    found: Setting | None,
    proof: Proof,
    parts: tuple[Rail, ...],
) -> Depths | None:
    if not stability.exposures:
        return None
    worst = max(hourly, key=lambda load: hourly[load].value or -math.inf, default="")
    rails = tuple(
        Rail(
            load_title(load_card(of.card, load)),
            title_rest(load_card(of.card, load)),
            _marks([(one.seen.depth_mv, one.seen.seconds, one.seen.failed) for one in stability.of_load(load)]),
            hourly.get(load, Value()),
            leads=load == worst,
        )
        for load in stability.loads
    )
    rails = tuple(sorted(rails, key=lambda rail: -(rail.hourly.value if rail.hourly.value is not None else -math.inf)))
    laws = stability.laws.get(proof.load)
    goal = _depth_at(laws, rate_for(proof.goal.chance, proof.goal.horizon_s)) if laws is not None else Value()
    taken = -depth_and_family(found.over(of.card.stock))[0] if found is not None else None
    return Depths(rails, taken, goal, parts)


def _marks(seen: Sequence[tuple[float, float, bool]]) -> tuple[Mark, ...]:
    """Return exposures as marks: passes at one depth together, failures at one depth together with the shortest."""
    found: dict[tuple[float, bool], list[float]] = {}
    for depth, seconds, failed in seen:
        found.setdefault((round(depth, 2), failed), []).append(seconds)
    return tuple(
        Mark(0.0 - depth, min(times) if failed else sum(times), failed, len(times)) for (depth, failed), times in found.items()
    )


def _parts(every: Sequence[RunExposure], setting: Setting, proof: Proof) -> tuple[Rail, ...]:
    """Return a rail for each core where errors named some: its failures, and where it would fail once an hour."""
    named = [one for one in proof.cores if one.failures]
    if not named:
        return ()
    core_laws = laws_by_core(every, setting)
    laws = core_laws.laws.get(proof.load)
    rails = []
    for one in proof.cores:
        fails = [run for run in every if run.seen.failed and run.cores[:1] == (one.core,)]
        depths = [(run.seen.depth_mv - run.setting.core_offset_mv.get(one.core, 0.0), run.seen.seconds, True) for run in fails]
        hourly = Value()
        if laws is not None and one.core in core_laws.cores:
            hourly = _depth_at(laws.of_part(core_laws.cores.index(one.core)), 1.0 / HOUR_S)
        rails.append(Rail(one.core, "", _marks(depths), hourly, leads=one is max(named, key=lambda at: at.failures)))
    return tuple(rails)


def _rests_on(proof: Proof) -> str:
    return "Proven" if proof.proven else "Not proven yet"


def _basis(stability: Stability, proof: Proof) -> tuple[RestsOn, ...]:
    failures = [one for one in stability.exposures if one.seen.failed]
    found = [RestsOn("Failures, crashes", f"{len(failures)}, {sum(one.crashed for one in failures)}")]
    ten = proof.tenfold_mv
    if math.isfinite(ten.value):
        found.append(
            RestsOn("Tenfold for every", f"{number_text(ten.value, 1)} ± {number_text(0.5 * (ten.high - ten.low), 1)}", "mV")
        )
    found.append(RestsOn(f"In {duration_text(proof.goal.horizon_s)}, at most", risk_text(proof.at_most)))
    return tuple(found)


def _remarks(of: AnswerMaterial, found: Setting | None, proof: Proof, wins: list[_Win]) -> tuple[Remark, ...]:
    remarks = []
    if found is not None:
        whole = found.over(of.card.stock)
        values = [(name, value) for name, value in whole.controls() if kind_of(name) in OFFSETS and value]
        in_full = parts_text(values)
        words = in_full or ", ".join(values_text(values)) or "no offset"
        remarks.append(Remark("Enter it", f"{words}. All else as stock."))
    if proof.by_law:
        remarks.append(
            Remark(
                "What it rests on",
                "That failures thin out as steadily on the gentle side as where they were seen. Only hours show it.",
            )
        )
    wall = [win for win in wins if win.wall.value is not None]
    if wall:
        best = min(wall, key=lambda win: win.wall.value or 0.0)
        day = signed(times(best.wall, KWH_A_DAY), 2, "kWh")
        remarks.append(Remark(WALL, f"{signed(best.wall, 0, 'W')} under {best.title.lower()}, {day} a day."))
    if proof.aged:
        remarks.append(Remark("It has aged", f"{proof.aged}."))
    return tuple(remarks)


def _surer(proof: Proof) -> MakesSurer | None:
    if not proof.more:
        return None
    more = proof.more[0]
    return MakesSurer(more_sentence(proof, more), more.hours, (more.step,))
