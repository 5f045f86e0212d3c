"""Which part of the picture our things touch: themselves, their shadows, their reflections and the shade of the sky round them."""

from collections.abc import Callable, Sequence

import numpy as np
from scipy.spatial import ConvexHull

from ..light.lamps import AreaLight, Light, SkyLight, SpotLight, SunLight
from ..light.surroundings import AroundLight
from ..projection.camera import Camera
from .geometry import SENT_SUM, sent_light, sent_middles
from .items import Item, box_corners, placed_boxes, upper_plane
from .rays import TILE

MARGIN_PX = 3
NEAR = 1e-3  # of the farthest corner's distance, that a corner must lie before the camera to have a place in the picture
SIDE_POINTS = 24  # of each side of a straight part, by which its bent outline is found
# fainter shade of the sky is left out: of the error that a picture may have; and where none is said, of the light on the ground
LEAST_SHADE = (0.11, 1 / 200)
LEAST_LIT = 0.004  # of the light in the open: a code value of 255, about, that a lamp adds


def footprint(
    items: Sequence[Item],
    lights: Sequence[Light | AroundLight],
    camera: Callable[[float], Camera],
    size: tuple[int, int],
    span: float,
    error: float,
    aperture: float = 0.0,
    focus: float = 1.0,
) -> tuple[int, int, int, int] | None:
    """Left, top, right, bottom in px of the filmed picture of `size` (width, height) of the drawn items, their shadows, their
    reflections and the sky's shade round them over an exposure of `span` frames, to an `error` as in
    Quality, seen through a lens of radius `aperture` that is sharp at `focus`; None when out of sight."""
    least = LEAST_SHADE[0] * error or LEAST_SHADE[1]
    points = _touched(items, lights, span, least)
    # each apart: what a lamp in the dark reaches is so large that things are near to the eye beside it
    hulls = [points, *_lit(items, lights, least)]
    boxes = [_part(hull, camera(span * share), size) for hull in hulls if len(hull) for share in ((-0.5, 0.5) if span > 0 else (0.0,))]
    found = [b for b in boxes if b is not None]
    if not found:
        return None
    low, high = np.min([b[0] for b in found], axis=0), np.max([b[1] for b in found], axis=0)
    margin = MARGIN_PX + _blur_px(points, camera(0.0), aperture, focus, size)
    left, top = np.maximum(np.floor(low).astype(int) - margin, 0) // TILE * TILE  # whole tiles from the picture's first px
    right, bottom = np.minimum(np.ceil(high).astype(int) + margin + 1, size)
    return (int(left), int(top), int(right), int(bottom)) if right > left and bottom > top else None


def _blur_px(points: np.ndarray, camera: Camera, aperture: float, focus: float, size: tuple[int, int]) -> int:
    """Px by which the lens spreads the nearest and the farthest of points (n, 3)."""
    away = points @ camera.R[2] + camera.t[2]
    away = away[away > 0]
    if aperture <= 0 or not len(away):
        return 0
    most = float(np.abs(1 / np.array([max(float(away.min()), 1e-6), float(away.max())]) - 1 / max(focus, 1e-6)).max())
    return min(int(np.ceil(camera.lens.fx * aperture * most)), max(size))


def _touched(items: Sequence[Item], lights: Sequence[Light | AroundLight], span: float, least: float) -> np.ndarray:
    """(n, 3) corners of boxes round all that changes by our things being there."""
    suns = [light for light in lights if isinstance(light, SunLight)]
    faint = least / max(_sky_share(lights), 1e-6)
    lowest = _lowest(items)
    mirrors = [upper_plane(i.mesh, i.model(0.0)) for i in items if not i.drawn and i.reflects and len(i.mesh.triangles)]
    points = [np.zeros((0, 3))]
    things: dict[str, list[Item]] = {}
    for k, item in enumerate(items):
        if item.drawn and len(item.mesh.triangles):
            things.setdefault(item.of or f"#{k}", []).append(item)
    for share in np.linspace(-0.5, 0.5, 5) * span if span > 0 else [0.0]:
        for parts in things.values():
            corners = _corners(parts, float(share))
            points += [corners, *_shade_corners(corners, suns, lowest, faint)]
            points += [corners - 2 * ((corners - at) @ normal)[:, None] * normal for at, normal in mirrors]
    return np.concatenate(points)


def _lowest(items: Sequence[Item]) -> float:
    """Height of the lowest place that receives light, or of level ground."""
    catchers = [box_corners(i.mesh) @ m[:3, :3].T + m[:3, 3] for i in items if not i.drawn and i.receives for m in [i.model(0.0)]]
    return min([0.0, *(float(c[:, 2].min()) for c in catchers)])


