"""An old spelling that drivers may still use; import from ``niente.rig``. It goes with the next version."""

import warnings

from niente.core.model.fan_curve import FanCurve
from niente.core.model.setting import Setting

__all__ = ["FanCurve", "Setting"]

warnings.warn("niente.core.setting goes with the next version: import from niente.rig", DeprecationWarning, stacklevel=2)
