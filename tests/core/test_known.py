"""Distances and directions that are known of the place, as a part of the solve."""

import functools
import unittest

import numpy as np
from scipy.optimize import least_squares

from lodestar.core.basics.geometry import fit_similarity, rotation_from_vector
from lodestar.core.basics.job import Job
from lodestar.core.solve.adjust import Scene, adjust, project, seen
from lodestar.core.solve.camera import solve
from lodestar.core.solve.known import Span, constraints_of, residuals
from lodestar.core.solve.result import SolveSettings
from lodestar.core.track.tracks import make_tracks
from tests.helpers import Seeded

CORNERS = np.array([[0.0, 0, 0], [2, 0, 0], [2, 3, 0], [0, 3, 0], [0, 0, 2.5], [2, 0, 2.5], [1, 1, 1]])
SPANS = (Span(0, 1, 2.0, "x"), Span(1, 2, 3.0, "y"), Span(5, 1, 2.5, "z"), Span(4, 0, along="z"), Span(2, 3, along="x"), Span(0, 6, 3**0.5))


class TiesTest(unittest.TestCase):
    def test_what_is_so_leaves_nothing_however_the_scene_is_turned_and_sized(self):
        R = rotation_from_vector(np.array([0.4, -1.1, 2.0]))
        constraints = constraints_of(SPANS, np.arange(7))
        for X in (CORNERS, 0.31 * CORNERS @ R.T + [5, 6, 7]):
            np.testing.assert_allclose(residuals(constraints, X)[0], 0, atol=1e-9)
        self.assertEqual(len(constraints.rows), 4 + 2 * 5)
        self.assertLess(np.abs(residuals(constraints, CORNERS * [1, -1, 1])[0]).max(), 1e-9, "which way an axis runs is not asked")

    def test_derivatives_beside_differences(self):
        constraints, rng = constraints_of(SPANS, np.arange(7)), np.random.default_rng(1)
        X = CORNERS + 1e-4 * rng.standard_normal(CORNERS.shape)
        J = residuals(constraints, X)[1]
        d = 1e-6 * rng.standard_normal(X.shape)
        change = residuals(constraints, X + d)[0] - residuals(constraints, X - d)[0]
        np.testing.assert_allclose(np.einsum("kqi,qi->k", J, 2 * d[constraints.points]), change, atol=2e-4 * np.abs(change).max())

    def test_one_alone_says_nothing(self):
        self.assertIsNone(constraints_of(SPANS[:1], np.arange(7)))
        self.assertIsNone(constraints_of((Span(0, 1, 2.0), Span(2, 3, 2.0)), np.array([0, 1, 2, -1])), "one of them has no place")
        self.assertIsNotNone(constraints_of((Span(0, 1, 2.0), Span(2, 3, 2.0)), np.arange(4)))

    def test_the_adjustment_ends_where_scipy_does(self):
        """scipy.optimize.least_squares over all unknowns at once, with no Schur complement and no correction of low rank."""
        rng = np.random.default_rng(4)
        n, m = 5, 24
        X = np.r_[CORNERS, rng.uniform([-2, -2, 0], [4, 5, 3], (m - 7, 3))]
        C = np.c_[np.linspace(-1.5, 3.5, n), np.full(n, -8.0), 1.5 + 0.3 * rng.standard_normal(n)]
        R0 = np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]])
        R = rotation_from_vector(0.05 * rng.standard_normal((n, 3))) @ R0
        truth = Scene(R, C, X, np.array([900.0, -0.05, 0.01]))
        frame, point = (x.ravel() for x in np.meshgrid(np.arange(n), np.arange(m), indexing="ij"))
        xy = project(truth, frame, point, (639.5, 359.5))[0] + 0.5 * rng.standard_normal((n * m, 2))
        s = seen(frame, point, xy, m)
        constraints = constraints_of((Span(0, 1, 2.0, "x"), Span(1, 2, 3.1), Span(5, 1, 2.5, "z"), Span(4, 0, 2.5, "z")), np.arange(m))
        done, cost = adjust(truth, s, (639.5, 359.5), loss_px=0, rounds=80, tolerance=1e-13, constraints=constraints, constraint_px=2.0)

        def all_of_it(v):
            turn, C, X, K = v[: 3 * n].reshape(n, 3), v[3 * n : 6 * n].reshape(n, 3), v[6 * n : -3].reshape(m, 3), v[-3:] * [900, 1, 1]
            p = project(Scene(rotation_from_vector(turn) @ R, C, X, K), s.frame, s.point, (639.5, 359.5))[0]
            return np.r_[(p - s.xy).ravel(), 2.0 * residuals(constraints, X)[0]]

        start = np.r_[np.zeros(3 * n), C.ravel(), X.ravel(), 1.0, -0.05, 0.01]
        other = least_squares(all_of_it, start, method="trf", xtol=1e-14, ftol=1e-14, gtol=1e-14, max_nfev=300)
        self.assertLess(abs(cost / other.cost - 1), 1e-6)
        self.assertAlmostEqual(done.K[0], 900 * other.x[-3], delta=0.05)
        alone = adjust(truth, s, (639.5, 359.5), loss_px=0, rounds=80, tolerance=1e-13)[0]
        self.assertGreater(np.abs(residuals(constraints, alone.X)[0]).max(), 3 * np.abs(residuals(constraints, done.X)[0]).max())


