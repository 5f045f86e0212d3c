"""Surfaces under the pointer, and the ways to say how the ground lies, freely mixed."""

import unittest

import msgspec
import numpy as np
from scipy.optimize import least_squares

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.geometry import turn_matrix
from lodestar.core.basics.job import Job
from lodestar.core.scene.ground import Ground, PictureLine, reference, robust_plane, scene_of, with_span
from lodestar.core.scene.surfaces import on_ground, patch_under, rows_under, snapped, sturdy_plane, weighted_plane
from lodestar.core.solve.camera import solve
from lodestar.core.solve.known import Span
from lodestar.core.solve.result import SolveSettings
from lodestar.core.solve.spread import point_covariances
from lodestar.core.track.tracks import make_tracks
from tests.helpers import Seeded


def lean(a, b) -> float:
    return float(np.rad2deg(np.arccos(np.clip(abs(np.dot(a, b)), 0, 1))))


def none(at):
    return np.zeros(len(at))


class PlaneTest(unittest.TestCase):
    def cloud(self, seed, count=60, wrong=0.0):
        rng = np.random.default_rng(seed)
        R = turn_matrix(tuple(rng.uniform(-60, 60, 3)))
        flat = np.c_[rng.uniform(-3, 3, (count, 2)), 0.01 * rng.standard_normal(count)]
        off = rng.random(count) < wrong
        flat[off, 2] += rng.uniform(0.2, 3, int(off.sum()))
        return flat @ R.T + rng.uniform(-5, 5, 3), R[:, 2]

    def test_within_half_a_degree_with_thirty_percent_wrong(self):
        for seed in range(40):
            points, normal = self.cloud(seed, wrong=0.3)
            self.assertLess(lean(robust_plane(points)[1], normal), 0.5, seed)
            self.assertLess(lean(sturdy_plane(points)[1], normal), 0.5, seed)

    def test_weights_against_scipy(self):
        # the plane that minimises squared distances over their variances, by scipy.optimize
        rng = np.random.default_rng(3)
        points, _ = self.cloud(3, 40)
        sigma = rng.uniform(0.005, 0.05, 40)
        points = points + sigma[:, None] * rng.standard_normal((40, 3))
        C = np.eye(3)[None] * (sigma**2)[:, None, None]
        centre, normal, _ = weighted_plane(points, C)
        flat = float(np.median(((points - centre) @ normal) ** 2))
        weight = 1 / np.sqrt(sigma**2 + flat)

        def off(x):
            n = np.array([np.sin(x[0]) * np.cos(x[1]), np.sin(x[0]) * np.sin(x[1]), np.cos(x[0])])
            return weight * (points @ n - x[2])

        start = [np.arccos(normal[2]), np.arctan2(normal[1], normal[0]), centre @ normal]
        best = least_squares(off, np.array(start) + [0.05, -0.05, 0.1]).x
        theirs = np.array([np.sin(best[0]) * np.cos(best[1]), np.sin(best[0]) * np.sin(best[1]), np.cos(best[0])])
        self.assertLess(lean(normal, theirs), 0.05)

    def test_unsure_points_count_for_less(self):
        points, normal = self.cloud(5, 60)
        far = points.copy()
        far[:20] += normal * np.linspace(0.1, 0.5, 20)[:, None]
        C = np.repeat(np.eye(3)[None] * 1e-5, 60, 0)
        C[:20] = np.eye(3) * 0.3**2
        self.assertLess(lean(weighted_plane(far, C)[1], normal), 0.5 * lean(weighted_plane(far)[1], normal))

    def test_too_few_points_and_points_in_a_line(self):
        for points, word in ((np.zeros((2, 3)), "three"), (np.outer(np.arange(9.0), [1, 2, 3]), "line")):
            with self.assertRaises(UserError) as told:
                sturdy_plane(points)
            self.assertIn(word, told.exception.what)
        with self.assertRaises(UserError):
            robust_plane(np.outer(np.arange(9.0), [1, 2, 3]))

    def test_snapping(self):
        tilt = lambda deg: turn_matrix((0, deg, 0)) @ [0, 0, 1.0]
        np.testing.assert_allclose(snapped(tilt(6)), [0, 0, 1])
        self.assertEqual(snapped(tilt(85))[2], 0.0)
        np.testing.assert_allclose(snapped(tilt(30)), tilt(30))


