"""A driver as a stranger would write it: one core, one fan, no simulation of Niente's in it."""

import time

import msgspec
import numpy as np

from niente.rig import Channel, Control, Frame, LoadCard, LoadKind, MakersLimits, RigCard, RigError, Setting

CARD = RigCard(
    name="doorbell",
    title="Doorbell",
    summary="1 core, one fan",
    simulated=True,
    serial="7",
    variant="as built",
    channels=(
        Channel("core_temperature_c.1", "Core 1", 0.1),
        Channel("room_temperature_c", "Room", 0.1),
        Channel("package_power_w", "Package power", 0.1),
        Channel("effective_clock_mhz", "Effective clock", 1.0),
        Channel("throughput_per_s", "Throughput"),
        Channel("fan_speed_rpm.case", "Fan", 1.0),
        Channel("noise_dba", "Noise at 1 m", 0.1),
    ),
    controls=(Control("sustained_power_w", 5, 20, 1), Control("fan_duty.case", 0, 100, 1)),
    loads=(LoadCard("idle", "Idle", LoadKind.IDLE), LoadCard("ring", "Ringing", LoadKind.HEAVY, True)),
    limits=MakersLimits(90.0, 100.0),
    stock=Setting(sustained_power_w=15.0, fan_duty={"case": 60.0}),
    safe=Setting(sustained_power_w=5.0, fan_duty={"case": 100.0}),
)


class Doorbell:
    """The machine."""

    def __init__(self, seed: int = 1, pace: float | None = None) -> None:
        self._rng = np.random.default_rng(seed)
        self._setting, self._load, self._time, self._core = CARD.safe, "idle", 0.0, 25.0

    def describe(self) -> RigCard:
        return CARD

    def check(self, setting: Setting) -> list[str]:
        return CARD.refusals(setting)

    def apply(self, setting: Setting) -> str | None:
        self._setting = setting.over(self._setting)
        return None

    def start(self, load: str) -> None:
        if CARD.load(load) is None:
            raise RigError(f"no load {load!r}", remedy="Choose another.")
        self._load = load

    def stop(self) -> None:
        self._load = "idle"

    def frame(self, timeout_s: float) -> Frame | None:
        time.sleep(0)
        self._time += 1.0
        watts = (self._setting.sustained_power_w or 5.0) if self._load == "ring" else 1.0
        duty = self._setting.fan_duty["case"]
        end = 22.0 + watts * (0.8 + 1.4 / (0.3 + duty / 100.0))
        self._core += (end - self._core) / 40.0
        work = 3.0 * watts**0.5 if self._load == "ring" else 0.0
        noise = self._rng.standard_normal(2)
        level = 10 * np.log10(10**2.0 + 10**3.8 * (duty / 100.0) ** 5) + 0.2 * noise[1]
        values = [self._core + 0.2 * noise[0], 22.0 + 0.02 * noise[1], watts, 400 + 100 * watts, work, 20 * duty, level]
        return Frame(self._time, np.array(values))

    def make_safe(self) -> None:
        self._setting, self._load = CARD.safe, "idle"

    def close(self) -> None:
        self.make_safe()


not_a_factory = 7


def broken(**options: object) -> Doorbell:
    raise OSError("the cable is out")


class RealDoorbell(Doorbell):
    """The same, said to be a machine that can be harmed."""

    def describe(self) -> RigCard:
        return msgspec.structs.replace(CARD, simulated=False)


class DeafDoorbell(Doorbell):
    """The same without a sound meter."""

    def describe(self) -> RigCard:
        return msgspec.structs.replace(CARD, channels=CARD.channels[:-1])

    def frame(self, timeout_s: float) -> Frame | None:
        whole = super().frame(timeout_s)
        return msgspec.structs.replace(whole, values=whole.values[:-1]) if whole is not None else None