@functools.lru_cache
def little_parallax(seed: int, frames: int = 40) -> tuple[Seeded, np.ndarray, object]:
    t = Seeded(seed=seed, frames=frames, tracks=300, sigma=0.5, moving=0, life=25, speed=0.3)
    names, track = np.unique(t.track, return_inverse=True)
    return t, t.points[names], make_tracks(t.frame, track, t.xy)


class HeldTest(unittest.TestCase):
    def spans(self, tracks, points, seed: int, count: int = 6) -> tuple[Span, ...]:
        rng, long = np.random.default_rng(seed), np.flatnonzero(np.bincount(tracks.track) >= 12)
        pairs = [rng.choice(long, 2, replace=False) for _ in range(count)]
        return tuple(Span(int(a), int(b), float(np.linalg.norm(points[a] - points[b]))) for a, b in pairs)

    def solve(self, t: Seeded, tracks, spans=()):
        return solve(tracks, t.width, t.height, SolveSettings(), Job(), spans=spans)

    def off(self, solve, spans) -> float:
        """How unlike the proportions of the distances are to what they are, at worst."""
        row = {int(k): i for i, k in enumerate(solve.point_ids)}
        ratio = np.array([np.linalg.norm(solve.xyz[row[s.a]] - solve.xyz[row[s.b]]) / s.metres for s in spans if s.a in row and s.b in row])
        return float(np.abs(ratio / np.exp(np.log(ratio).mean()) - 1).max())

    def test_distances_hold_the_scene_and_their_own_check(self):
        gained = []
        for seed in (3, 4, 5):
            t, points, tracks = little_parallax(seed)
            known, others = self.spans(tracks, points, seed), self.spans(tracks, points, 100 + seed, 40)
            alone, held = self.solve(t, tracks), self.solve(t, tracks, known)
            self.assertEqual(held.warning, "")
            self.assertLess(self.off(held, known), 0.005)
            self.assertGreater(self.off(alone, known), 0.015)
            self.assertLess(held.lens_deviation[0], 1.05 * alone.lens_deviation[0], "what is known makes it surer")
            self.assertLess(held.median_px, 1.02 * alone.median_px)
            cameras = np.array([t.cameras[int(k)].centre for k in held.frames])
            fit = fit_similarity(held.centres, cameras)
            self.assertLess(np.sqrt(((fit.points(held.centres) - cameras) ** 2).sum(1).mean()), 0.02)
            gained.append(self.off(held, others) / self.off(alone, others))
        self.assertLess(np.mean(gained), 1.0, "other distances in the scene gain too")

    def test_a_wrong_one_is_named(self):
        t, points, tracks = little_parallax(4)
        known = self.spans(tracks, points, 4)
        wrong = Span(known[2].a, known[2].b, 2 * known[2].metres)
        told = self.solve(t, tracks, (*known[:2], wrong, *known[3:])).warning
        self.assertIn("does not agree", told)
        self.assertIn(f"tracks {wrong.a} and {wrong.b}", told)

    def test_points_without_a_place_leave_the_solve_as_it_is(self):
        t, _, tracks = little_parallax(5)
        held, alone = self.solve(t, tracks, (Span(0, 100000, 2.0), Span(1, 100001, 2.0))), self.solve(t, tracks)
        self.assertIn("changed nothing", held.warning)
        np.testing.assert_array_equal(held.R, alone.R)

    def test_long_clips_whose_tracks_are_cut(self):
        t = Seeded(seed=6, frames=300, tracks=200, sigma=0.4, moving=0, speed=0.5)
        names, track = np.unique(t.track, return_inverse=True)
        points, tracks = t.points[names], make_tracks(t.frame, track, t.xy)
        known = self.spans(tracks, points, 1)
        alone, held = self.solve(t, tracks), self.solve(t, tracks, known)
        self.assertEqual(held.warning, "")
        self.assertLess(self.off(held, known), 0.6 * self.off(alone, known))
        self.assertLess(abs(held.lens.fx - t.lens.fx), abs(alone.lens.fx - t.lens.fx))
