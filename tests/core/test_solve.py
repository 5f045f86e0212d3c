"""The solve against known cameras, OpenCV and SciPy; and its refusals."""

import unittest

import cv2
import numpy as np
from scipy.optimize import least_squares

from lodestar.core.basics.errors import Cancelled, SolveError
from lodestar.core.basics.geometry import fit_similarity, rotation_from_vector
from lodestar.core.basics.job import Job
from lodestar.core.solve.adjust import Scene, adjust, project, seen
from lodestar.core.solve.camera import solve
from lodestar.core.solve.report import residuals
from lodestar.core.solve.result import SolveSettings
from lodestar.core.solve.views import resect, triangulate
from lodestar.core.track.tracks import make_tracks
from tests.helpers import Seeded


def solved(seeded: Seeded, **settings):
    tracks = make_tracks(seeded.frame, seeded.track, seeded.xy)
    return tracks, solve(tracks, seeded.width, seeded.height, SolveSettings(**settings), Job())


class AdjustTest(unittest.TestCase):
    def setUp(self):
        self.true = Seeded(seed=3, frames=8, tracks=40, sigma=0.3, moving=0)
        t = self.true
        self.s = seen(t.frame, t.track, t.xy, len(t.points))
        self.start = Scene(np.array([rotation_from_vector(np.array([0.01, -0.006, 0.004])) @ c.R for c in t.cameras]), np.array([c.centre + 0.05 for c in t.cameras]),
                           t.points + 0.1, np.array([1040.0, 0.0, 0.0]))  # fmt: skip
        self.centre = (t.lens.cx, t.lens.cy)

    def test_reaches_the_same_minimum_as_scipy(self):
        done, cost = adjust(self.start, self.s, self.centre, loss_px=0, rounds=60, tolerance=1e-12)
        n, m = len(done.R), len(done.X)

        def miss(x):
            turn, C, X, K = x[: 3 * n].reshape(-1, 3), x[3 * n : 6 * n].reshape(-1, 3), x[6 * n : 6 * n + 3 * m].reshape(-1, 3), x[-3:]
            scene = Scene(rotation_from_vector(turn) @ done.R, C, X, K)
            return (project(scene, self.s.frame, self.s.point, self.centre)[0] - self.s.xy).ravel()

        x0 = np.concatenate([np.zeros(3 * n), done.C.ravel(), done.X.ravel(), done.K])
        reference = least_squares(miss, x0, x_scale="jac", max_nfev=30)
        self.assertAlmostEqual(cost, reference.cost, delta=1e-4 * reference.cost)

    def test_loss_keeps_wrong_matches_out(self):
        rng = np.random.default_rng(0)
        xy = self.s.xy.copy()
        wrong = rng.random(len(xy)) < 0.08
        xy[wrong] += rng.uniform(-60, 60, (wrong.sum(), 2))
        done, _ = adjust(self.start, self.s._replace(xy=xy), self.centre, loss_px=1.0, rounds=80, tolerance=1e-9)
        p, _ = project(done, self.s.frame, self.s.point, self.centre)
        self.assertLess(np.median(np.linalg.norm(p - self.s.xy, axis=1)[~wrong]), 0.6)


class ViewsTest(unittest.TestCase):
    def test_triangulation_against_opencv(self):
        t = Seeded(seed=1, frames=2, tracks=60, sigma=0.0, moving=0)
        R, C = np.array([c.R for c in t.cameras]), np.array([c.centre for c in t.cameras])
        both = np.intersect1d(t.track[t.frame == 0], t.track[t.frame == 1])
        xy = [t.lens.undistort(t.xy[(t.frame == i) & np.isin(t.track, both)]) for i in (0, 1)]
        P = [np.c_[c.R, c.t] for c in t.cameras]
        reference = cv2.triangulatePoints(P[0], P[1], xy[0].T, xy[1].T)
        reference = (reference[:3] / reference[3]).T
        number = np.arange(len(both))
        own = triangulate(R, C, np.repeat([0, 1], len(both)), np.tile(number, 2), np.concatenate(xy), len(both), 0.002)
        np.testing.assert_allclose(own, reference, atol=1e-6)

    def test_resection_against_opencv(self):
        t = Seeded(seed=2, frames=3, tracks=80, sigma=0.3, moving=0)
        on = t.frame == 1
        X, xy, camera = t.points[t.track[on]], t.xy[on], t.cameras[1]
        K = np.array([t.lens.fx, t.lens.k1, t.lens.k2])
        start = rotation_from_vector(np.array([0.02, -0.01, 0.01])) @ camera.R
        R, C, _ = resect(start, camera.centre + 0.2, X, xy, K, (t.lens.cx, t.lens.cy))
        matrix = np.array([[K[0], 0, t.lens.cx], [0, K[0], t.lens.cy], [0, 0, 1]])
        _, turn, shift = cv2.solvePnP(X, xy, matrix, np.array([K[1], K[2], 0, 0]))
        reference = cv2.Rodrigues(turn)[0]
        # both minimise image distance; ours bends it by Cauchy's loss at 2 px, which moves it by a share of the noise
        np.testing.assert_allclose(C, (-reference.T @ shift).ravel(), atol=0.01)
        np.testing.assert_allclose(R, reference, atol=1e-3)


