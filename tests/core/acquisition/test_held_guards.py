"""When guards trip on made-up faults, and how far they are from tripping, held to what it was when it was agreed on (see
``tests.held``)."""

from collections.abc import Callable

import numpy as np
import pytest

from niente.core.acquisition.guard_distance import distances
from niente.core.acquisition.guards.guard_set import GuardSet
from niente.core.acquisition.samples import Samples
from niente.core.model.frame import Frame
from niente.core.model.guard_rules import default_guards, guard_on, guardable
from niente.core.model.plan import Guard
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting
from tests.core.planning.plans import card_of
from tests.held import hold

SECONDS, FROM = 900, 150
Values = np.ndarray


def working(card: RigCard) -> Values:
    """A machine that warms up under a load and stays there, every reading a little restless: ``(n, channels)``."""
    rng = np.random.default_rng(3)
    level = 1.0 - np.exp(-np.arange(SECONDS) / 90.0)
    columns = []
    for channel in card.channels:
        name = channel.name
        warm = 66.0 if name.startswith("core") else 34.0 if "temperature_c" in name else 800.0 if "rpm" in name else 60.0
        cold = 30.0 if "temperature_c" in name else warm
        if name in ("room_temperature_c", "humidity_percent"):
            warm = cold = 23.0 if name == "room_temperature_c" else 45.0
        columns.append(cold + (warm - cold) * level + 0.05 * rng.standard_normal(SECONDS))
    return np.stack(columns, axis=1)


def first_trips(card: RigCard, guards: tuple[Guard, ...], values: Values, setting: Setting) -> list[list[object]]:
    """The first two trips: at which sample, what is done, and why."""
    watch, found = GuardSet(guards, card), []
    watch.begin()
    for second, row in enumerate(values):
        trip = watch.look(Frame(float(second), row), setting)
        if trip is not None:
            quiet = watch.quiet(trip.guard) if trip.guard is not None else None
            found.append([second, trip.action, trip.reason, quiet])
            if len(found) == 2:
                break
        if second == 100:
            watch.learn(Frame(float(second), row), setting)
    return found


def faults(card: RigCard) -> dict[str, Callable[[Values], None]]:
    """What goes wrong from the same second on, by name."""
    cores, room = list(card.indices("core_temperature_c")), card.index("room_temperature_c")
    others = [index for index, channel in enumerate(card.channels) if "temperature_c" in channel.name and index not in cores]
    fans = list(card.indices("fan_speed_rpm"))
    after, top = slice(FROM, None), card.limits.shut_down_c

    def put(indices: list[int], value: float, length: int = SECONDS) -> Callable[[Values], None]:
        def act(values: Values) -> None:
            values[FROM : FROM + length, indices] = value

        return act

    def ramp(indices: list[int], per_minute: float) -> Callable[[Values], None]:
        def act(values: Values) -> None:
            values[after, indices] += (per_minute / 60.0 * np.arange(SECONDS - FROM))[:, None]

        return act

    def still(indices: list[int]) -> Callable[[Values], None]:
        def act(values: Values) -> None:
            values[after, indices] = values[FROM, indices]

        return act

    found = {f"a core lost for {many} samples": put(cores[:1], np.nan, many) for many in (1, 2, 3, 4)}
    found |= {f"{many} cores do not move": still(cores[:many]) for many in (1, len(cores) // 2, len(cores))}
    found |= {f"a core reads {value:g} °C": put(cores[1:2], value) for value in (top + 24.0, top + 26.0, -30.0, -80.0)}
    found |= {f"a core wild for {many} samples": put(cores[1:2], 900.0, many) for many in (1, 2)}
    found |= {f"all cores rise by {rate:g} K a minute": ramp(cores, rate) for rate in (6.0, 14.0, 22.0, 40.0)}
    found |= {f"cores at {value:g} °C": put(cores[2:3], value) for value in (84.0, 88.0, 93.0, 99.0, 104.0)}
    found |= {f"fan {number} at {rpm:g} rpm": put([fan], rpm) for number, fan in enumerate(fans) for rpm in (55.0, 65.0)}
    for index in others:
        name = card.channels[index].name
        found |= {
            f"{name} lost": put([index], np.nan),
            f"{name} at 130 °C": put([index], 130.0),
            f"{name} still": still([index]),
        }
        found |= {f"{name} rises by {rate:g} K a minute": ramp([index], rate) for rate in (1.0, 6.0)}
    if room is not None:
        found |= {f"the room moves by {by:g} K": put([room], 23.0 + by) for by in (-6.0, -2.5, 1.5, 3.5)}
    return found


@pytest.mark.parametrize("name", ["larkspur", "cormorant", "wren"])
def test_when_guards_trip(name: str) -> None:
    card, found = card_of(name), {}
    every = tuple(guard_on(card, quantity) for quantity in guardable(card))
    setting = Setting().over(card.stock)
    for what, act in faults(card).items():
        values = working(card)
        act(values)
        found[what] = {
            "by default": first_trips(card, default_guards(card), values, setting),
            "all guards": first_trips(card, every, values, setting),
        }
    hold(f"guards-{name}", found)


@pytest.mark.parametrize("name", ["cormorant"])
def test_how_far_guards_are(name: str) -> None:
    card, found = card_of(name), {}
    every = tuple(guard_on(card, quantity) for quantity in guardable(card))
    for what, act in list(faults(card).items())[::7]:
        values = working(card)
        act(values)
        for until in (8, 30, 140, 200):
            samples = Samples(len(card.channels))
            for second, row in enumerate(values[:until]):
                samples.add(Frame(float(second), row))
            found[f"{what}, {until} s"] = [
                [one.title, one.reading, one.level, one.floor, one.seconds, one.left, one.share]
                for one in distances(card, every, card.stock, samples)
            ]
    hold(f"guard-distances-{name}", found)
