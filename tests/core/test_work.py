"""The long steps on tracks, from shot to shot: what they refuse and why, and that hand-placed tracks outlive a new tracking."""

import os
import unittest
from unittest import mock

import cv2
import msgspec
import numpy as np

from lodestar.core.basics.errors import Cancelled, OutputError, PlateError, SolveError, TrackError
from lodestar.core.basics.job import Job
from lodestar.core.media.plates import MoviePlate, probe
from lodestar.core.picture import workshop
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot, rebased, solving_inputs, tracks_are_stale, with_plate
from lodestar.core.shot.objects import Card
from lodestar.core.track.edit import lengths
from lodestar.core.track.tracks import make_tracks
from lodestar.core.work.delivery import deliver
from lodestar.core.work.tracking import add_tracks, coverage_of, join_same, place_track, suggest_regions, track_shot
from tests.helpers import DEMO, FolderCase, numbered, texture, write_clip

SIZE = (360, 640)


class WorkCase(FolderCase):
    def setUp(self):
        super().setUp()
        base = (texture(500, 900) * 255).astype(np.uint8)
        pictures = [np.repeat(base[50 : 50 + SIZE[0], 40 + 3 * i : 40 + 3 * i + SIZE[1], None], 3, 2) for i in range(20)]
        info = probe(write_clip(self.folder / "slide.mp4", pictures))
        self.shot = Shot(plate=info, first=0, last=info.count - 1)


class HeldTest(WorkCase):
    """A frame that is held against others before and after it."""

    def test_frames_that_follow_each_other_are_read_once_and_in_their_order(self):
        workshop.small_frames.clear()
        asked, read = [], MoviePlate.frame
        here = workshop.Workshop()
        self.addCleanup(here.close)
        with mock.patch.object(MoviePlate, "frame", lambda plate, index: asked.append(index) or read(plate, index)):
            for middle in (8, 10, 11):
                smalls = here.smalls(self.shot.plate, middle - 6, middle, middle + 6)
                for index, small in zip((middle - 6, middle, middle + 6), smalls, strict=True):
                    self.assertIs(small, here.small(self.shot.plate, index))
        self.assertEqual(asked[:3], [2, 8, 14])
        self.assertEqual(asked[3:], [*range(4, 8), *range(9, 14), 15, 16, 17])

    def test_going_back_reads_some_frames_ahead_and_a_damaged_one_there_is_none_of_its_business(self):
        workshop.small_frames.clear()
        asked, read = [], MoviePlate.frame
        here = workshop.Workshop()
        self.addCleanup(here.close)

        def frame(plate, index):
            asked.append(index)
            if index == 6:
                raise PlateError("That frame is damaged.", "")
            return read(plate, index)

        with mock.patch.object(MoviePlate, "frame", frame):
            for middle in (17, 16, 15, 14):
                here.smalls(self.shot.plate, middle - 2, middle, middle + 2)
            self.assertEqual(asked[:3], [15, 17, 19])
            self.assertEqual(asked[3:], [*range(4, 15), 16, 18])
            with self.assertRaises(PlateError):
                here.smalls(self.shot.plate, 6, 8, 10)


