#!/usr/bin/env python3
"""Render the demo shots into demo/shots: NAME.mp4 and, beside it, NAME.camera.json with the true camera.

    make_demo.py [NAME ...] [--still FRAME] [--samples N]

`terrace`: handheld walk, a visitor passes in front. `ridge`: drone over rough ground with posts. `lookout`: a handheld turn
on the spot. About ten minutes a shot on two cores; the results are in the repository.
"""

import argparse
import json
import pathlib
from fractions import Fraction

import av
import cv2
import numpy as np
from scipy.ndimage import gaussian_filter1d
from scipy.spatial.transform import Rotation

import raycast
import scenery

FOLDER = pathlib.Path(__file__).parent / "shots"
WIDTH, HEIGHT, FPS = 1280, 720, 25
SHUTTER = 0.4
POSES = 8
NOISE = 0.010


def shake(rng, count, spread, smooth):
    """(count, 3) hand shake: smoothed noise with the given standard deviation."""
    noise = gaussian_filter1d(rng.standard_normal((count + 8 * smooth, 3)), smooth, axis=0)[4 * smooth : 4 * smooth + count]
    return noise / noise.std(0) * spread


def look(centre, target, roll):
    """(3, 3) world to camera: x right, y down, z towards the target; the world's z is up."""
    z = target - centre
    z = z / np.linalg.norm(z)
    x = np.cross(z, [0, 0, 1.0])
    x /= np.linalg.norm(x)
    return Rotation.from_euler("z", roll).as_matrix() @ np.stack([x, np.cross(z, x), z])


def terrace_path(u, rng, n):
    centre = np.stack([-1.5 + 3.0 * u, -1.6 + 0.7 * u, 1.72 + 0.03 * np.sin(50 * u)], 1) + shake(rng, n, 0.018, 4 * POSES)
    target = np.stack([0.3 - 0.2 * u, 9 + 0 * u, 0.75 + 0 * u], 1) + shake(rng, n, 0.10, 5 * POSES) + shake(rng, n, 0.012, POSES)
    return centre, target


def ridge_path(u, rng, n):
    land = scenery.ridge_ground()
    base = scenery.height_at(land, 0, 0)
    centre = np.stack([-5 + 7 * u, -10 + 9 * u, base + 7.5 - 1.2 * u], 1) + shake(rng, n, 0.03, 5 * POSES)
    target = np.stack([-1 + 3 * u, 18 + 4 * u, base + 0.3 + 0 * u], 1) + shake(rng, n, 0.12, 6 * POSES)
    return centre, target


def lookout_path(u, rng, n):
    # turning a hand-held camera moves its lens a little too: 2 mm of shake, as in life
    centre = np.repeat([[-4.5, 0.5, 1.75]], n, 0) + shake(rng, n, 0.002, 4 * POSES)
    turn = np.deg2rad(-28 + 62 * (3 * u**2 - 2 * u**3))
    target = centre + np.stack([np.sin(turn), np.cos(turn), -0.10 + 0.03 * u], 1) + shake(rng, n, 0.006, 4 * POSES)
    return centre, target


def basin_path(u, rng, n):
    centre = np.stack([-1.3 + 2.4 * u, -2.2 + 0.8 * u, 1.5 + 0.05 * np.sin(40 * u)], 1) + shake(rng, n, 0.016, 4 * POSES)
    target = np.stack([0.5 - 0.1 * u, 9 + 0 * u, 0.72 + 0 * u], 1) + shake(rng, n, 0.09, 5 * POSES) + shake(rng, n, 0.011, POSES)
    return centre, target


SHOTS = {  # name: path, frames, focal length in px, k1, k2, ground, solids, visitor?, seed
    "terrace": (terrace_path, 100, 998.0, -0.052, 0.006, scenery.terrace_ground, lambda land: scenery.terrace_solids(), True, 7),
    "ridge": (ridge_path, 100, 860.0, -0.030, 0.004, scenery.ridge_ground, scenery.ridge_solids, False, 8),
    "lookout": (lookout_path, 90, 1060.0, -0.045, 0.005, scenery.terrace_ground, lambda land: scenery.terrace_solids(), False, 9),
    "basin": (basin_path, 80, 1010.0, -0.048, 0.005, scenery.basin_ground, scenery.basin_solids, False, 10),
}
LIGHTS = {"basin": scenery.evening_light}  # of those that are not by day


def trajectory(path, frames, seed):
    """Rotations (frames, POSES, 3, 3) and centres (frames, POSES, 3) while the shutter is open."""
    rng = np.random.default_rng(seed)
    n = frames * POSES * 3
    u = np.arange(n) / n
    centre, target = path(u, rng, n)
    roll = shake(rng, n, 0.006, 6 * POSES)[:, 0]
    rotation = np.stack([look(c, t, r) for c, t, r in zip(centre, target, roll)])
    pick = (np.arange(frames)[:, None] + 0.5 + SHUTTER * ((np.arange(POSES) + 0.5) / POSES - 0.5)) * POSES * 3
    pick = np.clip(np.round(pick).astype(int), 0, n - 1)
    return rotation[pick], centre[pick]


