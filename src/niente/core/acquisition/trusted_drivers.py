"""Drivers that a person has said may run: opening a book never runs code that only the book names."""

import logging
from pathlib import Path

import platformdirs

from niente.core.model.errors import NienteError, UntrustedDriverError
from niente.core.model.json_files import JsonError, converted, decoded_json, indented_json
from niente.core.model.small_files import read_small_file
from niente.core.rigs.registry import is_code

LOG = logging.getLogger(__name__)


def trusted_file() -> Path:
    """Return where a person's word is kept: in their settings, never in a book."""
    return Path(platformdirs.user_config_dir("niente")) / "trusted-drivers.json"


def trusted_drivers() -> tuple[str, ...]:
    """Return the drivers that a person has said may run, as ``module:factory``."""
    file = trusted_file()
    try:
        return converted(decoded_json(read_small_file(file)), tuple[str, ...]) if file.exists() else ()
    except (JsonError, NienteError):
        return ()  # what cannot be read is nobody's word


def trust(name: str) -> None:
    """Keep a person's word that a driver may run; where it cannot be kept, they are asked again the next time."""
    known = trusted_drivers()
    if not is_code(name) or name in known:
        return
    try:
        trusted_file().parent.mkdir(parents=True, exist_ok=True)
        trusted_file().write_bytes(indented_json([*known, name]))
    except OSError as error:
        LOG.warning("that %s may run could not be kept: %s", name, error)


def insist_on_trust(name: str, book: Path) -> None:
    """Raise ``UntrustedDriverError`` where a book names code that nobody has said may run."""
    if is_code(name) and name not in trusted_drivers():
        raise UntrustedDriverError(
            f"The book {book} names {name} as its machine's driver, which is code that would run here as you.",
            safe="It was not run, and the book is untouched.",
            remedy=f"If you know that driver, say so: --rig {name}.",
        )
