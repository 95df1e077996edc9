"""A rig together with what a person says of it: the driver's own card, the sheet over it, and the card in force."""

from niente.core.model.rig_card import RigCard
from niente.core.model.rig_sheet import RigSheet, applied, problems, sheet_of
from niente.core.rigs.checked_rig import checked
from niente.core.rigs.protocol import Rig


class SheetedRig:
    """One rig, its calls checked, and the sheet in force on it. Owned by the bench's thread once that runs."""

    def __init__(self, rig: Rig) -> None:
        self.rig = checked(rig)
        self.own_card = self.rig.describe()
        """The card as the rig's driver gives it."""
        self.first_sheet = sheet_of(self.own_card)
        """What is said of the machine before a person says anything."""
        self.sheet = self.first_sheet
        self.card = self.own_card
        """The card in force: the driver's, as the sheet narrows it."""

    def problems(self, sheet: RigSheet) -> list[str]:
        """Return in words what of a sheet does not fit the rig."""
        return problems(sheet, self.own_card)

    def take(self, sheet: RigSheet) -> RigCard:
        """Put a sheet in force and return its card. A rig that can is rebuilt to the sheet's variant, if it is one of its own.

        Raises ``NienteError`` where the rig refuses that variant.
        """
        own = {variant.name for variant in self.own_card.variants}
        if self.rig.is_rebuilt and sheet.variant in own and sheet.variant != self.own_card.variant:
            self.rig.become(sheet.variant)
            self.own_card = self.rig.describe()
        self.sheet, self.card = sheet, applied(self.own_card, sheet)
        return self.card
