"""The window: shows what the core measures and computes; it computes only what drawing takes."""
