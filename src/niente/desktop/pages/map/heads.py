"""What stands in the head of the map: which controls lie on its axes, and what the others are fixed at."""

from niente.core.analysis.maps import SettingMap
from niente.core.analysis.setting_batch import POWER
from niente.core.model.names import part_of
from niente.core.model.quantities import quantity_of
from niente.core.selection.pick import Candidate
from niente.desktop.services.translation import tr


def axis_titles(mapped: SettingMap) -> dict[str, str]:
    """Return the titles of the controls across (``a``) and up (``b``)."""
    known = {control.name: control.title.lower() for control in mapped.models.card.controls}
    return {"a": known.get(mapped.field.across, mapped.field.across), "b": known.get(mapped.field.up, mapped.field.up)}


def fixed_words(mapped: SettingMap, *, of_field: bool) -> str:
    """Return what the other controls stand at, in words, as far as they are the same everywhere."""
    field = mapped.field
    base = field.settings.base
    wanted = tuple(
        control.name
        for control in mapped.models.card.controls
        if control.name not in (field.settings.values if of_field else (POWER, mapped.models.fans))
        and (control.name.startswith("fan_duty.") or control.name in ("voltage_offset_mv", "temperature_cap_c"))
    )
    text = base.text(wanted)
    controls = field.settings.values if of_field else ()
    found = [part_of(name) for name in controls if name not in (field.across, field.up)]
    words = ([text] if text else []) + [tr("{group} fans as quiet as they may").format(group=group) for group in found]
    return "; " + ", ".join(words) if words else ""


def spoken_map(mapped: SettingMap, one: Candidate | None, measured: int) -> str:
    """Say a map to who does not see it: how much it holds, and the setting that is selected or picked."""
    field = mapped.field
    words = tr("{n} settings, {m} measured. The table (Ctrl+T) gives all of them in figures.")
    predicted = words.format(n=field.measured.shape[0], m=measured)
    if one is None:
        return predicted
    core = quantity_of("hottest_core_c").with_unit(one.core_c, one.core_hw)
    noise = quantity_of("noise_dba").with_unit(one.in_room_dba, one.in_room_hw)
    return f"{predicted} {one.setting.text((field.across, field.up))}: {core}, {noise}."