def _lit(items: Sequence[Item], lights: Sequence[Light | AroundLight], least: float) -> list[np.ndarray]:
    """(8, 3) corners of a box round what each near lamp lights."""
    points, lowest, open_ = [], _lowest(items), max(_open_light(lights), 1e-6)
    for centre, power in _near_lamps(items, lights):
        # what it gives falls with the square of the distance; upright receivers, too, are lit within that
        reach = np.sqrt(power / (max(least, LEAST_LIT) * open_))
        low, high = np.maximum(centre - reach, [-np.inf, -np.inf, lowest]), centre + reach
        points.append(np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], max(low[2], high[2]))]))
    return points


def _open_light(lights: Sequence[Light | AroundLight]) -> float:
    """On level ground in the open."""
    sky = sum(float(light.colour.max()) for light in lights if isinstance(light, SkyLight | AroundLight))
    return sky + sum(float(light.colour.max()) * max(float(light.direction[2]), 0.0) for light in lights if isinstance(light, SunLight))


def _near_lamps(items: Sequence[Item], lights: Sequence[Light | AroundLight]) -> list[tuple[np.ndarray, float]]:
    """Places (3,) of the lamps that are near, and what a place a unit away would get at most."""
    found = [
        (light.centre, float(light.colour.max()) * 4 * float(np.linalg.norm(np.cross(light.u, light.v))) / np.pi)
        for light in lights
        if isinstance(light, AreaLight)
    ]
    found += [(light.place, float(light.colour.max())) for light in lights if isinstance(light, SpotLight)]
    found += [(sent_middles(t).mean(0), float(t[-1, SENT_SUM]) / np.pi) for t in sent_light(items, np.zeros(3), 1.0)]
    return found


def _corners(parts: list[Item], share: float) -> np.ndarray:
    """(8, 3) corners in the world of a box round the parts of a thing, along the axes of the first one."""
    m = parts[0].model(share)
    if len(parts) == 1:
        return box_corners(parts[0].mesh) @ m[:3, :3].T + m[:3, 3]
    corners = placed_boxes(parts, [part.model(share) for part in parts]).reshape(-1, 3)
    axes = m[:3, :3] / np.linalg.norm(m[:3, :3], axis=0)
    own = corners @ axes
    low, high = own.min(0), own.max(0)
    return np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])]) @ axes.T


def _part(points: np.ndarray, camera: Camera, size: tuple[int, int]) -> tuple[np.ndarray, np.ndarray] | None:
    """Low and high corner (2,) px of the filmed part in which points (n, 3) of the world and all between them lie."""
    inside, lens = points @ camera.R.T + camera.t, camera.lens
    near = NEAR * float(np.abs(inside).max())
    before = inside[:, 2] >= near
    if not before.any():
        return None
    if not before.all():
        # what lies before the camera of a hull that reaches behind it: its corners there, and where its edges pass a plane just before it
        corners = inside[ConvexHull(inside, qhull_options="QJ").vertices]
        front, back = corners[corners[:, 2] >= near], corners[corners[:, 2] < near]
        share = (front[:, None, 2] - near) / (front[:, None, 2] - back[None, :, 2])
        inside = np.concatenate([front, (front[:, None] + share[..., None] * (back[None] - front[:, None])).reshape(-1, 3)])
    xy = inside[:, :2] / inside[:, 2:]
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


def _sky_share(lights: Sequence[Light | AroundLight]) -> float:
    """Of the light on level ground, what comes from the sky: 0 to 1."""
    sky = sum(float(light.colour.max()) for light in lights if isinstance(light, SkyLight | AroundLight))
    sun = sum(float(light.colour.max()) * max(float(light.direction[2]), 0.0) for light in lights if isinstance(light, SunLight))
    return sky / max(sky + sun, 1e-9)


def _shade_corners(corners: np.ndarray, suns: list[SunLight], ground: float, faint: float) -> list[np.ndarray]:
    """(n, 3) corners on level ground of all that a box keeps light from: its foot, its shadows, and the shade of the sky
    round it down to `faint` of the sky's light."""
    over = np.maximum(corners[:, 2:] - ground, 0)
    foot = corners * [1, 1, 0] + [0, 0, ground]
    # at a distance d something of width w and height h takes w h^2 / (2 pi d^3) of the sky's light on level ground, and never more than
    # h^2 / (4 d^2), as an endless wall does (both: form factors of a small patch, to the first order)
    high, wide = float(over.max()), float(np.linalg.norm(np.ptp(corners[:, :2], axis=0)))
    reach = min(np.cbrt(wide * high * high / (2 * np.pi * faint)), high / (2 * np.sqrt(faint)))
    spread = np.array([[x, y, 0] for x in (-reach, reach) for y in (-reach, reach)])
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
