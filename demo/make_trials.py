#!/usr/bin/env python3
"""Render shots that are not easy, each with its true camera and true points: what the solve is judged by (tools/trials.py).

    make_trials.py FOLDER [NAME[.SEED] ...] [--frames N] [--samples N] [--still FRAME]

A name with a seed, as river.3, is another shot of that kind: another hand, way, lens, land and drift. They share the demo's scenery
and ray caster with other paths and seeds. Not in the repository: three to six minutes a shot.
Truth is an npz: times (k,) in frames round the middle of the exposure of the middle row, R (frames, k, 3, 3) and
C (frames, k, 3) at those times, lens (f, k1, k2), readout (rows' delay over the whole picture, in frames), points (m, 3) and
visible (frames, m).
"""

import argparse
import pathlib
from typing import NamedTuple

import cv2
import numpy as np
from scipy.interpolate import CubicSpline
from scipy.spatial.transform import Rotation

import make_demo
import passing
import raycast
import scenery
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens
from make_demo import FPS, HEIGHT, WIDTH, Film, look, shake

DRONE_BASE_M = -2.8207667  # the height of the drone's land where it begins, whatever the land
MATTES = ("dark", "cyclist", "van", "leaves")
MOMENTS, LENS_PX = 16, 0.45  # of a true matte; softness of the lens
BARE = np.full((scenery.TERRAIN_CELLS, scenery.TERRAIN_CELLS), -1e3, np.float32)  # land that nothing passes behind
TRUTH_TIMES = np.linspace(-0.8, 0.8, 17)


class Trial(NamedTuple):
    """path(u, rng, n) -> centres, targets; ground(seed) -> land; solids(land, seed); moving(time_s) -> solids, or None."""

    seed: int
    path: object
    ground: object
    solids: object
    moving: object = None
    level: float = -1e6
    unrest: float = 1.0
    drift: tuple[float, float] = (-0.5, 0.3)
    begin: float = 0.0  # where on the way of the kind the shot begins and ends
    end: float = 1.0
    mirror: float = 1.0  # -1 for a way that lies on the other side
    focal: float = 930.0
    k1: float = -0.045
    k2: float = 0.005
    shutter: float = 0.4
    readout: float = 0.0
    noise: float = 0.010
    contrast: float = 1.0
    blur: float = 0.0
    zoom: float = 1.0  # by how many times the focal length grows over the shot, slow at both ends

    def focal_at(self, u: float) -> float:
        return self.focal * self.zoom ** (u * u * (3 - 2 * u))


def walk_path(u, rng, n):
    centre = np.stack([1.8 - 2.6 * u, -3.0 + 1.6 * u, 1.65 + 0.03 * np.sin(43 * u)], 1) + shake(rng, n, 0.02, 32)
    target = np.stack([-0.8 + 0.5 * u, 10 + 0 * u, 0.9 + 0 * u], 1) + shake(rng, n, 0.12, 40) + shake(rng, n, 0.012, 8)
    return centre, target


def drone_path(u, rng, n):
    centre = np.stack([7 - 9 * u, -9 + 4 * u, DRONE_BASE_M + 6.0 + 1.5 * u], 1) + shake(rng, n, 0.03, 40)
    target = np.stack([2 - 2 * u, 16 + 5 * u, DRONE_BASE_M + 0.5 + 0 * u], 1) + shake(rng, n, 0.12, 48)
    return centre, target


def lake_path(u, rng, n):
    centre = np.stack([-6 + 8 * u, -7 + 3 * u, 5.5 + 0.4 * u], 1) + shake(rng, n, 0.03, 40)
    target = np.stack([-2 + 4 * u, 13 + 0 * u, 0.8 + 0 * u], 1) + shake(rng, n, 0.12, 48)
    return centre, target


def pan_path(u, rng, n):
    centre = np.repeat([[3.0, -2.0, 1.7]], n, 0) + shake(rng, n, 0.002, 32)
    turn = np.deg2rad(24 - 50 * u)
    return centre, centre + np.stack([np.sin(turn), np.cos(turn), -0.08 + 0.04 * u], 1) + shake(rng, n, 0.006, 32)


def stairs_path(u, rng, n):
    """Forward and up, as somebody climbs: the hardest move for a focal length."""
    centre = np.stack([0.6 + 0.5 * u, -5.5 + 3.2 * u, 1.5 + 0.5 * u + 0.04 * np.abs(np.sin(30 * u))], 1) + shake(rng, n, 0.015, 32)
    target = np.stack([0.2 - 0.8 * u, 12 + 0 * u, 1.6 + 0.2 * u], 1) + shake(rng, n, 0.2, 40) + shake(rng, n, 0.012, 8)
    return centre, target


