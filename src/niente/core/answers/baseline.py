"""The baseline: the machine as it was found, load by load, what limits it, and how near it came to what protects it."""

import math

from niente.core.analysis.evidence import RunSummary
from niente.core.answers.framing import WALL, framed, known_figures
from niente.core.answers.material import (
    KWH_A_DAY,
    AnswerMaterial,
    by_load,
    clock_of,
    cores_apart,
    hottest_settled,
    leading_core,
    load_card,
    main_limiter,
    mean_of_cores,
    names_limit,
    noise_of_run,
    package_settled,
    peak_of,
    pooled,
    pooled_over,
    power_in,
    rise_of,
    settled_core,
    times,
    wall_in,
    work_of,
)
from niente.core.answers.wording import amount, bare, fans_words, load_title, title_rest
from niente.core.model.answer_document import (
    AnswerDocument,
    AnswerFigure,
    Bar,
    Bars,
    Column,
    MakesSurer,
    Remark,
    Table,
    TableRow,
    Track,
    Value,
    value_of,
)
from niente.core.model.plan import Step
from niente.core.model.quantities import duration_text, number_text, quantity_of
from niente.core.model.rig_card import LoadKind

TOLD_WITH_INTERVAL = frozenset({"hottest_core_c"})
KNOWN_TO_K, IDLE_TO_K = 1.0, 2.0
PLACES = ("board_temperature_c", "coolant_temperature_c", "case_air_temperature_c", "graphics_temperature_c")
"""Channels beside the processor's that every baseline gives where they are read."""
READINGS = (
    ("hottest_core_c", "Hottest", "°C", 1),
    ("mean_of_cores_c", "Mean", "°C", 1),
    ("package_temperature_c", "Package", "°C", 1),
    ("peak_c", "Peak", "°C", 1),
    ("cores_apart_k", "Apart", "K", 1),
    ("package_power_w", "Power", "W", 1),
    ("wall_power_w", "Wall", "W", 0),
    ("wall_energy_kwh", "A day", "kWh", 2),
    ("effective_clock_mhz", "Clock", "MHz", 0),
    ("throughput_per_s", "Work", "1/s", 2),
    ("noise_dba", "Noise", "dBA", 1),
    ("board_temperature_c", "Supply", "°C", 1),
    ("coolant_temperature_c", "Coolant", "°C", 1),
    ("case_air_temperature_c", "Case", "°C", 1),
    ("graphics_temperature_c", "Card", "°C", 1),
)


def baseline_answer(of: AnswerMaterial) -> AnswerDocument:
    """Return the sheet of a machine as it was found."""
    runs = by_load(of.stage())
    rows = sorted((_Sheet(of, load, mine) for load, mine in runs.items()), key=lambda row: -row.hottest)
    figures = tuple(figure for row in rows for figure in row.figures())
    working = [row for row in rows if not row.idle]
    return framed(
        of,
        [fans_words(of.card, of.rows)],
        _sentence(of, working, rows),
        f"{len(rows)} loads, {bare(working[0].hottest, 1, '°C')}" if working else "no load yet",
        title="Baseline, as found",
        consequence=_consequence(of, working),
        figures=figures,
        table=_table(rows),
        picture=_picture(of, rows),
        rests_on=f"{len(rows)} of {len({row.step.load for row in of.rows})} loads",
        remarks=_remarks(of, rows),
        surer=_surer(of, working),
        cautions=_cautions(of),
    )


