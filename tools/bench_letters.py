#!/usr/bin/env python3
"""Measure letters and surfaces: a new word as solids, a dragged depth, bevel and spacing, many letters that move, and lamps.

    bench_letters.py

Bounds, in the same run: triangulating the word's flat outlines once; the same picture with one plain title; the same picture with one lamp.
"""

import functools
import os
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))
os.environ["OPENBLAS_NUM_THREADS"] = "1"

import manifold3d as m3
import msgspec
import numpy as np

from lodestar.core.basics.keyed import Key, Keyed, constant
from lodestar.core.evaluate.kinds import kind_of
from lodestar.core.evaluate.lettering import title_parts
from lodestar.core.light.lamps import Spot
from lodestar.core.picture.frame import frame
from lodestar.core.shape import extrude, outlines, setting
from lodestar.core.shape.fonts import face_of
from lodestar.core.shot import files
from lodestar.core.shot.objects import Bend, Deforming, Mover, Pull, Smear, Surface, Title, Twist, Wave

WORD, FACE, FRAME, VIEW = "OBSERVATORY8", "Inter Display Black", 46, 0.62
MOST_LAMPS = 1000


def least(work: Callable[[], object], rounds: int = 5, before: Callable[[], object] = lambda: None) -> float:
    """Seconds of the quickest of some rounds."""
    found = []
    for _ in range(rounds):
        before()
        began = time.perf_counter()
        work()
        found.append(time.perf_counter() - began)
    return min(found)


def forget() -> None:
    for kept in (extrude._shell, extrude.solid, setting.pieces_of, setting.letters_of, outlines.glyph_outline):
        kept.cache_clear()


def words() -> None:
    title = Title(id="t", text=WORD, face=FACE, bevel=constant(0.03))
    flat = [m3.CrossSection(p.joined.contours(), m3.FillRule.NonZero).to_polygons() for p in setting.pieces_of(face_of(FACE), WORD)]
    bound = least(lambda: [m3.triangulate(rings) for rings in flat])
    for name, change in (("new word", None), ("depth", "depth"), ("bevel", "bevel"), ("spacing", "spacing")):
        title_parts(title, 0)
        step = [0.0]

        def dragged(change=change, step=step) -> None:
            step[0] += 0.001
            item = title if change is None else msgspec.structs.replace(title, **{change: constant(getattr(title, change).value[0] + step[0])})
            title_parts(item, 0)

        took = least(dragged, before=forget if change is None else lambda: None)
        print(f"{name:<22}{took * 1e3:8.1f} ms {took / bound:8.1f} × triangulating its flat outlines ({bound * 1e3:.1f} ms)")


def deformed() -> None:
    """A deformation that is dragged, beside the solids as they are."""
    title, step = Title(id="t", text=WORD, face=FACE, bevel=constant(0.03)), [0.0]
    kind_of(title).parts(title, 0)
    bound = least(lambda: kind_of(title).parts(title, 0))
    ways: tuple[tuple[str, Callable[[float], Deforming]], ...] = (
        ("smear", lambda by: Smear(id="d", to=constant(0.5 + by, 0.0, 0.5))),
        ("pull", lambda by: Pull(id="d", amount=constant(0.5 + by))),
        ("wave", lambda by: Wave(id="d", phase=constant(by))),
        ("twist", lambda by: Twist(id="d", angle=constant(90 + by))),
        ("bend", lambda by: Bend(id="d", angle=constant(90 + by))),
    )
    for name, make in ways:

        def dragged(make=make) -> None:
            step[0] += 0.001
            kind_of(title).parts(msgspec.structs.replace(title, deforms=(make(step[0]),)), 0)

        took = least(dragged)
        print(f"{name:<22}{took * 1e3:8.1f} ms {took / bound:8.1f} × the same solids as they are, which are kept ({bound * 1e3:.1f} ms)")


def moving(shot) -> None:
    """200 letters with two movers, each frame another, as a view plays them; and the demo's own titles in the same way."""
    text = "\n".join(["THE OPEN NIGHT OF THE FELLGATE OBSERVATORY IS"] * 5)
    sweep = Keyed((0.0,), (Key(0.0, (1.0,), "linear"), Key(90.0, (0.0,))))
    movers = (
        Mover(id="a", shift=constant(0, 0, 0.7), turn=constant(30, 0, 40), reach=sweep),
        Mover(id="b", opacity=constant(0.2), order="shuffled", reach=sweep),
    )
    many = msgspec.structs.replace(shot.objects[0], text=text, height=constant(0.13), depth=constant(0.03), bevel=constant(0.003), movers=movers)
    took = {}
    for name, item in (("demo", shot.objects[0]), ("200 letters", many)):
        own = msgspec.structs.replace(shot, objects=(item, *shot.objects[1:]))
        frames = iter(range(20, 60))
        frame(own, 19, "draft", scale=VIEW)
        took[name] = least(functools.partial(_next, own, frames), 12)
    ratio = took["200 letters"] / took["demo"]
    letters = len("".join(text.split()))
    print(
        f"{letters} letters that move {1 / took['200 letters']:5.1f} pictures/s {ratio:8.1f} × the demo's two titles ({1 / took['demo']:.1f} pictures/s)"
    )


def _next(shot, frames: Iterator[int]) -> object:
    return frame(shot, next(frames), "draft", scale=VIEW)


def lamps(shot) -> None:
    """Finals at 1080p of the demo with lamps beside sun and sky, with a coat and edges of metal."""
    title = msgspec.structs.replace(
        shot.objects[0],
        coat=constant(1.0),
        surfaces=(Surface(id="e", part="edges", metal=constant(1.0), roughness=constant(0.2), colour=(1.0, 0.9, 0.6)),),
    )
    spots = [Spot(id=f"s{k}", position=constant(-3.0 + 0.6 * k, -3.0, 2.5), turn=constant(0.0, -40.0), strength=constant(4.0)) for k in range(10)]
    places = np.random.default_rng(5).uniform([-6, -3, 1], [6, 9, 3], (MOST_LAMPS, 3))
    spots += [Spot(id=f"s{k}", position=constant(*map(float, places[k])), strength=constant(0.7)) for k in range(len(spots), MOST_LAMPS)]
    took = {}
    for count in (0, 1, 10, 100, MOST_LAMPS):
        own = msgspec.structs.replace(shot, objects=(title, *shot.objects[1:]), lamps=(*shot.lamps, *spots[:count]))
        took[count] = least(functools.partial(frame, own, FRAME, layer="layers", scale=1.5), 1 if count > 100 else 2)
        print(f"final 1080p, {count:4} lamps {took[count]:7.2f} s" + (f" {took[count] / took[1]:8.2f} × with one" if count > 1 else ""))


def main() -> None:
    shot = files.read(ROOT / "demo" / "open-night.lode")
    words()
    deformed()
    moving(shot)
    lamps(shot)


if __name__ == "__main__":
    main()
