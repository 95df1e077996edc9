"""Every quantity that Niente measures, sets or infers, declared once.

Spin boxes, axes, tables, CSV headers, tooltips and errors read their name, unit, precision and range here. A channel
or control is named after its quantity, with the part behind a dot where there is more than one:
``core_temperature_c.3``, ``fan_duty.case``.
"""

import re

import msgspec

from niente.core.model.names import kind_of

NO_BREAK_SPACE = "\u00a0"
TRUE_MINUS = "−"


class Quantity(msgspec.Struct, frozen=True):
    """One quantity: what it is called, in which unit, how finely it is shown, and what is physically sensible.

    ``digits`` are decimals shown; ``low`` and ``high`` bound any value a person may type or a file may hold.
    """

    name: str
    title: str
    symbol: str
    unit: str
    digits: int
    low: float
    high: float

    def text(self, value: float) -> str:
        """Return the value alone, rounded, with a true minus and thin grouping of thousands."""
        return number_text(value, self.digits)

    def with_unit(self, value: float, half_width: float | None = None) -> str:
        """Return value, interval where it has one, and unit: ``83.3 ± 1.0 °C``, held together by no-break spaces."""
        parts = [self.text(value)]
        if half_width is not None:
            parts += ["±", number_text(half_width, self.digits)]
        if self.unit:
            parts.append(self.unit)
        return NO_BREAK_SPACE.join(parts)


def number_text(value: float, digits: int) -> str:
    """Return a number for reading: true minus, no "−0", thousands apart by a no-break space, an en dash for "none"."""
    if value != value:
        return "–"
    text = f"{value:,.{digits}f}".replace(",", NO_BREAK_SPACE)
    if text.startswith("-"):
        text = text[1:] if float(text.replace(NO_BREAK_SPACE, "")) == 0 else TRUE_MINUS + text[1:]
    return text


def signed_text(value: float, digits: int) -> str:
    """Return a difference for reading: as ``number_text`` has it, with a plus where it is more than nothing."""
    text = number_text(value, digits)
    return f"+{text}" if value > 0 and text.strip("0.") else text


def duration_text(seconds: float) -> str:
    """Return a length of time as people say it at the bench: ``40 s``, ``12 min``, ``9 h 20 min``."""
    if seconds < 90:
        return f"{seconds:.0f}{NO_BREAK_SPACE}s"
    minutes = round(seconds / 60)
    if minutes < 60:
        return f"{minutes}{NO_BREAK_SPACE}min"
    hours, rest = divmod(minutes, 60)
    return f"{hours}{NO_BREAK_SPACE}h" + (f" {rest}{NO_BREAK_SPACE}min" if rest else "")


def sentence(words: str) -> str:
    """Return words with a full stop, where they do not end in a mark of their own."""
    return words if words.endswith(("?", ".", ":")) else f"{words}."


