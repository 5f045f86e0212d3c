"""Surroundings, the lens, mirrors and the key of what moves, in the window."""

import tempfile
import unittest
from pathlib import Path

import cv2
import msgspec
import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from lodestar.app.readings import light
from lodestar.core.edits.arrange import added
from lodestar.core.evaluate.lights import lights_at
from lodestar.core.light.lamps import SunLight
from lodestar.core.matte.key import Keyer
from lodestar.core.shot.objects import Box
from tests.app.test_letters import LettersCase


class SurroundingsTest(LettersCase):
    def setUp(self):
        super().setUp()
        self.session.show_frame(46)

    def choose(self, name, word):
        box = self.find(name)
        box.setFocus()
        box.setCurrentText(word)
        box.activated.emit(box.currentIndex())

    def around(self):
        return self.session.shot.surroundings

    def test_they_are_chosen_turned_in_the_picture_and_taken_away(self):
        self.click("step-light")
        self.wait_picture()
        shot, before = self.session.shot, self.pixels().astype(int)
        self.choose("surroundings-kind", "Dusk")
        self.assertTrue(self.around().on and self.around().kind == "dusk")
        self.assertIn("dusk", light(self.session.shot).second)
        self.assertFalse(any(lamp.on for lamp in self.session.shot.lamps if lamp.name == "Sky"))
        self.wait_picture()
        self.assertGreater(np.abs(self.pixels().astype(int) - before).max(), 40)
        self.session.use_tool("surroundings")
        heading, tilt = (value.at(46)[0] for value in (self.around().heading, self.around().tilt))
        self.drag([(500.0, 300.0), (600.0, 300.0), (700.0, 260.0)])
        self.assertGreater(self.around().heading.at(46)[0], heading + 5, "to the right")
        self.assertGreater(self.around().tilt.at(46)[0], tilt + 1, "and up")
        sun = [light for light in lights_at(self.session.shot, 46) if isinstance(light, SunLight)]
        self.click("surroundings-sun")
        self.assertEqual(
            len([light for light in lights_at(self.session.shot, 46) if isinstance(light, SunLight)]), len(sun) + (1 if self.around().sun else -1)
        )
        self.choose("surroundings-kind", "None")
        self.assertFalse(self.around().on)
        for _ in range(4):
            self.session.undo()
        self.assertEqual(self.session.shot.surroundings, shot.surroundings)
        self.assertEqual(self.session.shot.lamps, shot.lamps)

    def test_a_picture_of_another_shape_is_refused_and_one_of_the_sphere_is_taken(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        square, sphere = Path(folder.name) / "square.png", Path(folder.name) / "room.hdr"
        cv2.imwrite(str(square), np.zeros((64, 64, 3), np.uint8))
        cv2.imwrite(str(sphere), np.full((64, 128, 3), 0.5, np.float32))
        self.click("step-light")
        for path, taken in ((square, False), (sphere, True)):
            self.session.ask_file = lambda *_, path=path: str(path)
            self.choose("surroundings-kind", "A picture…")
            self.assertEqual(self.around().on, taken)
        self.assertEqual(self.around().picture, str(sphere))

    def test_the_chosen_title_is_put_in_focus(self):
        self.session.select(self.title().id)
        self.click("step-finish")
        self.click("focus-object")
        focus = self.session.shot.focus
        self.assertTrue(focus.on)
        self.assertGreater(focus.distance.at(46)[0], 1.0)
        self.click("focus-on")
        self.assertFalse(self.session.shot.focus.on)

    def test_ripples_are_set_of_what_mirrors_alone(self):
        box = Box(id="water", drawn=False, hides=True)
        self.session.edit("Water", lambda shot: added(shot, box))
        self.click("step-place")
        self.session.select(box.id)
        self.session.edit_value("Mirror", box.id, "reflects", lambda v: v.changed(46, (0.0,)))
        self.settle()
        with self.assertRaises(AssertionError):
            self.find("section-its-mirror")
        self.session.edit_value("Mirror", box.id, "reflects", lambda v: v.changed(46, (0.6,)))
        self.settle()
        self.click("section-its-mirror")
        field = self.find("mirror-ripple")
        field.begin_typing("3")
        QTest.keyClick(field.editor, Qt.Key.Key_Return)
        found = next(o for o in self.session.shot.objects if o.id == box.id)
        self.assertAlmostEqual(found.ripple.at(46)[0], 0.03)

    def test_what_moves_becomes_a_matte(self):
        self.click("step-foreground")
        count = len(self.session.shot.mattes)
        self.click("key-difference")
        key = self.session.shot.mattes[-1]
        self.assertEqual((len(self.session.shot.mattes), type(key), key.by), (count + 1, Keyer, "difference"))
        self.assertEqual(self.find("section-key-of-a-colour").text(), "Key of what moves")
        self.session.undo()
        self.assertEqual(len(self.session.shot.mattes), count)

    def test_one_matte_is_written_where_one_is_chosen(self):
        self.click("step-output")
        output = self.window.panel("Output")
        self.assertNotIn("mattes", output.how())
        self.choose("output-layer", "Matte")
        self.settle()
        self.assertIsNone(output.how()["mattes"])
        matte = self.session.shot.mattes[0]
        for left in ((), (matte.id,)):  # of all that are on one is taken off, and put back by name
            self.find("output-mattes").menu().aboutToShow.emit()
            self.choose_from("output-mattes", matte.name)
            self.assertEqual(output.how()["mattes"], left)
        self.assertEqual(self.find("output-mattes").text(), matte.name)
        self.session.edit("None left", lambda shot: msgspec.structs.replace(shot, mattes=()))
        self.assertEqual(self.session.shot.mattes, ())
        self.assertEqual(output.how()["mattes"], ())


if __name__ == "__main__":
    unittest.main()
