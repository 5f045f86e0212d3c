"""`frame(shot, index, quality)`: the only way in which a picture is made, for viewer, command line, delivery and tests."""

import threading
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import cv2
import numpy as np

from ..basics.colour import decode
from ..basics.errors import PlateError, UserError
from ..basics.geometry import Camera, Lens, Similarity, blend_rotation, turn_matrix
from ..light.sun import direction
from ..matte.outline import coverage
from ..media.plates import Plate, PlateInfo, open_plate
from ..render.gpu import Item, Lamp, Layers, Renderer, View, bounds, box_corners
from ..scene.ground import scene_of
from ..shape.extrude import Mesh, title_mesh
from ..shape.fonts import SHIPPED, face_path
from ..shape.outlines import word_box
from ..shot.document import Outline, Shot, Title
from ..solve.result import slip
from ..track.eyes import prepare

QUALITIES = {"draft": 1, "final": 20}
PASSES = ("picture", "layers", "shadow", "matte", "plate", "tracker")  # the last: what the tracker is shown
KEPT_PLATES = 24
MARGIN_PX = 3
LEAST_SHADE = 1 / 512  # a shadow weaker than this is not worth a pixel


class Picture(NamedTuple):
    """pixels: (h, w, 3) code values of the plate's kind for 'picture'; float32 (h, w, 4) premultiplied linear light for
    'layers', (h, w, 3) for 'shadow', (h, w) for 'matte'. transfer: the curve of the code values."""

    pixels: np.ndarray
    transfer: str


class _Workshop(threading.local):
    """What one thread keeps between frames: its renderer, its open clip, plates and bending maps."""

    def __init__(self) -> None:
        self.renderer: Renderer | None = None
        self.plate: Plate | None = None
        self.plate_info: PlateInfo | None = None
        self.frames: OrderedDict[int, np.ndarray] = OrderedDict()
        self.bends: dict = {}
        self.ground: Mesh | None = None
        self.ground_at: tuple = ()


_workshop = _Workshop()


def close_workshop() -> None:
    """Let go of this thread's clip and renderer."""
    if _workshop.plate is not None:
        _workshop.plate.close()
    _workshop.__init__()  # type: ignore[misc]


def plate_frame(info: PlateInfo, index: int) -> np.ndarray:
    """(h, w, 3) code values of the clip, from a small cache. Raises PlateError."""
    w = _workshop
    if w.plate is None or w.plate_info != info:
        if w.plate is not None:
            w.plate.close()
        w.plate, w.plate_info = None, None
        w.frames.clear()
        w.plate, w.plate_info = open_plate(info), info
    if index not in w.frames:
        w.frames[index] = w.plate.frame(index)
        while len(w.frames) > KEPT_PLATES:
            w.frames.popitem(last=False)
    return w.frames[index]


def default_lens(width: int, height: int) -> Lens:
    """The lens while nothing is solved: 56 degrees across."""
    return Lens(0.94 * width, 0.94 * width, (width - 1) / 2, (height - 1) / 2)


_DEFAULT_POSE = (np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]]), np.array([0, 1.6, 6.0]))


def scene_frame(shot: Shot) -> Similarity:
    """From the solve's frame of reference to the scene's, as the user's ground says."""
    return _scene_frame(shot)[0]


def slip_at(shot: Shot, points: np.ndarray) -> np.ndarray:
    """(m,) px by which a title at each point (m, 3) of the scene is expected to slide (95 %); nan without a solve."""
    return slip(shot.solve, scene_frame(shot).back(points)) if shot.solve is not None else np.full(len(points), np.nan)


def ground_problem(shot: Shot) -> str:
    """What is wrong with the ground that the user said; empty when nothing is."""
    return _scene_frame(shot)[1]


_scene_cache: dict = {}


