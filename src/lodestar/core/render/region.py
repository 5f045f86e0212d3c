"""Which part of the picture our things touch: themselves, their shadows, their reflections and the shade of the sky round them."""

from collections.abc import Callable, Sequence

import numpy as np

from ..light.lamps import Light, SunLight
from ..projection.camera import Camera
from .items import Item, box_corners, upper_plane
from .sampling import BLOCK

MARGIN_PX = 3
SIDE_POINTS = 24  # of each side of a straight part, by which its bent outline is found
SKY_REACH = 1.5  # heights: how far the shade of the sky reaches before it falls under 1/512


def footprint(
    items: Sequence[Item], lights: Sequence[Light], camera: Callable[[float], Camera], size: tuple[int, int], span: float
) -> tuple[int, int, int, int] | None:
    """Left, top, right, bottom in px of the filmed picture of `size` (width, height) of the drawn items, their shadows, their
    reflections and the sky's shade round them over an exposure of `span` frames; None when out of sight."""
    points = _touched(items, lights, span)
    boxes = [_part(points, camera(span * share), size) for share in ((-0.5, 0.5) if span > 0 else (0.0,))]
    found = [b for b in boxes if b is not None]
    if not found:
        return None
    low, high = np.min([b[0] for b in found], axis=0), np.max([b[1] for b in found], axis=0)
    left, top = np.maximum(np.floor(low).astype(int) - MARGIN_PX, 0) // BLOCK * BLOCK  # whole tiles from the picture's first px
    right, bottom = np.minimum(np.ceil(high).astype(int) + MARGIN_PX + 1, size)
    return (int(left), int(top), int(right), int(bottom)) if right > left and bottom > top else None


def _touched(items: Sequence[Item], lights: Sequence[Light], span: float) -> np.ndarray:
    """(n, 3) corners of boxes round all that changes by our things being there."""
    suns = [light for light in lights if isinstance(light, SunLight)]
    catchers = [box_corners(i.mesh) @ m[:3, :3].T + m[:3, 3] for i in items if not i.drawn and i.receives for m in [i.model(0.0)]]
    lowest = min([0.0, *(float(c[:, 2].min()) for c in catchers)])
    mirrors = [upper_plane(i.mesh, i.model(0.0)) for i in items if not i.drawn and i.reflects and len(i.mesh.triangles)]
    points = []
    for item in items:
        if not (item.drawn and len(item.mesh.triangles)):
            continue
        for share in np.linspace(-0.5, 0.5, 5) * span if span > 0 else [0.0]:
            m = item.model(float(share))
            corners = box_corners(item.mesh) @ m[:3, :3].T + m[:3, 3]
            points += [corners, *_shade_corners(corners, suns, lowest)]
            points += [corners - 2 * ((corners - at) @ normal)[:, None] * normal for at, normal in mirrors]
    return np.concatenate(points)


def _part(points: np.ndarray, camera: Camera, size: tuple[int, int]) -> tuple[np.ndarray, np.ndarray] | None:
    """Low and high corner (2,) px of the filmed part in which points (n, 3) of the world and all between them lie."""
    inside = points @ camera.R.T + camera.t
    z, lens = inside[:, 2], camera.lens
    if (z < 0.05).all():
        return None
    if (z < 0.05).any():  # reaches behind the camera: no tighter bound is known
        return np.zeros(2), np.array(size, float) - 1
    xy = inside[:, :2] / z[:, None]
    # what is far outside is cut off: a lens's formula means nothing there
    most = 1.05 * float(
        np.linalg.norm(lens.undistort(np.array([[0.0, 0.0], [size[0] - 1.0, 0.0], [0.0, size[1] - 1.0], np.array(size) - 1.0])), axis=1).max()
    )
    low, high = np.clip(xy.min(0), -most, most), np.clip(xy.max(0), -most, most)
    if (low >= high).any():
        return None
    s = np.linspace(0, 1, SIDE_POINTS)[:, None]
    corners = np.array([low, [high[0], low[1]], high, [low[0], high[1]]])
    sides = np.concatenate([corners[k] + s * (corners[(k + 1) % 4] - corners[k]) for k in range(4)])
    filmed = lens.distort(sides)
    return filmed.min(0), filmed.max(0)


def _shade_corners(corners: np.ndarray, suns: list[SunLight], ground: float) -> list[np.ndarray]:
    """(n, 3) corners on level ground of all that a box keeps light from: its foot, the shade of the sky round it, and its shadows."""
    over = np.maximum(corners[:, 2:] - ground, 0)
    foot = corners * [1, 1, 0] + [0, 0, ground]
    # as far as the shade of the sky reaches
    spread = np.array([[x, y, 0] for x in (-SKY_REACH, SKY_REACH) for y in (-SKY_REACH, SKY_REACH)]) * float(over.max())
    parts = [foot, (foot[:, None] + spread).reshape(-1, 3)]
    for sun in suns:
        if sun.direction[2] <= 0.02 or sun.colour.max() <= 0:
            continue
        half = np.tan(np.deg2rad(sun.width_deg / 2))
        run = over / sun.direction[2]
        shadow = corners - run * sun.direction
        wide = float(run.max()) * half / max(sun.direction[2], 0.05)
        parts += [shadow + [x, y, 0] for x in (-wide, wide) for y in (-wide, wide)] if wide > 0 else [shadow]
    return parts