class PatchTest(unittest.TestCase):
    """Points of a seeded scene: the ground at z = 0 and walls that face the camera."""

    @classmethod
    def setUpClass(cls):
        cls.true = Seeded(seed=1, frames=30, tracks=700, moving=0)
        cls.camera = cls.true.cameras[15]

    def test_the_wall_snap_is_upright_and_hangs_at_its_depth(self):
        wall = self.true.points[self.true.points[:, 2] > 0.3]
        rows = np.flatnonzero(np.isin(self.true.points[:, 1], [6.0]) & (self.true.points[:, 2] > 0.3))
        pixel = np.median(self.camera.project(self.true.points[rows])[0], axis=0)
        patch = patch_under(self.camera, pixel, self.true.points, none, rows=rows, snap="wall")
        self.assertEqual(patch.normal[2], 0.0)
        self.assertLess(lean(patch.normal, [0, 1, 0]), 0.5)
        self.assertAlmostEqual(patch.centre[1], 6.0, delta=0.02)
        self.assertGreater(len(wall), 100)

    def test_edge_on_and_empty_surfaces_give_no_patch(self):
        ahead = self.camera.centre + 6 * self.camera.R[2]
        flat = np.random.default_rng(0).uniform(-1, 1, (40, 2))
        edge_on = ahead + flat[:, :1] * self.camera.R[1] + flat[:, 1:] * self.camera.R[2]
        pixel = self.camera.project(ahead)[0]
        self.assertIsNone(patch_under(self.camera, pixel, edge_on, none))
        line = ahead + np.linspace(-1, 1, 20)[:, None] * self.camera.R[0]
        self.assertIsNone(patch_under(self.camera, pixel, line, none))
        self.assertIsNone(patch_under(self.camera, pixel, np.zeros((0, 3)), none))
        behind = self.camera.centre - 6 * self.camera.R[2] + flat[:, :1] * self.camera.R[0] + flat[:, 1:] * self.camera.R[1]
        self.assertEqual(len(rows_under(self.camera, pixel, behind)), 0)

    def test_the_ground_is_met_below_the_horizon_only(self):
        foot = np.array([0.5, 4.0, 0.0])
        np.testing.assert_allclose(on_ground(self.camera, self.camera.project(foot)[0]), foot, atol=1e-9)
        self.assertIsNone(on_ground(self.camera, np.array([640.0, -300.0])))
        self.assertIsNone(on_ground(self.camera, self.camera.project(foot)[0], farthest=2.0))