class _Sheet:
    """One load of the baseline; made more than once, its runs count together."""

    def __init__(self, of: AnswerMaterial, load: str, runs: list[RunSummary]) -> None:
        self.card, self.runs, self.last = load_card(of.card, load), runs, runs[-1]
        self.idle = self.card.kind == LoadKind.IDLE
        core = [_idle_core(of, run) if self.idle else settled_core(run) for run in runs]
        self.core = pooled(core)
        self.rise = pooled([rise_of(run, at) for run, at in zip(runs, core, strict=True)])
        """The rise of the temperature that counts over the room (K)."""
        peaks = [peak for run in runs if (peak := peak_of(run)) is not None]
        apart = [one for run in runs if (one := cores_apart(run)) is not None]
        wall = pooled_over(wall_in, runs)
        self.values: dict[str, Value] = {
            "hottest_core_c": self.core if self.idle else pooled_over(hottest_settled, runs),
            "mean_of_cores_c": pooled(
                [_mean(run, at) if self.idle else mean_of_cores(run) for run, at in zip(runs, core, strict=True)]
            ),
            "package_temperature_c": pooled_over(package_settled, runs),
            "peak_c": value_of(max(peaks)) if peaks else Value(),
            "cores_apart_k": value_of(sum(apart) / len(apart)) if apart else Value(),
            "package_power_w": pooled_over(power_in, runs),
            "wall_power_w": wall,
            "wall_energy_kwh": times(wall, KWH_A_DAY),
            "effective_clock_mhz": pooled_over(clock_of, runs),
            "throughput_per_s": Value() if self.idle else pooled_over(work_of, runs),
            "noise_dba": pooled_over(noise_of_run, runs),
            **{name: pooled([of.settle(run, name) for run in runs]) for name in PLACES},
        }
        self.limiter = main_limiter(self.last)

    @property
    def title(self) -> str:
        """What the load is called."""
        return load_title(self.card)

    @property
    def hottest(self) -> float:
        """The settled temperature that counts, °C; lowest of all where it is not known."""
        return self.core.value if self.core.value is not None else -math.inf

    @property
    def settled(self) -> bool:
        """Whether it is known where the load settles."""
        known_to = IDLE_TO_K if self.idle else KNOWN_TO_K
        return self.core.half_width is not None and self.core.half_width <= known_to

    def figures(self) -> list[AnswerFigure]:
        """Return all that is known of the load, by public names."""
        told = [(name, title.lower(), unit, digits, self.values[name]) for name, title, unit, digits in READINGS]
        return known_figures(self.card.name, self.title, told, [run.run_id for run in self.runs])

    def row(self, columns: tuple[Column, ...]) -> TableRow:
        """Return the load's row of the table."""
        known = {
            **self.values,
            "rise_k": self.rise,
            "run": value_of(float(self.last.run_id)),
            "shows": Value(words=self._shows()),
        }
        return TableRow(
            self.title,
            tuple(known[column.name] for column in columns),
            runs=tuple(run.run_id for run in self.runs),
            open=not self.settled,
        )

    def _shows(self) -> str:
        if not self.settled:
            return "not settled"
        if self.idle:
            return "idle"
        if self.card.kind == LoadKind.LIGHT and (core := leading_core(self.last)):
            return f"core {core} leads"
        if self.limiter and names_limit(self.limiter):
            return f"limited by {self.limiter}"
        return "nothing limits it" if self.limiter else ""

    def bar(self) -> Bar:
        """Return the load's bar of the picture."""
        mean, room = self.values["mean_of_cores_c"].value, self.last.room_c
        return Bar(
            self.title,
            title_rest(self.card),
            room if math.isfinite(room) else None,
            mean,
            self.core,
            self.values["peak_c"].value,
            self.limiter or ("nothing" if self.idle else ""),
            open=not self.settled,
        )


def _idle_core(of: AnswerMaterial, run: RunSummary) -> Value:
    """Return where the hottest core settles without a load: a passive machine still drifts after 20 minutes."""
    found = of.settle(run, "core_temperature_c")
    return found if found.half_width is not None else settled_core(run)


def _mean(run: RunSummary, hottest: Value) -> Value:
    """Return where the mean of the cores settles, from where the hottest does."""
    mean, read = mean_of_cores(run), hottest_settled(run)
    if mean.value is None or read.value is None or hottest.value is None:
        return mean
    return value_of(hottest.value - read.value + mean.value, hottest.half_width)


