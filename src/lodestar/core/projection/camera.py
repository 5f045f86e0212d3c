"""What every projection can do, and the camera that looks through one.

Camera axes: x right, y down, z forward; `R, t` take world to camera; pixel (0, 0) is the centre of the top-left pixel. A new
projection, such as that of a full sphere, is a struct in a file of its own here.
"""

from typing import Protocol, Self

import msgspec
import numpy as np

from ..basics.geometry import F64
from .pinhole import Lens


class Projection(Protocol):
    """From the axes of a camera to its pixels as filmed, and back."""

    def pixels(self, inside: F64) -> F64:
        """(..., 3) points in the camera's axes to (..., 2) pixels as filmed."""
        ...

    def directions(self, pixels: F64) -> F64:
        """(..., 2) pixels as filmed to (..., 3) unit directions in the camera's axes."""
        ...

    def zoomed(self, factor: float) -> Self:
        """With that many times the focal length."""
        ...

    def scaled(self, factor: float) -> Self:
        """Of a picture with so many pixels for each of its own."""
        ...


class Camera(msgspec.Struct, frozen=True, eq=False):
    """One frame's camera: R (3, 3) and t (3,) take world to camera, seen through `lens`, which is any projection."""

    R: np.ndarray
    t: np.ndarray
    lens: Lens

    def scaled(self, factor: float) -> "Camera":
        """Of a picture with so many pixels for each of its own."""
        return self if factor == 1 else Camera(self.R, self.t, self.lens.scaled(factor))

    @property
    def centre(self) -> F64:
        """(3,) where the camera stands, in the world."""
        return -self.R.T @ self.t

    def project(self, points: F64) -> tuple[F64, F64]:
        """(..., 3) world points to ((..., 2) pixels as filmed, (...) depth). Depth <= 0 lies behind the camera."""
        inside = np.asarray(points) @ self.R.T + self.t
        return self.lens.pixels(inside), inside[..., 2]

    def rays(self, pixels: F64) -> F64:
        """(..., 2) pixels to (..., 3) unit directions in the world."""
        return self.lens.directions(pixels) @ self.R
