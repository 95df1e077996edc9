"""Acquisition: runs a plan on a rig, sample by sample, behind guards, and writes the book."""
