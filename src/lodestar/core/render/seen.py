"""What the plate shows of the ground, for metal that mirrors it: a place on the ground is looked up where the camera sees it."""

import math
from typing import NamedTuple

import cv2
import numpy as np

from ..basics.jit import inlined
from ..projection.camera import Camera

WIDE = 512  # px of what is kept
LEVELS = 8  # each half as wide as the one before
INSIDE = 0.12  # of its width and height: over so much of its rim what is seen fades into the even floor


class Seen(NamedTuple):
    """there: whether there is a plate. texels (n, 3) float32 linear light, levels (LEVELS, 3) int64: where the px of each begin, its width and
    height. R (3, 3), centre (3,): of the camera in the axes of the rays; focal, cx, cy: of level 0, px."""

    there: bool
    texels: np.ndarray
    levels: np.ndarray
    R: np.ndarray
    centre: np.ndarray
    focal: float
    cx: float
    cy: float


def seen_of(light: np.ndarray | None, camera: Camera, size: tuple[int, int], origin: np.ndarray, scale: float, wide: int = WIDE) -> Seen:
    """light: (h, w, 3) linear light of Rec.709 of the frame that the camera filmed, or None; size: (width, height) px of the camera; wide: px of what is kept. The lens is taken as straight: a
    bent one is off by few px, which a mirror does not show."""
    if light is None:
        return Seen(False, np.zeros((1, 3), np.float32), np.ones((LEVELS, 3), np.int64), np.eye(3), np.zeros(3), 1.0, 0.0, 0.0)
    h, w = light.shape[:2]
    share = min(wide / w, 1.0)
    one = np.asarray(cv2.resize(light, (max(round(w * share), 1), max(round(h * share), 1)), interpolation=cv2.INTER_AREA), np.float32)
    texels, levels, begin = [], [], 0
    for _ in range(LEVELS):
        levels.append((begin, one.shape[1], one.shape[0]))
        texels.append(one.reshape(-1, 3))
        begin += one.shape[0] * one.shape[1]
        one = np.asarray(cv2.resize(one, (max(one.shape[1] // 2, 1), max(one.shape[0] // 2, 1)), interpolation=cv2.INTER_AREA), np.float32)
    lens, k = camera.lens, levels[0][1] / size[0]
    middle = ((lens.cx + 0.5) * k - 0.5, (lens.cy + 0.5) * k - 0.5)
    place = np.ascontiguousarray((camera.centre - origin) / scale, float)
    turn = np.ascontiguousarray(camera.R, float)
    return Seen(True, np.ascontiguousarray(np.concatenate(texels)), np.array(levels, np.int64), turn, place, lens.fx * k, *middle)


@inlined
def seen_at(seen, p, wide):
    """How surely (0 to 1) the camera sees place p (3,), and the light (3) that it saw there; wide: size of what is looked at, in the axes of the
    rays."""
    x, y, z = p[0] - seen.centre[0], p[1] - seen.centre[1], p[2] - seen.centre[2]
    r = seen.R
    depth = r[2, 0] * x + r[2, 1] * y + r[2, 2] * z
    if depth <= 1e-6:
        return 0.0, (0.0, 0.0, 0.0)
    u = seen.cx + seen.focal * (r[0, 0] * x + r[0, 1] * y + r[0, 2] * z) / depth
    v = seen.cy + seen.focal * (r[1, 0] * x + r[1, 1] * y + r[1, 2] * z) / depth
    w, h = seen.levels[0, 1], seen.levels[0, 2]
    rim = INSIDE * w
    near = min(min(u, w - 1.0 - u), min(v, h - 1.0 - v))
    if near <= 0:
        return 0.0, (0.0, 0.0, 0.0)
    level = min(max(int(math.log2(max(wide * seen.focal / depth, 1.0)) + 0.5), 0), LEVELS - 1)
    begin, lw, lh = seen.levels[level, 0], seen.levels[level, 1], seen.levels[level, 2]
    a = min(max((u + 0.5) * lw / w - 0.5, 0.0), lw - 1.0)
    b = min(max((v + 0.5) * lh / h - 0.5, 0.0), lh - 1.0)
    i, j = min(int(b), max(lh - 2, 0)), min(int(a), max(lw - 2, 0))
    s, t = a - j, b - i
    top, low = begin + i * lw + j, begin + min(i + 1, lh - 1) * lw + j
    right = 1 if lw > 1 else 0
    q = seen.texels
    w00, w01, w10, w11 = (1 - t) * (1 - s), (1 - t) * s, t * (1 - s), t * s
    return min(near / rim, 1.0), (
        w00 * q[top, 0] + w01 * q[top + right, 0] + w10 * q[low, 0] + w11 * q[low + right, 0],
        w00 * q[top, 1] + w01 * q[top + right, 1] + w10 * q[low, 1] + w11 * q[low + right, 1],
        w00 * q[top, 2] + w01 * q[top + right, 2] + w10 * q[low, 2] + w11 * q[low + right, 2],
    )
