"""Ground, surfaces, sun and mattes."""

import unittest

import cv2
import numpy as np
from scipy.interpolate import CubicHermiteSpline

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.geometry import fit_plane
from lodestar.core.basics.job import Job
from lodestar.core.light.sun import bearing_and_height, direction, from_shadow, from_shadows
from lodestar.core.matte.outline import Form, coverage, smooth_line
from lodestar.core.scene.ground import Ground, reference, robust_plane
from lodestar.core.scene.surfaces import patch_under
from lodestar.core.solve.camera import solve
from lodestar.core.solve.known import Span
from lodestar.core.solve.result import SolveSettings
from lodestar.core.track.tracks import make_tracks
from tests.helpers import Seeded


class GroundTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.true = Seeded(seed=0, frames=40, tracks=300, moving=0)
        cls.solve = solve(make_tracks(cls.true.frame, cls.true.track, cls.true.xy), 1280, 720, SolveSettings(), Job())
        # tracks are numbered by what was seen, points by what there is
        cls.number = np.unique(cls.true.track)
        cls.place = cls.true.points[cls.number[cls.solve.point_ids]]

    def test_chosen_points_make_ground_origin_and_metres(self):
        flat = np.flatnonzero(self.place[:, 2] == 0)
        ids = self.solve.point_ids
        a, b = flat[0], flat[-1]
        apart = float(np.linalg.norm(self.place[a] - self.place[b]))
        ref = reference(
            self.solve, Ground(on_ground=tuple(int(i) for i in ids[flat]), origin=int(ids[a]), spans=(Span(int(ids[a]), int(ids[b]), apart),))
        )
        scene = ref.points(self.solve.xyz)
        self.assertLess(np.median(np.abs(scene[flat, 2])), 0.03)
        np.testing.assert_allclose(scene[a, :2], 0, atol=1e-9)
        wall = self.place[:, 2] > 2
        self.assertLess(np.median(np.abs(scene[wall, 2] - self.place[wall, 2])), 0.05)  # metres, upright

    def test_without_a_word_the_largest_level_plane_is_the_ground(self):
        ref = reference(self.solve, Ground())
        up = ref.R[2]
        true = reference(self.solve, Ground(on_ground=tuple(int(i) for i in self.solve.point_ids[self.place[:, 2] == 0]))).R[2]
        self.assertLess(np.rad2deg(np.arccos(np.clip(up @ true, -1, 1))), 1.0)

    def test_points_that_make_no_plane_are_refused(self):
        line = np.c_[np.arange(6.0), np.zeros((6, 2))]
        with self.assertRaises(UserError) as told:
            robust_plane(line)
        self.assertIn("one line", told.exception.what)
        with self.assertRaises(UserError):
            reference(self.solve, Ground(on_ground=tuple(int(i) for i in self.solve.point_ids[:2])))

    def test_a_plane_shrugs_off_wrong_points(self):
        rng = np.random.default_rng(0)
        points = np.c_[rng.uniform(-5, 5, (60, 2)), 0.005 * rng.standard_normal(60)]
        points[:18, 2] += rng.uniform(0.3, 4, 18)  # 30 % stand above
        _, normal = robust_plane(points)
        self.assertLess(np.rad2deg(np.arccos(abs(normal[2]))), 0.5)

    def test_a_turning_camera_stands_as_high_as_it_is_said_to(self):
        t = Seeded(seed=4, frames=30, tracks=250, turning=True, moving=0)
        turned = solve(make_tracks(t.frame, t.track, t.xy), 1280, 720, SolveSettings(), Job())
        self.assertEqual(turned.motion, "turning")
        for height in (1.6, 12.0):
            place = reference(turned, Ground(eye_height=height))
            np.testing.assert_allclose(place.points(turned.centres)[:, 2], height, atol=1e-9)

    def test_least_squares_plane_against_numpy(self):
        rng = np.random.default_rng(1)
        p = rng.standard_normal((50, 3)) @ np.diag([3, 2, 0.01])
        values, vectors = np.linalg.eigh(np.cov(p.T))
        _, normal, _ = fit_plane(p)
        self.assertAlmostEqual(abs(normal @ vectors[:, 0]), 1.0, places=9)

    def test_the_patch_lies_on_the_surface_under_the_pointer(self):
        camera = self.true.cameras[20]
        target = np.array([0.5, 1.0, 0.0])
        pixel, _ = camera.project(target)
        patch = patch_under(camera, pixel, self.true.points, lambda at: np.full(len(at), 0.3))
        self.assertEqual(patch.slip_px, 0.3)
        np.testing.assert_allclose(patch.centre, target, atol=0.02)
        np.testing.assert_allclose(patch.normal, [0, 0, 1], atol=1e-9)
        self.assertIsNone(patch_under(camera, np.array([640.0, -4000]), self.true.points, lambda at: np.zeros(len(at))))


