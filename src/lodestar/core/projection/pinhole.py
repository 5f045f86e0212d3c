"""A pinhole camera with Brown's radial distortion: the one place that knows its formula, for values and for numeric kernels."""

import math

import msgspec
import numpy as np

from ..basics.geometry import F64
from ..basics.jit import kernel

LEAST_DEPTH = 1e-9  # a point nearer to the plane of the camera than this is taken to lie on it


@kernel
def brown(k1, k2, x, y):
    """At undistorted image-plane coordinates x, y: the factor g by which the lens moves them outward, r squared, and h = 2 dg / d(r
    squared), by which d(g x) / dx = g + h x x and d(g x) / dy = h x y. Numbers in kernels, arrays through `brown.py_func`.

    Source: D. C. Brown, Close-Range Camera Calibration, 1971.
    """
    r2 = x * x + y * y
    return 1 + r2 * (k1 + k2 * r2), r2, 2 * (k1 + 2 * k2 * r2)


class Lens(msgspec.Struct, frozen=True):
    """Brown's radial lens. fx, fy, cx, cy in pixels; k1, k2 act on x = X/Z, y = Y/Z: x_d = x (1 + k1 r2 + k2 r2^2).

    Source: D. C. Brown, Close-Range Camera Calibration, 1971; the same form as OpenCV's with k3 = p1 = p2 = 0.
    """

    fx: float
    fy: float
    cx: float
    cy: float
    k1: float = 0.0
    k2: float = 0.0
    model: str = "brown"

    def zoomed(self, factor: float) -> "Lens":
        """With that many times the focal length; it bends the same at the same angles."""
        return self if factor == 1 else msgspec.structs.replace(self, fx=self.fx * factor, fy=self.fy * factor)

    def scaled(self, factor: float) -> "Lens":
        """Of the same picture with so many pixels for each of its own; the centre of the top-left pixel stays (0, 0)."""
        fx, fy = self.fx * factor, self.fy * factor
        return msgspec.structs.replace(self, fx=fx, fy=fy, cx=(self.cx + 0.5) * factor - 0.5, cy=(self.cy + 0.5) * factor - 0.5)

    def pixels(self, inside: F64) -> F64:
        z = inside[..., 2:]
        return self.distort(inside[..., :2] / np.where(np.abs(z) < LEAST_DEPTH, LEAST_DEPTH, z))

    def directions(self, pixels: F64) -> F64:
        xy = self.undistort(pixels)
        d = np.concatenate([xy, np.ones((*xy.shape[:-1], 1))], -1)
        return d / np.linalg.norm(d, axis=-1, keepdims=True)

    def distort(self, xy: F64) -> F64:
        """(..., 2) straight image-plane coordinates (X/Z, Y/Z) to pixels as filmed."""
        factor = brown.py_func(self.k1, self.k2, xy[..., :1], xy[..., 1:])[0]
        return xy * factor * [self.fx, self.fy] + [self.cx, self.cy]

    def undistort(self, pixels: F64) -> F64:
        """(..., 2) pixels as filmed to straight image-plane coordinates, by Newton's method on the radius.

        Converges to 1e-12 within 10 rounds where the lens map is one-to-one; beyond its turning point the radius is held
        at that point.
        """
        if np.shape(pixels) == (2,):
            return self._undistort_one(float(pixels[0]), float(pixels[1]))
        d = (np.asarray(pixels, np.float64) - [self.cx, self.cy]) / [self.fx, self.fy]
        rd = np.sqrt((d * d).sum(-1, keepdims=True))
        limit = self.turning_radius()
        r = np.minimum(rd, limit)
        for _ in range(10):
            r2 = r * r
            slope = 1 + r2 * (3 * self.k1 + 5 * self.k2 * r2)
            r = np.clip(r - (r * (1 + r2 * (self.k1 + self.k2 * r2)) - rd) / np.maximum(slope, 1e-3), 0, limit)
        return d * np.where(rd > 1e-12, r / np.maximum(rd, 1e-12), 1.0)

    def _undistort_one(self, x: float, y: float) -> F64:
        """As `undistort`, for the one pixel under a pointer: plain numbers are fifty times as quick as arrays of one."""
        x, y = (x - self.cx) / self.fx, (y - self.cy) / self.fy
        rd = math.hypot(x, y)
        if rd < 1e-12:
            return np.array([x, y])
        limit = self.turning_radius()
        r = min(rd, limit)
        for _ in range(10):
            r2 = r * r
            slope = 1 + r2 * (3 * self.k1 + 5 * self.k2 * r2)
            r = min(max(r - (r * (1 + r2 * (self.k1 + self.k2 * r2)) - rd) / max(slope, 1e-3), 0.0), limit)
        return np.array([x * r / rd, y * r / rd])

    def turning_radius(self) -> float:
        """The straight radius X/Z beyond which the lens map turns back (infinite for most lenses)."""
        # 1 + 3 k1 s + 5 k2 s^2 = 0 for s = r^2
        a, b = 5 * self.k2, 3 * self.k1
        if a == 0:
            roots = [-1 / b] if b else []
        else:
            under = b * b - 4 * a
            roots = [(-b + sign * math.sqrt(under)) / (2 * a) for sign in (-1, 1)] if under >= 0 else []
        real = [r for r in roots if r > 0]
        return math.sqrt(min(real)) if real else 1e6
