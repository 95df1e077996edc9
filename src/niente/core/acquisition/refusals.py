"""What a bench refuses, in words: the same at the bench and at its clients, who often know it before they ask."""

from niente.core.model.errors import CautionsError, DocumentError, RigError
from niente.core.model.rig_card import RigCard
from niente.core.model.setting import Setting


def insist_cautions_were_read(card: RigCard, unread: tuple[str, ...]) -> None:
    """Raise ``CautionsError`` where cautions are unread."""
    if unread:
        raise CautionsError(
            f"The cautions for {card.title} have not been read yet. {' '.join(unread)}",
            safe="Nothing was started.",
            remedy="Read them, say so, and start again.",
        )


def insist_setting_can_stay(card: RigCard, setting: Setting, *, can_stay: bool) -> None:
    """Raise ``RigError`` for a setting that the rig refuses, and for a rig that cannot leave one in force."""
    card.insist(setting)
    if not can_stay:
        raise RigError(
            f"The driver of {card.title} puts the safe setting back when it ends: no other can stay.",
            safe="The machine is as it was.",
            remedy="Enter the setting by its hand-over card.",
        )


def insist_sheet_fits(problems: list[str], *, plan_runs: bool) -> None:
    """Raise ``DocumentError`` for a sheet that does not fit the rig, and ``RigError`` for one that comes under a plan."""
    if problems:
        raise DocumentError(
            f"The machine cannot be described like that: {'; '.join(problems)}.",
            safe="Its sheet is as it was.",
            remedy="Choose values within the maker's limits and the rig's ranges.",
        )
    if plan_runs:
        raise RigError(
            "A plan is running on this machine as it is.",
            safe="The plan goes on; the machine is as it was.",
            remedy="Stop the plan, or wait for its end, then change the machine.",
        )
