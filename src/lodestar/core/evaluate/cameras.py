"""The camera of each frame in the scene, and how far what stands in the scene is expected to slide."""

import numpy as np

from ..basics.geometry import Similarity, blend_rotation
from ..projection.camera import Camera
from ..projection.pinhole import Lens
from ..scene.ground import scene_of
from ..shot.document import Shot
from ..solve.constants import SOLVER
from ..solve.result import slip


def default_lens(width: int, height: int) -> Lens:
    """The lens while nothing is solved: 56 degrees across."""
    return Lens(SOLVER.usual_focal * width, SOLVER.usual_focal * width, (width - 1) / 2, (height - 1) / 2)


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
        hit = _scene_cache[name] = (solve, scene_of(solve, g))
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
    lens = solve.lens.zoomed(float(np.exp(np.interp(at, np.arange(len(solve.frames)), np.log(solve.zooms)))))
    if high == low or share == 0:
        return Camera(Ra, ta, lens)
    Rb, tb = place.camera(solve.R[high], solve.t[high])
    R = blend_rotation(Ra, Rb, share)
    centre = (1 - share) * (-Ra.T @ ta) + share * (-Rb.T @ tb)
    return Camera(R, -R @ centre, lens)


def seconds_at(shot: Shot, frame: float) -> float:
    """From the shot's first frame, by which skies drift and water flows."""
    return 0.0 if shot.plate is None else (frame - shot.first) * shot.plate.rate[1] / shot.plate.rate[0]


def lens_at(shot: Shot, frame: float) -> tuple[float, float]:
    """Radius of the open lens and the distance that is sharp, in the scene's units; a radius of 0 where all is sharp.

    The radius is half of focal length over f-number (handbooks of optics), the focal length by the width of the sensor.
    """
    if not shot.focus.on or shot.plate is None:
        return 0.0, 1.0
    focal_mm = camera_at(shot, frame).lens.fx / shot.plate.width * shot.sensor_mm
    return focal_mm / 1000 / (2 * max(shot.focus.stop.at(frame)[0], 0.1)), max(shot.focus.distance.at(frame)[0], 1e-3)
