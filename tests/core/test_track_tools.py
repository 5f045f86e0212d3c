"""Changes to tracks: added, placed by hand, corrected, deleted, joined, chosen by rules; and what the tracker is shown."""

import unittest

import cv2
import numpy as np

from lodestar.core.basics.errors import TrackError
from lodestar.core.basics.job import Job
from lodestar.core.track.edit import added, deleted, inside, joined, lengths, lonely, replaced, seen_twice
from lodestar.core.track.follow import FollowSettings
from lodestar.core.track.hand import follow_by_hand, more_here
from lodestar.core.track.preprocess import prepare
from lodestar.core.track.tracks import make_tracks, spans
from tests.helpers import texture

SIZE = (480, 640)


def slides(index: int) -> np.ndarray:
    """(2,) px by which frame `index` lies to the right and down of frame 0."""
    return np.array([3.0 * index, 0.8 * index + 2 * np.sin(index / 3)])


class Clip:
    """A texture that slides; frames are counted as they are read."""

    def __init__(self) -> None:
        self.base, self.read = (texture(700, 900) * 255).astype(np.float32), 0

    def __call__(self, index: int) -> np.ndarray:
        self.read += 1
        shift = np.float32([[1, 0, slides(index)[0] - 100], [0, 1, slides(index)[1] - 100]])
        return np.clip(cv2.warpAffine(self.base, shift, SIZE[::-1], flags=cv2.INTER_CUBIC), 0, 255).astype(np.uint8)


def two_tracks():
    frame = np.r_[np.arange(5), np.arange(3, 9)]
    track = np.r_[np.zeros(5, int), np.ones(6, int)]
    return make_tracks(frame, track, np.stack([frame * 2.0 + 5 * track, frame * 1.0], 1))


class EditTest(unittest.TestCase):
    def test_numbers_are_kept_when_a_track_is_deleted(self):
        tracks = deleted(two_tracks(), np.array([0]))
        self.assertEqual((tracks.count, lengths(tracks).tolist()), (2, [0, 6]))
        self.assertEqual(spans(tracks)[1].tolist(), [-1, 8])
        self.assertTrue(tracks.rejected[0])
        np.testing.assert_array_equal(tracks.xy[tracks.starts[1]], two_tracks().xy[5])

    def test_joining_takes_the_mean_where_both_are(self):
        tracks = joined(two_tracks(), np.array([1, 0]))
        self.assertEqual(lengths(tracks).tolist(), [9, 0])
        np.testing.assert_allclose(tracks.xy[tracks.frame == 3], [[8.5, 3.0]])
        self.assertEqual(tracks.rejected.tolist(), [False, True])
        with self.assertRaises(ValueError):
            joined(tracks, np.array([0]))

    def test_new_tracks_get_new_numbers(self):
        rows = [(f, np.array([7, 9]) if f < 3 else np.array([9]), np.zeros((2 if f < 3 else 1, 2)) + f) for f in range(6)]
        tracks = added(two_tracks(), rows, least_frames=4, keys=np.array([[9.0, 2, 2, 2]]))
        self.assertEqual((tracks.count, lengths(tracks).tolist()), (3, [5, 6, 6]))
        np.testing.assert_array_equal(tracks.keys, [[2, 2, 2, 2]])
        again = replaced(tracks, 2, np.arange(3), np.ones((3, 2)), np.array([[1.0, 1, 1]]))
        self.assertEqual(lengths(again).tolist(), [5, 6, 3])
        np.testing.assert_array_equal(again.keys, [[2, 1, 1, 1]])

    def test_rules(self):
        rng = np.random.default_rng(0)
        near, far = rng.uniform(0, 60, (20, 2)), np.array([[500.0, 400.0]])
        places = np.concatenate([near, far])
        frame, track = np.repeat(np.arange(4), 21), np.tile(np.arange(21), 4)
        tracks = make_tracks(frame, track, places[track])
        self.assertEqual(lonely(tracks, 3).tolist(), [20])
        mask = np.zeros((480, 640), bool)
        mask[390:410, 490:510] = True
        self.assertEqual(inside(tracks, {0: mask, 2: mask}).tolist(), [20])

    def test_a_point_that_was_lost_and_found_again(self):
        """A point passes behind a post: two tracks, and the prediction of each goes through the other."""
        frames = np.arange(20)
        path = np.stack([10.0 * frames, 3.0 * frames], 1)
        one, other, stranger = frames[:8], frames[12:], frames[12:]
        frame = np.r_[one, other, stranger]
        track = np.r_[np.zeros(8, int), np.ones(8, int), np.full(8, 2)]
        xy = np.concatenate([path[one], path[other] + 0.3, path[other] + [0, 25]])
        tracks = make_tracks(frame, track, xy)
        predicted = np.stack([path, path + 0.3, path + [0, 25]])
        self.assertEqual(seen_twice(tracks, predicted, np.full(3, 0.2)), [(0, 1)])


