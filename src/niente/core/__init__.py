"""The core computes: it knows rigs, plans, books and models, and nothing of the window."""
