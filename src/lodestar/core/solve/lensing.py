"""What is known of the lens before a solve."""

from typing import NamedTuple

import numpy as np


class Lensing(NamedTuple):
    """K (3,): f px, k1, k2 to begin with (f 0 when unknown); vary: which of them are solved."""

    K: np.ndarray
    vary: tuple[bool, bool, bool]