def leaning_path(u, rng, n):
    """A pan from the hip: the lens turns about a point 0.35 m behind it."""
    turn = np.deg2rad(16 - 32 * u) + shake(rng, n, 0.01, 32)[:, 0]
    way = np.stack([np.sin(turn), np.cos(turn), 0 * u], 1)
    centre = np.array([2.0, -3.0, 1.6]) + 0.35 * way + shake(rng, n, 0.01, 32)
    return centre, centre + way + np.array([0, 0, -0.05])


def drone_ground(seed):
    land = scenery.rough_ground(21 + seed, 1.6)
    return land - scenery.height_at(land, 0, 0) + DRONE_BASE_M


def lake_ground(seed):
    y = (np.arange(scenery.TERRAIN_CELLS) / scenery.TERRAIN_CELLS - 0.5) * scenery.TERRAIN_SIZE_M
    return (scenery.rough_ground(33 + seed, 0.5) + np.clip(0.16 * (y - 9), -3, 9)[:, None]).astype(np.float32)


def strewn(land, seed, dry=0.1):
    """Posts and boulders wherever the ground is dry (over a height in m)."""
    rng, solids = np.random.default_rng(seed), []
    for k in range(60):
        x, y = rng.uniform(-18, 18), rng.uniform(2, 44)
        z = scenery.height_at(land, x, y)
        if z > dry:
            thing = (
                scenery.cylinder(scenery.WOOD, x, y, z - 1, z + rng.uniform(1.1, 1.7), 0.1)
                if k % 2
                else scenery.ball(scenery.STONE, (x, y, z), rng.uniform(0.3, 0.8))
            )
            solids.append(thing)
    return solids


def passers(time_s):
    """Two people who cross close before the camera, one after the other, so that a third of the frame is covered."""
    solids = []
    for x, y, speed in ((0.9, -1.45, -0.35), (3.0, -0.6, -1.1)):
        shift = np.array([x + speed * time_s + 3.7 - 1.15 * time_s, y + 0.32 * time_s - 4.1, 0.0])
        for solid in scenery.visitor(time_s):
            solid[2:5] = np.add(solid[2:5], shift)
            solid[5:8] = np.add(solid[5:8], shift)
            solids.append(solid)
    return solids


def lake_solids(land, seed):
    return strewn(land, 3 + seed)


def drone_solids(land, seed):
    return strewn(land, 5 + seed, -1e6)


def terrace_ground(seed):
    return scenery.terrace_ground()


def terrace(land, seed):
    return scenery.terrace_solids()


TRIALS = {
    "walk": Trial(101, walk_path, terrace_ground, terrace),
    "drone": Trial(102, drone_path, drone_ground, drone_solids, focal=1020.0),
    "passers": Trial(103, walk_path, terrace_ground, terrace, passers),
    "lake": Trial(104, lake_path, lake_ground, lake_solids, level=0.0),
    "river": Trial(107, lake_path, lake_ground, lake_solids, level=0.45, unrest=0.12, focal=880.0),
    "rough": Trial(105, walk_path, terrace_ground, terrace, noise=0.035, contrast=0.35, shutter=0.9, readout=0.6, blur=0.7),
    "noisy": Trial(111, walk_path, terrace_ground, terrace, noise=0.04),
    "dim": Trial(112, walk_path, terrace_ground, terrace, contrast=0.25, noise=0.012),
    "smeared": Trial(113, walk_path, terrace_ground, terrace, shutter=1.0, blur=0.9),
    "rolling": Trial(114, walk_path, terrace_ground, terrace, readout=0.7),
    "wide": Trial(108, stairs_path, terrace_ground, terrace, passers, focal=640.0, k1=-0.13, k2=0.025, shutter=0.5, noise=0.014),
    "zooming": Trial(110, walk_path, terrace_ground, terrace, focal=760.0, zoom=1.9),
    "leaning": Trial(109, leaning_path, terrace_ground, terrace, focal=1250.0, k1=-0.02, k2=0.0),
    # with what passes, for mattes
    "dark": Trial(121, walk_path, terrace_ground, lambda land, seed: passing.dark_wall(), passing.in_the_dark, end=0.6),
    "cyclist": Trial(122, walk_path, terrace_ground, terrace, passing.cyclist, end=0.6),
    "van": Trial(123, walk_path, terrace_ground, terrace, passing.van, end=0.6),
    "leaves": Trial(124, walk_path, terrace_ground, terrace, passing.leaves, end=0.6),
    "pan": Trial(106, pan_path, terrace_ground, terrace, focal=1080.0),
}


