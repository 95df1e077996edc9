"""Flows from temperatures and heat: against cases solved by hand, a linear solver, and what cannot be told."""

import numpy as np
import pytest
from scipy.optimize import approx_fprime

from niente.core.science import air_balance
from niente.core.science.air_balance import AirBalance, EnteringHeat, air_flows

HEAT = 1.184 * 1006.0 / 3600.0
"""Wh/(m3 K): dry air at 25 °C, its density and specific heat as handbooks give them (Incropera, table A.4, interpolated)."""


def entering(watts: list[float]) -> tuple[EnteringHeat, ...]:
    """Heats that are metered, each of which enters at one place."""
    return tuple(EnteringHeat(one, 0.01, np.eye(len(watts))[place]) for place, one in enumerate(watts))


def through(rises: list[float], heats: list[float], errors: float = 0.05) -> AirBalance:
    """Places in a row: the room's air enters the first, goes through all, and leaves from the last."""
    count = len(rises)
    return AirBalance(
        start=(-1, *range(count)),
        end=(*range(count), -1),
        fans=np.array([1.0, *[0.0] * count]),
        rise_k=np.array(rises),
        rise_se_k=np.full(count, errors),
        heats=entering(heats),
    )


def test_a_duct_carries_what_warms_it() -> None:
    """Q = c f dT: 100 W that warm air by 10 K are 30 m3/h (first law)."""
    flows = air_flows(through([10.0], [100.0]))
    said, half_width = flows.flow(0)
    assert said == pytest.approx(100.0 / (HEAT * 10.0), rel=0.12)  # walls lose a little of the heat
    assert abs(said - 100.0 / (HEAT * 10.0)) < half_width


def test_places_in_a_row_have_one_flow() -> None:
    flows = air_flows(through([4.0, 10.0, 12.0], [40.0, 60.0, 20.0]))
    each = [flows.flow(way)[0] for way in range(4)]
    assert each == pytest.approx([each[0]] * 4, rel=0.03)
    assert each[0] == pytest.approx(30.2, rel=0.15)


def recirculating(front_k: float, back_k: float) -> AirBalance:
    """Room, front, back; from the back air leaves, or comes back to the front."""
    return AirBalance(
        start=(-1, 0, 1, 1),
        end=(0, 1, -1, 0),
        fans=np.array([1.0, 1.0, 1.0, 0.0]),
        rise_k=np.array([front_k, back_k]),
        rise_se_k=np.array([0.05, 0.05]),
        heats=entering([0.0, 150.0]),
    )


@pytest.mark.parametrize(("front_k", "back_k"), [(4.0, 12.0), (2.0, 16.0), (6.0, 15.0)])
def test_what_comes_back_is_the_mixing_rule(front_k: float, back_k: float) -> None:
    """A mix of room air and air at T_back reads T_front: the share that comes back is T_front / T_back (adiabatic mixing)."""
    flows = air_flows(recirculating(front_k, back_k))
    into_front = (flows.end == 0) & (flows.start == 1)
    share, half_width = flows.share(into_front, flows.end == 0)
    assert share == pytest.approx(front_k / back_k, abs=0.05)
    assert abs(share - front_k / back_k) < half_width


def test_the_balances_agree_with_a_linear_solver() -> None:
    """With all temperatures read the balances are linear in the flows: numpy solves them, walls left out."""
    case = recirculating(5.0, 15.0)
    c = HEAT
    balances = np.array(
        [
            [1.0, -1.0, 0.0, 1.0],  # front: room + back = ahead
            [0.0, 1.0, -1.0, -1.0],  # back: ahead = out + back
            [c * (0.0 - 5.0), 0.0, 0.0, c * (15.0 - 5.0)],  # front's heat
            [0.0, c * (5.0 - 15.0), 0.0, 0.0],  # back's heat
        ]
    )
    solved = np.linalg.solve(balances, np.array([0.0, 0.0, 0.0, -150.0]))
    flows = air_flows(case)
    for way, flow in enumerate(solved.tolist()):
        said, half_width = flows.flow(way)
        assert abs(said - flow) < max(half_width, 0.12 * abs(flow)), way


def test_ways_side_by_side_are_told_only_together() -> None:
    """Two ways between the same places, of which no sensor tells which takes what."""
    case = AirBalance(
        start=(-1, 0, 0, 1),
        end=(0, 1, 1, -1),
        fans=np.array([1.0, 1.0, 0.0, 0.0]),
        rise_k=np.array([3.0, 12.0]),
        rise_se_k=np.array([0.05, 0.05]),
        heats=entering([30.0, 90.0]),
    )
    flows = air_flows(case)
    (one, one_wide), (both, both_wide) = flows.flow(1), flows.flow(1, 2)
    assert both == pytest.approx(flows.flow(0)[0], rel=0.05)
    assert both_wide < 0.3 * both
    assert one_wide > 0.5 * one


def test_a_place_without_a_sensor_follows_from_what_comes_in() -> None:
    case = through([5.0, np.nan, 15.0], [50.0, 50.0, 50.0])
    flows = air_flows(case)
    assert flows.rise_k[1] == pytest.approx(10.0, abs=1.0)
    assert abs(flows.rise_k[1] - 10.0) < flows.rise_half_width_k[1]


def test_without_any_sensor_nothing_is_told() -> None:
    flows = air_flows(through([np.nan, np.nan], [60.0, 60.0]))
    said, half_width = flows.flow(0)
    assert half_width > 0.8 * said


def test_slopes_are_those_of_differences() -> None:
    """The analytic slopes against scipy's forward differences."""
    problem = air_balance._Problem(recirculating(5.0, 15.0))
    at = problem.means + 0.1
    slopes = problem.slopes(at)
    for row in range(slopes.shape[0]):
        own = approx_fprime(at, lambda x, row=row: problem.missed(x)[row], 1e-7)
        assert slopes[row] == pytest.approx(own, rel=1e-3, abs=2e-3), row
