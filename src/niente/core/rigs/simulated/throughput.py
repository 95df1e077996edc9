"""What work a load does: at a clock, where it takes all that it gets; and where it has a size to keep up with."""

from niente.core.science.compiled import compiled


@compiled
def work_at(clock_mhz: float, per_ghz: float, clock_exponent: float, waits: float) -> float:
    """Return the throughput of a load at a clock; what waits for memory takes its time at any clock."""
    done = (clock_mhz / 1000.0) ** clock_exponent
    throughput: float = per_ghz * done / (1.0 - waits + waits * done)
    return throughput


@compiled
def busy_share(size: float, could: float, factor: float) -> float:
    """Return the share of the load's activity that cores have: those that keep up with a size wait for the rest. ``could`` is
    the throughput at the clock in force, ``factor`` how much of its activity or size the load has now."""
    return factor if size <= 0.0 else min(size * factor / could, 1.0)


@compiled
def work_done(size: float, could: float, factor: float) -> tuple[float, bool]:
    """Return the throughput of a second, and whether it fell short of the load's size."""
    if size <= 0.0:
        return could * factor, False
    wanted = size * factor
    return min(wanted, could), wanted > could
