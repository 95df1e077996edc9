"""The noise map: how loud a machine is in its room at any speeds of its fans and any power, from half a minute a duty.

Each fan group follows a speed law, L = L_full + k lg(n/n_full), bent by what no law knows: resonances of blades, grilles and
panels. The bends are a Gaussian process over the logarithm of speed, at nodes. What the watts themselves make heard (coils, a
supply's own fan) is one more source, L = L_full + k lg(P/P_full). All sources and the room add as energies.
"""

import math

import msgspec
import numpy as np

from niente.core.science.acoustics import add_levels
from niente.core.science.arrays import Array, Mask, Vector
from niente.core.science.statistics import Z95, quadratic

NODES = np.linspace(-1.2, 0.0, 17)
"""Where the bends stand, in lg of the share of full speed."""
MODEL_SD_DB, BETWEEN_SD_DB, BETWEEN_DECADES = 0.16, 0.4, 0.03
"""What laws and bends leave out at a speed that was heard, and what a narrow resonance may add between those, as standard
deviations; and how far (in lg of speed) a reading speaks for its neighbourhood. Common practice, no source."""
SILENT_DB, ABSENT_DB = -20.0, -120.0
"""The level of a group that stands, or is too faint to matter; and of what is not there."""
TURNING_RPM = 30.0
TOLD_HW_DB = 3.0
"""A machine alone that is not known to within this is told as an upper bound."""
WITHOUT_ROOM_SD_DB = 0.12
"""What taking the room out of a level adds to its error, as a standard deviation."""
FAINT_DB = 1.0
"""The machine has to add this much to the room for its level to be told at all; less is within what a room does by itself."""


class HeardLevels(msgspec.Struct, frozen=True):
    """Levels with their 95 % half widths, all ``(...)``: in the room, and of the machine without it as modelled. Where
    ``bound`` the machine cannot be told from the room, and ``at_most_dba`` is what it lies under with 95 %."""

    in_room_dba: Array
    in_room_hw: Array
    alone_dba: Array
    alone_hw: Array
    at_most_dba: Array
    bound: Mask


