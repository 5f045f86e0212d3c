"""What a new user's hand does: the wheel over fields, the keyboard after typing, choosing and deleting, clips and settings of one shot."""

import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QLabel, QWidget

from lodestar.app.session import STEPS
from lodestar.core.edits.arrange import find
from lodestar.core.evaluate.objects import box_of, pose_of
from lodestar.core.matte.sources import View, matte_of
from lodestar.core.scene.poses import moved
from lodestar.core.shot import files
from lodestar.core.shot.document import rebased
from lodestar.core.track.tracks import make_tracks
from tests.app.window_case import WindowCase
from tests.helpers import DEMO, SHOTS, numbered, write_clip


def wheel(widget: QWidget) -> bool:
    """Turn the wheel over a widget; whether it passes it on, so that what it lies in scrolls. (Qt passes on only what the system sends.)"""
    at = QPointF(widget.rect().center())
    none = Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False
    turn = QWheelEvent(at, widget.mapToGlobal(at), QPoint(), QPoint(0, -240), *none)
    QApplication.sendEvent(widget, turn)
    return not turn.isAccepted()


class DemoCase(WindowCase):
    def setUp(self):
        super().setUp()
        self.open_demo()
        self.settle()


class WheelTest(DemoCase):
    def test_the_wheel_scrolls_and_changes_nothing(self):
        self.session.select("open-sky")
        before, found = self.session.shot, 0
        for step in STEPS:
            self.session.show_step(step)
            self.settle()
            panel = self.window.panel(step)
            panel.verticalScrollBar().setValue(0)
            for widget in panel.findChildren(QWidget):
                if widget.isVisible() and widget.isEnabled() and (isinstance(widget, QComboBox) or type(widget).__name__ == "NumberField"):
                    found += 1
                    widget.setFocus()
                    index = widget.currentIndex() if isinstance(widget, QComboBox) else None
                    self.assertTrue(wheel(widget), widget.objectName())
                    self.assertEqual(index, widget.currentIndex() if isinstance(widget, QComboBox) else None, widget.objectName())
        self.assertGreater(found, 30)
        self.assertIs(self.session.shot, before)

    def test_the_sensor_belongs_to_the_shot_and_can_be_undone(self):
        self.session.show_step("Solve")
        self.settle()
        sensor, mm = self.find("sensor"), self.find("focal-mm")
        self.window.panel("Solve")._set_lens("Set focal length", focal_mm=28.0)
        self.settle()
        self.assertAlmostEqual(mm.value, 28.0, places=2)
        other = next(i for i in range(sensor.count()) if "23.5" in sensor.itemText(i) or "23.6" in sensor.itemText(i))
        sensor.setCurrentIndex(other)
        sensor.activated.emit(other)
        self.settle()
        width = self.session.shot.sensor_mm
        self.assertAlmostEqual(self.session.shot.solving.focal_px, 28.0 / width * 1280, delta=0.02)
        self.assertAlmostEqual(mm.value, 28.0, places=2)
        self.session.undo()
        self.settle()
        self.assertIn("36 mm", sensor.currentText())
        self.session.redo()
        self.session.files.save(self.folder / "a.lode")
        self.window.shot.new_shot()
        self.assertEqual(self.session.shot.sensor_mm, 36.0)
        self.assertEqual(files.read(self.folder / "a.lode").sensor_mm, width)


