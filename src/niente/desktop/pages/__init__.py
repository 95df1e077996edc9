"""The pages, one idea each, in the order of the work."""