def _sentence(of: AnswerMaterial, working: list[_Sheet], rows: list[_Sheet]) -> str:
    if not rows:
        return "Nothing has been measured as found yet"
    if not working:
        return f"Idle, it stands at {amount(rows[0].core, 1, '°C')}"
    top = working[0]
    if top.last.heat_limited:
        return f"{top.title} reaches the cap: {amount(top.core, 1, '°C')}"
    if top.core.half_width is None:
        return f"{top.title} is at {bare(top.hottest, 1, '°C')} and has not settled"
    ceiling = of.card.temperature_ceiling_c(top.last.setting)
    left = ceiling - top.hottest
    if not math.isfinite(left):
        return f"{top.title} is the hottest; where it settles is not known yet"
    where = "under" if left >= 0 else "over"
    return f"{top.title} settles at {amount(top.core, 1, '°C')}, {bare(abs(left), 1, 'K')} {where} the ceiling"


def _consequence(of: AnswerMaterial, working: list[_Sheet]) -> str:
    """Say what limits the loads, how much clock that takes, and what a hot room would do."""
    words = []
    for row in working:
        clock, cap = row.values["effective_clock_mhz"].value, row.last.setting.clock_cap_mhz
        held = row.last.heat_limited or row.last.power_limited
        if held and clock is not None and cap and row.card.kind != LoadKind.LIGHT and cap - clock >= 5.0:
            words.append(f"{row.limiter.capitalize()} takes {bare(cap - clock, 0, 'MHz')} of {row.title.lower()}.")
    top = working[0] if working else None
    if top is not None and top.rise.value is not None and not top.last.heat_limited and not top.last.setting.fan_curve:
        there = of.limits.design_room_c + top.rise.value
        words.append(
            f"In a room of {bare(of.limits.design_room_c, 0, '°C')} {top.title.lower()} comes to about {bare(there, 0, '°C')}."
        )
    if top is not None and not words:
        words.append("Nothing but the clock's own cap limits it." if names_limit(top.limiter) else "")
    return " ".join(word for word in words[:2] if word)


def _table(rows: list[_Sheet]) -> Table | None:
    if not rows:
        return None
    shown = [name for name in READINGS if any(row.values[name[0]].known for row in rows)]
    columns = (
        Column("rise_k", "Rise", "K", brief=True),
        *(Column(name, title, unit, digits, name not in TOLD_WITH_INTERVAL) for name, title, unit, digits in shown),
        Column("run", "Run", "", 0),
        Column("shows", "What it shows"),
    )
    return Table("Behind it", columns, tuple(row.row(columns) for row in rows))


def _picture(of: AnswerMaterial, rows: list[_Sheet]) -> Bars | None:
    if not rows:
        return None
    guard = next((one.trip for one in of.plan.guards if one.quantity == "core_temperature_c" and not one.falling), None)
    cap = rows[0].last.setting.temperature_cap_c
    return Bars(tuple(row.bar() for row in rows), cap, guard, _tracks(of, rows))


def _tracks(of: AnswerMaterial, rows: list[_Sheet]) -> tuple[Track, ...]:
    """Return how near the loads came to what protects the machine: caps that firmware holds, then guards, nearest first."""
    found: list[Track] = []
    working = [row for row in rows if not row.idle]
    for name, title in (("temperature_cap_c", "Temperature cap"), ("sustained_power_w", "Power limit")):
        own = "hottest_core_c" if name == "temperature_cap_c" else "package_power_w"
        near = [
            (value, row, limit)
            for row in working
            if (value := row.values[own].value) is not None and (limit := row.last.setting.value(name)) is not None
        ]
        if near:
            value, row, limit = max(near, key=lambda one: one[0] - one[2])
            reached = row.last.heat_limited if name == "temperature_cap_c" else row.last.power_limited
            left = "reached" if reached else bare(max(limit - value, 0.0), 1, quantity_of(name).unit.replace("°C", "K"))
            share = 1.0 if reached else _share(value, limit)
            found.append(Track(f"{title}, {bare(limit, 0, quantity_of(name).unit)}", row.title.lower(), share, left, True))
    for guard in of.plan.guards:
        if guard.falling or guard.quantity not in {name for row in rows for run in row.runs for name in run.highest}:
            continue
        highest, row = max(
            ((run.highest[guard.quantity], row) for row in rows for run in row.runs if guard.quantity in run.highest),
            key=lambda one: one[0],
        )
        quantity = quantity_of(guard.quantity)
        left = bare(guard.trip - highest, quantity.digits, quantity.unit.replace("°C", "K"))
        title = f"Guard on {quantity.title.lower()}, {bare(guard.trip, 0, quantity.unit)}"
        found.append(Track(title, row.title.lower(), _share(highest, guard.trip), left, False))
    return tuple(sorted(found, key=lambda one: -one.share))