def _scene_frame(shot: Shot) -> tuple[Similarity, str]:
    """Kept by the solve's identity and what was said: the level plane takes some ten milliseconds to find."""
    solve, g = shot.solve, shot.ground
    name = (id(solve), g)
    hit = _scene_cache.get(name)
    if hit is None or hit[0] is not solve:
        if len(_scene_cache) > 32:
            _scene_cache.clear()
        hit = _scene_cache[name] = (solve, scene_of(solve, g.on_ground, g.origin, g.distance, g.eye_height))
    return hit[1]


def camera_at(shot: Shot, frame: float) -> Camera:
    """The camera of a frame, or between frames, in the scene; a level one 1.6 over the ground while nothing is solved."""
    assert shot.plate is not None
    solve = shot.solve
    if solve is None:
        return Camera(*_DEFAULT_POSE, default_lens(shot.plate.width, shot.plate.height))
    place = scene_frame(shot)
    at = float(np.interp(frame, solve.frames, np.arange(len(solve.frames))))
    # outside the solved range the camera goes on as at its end, for motion blur of the first and the last frame
    if frame < solve.frames[0] or frame > solve.frames[-1]:
        at += float(np.clip(frame - np.clip(frame, solve.frames[0], solve.frames[-1]), -0.5, 0.5))
    low = int(np.clip(np.floor(at), 0, max(len(solve.frames) - 2, 0)))
    high = min(low + 1, len(solve.frames) - 1)
    share = at - low
    Ra, ta = place.camera(solve.R[low], solve.t[low])
    if high == low or share == 0:
        return Camera(Ra, ta, solve.lens)
    Rb, tb = place.camera(solve.R[high], solve.t[high])
    R = blend_rotation(Ra, Rb, share)
    centre = (1 - share) * (-Ra.T @ ta) + share * (-Rb.T @ tb)
    return Camera(R, -R @ centre, solve.lens)


def title_model(title: Title, frame: float) -> np.ndarray:
    """(4, 4) from the title's own axes (capitals one unit high, base line on z = 0) to the scene."""
    size = title.size.at(frame)[0] * title.height.at(frame)[0]
    m = np.eye(4)
    m[:3, :3] = turn_matrix(title.turn.at(frame)) * max(size, 1e-6)  # type: ignore[arg-type]
    m[:3, 3] = title.position.at(frame)
    return m


def _face_path(title: Title) -> Path:
    """The title's face, or the first shipped one where it is missing: never fatal."""
    try:
        return face_path(title.face)
    except UserError:
        return face_path(next(iter(SHIPPED)))


def mesh_of(title: Title, frame: float) -> Mesh:
    """The title's solid, with depth and bevel turned from metres to cap heights."""
    path = _face_path(title)
    height = max(title.height.at(frame)[0], 1e-6)
    depth, bevel = max(title.depth.at(frame)[0], 1e-4) / height, max(title.bevel.at(frame)[0], 0.0) / height
    return title_mesh(path, title.text, round(title.spacing.at(frame)[0], 4), round(depth, 5), round(bevel, 5))


def title_box(title: Title, frame: float) -> tuple[np.ndarray, np.ndarray]:
    """Low and high corner (3,) of the title in its own axes. Quick, for handles: no solid is made for it."""
    low, high = word_box(_face_path(title), title.text, round(title.spacing.at(frame)[0], 4))
    half = max(title.depth.at(frame)[0], 1e-4) / max(title.height.at(frame)[0], 1e-6) / 2
    return np.array([low[0], -half, low[1]]), np.array([high[0], half, high[1]])


def visible_titles(shot: Shot, index: int) -> list[Title]:
    return [t for t in shot.titles if t.visible and t.text.strip() and (t.span is None or t.span[0] <= index <= t.span[1])]


def item_of(title: Title, index: int) -> Item:
    base = decode(np.array(title.colour), "srgb")
    return Item(mesh_of(title, index), lambda share: title_model(title, index + share), (float(base[0]), float(base[1]), float(base[2])),
                float(np.clip(title.roughness.at(index)[0], 0.03, 1)), float(np.clip(title.metal.at(index)[0], 0, 1)))  # fmt: skip


