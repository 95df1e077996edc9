"""The Proof page: how surely a setting lasts, and what would make it surer."""
