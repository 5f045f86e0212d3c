"""The report on a solve: slip against what is measured, the words, and what moves by itself."""

import unittest

import msgspec
import numpy as np

from lodestar.core.basics.job import Job
from lodestar.core.solve.adjust import Scene, System, held_by, seen
from lodestar.core.solve.camera import solve
from lodestar.core.solve.pieces import pieces
from lodestar.core.solve.report import place_name, report
from lodestar.core.solve.result import SolveSettings, slip
from lodestar.core.solve.slip import Noise, draw_noise, noise_of
from lodestar.core.solve.views import Table, own_noise, triangulate
from lodestar.core.track.tracks import make_tracks
from tests.helpers import Seeded


def solved(t: Seeded):
    tracks = make_tracks(t.frame, t.track, t.xy)
    return tracks, solve(tracks, t.width, t.height, SolveSettings(), Job())


def pinned(t: Seeded, s, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """What slides, measured: true image places are put into the solved scene and projected again. Errors (k,), points (k,)."""
    xy, depth = (np.array(x) for x in zip(*(c.project(points) for c in t.cameras)))
    frame, point = np.nonzero((depth > 0.5) & (xy > 0).all(2) & (xy < [t.width - 1, t.height - 1]).all(2))
    true = xy[frame, point]
    X = triangulate(s.R, s.centres, frame, point, s.lens.undistort(true), len(points), 1e3)
    inside = np.einsum("kij,kj->ki", s.R[frame], X[point]) + s.t[frame]
    return np.linalg.norm(s.lens.distort(inside[:, :2] / inside[:, 2:]) - true, axis=1), point


class VerdictTest(unittest.TestCase):
    def test_one_word_from_one_rule(self):
        t = Seeded(seed=5, frames=40, tracks=260, sigma=0.2, moving=0, life=24)
        tracks, s = solved(t)
        told = report(s, tracks)
        self.assertEqual((told.state, told.word), ("good", "holds"))
        for change, state, word in (
            ({"inliers": 0.58}, "doubtful", "58 % of what"),
            ({"warning": "Only frames 0 to 20 are solved."}, "doubtful", "Only frames 0 to 20"),
        ):
            told = report(msgspec.structs.replace(s, **change), tracks)
            self.assertEqual((told.state, told.word), (state, "is doubtful"))
            self.assertIn(word.replace(" %", "%"), f"{told.verdict} {told.action}")
        short = msgspec.structs.replace(s, frames=s.frames[:30], R=s.R[:30], t=s.t[:30], frame_error=s.frame_error[:30])
        told = report(short, tracks)
        self.assertEqual((told.state, told.word), ("bad", "does not hold"))

    def test_pieces_between_cuts(self):
        t = Seeded(seed=5, frames=40, tracks=200, moving=0, life=24)
        whole = make_tracks(t.frame, t.track, t.xy)
        self.assertEqual(pieces(whole), [(0, 39)])
        number = t.track + 1000 * (t.frame >= 15) + 1000 * (t.frame >= 30)
        cut = make_tracks(t.frame, number, t.xy)
        self.assertEqual(pieces(cut), [(0, 14), (15, 29), (30, 39)])
        self.assertEqual(pieces(make_tracks(np.zeros(0, int), np.zeros(0, int), np.zeros((0, 2)))), [])


class SlipTest(unittest.TestCase):
    def test_95_of_100_errors_stay_under_it(self):
        """Over seeded shots, with errors that are new in each frame and such that last; docs/slip.png is made of more."""
        covered = []
        for seed in range(5):
            for fading in (0.0, 0.7):
                t = Seeded(seed=40 + seed, frames=40, tracks=260, sigma=0.3, moving=0, life=24, fading=fading)
                _, s = solved(t)
                points = t.points[::4] + [0, 0, 0.2]
                error, point = pinned(t, s, points)
                X = points_in(s, t, points)
                covered.append(np.mean(error < slip(s, X)[point]))
        self.assertTrue(0.91 < np.mean(covered) < 0.98, covered)

    def test_the_noise_is_told_from_the_residuals(self):
        t = Seeded(seed=3, frames=40, tracks=300, moving=0, life=30)
        s = seen(t.frame, t.track, t.xy, len(t.points))
        scene = Scene(np.array([c.R for c in t.cameras]), np.array([c.centre for c in t.cameras]), t.points, np.array([1000.0, -0.06, 0.008]))
        system = System(s, 40, held_by(True, (True, True, True)))
        system.derive(scene, (t.lens.cx, t.lens.cy), 0.0)
        system.reduce(1e-8, np.zeros(6))
        for true in (Noise(0.4), Noise(0.3, 1.0, 0.75)):
            error = draw_noise(true, s.frame, s.point, np.random.default_rng(1))
            right, pull = system.right_side(error)
            step = system.solve(right[:, None])[:, 0]
            steps = np.concatenate([step[:-6].reshape(-1, 6)[s.frame], np.repeat(step[None, -6:], len(error), 0)], 1)
            left = error + np.einsum("kij,kj->ki", system.A, steps) + np.einsum("kij,kj->ki", system.B, system.points_back(step, pull)[s.point])
            found = noise_of(system, left, 1e3)
            self.assertAlmostEqual(found.px, true.px, delta=0.12 * true.px)
            if true.share:
                self.assertAlmostEqual(found.decay, true.decay, delta=0.12)

    def test_it_grows_with_the_noise_and_towards_the_lens(self):
        rough, fine = (solved(Seeded(seed=2, frames=40, tracks=260, sigma=sigma, moving=0))[1] for sigma in (0.6, 0.2))
        far, near = np.array([0.0, 6.0, 0.0]), np.array([0.0, -4.0, 0.0])
        t = Seeded(seed=2, frames=40, tracks=260, moving=0)
        worse, better = (slip(s, points_in(s, t, np.array([far, near]))) for s in (rough, fine))
        self.assertGreater(worse[0], 2 * better[0])
        self.assertGreater(better[1], better[0])
        self.assertTrue(np.isnan(slip(fine, np.array([[0.0, -1e4, 0.0]]))[0]))
        self.assertTrue(np.isnan(slip(msgspec.structs.replace(fine, covariance_sample=None), np.zeros((1, 3)))[0]))


def points_in(s, t: Seeded, points: np.ndarray) -> np.ndarray:
    from lodestar.core.basics.geometry import fit_similarity

    return fit_similarity(np.array([c.centre for c in t.cameras])[s.frames], s.centres).points(points)


class ReportTest(unittest.TestCase):
    def test_a_good_solve_is_called_good_and_the_noise_is_the_true_one(self):
        t = Seeded(seed=1, sigma=0.3, moving=0)
        tracks, s = solved(t)
        self.assertAlmostEqual(own_noise(Table(t.frame, t.track, t.xy, 1280, 720)), 0.3, delta=0.03)
        told = report(s, tracks)
        self.assertAlmostEqual(told.ratio, 1.0, delta=0.1)
        self.assertEqual((told.state, told.action), ("good", ""))
        self.assertEqual(told.region_error.shape, (5, 8))
        self.assertEqual(len(told.frame_error), len(s.frames))
        self.assertIn("slides under", told.verdict)
        self.assertEqual(set(told.tree()) >= {"slip_px", "ratio", "region_error", "weak", "verdict", "action"}, True)

    def test_frames_with_too_few_tracks_are_named(self):
        t = Seeded(seed=1, moving=0, tracks=500)
        there = np.intersect1d(t.track[t.frame == 25], t.track[t.frame == 34])[:11]
        few = (t.frame < 25) | (t.frame > 34) | np.isin(t.track, there)
        tracks = make_tracks(t.frame[few], t.track[few], t.xy[few])
        told = report(solve(tracks, 1280, 720, SolveSettings(), Job()), tracks)
        self.assertIn("rames 25 to 34", f"{told.verdict} {told.action}")
        self.assertNotEqual(told.state, "good")

    def test_a_short_move_says_what_it_does_not_know(self):
        t = Seeded(seed=5, frames=30, tracks=200, moving=0, turning=True)
        tracks = make_tracks(t.frame, t.track, t.xy)
        told = report(solve(tracks, 1280, 720, SolveSettings(motion="free"), Job()), tracks)  # a turn, which somebody wants solved as a move
        self.assertEqual(told.state, "doubtful")
        self.assertIn("hardly moves", told.verdict)
        self.assertIn("only turns", told.action)
        _, s = solved(t)
        self.assertEqual(report(s, tracks).state, "good")

    def test_what_is_left_over_is_spoken_of_by_what_may_cause_it(self):
        for kind, cause in (({}, "a lens that bends otherwise"), ({"turning": True}, "carried round")):
            tracks, s = solved(Seeded(seed=4, moving=0, **kind))
            self.assertEqual(report(s, tracks).state, "good")
            told = report(msgspec.structs.replace(s, rms_px=2 * s.rms_px), tracks)
            self.assertEqual(told.state, "doubtful")
            self.assertIn("times the noise", told.verdict)
            self.assertIn(cause, told.action)
            # tracks of a compressed clip hang together from frame to frame: their noise looks less than it is, and what is left is not seen
            told = report(msgspec.structs.replace(s, rms_px=0.2, noise_px=0.06), tracks)
            self.assertGreater(told.ratio, 2)
            self.assertEqual(told.state, "doubtful" if kind else "good")

    def test_where_in_the_picture(self):
        self.assertEqual([place_name(0, 0), place_name(4, 7), place_name(2, 3.5), place_name(2, 0)], ["top left", "bottom right", "middle", "left"])


if __name__ == "__main__":
    unittest.main()
