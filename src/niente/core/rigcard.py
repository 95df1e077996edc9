"""An old spelling that drivers may still use; import from ``niente.rig``. It goes with the next version."""

import warnings

from niente.core.model.rig_card import Channel, Control, LoadCard, LoadKind, MakersLimits, Part, RigCard, SetBy, Variant

__all__ = ["Channel", "Control", "LoadCard", "LoadKind", "MakersLimits", "Part", "RigCard", "SetBy", "Variant"]

warnings.warn("niente.core.rigcard goes with the next version: import from niente.rig", DeprecationWarning, stacklevel=2)
