"""The rig card of a rig that is named on the command line."""

from niente.cli.progress import ProgressPrinter
from niente.core.model.rig_card import RigCard


def card_of(rig: str) -> RigCard:
    """Return the card of a rig by its name or ``module:factory``. Raises ``RigError`` for one that cannot be opened."""
    from niente.core.rigs.registry import open_rig

    opened = open_rig(rig, progress=ProgressPrinter())
    try:
        return opened.describe()
    finally:
        opened.close()
