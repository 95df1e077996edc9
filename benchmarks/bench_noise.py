"""The noise map: ten minutes of readings, and how far off it is at fan speeds that nobody read, over every shipped machine."""

import msgspec
import numpy as np

from benchmarks.result import Result
from benchmarks.size import draws
from niente.core.model.setting import Setting
from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
from niente.core.rigs.simulated.rig import SimulatedRig
from niente.core.science.acoustics import add_levels
from niente.core.science.arrays import Array, Vector
from niente.core.science.noise_fit import fit_noise
from niente.core.science.statistics import mean_with_error

SEEDS = draws(least=1, small=4, full=10)
DUTIES, TWENTY_S, UNSEEN = 30, 20, 60
GOAL_MEDIAN_DB, GOAL_MOST_DB = 0.1, 0.6


class HeardLevel(msgspec.Struct):
    """One machine's readings, and what is true at speeds that were not read."""

    groups: tuple[str, ...]
    rpm: Array
    level_dba: Vector
    error_db: Vector
    unseen_rpm: Array
    truth_dba: Vector


def hear(name: str, seed: int) -> HeardLevel:
    """Read every group alone over its duties, the others at their least; then set any duties and keep the truth."""
    rig = SimulatedRig(shipped_file(name), seed=seed)
    card = rig.describe()
    groups = card.fan_groups()
    channels = [channel.name for channel in card.channels]
    indices = [channels.index(f"fan_speed_rpm.{group}") for group in groups]
    meter = card.index("noise_dba")
    least = {control.name.partition(".")[2]: control.low for control in card.controls if control.name.startswith("fan_duty.")}
    rows, levels, errors, unseen, truth = [], [], [], [], []

    def run(duty: dict[str, float], seconds: int) -> Array:
        rig.apply(Setting(fan_duty=duty))
        return rig.record(seconds)[1][-(seconds // 2) :]

    plan = [least, *({**least, group: float(duty)} for group in groups for duty in _duties(least[group], len(groups)))]
    for duty in plan:
        tail = run(duty, TWENTY_S)
        level, error = mean_with_error(tail[:, meter])
        rows.append(tail[:, indices].mean(axis=0))
        levels.append(level)
        errors.append(error)
    rng = np.random.default_rng(seed)
    for _ in range(UNSEEN):
        duty = {group: float(rng.uniform(max(least[group], 15.0), 100.0)) for group in groups}
        unseen.append(run(duty, TWENTY_S)[:, indices].mean(axis=0))
        truth.append(rig.true_level_dba(duty))
    return HeardLevel(groups, np.array(rows), np.array(levels), np.array(errors), np.array(unseen), np.array(truth))


def _duties(least: float, groups: int) -> Vector:
    return np.geomspace(max(least, 12.0), 100.0, DUTIES // groups)


def _interpolated(heard: HeardLevel) -> Vector:
    """What a spreadsheet makes of the same readings: each group's own level read off between its readings, the room taken
    out of each as energy, and all of it added up."""
    room = heard.level_dba[0]
    parts = [np.full(heard.truth_dba.shape[0], room)]
    for group in range(len(heard.groups)):
        others = np.delete(heard.rpm, group, axis=1)
        alone = np.flatnonzero(np.all(np.abs(others - np.delete(heard.rpm[0], group)) < 60.0, axis=1))
        energy = np.maximum(10.0 ** (heard.level_dba[alone] / 10.0) - 10.0 ** (room / 10.0), 1e-2)
        order = np.argsort(heard.rpm[alone, group])
        at, own = heard.rpm[alone, group][order], 10.0 * np.log10(energy)[order]
        parts.append(np.interp(heard.unseen_rpm[:, group], at, own))
    return np.asarray(add_levels(np.array(parts), axis=0))


def results() -> list[Result]:
    """Measure."""
    off, held, by_hand = [], [], []
    for name in shipped_machines():
        for seed in range(1, SEEDS + 1):
            heard = hear(name, seed)
            model = fit_noise(heard.groups, heard.rpm, heard.level_dba, heard.error_db)
            level, half_width = model.in_room(heard.unseen_rpm)
            error = np.abs(level - heard.truth_dba)
            off += error.tolist()
            held += (error <= half_width).tolist()
            by_hand += np.abs(_interpolated(heard) - heard.truth_dba).tolist()
    middle, most = float(np.median(off)), float(np.percentile(off, 95))
    theirs, their_most = float(np.median(by_hand)), float(np.percentile(by_hand, 95))
    share = float(np.mean(held))
    words = f"noise in the room where nobody read, {len(off)} places"
    return [
        Result(f"{words}, median", middle, "dB", "goal of 0.1 dB", middle / GOAL_MEDIAN_DB),
        Result("the same", middle, "dB", "read off between readings", middle / theirs),
        Result("95 % of them", most, "dB", "goal of 0.6 dB", most / GOAL_MOST_DB),
        Result("the same", most, "dB", "read off between readings", most / their_most),
        Result("95 % intervals that hold", 100 * share, "%", "95 %", share / 0.95),
    ]
