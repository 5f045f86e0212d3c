"""Plates in and deliveries out: exact frames, tags, sound, and every kind of bad file."""

import errno
import os
import signal
import threading
import time
import unittest
from fractions import Fraction
from unittest import mock

import av
import cv2
import numpy as np

from lodestar.core.basics import apart
from lodestar.core.basics.colour import Colour
from lodestar.core.basics.errors import Cancelled, OutputError, PlateError
from lodestar.core.basics.job import Job
from lodestar.core.media import decoding, deliveries, pictures, plates, stills
from lodestar.core.media.decoding import Planes, planes_in
from lodestar.core.media.pictures import picture_frame
from lodestar.core.media.plates import open_plate, probe
from lodestar.core.media.yuv import frame_from, planes_of, rgb_of, with_filmed
from lodestar.core.shot.document import Shot, with_plate
from lodestar.core.work.delivery import deliver
from tests.helpers import FolderCase, number_of, numbered, write_clip


class UntouchedTest(FolderCase):
    def test_what_nobody_changed_is_written_with_the_codes_that_were_filmed(self):
        """Codes over 235 and under 16 are allowed in limited range (ITU-R BT.709-6, 4.6: video data 1 to 254); red, green and blue of 8 bits cannot
        hold them."""
        luma = np.tile(np.arange(4, 252, dtype=np.uint8), (64, 1))[:, :240]
        blue, red = (np.full((32, 120), v, np.uint8) for v in (120, 140))
        blue[:, 60:], red[10:, :] = 240, 16
        filmed = Planes(luma, blue, red, 8)
        colour = Colour()
        before = rgb_of(filmed, colour)
        self.assertEqual(before[0, -1].max(), 255)
        picture = before.copy()
        picture[20:40, 100:160] //= 2
        plain = planes_of(picture, colour, 8)
        self.assertGreater(int(np.abs(plain.luma.astype(int) - luma).max()), 5)
        made = with_filmed(plain, picture, before, filmed, colour)
        inside = np.zeros(luma.shape, bool)
        inside[20:40, 100:160] = True
        np.testing.assert_array_equal(made.luma[~inside], luma[~inside])
        np.testing.assert_array_equal(made.luma[inside], plain.luma[inside])
        # a colour sample is filmed where all px that it is made of are
        touched = np.zeros(blue.shape, bool)
        touched[10:20, 50:81] = True  # columns 99 to 160: the sample at 160 takes in column 159
        np.testing.assert_array_equal(made.blue[~touched], blue[~touched])
        np.testing.assert_array_equal(made.blue[touched], plain.blue[touched])
        np.testing.assert_array_equal(made.red[~touched], red[~touched])
        self.assertIs(with_filmed(plain, picture, before[:, :200], filmed, colour), plain)
        deep = planes_of(picture, colour, 10)
        self.assertIs(with_filmed(deep, picture, before, filmed, colour), deep)

    def test_the_rim_of_a_shadow_over_white_is_no_step(self):
        filmed = Planes(np.full((32, 128), 250, np.uint8), *(np.full((16, 64), 128, np.uint8) for _ in range(2)), 8)
        before = rgb_of(filmed, Colour())
        shadow = np.linspace(0, 0.5, 128)
        picture = np.rint(before * (1 - shadow)[:, None]).astype(np.uint8)
        plain = planes_of(picture, Colour(), 8).luma[5].astype(int)
        luma = with_filmed(planes_of(picture, Colour(), 8), picture, before, filmed, Colour()).luma[5].astype(int)
        self.assertEqual((luma[0], plain[0]), (250, 235))  # cut at white, a shadow of one code would be 15 codes deep
        self.assertLess(np.abs(np.diff(luma)).max(), 3)
        np.testing.assert_array_equal(luma[-60:], plain[-60:])

    def test_a_movie_keeps_what_is_over_white(self):
        frames = []
        for _ in range(4):
            frame = frame_from(Planes(np.full((96, 160), 250, np.uint8), *(np.full((48, 80), 128, np.uint8) for _ in range(2)), 8))
            frames.append(frame)
        clip = self.folder / "bright.mp4"
        with av.open(str(clip), "w") as container:
            stream = container.add_stream("libx264", rate=25)
            stream.width, stream.height, stream.pix_fmt, stream.options = 160, 96, "yuv420p", {"crf": "5"}
            for number, frame in enumerate(frames):
                frame.pts, frame.time_base = number, Fraction(1, 25)
                container.mux(stream.encode(frame))
            container.mux(stream.encode())
        shot = with_plate(Shot(), probe(clip))
        deliver(shot, self.folder / "out.mp4", Job())
        with av.open(str(self.folder / "out.mp4")) as container:
            luma = planes_in(next(container.decode(video=0))).luma
        self.assertLess(np.abs(luma.astype(int) - 250).max(), 3, "cut at white it would be 235")


