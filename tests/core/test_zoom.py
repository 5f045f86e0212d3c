"""Lenses that zoom within the shot."""

import unittest
from unittest import mock

import numpy as np

from lodestar.core.basics.geometry import fit_similarity
from lodestar.core.basics.job import Job
from lodestar.core.evaluate.cameras import camera_at
from lodestar.core.exchange.camera_file import camera_tree, read_camera, write_camera
from lodestar.core.media.plates import PlateInfo
from lodestar.core.shot.document import Shot
from lodestar.core.solve.adjust import Scene, adjust, project, seen
from lodestar.core.solve.camera import solve
from lodestar.core.solve.constants import SOLVER
from lodestar.core.solve.free import FreeSolver
from lodestar.core.solve.report import residuals
from lodestar.core.solve.result import SolveSettings, slip
from lodestar.core.solve.views import Table, resect
from lodestar.core.solve.zoom import looks_zooming, zoom_speeds
from lodestar.core.track.tracks import make_tracks
from tests.helpers import FolderCase, Seeded


def seeded(seed: int, zoom: float, frames: int = 80, **more):
    t = Seeded(seed=seed, frames=frames, tracks=500, sigma=0.3, moving=0.03, life=40, zoom=zoom, **more)
    return t, make_tracks(t.frame, np.unique(t.track, return_inverse=True)[1], t.xy)


def table(t, tracks) -> Table:
    return Table(tracks.frame, tracks.track, tracks.xy, t.width, t.height)


class ToldTest(unittest.TestCase):
    def test_whether_it_zooms_is_told_before_anything_is_solved(self):
        for seed in (0, 1):
            for zoom in (2.0, 0.6, 1.3, 1.0):
                for turning in (False, True):
                    self.assertEqual(looks_zooming(table(*seeded(seed, zoom, turning=turning))), zoom != 1, (seed, zoom, turning))

    def test_how_fast(self):
        t, tracks = seeded(1, 2.0)
        true = np.log(t.zoom[44] / t.zoom[20]) / 24
        self.assertAlmostEqual(zoom_speeds(table(t, tracks), 20, 44, [1000 * t.zoom[20]])[0], true, delta=0.001)


class SolvedTest(FolderCase):
    def check(self, t, s, focal: float) -> None:
        self.assertEqual(len(s.frames), len(t.cameras))
        off = s.lens.fx * s.zooms / (1000 * t.zoom) - 1
        self.assertLess(np.abs(off).max(), focal)
        self.assertLess(np.abs(off).max(), 4 * s.lens_deviation[0] / s.lens.fx, "and it says how sure it is")
        self.assertLess(s.rms_px / np.sqrt(2) / t.sigma, 1.05)

    def test_a_moving_camera_that_zooms(self):
        for seed, zoom in ((0, 2.0), (1, 0.5)):
            t, tracks = seeded(seed, zoom)
            s = solve(tracks, t.width, t.height, SolveSettings(), Job())
            self.assertIn("the lens zooms", s.why)
            self.assertEqual(s.motion, "free")
            self.check(t, s, 0.012)
            true = np.array([c.centre for c in t.cameras])
            self.assertLess(np.sqrt(((fit_similarity(s.centres, true).points(s.centres) - true) ** 2).sum(1).mean()), 0.01)
            # a title that is pinned to a place: what it says it slides, and what it does
            self.assertLess(slip(s, s.xyz[::20]).mean(), 0.3)
            self.assertLess(np.nanmedian(residuals(s, tracks)), 1.3 * t.sigma)

    def test_a_turning_camera_that_zooms(self):
        t, tracks = seeded(0, 2.0, turning=True)
        s = solve(tracks, t.width, t.height, SolveSettings(), Job())
        self.assertEqual(s.motion, "turning")
        self.check(t, s, 0.01)

    def test_a_turn_and_a_zoom_are_no_move_where_tracks_go_astray(self):
        """A camera that moves bends to such errors, and so came closer, with a focal length 43 % off."""
        t = Seeded(seed=23, frames=42, tracks=420, sigma=0.25, turning=True, zoom=1.4, astray=0.03)
        s = solve(make_tracks(t.frame, t.track, t.xy), t.width, t.height, SolveSettings(), Job())
        self.assertEqual((s.motion, len(s.zoom)), ("turning", 42))
        self.assertLess(np.abs(s.lens.fx * s.zooms / (1000 * t.zoom) - 1).max(), 0.03)

    def test_a_lens_that_does_not_zoom_keeps_one_focal_length(self):
        t, tracks = seeded(2, 1.0, frames=50)
        s = solve(tracks, t.width, t.height, SolveSettings(), Job())
        self.assertEqual((len(s.zoom), s.covariance_sample.cameras.shape[-1]), (0, 6))
        with (
            mock.patch("lodestar.core.solve.camera.looks_zooming", return_value=True),
            mock.patch.object(FreeSolver, "finish", autospec=True, side_effect=FreeSolver.finish) as finish,
        ):
            same = solve(tracks, t.width, t.height, SolveSettings(), Job())
        self.assertEqual((len(same.zoom), same.lens.fx), (0, s.lens.fx))
        self.assertEqual(finish.call_count, 1, "a start that hardly zooms is not finished")
        # and when it is told to zoom, what it finds is next to none
        s = solve(tracks, t.width, t.height, SolveSettings(zoom="zooms"), Job())
        self.assertLess(np.ptp(np.log(s.zoom)), 0.01)

    def test_the_cameras_of_the_scene_and_of_the_file_zoom(self):
        t, tracks = seeded(0, 2.0)
        s = solve(tracks, t.width, t.height, SolveSettings(zoom="zooms"), Job())
        shot = Shot(plate=PlateInfo("", t.width, t.height, 80, (25, 1)), first=0, last=79, tracks=tracks, solve=s)
        camera = camera_at(shot, 40)
        self.assertAlmostEqual(camera.lens.fx, s.lens.fx * s.zoom[40])
        self.assertAlmostEqual(camera_at(shot, 40.5).lens.fx, s.lens.fx * np.sqrt(s.zoom[40] * s.zoom[41]))
        write_camera(s, 25, self.folder / "c.json")
        tree = read_camera(self.folder / "c.json")
        self.assertEqual(tree["version"], 2)
        np.testing.assert_allclose([f["zoom"] for f in tree["frames"]], s.zoom)
        self.assertNotIn("zoom", camera_tree(solve(*self.still(), SolveSettings(), Job()), 25)["frames"][0])

    def still(self):
        t, tracks = seeded(2, 1.0, frames=30)
        return tracks, t.width, t.height


