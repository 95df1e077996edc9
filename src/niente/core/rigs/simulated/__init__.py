"""Stand-in machines: a seeded plant with its own clock, read through sensors that are as poor as real ones."""
