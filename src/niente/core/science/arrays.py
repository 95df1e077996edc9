"""The arrays that this project computes with, by what they hold. Shapes stand in the docstrings that use them."""

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
"""Figures in any shape."""
Vector = NDArray[np.float64]
"""Figures ``(n,)``."""
Mask = NDArray[np.bool_]
"""Yes or no, element by element."""
Indices = NDArray[np.int64]
"""Positions in another array."""
Codes = NDArray[np.int8]
"""Codes of an enumeration, element by element."""
