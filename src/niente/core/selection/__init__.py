"""Selection: from what was measured to the quietest setting that keeps every limit, with the reasons."""
