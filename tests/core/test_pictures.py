"""Pictures on cards: alpha, sequences, movies, and what cannot be shown."""

import struct
import unittest
import zlib
from fractions import Fraction
from pathlib import Path
from unittest import mock

import cv2
import msgspec
import numpy as np

from lodestar.core.basics.errors import PlateError
from lodestar.core.basics.keyed import constant
from lodestar.core.edits.stone import with_picture
from lodestar.core.evaluate.cameras import camera_at
from lodestar.core.evaluate.objects import items_of, problem_of
from lodestar.core.media.pictures import picture_frame, picture_size
from lodestar.core.picture.frame import frame
from lodestar.core.shot import files
from lodestar.core.shot.files import media_of
from lodestar.core.shot.objects import Card
from tests.factory import make_shot
from tests.helpers import FolderCase, number_of, numbered, write_clip


class PicturesTest(FolderCase):
    def test_a_png_keeps_its_alpha(self):
        rgba = np.zeros((6, 8, 4), np.uint8)
        rgba[:, :4] = (10, 200, 30, 255)
        rgba[:, 4:] = (240, 10, 20, 64)
        cv2.imwrite(str(self.folder / "a.png"), cv2.cvtColor(rgba, cv2.COLOR_RGBA2BGRA))
        np.testing.assert_array_equal(picture_frame(str(self.folder / "a.png"), 5), rgba)
        self.assertEqual(picture_size(str(self.folder / "a.png")), (8, 6))

    def test_movies_and_sequences_play_and_begin_anew(self):
        movie = write_clip(self.folder / "m.mp4", numbered(9), Fraction(25))
        self.assertEqual([number_of(picture_frame(str(movie), i)[..., :3]) for i in (0, 4, 8, 9, 13)], [0, 4, 8, 0, 4])
        for i, picture in enumerate(numbered(4)):
            cv2.imwrite(str(self.folder / f"s.{i:03}.png"), picture)
        self.assertEqual([number_of(picture_frame(str(self.folder / "s.001.png"), i)[..., :3]) for i in (0, 3, 5)], [0, 3, 1])

    def test_what_is_missing_broken_or_too_large_is_told(self):
        (self.folder / "broken.png").write_bytes(b"\x89PNG\r\n\x1a\n not more than that")
        (self.folder / "broken.mp4").write_bytes(b"hello")
        for name in ("gone.png", "gone.mp4", "broken.png", "broken.mp4"):
            with self.assertRaises(PlateError) as told:
                picture_size(str(self.folder / name))
            self.assertIn(name, told.exception.what)
        # a picture of 20,000 px that says so in its head, of a few bytes: it is refused before it is unpacked
        chunk = lambda kind, data: struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
        for wide, high, word in ((20_000, 9_000, "20,000"), (20_000, 20_000, "8,192")):
            head = chunk(b"IHDR", struct.pack(">IIBBBBB", wide, high, 8, 2, 0, 0, 0))
            body = head + chunk(b"IDAT", zlib.compress(b"\0" * (3 * wide + 1))) + chunk(b"IEND", b"")
            (self.folder / f"{high}.png").write_bytes(b"\x89PNG\r\n\x1a\n" + body)
            with mock.patch("av.VideoFrame.to_ndarray", side_effect=AssertionError("it was unpacked")), self.assertRaises(PlateError) as told:
                picture_size(str(self.folder / f"{high}.png"))
            self.assertIn(word, told.exception.what + told.exception.hint)

    def test_a_card_whose_movie_goes_missing_is_told_and_the_picture_goes_on(self):
        movie = write_clip(self.folder / "m.mp4", numbered(5))
        card = Card(id="c", pattern="picture", picture=str(movie), position=constant(-1.0, 3.0, 0.0), width=constant(1.6), height=constant(1.0))
        shot = msgspec.structs.replace(make_shot(clip=self.folder / "clip.mp4"), objects=(card,))
        shown = frame(shot, 3, "draft").pixels
        self.assertEqual(problem_of(card, 3), "")
        movie.unlink()
        self.assertIn("m.mp4", problem_of(card, 3))
        # the picture goes on, with the card in its own colour where the movie was
        bare = msgspec.structs.replace(card, pattern="plain", picture="")
        plain = frame(msgspec.structs.replace(shot, objects=(bare,)), 3, "draft").pixels
        np.testing.assert_array_equal(frame(shot, 3, "draft").pixels, plain)
        self.assertGreater((shown != plain).mean(), 0.003)

    def test_a_movie_is_laid_over_letters_and_plays_from_their_first_frame(self):
        shades = [np.full((48, 64, 3), level, np.uint8) for level in (40, 120, 230)]
        movie = write_clip(self.folder / "m.mp4", shades, gop=1)
        shot = make_shot(clip=self.folder / "clip.mp4")
        made = with_picture(shot, "t0", str(movie))
        title = made.objects[0]
        self.assertEqual((title.texture, title.texture_movie), ("picture", str(movie)))
        late = msgspec.structs.replace(title, span=(4, 30))
        laid = lambda item, index: int(items_of(made, item, index)[0].texture.picture[..., :3].mean())
        for item, index, level in ((title, 0, 40), (title, 2, 230), (title, 4, 120), (late, 4, 40), (late, 6, 230)):
            self.assertLess(abs(laid(item, index) - level), 4, (index, level))
        # it is found beside a shot that is moved with it, and is no place to write to
        (self.folder / "a").mkdir()
        files.write(made, self.folder / "a" / "s.lode")
        self.assertEqual(files.read(self.folder / "a" / "s.lode").objects[0].texture_movie, str(movie))
        self.assertIn(str(movie), media_of(made))
        self.assertEqual(problem_of(title, 3), "")
        with mock.patch("lodestar.core.media.pictures.picture_frame", side_effect=AssertionError("read again")):
            self.assertEqual(problem_of(title, 3), "", "asked of the window's thread: a file that stays is tried once")
        movie.unlink()
        self.assertIn("m.mp4", problem_of(title, 3))
        self.assertLess(abs(laid(title, 2) - 40), 6, "its first picture, which the shot keeps")
        self.assertEqual(with_picture(made, "t0", str(self._still())).objects[0].texture_movie, "")

    def _still(self) -> Path:
        cv2.imwrite(str(self.folder / "still.png"), np.full((20, 20, 3), 99, np.uint8))
        return self.folder / "still.png"

    def test_alpha_cuts_the_card_and_its_shadow(self):
        rgba = np.zeros((64, 64, 4), np.uint8)
        rgba[:32] = (255, 0, 255, 255)
        cv2.imwrite(str(self.folder / "half.png"), cv2.cvtColor(rgba, cv2.COLOR_RGBA2BGRA))
        card = Card(
            id="c",
            pattern="picture",
            picture=str(self.folder / "half.png"),
            position=constant(-1.0, 3.0, 0.0),
            width=constant(1.6),
            height=constant(1.6),
        )
        base = msgspec.structs.replace(make_shot(clip=self.folder / "clip.mp4"), objects=())
        plate, with_card = (frame(s, 3, "draft").pixels.astype(int) for s in (base, msgspec.structs.replace(base, objects=(card,))))
        pink = (with_card[..., 0] - with_card[..., 1] > 60) & (with_card[..., 2] - with_card[..., 1] > 40)
        rows = np.flatnonzero(pink.any(1))
        top, half, foot = (camera_at(base, 3).project(np.array([-1.0, 3.0, z]))[0][1] for z in (1.6, 0.8, 0.0))
        np.testing.assert_allclose([rows[0], rows[-1]], [top, half], atol=6)
        changed = (np.abs(with_card - plate).max(2) > 12) & ~pink
        self.assertGreater(changed[int(foot) - 40 :].sum(), 200, "the seen half throws a shadow on the ground")


if __name__ == "__main__":
    unittest.main()
