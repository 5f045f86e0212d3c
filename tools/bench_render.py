#!/usr/bin/env python3
"""Measure the renderer on the demo shot: error against samples, time against threads, and how still a still shadow stays.

    bench_render.py

Errors are rms over the whole picture against 512 samples a px: of linear colour with alpha, and of the shade where the plate is seen
through it. Times are of our layers alone. The bound is the cheapest picture that there is: one sample a px, in the same run.
"""

import os
import sys
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))
os.environ["OPENBLAS_NUM_THREADS"] = "1"

import cv2
import msgspec
import numpy as np

from lodestar.core.basics.keyed import constant
from lodestar.core.edits.lights import with_surroundings
from lodestar.core.evaluate.cameras import camera_at
from lodestar.core.picture.frame import frame
from lodestar.core.render import pool
from lodestar.core.shot import files

FRAME, NEXT = 46, (47, 48, 50)


def layers(shot, index: int, **how) -> tuple[np.ndarray, np.ndarray]:
    drawn = lambda layer: frame(shot, index, how.get("quality", "final"), layer=layer, samples=how.get("samples")).pixels
    return drawn("layers"), drawn("shadow")


def seconds(shot, scale: float = 1.0, rounds: int = 3, **how) -> float:
    found = []
    for _ in range(rounds):
        began = time.perf_counter()
        frame(shot, FRAME, layer="layers", scale=scale, **how)
        found.append(time.perf_counter() - began)
    return min(found)


def rms(a: np.ndarray) -> float:
    return float(np.sqrt(np.mean(a.astype(float) ** 2)))


def errors(shot) -> None:
    colour, shade = layers(shot, FRAME, samples=512)
    seen = 1 - colour[..., 3:]
    frame(shot, FRAME, "draft", layer="layers")
    bound = seconds(shot, samples=1)
    print("               seconds   × one sample   error of colour   of shade")
    for name, how in [(f"{n} samples", {"samples": n}) for n in (1, 2, 4, 8, 16, 32)] + [(q, {"quality": q}) for q in ("draft", "final", "fine")]:
        took = seconds(shot, rounds=1 if name == "fine" else 3, **how)
        a, b = layers(shot, FRAME, **how)
        print(f"{name:<14}{took:8.3f} {took / bound:12.1f} {rms(a - colour):17.4f} {rms((b - shade) * seen):10.4f}")


def threads(shot) -> None:
    before, one = pool.threads(), 0.0
    for count in range(1, before + 1):
        pool.set_threads(count)
        took = seconds(shot)
        one = one or took
        print(f"{count} threads: final {took:.2f} s, {one / took:.2f} times as quick as one")
    print(f"final at 1080p: {seconds(shot, scale=1.5):.2f} s")


def surroundings(shot) -> None:
    """Light from all around beside the sun that shadows tell, on painted letters and on polished metal, against sun and even sky."""
    metal = tuple(msgspec.structs.replace(o, metal=constant(1.0), roughness=constant(0.2)) if o.drawn else o for o in shot.objects)
    for name, some in (("painted", shot), ("metal", msgspec.structs.replace(shot, objects=metal))):
        for kind in ("overcast", "soft box"):
            lit = with_surroundings(some, kind)
            for quality, scale, size in (("draft", 0.625, "800 x 450"), ("final", 1.5, "1080p")):
                frame(lit, FRAME, quality, layer="layers", scale=scale)
                took, plain = (seconds(s, scale=scale, quality=quality) for s in (lit, shot))
                print(f"{name} in {kind}, {quality} {size}: {took:.3f} s, {took / plain:.2f} times that of painted letters under sun and even sky")


def stillness(shot) -> None:
    """The shade at the same places of the ground from frame to frame: what changes is error, since nothing there moves."""
    title = shot.objects[0]
    x, y = np.meshgrid(np.linspace(-3, 3, 121), np.linspace(-2, 2, 81))
    at = np.stack([x, y, np.zeros_like(x)], -1).reshape(-1, 3) + np.array([*title.position.at(0)[:2], 0.0])

    def seen(index: int) -> tuple[np.ndarray, np.ndarray]:
        colour, shade = layers(shot, index)
        places = camera_at(shot, index).project(at)[0].astype(np.float32)
        # only where the plate is seen, and the shade is even enough for a place between px to have one
        alone = ((colour[..., 3] == 0) & (frame(shot, index, layer="matte").pixels == 0)).astype(np.float32)
        flat = (np.abs(cv2.Laplacian(shade[..., 1], cv2.CV_32F)) < 0.05).astype(np.float32)
        take = lambda picture: cv2.remap(np.ascontiguousarray(picture), places[:, 0], places[:, 1], cv2.INTER_LINEAR, borderValue=0).ravel()
        return take(shade[..., 1]), (take(cv2.erode(alone * flat, np.ones((5, 5)))) > 0.999)

    first, there = seen(FRAME)
    for index in NEXT:
        other, here = seen(index)
        both = there & here
        print(f"shade of {both.sum()} places of still ground, frame {FRAME} to {index}: rms change {rms((first - other)[both]):.4f}")


def main() -> None:
    shot = files.read(ROOT / "demo" / "open-night.lode")
    errors(shot)
    threads(shot)
    surroundings(shot)
    stillness(shot)


if __name__ == "__main__":
    main()
