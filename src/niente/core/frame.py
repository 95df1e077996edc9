"""An old spelling that drivers may still use; import from ``niente.rig``. It goes with the next version."""

import warnings

from niente.core.model.frame import Frame, RigEvent, RigEventKind

__all__ = ["Frame", "RigEvent", "RigEventKind"]

warnings.warn("niente.core.frame goes with the next version: import from niente.rig", DeprecationWarning, stacklevel=2)
