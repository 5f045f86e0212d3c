#!/usr/bin/env python3
"""Make demo/open-night.lode from the terrace clip and demo/low-sun.lode from the basin clip: tracked and solved by the program, then titled,
lit and matted.

What a user would say by pointing (the ground, one distance, a shadow, the visitor's outline) is taken from the true scene.
"""

import json
import pathlib
import sys
from collections.abc import Callable
from typing import NamedTuple

import cv2
import msgspec
import numpy as np

FOLDER = pathlib.Path(__file__).resolve().parent
sys.path[:0] = [str(FOLDER), str(FOLDER.parent / "src")]
import scenery  # noqa: E402
from lodestar.core.basics.geometry import Similarity, fit_similarity  # noqa: E402
from lodestar.core.basics.job import Job  # noqa: E402
from lodestar.core.basics.keyed import Key, Keyed, constant  # noqa: E402
from lodestar.core.edits.arrange import added  # noqa: E402
from lodestar.core.edits.lights import with_surroundings  # noqa: E402
from lodestar.core.edits.settle import with_ground  # noqa: E402
from lodestar.core.evaluate.cameras import camera_at, scene_frame  # noqa: E402
from lodestar.core.evaluate.ground import hidden_share  # noqa: E402
from lodestar.core.evaluate.pointing import Points, placed_whole, surface_under  # noqa: E402
from lodestar.core.light.lamps import Sky, Sun  # noqa: E402
from lodestar.core.light.sun import bearing_and_height, from_shadows  # noqa: E402
from lodestar.core.matte.sources import Outline  # noqa: E402
from lodestar.core.media.plates import probe  # noqa: E402
from lodestar.core.projection.camera import Camera  # noqa: E402
from lodestar.core.projection.pinhole import Lens  # noqa: E402
from lodestar.core.shot import files  # noqa: E402
from lodestar.core.shot.document import Ground, Shadow, ShadowLine, Shot, with_plate  # noqa: E402
from lodestar.core.shot.objects import Box, Title, Tube  # noqa: E402
from lodestar.core.solve.known import Span  # noqa: E402
from lodestar.core.work.solving import solve_shot  # noqa: E402
from lodestar.core.work.tracking import track_shot  # noqa: E402

CORNERS, KEY_EVERY = 56, 2


def true_cameras(name: str) -> list[Camera]:
    tree = json.loads((FOLDER / "shots" / f"{name}.camera.json").read_text())
    lens = Lens(**{k: tree["lens"][k] for k in ("fx", "fy", "cx", "cy", "k1", "k2")})
    return [Camera(np.array(f["R"]), np.array(f["t"]), lens) for f in tree["frames"]]