class AdjustTest(unittest.TestCase):
    def test_resection_finds_the_zoom_too(self):
        t = Seeded(seed=3, frames=20, sigma=0.2, moving=0, zoom=1.5)
        X, camera = t.points[t.track[t.frame == 15]], t.cameras[15]
        K = np.array([1000.0, -0.06, 0.008])
        R, C, error, zoom = resect(t.cameras[13].R, t.cameras[13].centre, X, t.xy[t.frame == 15], K, (639.5, 359.5), zooms=True)
        self.assertAlmostEqual(zoom, t.zoom[15], delta=0.002)
        self.assertLess(np.linalg.norm(C - camera.centre), 0.02)
        self.assertLess(np.median(error), 0.5)

    def test_a_chain_of_blocks_zooms_as_one_block(self):
        t = Seeded(seed=4, frames=260, tracks=300, sigma=0.2, moving=0, life=40, zoom=1.6)
        rows = np.isin(t.track, np.flatnonzero(np.bincount(t.track, minlength=300) >= 2))
        names, point = np.unique(t.track[rows], return_inverse=True)
        s = seen(t.frame[rows], point, t.xy[rows], len(names))
        rng = np.random.default_rng(0)
        start = Scene(
            np.array([c.R for c in t.cameras]),
            np.array([c.centre for c in t.cameras]),
            t.points[names],
            np.array([1000.0, -0.06, 0.008]),
            zoom=t.zoom * np.exp(0.002 * rng.standard_normal(260)),
        )
        smoothness = Table(t.frame, t.track, t.xy, t.width, t.height).smoothness(np.arange(260))
        done, cost = adjust(start, s, (639.5, 359.5), loss_px=0, rounds=20, smoothness=smoothness)  # 260 frames: in blocks
        error = project(done, s.frame, s.point, (639.5, 359.5))[0] - s.xy
        self.assertLess(np.sqrt((error**2).mean()), 1.02 * t.sigma)
        self.assertLess(np.abs(done.K[0] * done.zoom / (1000 * t.zoom) - 1).max(), 0.02)
        with mock.patch("lodestar.core.solve.adjust.SOLVER", SOLVER._replace(whole=1000)):
            whole, _ = adjust(start, s, (639.5, 359.5), loss_px=0, rounds=20, smoothness=smoothness)
        np.testing.assert_allclose(whole.K[0] * whole.zoom, done.K[0] * done.zoom, rtol=1e-6)
        self.assertLess(abs(0.5 * (error**2).sum() / cost - 1), 0.01, "what holds the zoom costs next to nothing")


if __name__ == "__main__":
    unittest.main()