class KeyboardTest(DemoCase):
    def test_after_enter_and_escape_keys_go_to_the_picture(self):
        self.click("step-place")
        self.session.select("open-sky")
        self.settle()
        size, words = self.find("size"), self.find("words")
        for end in (Qt.Key.Key_Return, Qt.Key.Key_Escape):
            size.begin_typing("1.5")
            QTest.keyClick(size.editor, end)
            self.assertTrue(self.canvas.hasFocus())
        words.setFocus()
        QTest.keyClick(words, Qt.Key.Key_Escape)
        self.assertTrue(self.canvas.hasFocus())
        before = self.session.shot
        QTest.keyClick(self.window.focusWidget(), Qt.Key.Key_Space)
        self.assertTrue(self.window.time.player.playing)
        QTest.keyClick(self.window.focusWidget(), Qt.Key.Key_Space)
        self.assertFalse(self.window.time.player.playing)
        self.assertIs(self.session.shot, before)
        QTest.keyClick(self.window.focusWidget(), Qt.Key.Key_Delete)
        self.assertNotIn("open-sky", [o.id for o in self.session.shot.objects])

    def test_space_plays_also_with_a_number_field_in_hand(self):
        self.click("step-place")
        self.session.select("open-sky")
        self.settle()
        before = self.session.shot
        self.find("size").setFocus()
        QTest.keyClick(self.find("size"), Qt.Key.Key_Space)
        self.assertTrue(self.window.time.player.playing)
        self.window.time.player.toggle()
        self.assertIs(self.session.shot, before)

    def test_delete_after_choosing_a_lane(self):
        lanes = self.window.time.lanes
        QTest.mouseClick(lanes, Qt.MouseButton.LeftButton, pos=QPoint(40, 9))
        lanes.setFocus()
        chosen = self.session.selected
        self.assertTrue(chosen)
        QTest.keyClick(lanes, Qt.Key.Key_Delete)
        self.assertNotIn(chosen, [o.id for o in self.session.shot.objects])
        self.session.undo()
        matte = self.session.shot.mattes[0].id
        self.session.select(matte)
        QTest.keyClick(lanes, Qt.Key.Key_Delete)
        self.assertEqual(self.session.shot.mattes, ())

    def test_choosing_all_and_nothing(self):
        self.click("step-place")
        self.window.commands.run("choose-all")
        self.assertEqual(len(self.session.chosen_objects()), len(self.session.shot.objects))
        self.canvas.setFocus()
        QTest.keyClick(self.canvas, Qt.Key.Key_Escape)
        self.assertEqual(self.session.chosen_objects(), [])
        self.session.select("open-sky")
        self.click_at((640, 60))  # the sky: nothing of ours
        self.assertEqual(self.session.chosen_objects(), [])
        self.click("step-track")
        self.window.commands.run("choose-all")
        self.assertEqual(len(self.session.tracks), self.session.shot.tracks.count)

    def test_one_object_alone_can_be_let_go_of(self):
        for item in self.session.shot.objects[1:]:
            self.session.select(item.id)
            self.session.delete_chosen()
        (only,) = self.session.shot.objects
        self.session.select(only.id)
        self.session.select("")
        self.assertIsNone(self.session.object())

    def test_a_title_is_taken_between_two_letters(self):
        self.session.show_frame(46)
        tool, title = self.canvas.tool, find(self.session.shot, "open-sky")
        low, high = box_of(title, 46)
        ends = [moved(pose_of(self.session.shot, title, 46), np.array([x, low[1], 0.5 * (low[2] + high[2])])) for x in (low[0], high[0])]
        first, last = (tool._on_widget(end) for end in ends)
        places = [first + share * (last - first) for share in np.linspace(-0.3, 1, 400)]
        between = [at for at in places[110:390] if tool._hit(title, QPointF(*at)) is None]
        self.assertGreater(len(between), 5)
        for at, chosen in ((between[0], "open-sky"), (places[0], "")):
            self.session.select("")
            self.drag([at, at], plate=False)
            self.assertEqual(self.session.selected, chosen)