class HandTest(unittest.TestCase):
    def setUp(self):
        self.clip = Clip()

    def test_more_tracks_in_one_place_live_both_ways(self):
        place = np.zeros(SIZE, bool)
        place[200:300, 250:380] = True
        rows = more_here(self.clip, range(24), 12, place, np.zeros((0, 2)), FollowSettings(), 15, lambda i: None, Job())
        tracks = added(make_tracks(np.zeros(0, int), np.zeros(0, int), np.zeros((0, 2))), rows, 15)
        self.assertGreater(tracks.count, 20)
        self.assertGreaterEqual(lengths(tracks).min(), 15)
        first, last = spans(tracks)
        self.assertTrue((first < 12).any() and (last > 12).any())
        at = tracks.frame == 12
        x, y = tracks.xy[at].T
        self.assertTrue(((x > 248) & (x < 382) & (y > 198) & (y < 302)).all())
        base = np.array([slides(int(f)) for f in tracks.frame])
        start = tracks.xy[at][np.searchsorted(tracks.track[at], tracks.track)] - slides(12)
        self.assertLess(np.median(np.linalg.norm(tracks.xy - base - start, axis=1)), 0.05)
        self.assertLess(self.clip.read, 24 + 12)  # going backward does not read the clip again and again

    def test_nothing_there_is_told(self):
        place = np.zeros(SIZE, bool)
        place[200:220, 250:280] = True
        grey = lambda i: np.full(SIZE, 90, np.uint8)
        with self.assertRaises(TrackError) as told:
            more_here(grey, range(10), 5, place, np.zeros((0, 2)), FollowSettings(), 5, lambda i: None, Job())
        self.assertIn("nothing more to follow", told.exception.what)
        with self.assertRaises(TrackError) as told:
            more_here(self.clip, range(10), 5, place, np.zeros((0, 2)), FollowSettings(), 50, lambda i: None, Job())
        self.assertIn("none could be followed for 50 frames", told.exception.what)

    def test_one_placed_by_hand_and_corrected(self):
        start = np.array([300.0, 240.0])
        frames, xy = follow_by_hand(self.clip, range(20), np.array([[8, *start]]), 12.0, Job())
        np.testing.assert_array_equal(frames, np.arange(20))
        true = start + [slides(int(f)) - slides(8) for f in frames]
        self.assertLess(np.linalg.norm(xy - true, axis=1).max(), 0.1)
        # a correction at frame 16 that says 1 px more: both places are met, and between them it is blended
        wanted = true[16] + [1.0, 0.0]
        frames, bent = follow_by_hand(self.clip, range(20), np.array([[8, *start], [16, *wanted]]), 12.0, Job())
        np.testing.assert_allclose(bent[[8, 16]], [start, wanted], atol=1e-9)
        self.assertAlmostEqual(bent[12][0] - true[12][0], 0.5, delta=0.1)
        with self.assertRaises(TrackError) as told:
            follow_by_hand(self.clip, range(20), np.array([[8, 3.0, 240.0]]), 12.0, Job())
        self.assertIn("edge", told.exception.what)


class EyesTest(unittest.TestCase):
    def test_contrast_and_blur_are_for_the_tracker(self):
        weak = (texture(240, 320) * 12 + 100).astype(np.uint8)
        self.assertIs(prepare(weak, 0.0, 0.0), weak)
        self.assertGreater(prepare(weak, 1.0, 0.0).std(), 2 * weak.std())
        noise = np.random.default_rng(0).integers(0, 255, (240, 320)).astype(np.uint8)
        # white noise through a Gaussian of 2 px keeps 1 / (2 sqrt(pi) 2) of its deviation
        self.assertAlmostEqual(prepare(noise, 0.0, 2.0).std() / noise.std(), 1 / (4 * np.sqrt(np.pi)), delta=0.02)


if __name__ == "__main__":
    unittest.main()