_DECLARED = (
    Quantity("core_temperature_c", "Core temperature", "T", "°C", 1, -40, 150),
    Quantity("hottest_core_c", "Hottest core", "T_hot", "°C", 1, -40, 150),
    Quantity("package_temperature_c", "Package", "T_p", "°C", 1, -40, 150),
    Quantity("board_temperature_c", "Board supply", "T_b", "°C", 1, -40, 150),
    Quantity("case_air_temperature_c", "Case air", "T_air", "°C", 1, -40, 120),
    Quantity("graphics_temperature_c", "Graphics", "T_g", "°C", 1, -40, 130),
    Quantity("coolant_temperature_c", "Coolant", "T_w", "°C", 1, -20, 100),
    Quantity("room_temperature_c", "Room", "R", "°C", 1, -20, 50),
    Quantity("dew_point_c", "Dew point", "T_d", "°C", 1, -60, 50),
    Quantity("humidity_percent", "Humidity", "RH", "%", 0, 0, 100),
    Quantity("altitude_m", "Altitude", "h", "m", 0, -500, 6000),
    Quantity("hour_of_day_h", "Hour of the day", "", "h", 1, 0, 24),
    Quantity("time_h", "Time", "t", "h", 1, 0, 10000),
    Quantity("time_min", "Time", "t", "min", 0, 0, 10000),
    Quantity("times", "Times", "n", "", 0, 0, 1e6),
    Quantity("distance_m", "Distance", "d", "m", 2, 0.05, 50),
    Quantity("core_rise_k", "Core rise over room", "ΔT", "K", 1, -20, 130),
    Quantity("headroom_k", "Headroom", "H", "K", 1, -100, 130),
    Quantity("rise_rate_k_per_min", "Rate of rise", "dT/dt", "K/min", 1, 0, 600),
    Quantity("dew_margin_k", "Over the dew point", "T − T_d", "K", 1, -60, 100),
    Quantity("room_moved_k", "Room moved", "ΔR", "K", 1, 0, 50),
    Quantity("package_power_w", "Package power", "P", "W", 1, 0, 1500),
    Quantity("graphics_power_w", "Graphics power", "P_g", "W", 1, 0, 1500),
    Quantity("wall_power_w", "Wall power", "P_w", "W", 1, 0, 3000),
    Quantity("effective_clock_mhz", "Effective clock", "f", "MHz", 0, 0, 10000),
    Quantity("core_voltage_v", "Core voltage", "V", "V", 3, 0, 2),
    Quantity("throughput_per_s", "Throughput", "X", "1/s", 2, 0, 1e9),
    Quantity("throughput_percent", "Throughput", "X", "%", 1, 0, 300),
    Quantity("throughput_per_watt", "Throughput per watt", "X/P", "%/W", 3, 0, 300),
    Quantity("probability", "Probability", "p", "", 2, 0, 1),
    Quantity("fan_speed_rpm", "Fan speed", "n", "rpm", 0, 0, 20000),
    Quantity("noise_dba", "Noise in the room", "L", "dBA", 1, 0, 130),
    Quantity("level_over_db", "Level over the room", "ΔL", "dB", 1, 0, 100),
    Quantity("wrong_results", "Wrong results", "", "", 0, 0, 1e9),
    Quantity("thermal_resistance_kpw", "Thermal resistance", "θ", "K/W", 3, 0, 20),
    Quantity("voltage_offset_mv", "Voltage offset", "ΔV", "mV", 0, -400, 200),
    Quantity("core_offset_mv", "Core's own offset", "ΔV_i", "mV", 0, -400, 200),
    Quantity("point_offset_mv", "Curve point's offset", "ΔV_p", "mV", 0, -400, 200),
    Quantity("sustained_power_w", "Sustained power limit", "P_s", "W", 0, 1, 1500),
    Quantity("burst_power_w", "Burst power limit", "P_b", "W", 0, 1, 2000),
    Quantity("burst_time_s", "Burst time", "τ_b", "s", 0, 0, 600),
    Quantity("clock_cap_mhz", "Clock cap", "f_cap", "MHz", 0, 100, 10000),
    Quantity("active_clock_mhz", "Clock limit by active cores", "f_n", "MHz", 0, 100, 10000),
    Quantity("fixed_clock_mhz", "Fixed clock", "f_fix", "MHz", 0, 0, 10000),
    Quantity("fixed_voltage_v", "Fixed voltage", "V_fix", "V", 3, 0, 2),
    Quantity("temperature_cap_c", "Temperature cap", "T_cap", "°C", 0, 30, 125),
    Quantity("fan_duty", "Fan duty", "d", "%", 0, 0, 100),
    Quantity("fan_supply_v", "Fan supply", "V_f", "V", 1, 0, 24),
    Quantity("load_size", "Size of the load", "n", "", 0, 0, 1e9),
)
QUANTITIES = {quantity.name: quantity for quantity in _DECLARED}


def quantity_of(name: str) -> Quantity:
    """Return the quantity of a channel or control name; the part behind the dot does not matter.

    Raises ``KeyError`` for a name that is not declared here.
    """
    return QUANTITIES[kind_of(name)]


def is_quantity(name: str) -> bool:
    """Return whether a channel or control name is declared here."""
    return kind_of(name) in QUANTITIES


# What a person may type in place of a quantity's own unit: unit typed -> unit kept -> how many of the kept one it is.
_TYPED = {
    "kW": {"W": 1000.0},
    "mW": {"W": 0.001},
    "GHz": {"MHz": 1000.0},
    "V": {"mV": 1000.0},
    "mV": {"V": 0.001},
    "s": {"min": 1.0 / 60.0, "h": 1.0 / 3600.0},
    "min": {"s": 60.0, "h": 1.0 / 60.0},
    "h": {"min": 60.0, "s": 3600.0},
    "C": {"°C": 1.0},
    "dB": {"dBA": 1.0},
    "°": {"°C": 1.0},
}
_TYPED_NUMBER = re.compile(r"([+-]?[0-9]+(?:[.,][0-9]*)?|[+-]?[.,][0-9]+)\s*(\S*)")


def value_typed(text: str, unit: str) -> float:
    """Return the value that a person typed, in ``unit``: ``"0.12 kW"`` is 120 for W, ``"−40"`` is -40, a comma is a point.

    Raises ``ValueError``, with the reason in words, for what is no number or carries a unit that does not belong.
    """
    plain = text.strip().replace(TRUE_MINUS, "-")
    for space in ("\u00a0", "\u202f", "\u2009"):  # no-break, narrow no-break and thin: all of them part thousands
        plain = plain.replace(space, " ")
    plain = re.sub(r"(?<=[0-9]) (?=[0-9]{3}(\D|$))", "", plain)
    match = _TYPED_NUMBER.fullmatch(plain)
    if match is None:
        raise ValueError(f"{text.strip()!r} is no number")
    number, typed = float(match[1].replace(",", ".")), match[2]
    if typed in ("", unit):
        return number
    factor = _TYPED.get(typed, {}).get(unit)
    if factor is None:
        raise ValueError(f"{typed} is no unit of this; it is kept in {unit}")
    return number * factor
