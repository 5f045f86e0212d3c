"""`frame(shot, index, quality)`: the only way in which a picture is made, for viewer, command line, delivery and tests."""

import threading
from collections import OrderedDict
from collections.abc import Callable
from typing import NamedTuple

import cv2
import msgspec
import numpy as np

from ..basics.errors import PlateError
from ..basics.geometry import Camera, Lens
from ..evaluate.cameras import camera_at
from ..evaluate.lights import lamp_at
from ..evaluate.mattes import ignored_at, matte_at
from ..evaluate.objects import item_of, objects_at
from ..media.plates import Plate, PlateInfo, open_plate
from ..render.gpu import Item, Lamp, Layers, Renderer, View, box_corners, upper_plane
from ..shape.extrude import Mesh
from ..shot.document import Shot
from ..shot.keyed import constant
from ..shot.objects import GroundMesh, Logo, Object, Title
from ..track.eyes import prepare
from .blend import over_nothing, over_plate

QUALITIES = {"draft": 1, "final": 20}
PASSES = ("picture", "layers", "shadow", "matte", "plate", "tracker")  # the last: what the tracker is shown
KEPT_PLATES = 24
DRAFT_DETAIL = 0.75  # px that are drawn for each px of a draft; half as many shaded, a quarter of the time saved
MARGIN_PX = 3
SCENE_SAMPLES = 6
SCENE_SHADOW = 0.6  # how dark a shadow is drawn over the scene's ground, which has no light of its own
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
        self.sized: tuple = (None, None)
        self.covered: tuple = (None, None, None)
        self.ground: Mesh | None = None
        self.ground_at = b""


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
    matte = _matte(shot, index, width, height, scale_exact)
    if layer == "matte":
        return Picture(matte, "linear")
    # Brown's map is one-to-one in the picture; a frame without a solved camera shows the plate alone
    things = objects_at(shot, index) if shot.solve is None or index in shot.solve.frames else []
    part = _layers(shot, things, index, width, height, scale_exact, samples or QUALITIES[quality], check) if things else None
    if layer == "layers":
        return Picture(_whole(part, 0, width, height, matte), "linear")
    if layer == "shadow":
        return Picture(_whole(part, 1, width, height, matte), "linear")
    plate = _sized_plate(shot.plate, index, width, height)
    if part is None:
        return Picture(plate, shot.plate.transfer)
    layers, left, top = part
    h, w = layers.shade.shape[:2]
    seen = np.ascontiguousarray(matte[top : top + h, left : left + w])
    return Picture(over_plate(plate, shot.plate.transfer, layers.colour, layers.shade, seen, top, left), shot.plate.transfer)


def scene_picture(shot: Shot, index: int, view: Camera, width: int, height: int, quality: str = "draft") -> np.ndarray:
    """Frame `index` of the drawn objects with their shadow on the ground, seen from outside by a straight camera: (height, width,
    4) uint8 red, green, blue, alpha, premultiplied, code values of sRGB; transparent where there is nothing of ours.

    A draft, for a view that turns, has solids without their bevels: these are nine in ten of all triangles.
    """
    empty = np.zeros((height, width, 4), np.uint8)
    final = quality == "final"
    things = [t for t in objects_at(shot, index) if t.drawn]
    if not final:
        things = [msgspec.structs.replace(t, bevel=constant(0.0)) if isinstance(t, Title | Logo) else t for t in things]
    items, lamp = [item_of(shot, t, index) for t in things], lamp_at(shot, index)
    items = [i for i in items if len(i.mesh.vertices)]
    if not items:
        return empty
    lens = view.lens
    cx, cy = lens.cx - 0.5, lens.cy - 0.5
    area = _footprint(items, lamp, view, lens.fx, cx, cy, np.zeros(2), np.array([width - 1.0, height - 1.0]), False)
    if area is None:
        return empty
    left, top, right, bottom = max(area[0], 0), max(area[1], 0), min(area[2], width), min(area[3], height)
    items.append(_ground(items, lamp, view.centre, False, False))
    straight = View(lambda share: (view.R, view.t, 1.0), lens.fx, cx, cy, left, top, right - left, bottom - top)
    layers = _renderer().render(items, straight, lamp, SCENE_SAMPLES if final else 1, 0.0)
    empty[top:bottom, left:right] = over_nothing(layers.colour, layers.shade, SCENE_SHADOW)
    return empty


def _renderer() -> Renderer:
    if _workshop.renderer is None:
        _workshop.renderer = Renderer()
    return _workshop.renderer


def _to_size(picture: np.ndarray, width: int, height: int) -> np.ndarray:
    return picture if picture.shape[1::-1] == (width, height) else cv2.resize(picture, (width, height), interpolation=cv2.INTER_AREA)


def _sized_plate(info: PlateInfo, index: int, width: int, height: int) -> np.ndarray:
    """The plate at the size that is shown; the last one is kept, since a drag asks for the same again and again."""
    what = (info, index, (width, height))
    if _workshop.sized[0] != what:
        _workshop.sized = (what, _to_size(plate_frame(info, index), width, height))
    return _workshop.sized[1]


def _matte(shot: Shot, index: int, width: int, height: int, scale: float) -> np.ndarray:
    """What passes in front; the last one is kept for the same reason."""
    size, (mattes, what, kept) = (index, width, height), _workshop.covered
    if mattes is not shot.mattes or what != size:
        kept = matte_at(shot.mattes, index, width, height, scale)
        _workshop.covered = (shot.mattes, size, kept)
    return kept