def develop(linear, rng):
    """Linear light to 8-bit Rec.709 as a small camera would: shoulder, lens softness, noise."""
    soft = cv2.GaussianBlur(linear, (0, 0), 0.45)
    x = np.where(soft < 0.7, soft, 0.7 + 0.3 * np.tanh((soft - 0.7) / 0.3))
    code = np.where(x < 0.018, 4.5 * x, 1.099 * np.power(np.maximum(x, 1e-6), 0.45) - 0.099)
    grain = rng.standard_normal(code.shape).astype(np.float32)
    grain = 0.75 * grain + 0.25 * grain.mean(-1, keepdims=True) * 1.7
    return np.clip((code + NOISE * (0.6 + 0.5 * code) * grain) * 255 + 0.5, 0, 255).astype(np.uint8)


class Film:
    """Writes H.264 tagged as Rec.709 limited range, with a soft wind as its sound."""

    def __init__(self, path, crf):
        self.container = av.open(str(path), "w")
        self.video = self.container.add_stream("libx264", rate=Fraction(FPS))
        self.video.width, self.video.height, self.video.pix_fmt = WIDTH, HEIGHT, "yuv420p"
        self.video.options = {"crf": str(crf), "preset": "slow", "g": "50"}
        self.video.codec_context.color_primaries = self.video.codec_context.color_trc = self.video.codec_context.colorspace = 1
        self.video.codec_context.color_range = 1
        self.sound = self.container.add_stream("aac", rate=48000, layout="mono")
        self.count = 0

    def add(self, picture):
        frame = av.VideoFrame.from_ndarray(picture, format="rgb24")
        frame = frame.reformat(format="yuv420p", dst_colorspace="ITU709", dst_color_range="MPEG")
        frame.pts, frame.time_base = self.count, Fraction(1, FPS)
        self.count += 1
        self.container.mux(self.video.encode(frame))

    def close(self):
        rng = np.random.default_rng(1)
        wind = gaussian_filter1d(rng.standard_normal(48000 * self.count // FPS), 60)
        swell = gaussian_filter1d(rng.standard_normal(len(wind)), 20000)
        wind = (wind / wind.std() * 0.03 * (1 + 0.5 * swell / swell.std())).astype(np.float32)
        for start in range(0, len(wind) - 1023, 1024):
            frame = av.AudioFrame.from_ndarray(wind[None, start : start + 1024], format="fltp", layout="mono")
            frame.rate, frame.pts = 48000, start
            self.container.mux(self.sound.encode(frame))
        self.container.mux(self.sound.encode())
        self.container.mux(self.video.encode())
        self.container.close()


def true_camera(name, rotation, centre, focal, k1, k2):
    """The camera file of the command line, filled with the truth at mid shutter."""
    frames = []
    for i in range(len(rotation)):
        r = Rotation.from_matrix(rotation[i]).mean().as_matrix()
        frames.append({"index": i, "R": r.tolist(), "t": (-r @ centre[i].mean(0)).tolist(), "error_px": 0.0})
    evening = name in LIGHTS
    bearing = scenery.EVENING_BEARING_DEG if evening else scenery.SUN_BEARING_DEG
    height = scenery.EVENING_HEIGHT_DEG if evening else scenery.SUN_HEIGHT_DEG
    lens = {"model": "brown", "fx": focal, "fy": focal, "cx": (WIDTH - 1) / 2, "cy": (HEIGHT - 1) / 2, "k1": k1, "k2": k2}
    return {
        "format": "lodestar-camera",
        "version": 1,
        "width": WIDTH,
        "height": HEIGHT,
        "fps": FPS,
        "motion": "turning" if name == "lookout" else "free",
        "lens": lens,
        "frames": frames,
        "points": [],
        "error_px": {"mean": 0.0, "median": 0.0, "p95": 0.0, "rms": 0.0},
        "tracks": 0,
        "seconds": {},
        "sun": {"bearing_deg": bearing, "height_deg": height},
    }


def make(name, samples, still, crf):
    path, count, focal, k1, k2, ground, solids_of, walks, seed = SHOTS[name]
    land = ground()
    fixed = solids_of(land)
    rotation, centre = trajectory(path, count, seed)
    rng = np.random.default_rng(seed)
    sun = LIGHTS.get(name, scenery.daylight)()
    film = None if still is not None else Film(FOLDER / f"{name}.mp4", crf)
    for i in range(count) if still is None else [still]:
        times = (i + 0.5 + SHUTTER * ((np.arange(POSES) + 0.5) / POSES - 0.5)) / FPS
        solids = np.array([scenery.table(fixed + (scenery.visitor(t) if walks else [])) for t in times])
        linear = raycast.render(WIDTH, HEIGHT, focal, k1, k2, rotation[i], centre[i], solids, len(fixed), land, sun, samples, i)
        picture = develop(linear, rng)
        if film is None:
            cv2.imwrite(f"/tmp/{name}_{i}.png", picture[..., ::-1])
        else:
            film.add(picture)
            print(name, i, flush=True)
    if film is not None:
        film.close()
        (FOLDER / f"{name}.camera.json").write_text(json.dumps(true_camera(name, rotation, centre, focal, k1, k2)))


def main():
    parser = argparse.ArgumentParser(description="render the demo shots")
    parser.add_argument("names", nargs="*", default=list(SHOTS))
    parser.add_argument("--still", type=int, help="only this frame, as a PNG in /tmp")
    parser.add_argument("--samples", type=int, default=6)
    parser.add_argument("--crf", type=int, default=24)
    args = parser.parse_args()
    FOLDER.mkdir(exist_ok=True)
    for name in args.names or SHOTS:
        make(name, args.samples, args.still, args.crf)


if __name__ == "__main__":
    main()
