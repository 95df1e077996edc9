"""How a rig is found: by the name of one that ships, by a book to play again, by an entry point, or as
``module:factory``."""

import importlib
from collections.abc import Callable
from importlib.metadata import entry_points
from pathlib import Path
from typing import TYPE_CHECKING, Any

from niente.core.model.errors import NienteError, RigError
from niente.core.rigs.protocol import Rig

if TYPE_CHECKING:  # what is simulated is slow to import, and a real machine does without
    from niente.core.rigs.simulated.machine_files import MachineFile

GROUP = "niente.rigs"
BOOK_SUFFIX, MACHINE_SUFFIX = ".niente", ".json"
Factory = Callable[..., Rig]
Progress = Callable[[str], None]


def shipped() -> tuple[str, ...]:
    """Return the names of the simulated rigs that ship with Niente."""
    from niente.core.rigs.simulated.machine_files import shipped_machines

    return shipped_machines()


def installed() -> tuple[str, ...]:
    """Return the names of rigs that other installed packages offer (entry point group ``niente.rigs``)."""
    return tuple(sorted(point.name for point in entry_points(group=GROUP)))


def is_code(name: str) -> bool:
    """Return whether a rig's name is the ``module:factory`` of a driver, rather than a rig that ships, an installed one, or a
    file of data."""
    if name in shipped() or name in installed() or name.endswith((MACHINE_SUFFIX, BOOK_SUFFIX)):
        return False
    return ":" in name


def silently(_: str) -> None:
    """Progress that nobody is told of."""


def open_rig(name: str, *, seed: int = 1, pace: float | None = None, progress: Progress = silently) -> Rig:
    """Open a rig by name or ``module:factory``; a factory is called as ``factory(seed=seed, pace=pace)``.

    The path of a book (``*.niente``) plays that book's machine again; that of a machine file (``*.json``) simulates it.
    ``pace`` is rig seconds a wall second, ``None`` for as fast as it goes; a rig on a real clock ignores both.
    ``progress`` is told in words where opening takes long: a simulated rig is compiled once after an update.
    Raises ``RigError`` where there is no such rig, or where it cannot be opened.
    """
    if name in shipped():
        from niente.core.rigs.simulated.machine_files import shipped_file

        return _simulated(shipped_file(name), seed, pace, progress)
    if name.endswith(MACHINE_SUFFIX):
        from niente.core.rigs.simulated.machine_files import machine_file

        return _simulated(machine_file(Path(name)), seed, pace, progress)
    if name.endswith(BOOK_SUFFIX):
        from niente.core.rigs.replay import ReplayRig

        return ReplayRig(Path(name), pace=pace)
    factory = _factory(name)
    try:
        return factory(seed=seed, pace=pace)
    except NienteError:
        raise
    except Exception as error:
        raise RigError(
            f"The rig {name!r} could not be opened: {type(error).__name__}: {error}.",
            remedy="Look into its driver; docs/reference/rig-contract.md says how it is called.",
        ) from error


def classes() -> tuple[tuple[str, str], ...]:
    """Return the classes of machines that new ones are made from: pairs of a template's name and what it is."""
    from niente.core.rigs.simulated.machine_files import shipped_file

    return tuple((name, shipped_file(name).machine.kind) for name in shipped())


def class_document(template: str) -> dict[str, Any]:
    """Return the machine file's document of a class."""
    from niente.core.rigs.simulated.machine_files import shipped_file

    return shipped_file(template).document


def document_of(name: str) -> dict[str, Any]:
    """Return the document of the machine file that a rig's name is the path of; an empty one for other names."""
    if not name.endswith(MACHINE_SUFFIX):
        return {}
    from niente.core.rigs.simulated.machine_files import machine_file

    return machine_file(Path(name)).document


def open_document(
    document: dict[str, Any], source: str, *, seed: int = 1, pace: float | None = None, progress: Progress = silently
) -> Rig:
    """Open the simulated rig that a machine file's document describes. Raises ``DocumentError`` where it cannot be one."""
    from niente.core.rigs.simulated.machine_files import MachineFile

    return _simulated(MachineFile(document, source), seed, pace, progress)


def _simulated(file: "MachineFile", seed: int, pace: float | None, progress: Progress) -> Rig:
    from niente.core.rigs.simulated.compiling import compile_plant
    from niente.core.rigs.simulated.rig import SimulatedRig

    compile_plant(progress)
    return SimulatedRig(file, seed=seed, pace=pace)


def _factory(name: str) -> Factory:
    for point in entry_points(group=GROUP):
        if point.name == name:
            return _checked(name, point.load())
    module_name, colon, attribute = name.partition(":")
    if not colon:
        known = ", ".join(shipped() + installed())
        raise RigError(
            f"There is no rig called {name!r}.",
            remedy=f"Choose one of {known}, or name a driver of your own as module:factory.",
        )
    try:
        return _checked(name, getattr(importlib.import_module(module_name), attribute))
    except Exception as error:  # a driver may fail in any way while it is imported: a syntax error, a missing file
        raise RigError(
            f"The rig {name!r} could not be loaded: {type(error).__name__}: {error}.",
            remedy="Check that the module can be imported from here and has that factory.",
        ) from error


def _checked(name: str, factory: object) -> Factory:
    if not callable(factory):
        raise RigError(f"{name!r} is not a factory.", remedy="Name a function or class that returns a rig.")
    return factory
