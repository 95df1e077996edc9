"""How a failure rate hangs on depth, clock and temperature, and what exposures say of it."""
