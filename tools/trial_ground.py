#!/usr/bin/env python3
"""How well a title on uneven ground stands, and its shadow lies, against the true land of shots that were rendered.

    trial_ground.py FOLDER [NAME[.SEED] ...]

FOLDER: trial shots of make_trials.py (drone, drone.3, ...); the demo's own ridge and terrace are always there. In each shot a word is
placed by a click at a few places of the ground in its middle frame. The reference is the same word on the true land, seen by the
true camera. Printed: overlap (intersection over union) of the word's shadow and of the word itself.
A shot is solved once and kept beside its clip as FOLDER/NAME.lode.
"""

import argparse
import pathlib
import sys

import msgspec
import numpy as np

HERE = pathlib.Path(__file__).resolve().parent.parent
sys.path[:0] = [str(HERE / "demo"), str(HERE / "src"), str(HERE)]
import make_trials
import raycast
import scenery
from lodestar.core.basics.job import Job
from lodestar.core.basics.keyed import constant
from lodestar.core.edits import placing
from lodestar.core.evaluate.cameras import camera_at, scene_frame
from lodestar.core.evaluate.ground import trusted_points
from lodestar.core.evaluate.objects import items_of
from lodestar.core.evaluate.pointing import Points, surface_under
from lodestar.core.light.lamps import Sky, Sun, lights_of
from lodestar.core.light.sun import bearing_and_height
from lodestar.core.media.plates import probe
from lodestar.core.picture.frame import QUALITIES, frame
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens
from lodestar.core.render.engine import Engine
from lodestar.core.scene.surfaces import heading_towards
from lodestar.core.shot import files
from lodestar.core.shot.document import Exposure, Shot, with_plate
from lodestar.core.shot.objects import GroundMesh, Title
from lodestar.core.work.solving import solve_shot
from lodestar.core.work.tracking import track_shot
from make_shot import true_cameras

DARK = 0.85  # of its light: what is darker is shadow
NEAR_M, STEP_M = 9.0, 0.15  # the true land round a word, and the width of its cells
NEAR = 2.5  # times the distance of what is near: so far the map from the true world is asked for
CLICKS = [(320, 560), (640, 520), (960, 560), (480, 440), (800, 440), (640, 640)]


class World:
    """What is true of a shot: its cameras in the middle of each frame, land, solids."""

    def __init__(self, folder: pathlib.Path, name: str) -> None:
        kind, _, seed = name.partition(".")
        if kind in ("ridge", "terrace"):
            self.clip = HERE / "demo" / "shots" / f"{kind}.mp4"
            self.cameras = true_cameras(kind)
            self.land = scenery.ridge_ground() if kind == "ridge" else scenery.terrace_ground()
            solids = scenery.ridge_solids(self.land) if kind == "ridge" else scenery.terrace_solids()
        else:
            self.clip = folder / f"{name}.mp4"
            data = np.load(folder / f"{name}.npz")
            middle = len(data["times"]) // 2
            f, k1, k2 = data["lens"]
            lens = Lens(f, f, 639.5, 359.5, k1, k2)
            self.cameras = [Camera(R, -R @ C, lens) for R, C in zip(data["R"][:, middle], data["C"][:, middle], strict=True)]
            trial = make_trials.TRIALS[kind]
            self.land = trial.ground(int(seed or 0))
            solids = trial.solids(self.land, int(seed or 0))
        self.solids, self.fixed, self.paved = scenery.table(solids), len(solids), kind == "terrace"

    def camera(self, index: int) -> Camera:
        return self.cameras[index]

    def met(self, origin: np.ndarray, ray: np.ndarray) -> np.ndarray | None:
        """(3,) where a ray meets the world first; None where that is no bare land."""
        t = raycast.meet(self.solids, self.fixed, self.land, origin, ray[None], -1e6)[0]
        if t > 90:
            return None
        at = origin + t * ray
        return at if abs(self.height(at[:2]) - at[2]) < 0.03 else None

    def height(self, at: np.ndarray) -> float:
        """Of the land, as the ray caster has it, or of the terrace's paving, which lies at 0."""
        if self.paved and abs(at[0]) < 9 and -6 < at[1] < 13:
            return 0.0
        return float(raycast.land_height(self.land, float(at[0]), float(at[1])))


def solved(world: World, keep: pathlib.Path) -> Shot:
    if keep.is_file():
        return files.read(keep)
    shot = with_plate(Shot(), probe(world.clip))
    shot = solve_shot(track_shot(shot, Job()), Job())
    files.write(shot, keep)
    return shot