class NoiseModel(msgspec.Struct, frozen=True):
    """In-room level over the fans' speeds and the power: the background, one bent speed law a group, and what the power makes
    heard, added as energies.

    ``background_dba`` belongs to the meter's place; ``level_dba`` (g,) is each group's level at its ``full_rpm``, before it
    is bent; ``per_decade`` (g,) its law in dB; ``bends`` (g, nodes) dB over the law at ``NODES``; ``of_power`` level (at
    ``full_w``) and law of what the watts make heard. ``covariance`` is of all of them in that order. ``wander_db`` is what the
    background moves from reading to reading, ``heard`` the speeds (lg of the share of the highest) at which each group was
    heard, ``rejected`` the indices of readings that cannot be true beside the others.
    """

    groups: tuple[str, ...]
    full_rpm: tuple[float, ...]
    background_dba: float
    level_dba: tuple[float, ...]
    per_decade: tuple[float, ...]
    bends: tuple[tuple[float, ...], ...]
    covariance: tuple[tuple[float, ...], ...]
    of_power: tuple[float, float] = (SILENT_DB, 14.0)
    full_w: float = 100.0
    wander_db: float = 0.0
    heard: tuple[tuple[float, ...], ...] = ()
    rejected: tuple[int, ...] = ()

    @property
    def background_sd_db(self) -> float:
        """How well the background is known, as a standard error in dB."""
        return math.sqrt(self.covariance[0][0])

    @property
    def background_hw_db(self) -> float:
        """How well the background is known, as a 95 % half width in dB."""
        return Z95 * self.background_sd_db

    def law_of(self, group: str) -> tuple[float, float]:
        """Return a group's speed law in dB a decade, and its 95 % half width. Raises ``ValueError`` for an unknown group."""
        index = self.groups.index(group)
        at = 1 + len(self.groups) + index
        return self.per_decade[index], Z95 * math.sqrt(self.covariance[at][at])

    def level_of(self, group: str) -> tuple[float, float]:
        """Return a group's level at full speed in dBA, and its 95 % half width. Raises ``ValueError`` for an unknown group."""
        at = 1 + self.groups.index(group)
        return self.level_dba[at - 1], Z95 * math.sqrt(self.covariance[at][at])

    def _values(self) -> Vector:
        return np.concatenate([[self.background_dba], self.level_dba, self.per_decade, np.ravel(self.bends), self.of_power])

    def levels(self, rpm: Array, power_w: Array | float = 0.0) -> tuple[Array, Array]:
        """Return the levels in the room and of the machine alone in dBA, without their intervals, which are what takes the
        time; for speeds ``(..., g)`` in rpm and power ``(...)`` in W."""
        parts = parts_of(*self._scaled(rpm, power_w), self._values())
        return add_levels(parts), add_levels(parts[..., 1:])

    def machine_alone(self, rpm: Array, power_w: Array | float = 0.0) -> Array:
        """Return the modelled level of the machine alone in dBA for speeds ``(..., g)`` in rpm and power ``(...)`` in W."""
        return self.levels(rpm, power_w)[1]

    def in_room(self, rpm: Array, power_w: Array | float = 0.0) -> tuple[Array, Array]:
        """Return the in-room level in dBA and its 95 % half width in dB, for speeds ``(..., g)`` in rpm and power ``(...)``."""
        heard = self.hear(rpm, power_w)
        return heard.in_room_dba, heard.in_room_hw

    def hear(self, rpm: Array, power_w: Array | float = 0.0, rpm_sd: Array | None = None) -> HeardLevels:
        """Return the levels in the room and of the machine alone with their intervals, for speeds ``(..., g)`` in rpm, known to
        ``rpm_sd`` as standard errors (none: exactly), and power ``(...)`` in W.

        Where the machine cannot be told from the room it lies under what the room leaves: the energy of the highest level that
        is likely in the room, less the least background that is likely.
        """
        parts, slopes = parts_and_slopes(*self._scaled(rpm, power_w), self._values())
        in_room, by_room = together(parts, slopes)
        alone, by_alone = together(parts[..., 1:], slopes[..., 1:, :])
        room_variance = self._variance(by_room) + self._left_out(rpm, parts, in_room)
        alone_variance = self._variance(by_alone) + self._left_out(rpm, parts, alone) + WITHOUT_ROOM_SD_DB**2
        for group in range(len(self.groups)) if rpm_sd is not None else ():
            faster = np.array(rpm, float)
            faster[..., group] += rpm_sd[..., group]  # type: ignore[index]
            room_then, alone_then = self.levels(faster, power_w)
            room_variance = room_variance + (room_then - in_room) ** 2
            alone_variance = alone_variance + (alone_then - alone) ** 2
        room_hw, alone_hw = Z95 * np.sqrt(room_variance), Z95 * np.sqrt(alone_variance)
        bound = (alone_hw > TOLD_HW_DB) | (in_room - parts[..., 0] < FAINT_DB)
        background = parts[..., 0] - Z95 * math.hypot(self.background_sd_db, 0.5 * self.wander_db)
        left = 10.0 ** ((in_room + room_hw) / 10.0) - 10.0 ** (background / 10.0)
        at_most = np.maximum(10.0 * np.log10(left), alone)
        return HeardLevels(in_room, room_hw, alone, alone_hw, at_most, bound)

    def _scaled(self, rpm: Array, power_w: Array | float) -> tuple[Array, Mask, Array]:
        """Return speeds over their highest, which fans turn, and power over its highest."""
        speeds = np.asarray(rpm, float)
        power = np.broadcast_to(np.asarray(power_w, float), speeds.shape[:-1])
        return speeds / np.asarray(self.full_rpm), fans_turning(speeds), power / self.full_w

    def _left_out(self, rpm: Array, parts: Array, level: Array) -> Array:
        """Return the variance ``(...)`` of what laws and bends leave out, as far as each group is part of the level."""
        decades = np.log10(np.maximum(np.asarray(rpm, float) / np.asarray(self.full_rpm), 1e-4))
        variance = np.zeros(np.shape(level))
        for group in range(len(self.groups)):
            share = 10.0 ** ((parts[..., 1 + group] - level) / 10.0)
            near = np.asarray(self.heard[group]) if self.heard else np.zeros(0)
            apart = np.min(np.abs(decades[..., group, None] - near), axis=-1) if near.shape[0] else np.inf
            between = -np.expm1(-((apart / BETWEEN_DECADES) ** 2))
            variance = variance + share**2 * (MODEL_SD_DB**2 + BETWEEN_SD_DB**2 * between)
        left: Array = variance
        return left

    def _variance(self, gradient: Array) -> Array:
        variance: Array = quadratic(gradient, self.covariance)
        return variance


