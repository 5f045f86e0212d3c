"""Keying in the window: colours picked by clicks, mattes judged in their views, where one holds."""

import unittest

import numpy as np
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from lodestar.core.matte.key import Keyer
from tests.app.window_case import LEFT, SHIFT, WindowCase

CTRL = Qt.KeyboardModifier.ControlModifier


class KeyInWindowTest(WindowCase):
    def setUp(self):
        super().setUp()
        self.window.shot.open_demo()
        self.click("step-foreground")
        self.settle()

    def key_matte(self) -> Keyer:
        return self.session.shot.mattes[-1]

    def test_colours_are_picked_taken_away_and_undone(self):
        self.click("key-colour")
        self.click_at((640, 30))
        self.assertIsInstance(self.key_matte(), Keyer)
        self.click_at((200, 60))
        self.assertEqual(len(self.key_matte().samples), 2)
        blue = np.array(self.key_matte().samples)
        self.assertTrue((blue[:, 2] > blue[:, 0]).all(), "the sky is more blue than red")
        self.click_at((205, 60), SHIFT)
        self.assertEqual(len(self.key_matte().samples), 1)
        self.key(Qt.Key.Key_Z, CTRL, self.window)
        self.assertEqual(len(self.key_matte().samples), 2)
        for _ in range(2):
            self.key(Qt.Key.Key_Z, CTRL, self.window)
        self.assertFalse(any(isinstance(m, Keyer) for m in self.session.shot.mattes))

    def test_the_chosen_matte_is_seen_alone_and_the_picture_comes_back(self):
        self.click("key-colour")
        for at in ((640, 30), (200, 60), (470, 25), (250, 10)):
            self.click_at(at)
        self.window.viewer.show_matte("matte")
        self.wait(lambda: self.canvas.shown is not None and self.canvas.shown.layer == "matte")
        seen = self.pixels()
        rows = len(seen)
        self.assertGreater(seen[2 : rows // 14].mean(), 220)
        self.assertLess(seen[rows // 2 :].mean(), 40)
        self.click("step-finish")
        self.wait(lambda: self.canvas.shown.layer == "picture")

    def test_brightness_and_its_use_are_set_in_the_panel(self):
        self.click("key-brightness")
        key = self.key_matte()
        self.assertEqual(key.by, "brightness")
        self.click("matte-hides")
        self.assertFalse(self.key_matte().hides)
        choice = self.find("matte-within")
        choice.menu().aboutToShow.emit()
        action = next(a for a in choice.menu().actions() if a.text() == self.session.shot.mattes[0].name)
        action.trigger()
        self.settle()
        self.assertEqual(self.key_matte().within, (self.session.shot.mattes[0].id,))

    def test_one_click_replaces_the_sky_and_a_drag_turns_it(self):
        before = self.session.shot
        QTest.mouseClick(self.find("sky-on"), LEFT, pos=QPoint(12, 8))
        self.settle()
        shot = self.session.shot
        self.assertTrue(shot.backdrop.on)
        self.assertEqual(shot.backdrop.mattes, (self.key_matte().id,))
        self.assertEqual(self.key_matte().name, "Sky")
        self.click("tool-sky")
        self.drag([(640, 60), (700, 60), (740, 75)])
        self.assertGreater(abs(self.session.shot.backdrop.heading.value[0]), 3)
        # what was under the pointer went along: 100 px of a lens of some 1000 px are 5 to 6 degrees
        self.assertAlmostEqual(self.session.shot.backdrop.heading.value[0], 5.6, delta=1.0)
        self.key(Qt.Key.Key_Z, CTRL, self.window)
        self.assertEqual(self.session.shot.backdrop.heading.value[0], 0)
        self.key(Qt.Key.Key_Z, CTRL, self.window)
        self.assertIs(self.session.shot, before)


if __name__ == "__main__":
    unittest.main()