def another(trial: Trial, seed: int) -> Trial:
    """Another shot of the kind: part of its way or a little more of it, perhaps backwards or on the other side."""
    rng = np.random.default_rng([trial.seed, seed])
    begin, length = rng.uniform(-0.15, 0.3), rng.uniform(0.6, 1.1)
    ways = [begin, begin + length] if rng.random() < 0.5 else [begin + length, begin]
    turn, speed = rng.uniform(0, 2 * np.pi), rng.uniform(0.2, 1.2)
    return trial._replace(
        seed=int(rng.integers(1 << 30)),
        begin=ways[0],
        end=ways[1],
        mirror=float(rng.choice([-1.0, 1.0])),
        drift=(float(speed * np.cos(turn)), float(speed * np.sin(turn))),
        focal=trial.focal * float(np.exp(rng.uniform(-0.3, 0.3))),
        k1=trial.k1 * rng.uniform(0, 1.5),
        k2=trial.k2 * rng.uniform(0, 1.5),
    )


def trajectory(trial: Trial, frames: int):
    """Functions of the time in frames: rotations (k, 3, 3) and centres (k, 3)."""
    rng, per = np.random.default_rng(trial.seed), 24
    n = (frames + 2) * per
    centre, target = trial.path(trial.begin + (trial.end - trial.begin) * np.arange(n) / n, rng, n)
    centre, target = centre * [trial.mirror, 1, 1], target * [trial.mirror, 1, 1]
    roll = shake(rng, n, 0.006, 2 * per)[:, 0]
    rotation = Rotation.from_matrix([look(c, t, r) for c, t, r in zip(centre, target, roll)])
    times = np.arange(n) / per - 1
    place = CubicSpline(times, centre)
    turn = CubicSpline(times, Rotation.from_matrix(rotation.as_matrix()).as_quat(canonical=True))

    def at(t):
        return Rotation.from_quat(turn(t)).as_matrix(), place(t)

    return at


def true_points(trial: Trial, at, solids, land, frames: int):
    """Points (m, 3) on what stands still, and in which frames (frames, m) each is in view and uncovered."""
    rng = np.random.default_rng(trial.seed)
    points = []
    for i in np.linspace(0, frames - 1, 9).round():
        R, C = (x[0] for x in at(np.array([i])))
        focal = trial.focal_at(i / (frames - 1))
        xy = rng.uniform([20, 20], [WIDTH - 20, HEIGHT - 20], (120, 2))
        d = np.c_[(xy - [(WIDTH - 1) / 2, (HEIGHT - 1) / 2]) / focal, np.ones(len(xy))]
        d = d / np.linalg.norm(d, axis=1, keepdims=True) @ R
        t = raycast.meet(solids(i), solids.fixed, land, C, d, trial.level)
        points.append(C + t[t < 90, None] * d[t < 90])
    points = np.concatenate(points)
    visible = np.zeros((frames, len(points)), bool)
    for i in range(frames):
        R, C = (x[0] for x in at(np.array([float(i)])))
        ray = points - C
        length = np.linalg.norm(ray, axis=1)
        inside = ray @ R.T
        x = inside[:, :2] / np.maximum(inside[:, 2:], 1e-9)
        r2 = (x * x).sum(1, keepdims=True)
        xy = trial.focal_at(i / (frames - 1)) * x * (1 + r2 * (trial.k1 + trial.k2 * r2)) + [(WIDTH - 1) / 2, (HEIGHT - 1) / 2]
        t = raycast.meet(solids(i), solids.fixed, land, C, ray / length[:, None], trial.level)
        visible[i] = (
            (inside[:, 2] > 0.3)
            & (xy > 0).all(1)
            & (xy < [WIDTH - 1, HEIGHT - 1]).all(1)
            & (abs(t - length) < 0.01 * length + 0.02)
            & (r2[:, 0] < 1.5)
        )
    return points, visible


class Solids:
    """The solids of a trial at a time in frames, as the ray caster's table; the first `fixed` stand still."""

    def __init__(self, trial: Trial, land, seed: int) -> None:
        self.still, self.moving = trial.solids(land, seed), trial.moving
        self.fixed = len(self.still)

    def __call__(self, time: float):
        return scenery.table(self.still + (self.moving(time / FPS) if self.moving else []))


