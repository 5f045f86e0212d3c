"""Ground that points tell to be uneven: its heights, what it is not, and the shadow that falls on it."""

import unittest

import msgspec
import numpy as np

from lodestar.core.basics.keyed import constant
from lodestar.core.edits.arrange import dropped
from lodestar.core.edits.settle import rebased, with_ground
from lodestar.core.evaluate.cameras import scene_frame
from lodestar.core.evaluate.ground import hidden_share, hiding_ground, uneven_of
from lodestar.core.evaluate.objects import items_of
from lodestar.core.light.lamps import Sun
from lodestar.core.picture.frame import frame
from lodestar.core.picture.workshop import close_workshop
from lodestar.core.projection.pinhole import Lens
from lodestar.core.scene.ground import Ground
from lodestar.core.scene.uneven import _smoothness, _spline, uneven_ground
from lodestar.core.shot import files
from lodestar.core.shot.document import Exposure
from lodestar.core.shot.objects import Box, GroundMesh
from tests.helpers import DEMO


def place(item) -> np.ndarray:
    return np.array(item.position.at(46))


EYE = np.array([0.0, -12.0, 6.0])


def land(x, y):
    """Heights of an invented slope with a hollow, in metres."""
    return 0.18 * x + 0.6 * np.sin(0.35 * y) - 0.5 * np.exp(-((x - 2) ** 2 + (y - 3) ** 2) / 9)


