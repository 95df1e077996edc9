"""Stand-in machines: a seeded plant with its own clock, read through sensors that are as poor as real ones."""


def warm() -> None:
    """Compile the plant once, so that its cache is there when a window starts. Takes some seconds the first time."""
    from niente.core.rigs.simulated.machine_files import shipped_file, shipped_machines
    from niente.core.rigs.simulated.rig import SimulatedRig

    rig = SimulatedRig(shipped_file(shipped_machines()[0]), seed=1)
    rig.frame(0.0)
    rig.close()