class Fragile(decoding.Movie):
    """A decoder that dies of frame 5 and does not come back from frame 6, as where one writes over its own memory."""

    def picture(self, index: int, rgb: bool) -> dict:
        if index == 5:
            os.kill(os.getpid(), signal.SIGSEGV)
        if index == 6:
            time.sleep(60)
        return super().picture(index, rgb)


class Stillborn(decoding.Movie):
    """One that dies of the header of a file that is named so."""

    def __init__(self, data: bytes) -> None:
        if b"killer" in data:
            os.kill(os.getpid(), signal.SIGSEGV)
        super().__init__(data)


class FragilePictures(stills.Pictures):
    """The same for single pictures."""

    def read(self, path: str, form: str, most_side: int) -> dict:
        os.kill(os.getpid(), signal.SIGSEGV)
        return {}


class DecoderThatDiesTest(FolderCase):
    def test_a_frame_that_a_decoder_dies_of_is_told_and_the_others_come(self):
        clip = write_clip(self.folder / "a.mp4", numbered(8))
        info, target = probe(clip), "tests.core.test_media:Fragile"
        with mock.patch.object(plates, "MOVIE", target):
            plate = open_plate(info)
            self.addCleanup(plate.close)
            for index, seconds, said in ((5, 10.0, "could not"), (6, 0.5, "longer than")):
                self.assertEqual(number_of(plate.frame(4)), 4)
                with mock.patch.object(apart, "SECONDS", seconds), self.assertRaises(PlateError) as told:
                    plate.frame(index)
                self.assertIn(f"Frame {index} of a.mp4", told.exception.what)
                self.assertIn(said, told.exception.what)
            began = time.monotonic()
            for index in (5, 6):  # at once, and by another reader too
                with self.assertRaises(PlateError):
                    plates.open_plate(info).frame(index)
            self.assertLess(time.monotonic() - began, 5)
            self.assertEqual([number_of(plate.frame(index)) for index in (7, 3)], [7, 3])
            # one that was ended from outside while it had nothing to do is not held against the frame that comes next
            child = plate._reader._child
            signal.pidfd_send_signal(child._pid, signal.SIGKILL)
            while not child.is_gone:
                time.sleep(0.01)
            self.assertEqual(number_of(plate.frame(2)), 2)
        # another file of that name is read anew
        write_clip(clip, numbered(9))
        other = open_plate(probe(clip))
        self.addCleanup(other.close)
        self.assertEqual(number_of(other.frame(5)), 5)

    def test_a_picture_that_a_decoder_dies_of_is_not_tried_again_until_it_changes(self):
        picture = self.folder / "p.png"
        cv2.imwrite(str(picture), np.zeros((4, 4, 3), np.uint8))
        pictures._reader.cache_clear()
        self.addCleanup(pictures._reader.cache_clear)
        with mock.patch.object(pictures, "PICTURES", "tests.core.test_media:FragilePictures"), self.assertRaises(PlateError) as told:
            picture_frame(str(picture), 0)
        pictures._reader.cache_clear()
        self.assertIn("p.png", told.exception.what)
        for read in (lambda: picture_frame(str(picture), 0), lambda: probe(picture)):
            with self.assertRaises(PlateError):
                read()
        os.utime(picture, (1, 1))
        self.assertEqual(picture_frame(str(picture), 0).shape, (4, 4, 4))

    def test_who_cancels_does_not_wait_for_a_decoder(self):
        clip = write_clip(self.folder / "a.mp4", numbered(8))
        job = Job()
        with mock.patch.object(plates, "MOVIE", "tests.core.test_media:Fragile"):
            plate = open_plate(probe(clip))
            self.addCleanup(plate.close)
            threading.Timer(0.2, job.cancel).start()
            began = time.monotonic()
            with self.assertRaises(Cancelled), apart.checked(job.check):
                plate.frame(6)
        self.assertLess(time.monotonic() - began, 5)
        other = open_plate(probe(clip))
        self.addCleanup(other.close)
        self.assertEqual(number_of(other.frame(6)), 6, "it is held against the frame")


