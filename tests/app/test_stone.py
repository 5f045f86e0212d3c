"""A title of the place's own stone, and of a picture, in the window."""

import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np

from lodestar.core.basics.keyed import constant
from tests.app.test_letters import LettersCase


class StoneTest(LettersCase):
    def setUp(self):
        super().setUp()
        self.session.show_frame(46)
        self.click("step-place")
        self.session.select(self.title().id)
        self.settle()

    def test_a_click_on_the_paving_makes_the_title_of_it(self):
        self.wait_picture()
        shot, before = self.session.shot, self.pixels().astype(int)
        self.click("section-pattern")
        self.click("texture-place")
        self.assertEqual(self.session.tool, "stone")
        self.drag([(600.0, 560.0)])
        self.wait_idle()
        self.assertEqual(self.title().texture, "picture")
        self.assertGreater(len(self.title().texture_picture), 1000)
        self.wait_picture()
        self.assertGreater(np.abs(self.pixels().astype(int) - before).max(), 40)
        self.session.undo()
        self.assertEqual(self.session.shot.objects, shot.objects)
        self.session.select("")
        self.drag([(600.0, 560.0)])
        self.assertEqual(self.session.shot.objects, shot.objects)
        self.assertIn("No title", self.session.messages[-1].what)

    def test_a_picture_is_laid_over_it_and_kept(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        path = Path(folder.name) / "tile.png"
        cv2.imwrite(str(path), np.full((64, 64, 3), (10, 20, 200), np.uint8))
        self.session.ask_file = lambda *_: str(path)
        self.click("section-pattern")
        self.click("texture-picture")
        self.wait_idle()
        self.assertEqual(self.title().texture, "picture")
        path.unlink()
        self.wait_picture()
        self.session.edit_item("None", self.title().id, texture="none")
        self.session.undo()
        self.assertEqual(self.title().texture, "picture")

    def test_maps_of_relief_and_roughness_are_laid_over_it_and_taken_off(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        path = Path(folder.name) / "bumps.png"
        cv2.imwrite(str(path), np.rint(127 + 100 * np.sin(np.arange(64) / 64 * 8 * np.pi)[None, :].repeat(64, 0)).astype(np.uint8))
        self.session.ask_file = lambda *_: str(path)
        self.session.edit_item("Rough", self.title().id, texture_size=constant(0.2), relief=constant(0.1), texture="none")
        self.wait_picture()
        before = self.pixels().astype(int)
        self.click("section-pattern")
        for kind in ("relief", "roughness"):
            self.click(f"{kind}-map")
            self.wait_idle()
            self.assertTrue(getattr(self.title(), f"{kind}_map"))
            self.assertEqual(self.find(f"{kind}-map").text(), f"No {kind} map")
        self.assertEqual(self.title().texture, "picture")
        path.unlink()
        self.wait_picture()
        self.assertGreater(np.abs(self.pixels().astype(int) - before).max(), 25)
        for kind in ("relief", "roughness"):
            self.click(f"{kind}-map")
        self.assertEqual((self.title().relief_map, self.title().roughness_map, self.title().texture), (b"", b"", "none"))
        self.session.undo()
        self.assertTrue(self.title().roughness_map)


if __name__ == "__main__":
    unittest.main()