class SunTest(unittest.TestCase):
    def test_a_stick_of_one_metre_at_45_degrees_throws_one_metre(self):
        d = from_shadow(np.zeros(3), np.array([0.0, 1.0, 0.0]), 1.0)  # shadow to the north: sun in the south
        self.assertEqual(tuple(np.round(bearing_and_height(d), 6)), (180.0, 45.0))
        np.testing.assert_allclose(direction(*bearing_and_height(d)), d, atol=1e-12)

    def test_several_shadows_agree(self):
        sun = direction(228, 33)
        feet = np.array([[0, 0, 0], [3, 1, 0], [-2, 4, 0.0]])
        heights = np.array([1.0, 2.0, 1.5])
        tips = feet + np.c_[np.zeros((3, 2)), heights] - sun * (heights / sun[2])[:, None]
        mean, off = from_shadows(feet, tips, heights)
        np.testing.assert_allclose(mean, sun, atol=1e-12)
        self.assertLess(off.max(), 1e-4)
        with self.assertRaises(UserError):
            from_shadow(feet[0], feet[0], 1.0)


class MatteTest(unittest.TestCase):
    def test_a_circle_covers_its_area(self):
        # a closed centripetal curve through many points of a circle is the circle
        u = np.linspace(0, 2 * np.pi, 40, endpoint=False)
        circle = np.stack([100 + 40 * np.cos(u), 80 + 40 * np.sin(u)], 1)
        matte = coverage(circle, 200, 160)
        self.assertAlmostEqual(float(matte.sum()) / (np.pi * 40**2), 1.0, delta=0.01)
        self.assertEqual((matte[80, 100], matte[5, 5]), (1.0, 0.0))
        soft = coverage(circle, 200, 160, Form(outward=10))
        self.assertEqual(soft[80, 100], 1.0)
        self.assertTrue(0.2 < soft[80, 145] < 0.8)
        self.assertEqual(soft[80, 153], 0.0)

    def test_the_line_goes_through_its_corners_and_bends_as_scipy_says(self):
        points = np.array([[0, 0], [10, 0], [12, 8], [3, 11.0]])
        line = smooth_line(points, 10)
        np.testing.assert_allclose(line[::10], points, atol=1e-12)
        # the same centripetal spline by SciPy's Hermite form, over its own knots
        p0, p1, p2, p3 = points[3], points[0], points[1], points[2]
        t = np.cumsum([0, *(np.sqrt(np.linalg.norm(b - a)) for a, b in ((p0, p1), (p1, p2), (p2, p3)))])
        slope = lambda a, b, c, i, j, k: (b - a) / (t[j] - t[i]) - (c - a) / (t[k] - t[i]) + (c - b) / (t[k] - t[j])
        spline = CubicHermiteSpline(t[1:3], [p1, p2], [slope(p0, p1, p2, 0, 1, 2), slope(p1, p2, p3, 1, 2, 3)])
        np.testing.assert_allclose(line[:10], spline(t[1] + np.arange(10) / 10 * (t[2] - t[1])), atol=1e-9)

    def test_fewer_than_three_corners_cover_nothing(self):
        self.assertEqual(coverage(np.array([[1, 1], [5, 5.0]]), 10, 10).sum(), 0)
        self.assertEqual(cv2.countNonZero(coverage(np.zeros((0, 2)), 10, 10)), 0)


if __name__ == "__main__":
    unittest.main()
