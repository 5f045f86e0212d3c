"""Compile the numeric kernels once, at set-up, so that the first shot does not wait for it: `python -m lodestar.warm`."""

import contextlib
import subprocess
import sys

import numpy as np

from lodestar.core.basics import jit
from lodestar.core.basics.colour import Colour, decode, encode
from lodestar.core.basics.errors import RenderError, UserError
from lodestar.core.basics.job import Job
from lodestar.core.finish.backdrop import Backdrop, turn_of
from lodestar.core.light.lamps import Light, SkyLight, SunLight
from lodestar.core.matte.background import NODE_PX
from lodestar.core.matte.follow import Follower
from lodestar.core.matte.key import Keyer, keyed_cover
from lodestar.core.matte.outline import Form, coverage
from lodestar.core.matte.strokes import Brushed, Stroke
from lodestar.core.media.yuv import planes_of, rgb_of, with_filmed
from lodestar.core.picture.composite import codes_of, light_of, over_nothing, over_plate, shade_of
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens
from lodestar.core.render.engine import Engine, Quality
from lodestar.core.render.eye import Nets, eye_of
from lodestar.core.render.items import LEVEL, Item
from lodestar.core.render.sky import sky_seen
from lodestar.core.shape.solids import box_mesh
from lodestar.core.solve.camera import solve
from lodestar.core.solve.result import SolveSettings
from lodestar.core.solve.slip import Noise, draw_noise
from lodestar.core.track.follow import FollowSettings, follow
from lodestar.core.track.tracks import make_tracks

RAYS = "rays"  # the argument by which a process of its own is asked for the renderer, which takes longer than all else


def main() -> None:
    """Run each kernel on a little data of the kinds that the program uses."""
    if sys.argv[1:] == [RAYS]:
        return _warm_rays()
    rays = subprocess.Popen([sys.executable, "-m", "lodestar.warm", RAYS])
    try:
        _warm_rest()
    finally:
        failed = rays.wait()
    if failed:
        sys.exit(failed)


def _warm_rest() -> None:
    rng = np.random.default_rng(0)
    picture = (rng.random((120, 200)) * 255).astype(np.uint8)
    follow(lambda i: np.roll(picture, i, 1), range(6), FollowSettings(count=40), lambda i: None, Job())
    lens = Lens(500.0, 500.0, 319.5, 179.5)
    points = np.c_[rng.uniform(-3, 3, (80, 2)), rng.uniform(5, 9, 80)]
    rows = [(np.full(80, i), np.arange(80), Camera(np.eye(3), np.array([0.15 * i - 1, 0, 0]), lens).project(points)[0]) for i in range(14)]
    frame, track, xy = (np.concatenate(x) for x in zip(*rows))
    _warm_mattes(rng)
    _warm_sky()
    usual = jit.WIDE
    for motion, wide in (("free", usual), ("turning", usual), ("free", -1)):  # the last: as for many rows, on all cores
        jit.WIDE = wide
        with contextlib.suppress(UserError):  # what matters is that it was compiled
            solve(make_tracks(frame, track, xy + 0.1 * rng.standard_normal(xy.shape)), 640, 360, SolveSettings(motion=motion), Job())
    jit.WIDE = usual
    draw_noise(Noise(1.0, 1.0, 0.5), frame, track, rng)
    colour, shade, nothing = np.zeros((4, 4, 4), np.float32), np.full((4, 4, 3), 0.5, np.float32), np.zeros((4, 4), np.float32)
    for kind in (np.uint8, np.uint16, np.float32):
        plate = np.zeros((8, 8, 3), kind)
        over_plate(plate, "rec709", colour, shade, nothing, nothing, 0, 0)
        plate.flags.writeable = False  # as decoded ones are
        codes_of(light_of(plate, "rec709"), "rec709", np.dtype(kind))
    decode(encode(np.ones(3, np.float32), "srgb"), "srgb")
    black = np.zeros(3, np.float32)
    over_nothing(colour, shade_of(shade, shade, 1.0, black), 0.6)
    for bits, kind in ((8, np.uint8), (10, np.uint16)):
        dark = np.zeros((8, 8, 3), kind)
        planes = planes_of(dark, Colour(), bits)
        rgb_of(with_filmed(planes, dark, dark, planes, Colour()), Colour())


def _warm_rays() -> None:
    item, ground = (
        Item(box_mesh(), lambda share: np.eye(4), (0.5, 0.5, 0.5), 0.5, 0.0),
        Item(LEVEL, lambda share: np.eye(4), (0, 0, 0), 1, 0, drawn=False),
    )
    before = Camera(np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]]), np.array([0, 0.5, 4]), Lens(30.0, 30.0, 15.5, 15.5))
    lights: list[Light] = [SunLight(np.array([0, 0, 1.0]), np.ones(3), 0.5), SkyLight(np.ones(3))]
    with contextlib.suppress(RenderError):  # told when a picture is asked for
        Engine().render([item, ground], lights, lambda share: before, (32, 32), Quality(0.0, 4))


def _warm_sky() -> None:
    light = np.full((8, 8, 3), 0.5, np.float32)
    keyed_cover(Keyer(id="w", name="", samples=((0.5, 0.5, 0.5),)), light, 0)
    camera = Camera(np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]]), np.zeros(3), Lens(8.0, 8.0, 3.5, 3.5))
    eye = eye_of(Nets(), lambda share: camera, (0, 0, 8, 8), (8, 8), 0.0, 0.0, np.zeros(3), 1.0)
    out, cover = np.zeros((8, 8, 4), np.float32), np.ones((8, 8), np.float32)
    light.flags.writeable = False  # as those that are made here, which is another kernel
    sky_seen(eye, turn_of(Backdrop(), 0, 0.0), light, np.pi / 2, np.pi, 0.0, 0.0, 0.1, np.zeros(3), 1, cover, 0, 0, out)


def _warm_mattes(rng: np.random.Generator) -> None:
    """A bright patch that moves over noise, found and followed over a background that stands still."""
    ground = (rng.random((60, 80, 3)) * 90).astype(np.uint8)

    def picture(frame: int) -> np.ndarray:
        shown = ground.copy()
        shown[20:44, 20 + frame % 8 : 44 + frame % 8] = (220, 120, 60)
        return shown

    ys, xs = np.mgrid[0:76:NODE_PX, 0:96:NODE_PX].astype(np.float32)
    for closed in (True, False):
        coverage(np.array([[1.0, 1.0], [6.0, 2.0], [4.0, 6.0]]), 8, 8, Form(closed=closed, thick=2.0))
    follower = Follower(picture, lambda frame, source: np.dstack([xs, ys]), range(40), 80, 60)
    source = Brushed(id="w", name="", strokes=(Stroke(20, (30.0, 30.0, 40.0, 30.0), 4.0), Stroke(20, (5.0, 5.0, 75.0, 5.0), 3.0, False)))
    follower.select(source, 20)
    follower.step(source, 21, 20)


if __name__ == "__main__":
    main()