class SolveTest(unittest.TestCase):
    def test_a_free_camera_is_found(self):
        t = Seeded(seed=0)
        tracks, s = solved(t)
        self.assertEqual(s.motion, "free")
        self.assertEqual(len(s.frames), len(t.cameras))
        self.assertLess(abs(s.lens.fx / t.lens.fx - 1), 0.01)
        # noise of 0.2 px an axis makes a mean distance of 0.2 * sqrt(pi / 2) = 0.25 px
        self.assertLess(s.mean_px, 0.25 * 1.15)
        place = fit_similarity(s.centres, np.array([c.centre for c in t.cameras]))
        self.assertLess(np.linalg.norm(place.points(s.centres) - [c.centre for c in t.cameras], axis=1).max(), 0.03)
        error = residuals(s, tracks)
        self.assertAlmostEqual(float(np.nanmedian(error)), s.median_px, delta=0.05)

    def test_a_turning_camera_is_recognised(self):
        t = Seeded(seed=4, turning=True, moving=0.02)
        _, s = solved(t)
        self.assertEqual(s.motion, "turning")
        self.assertLess(abs(s.lens.fx / t.lens.fx - 1), 0.02)
        apart = s.R[-1] @ s.R[0].T @ (t.cameras[-1].R @ t.cameras[0].R.T).T
        self.assertLess(np.rad2deg(np.arccos(np.clip((np.trace(apart) - 1) / 2, -1, 1))), 0.1)

    def test_a_known_focal_length_is_kept(self):
        _, s = solved(Seeded(seed=5, frames=40, tracks=250), focal_px=1000.0)
        self.assertEqual(s.lens.fx, 1000.0)

    def test_refusals_name_their_cause(self):
        t = Seeded(seed=6, frames=30, tracks=200)
        few = t.track < 15
        with self.assertRaises(SolveError) as told:
            solve(make_tracks(t.frame[few], t.track[few], t.xy[few]), 1280, 720, SolveSettings(), Job())
        self.assertIn("too few", told.exception.what)
        still = t.xy[t.frame == 0]
        rng = np.random.default_rng(0)
        frames, tracks = np.repeat(np.arange(20), len(still)), np.tile(np.arange(len(still)), 20)
        xy = np.tile(still, (20, 1)) + 0.02 * rng.standard_normal((20 * len(still), 2))
        with self.assertRaises(SolveError) as told:
            solve(make_tracks(frames, tracks, xy), 1280, 720, SolveSettings(), Job())
        self.assertIn("stands still", told.exception.what)
        with self.assertRaises(SolveError) as told:  # tracks that hop about at random are no camera
            solve(make_tracks(frames, tracks, rng.uniform(0, 700, xy.shape)), 1280, 720, SolveSettings(motion="free"), Job())
        self.assertTrue(told.exception.hint)

    def test_cancel_in_the_middle(self):
        t = Seeded(seed=0, frames=30, tracks=150)

        class Stops(Job):
            def step(self, share, text=""):
                super().step(share, text)
                if self.share > 0.4:
                    self.cancel()

        with self.assertRaises(Cancelled):
            solve(make_tracks(t.frame, t.track, t.xy), 1280, 720, SolveSettings(), Stops())


if __name__ == "__main__":
    unittest.main()
