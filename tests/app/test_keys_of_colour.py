"""Keying in the window: colours picked by clicks, mattes judged in their views, where one holds."""

import unittest
from unittest import mock

import cv2
import msgspec
import numpy as np
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from lodestar.app.commands import Finder
from lodestar.core.basics.keyed import Keyed, constant
from lodestar.core.evaluate.carrying import outline_at
from lodestar.core.matte.key import Keyer
from lodestar.core.matte.sources import CHANNELS, Outline
from tests.app.window_case import LEFT, SHIFT, WindowCase

CTRL = Qt.KeyboardModifier.ControlModifier


class KeyInWindowTest(WindowCase):
    def setUp(self):
        super().setUp()
        self.open_demo()
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

    def test_a_matte_of_a_picture_is_added_and_its_channel_chosen(self):
        path = str(self.folder / "m.png")
        cv2.imwrite(path, np.full((36, 64, 3), 255, np.uint8))
        with mock.patch.object(self.session, "ask_file", return_value=path):
            self.click("picture-matte")
            self.wait_idle()
        matte = self.key_matte()
        self.assertEqual((matte.picture, matte.channel, matte.name), (path, "brightness", "m"))
        self.find("matte-channel").activated.emit(CHANNELS.index("red"))
        self.assertEqual(self.key_matte().channel, "red")
        (self.folder / "broken.png").write_bytes(b"no picture")
        with mock.patch.object(self.session, "ask_file", return_value=str(self.folder / "broken.png")):
            self.click("picture-matte")
            self.wait_idle()
        self.assertEqual(len(self.session.shot.mattes), 2, "what cannot be read is not added")
        self.assertIn("broken.png", self.told())

    def test_the_edge_of_a_matte_is_measured(self):
        self.session.select(self.session.shot.mattes[0].id)
        self.settle()
        self.session.set("Few", first=40, last=46)
        self.click("measure-edge")
        self.wait_idle()
        self.assertRegex(self.told(), r"^The edge of Visitor is \d\.\d px wide and flickers by \d\.\d\d px \(95 %: \d\.\d\d px\)\.$")
        empty = Outline(id="gone", name="Gone", shape=constant(-50.0, -50.0, -40.0, -50.0, -40.0, -40.0))
        self.session.edit("Another", lambda s: msgspec.structs.replace(s, mattes=(*s.mattes, empty)))
        self.session.select("gone")
        self.settle()
        self.window.commands.run("measure-edge")
        self.wait_idle()
        self.assertIn("has no edge inside the picture", self.told())

    def test_what_the_mouse_does_is_told_whole_in_a_narrow_window(self):
        self.session.select(self.session.shot.mattes[0].id)
        for width in (1280, 1000):
            self.window.resize(width, 640)
            self.settle()
            hint = self.window.viewer.hint
            self.assertLessEqual(hint.geometry().right(), self.canvas.width())
            self.assertEqual(hint.wordWrap(), width == 1000, "it breaks into lines only where it must")
            if hint.wordWrap():
                self.assertGreaterEqual(hint.height(), hint.heightForWidth(hint.width()))
                self.assertGreater(hint.height(), 1.8 * hint.fontMetrics().height())
            else:
                self.assertGreaterEqual(hint.width(), hint.sizeHint().width())

    def test_one_click_replaces_the_sky_and_a_drag_turns_it(self):
        before = self.session.shot
        QTest.mouseClick(self.find("sky-on"), LEFT, pos=QPoint(12, 8))
        self.wait_idle()
        shot = self.session.shot
        self.assertTrue(shot.backdrop.on)
        self.assertEqual(shot.backdrop.mattes, (self.key_matte().id,))
        self.assertEqual(self.key_matte().name, "Sky")
        self.assertTrue(self.key_matte().far)
        self.session.select(self.key_matte().id)
        self.settle()
        QTest.mouseClick(self.find("key-far"), LEFT, pos=QPoint(12, 8))
        self.assertFalse(self.key_matte().far)
        self.session.undo()
        self.assertTrue(self.key_matte().far)
        self.click("tool-sky")
        self.drag([(640, 60), (700, 60), (740, 75)])
        self.assertGreater(abs(self.session.shot.backdrop.heading.value[0]), 3)
        # what was under the pointer went along: 100 px of a lens of some 1000 px are 5 to 6 degrees
        self.assertAlmostEqual(self.session.shot.backdrop.heading.value[0], 5.6, delta=1.0)
        self.key(Qt.Key.Key_Z, CTRL, self.window)
        self.assertEqual(self.session.shot.backdrop.heading.value[0], 0)
        self.key(Qt.Key.Key_Z, CTRL, self.window)
        self.assertIs(self.session.shot, before)

    def test_mattes_and_a_new_sky_are_found_by_their_words_from_any_step(self):
        def ask(words: str) -> None:
            self.window.commands.run("find")
            finder = self.window.findChildren(Finder)[-1]
            QTest.keyClicks(finder.text, words)
            QTest.keyClick(finder.text, Qt.Key.Key_Return)
            self.wait_idle()

        before = self.session.shot
        for words, tool in (("paint a subject", "brush"), ("draw an outline", "matte"), ("key a colour", "key")):
            self.session.show_step("Plate")
            ask(words)
            self.assertEqual((self.session.step, self.session.tool), ("Foreground", tool))
        self.session.show_step("Plate")
        ask("replace the sky")
        self.assertTrue(self.session.shot.backdrop.on and self.session.step == "Foreground")
        ask("replace the sky")
        self.assertFalse(self.session.shot.backdrop.on)
        self.session.undo()
        self.session.undo()
        self.assertIs(self.session.shot, before)

    def test_an_outline_is_carried_by_one_click_and_drawn_where_it_is_seen(self):
        matte = self.session.shot.mattes[0]
        one = msgspec.structs.replace(matte, id="patch", name="Patch", shape=Keyed((500.0, 560.0, 760.0, 560.0, 760.0, 640.0, 500.0, 640.0)))
        self.session.edit("A patch", lambda s: msgspec.structs.replace(s, mattes=(*s.mattes, one)))
        self.session.show_frame(46)
        self.session.select("patch")
        self.settle()
        QTest.mouseClick(self.find("carry-matte"), LEFT, pos=QPoint(12, 8))
        self.settle()
        patch = self.session.shot.mattes[-1]
        self.assertGreater(len(patch.carried), 3)
        self.assertTrue(patch.shape.has_key(46))
        self.session.show_frame(90)
        self.settle()
        there = outline_at(self.session.shot, patch, 90)
        self.assertGreater(np.abs(there - np.array(patch.shape.at(90)).reshape(-1, 2)).max(), 20)
        # the whole of it is dragged at this frame, from where it is seen
        self.click("tool-matte")
        middle = there.mean(0)
        self.drag([middle, middle + [10, 0]])
        found = self.session.shot.mattes[-1]
        np.testing.assert_allclose(np.array(found.shape.at(90)).reshape(-1, 2), there + [10, 0], atol=1.2)


if __name__ == "__main__":
    unittest.main()