def lamp_at(shot: Shot, index: float) -> Lamp:
    light = shot.light
    strength, sky = light.strength.at(index)[0] if light.on else 0.0, light.sky.at(index)[0]
    return Lamp(direction(light.bearing.at(index)[0], light.height.at(index)[0]), strength * np.array(light.colour),
                sky * np.array(light.sky_colour), light.softness.at(index)[0])  # fmt: skip


def matte_at(outlines: tuple[Outline, ...], index: int, width: int, height: int, scale: float = 1.0) -> np.ndarray:
    """(height, width) float32: the union of the outlines that are on; their points are in plate pixels times `scale`."""
    total = np.zeros((height, width), np.float32)
    for outline in outlines:
        if not outline.on:
            continue
        points = np.array(outline.shape.at(index)).reshape(-1, 2)
        # the centre of the top-left pixel is (0, 0) at every scale
        cover = coverage((points + 0.5) * scale - 0.5, width, height, outline.feather.at(index)[0] * scale)
        total = np.maximum(total, 1 - cover if outline.inverted else cover)
    return total


def ignored_at(outlines: tuple[Outline, ...], index: int, width: int, height: int) -> np.ndarray | None:
    """(height, width) bool: what the tracker must not look at, or None."""
    if not any(o.on for o in outlines):
        return None
    return matte_at(outlines, index, width, height) > 0.5


def frame(shot: Shot, index: int, quality: str = "final", *, layer: str = "picture", scale: float = 1.0, samples: int | None = None,
          check: Callable[[], None] = lambda: None) -> Picture:  # fmt: skip
    """Frame `index` of the shot.

    quality: 'draft' or 'final'; `samples` overrides the number of sub-frames. layer: one of PASSES. scale: under 1 for a
    smaller picture, as a viewer shows it. check: called between sub-frames; may raise to stop.
    Raises PlateError when the clip cannot be read, RenderError without OpenGL.
    """
    if layer not in PASSES:
        raise ValueError(f"layer must be one of {PASSES}, got {layer!r}")
    if shot.plate is None:
        raise PlateError("This shot has no clip yet.", "Open one with Shot, Open a clip.")
    width, height = round(shot.plate.width * scale), round(shot.plate.height * scale)
    if layer == "tracker":
        return Picture(_to_size(_tracker_view(shot, index), width, height), shot.plate.transfer)
    if layer == "plate":
        return Picture(_to_size(plate_frame(shot.plate, index), width, height), shot.plate.transfer)
    scale_exact = width / shot.plate.width
    matte = matte_at(shot.mattes, index, width, height, scale_exact)
    if layer == "matte":
        return Picture(matte, "linear")
    # Brown's map is one-to-one in the picture; a frame without a solved camera shows the plate alone
    titles = visible_titles(shot, index) if shot.solve is None or index in shot.solve.frames else []
    part = _layers(shot, titles, index, width, height, scale_exact, samples or QUALITIES[quality], check) if titles else None
    if layer == "layers":
        return Picture(_whole(part, 0, width, height, matte), "linear")
    if layer == "shadow":
        return Picture(_whole(part, 1, width, height, matte), "linear")
    plate = _to_size(plate_frame(shot.plate, index), width, height)
    if part is None:
        return Picture(plate, shot.plate.transfer)
    layers, left, top = part
    h, w = layers.shade.shape[:2]
    return Picture(over_plate_part(plate, shot.plate.transfer, layers, matte, left, top, w, h), shot.plate.transfer)


def _to_size(picture: np.ndarray, width: int, height: int) -> np.ndarray:
    return picture if picture.shape[1::-1] == (width, height) else cv2.resize(picture, (width, height), interpolation=cv2.INTER_AREA)


