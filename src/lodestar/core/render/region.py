"""Which part of the picture our things touch: themselves, their shadows, their reflections and the shade of the sky round them."""

import cv2
import numpy as np

from ..projection.camera import Camera
from ..shape.extrude import Mesh
from .gpu import Lamp
from .items import Item, box_corners, upper_plane

MARGIN_PX = 3


def footprint(
    items: list[Item], lamp: Lamp, camera: Camera, frame_low: np.ndarray, frame_high: np.ndarray, sky: bool
) -> tuple[int, int, int, int] | None:
    """Left, top, right, bottom in straight pixels of the drawn items, their shadows, their reflections and, with `sky`, the
    sky's shade round them; None when out of sight."""
    catchers = [box_corners(i.mesh) @ m[:3, :3].T + m[:3, 3] for i in items if not i.drawn and i.receives for m in [i.model(0.0)]]
    lowest = min([0.0, *(float(c[:, 2].min()) for c in catchers)])
    points = []
    for item in items:
        if not item.drawn:
            continue
        for share in (-0.5, 0.5):
            m = item.model(share)
            corners = box_corners(item.mesh) @ m[:3, :3].T + m[:3, 3]
            points.append(corners)
            points.append(_shade_corners(corners, lamp, lowest, sky))
            for mirror in items:
                if not mirror.drawn and mirror.reflects:
                    at, normal = upper_plane(mirror.mesh, mirror.model(0.0))
                    points.append(corners - 2 * ((corners - at) @ normal)[:, None] * normal)
    inside = np.concatenate(points) @ camera.R.T + camera.t
    z = inside[:, 2]
    if (z < 0.05).all():
        return None
    if (z < 0.05).any():  # reaches behind the camera: no tighter bound is known
        low, high = frame_low, frame_high
    else:
        xy = inside[:, :2] / z[:, None] * camera.lens.fx + [camera.lens.cx, camera.lens.cy]
        low, high = np.maximum(xy.min(0), frame_low), np.minimum(xy.max(0), frame_high)
    left, top = np.floor(low).astype(int) - MARGIN_PX
    right, bottom = np.ceil(high).astype(int) + MARGIN_PX + 1
    if right - left < 2 * MARGIN_PX + 2 or bottom - top < 2 * MARGIN_PX + 2:
        return None
    return int(left), int(top), int(right), int(bottom)


def _shade_corners(corners: np.ndarray, lamp: Lamp, ground: float, sky: bool) -> np.ndarray:
    """(n, 3) corners on level ground of all that a box keeps light from: its foot, its shadow and, with `sky`, the shade round it."""
    over = np.maximum(corners[:, 2:] - ground, 0)
    foot = corners * [1, 1, 0] + [0, 0, ground]
    parts = [foot]
    if sky:
        # sky occlusion reaches about one and a half times the height before it falls under 1/512
        spread = np.array([[x, y, 0] for x in (-1.5, 1.5) for y in (-1.5, 1.5)]) * float(over.max())
        parts.append((foot[:, None] + spread).reshape(-1, 3))
    if lamp.direction[2] > 0.02 and lamp.sun.max() > 0:
        half = np.tan(np.deg2rad(lamp.softness_deg / 2)) if sky else 0.0
        run = over / lamp.direction[2]
        shadow = corners - run * lamp.direction
        wide = float(run.max()) * half / max(lamp.direction[2], 0.05)
        parts += [shadow + [x, y, 0] for x in (-wide, wide) for y in (-wide, wide)] if wide > 0 else [shadow]
    return np.concatenate(parts)


def lit_ground(items: list[Item], lamp: Lamp, eye: np.ndarray, sky: bool) -> np.ndarray:
    """(n, 2) corners of that part of the level ground where the drawn items keep light from it, and where it hides what is sunk
    into it; elsewhere it would be shaded only to find nothing changed."""
    corners = [box_corners(i.mesh) @ m[:3, :3].T + m[:3, 3] for i in items if i.drawn for m in (i.model(-0.5), i.model(0.5))]
    places = [_shade_corners(c, lamp, 0.0, sky) for c in corners]
    if eye[2] > 1e-6:
        for c in corners:
            sunk = c[c[:, 2] < 0]
            places.append(eye + (sunk - eye) * (eye[2] / (eye[2] - sunk[:, 2:])))
    hull = cv2.convexHull(np.concatenate(places)[:, :2].astype(np.float32))[:, 0]
    middle = hull.mean(0)
    return middle + (hull - middle) * 1.01 + 1e-4 * np.sign(hull - middle)


def fan(hull: np.ndarray) -> Mesh:
    """The level ground within a convex line (n, 2)."""
    n = len(hull)
    triangles = np.array([[0, k, k + 1] for k in range(1, n - 1)], np.int32).reshape(-1, 3)
    return Mesh(np.c_[hull, np.zeros(n)].astype(np.float32), np.tile(np.array([0, 0, 1], np.float32), (n, 1)), triangles)