class WordsTest(DemoCase):
    def test_words_are_typed_in_lines_and_set(self):
        self.click("step-place")
        self.session.select("open-sky")
        self.settle()
        words = self.find("words")
        one = words.height()
        words.setFocus()
        words.selectAll()
        QTest.keyClicks(words, "OPEN")
        QTest.keyClick(words, Qt.Key.Key_Return)
        QTest.keyClicks(words, "SKY")
        self.settle()
        title = lambda: self.session.object()
        self.assertEqual(title().text, "OPEN\nSKY")
        self.assertGreater(words.height(), one)
        section = self.window.panel("Place").lines
        self.assertTrue(section.body.isHidden(), "what is rarely used is not folded")
        self.assertEqual(section.fact.text(), "2 lines")
        section.fold()
        self.settle()
        align = self.find("align")
        align.setCurrentIndex(0)
        align.activated.emit(0)
        self.find("title-line_spacing").begin_typing("140")
        QTest.keyClick(self.find("title-line_spacing").editor, Qt.Key.Key_Return)
        self.assertEqual((title().align, title().line_spacing.at(0)), ("left", (1.4,)))
        self.wait_picture()
        self.session.undo()
        self.session.undo()
        self.session.undo()
        self.settle()
        self.assertEqual(words.toPlainText(), "OPEN SKY")


class ClipTest(DemoCase):
    def clip(self, count: int) -> Path:
        return write_clip(self.folder / f"c{count}.mp4", numbered(count))

    def test_a_clip_makes_a_new_shot_and_unsaved_work_is_asked_about(self):
        self.session.edit_item("Type", "open-sky", text="MINE")
        before = self.session.shot
        with mock.patch("lodestar.app.shot_commands.ask", return_value="Stay here") as asked:
            self.window.shot.open_path(self.clip(6))
            self.wait_idle()
        self.assertEqual(asked.call_count, 1)
        self.assertIs(self.session.shot, before)
        self.session.snap, self.session.shifting = "far", True
        with mock.patch("lodestar.app.shot_commands.ask", return_value="Do not save"):
            self.window.shot.open_path(self.clip(6))
            self.wait_idle()
        shot = self.session.shot
        self.assertEqual((shot.plate.count, shot.objects, shot.tracks, shot.name), (6, (), None, "c6"))
        self.assertEqual((self.session.snap, self.session.shifting), ("surface", False))
        self.assertTrue(self.session.files.unsaved)
        self.assertIsNone(self.session.files.path)
        # what is kept of it goes by the name that a user saw
        self.session.files.autosave()
        self.session.files.finish_autosave()
        self.session.files.swap._file.close()  # as when the process is killed
        (left,) = self.session.files.left()
        self.assertEqual(left.note.name, "c6")

    def test_replacing_the_clip_says_what_it_keeps(self):
        before = self.session.shot
        other = self.folder / "again.mp4"
        other.write_bytes((SHOTS / "terrace.mp4").read_bytes())
        for path, kept, word in ((other, True, "were kept"), (self.clip(7), False, "were dropped")):
            with mock.patch("PyQt6.QtWidgets.QFileDialog.getOpenFileName", return_value=(str(path), "")):
                self.window.commands.run("replace-clip")
                self.wait_idle()
            self.assertEqual(self.session.shot.solve is before.solve, kept)
            self.assertIn(word, [m for m in self.session.messages if "clip of this shot" in m.what][-1].hint)
            self.assertEqual(len(self.session.shot.objects), len(before.objects))
        self.session.undo()
        self.session.undo()
        self.assertEqual(self.session.shot, before)


