"""Analysis: what the book amounts to. Runs summed up, the fitted models of a rig, and what they predict over its settings."""