class MovieTest(FolderCase):
    def test_a_clip_that_is_read_backward_is_decoded_a_few_times_and_not_once_a_frame(self):
        clip = write_clip(self.folder / "back.mp4", numbered(60), gop=60)
        movie, starts = decoding.Movie(bytes(clip)), []
        start, number = movie._start, lambda index: number_of(rgb_of(Planes(**movie.picture(index, False)), Colour()))
        size = sum(plane.buffer_size for plane in movie._decode(59).planes)
        with (
            mock.patch.object(movie, "_start", lambda index=0: (starts.append(index), start(index))),
            mock.patch.object(decoding, "BACK_BYTES", 25 * size),
        ):
            back = [number(index) for index in range(58, -1, -1)]
            self.assertEqual(back, list(range(58, -1, -1)))
            self.assertLessEqual(len(starts), 3)  # 14 times where four frames are kept
            self.assertLessEqual(len(movie._kept), 25)
            number(1), number(2)
            self.assertLessEqual(len(movie._kept), 25)
            self.assertEqual([number(index) for index in range(3, 60)], list(range(3, 60)))
            self.assertLessEqual(len(movie._kept), decoding.KEPT_FRAMES, "forward again little is kept")

    def test_a_jump_ahead_decodes_on_where_no_key_frame_lies_between(self):
        for gop, jumps in ((90, [33]), (15, [33, 60])):  # where all changes between two pictures a key frame is put in, too
            clip = write_clip(self.folder / f"ahead{gop}.mp4", numbered(90), gop=gop)
            movie, starts = decoding.Movie(bytes(clip)), []
            start = movie._start
            movie._start = lambda index=0, start=start, starts=starts: (starts.append(index), start(index))
            self.assertEqual([number_of(rgb_of(Planes(**movie.picture(i, False)), Colour())) for i in (33, 60)], [33, 60])
            self.assertEqual(starts, jumps, "each begins at a key frame, from which all that lies between is decoded")

    def test_frames_are_exact_in_a_long_gop(self):
        clip = write_clip(self.folder / "long.mp4", numbered(60), gop=60)
        info = probe(clip)
        self.assertEqual((info.width, info.height, info.count, info.rate), (160, 96, 60, (25, 1)))
        plate = open_plate(info)
        self.addCleanup(plate.close)
        for index in (0, 1, 2, 37, 36, 59, 3, 58, 0):
            self.assertEqual(number_of(plate.frame(index)), index)
        with self.assertRaises(PlateError):
            plate.frame(60)

    def test_other_containers_and_rates(self):
        for name, codec, fps in (("a.mov", "libx264", Fraction(30000, 1001)), ("b.mkv", "libx264", Fraction(24)), ("c.webm", "libvpx", Fraction(30))):
            info = probe(write_clip(self.folder / name, numbered(20), fps, codec=codec))
            self.assertEqual(info.count, 20)
            self.assertAlmostEqual(info.fps, float(fps), delta=0.01)
            plate = open_plate(info)
            self.assertEqual(number_of(plate.frame(13)), 13)
            plate.close()

    def test_colours_come_through(self):
        # Rec.709 limited range: a pure grey of 90 stays 90, within one code value of rounding
        info = probe(write_clip(self.folder / "grey.mp4", numbered(4)))
        plate = open_plate(info)
        self.addCleanup(plate.close)
        self.assertLessEqual(np.abs(plate.frame(1)[60:].astype(int) - 90).max(), 2)
        self.assertEqual(info.transfer, "rec709")

    def test_bad_files_are_told(self):
        good = write_clip(self.folder / "good.mp4", numbered(30)).read_bytes()
        (self.folder / "text.mp4").write_text("this is no movie")
        (self.folder / "empty.mp4").write_bytes(b"")
        (self.folder / "cut.mp4").write_bytes(good[: len(good) // 2])
        for name in ("text.mp4", "empty.mp4", "cut.mp4", "missing.mp4"):
            with self.assertRaises(PlateError) as told:
                probe(self.folder / name)
            self.assertIn(name, told.exception.what)
            self.assertTrue(told.exception.hint)

    def test_a_stream_without_a_decoder_is_told(self):
        svg = self.folder / "star.svg"
        svg.write_text("<svg xmlns='http://www.w3.org/2000/svg' viewBox='0 0 1 1'><path d='M0 0h1v1z'/></svg>")
        with self.assertRaises(PlateError) as told:
            probe(svg)
        self.assertIn("star.svg", told.exception.what)

    def test_a_cut_end_of_a_streaming_file_leaves_what_came_before(self):
        clip = write_clip(self.folder / "whole.mkv", numbered(40), gop=8)
        cut = self.folder / "cut.mkv"
        cut.write_bytes(clip.read_bytes()[: int(clip.stat().st_size * 0.6)])
        info = probe(cut)
        self.assertTrue(5 < info.count < 40)
        plate = open_plate(info)
        self.addCleanup(plate.close)
        self.assertEqual(number_of(plate.frame(3)), 3)

    def test_a_picture_that_changes_its_size_is_named(self):
        # two transport streams in a row are one file whose picture changes
        first, second = (
            write_clip(self.folder / name, numbered(12, 160, height), start=start) for name, height, start in (("a.ts", 96, 0), ("b.ts", 128, 12))
        )
        both = self.folder / "both.ts"
        both.write_bytes(first.read_bytes() + second.read_bytes())
        plate = open_plate(probe(both))
        self.addCleanup(plate.close)
        self.assertEqual(number_of(plate.frame(5)), 5)
        with self.assertRaises(PlateError) as told:
            for index in range(12, 24):
                plate.frame(index)
        self.assertIn("changes its size at frame", told.exception.what)

    def test_a_movie_of_one_frame_is_a_plate(self):
        info = probe(write_clip(self.folder / "one.mp4", numbered(1)))
        self.assertEqual(info.count, 1)


class SequenceTest(FolderCase):
    def write(self, count: int, size=(40, 30)) -> None:
        for i in range(count):
            cv2.imwrite(str(self.folder / f"plate.{i + 11:04}.png"), np.full((size[1], size[0], 3), i * 20, np.uint8))

    def test_numbers_make_a_clip(self):
        self.write(6)
        info = probe(self.folder / "plate.0013.png", Fraction(24))
        self.assertEqual((info.count, info.first_number, info.kind, info.fps), (6, 11, "sequence", 24.0))
        self.assertEqual(open_plate(info).frame(4)[0, 0, 0], 80)

    def test_a_picture_of_another_size_is_named(self):
        self.write(5)
        cv2.imwrite(str(self.folder / "plate.0013.png"), np.zeros((20, 20, 3), np.uint8))
        with self.assertRaises(PlateError) as told:
            open_plate(probe(self.folder / "plate.0011.png")).frame(2)
        self.assertIn("plate.0013.png is 20 × 20", told.exception.what)

    def test_exr_goes_out_and_in(self):
        out = deliveries.SequenceDelivery(self.folder / "light.%04d.exr")
        picture = np.linspace(0, 4, 48, dtype=np.float32).reshape(4, 4, 3)
        out.add(7, picture)
        out.finish()
        info = probe(self.folder / "light.0007.exr")
        self.assertEqual(info.transfer, "linear")
        np.testing.assert_allclose(open_plate(info).frame(0), picture, rtol=1e-3)


class DeliveryTest(FolderCase):
    def deliver(self, name: str, sound=None, count: int = 20):
        out = deliveries.open_delivery(self.folder / name, Fraction(25), 160, 96, Colour(), sound)
        for i, picture in enumerate(numbered(count)):
            out.add(i, picture)
        return out

    def test_a_movie_plays_at_its_rate_with_the_sound_of_its_range(self):
        clip = write_clip(self.folder / "clip.mp4", numbered(50), sound=True)
        out = deliveries.open_delivery(self.folder / "out.mp4", Fraction(25), 160, 96, Colour(), (str(clip), 0.8, 1.6))
        for picture in numbered(20):
            out.add(0, picture)
        out.finish()
        with av.open(str(self.folder / "out.mp4")) as movie:
            stream = movie.streams.video[0]
            self.assertEqual(stream.average_rate, 25)
            self.assertEqual((stream.codec_context.color_trc, stream.codec_context.colorspace), (1, 1))
            frames = [f.to_ndarray(format="rgb24") for f in movie.decode(stream)]
            self.assertEqual([number_of(f) for f in frames], list(range(20)))
        with av.open(str(self.folder / "out.mp4")) as movie:
            sound = np.concatenate([f.to_ndarray()[0] for f in movie.decode(audio=0)])
        # the tone begins at 1.0 s of the clip, so at 0.2 s of the range
        loud = np.flatnonzero(np.abs(sound) > 0.2)[0] / 48000
        self.assertAlmostEqual(loud, 0.2, delta=0.03)

    def test_abandoning_leaves_nothing(self):
        for name in ("a.mp4", "b.%04d.png"):
            self.deliver(name).abandon()
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_a_full_disk_is_told_and_leaves_nothing(self):
        (self.folder / "old.0000.png").write_bytes(b"old")
        with mock.patch("pathlib.Path.write_bytes", side_effect=OSError(errno.ENOSPC, "full")):
            out = deliveries.open_delivery(self.folder / "old.%04d.png", Fraction(25), 160, 96, Colour(), None)
            with self.assertRaises(OutputError) as told:
                out.add(0, numbered(1)[0])
        self.assertIn("disk is full", told.exception.what)
        self.assertEqual([p.name for p in self.folder.iterdir()], ["old.0000.png"])
        self.assertEqual((self.folder / "old.0000.png").read_bytes(), b"old")

    def test_places_that_cannot_be_written(self):
        with self.assertRaises(OutputError) as told:
            self.deliver("nowhere/out.mp4")
        self.assertIn("does not exist", told.exception.what)
        with mock.patch("pathlib.Path.touch", side_effect=OSError(errno.EACCES, "no")), self.assertRaises(OutputError) as told:
            self.deliver("out.mp4")
        self.assertIn("no permission", told.exception.what)
        with self.assertRaises(OutputError):
            self.deliver("out.gif")


if __name__ == "__main__":
    unittest.main()
