"""Planning: what to measure, in which order, and what to run once the listed steps are done."""
