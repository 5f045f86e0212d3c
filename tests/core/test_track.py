"""Features and following, on pictures whose motion is known."""

import unittest

import cv2
import numpy as np

from lodestar.core.basics.errors import Cancelled, TrackError
from lodestar.core.basics.job import Job
from lodestar.core.track.features import detect
from lodestar.core.track.follow import Crowd, FollowSettings, follow
from lodestar.core.track.refine import place_alone
from lodestar.core.track.tracks import spans
from tests.helpers import texture


def zooming(index: int) -> np.ndarray:
    """(2, 3) map of the first picture to frame `index`: it slides, turns and grows."""
    turn, size = np.deg2rad(0.25 * index), 1 + 0.004 * index
    c, s = size * np.cos(turn), size * np.sin(turn)
    return np.array([[c, -s, 3.3 * index - 0.0 + 20 * s], [s, c, 0.7 * index - 20 * s]])


class FollowTest(unittest.TestCase):
    def setUp(self):
        self.base = (texture(480, 640) * 255).astype(np.float32)
        self.noise = np.random.default_rng(5)

    def luma(self, index: int) -> np.ndarray:
        moved = cv2.warpAffine(self.base, zooming(index), (640, 480), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
        return np.clip(moved + 2.0 * self.noise.standard_normal(moved.shape), 0, 255).astype(np.uint8)

    def test_tracks_stay_on_their_points(self):
        tracks = follow(self.luma, range(24), FollowSettings(count=150), lambda i: None, Job())
        self.assertGreater(tracks.count, 100)
        error = []
        for k in range(tracks.count):
            own = slice(*tracks.starts[k : k + 2])
            frames, xy = tracks.frame[own], tracks.xy[own]
            first = cv2.invertAffineTransform(zooming(int(frames[0]))) @ [*xy[0], 1]
            error += [np.linalg.norm(zooming(int(f)) @ [*first, 1] - p) for f, p in zip(frames[1:], xy[1:])]
        # noise of two code values; drift would grow with the 24 frames
        self.assertLess(np.median(error), 0.12)
        self.assertLess(np.percentile(error, 95), 0.6)

    def test_a_change_of_light_blur_and_size_is_survived(self):
        """A flash to 1.6 times the light, a frame of motion blur, and a flight towards it by 1.5: most tracks go through all of it."""

        def luma(index: int) -> np.ndarray:
            size = 1 + 0.5 * index / 20
            shift = np.array([[size, 0, 320 * (1 - size)], [0, size, 240 * (1 - size)]])
            moved = cv2.warpAffine(self.base, shift, (640, 480), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
            if index in (9, 10, 11):
                moved = cv2.blur(moved, (7, 1))
            light = 0.55 * (1 + 0.6 * np.exp(-(((index - 14) / 2) ** 2)))
            return np.clip(light * moved + 20 + 1.5 * self.noise.standard_normal(moved.shape), 0, 255).astype(np.uint8)

        tracks = follow(luma, range(21), FollowSettings(count=200), lambda i: None, Job())
        first, last = spans(tracks)
        through = (first <= 6) & (last == 20)
        self.assertGreater(through.sum(), 60)
        error = []
        for k in np.flatnonzero(through):
            own = slice(*tracks.starts[k : k + 2])
            size = 1 + 0.5 * tracks.frame[own] / 20
            place = (tracks.xy[own] - [320, 240]) / size[:, None]
            error.append(np.linalg.norm(place[-1] - place[0]) * size[-1])
        self.assertLess(np.median(error), 0.15)

    def test_a_quick_turn_is_survived(self):
        """The picture is thrown aside by up to 28 px a frame, and with its shutter open all the time it is blurred by as much."""
        place = np.concatenate([[0], np.cumsum(2 + 26 * np.exp(-(((np.arange(1, 24) - 12) / 3.0) ** 2)))])
        wide = (texture(480, 1200) * 255).astype(np.float32)

        def luma(index: int) -> np.ndarray:
            open_for = np.interp(index + np.linspace(-0.5, 0.5, 24), np.arange(24), place)
            moved = np.mean([cv2.warpAffine(wide, np.array([[1, 0, 30 - x], [0, 1, 0]]), (640, 480)) for x in open_for], axis=0)
            return np.clip(moved + 1.5 * self.noise.standard_normal(moved.shape), 0, 255).astype(np.uint8)

        tracks = follow(luma, range(24), FollowSettings(count=200), lambda i: None, Job())
        first, last = spans(tracks)
        self.assertGreater(((first <= 9) & (last >= 15)).sum(), 75)
        own = tracks.xy[:, 0] + place[tracks.frame]
        off = own - (np.bincount(tracks.track, own) / np.bincount(tracks.track))[tracks.track]
        self.assertLess(np.median(np.abs(off)), 0.45)

    def test_patches_at_the_edge_have_none_to_move_by(self):
        picture = self.luma(0)
        crowd = Crowd(picture, np.array([[320.0, 240.0], [4.0, 240.0]]))
        held = place_alone(crowd.inverses)
        self.assertFalse(held[1].any())
        self.assertTrue((np.linalg.eigvalsh(held[0, 4:, 4:]) > 0).all())
        self.assertFalse(held[0, :4].any() or held[0, :, :4].any())
        self.assertEqual(crowd.settle(picture, picture, crowd.xy, np.full(2, 0.5), np.full(2, 1.0), None, 2.0).tolist(), [True, False])

    def test_followed_backward_too(self):
        """The right half is bare until frame 7; features are looked for at every fifth frame, so what appears there is found at 10."""

        def luma(index: int) -> np.ndarray:
            picture = self.luma(0).astype(np.float32)
            if index < 7:
                picture[:, 320:] = 128 + self.noise.standard_normal((480, 320))
            return np.clip(picture, 0, 255).astype(np.uint8)

        tracks = follow(luma, range(16), FollowSettings(count=150), lambda i: None, Job())
        first = tracks.frame[tracks.starts[:-1]]
        right = tracks.xy[tracks.starts[:-1], 0] > 360
        self.assertGreater(right.sum(), 30)
        self.assertGreater((first[right] <= 8).mean(), 0.8)
        self.assertGreater(first[right].min(), 4)

    def test_regions_are_kept_out(self):
        hidden = np.zeros((480, 640), bool)
        hidden[:, :320] = True
        tracks = follow(self.luma, range(8), FollowSettings(count=100), lambda i: hidden, Job())
        self.assertGreater(tracks.xy[:, 0].min(), 318)

    def test_what_cannot_be_followed_is_told(self):
        black = np.zeros((240, 320), np.uint8)
        with self.assertRaises(TrackError) as told:
            follow(lambda i: black, range(10), FollowSettings(), lambda i: None, Job())
        self.assertIn("texture", told.exception.what)
        with self.assertRaises(TrackError):
            follow(self.luma, range(1), FollowSettings(), lambda i: None, Job())
        with self.assertRaises(TrackError) as told:
            follow(lambda i: np.zeros((240 + i, 320), np.uint8), range(9), FollowSettings(), lambda i: None, Job())
        self.assertIn("changes its size", told.exception.what)

    def test_cancel(self):
        job = Job()

        def luma(index: int) -> np.ndarray:
            if index == 3:
                job.cancel()
            return self.luma(index)

        with self.assertRaises(Cancelled):
            follow(luma, range(10), FollowSettings(), lambda i: None, job)


class FeaturesTest(unittest.TestCase):
    def test_spread_evenly_and_apart(self):
        picture = (texture(360, 640) * 255).astype(np.uint8)
        picture[:, :320] = picture[:, :320] // 5 + 90  # one half is weak in texture
        points = detect(picture, None, np.zeros((0, 2)), 120, 14)
        left = (points[:, 0] < 320).mean()
        self.assertTrue(0.3 < left < 0.7, left)
        gaps = np.linalg.norm(points[:, None] - points, axis=2) + 1e9 * np.eye(len(points))
        self.assertGreaterEqual(gaps.min(), 14)

    def test_noise_alone_is_no_feature(self):
        rng = np.random.default_rng(0)
        grey = np.clip(120 + 2.5 * rng.standard_normal((360, 640)), 0, 255).astype(np.uint8)
        self.assertLess(len(detect(grey, None, np.zeros((0, 2)), 300, 14)), 30)


if __name__ == "__main__":
    unittest.main()