def into_scene(shot: Shot, world: World, index: int) -> np.ndarray:
    """(3, 3) how directions of the true world lie in the shot's scene. A focal length that is a little off stretches what was solved along
    the view, which no turn takes up; so this is the linear part of the map from true points to solved ones, near the camera."""
    assert shot.solve is not None
    camera, true = camera_at(shot, index), world.camera(index)
    points = scene_frame(shot).points(shot.solve.xyz)[trusted_points(shot)]
    xy, depth = camera.project(points)
    inside = (depth > 0) & (xy > 0).all(1) & (xy < [shot.solve.width, shot.solve.height]).all(1)
    points, rays = points[inside], true.rays(xy[inside])
    t = raycast.meet(world.solids, world.fixed, world.land, true.centre, rays, -1e6)
    near = t < NEAR * float(np.percentile(t, 20))
    truth = np.c_[true.centre + t[near, None] * rays[near], np.ones(near.sum())]
    weight = np.ones(len(truth))
    for _ in range(8):  # what moves or lies on an edge is off by far
        found = np.linalg.lstsq(truth * weight[:, None], points[near] * weight[:, None], rcond=None)[0]
        off = np.linalg.norm(truth @ found - points[near], axis=1)
        weight = 1 / (1 + (off / (2 * np.median(off))) ** 2)
    return found[:3].T


def true_land(world: World, at: np.ndarray) -> GroundMesh:
    """The true land round a point of the true world."""
    side = np.arange(-NEAR_M, NEAR_M, STEP_M)
    xy = np.stack(np.meshgrid(at[0] + side, at[1] + side), -1).reshape(-1, 2)
    points = np.c_[xy, [world.height(p) for p in xy]]
    return GroundMesh(id="land", points=tuple(points.ravel()), edge=constant(9e9), drawn=False, receives=True, hides=True)


def overlap(a: np.ndarray, b: np.ndarray) -> float:
    return float((a & b).sum() / max((a | b).sum(), 1))


def true_picture(shot: Shot, world: World, title: Title, at: np.ndarray, index: int) -> tuple[np.ndarray, np.ndarray]:
    """Masks (h, w) bool of the shadow and of the word as the true camera sees them on the true land."""
    assert shot.plate is not None
    camera, size = world.camera(index), (shot.plate.width, shot.plate.height)
    items = [item for thing in (title, true_land(world, at)) for item in items_of(Shot(), thing, 0)]
    bearing, height = bearing_and_height(scenery.sun_direction())
    layers = Engine().render(items, lights_of(lamps(bearing, height), 0), lambda share: camera, size, QUALITIES["final"])
    shadow, word = np.zeros(size[::-1], bool), np.zeros(size[::-1], bool)
    if layers is not None:
        h, w = layers.colour.shape[:2]
        part = slice(layers.top, layers.top + h), slice(layers.left, layers.left + w)
        shadow[part] = layers.light_with[..., 1] < DARK * layers.light_without[..., 1]
        word[part] = layers.colour[..., 3] > 0.5
    return shadow, word


def lamps(bearing: float, height: float) -> tuple[Sun, Sky]:
    return Sun(bearing=constant(bearing), height=constant(height), strength=constant(1.05)), Sky(strength=constant(0.3))


def judged(shot: Shot, world: World, click: tuple[int, int], index: int) -> str:
    """One place: overlaps of shadow and word; empty where no bare land is under the click."""
    assert shot.solve is not None
    camera, true = camera_at(shot, index), world.camera(index)
    ray = true.rays(np.array(click, float))
    at = world.met(true.centre, ray)
    if at is None:
        return ""
    points = scene_frame(shot).points(shot.solve.xyz)
    patch = surface_under(shot, camera, np.array(click, float), Points(points, None))
    if patch is None:
        return f"    {click}: no patch"
    title = placing.title_at(placing.Spot(shot, camera, patch, index, False), "OPEN")
    far, true_far = (float(np.linalg.norm(p - c.centre)) for p, c in ((np.array(title.position.value), camera), (at, true)))
    sized = lambda height: {"height": constant(height), "depth": constant(0.3 * height), "bevel": constant(0.0)}
    title = msgspec.structs.replace(title, **sized(0.12 * far))
    toward = at - true.centre
    there = msgspec.structs.replace(title, position=constant(*at), turn=constant(heading_towards(toward), 0, 0), **sized(0.12 * true_far))
    shadow, word = true_picture(shot, world, there, at, index)
    shot = msgspec.structs.replace(shot, objects=(title,))
    ours, own_word = frame(shot, index, layer="shadow").pixels[..., 1] < DARK, frame(shot, index, layer="layers").pixels[..., 3] > 0.5
    return f"    {click}: shadow {overlap(ours, shadow):.3f}  word {overlap(own_word, word):.3f}  {true_far:.1f} m away"


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("folder", type=pathlib.Path)
    parser.add_argument("names", nargs="*", default=["ridge", "terrace"])
    args = parser.parse_args()
    for name in args.names:
        world = World(args.folder, name)
        shot = solved(world, args.folder / f"{name}.lode")
        assert shot.solve is not None
        index = int(shot.solve.frames[len(shot.solve.frames) // 2])
        A = into_scene(shot, world, index)
        lit = lamps(*bearing_and_height(A @ scenery.sun_direction()))
        shot = msgspec.structs.replace(shot, lamps=lit, exposure=Exposure(shutter=constant(0.0)), mattes=(), finish=())
        print(name, flush=True)
        for click in CLICKS:
            if line := judged(shot, world, click, index):
                print(line, flush=True)


if __name__ == "__main__":
    main()