def silhouette(camera: Camera, time_s: float, width: int, height: int) -> np.ndarray:
    """(CORNERS, 2) outline of the visitor, from the top of the head round, as somebody would draw it."""
    mask = np.zeros((height, width), np.uint8)
    for solid in scenery.visitor(time_s):
        a, b, radius = np.array(solid[2:5]), np.array(solid[5:8]), solid[8]
        for share in np.linspace(0, 1, 24):
            p = a + share * (b - a)
            xy, depth = camera.project(p)
            cv2.circle(mask, tuple(np.round(xy * 16).astype(int)), int(round(radius * camera.lens.fx / float(depth) * 16)), 255, -1, cv2.LINE_AA, 4)
    line = max(cv2.findContours((mask > 127).astype(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)[0], key=len)[:, 0].astype(float)
    line = np.roll(line, -int(line[:, 1].argmin()), axis=0)
    along = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    at = np.linspace(0, along[-1], CORNERS, endpoint=False)
    return np.stack([np.interp(at, along, line[:, k]) for k in (0, 1)], 1)


def visitor_matte(cameras: list[Camera], fps: float, width: int, height: int) -> Outline:
    keys = []
    for i in [*range(0, len(cameras), KEY_EVERY), len(cameras) - 1]:
        points = np.round(silhouette(cameras[i], (i + 0.5) / fps, width, height), 1)
        keys.append(Key(float(i), tuple(float(v) for v in points.ravel()), "linear"))
    unique = {k.frame: k for k in keys}
    return Outline(id="visitor", name="Visitor", shape=Keyed(keys[0].value, tuple(unique.values())), feather=constant(1.5))


def tracks_round(solve, places: np.ndarray, at, count: int = 12) -> tuple[int, ...]:
    """The tracks whose places (m, 3) lie nearest to a point: what something placed there stands on."""
    near = np.argsort(np.linalg.norm(places - np.asarray(at), axis=1))[:count]
    return tuple(sorted(int(i) for i in solve.point_ids[near]))


def nearest_tracks(solve, truth: np.ndarray, places: list[tuple[float, float, float]]) -> list[int]:
    """The tracks whose true places (m, 3) lie nearest to these."""
    return [int(solve.point_ids[np.linalg.norm(truth - p, axis=1).argmin()]) for p in np.array(places)]


class Solved(NamedTuple):
    """A clip that the program tracked and solved, with its ground; truth: from the solve's own frame of reference to the true one."""

    shot: Shot
    truth: Similarity
    cameras: list[Camera]

    def to_scene(self, p) -> np.ndarray:
        """(3,) a true place in the scene of the shot."""
        return scene_frame(self.shot).points((np.asarray(p, float) - self.truth.t) @ self.truth.R / self.truth.scale)

    def stood(self, p, z: float) -> tuple[float, float, float]:
        """A true place at a height of the scene."""
        return rounded([*self.to_scene(p)[:2], z])


def rounded(p) -> tuple[float, float, float]:
    x, y, z = (round(float(v), 4) for v in p)
    return x, y, z


def solved(clip: str, name: str, level: Callable[[np.ndarray], np.ndarray], apart, origin) -> Solved:
    """level: which of true places (m, 3) lie on the level ground; apart: two of them whose distance is said; origin: another."""
    info = probe(FOLDER / "shots" / f"{clip}.mp4")
    shot = msgspec.structs.replace(with_plate(Shot(), info), name=name)
    shot = solve_shot(track_shot(shot, Job()), Job())
    solve, cameras = shot.solve, true_cameras(clip)
    assert solve is not None
    # the solve's frame of reference against the true one, by the cameras' places and where they look
    own = [solve.camera(k) for k in range(len(solve.frames))]
    reach = np.ptp(solve.centres, axis=0).max()
    scale = np.ptp([c.centre for c in cameras], axis=0).max() / reach
    tips = lambda cs, d: np.concatenate([[c.centre for c in cs]] + [[c.centre + d * c.R[k] for c in cs] for k in range(3)])
    truth = fit_similarity(tips(own, reach), tips([cameras[i] for i in solve.frames], reach * scale))
    points = truth.points(solve.xyz)
    flat = np.flatnonzero((np.abs(points[:, 2]) < 0.03) & level(points) & (solve.point_error < 0.5))
    a, b = nearest_tracks(solve, points, apart)
    index = {int(k): i for i, k in enumerate(solve.point_ids)}
    metres = round(float(np.linalg.norm(points[index[a]] - points[index[b]])), 3)
    first = nearest_tracks(solve, points, [origin])[0]
    ground = Ground(on_ground=tuple(int(solve.point_ids[i]) for i in flat[:: max(1, len(flat) // 40)]), origin=first, spans=(Span(a, b, metres),))
    return Solved(with_ground(shot, ground), truth, cameras)


def shadows_of(made: Solved, posts, sun: np.ndarray) -> tuple[ShadowLine, ...]:
    """The shadows of posts (x, y, height), as somebody would draw them."""
    lines = []
    for x, y, height in posts:
        foot = np.array([x, y, 0.0])
        tip = foot + [0, 0, height] - sun * height / sun[2]
        lines.append(ShadowLine(foot=rounded(made.to_scene(foot)), tip=rounded(made.to_scene(tip)), height=height))
    return tuple(lines)


def sun_from(lines: tuple[ShadowLine, ...], **how) -> Sun:
    bearing, height = bearing_and_height(from_shadows(*(np.array([getattr(s, k) for s in lines]) for k in ("foot", "tip", "height")))[0])
    return Sun(bearing=constant(round(bearing, 2)), height=constant(round(height, 2)), **how)


def open_night() -> None:
    made = solved(
        "terrace", "Fellgate open night", lambda p: (p[:, 1] < 12) & (np.abs(p[:, 0]) < 8), [(-2.0, 5.0, 0.0), (2.5, 7.5, 0.0)], (0.0, 6.5, 0.0)
    )
    shot, solve, info = made.shot, made.shot.solve, made.shot.plate
    assert solve is not None and info is not None
    shadows = shadows_of(made, ((3.4, 4.6, 1.1), (-3.6, 4.7, 1.05)), scenery.sun_direction())
    sun = sun_from(shadows, strength=constant(1.05), softness=constant(0.6), colour=(1.0, 0.94, 0.82))
    lamps = (sun, Sky(strength=constant(0.30), colour=(0.78, 0.9, 1.0)))
    shadow = Shadow(density=constant(0.95), lines=shadows)
    at, gate = made.stood((0.35, 6.1, 0.0), 0.0), made.stood((-0.2, 11.43, 0.45), 0.45)
    places = scene_frame(shot).points(solve.xyz)
    titles = (
        Title(
            id="open-sky",
            text="OPEN SKY",
            height=constant(0.92),
            depth=constant(0.32),
            bevel=constant(0.022),
            colour=(0.88, 0.85, 0.79),
            roughness=constant(0.5),
            position=constant(*at),
            turn=constant(-7.0, 0, 0),
            tracks=tracks_round(solve, places, at),
        ),
        Title(
            id="gate-3",
            text="GATE 3",
            face="Zilla Slab Bold",
            height=constant(0.34),
            depth=constant(0.1),
            bevel=constant(0.008),
            colour=(0.80, 0.42, 0.22),
            roughness=constant(0.4),
            position=constant(*gate),
            turn=constant(0.0, 0, 0),
            tracks=tracks_round(solve, places, gate),
        ),
    )
    # the post before the letters' right end: their shadow falls on the paving behind it
    foot = made.stood((3.4, 4.6, 0.0), 0.0)
    how = {"length": constant(1.1), "thickness": constant(0.18)}
    post = Tube(id="post", label="Post", drawn=False, receives=True, hides=True, position=constant(*foot), **how)
    matte = visitor_matte(made.cameras, info.fps, info.width, info.height)
    shot = msgspec.structs.replace(
        shot,
        objects=(*titles, post),
        lamps=lamps,
        shadow=shadow,
        mattes=(matte,),
        exposure=msgspec.structs.replace(shot.exposure, shutter=constant(0.4)),
    )
    files.write(shot, FOLDER / "open-night.lode")


def low_sun() -> None:
    """A low sun behind the letters: their shadows come over uneven ground and a kerb towards the camera, and a basin mirrors them."""
    made = solved(
        "basin", "Fellgate low sun", lambda p: (p[:, 1] < 6.2) & (np.abs(p[:, 0]) < 8), [(-3.2, 5.6, 0.0), (3.6, 2.0, 0.0)], (-2.6, 3.2, 0.0)
    )
    shot, solve = made.shot, made.shot.solve
    assert solve is not None
    sun = scenery.sun_direction(scenery.EVENING_BEARING_DEG, scenery.EVENING_HEIGHT_DEG)
    shadows = shadows_of(made, ((4.9, 5.6, 1.0), (-4.6, 5.2, 0.95)), sun)
    lamp = sun_from(shadows, strength=constant(1.7), softness=constant(0.6), colour=(1.0, 0.673, 0.365))
    sky = Sky(strength=constant(0.16), colour=(0.70, 0.735, 1.0))
    shot = msgspec.structs.replace(
        shot,
        lamps=(lamp, sky),
        shadow=Shadow(density=constant(0.97), lines=shadows),
        exposure=msgspec.structs.replace(shot.exposure, shutter=constant(0.4)),
    )
    shot = with_surroundings(shot, "dusk")
    around = msgspec.structs.replace(shot.surroundings, heading=constant(round(lamp.bearing.value[0], 1)))
    places = scene_frame(shot).points(solve.xyz)
    turn = float(np.rad2deg(np.arctan2(*(made.to_scene((0.0, 1.0, 0.0)) - made.to_scene((0.0, 0.0, 0.0)))[[0, 1]])))
    stand_in = lambda id_, label, low, high, **how: Box(
        id=id_,
        label=label,
        drawn=False,
        position=constant(*made.stood(np.add(low, high) / 2, low[2])),
        turn=constant(-turn, 0.0, 0.0),
        extent=constant(*np.subtract(high, low).astype(float)),
        **how,
    )
    standing = (
        stand_in("kerb", "Kerb", (-12, 6.4, 0.0), (12, 6.75, 0.16), receives=True, hides=True),
        stand_in("rim", "Rim of the basin", (-1.9, 2.6, 0.0), (2.9, 5.3, 0.22), receives=True, hides=True),
        stand_in(
            "water",
            "Water",
            (-1.62, 2.88, 0.19),
            (2.62, 5.02, 0.222),
            reflects=constant(0.5),
            roughness=constant(0.03),
            ripple=constant(0.006),
            ripple_size=constant(0.22),
        ),
    )
    shot = msgspec.structs.replace(shot, objects=standing, surroundings=around)
    camera, pixel = camera_at(shot, 40), made.cameras[40].project(np.array([0.4, 8.0, scenery.height_at(scenery.basin_ground(), 0.4, 8.0)]))[0]
    patch = surface_under(shot, camera, pixel, Points(places, None))
    assert patch is not None
    make = lambda found: Title(
        id="fellgate",
        text="FELLGATE",
        height=constant(1.35),
        depth=constant(0.4),
        bevel=constant(0.032),
        colour=(1.0, 0.86, 0.57),
        metal=constant(1.0),
        roughness=constant(0.24),
        position=constant(*rounded(found.centre)),
        turn=constant(round(-turn, 2), 0.0, 0.0),
        tracks=tracks_round(solve, places, found.centre),
    )
    title, _ = placed_whole(shot, make, patch, None, lambda item: hidden_share(added(shot, item), item, 40))
    files.write(added(shot, title), FOLDER / "low-sun.lode")


def main() -> None:
    makers = {"open-night": open_night, "low-sun": low_sun}
    for name in sys.argv[1:] or makers:
        makers[name]()


if __name__ == "__main__":
    main()
