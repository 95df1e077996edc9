"""The bench as a process of its own: its protocol, its server, its clients, and the guardian beside it."""
