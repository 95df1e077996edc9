"""A machine on the bench: the contract that every rig keeps, the simulated ones that ship, and how rigs are found."""
