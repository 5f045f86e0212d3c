"""A title that the camera flies through: the middle of a hole of one of its letters lies on the camera's path at a frame."""

from typing import NamedTuple

import cv2
import manifold3d as m3
import msgspec
import numpy as np

from ..basics.errors import UserError
from ..basics.geometry import F64, turn_matrix
from ..evaluate.cameras import camera_at
from ..evaluate.counting import counted
from ..evaluate.lettering import title_parts, title_pieces
from ..evaluate.objects import pose_of
from ..projection.camera import Camera
from ..scene.poses import moved
from ..shot.document import Shot
from ..shot.objects import Title
from .arrange import find, parent_pose, replaced, with_pose

STEEP_DEG = 55.0  # an upright title is passed through at up to so much from level
ROOM = 1.3  # how much wider than what the path needs a hole has to be
CLEAR = 0.25  # of the depth: room round the path, by which the sides of the hole keep from the lens (common practice, no source)
WHILE = 1.0  # frames before and after, over which the path's direction is told


class Hole(NamedTuple):
    """middle (3,) in the title's own axes, in metres, on its middle plane; radius: of the largest circle round that which lies in the hole."""

    middle: F64
    radius: float


def hole_at(title: Title, place: F64, frame: float) -> Hole | None:
    """The hole of a letter in which a place (3,) of the title's own axes lies; None where it is in none."""
    height = max(title.height.at(frame)[0], 1e-4)
    title = counted(title, frame)
    pieces, _ = title_pieces(title, frame)
    for piece, part in zip(pieces, title_parts(title, frame)):
        own = np.linalg.solve(part.place, np.array([place[0] / height, 0.0, place[2] / height, 1.0]))[[0, 2]]
        for ring in m3.CrossSection(piece.joined.contours(), m3.FillRule.NonZero).to_polygons():
            ring = np.asarray(ring, np.float32)
            if cv2.contourArea(ring, True) < 0 and cv2.pointPolygonTest(ring, own.tolist(), False) > 0:
                middle, away = _middle(ring)
                found = part.place @ [middle[0], 0.0, middle[1], 1.0]
                return Hole(found[:3] * height, away * height * float(np.linalg.norm(part.place[:3, 0])))
    return None


def hole_under(shot: Shot, camera: Camera, pixel: F64, frame: float) -> tuple[Title, Hole] | None:
    """The title and the hole of it that is under a pixel (2,); the nearest one."""
    found: list[tuple[float, Title, Hole]] = []
    ray = camera.rays(pixel)
    for title in shot.objects:
        if isinstance(title, Title) and title.visible:
            m = np.linalg.inv(pose_of(shot, title, frame))
            o, d = moved(m, camera.centre), m[:3, :3] @ ray
            if abs(d[1]) > 1e-9 and (away := -o[1] / d[1]) > 0 and (hole := hole_at(title, o + away * d, frame)) is not None:
                found.append((away, title, hole))
    return min(found, key=lambda one: one[0])[1:] if found else None


def fly_through(shot: Shot, id_: str, hole: Hole, frame: float, upright: bool = True) -> Shot:
    """The shot with a title placed and turned so that the camera passes through the middle of the hole at the frame; upright, or square to the
    path. Where the hole is too narrow for the way that the path takes through the title's depth, the depth is made less; its size stays.

    Raises UserError where no camera is known, it does not move, or the path is too steep.
    """
    title = find(shot, id_)
    assert isinstance(title, Title)
    if shot.solve is None or shot.solve.motion != "free":
        raise UserError("There is no path to fly along: no camera that moves is known.", "Track and solve a clip in which it moves first.")
    path = np.array([camera_at(shot, frame + k).centre for k in (-WHILE, 0.0, WHILE)])
    way = path[2] - path[0]
    if np.linalg.norm(way) < 1e-6 * max(float(np.abs(shot.solve.centres).max()), 1e-6):
        raise UserError(f"The camera does not move at frame {frame:g}.", "Choose a frame in which it flies.")
    way = way / np.linalg.norm(way)
    flat = float(np.hypot(way[0], way[1]))
    steep = float(np.rad2deg(np.arctan2(abs(way[2]), flat)))
    if upright and steep > STEEP_DEG:
        raise UserError(
            f"The path is too steep for an upright title: {steep:.0f}° from level.", "Let it stand square to the path, or choose another frame."
        )
    heading = float(np.rad2deg(np.arctan2(-way[0], way[1]))) if flat > 1e-9 else 0.0
    R = turn_matrix((heading, 0.0 if upright else float(np.rad2deg(np.arctan2(way[2], flat))), 0.0))
    depth = title.depth.at(frame)[0]
    # how far to the side the path goes within the depth, and what keeps clear of the lens
    across = R.T @ way
    needs = (depth * float(np.hypot(across[0], across[2])) / max(abs(float(across[1])), 1e-6) / 2 + CLEAR * depth) * ROOM
    if needs > hole.radius:  # a larger title has a larger hole, and as much more of a depth: only a shallower one helps
        shallow = depth * hole.radius / max(needs, 1e-9)
        title = msgspec.structs.replace(title, depth=title.depth.changed(frame, (round(shallow, 5),), "whole"))
        shot = replaced(shot, title)
    scale = float(np.linalg.norm(parent_pose(shot, title, frame)[:3, 0])) * title.size.at(frame)[0]
    at = path[1] - R @ ((hole.middle - np.array(title.pivot)) * scale)
    return replaced(shot, with_pose(shot, title, frame, "whole" if title.position.keys or title.turn.keys else "here", R=R, at=at))


def _middle(ring: np.ndarray) -> tuple[F64, float]:
    """(2,) the place in a ring (n, 2) float32 that is farthest from its edge, by a net that grows finer round the best of the last; how far."""
    low, high = ring.min(0).astype(float), ring.max(0).astype(float)
    best, most = (low + high) / 2, 0.0
    for _ in range(6):
        x, y = np.meshgrid(np.linspace(low[0], high[0], 15), np.linspace(low[1], high[1], 15))
        places = np.stack([x.ravel(), y.ravel()], 1)
        away = np.array([cv2.pointPolygonTest(ring, place, True) for place in places.tolist()])  # less than 0 outside
        best, most, reach = places[int(away.argmax())], float(away.max()), (high - low) / 10
        low, high = best - reach, best + reach
    return best, most
