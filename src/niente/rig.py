"""All that a driver imports: the contract of a rig, its card, its frames, its settings and its errors.

A driver is a class with the methods of ``Rig``, named ``module:factory`` on the command line. The names here are public
and stand in docs/reference/rig-contract.md; everything else in Niente may move.
"""

from niente.core.model.case_air import CaseAir, CasePlace, CaseWay
from niente.core.model.errors import MachineAwayError, NienteError, RigError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.frame import Frame, RigEvent, RigEventKind
from niente.core.model.quantities import QUANTITIES, Quantity, quantity_of
from niente.core.model.rig_card import (
    Channel,
    Control,
    ControlFile,
    LoadCard,
    LoadKind,
    MakersLimits,
    Part,
    RigCard,
    SetBy,
    Variant,
)
from niente.core.model.setting import Setting
from niente.core.rigs.protocol import Paced, Rebuilt, Rig, Staying

__all__ = [
    "QUANTITIES",
    "CaseAir",
    "CasePlace",
    "CaseWay",
    "Channel",
    "Control",
    "ControlFile",
    "FanCurve",
    "Frame",
    "LoadCard",
    "LoadKind",
    "MachineAwayError",
    "MakersLimits",
    "NienteError",
    "Paced",
    "Part",
    "Quantity",
    "Rebuilt",
    "Rig",
    "RigCard",
    "RigError",
    "RigEvent",
    "RigEventKind",
    "SetBy",
    "Setting",
    "Staying",
    "Variant",
    "quantity_of",
]
