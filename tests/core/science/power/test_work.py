"""How much work a load does at a clock: against laws that are known, and what scatter does to the interval."""

import numpy as np
import pytest

from niente.core.science.power.work import fit_work

CLOCKS = np.linspace(0.62, 1.0, 12)


def known(share: np.ndarray, waits: float = 0.0, exponent: float = 0.95, ref_ghz: float = 4.8) -> np.ndarray:
    """Work that waits for memory: p/f + q, as a rate (Amdahl's law with the clock as the speed-up; textbook)."""
    ghz = (share * ref_ghz) ** exponent
    return np.asarray(ghz / (1.0 - waits + waits * ghz))


def fitted(share: np.ndarray, work: np.ndarray, offset: np.ndarray | None = None, error: float = 0.0005):  # type: ignore[no-untyped-def]
    return fit_work(share, np.zeros(share.shape) if offset is None else offset, work, np.full(share.shape, error))


@pytest.mark.parametrize(("waits", "exponent"), [(0.0, 1.0), (0.0, 0.85), (0.1, 0.95), (0.2, 1.0)])
def test_between_the_runs_work_is_known_whatever_it_waits_for(waits: float, exponent: float) -> None:
    rng = np.random.default_rng(1)
    found = fitted(CLOCKS, known(CLOCKS, waits, exponent) * (1 + 0.0005 * rng.standard_normal(12)))
    at = np.linspace(0.65, 0.98, 20)
    ratio, error = found.ratio(at, np.zeros(20), 1.0, 0.0)
    truth = known(at, waits, exponent) / known(np.ones(1), waits, exponent)[0]
    assert np.max(np.abs(ratio - truth)) < 0.002
    assert np.mean(np.abs(ratio - truth) <= 1.96 * error) >= 0.9
    assert found.slope(np.array([0.8]))[0] == pytest.approx(
        np.log(known(np.array([0.81]), waits, exponent) / known(np.array([0.79]), waits, exponent))[0] / np.log(0.81 / 0.79),
        abs=0.03,
    )


def test_runs_that_scatter_widen_the_interval_as_they_do() -> None:
    """Ten times the scatter that the runs claim is ten times the interval, about."""
    rng = np.random.default_rng(2)
    noise = rng.standard_normal(12)
    at = np.array([0.8]), np.zeros(1), np.zeros(1)
    tight, loose = (fitted(CLOCKS, known(CLOCKS) * (1 + sd * noise), error=0.0003) for sd in (0.0003, 0.01))
    ratio = loose.throughput(*at)[1] / tight.throughput(*at)[1]
    assert 5.0 < ratio[0] < 40.0


def test_stock_is_a_hundred_per_cent_of_itself() -> None:
    found = fitted(CLOCKS, known(CLOCKS))
    ratio, error = found.ratio(np.array([0.9]), np.zeros(1), 0.9, 0.0)
    assert ratio[0] == pytest.approx(1.0, abs=1e-9)
    assert error[0] == pytest.approx(0.0, abs=1e-6)


def test_an_offset_may_take_work_at_the_same_clock() -> None:
    """Near its threshold a core stretches its clock: half of the runs at -80 mV do 0.8 % less."""
    rng = np.random.default_rng(3)
    offset = np.where(np.arange(12) % 2 == 0, 0.0, -80.0)
    work = known(CLOCKS) * np.where(offset < 0.0, 0.992, 1.0) * (1 + 0.0004 * rng.standard_normal(12))
    found = fitted(CLOCKS, work, offset)
    deep, plain = (found.ratio(np.array([0.85]), np.array([mv]), 1.0, 0.0)[0][0] for mv in (-80.0, 0.0))
    assert deep / plain == pytest.approx(0.992, abs=0.0015)
    between = found.ratio(np.array([0.85]), np.array([-40.0]), 1.0, 0.0)[1][0]
    assert between > 2.0 * found.ratio(np.array([0.85]), np.array([-80.0]), 1.0, 0.0)[1][0]  # what no offset shows is not known


def test_a_run_that_cannot_be_moves_nothing() -> None:
    work = known(CLOCKS)
    spoiled = work.copy()
    spoiled[5] *= 1.5
    one, other = fitted(CLOCKS, work), fitted(CLOCKS, spoiled)
    assert other.rejected == (5,)
    at = np.array([0.8]), np.zeros(1)
    assert other.ratio(*at, 1.0, 0.0)[0][0] == pytest.approx(one.ratio(*at, 1.0, 0.0)[0][0], abs=0.002)


def test_without_runs_there_is_no_law() -> None:
    with pytest.raises(ValueError, match="no run"):
        fitted(np.zeros(0), np.zeros(0))