class WaysTest(unittest.TestCase):
    """All ways of saying how the ground lies give the true one, alone and mixed."""

    @classmethod
    def setUpClass(cls):
        cls.true = Seeded(seed=0, frames=40, tracks=300, moving=0)
        cls.tracks = make_tracks(cls.true.frame, cls.true.track, cls.true.xy)
        cls.solve = solve(cls.tracks, 1280, 720, SolveSettings(), Job())
        number = np.unique(cls.true.track)
        cls.place = cls.true.points[number[cls.solve.point_ids]]
        cls.up = np.mean([cls.solve.R[i].T @ cls.true.cameras[f].R[:, 2] for i, f in enumerate(cls.solve.frames)], 0)

    def line(self, frame, a, b):
        camera = self.true.cameras[frame]
        ends = [camera.project(np.array(p, float))[0] for p in (a, b)]
        return PictureLine(frame, *(tuple(float(v) for v in e) for e in ends))

    def horizon(self, frame):
        """Where the true camera sees the horizon, drawn from edge to edge of the picture."""
        camera = self.true.cameras[frame]
        ends = []
        for x in (200.0, 1000.0):
            low, high = -2000.0, 3000.0
            for _ in range(60):
                y = (low + high) / 2
                low, high = (y, high) if camera.rays(np.array([x, y]))[2] > 0 else (low, y)
            ends.append((x, low))
        return PictureLine(frame, *ends)

    def test_each_way_and_mixed(self):
        flat = tuple(int(i) for i in self.solve.point_ids[self.place[:, 2] == 0])
        posts = (self.line(10, (-2, 5, 0), (-2, 5, 2)), self.line(10, (3, 6, 0), (3, 6, 2)), self.line(30, (0, 4, 0), (0, 4, 1.5)))
        ways = {
            "points": Ground(on_ground=flat),
            "uprights": Ground(uprights=posts),
            "horizon": Ground(horizon=self.horizon(20)),
            "one upright and horizon": Ground(uprights=posts[:1], horizon=self.horizon(20)),
            "all": Ground(on_ground=flat, uprights=posts, horizon=self.horizon(20)),
        }
        for name, said in ways.items():
            scene = reference(self.solve, said)
            self.assertLess(lean(scene.R[2], self.up / np.linalg.norm(self.up)), 0.3, name)
            self.assertLess(float(np.median(np.abs(scene.points(self.solve.xyz)[self.place[:, 2] == 0, 2]))) / scene.scale, 0.05, name)

    def test_one_upright_leans_the_scene_only_as_far_as_it_tells(self):
        # where it leans towards the camera is not told by one line: what was found by itself stands
        off = self.line(10, (-2, 5, 0), (-1.93, 5, 2))  # two degrees off upright, in the picture's plane
        up = reference(self.solve, Ground(uprights=(off,))).R[2]
        true = self.up / np.linalg.norm(self.up)
        found = reference(self.solve, Ground()).R[2]
        towards = self.solve.R[list(self.solve.frames).index(10)][2]
        self.assertLess(abs(np.rad2deg(np.arcsin(up @ towards) - np.arcsin(found @ towards))), 0.3)
        self.assertGreater(lean(up, true), 1.0)

    def test_axis_origin_distance_and_by_hand(self):
        ids, rows = self.solve.point_ids, np.flatnonzero(self.place[:, 2] == 0)
        a, b = rows[0], rows[np.argmax(np.linalg.norm(self.place[rows] - self.place[rows[0]], axis=1))]
        apart = float(np.linalg.norm(self.place[a] - self.place[b]))
        said = Ground(on_ground=tuple(int(i) for i in ids[rows]), origin=int(ids[a]), spans=(Span(int(ids[a]), int(ids[b]), apart),))
        for axis, k in (("x", 0), ("y", 1)):
            points = reference(self.solve, with_span(said, int(ids[b]), int(ids[a]), along=axis)).points(self.solve.xyz)
            self.assertAlmostEqual(abs(points[b][k]), apart, delta=0.01 * apart)
            self.assertAlmostEqual(points[b][1 - k], 0.0, delta=0.01 * apart)
            np.testing.assert_allclose(points[a][:2], 0, atol=1e-9)
        self.assertEqual(with_span(with_span(said, int(ids[b]), int(ids[a]), along="x"), int(ids[a]), int(ids[b]), along="").spans, said.spans)
        # a second distance that does not agree is suited half and half; what stands upright says where up is
        c = int(ids[rows[len(rows) // 2]])
        other = float(np.linalg.norm(self.place[rows[len(rows) // 2]] - self.place[a]))
        points = reference(self.solve, with_span(said, int(ids[a]), c, metres=1.21 * other)).points(self.solve.xyz)
        self.assertAlmostEqual(float(np.linalg.norm(points[b] - points[a])), 1.1 * apart, delta=0.01 * apart)
        flat, high = self.place[:, None, :2] - self.place[None, :, :2], self.place[None, :, 2] - self.place[:, None, 2]
        foot, top = np.unravel_index((np.linalg.norm(flat, axis=2) / np.maximum(high, 1e-9) + 10 * (high < 1)).argmin(), high.shape)
        up = reference(self.solve, Ground(spans=(Span(int(ids[top]), int(ids[foot]), 0.0, "z"),))).points(self.solve.xyz)
        self.assertGreater((up[top] - up[foot])[2] / np.linalg.norm(up[top] - up[foot]), 0.999)
        plain = reference(self.solve, said)
        by_hand = reference(self.solve, msgspec.structs.replace(said, turned=(30.0, 0, 0), moved=(1.0, 2.0, 3.0), sized=2.0))
        np.testing.assert_allclose(
            by_hand.points(self.solve.xyz), 2 * plain.points(self.solve.xyz) @ turn_matrix((30.0, 0, 0)).T + [1, 2, 3], atol=1e-9
        )

    def test_what_cannot_be_is_left_out_and_told(self):
        scene, why = scene_of(self.solve, Ground(on_ground=(999_999, 999_998, 999_997)))
        self.assertIn("a place in the solve", why)
        np.testing.assert_allclose(scene.R, reference(self.solve, Ground()).R)
        of_no_frame = PictureLine(10_000, (1.0, 1.0), (5.0, 90.0))
        np.testing.assert_allclose(reference(self.solve, Ground(uprights=(of_no_frame,))).R, reference(self.solve, Ground()).R)
        no_length = PictureLine(10, (5.0, 5.0), (5.0, 5.0))
        self.assertTrue(np.isfinite(reference(self.solve, Ground(uprights=(no_length,))).R).all())

    def test_points_seen_from_little_parallax_are_unsure_along_the_view(self):
        C = point_covariances(self.solve, self.tracks)
        values, vectors = np.linalg.eigh(C)
        middle = self.solve.centres.mean(0)
        ray = self.solve.xyz - middle
        ray /= np.linalg.norm(ray, axis=1, keepdims=True)
        along = np.abs(np.einsum("ni,ni->n", ray, vectors[:, :, 2]))
        self.assertGreater(np.median(along), 0.95)
        self.assertTrue((values > 0).all())


if __name__ == "__main__":
    unittest.main()