class TracksTest(WorkCase):
    def test_a_place_by_hand_starts_the_tracks_and_outlives_a_new_tracking(self):
        shot = place_track(self.shot, None, 8, np.array([300.0, 180.0]), 12.0, Job())
        self.assertEqual((shot.tracks.count, int(lengths(shot.tracks)[0])), (1, 20))
        self.assertFalse(tracks_are_stale(shot))
        again = track_shot(shot, Job())
        self.assertGreater(again.tracks.count, 50)
        number = int(again.tracks.keys[0, 0])
        self.assertEqual(number, again.tracks.count - 1)
        np.testing.assert_allclose(again.tracks.keys[0, 1:], [8, 300, 180])
        own = again.tracks.xy[again.tracks.track == number]
        np.testing.assert_allclose(own[-1] - own[0], [-57, 0], atol=0.3)  # 3 px a frame to the left
        moved = place_track(again, number, 15, own[15] + [2.0, 0.0], 12.0, Job())
        self.assertEqual(len(moved.tracks.keys), 2)
        self.assertNotEqual(solving_inputs(moved), solving_inputs(again))  # a correction makes the solve stale
        self.assertIs(moved.regions, again.regions)
        short = msgspec.structs.replace(again, first=10)
        for ask in (
            lambda: place_track(short, None, 4, np.array([300.0, 180.0]), 12.0, Job()),
            lambda: add_tracks(short, 4, own[:3] * 1.0, 3, Job()),
        ):
            with self.assertRaises(TrackError) as told:
                ask()
            self.assertIn("outside in and out", told.exception.what)

    def test_more_in_one_place_or_why_not(self):
        with self.assertRaises(TrackError) as told:
            add_tracks(self.shot, 5, np.array([[200, 100], [300, 100], [300, 200]]), 5, Job())
        self.assertIn("no tracks yet", told.exception.what)
        with self.assertRaises(PlateError):
            track_shot(Shot(), Job())
        few = rebased(self.shot, tracks=make_tracks(np.arange(3), np.zeros(3, int), np.zeros((3, 2))))
        corners = np.array([[200, 100], [320, 100], [320, 220], [200, 220]])
        more = add_tracks(few, 5, corners, 8, Job())
        self.assertGreater(more.tracks.count, 10)
        self.assertGreaterEqual(lengths(more.tracks)[1:].min(), 8)
        self.assertEqual(int(coverage_of(corners, few).sum()), 121 * 121)

        class Stops(Job):
            def step(self, share, text=""):
                if share > 0.2:
                    self.cancel()
                super().step(share, text)

        with self.assertRaises(Cancelled):
            add_tracks(few, 5, corners, 8, Stops())

    def test_joining_what_is_one_point_after_in_and_out_were_moved(self):
        shot = msgspec.structs.replace(files.read(DEMO), last=60)
        found = [join_same(s)[1] for s in (shot, msgspec.structs.replace(shot, last=99))]
        self.assertEqual(found[0], found[1])

    def test_what_needs_a_solve_says_so(self):
        for ask in (lambda shot: suggest_regions(shot, Job()), join_same):
            with self.assertRaises(SolveError) as told:
                ask(self.shot)
            self.assertIn("only after a solve", told.exception.what)
            self.assertTrue(told.exception.hint)

    def test_contrast_and_blur_make_the_tracks_stale(self):
        shot = track_shot(self.shot, Job())
        for change in ({"contrast": 0.5}, {"blur_px": 1.0}):
            self.assertTrue(tracks_are_stale(msgspec.structs.replace(shot, follow=msgspec.structs.replace(shot.follow, **change))))


class SourcesTest(FolderCase):
    """Nothing is written over what it is made from, through links and other spellings of the path too."""

    def setUp(self):
        super().setUp()
        self.clip = write_clip(self.folder / "clip.mp4", numbered(6))
        self.shot = with_plate(Shot(), probe(self.clip))

    def refused(self, path, shot=None) -> None:
        before = {p.name: p.read_bytes() for p in self.folder.iterdir() if p.is_file()}
        with self.assertRaises(OutputError) as told:
            deliver(shot or self.shot, path, Job(), quality="draft")
        self.assertIn("would be lost", told.exception.what)
        self.assertIn("-titled", told.exception.hint)
        self.assertEqual({p.name: p.read_bytes() for p in self.folder.iterdir() if p.is_file()}, before)

    def test_a_movie_over_its_clip(self):
        (self.folder / "in").mkdir()
        (self.folder / "soft.mp4").symlink_to(self.clip)
        os.link(self.clip, self.folder / "hard.mp4")
        for path in (self.clip, self.folder / "in" / ".." / "clip.mp4", self.folder / "soft.mp4", self.folder / "hard.mp4"):
            self.refused(path)

    def test_pictures_over_their_sequence_and_a_movie_over_a_card(self):
        for i in range(4):
            cv2.imwrite(str(self.folder / f"plate.{i:04}.png"), np.full((36, 64, 3), 90, np.uint8))
        self.refused(self.folder / "plate.%04d.png", with_plate(Shot(), probe(self.folder / "plate.0000.png")))
        other = write_clip(self.folder / "card.mp4", numbered(3))
        card = Card(id="c", pattern="picture", picture=str(other))
        self.refused(other, msgspec.structs.replace(self.shot, objects=(card,)))
        deliver(self.shot, self.folder / "clip-titled.mp4", Job(), quality="draft")


if __name__ == "__main__":
    unittest.main()
