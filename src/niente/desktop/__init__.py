"""The window: shows what the core measures and computes; it does no arithmetic of its own."""