def make(folder: pathlib.Path, name: str, frames: int, samples: int, still: int | None) -> None:
    kind, _, seed = name.partition(".")
    trial = another(TRIALS[kind], int(seed)) if seed else TRIALS[kind]
    land = trial.ground(int(seed or 0))
    solids, at = Solids(trial, land, int(seed or 0)), trajectory(trial, frames)
    rng, sun = np.random.default_rng(trial.seed), scenery.daylight()
    make_demo.NOISE = trial.noise
    film = None if still is not None else Film(folder / f"{name}.mp4", 22)
    span, slots = trial.shutter + trial.readout, 8 if trial.readout == 0 else 24
    for i in range(frames) if still is None else [still]:
        times = i + span * ((np.arange(slots) + 0.5) / slots - 0.5)
        R, C = at(times)
        waters = np.stack([np.full(slots, trial.level), times / FPS, *(np.full(slots, x) for x in (trial.unrest, *trial.drift))], 1)
        focal = trial.focal_at(i / (frames - 1))
        linear = raycast.render(
            WIDTH,
            HEIGHT,
            focal,
            trial.k1,
            trial.k2,
            R,
            C,
            np.array([solids(t) for t in times]),
            solids.fixed,
            land,
            sun,
            samples,
            i,
            trial.readout / span,
            waters,
        )
        if trial.blur:
            linear = cv2.GaussianBlur(linear, (0, 0), trial.blur)
        linear = 0.22 + trial.contrast * (linear - 0.22) if trial.contrast != 1 else linear
        picture = make_demo.develop(np.maximum(linear, 0), rng)
        if film is None:
            cv2.imwrite(str(folder / f"{name}_{i}.png"), picture[..., ::-1])
        else:
            film.add(picture)
            print(name, i, flush=True)
    if film is not None:
        film.close()
        write_truth(folder, name, trial, at, solids, land, frames)
        if kind in MATTES:
            np.save(folder / f"{name}.mattes.npy", true_mattes(trial, at, solids, land, frames))


def true_mattes(trial: Trial, at, solids: Solids, land, frames: int) -> np.ndarray:
    """(frames, HEIGHT, WIDTH) uint8: what passes covers of each px, over the open shutter and places in the px."""
    covers = []
    for i in range(frames):
        total = np.zeros((HEIGHT, WIDTH), np.float32)
        times = i + trial.shutter * ((np.arange(MOMENTS) + 0.5) / MOMENTS - 0.5)
        R, C = at(times)
        for k, time in enumerate(times):
            table, lens = (
                solids(time),
                Lens(trial.focal_at(i / (frames - 1)), trial.focal_at(i / (frames - 1)), (WIDTH - 1) / 2, (HEIGHT - 1) / 2, trial.k1, trial.k2),
            )
            camera, passing_ = Camera(R[k], -R[k] @ C[k], lens), table[solids.fixed :]
            corners = (
                (
                    passing_[:, 9:12, None]
                    + np.sqrt(passing_[:, 12])[:, None, None] * np.stack(np.meshgrid([-1, 1], [-1, 1], [-1, 1])).reshape(1, 3, 8)
                )
                .transpose(0, 2, 1)
                .reshape(-1, 3)
            )
            xy, depth = camera.project(corners)
            xy = xy[depth > 0.1]
            low = np.clip(np.floor(xy.min(0)).astype(int) - 2, 0, [WIDTH, HEIGHT])
            high = np.clip(np.ceil(xy.max(0)).astype(int) + 2, 0, [WIDTH, HEIGHT])
            y, x = np.mgrid[low[1] : high[1], low[0] : high[0]]
            if not x.size:
                continue
            shift = np.array([(k * 3 % MOMENTS + 0.5) / MOMENTS, (k + 0.5) / MOMENTS]) - 0.5
            rays = camera.rays(np.stack([x, y], -1).reshape(-1, 2) + shift)
            near = raycast.meet(passing_, len(passing_), BARE, C[k], rays, -1e6)
            far = raycast.meet(table[: solids.fixed], solids.fixed, land, C[k], rays, trial.level)
            total[low[1] : high[1], low[0] : high[0]] += (near < far).reshape(x.shape) / MOMENTS
        covers.append(np.rint(255 * cv2.GaussianBlur(total, (0, 0), LENS_PX)).astype(np.uint8))
    return np.array(covers)


def write_truth(folder, name, trial, at, solids, land, frames):
    points, visible = true_points(trial, at, solids, land, frames)
    poses = [at(i + TRUTH_TIMES) for i in range(frames)]
    np.savez(
        folder / f"{name}.npz",
        times=TRUTH_TIMES,
        R=[p[0] for p in poses],
        C=[p[1] for p in poses],
        lens=[trial.focal, trial.k1, trial.k2],
        readout=trial.readout,
        shutter=trial.shutter,
        points=points,
        visible=visible,
        turning=name.startswith("pan"),
        zoom=[trial.focal_at(i / (frames - 1)) / trial.focal for i in range(frames)],
    )


def main():
    parser = argparse.ArgumentParser(description="render the trial shots")
    parser.add_argument("folder", type=pathlib.Path)
    parser.add_argument("names", nargs="*", default=list(TRIALS))
    parser.add_argument("--frames", type=int, default=100)
    parser.add_argument("--samples", type=int, default=2)
    parser.add_argument("--still", type=int, help="only this frame, as a PNG in the folder")
    args = parser.parse_args()
    args.folder.mkdir(parents=True, exist_ok=True)
    for name in args.names or TRIALS:
        make(args.folder, name, args.frames, args.samples, args.still)


if __name__ == "__main__":
    main()
