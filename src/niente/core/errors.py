"""An old spelling that drivers may still use; import from ``niente.rig``. It goes with the next version."""

import warnings

from niente.core.model.errors import NienteError, RigError

__all__ = ["NienteError", "RigError"]

warnings.warn("niente.core.errors goes with the next version: import from niente.rig", DeprecationWarning, stacklevel=2)