def _share(value: float, limit: float) -> float:
    """Return which share of the way to a limit is used, temperatures from 20 on."""
    return min(max((value - 20.0) / (limit - 20.0), 0.0), 1.0) if limit > 20.0 else 0.0


def _remarks(of: AnswerMaterial, rows: list[_Sheet]) -> tuple[Remark, ...]:
    found = []
    card = of.card
    cap = card.stock.temperature_cap_c
    firmware = f"Firmware caps at {bare(cap, 0, '°C')} and shuts" if cap is not None else "Firmware shuts"
    guard = next((one.trip for one in of.plan.guards if one.quantity == "core_temperature_c" and not one.falling), None)
    ends = f" Niente ends a run at {bare(guard, 0, '°C')}." if guard is not None else ""
    found.append(Remark("What protects it", f"{firmware} down at {bare(card.limits.shut_down_c, 0, '°C')}.{ends}"))
    widest = max((row for row in rows if not row.idle), key=lambda row: row.values["cores_apart_k"].value or 0.0, default=None)
    if widest is not None and (apart := widest.values["cores_apart_k"].value):
        words = (
            f"Under {widest.title.lower()} the cores lie {bare(apart, 1, 'K')} apart; core {leading_core(widest.last)} leads."
        )
        found.append(Remark("How far cores differ", words))
    wall = [row for row in rows if row.values["wall_energy_kwh"].known]
    if wall:
        most = max(wall, key=lambda row: row.values["wall_energy_kwh"].value or 0.0)
        idle = next((row for row in wall if row.idle), None)
        words = f"{amount(most.values['wall_energy_kwh'], 2, 'kWh')} a day under {most.title.lower()}"
        if idle is not None and idle is not most:
            words += f", {amount(idle.values['wall_energy_kwh'], 2, 'kWh')} idle"
        found.append(Remark(WALL, f"{words}."))
    return tuple(found)


def _surer(of: AnswerMaterial, working: list[_Sheet]) -> MakesSurer | None:
    """Return one more run of the load whose settled temperature is known worst."""
    if not working:
        return None
    worst = max(working, key=lambda row: row.core.half_width if row.core.half_width is not None else math.inf)
    step = next((row.step for row in of.rows if row.step.load == worst.card.name), None)
    if step is None:
        return None
    again = Step(worst.last.setting, worst.card.name, step.exposure, "baseline", "Once more, to be surer")
    seconds = worst.last.seconds
    width = number_text(worst.core.half_width, 1) if worst.core.half_width is not None else "10 and more"
    words = f"Once more {worst.title.lower()}, {duration_text(seconds)}: it is known to ± {width} K."
    return MakesSurer(words, seconds / 3600.0, (again,))


def _cautions(of: AnswerMaterial) -> tuple[str, ...]:
    curves = any(row.run is not None and row.run.setting.fan_curve for row in of.rows)
    words = ["Keep within the maker's limits: what is found here is this machine, in this room, on this day."]
    if curves:
        words.append("Fans follow their curve: a warmer room is heard as well as felt. Fix them before you compare.")
    return tuple(words)