def _tracker_view(shot: Shot, index: int) -> np.ndarray:
    """(h, w, 3) uint8: prepared as for the tracker; what is hidden from it is dark."""
    plate_frame(shot.plate, index)  # type: ignore[arg-type]  # opens the clip
    assert shot.plate is not None and _workshop.plate is not None
    seen = prepare(_workshop.plate.luma(index), shot.follow.contrast, shot.follow.blur_px)
    hidden = ignored_at(shot.regions, index, shot.plate.width, shot.plate.height)
    if hidden is not None:
        seen = np.where(hidden, seen // 6, seen)
    return np.repeat(seen[..., None], 3, 2)


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
    shot: Shot, things: list[Object], index: int, width: int, height: int, scale: float, samples: int, check
) -> tuple[Layers, int, int] | None:
    """Our layers over the part of the filmed picture that they touch, bent as the lens bends; with its left and top."""
    camera = camera_at(shot, index)
    lens = camera.lens
    focal, cx, cy = lens.fx * scale, (lens.cx + 0.5) * scale - 0.5, (lens.cy + 0.5) * scale - 0.5
    items, lamp = [item_of(shot, t, index) for t in things], lamp_at(shot, index)
    items = [i for i in items if len(i.mesh.vertices)]
    if not any(i.drawn for i in items):
        return None
    bend, low, high = _bend_map(Lens(focal, focal, cx, cy, lens.k1, lens.k2), width, height)
    area = _footprint(items, lamp, camera, focal, cx, cy, low, high, samples > 1)
    if area is None:
        return None
    left, top, right, bottom = area
    pose_cache = {0.0: (camera.R, camera.t, 1.0)}

    def pose(share: float) -> tuple[np.ndarray, np.ndarray, float]:
        if share not in pose_cache:
            between = camera_at(shot, index + share)
            pose_cache[share] = (between.R, between.t, between.lens.fx / lens.fx)
        return pose_cache[share]

    # uneven ground takes the place of the level one
    if not any(isinstance(t, GroundMesh) and t.receives for t in things):
        items.append(_ground(items, lamp, camera.centre, samples > 1, shot.ground.hides))
    # a draft is drawn with fewer pixels than it is shown with: the lens's bend takes them to their places and smooths them anyway
    fine = DRAFT_DETAIL if samples == 1 else 1.0
    coarse = lambda v: (v + 0.5) * fine - 0.5
    left_, top_ = int(np.floor(left * fine)), int(np.floor(top * fine))
    view = View(
        pose, focal * fine, coarse(cx), coarse(cy), left_, top_, int(np.ceil((right - left) * fine)) + 1, int(np.ceil((bottom - top) * fine)) + 1
    )
    straight = _renderer().render(items, view, lamp, samples, shot.finish.shutter.at(index)[0] if samples > 1 else 0.0, check)
    shade = _dense(straight.shade, shot, index)
    # the part of the filmed picture whose straight places lie in the rendered area
    inside = (bend[..., 0] > left) & (bend[..., 0] < right - 1) & (bend[..., 1] > top) & (bend[..., 1] < bottom - 1)
    rows, columns = np.flatnonzero(inside.any(1)), np.flatnonzero(inside.any(0))
    if len(rows) == 0 or len(columns) == 0:
        return None
    y0, y1, x0, x1 = int(rows[0]), int(rows[-1]) + 1, int(columns[0]), int(columns[-1]) + 1
    # two maps: OpenCV 5.0.0 goes wrong by whole pixels with one map of two channels (measured)
    across, down = (coarse(bend[y0:y1, x0:x1, k]) - np.float32(start) for k, start in ((0, left_), (1, top_)))
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


def _footprint(
    items: list[Item], lamp: Lamp, camera: Camera, focal: float, cx: float, cy: float, frame_low: np.ndarray, frame_high: np.ndarray, sky: bool
):
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
        xy = inside[:, :2] / z[:, None] * focal + [cx, cy]
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


def _ground(items: list[Item], lamp: Lamp, eye: np.ndarray, sky: bool, hides: bool) -> Item:
    """The level ground where the drawn items keep light from it, and where it hides what is sunk into it; elsewhere it would be
    shaded only to find nothing changed."""
    corners = [box_corners(i.mesh) @ m[:3, :3].T + m[:3, 3] for i in items if i.drawn for m in (i.model(-0.5), i.model(0.5))]
    places = [_shade_corners(c, lamp, 0.0, sky) for c in corners]
    if eye[2] > 1e-6:
        for c in corners:
            sunk = c[c[:, 2] < 0]
            places.append(eye + (sunk - eye) * (eye[2] / (eye[2] - sunk[:, 2:])))
    hull = cv2.convexHull(np.concatenate(places)[:, :2].astype(np.float32))[:, 0]
    middle = hull.mean(0)
    hull = middle + (hull - middle) * 1.01 + 1e-4 * np.sign(hull - middle)
    key = hull.tobytes()
    if key != _workshop.ground_at or _workshop.ground is None:
        n = len(hull)
        fan = np.array([[0, k, k + 1] for k in range(1, n - 1)], np.int32).reshape(-1, 3)
        _workshop.ground = Mesh(np.c_[hull, np.zeros(n)].astype(np.float32), np.tile(np.array([0, 0, 1], np.float32), (n, 1)), fan)
        _workshop.ground_at = key
    here = np.eye(4)
    return Item(_workshop.ground, lambda share: here, (0, 0, 0), 1.0, 0.0, drawn=False, receives=True, hides=hides)
