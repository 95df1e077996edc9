"""A setting against stock, load by load, in the design room; and the controls of a setting in the order of entry."""

import math

from niente.core.analysis.models import Models
from niente.core.analysis.point_prediction import Figure, predict_point
from niente.core.answers.framing import known_figures
from niente.core.answers.wording import load_title, title_rest
from niente.core.model.answer_document import AnswerFigure, Column, Table, TableRow, Value, value_of
from niente.core.model.rig_card import Control, LoadKind, RigCard, SetBy
from niente.core.model.setting import Setting
from niente.core.selection.setting_words import differing

BY = {SetBy.FIRMWARE: "in the firmware", SetBy.SOFTWARE: "by software", SetBy.HANDS: "by hand"}
ENTRY = (SetBy.HANDS, SetBy.FIRMWARE, SetBy.SOFTWARE)
"""The order of entry: what needs the machine off and open, what needs its firmware, what is set while it runs."""


class LoadAt:
    """What a load comes to at a setting and at stock, in a room."""

    def __init__(self, models: Models, load: str, setting: Setting, room_c: float) -> None:
        card = models.card.load(load)
        assert card is not None
        self.card = card
        self.there = predict_point(models, setting, load, room_c)
        self.stock = predict_point(models, models.card.stock, load, room_c)

    def gain(self, name: str) -> Value:
        """Return a figure at the setting less that at stock; what both share makes its interval no wider than either's."""
        here, before = getattr(self.there, name), getattr(self.stock, name)
        if here.value is None or before.value is None:
            return Value()
        widths = [one.half_width for one in (here, before) if one.half_width is not None]
        return value_of(here.value - before.value, math.hypot(*widths) if widths else None, forecast=True)

    def figures(self) -> list[AnswerFigure]:
        """Return gains and losses by public names."""
        told = (
            ("throughput_percent", "throughput of stock", "%", 1, _value(self.there.throughput_percent)),
            ("core_k", "core against stock", "K", 1, self.gain("core_c")),
            ("power_w", "package against stock", "W", 1, self.gain("power_w")),
            ("clock_mhz", "clock against stock", "MHz", 0, self.gain("clock_mhz")),
        )
        return known_figures(self.card.name, load_title(self.card), told, ())

    def row(self) -> TableRow:
        """Return the load's row."""
        return TableRow(
            load_title(self.card),
            (
                _value(self.there.throughput_percent),
                self.gain("clock_mhz"),
                self.gain("power_w"),
                self.gain("core_c"),
                _value(self.there.core_c),
                _value(self.there.in_room_dba),
                Value(words=self.there.limiter),
            ),
            title_rest(self.card),
            open=not self.there.inside,
        )


def _value(figure: Figure) -> Value:
    return Value() if figure.value is None else value_of(figure.value, figure.half_width, forecast=True)


def loads_against_stock(models: Models, setting: Setting, room_c: float) -> list[LoadAt]:
    """Return what each steady load that was run comes to at a setting and at stock, in a room."""
    return [
        LoadAt(models, load.name, setting, room_c)
        for load in models.card.loads
        if load.name in models.power.loads and load.kind not in (LoadKind.IDLE, LoadKind.BURST)
    ]


def entry_order(controls: tuple[Control, ...], setting: Setting, stock: Setting) -> list[tuple[Control, float, float | None]]:
    """Return the controls that differ from stock in the order in which they are entered, each with its value and stock's."""
    differ = dict(differing(setting, stock))
    found = [(control, differ[control.name], stock.value(control.name)) for control in controls if control.name in differ]
    return sorted(found, key=lambda one: ENTRY.index(one[0].set_by))


def against_stock(card: RigCard, loads: list[LoadAt]) -> Table | None:
    """Return loads against stock, a row each; those on one core that were not run for long enough say so."""
    columns = (
        Column("throughput_percent", "Throughput", "%", 1),
        Column("clock_mhz", "Clock", "MHz", 0),
        Column("power_w", "Package", "W", 1),
        Column("core_k", "Core", "K", 1),
        Column("core_c", "In the design room", "°C", 1),
        Column("noise_dba", "Noise", "dBA", 1),
        Column("limiter", "What limits it"),
    )
    rows = [one.row() for one in loads]
    told = {one.card.name for one in loads}
    for load in card.loads:
        if load.kind == LoadKind.LIGHT and load.name not in told:
            none = (Value(),) * (len(columns) - 1)
            rows.append(
                TableRow(load_title(load), (*none, Value(words="not run for long enough to tell")), title_rest(load), open=True)
            )
    return Table("Against stock, load by load", columns, tuple(rows)) if loads else None