def fans_turning(rpm: Array) -> Mask:
    """Return which fans turn."""
    turns: Mask = rpm > TURNING_RPM
    return turns


def parts_of(share: Array, turns: Mask, power_share: Array, values: Vector) -> Array:
    """Return the levels of background, groups and what the power makes heard, ``(..., 2 + g)``; for speeds over their highest
    ``(..., g)``, which of them turn, and power over its highest ``(...)``."""
    count = share.shape[-1]
    decades = np.log10(np.maximum(share, 1e-4))
    bends = np.einsum("...gn,gn->...g", _interpolation(decades), values[1 + 2 * count : -2].reshape(count, -1))
    levels = values[1 : 1 + count] + values[1 + count : 1 + 2 * count] * decades + bends
    of_power = values[-2] + values[-1] * np.log10(np.maximum(power_share, 1e-4))
    parts = np.empty((*share.shape[:-1], 2 + count))
    parts[..., 0] = values[0]
    parts[..., 1:-1] = np.where(turns & (levels > SILENT_DB), levels, SILENT_DB)
    parts[..., -1] = np.where((power_share > 1e-3) & (of_power > SILENT_DB), of_power, ABSENT_DB)
    return parts


def parts_and_slopes(share: Array, turns: Mask, power_share: Array, values: Vector) -> tuple[Array, Array]:
    """Return the levels of ``parts_of``, and how each moves with the values ``(..., 2 + g, p)``."""
    parts = parts_of(share, turns, power_share, values)
    count, nodes = share.shape[-1], NODES.shape[0]
    decades = np.log10(np.maximum(share, 1e-4))
    weights = _interpolation(decades)
    slopes = np.zeros((*parts.shape, values.shape[0]))
    slopes[..., 0, 0] = 1.0
    for group in range(count):
        first = 1 + 2 * count + group * nodes
        heard = turns[..., group] & (parts[..., 1 + group] > SILENT_DB)
        slopes[..., 1 + group, 1 + group] = heard
        slopes[..., 1 + group, 1 + count + group] = heard * decades[..., group]
        slopes[..., 1 + group, first : first + nodes] = heard[..., None] * weights[..., group, :]
    heard = parts[..., -1] > SILENT_DB
    slopes[..., -1, -2] = heard
    slopes[..., -1, -1] = heard * np.log10(np.maximum(power_share, 1e-4))
    return parts, slopes


def _interpolation(decades: Array) -> Array:
    """Return the weights of the nodes at speeds ``(...)``, straight in between and held at the ends: ``(..., nodes)``."""
    step = float(NODES[1] - NODES[0])
    position = np.clip((decades - NODES[0]) / step, 0.0, NODES.shape[0] - 1.0)
    apart = np.abs(position[..., None] - np.arange(NODES.shape[0]))
    weights: Array = np.maximum(1.0 - apart, 0.0)
    return weights


def together(parts: Array, slopes: Array) -> tuple[Array, Array]:
    """Return the energetic sum of levels ``(..., s)``, and how it moves with the values ``(..., p)``."""
    energies = 10.0 ** (parts / 10.0)
    total = np.sum(energies, axis=-1)
    shares = energies / total[..., None]
    return 10.0 * np.log10(total), np.einsum("...g,...gp->...p", shares, slopes)