def strewn(count: int, height, seed: int = 0, noise: float = 0.004):
    """Points (n, 3) on land, and a tenth as many on posts and boulders; their distances; seeds near the level plane."""
    rng = np.random.default_rng(seed)
    xy = rng.uniform([-9, -6], [9, 14], (count, 2))
    posts = rng.uniform([-9, -6], [9, 14], (count // 10, 2))
    points = np.r_[np.c_[xy, height(*xy.T)], np.c_[posts, height(*posts.T) + rng.uniform(0.4, 1.6, len(posts))]]
    away = np.linalg.norm(points - EYE, axis=1)
    points[:, 2] += rng.normal(0, 1, len(points)) * noise * (away / 12) ** 2
    return points, away, np.abs(points[:, 2]) < 0.02 * away


class HeightsTest(unittest.TestCase):
    def test_it_follows_the_land_and_no_posts(self):
        points, away, seeds = strewn(350, land)
        found = uneven_ground(points, seeds, away, 0.25)
        rng = np.random.default_rng(5)
        at = rng.uniform([-7, -4], [7, 11], (400, 2))
        off = found.heights(at) - land(*at.T)
        self.assertLess(float(np.sqrt(np.mean(off**2))), 0.05)  # the level plane is off by 0.9 m
        self.assertGreater(found.knows(at).mean(), 0.95)
        self.assertFalse(found.knows(np.array([[60.0, 0.0]]))[0])
        self.assertEqual(float(found.heights(np.array([[300.0, 0.0]]))[0]), 0.0)

    def test_level_ground_stays_level(self):
        """Only noise leaves the plane: it foretells left-out points as well as any surface."""
        points, away, seeds = strewn(350, lambda x, y: 0 * x)
        self.assertIsNone(uneven_ground(points, seeds, away, 0.25))

    def test_few_points_or_points_in_a_line_make_none(self):
        points, away, seeds = strewn(8, land)
        self.assertIsNone(uneven_ground(points, seeds, away, 0.25))
        line = np.c_[np.linspace(0, 5, 40), np.zeros(40), 0.3 * np.sin(np.linspace(0, 9, 40))]
        self.assertIsNone(uneven_ground(line, np.ones(40, bool), np.full(40, 10.0), 0.25))
        twice = np.repeat(strewn(40, land)[0], 2, axis=0)
        uneven_ground(twice, np.ones(len(twice), bool), np.full(len(twice), 10.0), 0.25)

    def test_what_is_foretold_is_what_is_laid_without_the_point(self):
        """Rippa's formula against laying the surface anew for each point (scipy's spline)."""
        points, away, _ = strewn(40, land)
        far = away / 12
        smoothing, foretold = _smoothness(points, far, 12.0)
        for k in range(0, len(points), 7):
            rest = np.arange(len(points)) != k
            anew = 12 * _spline(points[rest], far[rest], 12.0, smoothing)(points[k : k + 1, :2] / 12)[0]
            self.assertAlmostEqual(float(foretold[k]), float(anew), delta=1e-6)

    def test_a_ray_meets_it_where_it_is(self):
        points, away, seeds = strewn(350, land)
        found = uneven_ground(points, seeds, away, 0.25)
        for at in np.array([[0.0, 0.0], [3.0, 5.0], [-4.0, 2.0]]):
            there = np.r_[at, found.heights(at[None])]
            ray = (there - EYE) / np.linalg.norm(there - EYE)
            met = found.met(EYE, ray)
            # a crest may lie before it, but what is met is on the surface and on the ray
            self.assertAlmostEqual(float(found.heights(met[None, :2])[0]), float(met[2]), delta=1e-6)
            self.assertLessEqual(float(np.linalg.norm(met - EYE)), float(np.linalg.norm(there - EYE)) + 1e-6)
        self.assertIsNone(found.met(EYE, np.array([0.0, 0.0, 1.0])))


def ramp(x):
    return 0.3 * np.maximum(x - 1.0, 0)


class InShotTest(unittest.TestCase):
    """A level yard with a ramp to the right: a post on the yard, its shadow up the ramp."""

    @classmethod
    def setUpClass(cls):
        cls.addClassCleanup(close_workshop)
        demo = files.read(DEMO)
        count = len(demo.solve.frames)
        at = np.random.default_rng(1).uniform([-7, -4], [7, 9], (len(demo.solve.xyz), 2))
        # from 6 m up, looking down along y
        pitch = np.deg2rad(25)
        R = np.array([[1, 0, 0], [0, -np.sin(pitch), -np.cos(pitch)], [0, np.cos(pitch), -np.sin(pitch)]])
        centres = np.c_[np.linspace(-0.5, 0.5, count), np.full(count, -12.0), np.full(count, 6.0)]
        solve = msgspec.structs.replace(
            demo.solve,
            R=np.repeat(R[None], count, 0),
            t=-(centres @ R.T),
            xyz=np.c_[at, ramp(at[:, 0])],
            lens=Lens(1100, 1100, 639.5, 359.5, 0, 0),
        )
        shot = rebased(msgspec.structs.replace(demo, objects=(), mattes=(), finish=()), solve=solve)
        yard = [int(k) for k in solve.point_ids[at[:, 0] < 0.5]][:40]
        shot = with_ground(shot, Ground(on_ground=tuple(yard)))
        lamps = (Sun(bearing=constant(270.0), height=constant(40.0), softness=constant(0.0), strength=constant(2.0)),)
        cls.shot = msgspec.structs.replace(shot, lamps=lamps, exposure=Exposure(shutter=constant(0.0)))
        cls.back = scene_frame(cls.shot)
        foot = cls.back.points(np.array([0.3, 1.0, 0.0]))
        size = cls.back.scale
        # the scene's x axis may look another way than that of the points
        cls.post = Box(id="post", extent=constant(0.4 * size, 3 * size, 3 * size), position=constant(*foot))
        side = np.stack(np.meshgrid(np.linspace(-7, 7, 57), np.linspace(-4, 9, 40)), -1).reshape(-1, 2)
        true = cls.back.points(np.c_[side, ramp(side[:, 0])])
        cls.land = GroundMesh(id="land", points=tuple(true.ravel()), edge=constant(99.0), drawn=False, receives=True)

    def shadow(self, shot, *objects):
        with_objects = msgspec.structs.replace(shot, objects=objects)
        return frame(with_objects, 46, layer="shadow", samples=4).pixels[..., 1] < 0.7

    def test_the_shadow_lies_on_the_ramp(self):
        true = self.shadow(self.shot, self.post, self.land)
        level = with_ground(self.shot, msgspec.structs.replace(self.shot.ground, uneven=False))
        overlap = lambda a: float((a & true).sum() / (a | true).sum())
        self.assertGreater(true.sum(), 2000)
        self.assertGreater(overlap(self.shadow(self.shot, self.post)), 0.93)
        self.assertLess(overlap(self.shadow(level, self.post)), 0.85)
        self.assertIsNone(uneven_of(level))

    def test_what_is_far_from_the_ramp_is_on_the_level_plane_as_before(self):
        foot = self.back.points(np.array([-5.0, 1.0, 0.0]))
        small = msgspec.structs.replace(self.post, extent=constant(*(0.1 * np.array(self.post.extent.value))), position=constant(*foot))
        level = with_ground(self.shot, msgspec.structs.replace(self.shot.ground, uneven=False))
        a, b = (frame(msgspec.structs.replace(s, objects=(small,)), 46, samples=2).pixels for s in (self.shot, level))
        np.testing.assert_array_equal(a, b)

    def test_it_hides_the_foot_and_dropping_stands_on_it(self):
        there = np.array([4.0, 1.0])
        foot = self.back.points(np.r_[there, 0.0])
        sunk = msgspec.structs.replace(self.post, position=constant(*foot))
        shot = msgspec.structs.replace(self.shot, objects=(sunk,))
        self.assertGreater(hidden_share(shot, sunk, 46), 0.2)
        up = dropped(shot, "post", 46, "whole")
        rise = (up.objects[0].position.value[2] - foot[2]) / self.back.scale
        self.assertAlmostEqual(rise, ramp(4.0), delta=0.03)
        seen = [frame(s, 46, layer="layers", samples=2).pixels[..., 3].sum() for s in (shot, up)]
        self.assertLess(seen[0], 0.85 * seen[1])


class DraggedTest(unittest.TestCase):
    """What stays as it is while one object is dragged is not made anew for each picture."""

    def test_the_items_of_the_others_are_kept(self):
        shot = files.read(DEMO)
        first, other = shot.objects[0], next(o for o in shot.objects[1:] if o.drawn)
        there, here = items_of(shot, first, 46), items_of(shot, other, 46)
        moved = msgspec.structs.replace(first, position=constant(1.0, -0.7, 0.0))
        after = msgspec.structs.replace(shot, objects=(moved, *shot.objects[1:]))
        self.assertIs(items_of(after, other, 46), here)
        np.testing.assert_allclose(items_of(after, moved, 46)[0].model(0.0)[:3, 3] - there[0].model(0.0)[:3, 3], moved.position.value - place(first))
        # what they follow from: their parent, the frame, the camera
        child = msgspec.structs.replace(other, parent=first.id)
        held = msgspec.structs.replace(shot, objects=(first, child))
        before = items_of(held, child, 46)[0].model(0.0)
        now = items_of(msgspec.structs.replace(held, objects=(moved, child)), child, 46)[0].model(0.0)
        np.testing.assert_allclose(now[:3, 3] - before[:3, 3], moved.position.value - place(first), atol=1e-9)
        self.assertIsNot(items_of(shot, other, 47), here)
        self.assertIsNot(items_of(rebased(shot, solve=msgspec.structs.replace(shot.solve)), other, 46), here)

    def test_the_ground_that_hides_it_is_the_same_part_for_small_steps(self):
        shot, eye = files.read(DEMO), np.array([0.0, -8.0, 1.6])
        parts = []
        for step in range(20):
            title = msgspec.structs.replace(shot.objects[0], position=constant(0.2 + 0.01 * step, -0.7, -0.2))
            here = msgspec.structs.replace(shot, objects=(title,))
            (hiding,) = hiding_ground(here, [title], items_of(here, title, 46), eye)
            parts.append(hiding.mesh)  # kept, so that no other takes its name
        self.assertLessEqual(len(set(map(id, parts))), 3)


if __name__ == "__main__":
    unittest.main()
