#!/usr/bin/env python3
"""Time each step of the demo shot, each beside a plain lower bound that is measured in the same run.

    bench.py [--frames N] [--pictures N]

Machines are shared and noisy: read the ratios. Bounds: decode alone; one forward flow pass of OpenCV with as many points;
a copy of the plate; decode and encode alone. The last lines are those of bench_render.py, bench_letters.py and bench_window.py.
"""

import argparse
import os
import sys
import tempfile
import time
from fractions import Fraction
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["OPENBLAS_NUM_THREADS"] = "1"  # as ./lodestar does
os.environ["XDG_STATE_HOME"] = os.environ["XDG_CONFIG_HOME"] = tempfile.mkdtemp()

import av
import cv2
import msgspec
import numpy as np

import bench_letters
import bench_render
import bench_window
from lodestar.core.basics.job import Job
from lodestar.core.edits.sky import with_new_sky
from lodestar.core.media.decoding import planes_in
from lodestar.core.media.deliveries import MovieDelivery
from lodestar.core.media.plates import open_plate
from lodestar.core.media.yuv import rgb_of
from lodestar.core.picture.frame import frame, plate_frame
from lodestar.core.shot import files
from lodestar.core.work.delivery import deliver
from lodestar.core.work.new_sky import find_sky
from lodestar.core.work.solving import solve_shot
from lodestar.core.work.tracking import track_shot


def timed(function, *args):
    began = time.perf_counter()
    result = function(*args)
    return time.perf_counter() - began, result


def row(name: str, seconds: float, frames: int, bound: float, what: str) -> None:
    print(f"{name:<14}{seconds:8.2f} s {frames / seconds:8.1f} frames/s {seconds / bound:8.1f} × {what} ({bound:.2f} s)")


def decode(shot) -> list:
    plate = open_plate(shot.plate)
    pictures = [plate.frame(i) for i in shot.frames]
    plate.close()
    return pictures


def decode_here(shot) -> None:
    """The same pictures, one after another, without a child process: less it cannot take."""
    clip = shot.plate.path
    with av.open(clip) as container:
        for _, frame in zip(shot.frames, container.decode(video=0), strict=False):
            rgb_of(planes_in(frame), shot.plate.colour)


def flow(shot, points: int) -> None:
    plate = open_plate(shot.plate)
    before, grid = None, np.stack(np.meshgrid(np.linspace(30, shot.plate.width - 30, 20), np.linspace(30, shot.plate.height - 30, points // 20)), -1)
    at = grid.reshape(-1, 1, 2).astype(np.float32)
    for i in shot.frames:
        luma = plate.luma(i)
        if before is not None:
            cv2.calcOpticalFlowPyrLK(before, luma, at, None, winSize=(17, 17), maxLevel=3)
        before = luma
    plate.close()


def encode(shot, pictures: list, folder: Path) -> None:
    out = MovieDelivery(folder / "plain.mp4", Fraction(*shot.plate.rate), shot.plate.width, shot.plate.height, shot.plate.colour, None, False)
    for i, picture in enumerate(pictures):
        out.add(i, picture)
    out.finish()


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--frames", type=int, default=100)
    parser.add_argument("--pictures", type=int, default=12, help="frames that are rendered for the figures of draft, final and output")
    args = parser.parse_args()
    shot = files.read(ROOT / "demo" / "open-night.lode")
    shot = msgspec.structs.replace(shot, last=min(args.frames, shot.plate.count) - 1)
    n = len(shot.frames)
    warm = msgspec.structs.replace(shot, last=11)
    solve_shot(track_shot(warm, Job()), Job())  # compiled kernels are loaded before anything is timed
    decode_s, pictures = timed(decode, shot)
    row("decode", decode_s, n, timed(decode_here, shot)[0], "the same in this process")
    points = int(np.bincount(shot.tracks.frame).mean())
    flow_s, _ = timed(flow, shot, points)
    track_s, shot = timed(track_shot, shot, Job())
    row("track", track_s, n, flow_s, f"decode and one forward flow pass of {points} points")
    solve_s, _ = timed(solve_shot, shot, Job())
    row("solve", solve_s, n, flow_s, "the same flow pass")
    print(f"track and solve together: {track_s + solve_s:.1f} s for {n} frames")
    some = [int(i) for i in np.linspace(shot.first, shot.last, args.pictures)]
    for i in some:
        plate_frame(shot.plate, i)
    copy_s, _ = timed(lambda: [plate_frame(shot.plate, i).copy() for i in some])
    for quality, scale in (("draft", 0.625), ("draft", 1.0), ("final", 1.0)):
        frame(shot, some[0], quality, scale=scale)
        seconds, _ = timed(lambda q=quality, s=scale: [frame(shot, i, q, scale=s) for i in some])
        row(f"{quality} {scale:.0%}", seconds, len(some), copy_s, "a copy of the plate")
        print(f"{'':14}{seconds / len(some):8.3f} s a frame")
    skied = with_new_sky(shot, find_sky(shot, some[0], Job()))
    for quality, scale in (("draft", 0.625), ("final", 1.0)):
        frame(skied, some[0], quality, scale=scale)
        plain_s, _ = timed(lambda q=quality, s=scale: [frame(shot, i, q, scale=s) for i in some])
        seconds, _ = timed(lambda q=quality, s=scale: [frame(skied, i, q, scale=s) for i in some])
        row(f"sky {quality}", seconds, len(some), plain_s, "the same without a new sky")
    with tempfile.TemporaryDirectory() as folder:
        part = msgspec.structs.replace(shot, first=40, last=40 + args.pictures - 1)
        own_s, own = timed(decode, part)
        encode_s, _ = timed(encode, part, own, Path(folder))
        seconds, _ = timed(lambda: deliver(part, Path(folder) / "out.mp4", Job()))
        row("output final", seconds, args.pictures, own_s + encode_s, "decode and encode alone")
    bench_render.main()
    bench_letters.main()
    bench_window.main()
    import resource

    print(f"largest memory: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")


if __name__ == "__main__":
    main()