class OutlineTest(DemoCase):
    def setUp(self):
        super().setUp()
        self.session.set("No mattes", mattes=())
        self.click("step-foreground")
        self.click("tool-matte")

    def test_two_corners_and_enter_keep_the_corners_and_say_what_is_missing(self):
        for at in ((300, 300), (400, 300)):
            self.click_at(at)
        self.key(Qt.Key.Key_Return)
        self.assertIn("three corners, this one has two", self.told())
        self.assertTrue(self.window.strip.isVisible())
        self.click_at((350, 400))
        self.key(Qt.Key.Key_Return)
        self.assertEqual(len(self.session.shot.mattes[0].shape.at(0)), 6)
        self.assertFalse(self.window.strip.isVisible(), "the message outlives its cause")

    def test_a_click_outside_lets_an_outline_go_and_begins_none(self):
        for at in ((300, 300), (400, 300), (350, 400)):
            self.click_at(at)
        self.key(Qt.Key.Key_Return)
        tool = self.canvas.tool
        self.assertIsNotNone(tool.current())
        self.click_at((800, 200))
        self.assertIsNone(tool.current())
        self.assertEqual(tool.points, [])
        self.click_at((800, 200))
        self.assertEqual(len(tool.points), 1)

    def test_the_shapes_at_the_keys_around_are_seen_as_ghosts(self):
        for at in ((300, 300), (400, 300), (350, 400)):
            self.click_at(at)
        self.key(Qt.Key.Key_Return)
        outline, first = self.session.shot.mattes[0], self.session.frame
        moved = tuple(v + (200.0 if k % 2 == 0 else 0.0) for k, v in enumerate(outline.shape.at(first)))
        shape = outline.shape.with_key(first, outline.shape.at(first), "linear").with_key(first + 10, moved, "linear")
        self.session.edit_item("Keys", outline.id, shape=shape)
        self.session.show_frame(first + 5)
        self.wait_picture()
        with_, corner = self.window.grab().toImage(), self.canvas.to_widget((300.0, 300.0))
        self.session.select("")
        self.settle()
        without = self.window.grab().toImage()
        changed = []
        for x, y in (corner, self.canvas.to_widget((300.0 + 200.0, 300.0))):
            at = self.canvas.mapTo(self.window, QPoint(round(x), round(y)))
            near = [(at.x() + i, at.y() + j) for i in range(-4, 12) for j in range(-4, 5)]
            changed.append(sum(with_.pixel(*p) != without.pixel(*p) for p in near))
        self.assertGreater(min(changed), 5, "one at each key")

    def test_sharp_corners_sides_and_feather_are_made_in_the_picture(self):
        self.click_at((300, 300))
        self.click_at((500, 300), Qt.KeyboardModifier.ShiftModifier)
        self.click_at((500, 500))
        self.click_at((300, 500))
        self.key(Qt.Key.Key_Return)
        get = lambda: self.session.shot.mattes[0]
        self.assertEqual(get().sharp, (1,))
        corner = self.canvas.to_widget((500, 500))
        self.mouse(QEvent.Type.MouseButtonDblClick, corner)
        self.mouse(QEvent.Type.MouseButtonRelease, corner, Qt.MouseButton.NoButton)
        self.assertEqual(get().sharp, (1, 2))
        # the side between the two is straight now; dragged, it takes both along
        self.drag([(500, 400), (520, 400), (540, 400)])
        shape = np.array(get().shape.at(self.session.frame)).reshape(-1, 2)
        np.testing.assert_allclose(shape, [[300, 300], [540, 300], [540, 500], [300, 500]], atol=1)
        # a corner in the middle of it is sharp as both its neighbours are, and leaves the line where it was
        middle = self.canvas.to_widget((540, 400))
        self.mouse(QEvent.Type.MouseButtonDblClick, middle)
        self.assertEqual(get().sharp, (1, 2, 3))
        np.testing.assert_allclose(np.array(get().shape.at(self.session.frame)).reshape(-1, 2)[2], [540, 400], atol=10)
        # the feather of one corner, by Ctrl and a drag from it
        self.drag([(300, 300), (300, 280), (300, 270)], Qt.KeyboardModifier.ControlModifier)
        self.assertAlmostEqual(get().feathers[0] * get().feather.at(0)[0], 30, delta=1)
        self.assertEqual(get().feathers[1:], (1.0,) * 4)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(get().feathers, ())

    def test_handles_are_pulled_out_of_a_corner_turned_and_dropped(self):
        for at in ((300, 300), (500, 300), (500, 500), (300, 500)):
            self.click_at(at)
        self.key(Qt.Key.Key_Return)
        corner = np.array([500.0, 300.0])
        places = lambda: np.array(self.session.shot.mattes[0].shape.at(self.session.frame)).reshape(-1, 2)
        self.drag([(500, 300), (530, 320), (560, 340)], modifiers=Qt.KeyboardModifier.ShiftModifier)
        outline = self.session.shot.mattes[0]
        self.assertEqual((outline.handled, outline.count), ((1,), 4))
        np.testing.assert_allclose(places()[4:], [2 * corner - [560, 340], [560, 340]], atol=1.5)
        # one is dragged: the other stays in line, as long as it was; with Shift it stays where it is
        self.drag([(560, 340), (540, 360), (500, 380)])
        self.assertLess(float(np.abs(places()[4] - [500, 300 - np.hypot(60, 40)]).max()), 2.5)
        still = places()[4]
        self.drag([(500, 380), (480, 350), (450, 340)], modifiers=Qt.KeyboardModifier.ShiftModifier)
        np.testing.assert_allclose(places()[4], still)
        # a corner takes its handles along
        before = places()
        self.drag([(500, 300), (520, 310), (540, 320)])
        np.testing.assert_allclose(places()[[1, 4, 5]] - before[[1, 4, 5]], [[40, 20]] * 3, atol=1.5)
        self.mouse(QEvent.Type.MouseButtonDblClick, self.canvas.to_widget((540, 320)))
        self.mouse(QEvent.Type.MouseButtonRelease, self.canvas.to_widget((540, 320)), Qt.MouseButton.NoButton)
        self.assertEqual((self.session.shot.mattes[0].handled, len(places())), ((), 4))
        for _ in range(5):
            self.session.undo()
        self.assertEqual((self.session.shot.mattes[0].handled, len(places())), ((), 4))

    def test_corners_are_keyed_apart(self):
        for at in ((300, 300), (500, 300), (500, 500), (300, 500)):
            self.click_at(at)
        self.key(Qt.Key.Key_Return)
        first, get = self.session.frame, lambda: self.session.shot.mattes[0]
        places = lambda frame: np.array(get().shape.at(frame)).reshape(-1, 2)
        QTest.mouseClick(self.find("apart-matte"), Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
        self.settle()
        self.assertTrue(get().apart)
        QTest.mouseClick(self.find("steady-matte"), Qt.MouseButton.LeftButton, pos=QPoint(8, 8))  # no camera in between
        self.session.show_frame(first + 10)
        self.drag([(300, 300), (280, 260), (260, 240)])
        self.session.show_frame(first + 20)
        self.drag([(500, 500), (540, 520), (560, 540)])
        self.assertEqual([get().keyed_at(first + n) for n in (0, 10, 20)], [(0, 1, 2, 3), (0,), (2,)])
        np.testing.assert_allclose(places(first + 10)[2], (0.5 * (places(first) + places(first + 20)))[2], atol=0.1)
        np.testing.assert_allclose(places(first + 15)[0], [260, 240], atol=1.5)
        self.assertIn("1 of its 4 corners", "".join(label.text() for label in self.window.findChildren(QLabel) if label.isVisible()))
        # a handle is keyed with its corner
        self.drag([(500, 300), (530, 320), (560, 340)], modifiers=Qt.KeyboardModifier.ShiftModifier)
        self.assertEqual((get().handled, get().keyed_at(first + 20)), ((1,), (1, 2)))
        np.testing.assert_allclose(places(first + 20)[4:], [[440, 260], [560, 340]], atol=1.5)
        # moved as a whole it is keyed as a whole
        self.drag([(400, 400), (410, 410), (420, 420)])
        self.assertEqual(get().keyed_at(first + 20), (0, 1, 2, 3))

    def test_an_open_line_has_a_width_and_can_be_closed(self):
        for at in ((300, 300), (400, 320), (500, 300)):
            self.click_at(at)
        self.key(Qt.Key.Key_Return, Qt.KeyboardModifier.ShiftModifier)
        get = lambda: self.session.shot.mattes[0]
        self.assertFalse(get().closed)
        cover = matte_of((get(),), View(self.session.frame, 1280, 720))
        self.assertEqual((cover[320, 400], cover[300, 400]), (1, 0))
        self.assertTrue(self.find("outline-width").isVisible())
        QTest.mouseClick(self.find("matte-closed"), Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
        self.assertTrue(get().closed)
        self.settle()
        self.assertFalse([field for field in self.window.findChildren(QWidget, "outline-width") if field.isVisible()])
        QTest.mouseClick(self.find("matte-sharp"), Qt.MouseButton.LeftButton, pos=QPoint(8, 8))
        self.assertEqual(get().sharp, (0, 1, 2))

    def test_a_double_click_is_one_corner(self):
        self.click_at((300, 300))
        at = self.canvas.to_widget((400, 300))
        for _ in range(2):
            self.mouse(QEvent.Type.MouseButtonPress, at)
            self.mouse(QEvent.Type.MouseButtonRelease, at, Qt.MouseButton.NoButton)
        self.assertEqual(len(self.canvas.tool.points), 2)

    def test_clicks_in_the_scene_are_not_swallowed(self):
        self.click("view-scene")
        scene = self.find("scene")
        QTest.mouseClick(scene, Qt.MouseButton.LeftButton, pos=QPoint(scene.width() - 8, scene.height() - 8))
        self.settle()
        self.assertIn("works in the picture", self.told())
        self.click("strip-show-the-picture")
        self.assertTrue(self.canvas.isVisible())


class TimeTest(DemoCase):
    def wheel_over(self, widget, x: float, turn: int, modifiers=Qt.KeyboardModifier.NoModifier) -> None:
        at = QPointF(x, 8.0)
        none = Qt.ScrollPhase.NoScrollPhase, False
        event = QWheelEvent(at, widget.mapToGlobal(at), QPoint(), QPoint(0, turn), Qt.MouseButton.NoButton, modifiers, *none)
        QApplication.sendEvent(widget, event)
        self.settle()

    def test_time_is_zoomed_at_the_pointer_and_panned(self):
        ruler, axis = self.window.time.ruler, self.window.time.axis
        x = axis().x(30)
        for _ in range(6):
            self.wheel_over(ruler, x, 120)
        self.assertAlmostEqual(axis().x(30), x, delta=0.5)
        self.assertGreater(axis().room, 3 * axis().width / 100)
        self.mouse(QEvent.Type.MouseButtonPress, (axis().x(33), 8), widget=ruler)
        self.mouse(QEvent.Type.MouseButtonRelease, (axis().x(33), 8), widget=ruler)
        self.assertEqual(self.session.frame, 33)
        begin = axis().begin
        self.wheel_over(self.window.time.lanes, x, -120, Qt.KeyboardModifier.ShiftModifier)
        self.assertGreater(axis().begin, begin)
        self.session.show_frame(95)  # the playhead never leaves what is on show
        self.settle()
        self.assertTrue(axis().begin <= 95.5 <= axis().end)
        for _ in range(9):
            self.wheel_over(ruler, x, -120)
        self.assertIsNone(self.session.time_shown)

    def test_what_is_played_over_and_over_is_no_part_of_the_shot(self):
        before, ruler, axis = self.session.shot, self.window.time.ruler, self.window.time.axis()
        control = Qt.KeyboardModifier.ControlModifier
        self.mouse(QEvent.Type.MouseButtonPress, (axis.x(20), 8), modifiers=control, widget=ruler)
        self.mouse(QEvent.Type.MouseMove, (axis.x(26), 8), modifiers=control, widget=ruler)
        self.mouse(QEvent.Type.MouseButtonRelease, (axis.x(26), 8), Qt.MouseButton.NoButton, control, widget=ruler)
        self.assertEqual(self.session.loop, (20, 26))
        self.assertIs(self.session.shot, before)
        player, seen = self.window.time.player, set()
        self.session.frame_changed.connect(seen.add)
        self.key(Qt.Key.Key_Space)
        self.wait(lambda: len(seen) == 7)
        self.key(Qt.Key.Key_Space)
        self.assertFalse(player.playing)
        self.assertEqual(seen, set(range(20, 27)))
        self.window.commands.run("play-all")
        self.assertIsNone(self.session.loop)

    def test_a_key_is_as_wide_as_a_hand(self):
        self.session.edit_value("Key", "open-sky", "size", lambda v: v.with_key(40, (1.0,)))
        self.session.select("open-sky")
        self.settle()
        lanes, axis = self.window.time.lanes, self.window.time.axis()
        for off in (-7, 7):
            self.session.choose_keys(frozenset())
            QTest.mouseClick(lanes, Qt.MouseButton.LeftButton, pos=QPoint(round(axis.x(40) + off), 9))
            self.assertEqual({k[2] for k in self.session.keys}, {40})


class FieldTest(DemoCase):
    def test_no_digit_of_a_number_is_cut_off(self):
        self.click("step-place")
        self.session.select("open-sky")
        self.session.edit_value("Turn", "open-sky", "turn", lambda v: v.changed(0, (-180.0, -180.0, -180.0)))
        self.settle()
        field = self.find("turn-heading")
        ink = lambda: np.flatnonzero((gray(field.grab().toImage()) > 120).any(0))
        self.assertLessEqual(ink().max(), field.width() - 3)
        self.assertGreaterEqual(ink().min(), 3)
        field.begin_typing()
        self.settle()
        edit = field.editor
        self.assertLessEqual(edit.fontMetrics().horizontalAdvance(edit.text()), edit.width() - 4, edit.text())


def gray(image) -> np.ndarray:
    image = image.convertToFormat(image.Format.Format_Grayscale8)
    rows = np.frombuffer(image.constBits().asstring(image.sizeInBytes()), np.uint8).reshape(image.height(), image.bytesPerLine())
    return rows[:, : image.width()]


class PiecesTest(DemoCase):
    def test_each_piece_between_cuts_has_a_button_that_sets_in_and_out(self):
        shot = self.session.shot
        t = shot.tracks
        after = t.frame >= 60  # as if there were a cut: no track leads from frame 59 to 60
        cut = make_tracks(t.frame, np.where(after, t.track + t.count, t.track), t.xy)
        self.session.edit("Cut", lambda s: rebased(s, tracks=cut, solve=None))
        self.click("step-track")
        self.find("piece-0")
        self.click("piece-60")
        self.assertEqual((self.session.shot.first, self.session.shot.last, self.session.frame), (60, 99, 60))


class MessageTest(DemoCase):
    def test_a_message_moves_nothing_and_goes_when_its_cause_does(self):
        places = lambda: [w.mapToGlobal(QPoint()) for w in (self.canvas, self.find("size"), self.window.time.lanes, self.window.course.rows[3])]
        self.click("step-place")
        self.session.select("open-sky")
        self.settle()
        before, there = places(), [True]
        self.session.tell("Something is so.", "Do this.", "bad", holds=lambda: there[0])
        self.settle()
        self.assertTrue(self.window.strip.isVisible())
        self.assertEqual(places(), before)
        there[0] = False
        self.session.set("Rename", name="x")
        self.settle()
        self.assertFalse(self.window.strip.isVisible())

    def test_the_clip_that_was_found_takes_its_message_away(self):
        shot = files.read(DEMO)
        import msgspec

        gone = msgspec.structs.replace(shot, plate=msgspec.structs.replace(shot.plate, path=str(self.folder / "gone.mp4")))
        files.write(gone, self.folder / "a.lode")
        self.window.shot.open_path(self.folder / "a.lode")
        self.wait_idle()
        self.assertTrue(self.window.strip.isVisible())
        with mock.patch("PyQt6.QtWidgets.QFileDialog.getOpenFileName", return_value=(str(SHOTS / "terrace.mp4"), "")):
            self.window.commands.run("find-clip")
            self.wait_idle()
        # a picture that could not be made may have said the same; that goes once there is one
        self.wait(lambda: not self.window.strip.isVisible())


if __name__ == "__main__":
    unittest.main()
