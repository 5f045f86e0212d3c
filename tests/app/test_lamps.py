"""Lamps and surfaces in the window."""

import unittest

import numpy as np
from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QWidget

from lodestar.core.basics.keyed import constant
from lodestar.core.edits.lights import aim_of, near_lamps
from lodestar.core.evaluate.cameras import camera_at
from lodestar.core.light.lamps import Area, Spot, ground_reach, light_of
from tests.app.test_letters import LEFT, LettersCase


class LampsTest(LettersCase):
    def setUp(self):
        super().setUp()
        self.session.show_frame(46)
        self.click("step-light")

    def lamp(self):
        (lamp,) = near_lamps(self.session.shot)
        return lamp

    def test_a_spot_is_added_at_the_chosen_title_lights_it_and_the_ground_and_goes_again(self):
        self.wait_picture()
        before, shot = self.pixels().astype(int), self.session.shot
        self.choose_from("add-lamp", "Spot")
        self.assertIsInstance(self.lamp(), Spot)
        self.assertEqual(self.session.tool, "lamp")
        place = np.array(self.title().position.at(46))
        self.assertLess(np.linalg.norm(aim_of(self.session.shot, self.lamp(), 46) - place), 2.0)
        field = self.find("spot-strength")
        field.begin_typing("60")
        QTest.keyClick(field.editor, Qt.Key.Key_Return)
        self.wait_picture()
        xy = self.canvas.to_widget(camera_at(shot, 46).project(place + [0.0, -0.8, 0.0])[0]) - self.canvas.to_widget(np.zeros(2))
        x, y = (xy * self.canvas.devicePixelRatioF()).astype(int)
        self.assertGreater(self.pixels().astype(int)[y - 5 : y + 5, x - 5 : x + 5].mean(), before[y - 5 : y + 5, x - 5 : x + 5].mean() + 8)
        self.click("lamp-0-remove")
        self.assertEqual(near_lamps(self.session.shot), [])
        for _ in range(3):
            self.session.undo()
        self.assertEqual(self.session.shot.lamps, shot.lamps)

    def test_a_lamp_follows_a_title_that_glows(self):
        self.session.edit_item("Glow", "open-sky", glow=constant(1.5))
        self.choose_from("add-lamp", "Spot")
        choice = self.find("spot-follows")
        self.assertEqual(choice.currentText(), "itself")
        number = choice.findText("OPEN SKY")
        self.assertGreater(number, 0)
        choice.setCurrentIndex(number)
        choice.activated.emit(number)
        self.settle()
        self.assertEqual(self.lamp().follows, "open-sky")
        self.assertEqual(choice.currentText(), "OPEN SKY")

    def test_a_lamp_is_dragged_and_aimed_in_the_picture(self):
        self.choose_from("add-lamp", "Area lamp")
        self.assertIsInstance(self.lamp(), Area)
        id_, camera = self.lamp().id, camera_at(self.session.shot, 46)
        self.session.edit_value("Nearer", id_, "position", lambda v: v.changed(46, (0.0, 0.0, 1.2)))
        self.session.edit_value("Down", id_, "turn", lambda v: v.changed(46, (0.0, -60.0)))
        at = lambda p: self.canvas.to_widget(camera.project(np.asarray(p, float))[0])
        aim = aim_of(self.session.shot, self.lamp(), 46)
        start = at((0.0, 0.0, 1.2))
        self.drag([start, start + [20, 0], start + [40, -10]], plate=False)
        moved = np.array(self.lamp().position.at(46))
        np.testing.assert_allclose(at(moved), start + [40, -10], atol=1.0)
        self.assertLess(np.linalg.norm(aim_of(self.session.shot, self.lamp(), 46) - aim), 0.6, "it shines at what it shone at")
        start = at(aim_of(self.session.shot, self.lamp(), 46))
        before = self.lamp().turn.at(46)
        self.drag([start, start + [30, 0], start + [60, 0]], plate=False)
        self.assertGreater(abs(self.lamp().turn.at(46)[0] - before[0]), 1.0)
        np.testing.assert_array_equal(self.lamp().position.at(46), moved)
        self.session.undo()
        self.assertEqual(self.lamp().turn.at(46), before)

    def test_a_lamp_is_dragged_in_the_scene_too_and_shows_its_reach(self):
        self.choose_from("add-lamp", "Spot")
        id_ = self.lamp().id
        self.session.edit_value("Here", id_, "position", lambda v: v.changed(46, (0.0, 0.0, 1.5)))
        self.window.viewer.show_view("Scene")
        self.settle()
        scene = self.window.viewer.scene
        self.assertEqual(self.session.tool, "lamp")
        on = lambda p: scene.to_widget(scene.camera().project(np.asarray(p, float))[0])
        start = on((0.0, 0.0, 1.5))
        before = scene.grab().toImage()
        for kind, at, held in (
            (QEvent.Type.MouseButtonPress, start, LEFT),
            (QEvent.Type.MouseMove, start + [12, 0], LEFT),
            (QEvent.Type.MouseMove, start + [25, 5], LEFT),
            (QEvent.Type.MouseButtonRelease, start + [25, 5], Qt.MouseButton.NoButton),
        ):
            self.mouse(kind, at, held, widget=scene)
        np.testing.assert_allclose(on(self.lamp().position.at(46)), start + [25, 5], atol=1.0)
        # its reach is drawn on the ground: with the lamp off it goes
        lit = scene.grab().toImage()
        self.session.edit_item("Off", id_, on=False)
        self.settle()
        self.assertNotEqual(lit, before)
        line = ground_reach(light_of(self.lamp(), 46))
        xy = on(line)
        inside = [(x, y) for x, y in xy if 0 <= x < scene.width() and 0 <= y < scene.height()]
        self.assertGreater(len(inside), 20)
        dark = scene.grab().toImage()
        changed = sum(lit.pixel(int(x), int(y)) != dark.pixel(int(x), int(y)) for x, y in inside)
        self.assertGreater(changed, len(inside) // 4, "dashes along the line")

    def test_lamps_have_keys_and_lanes(self):
        self.choose_from("add-lamp", "Spot")
        self.click("key-spot-strength")
        self.assertTrue(self.lamp().strength.has_key(46))
        from lodestar.app.timeline.lanes import rows

        self.assertIn("Spot", [row.name for row in rows(self.session)])


class SurfacesTest(LettersCase):
    def test_a_ready_surface_is_one_step_and_can_be_changed(self):
        before = self.title()
        self.choose_from("ready-surface", "Stone, rough")
        self.assertEqual((self.title().texture, self.find("texture").currentText() if self.find_or_none("texture") else "stone"), ("stone", "stone"))
        self.unfold("pattern")
        field = self.find("relief")
        field.begin_typing("12")
        QTest.keyClick(field.editor, Qt.Key.Key_Return)
        self.assertAlmostEqual(self.title().relief.value[0], 0.12)
        self.session.undo()
        self.session.undo()
        self.assertEqual(self.title(), before)

    def find_or_none(self, name):
        return next((w for w in self.window.findChildren(QWidget, name) if w.isVisible()), None)

    def test_sides_have_a_surface_of_their_own_that_begins_as_the_face(self):
        self.unfold("surfaces-of-parts")
        self.choose_from("add-surface", "Sides")
        (surface,) = self.title().surfaces
        self.assertEqual((surface.part, surface.colour), ("sides", self.title().colour))
        field = self.find("part-metal")
        field.begin_typing("1")
        QTest.keyClick(field.editor, Qt.Key.Key_Return)
        self.assertEqual(self.title().surfaces[0].metal.value, (1.0,))
        self.assertEqual(self.title().metal.value, (0.0,))
        self.choose_from("add-surface", "Sides")  # there is one already: it is opened
        self.assertEqual(len(self.title().surfaces), 1)
        self.session.undo()
        self.session.undo()
        self.assertEqual(self.title().surfaces, ())


if __name__ == "__main__":
    unittest.main()