def _tracker_view(shot: Shot, index: int) -> np.ndarray:
    """(h, w, 3) uint8: prepared as for the tracker; what is hidden from it is dark."""
    plate_frame(shot.plate, index)  # type: ignore[arg-type]  # opens the clip
    assert shot.plate is not None and _workshop.plate is not None
    seen = prepare(_workshop.plate.luma(index), shot.follow.contrast, shot.follow.blur_px)
    hidden = ignored_at(shot.regions, index, shot.plate.width, shot.plate.height)
    if hidden is not None:
        seen = np.where(hidden, seen // 6, seen)
    return np.repeat(seen[..., None], 3, 2)


def over_plate_part(plate: np.ndarray, transfer: str, layers: Layers, matte: np.ndarray, left: int, top: int, w: int, h: int) -> np.ndarray:
    from .blend import over_plate

    return over_plate(plate, transfer, layers.colour, layers.shade, np.ascontiguousarray(matte[top : top + h, left : left + w]), top, left)


def _whole(part, which: int, width: int, height: int, matte: np.ndarray) -> np.ndarray:
    """A layer at the size of the plate, with what passes in front taken out."""
    result = np.zeros((height, width, 4), np.float32) if which == 0 else np.ones((height, width, 3), np.float32)
    if part is None:
        return result
    layers, left, top = part
    h, w = layers.shade.shape[:2]
    seen = 1 - matte[top : top + h, left : left + w, None]
    result[top : top + h, left : left + w] = layers.colour * seen if which == 0 else 1 - (1 - layers.shade) * seen
    return result


def _layers(
    shot: Shot, titles: list[Title], index: int, width: int, height: int, scale: float, samples: int, check
) -> tuple[Layers, int, int] | None:
    """Our layers over the part of the filmed picture that they touch, bent as the lens bends; with its left and top."""
    camera = camera_at(shot, index)
    lens = camera.lens
    focal, cx, cy = lens.fx * scale, (lens.cx + 0.5) * scale - 0.5, (lens.cy + 0.5) * scale - 0.5
    items, lamp = [item_of(t, index) for t in titles], lamp_at(shot, index)
    items = [i for i in items if len(i.mesh.vertices)]
    if not items:
        return None
    bend, low, high = _bend_map(Lens(focal, focal, cx, cy, lens.k1, lens.k2), width, height)
    area = _footprint(items, lamp, camera, focal, cx, cy, low, high)
    if area is None:
        return None
    left, top, right, bottom = area
    pose_cache = {0.0: (camera.R, camera.t)}

    def pose(share: float) -> tuple[np.ndarray, np.ndarray]:
        if share not in pose_cache:
            between = camera_at(shot, index + share)
            pose_cache[share] = (between.R, between.t)
        return pose_cache[share]

    if _workshop.renderer is None:
        _workshop.renderer = Renderer()
    ground = _ground_mesh(items)
    view = View(pose, focal, cx, cy, left, top, right - left, bottom - top)
    straight = _workshop.renderer.render(items, ground, view, lamp, samples, shot.finish.shutter.at(index)[0] if samples > 1 else 0.0, check)
    shade = _dense(straight.shade, shot, index)
    # the part of the filmed picture whose straight places lie in the rendered area
    inside = (bend[..., 0] > left) & (bend[..., 0] < right - 1) & (bend[..., 1] > top) & (bend[..., 1] < bottom - 1)
    rows, columns = np.flatnonzero(inside.any(1)), np.flatnonzero(inside.any(0))
    if len(rows) == 0 or len(columns) == 0:
        return None
    y0, y1, x0, x1 = int(rows[0]), int(rows[-1]) + 1, int(columns[0]), int(columns[-1]) + 1
    # two maps: OpenCV 5.0.0 goes wrong by whole pixels with one map of two channels (measured)
    across, down = bend[y0:y1, x0:x1, 0] - np.float32(left), bend[y0:y1, x0:x1, 1] - np.float32(top)
    colour = cv2.remap(straight.colour, across, down, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=(0, 0, 0, 0))
    shade = cv2.remap(shade, across, down, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=(1, 1, 1, 1))
    return Layers(colour, shade), x0, y0


def _dense(shade: np.ndarray, shot: Shot, index: int) -> np.ndarray:
    """Density and tint of the shadow: (h, w, 3) factors on the plate."""
    density, tint = float(np.clip(shot.light.density.at(index)[0], 0, 1)), np.array(shot.light.tint, np.float32)
    if density == 1 and not tint.any():
        return shade
    return (1 - density * (1 - shade) * (1 - tint)).astype(np.float32)


def _bend_map(lens: Lens, width: int, height: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(height, width, 2) float32: for each filmed pixel, its place in the straight picture, with its low and high corner (2,);
    kept for the last few lenses."""
    key = (lens, width, height)
    if key not in _workshop.bends:
        if len(_workshop.bends) > 3:
            _workshop.bends.clear()
        y, x = np.mgrid[0:height, 0:width].astype(np.float64)
        xy = lens.undistort(np.stack([x, y], -1))
        bend = (xy * [lens.fx, lens.fy] + [lens.cx, lens.cy]).astype(np.float32)
        _workshop.bends[key] = bend, bend.reshape(-1, 2).min(0), bend.reshape(-1, 2).max(0)
    return _workshop.bends[key]


def _footprint(items: list[Item], lamp: Lamp, camera: Camera, focal: float, cx: float, cy: float, frame_low: np.ndarray, frame_high: np.ndarray):
    """Left, top, right, bottom in straight pixels of items, their shadows and the sky's shade round them; None when out of sight."""
    points = []
    for item in items:
        for share in (-0.5, 0.5):
            m = item.model(share)
            corners = box_corners(item.mesh) @ m[:3, :3].T + m[:3, 3]
            points.append(corners)
            height = float(np.clip(corners[:, 2].max(), 0, None))
            # sky occlusion reaches about one and a half times the height before it falls under 1/512
            spread = np.array([[x, y, 0] for x in (-1.5, 1.5) for y in (-1.5, 1.5)]) * height
            points.append((corners[:, None] * [1, 1, 0] + spread).reshape(-1, 3))
            if lamp.direction[2] > 0.02 and lamp.sun.max() > 0:
                run = np.maximum(corners[:, 2:], 0) / lamp.direction[2]
                points.append(corners - run * lamp.direction)
    inside = np.concatenate(points) @ camera.R.T + camera.t
    z = inside[:, 2]
    if (z < 0.05).all():
        return None
    if (z < 0.05).any():  # reaches behind the camera: no tighter bound is known
        low, high = frame_low, frame_high
    else:
        xy = inside[:, :2] / z[:, None] * focal + [cx, cy]
        low, high = np.maximum(xy.min(0), frame_low), np.minimum(xy.max(0), frame_high)
    left, top = np.floor(low).astype(int) - MARGIN_PX
    right, bottom = np.ceil(high).astype(int) + MARGIN_PX + 1
    if right - left < 2 * MARGIN_PX + 2 or bottom - top < 2 * MARGIN_PX + 2:
        return None
    return int(left), int(top), int(right), int(bottom)


def _ground_mesh(items: list[Item]) -> Mesh:
    """The flat ground round the items, wide enough for long shadows."""
    centre, radius = bounds(items, [i.model(0.0) for i in items])
    key = (round(float(centre[0]), 3), round(float(centre[1]), 3), round(radius, 3))
    if key != _workshop.ground_at or _workshop.ground is None:
        reach = radius * 14 + abs(float(centre[2])) * 14
        corners = np.array([[-1, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0]], np.float32) * reach
        corners[:, :2] += centre[:2]
        _workshop.ground = Mesh(corners, np.tile(np.array([0, 0, 1], np.float32), (4, 1)), np.array([[0, 1, 2], [0, 2, 3]], np.int32))
        _workshop.ground_at = key
    return _workshop.ground
