"""The clean plate, and the key of what it does not show, on the demo, whose passer-by is known."""

import tempfile
import unittest
from pathlib import Path

import cv2
import msgspec
import numpy as np

from lodestar.core.basics.errors import PlateError
from lodestar.core.basics.job import Job
from lodestar.core.basics.keyed import constant
from lodestar.core.edits.settle import with_solve
from lodestar.core.matte.key import Keyer, differing_cover
from lodestar.core.picture.frame import frame
from lodestar.core.picture.workshop import close_workshop
from lodestar.core.shot import files
from lodestar.core.work.delivery import deliver, sources_of
from tests.helpers import DEMO

KEY = Keyer(id="k", name="k", by="difference", tolerance=constant(0.035), fade=constant(0.03), specks=constant(6.0))
BODY = slice(295, 480), slice(340, 375)  # rows and columns within the passer-by at frame 46
PAVING = slice(560, 700), slice(200, 1100)


class CleanTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.shot = files.read(DEMO)
        cls.plate = frame(cls.shot, 46, layer="plate").pixels.astype(int)
        cls.clean = frame(cls.shot, 46, layer="clean").pixels.astype(int)
        cls.addClassCleanup(close_workshop)

    def test_who_passes_is_gone_and_the_place_stays(self):
        red = lambda picture: float((picture[290:380, 340:375, 0] - picture[290:380, 340:375, 2]).mean())
        self.assertGreater(red(self.plate), 45, "a red pullover")
        self.assertLess(red(self.clean), 20, "a grey wall")
        self.assertLess(float(np.abs(self.plate - self.clean)[PAVING].mean()), 4.0)

    def test_the_key_finds_what_moves(self):
        shot = msgspec.structs.replace(self.shot, mattes=(KEY,))
        found = frame(shot, 46, layer="matte", mattes=("k",)).pixels
        self.assertGreater(float(found[BODY].mean()), 0.9)
        self.assertLess(float(found[PAVING].mean()), 0.01)

    def test_it_is_written_as_the_clip_is_coded(self):
        with tempfile.TemporaryDirectory() as folder:
            shot = msgspec.structs.replace(self.shot, first=46, last=46)
            deliver(shot, Path(folder) / "clean.%04d.png", Job(), layer="clean")
            written = cv2.imread(str(Path(folder) / "clean.0046.png"))[..., ::-1].astype(int)
        np.testing.assert_array_equal(written, self.clean)

    def test_surroundings_are_files_of_the_shot_that_are_never_written_over(self):
        around = msgspec.structs.replace(self.shot.surroundings, picture="/somewhere/room.hdr")
        self.assertIn(Path("/somewhere/room.hdr"), sources_of(msgspec.structs.replace(self.shot, surroundings=around)))

    def test_without_a_solve_there_is_none(self):
        bare = with_solve(self.shot, None)
        with self.assertRaises(PlateError):
            frame(bare, 46, layer="clean")
        bare = msgspec.structs.replace(bare, mattes=(KEY,))
        self.assertEqual(float(frame(bare, 46, layer="matte", mattes=("k",)).pixels.max()), 0.0)

    def test_an_edge_that_is_off_by_a_px_is_no_difference(self):
        edge = np.zeros((20, 20, 3), np.float32)
        edge[:, 10:] = 0.8
        moved, known = np.roll(edge, 1, 1), np.ones((20, 20), bool)
        moved[:, 0] = 0
        self.assertEqual(float(differing_cover(KEY, edge, moved, known, 0)[:, 2:-2].max()), 0.0)
        self.assertGreater(float(differing_cover(KEY, edge, np.roll(edge, 4, 1), known, 0).max()), 0.9)
        self.assertEqual(float(differing_cover(KEY, edge, np.roll(edge, 4, 1), ~known, 0).max()), 0.0)


if __name__ == "__main__":
    unittest.main()
