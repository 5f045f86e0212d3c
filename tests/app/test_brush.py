"""Painting a subject in the window by the mouse, following it, and what is kept of it."""

import threading
import time
import unittest
from unittest import mock

import msgspec
import numpy as np
from PyQt6.QtCore import QEvent, QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QPushButton

from lodestar.core.edits.lights import sun_of
from lodestar.core.matte.follow import Follower
from lodestar.core.matte.strokes import HAIR, INSIDE, UNSURE, Brushed, Stroke, laid_out, stored
from lodestar.core.shot import files
from lodestar.core.work import matting
from tests.app.window_case import SHIFT, WindowCase
from tests.core.test_brushed import ball_frames, overlap
from tests.helpers import write_clip


class BrushTest(WindowCase):
    def setUp(self):
        super().setUp()
        pictures, self.truth = (part[:16] for part in ball_frames())
        clip = write_clip(self.folder / "ball.mp4", pictures)
        self.window.shot.open_path(clip)
        self.wait_idle()
        self.click("step-foreground")
        self.session.show_frame(6)
        self.settle()
        self.click("paint-matte")

    def stroke(self, points, modifiers=Qt.KeyboardModifier.NoModifier) -> None:
        count = len(self.matte().strokes) if self.session.shot.mattes else 0
        self.drag(points, modifiers=modifiers)
        self.wait(lambda: self.session.shot.mattes and len(self.matte().strokes) > count and not self.session.jobs.busy)

    def paint(self) -> None:
        self.stroke([(80, 93), (88, 93), (96, 93)])
        self.stroke([(40, 40), (140, 40), (140, 150), (40, 150), (40, 40)], SHIFT)

    def matte(self) -> Brushed:
        return self.session.shot.mattes[0]

    def fit(self, frame: int) -> float:
        return overlap(laid_out(self.matte().at(frame), 320, 180), self.truth[frame])

    def test_a_click_on_the_name_of_a_matte_takes_it_in_hand_and_does_not_switch_it_off(self):
        self.paint()
        self.session.select("")
        self.settle()
        self.click(f"outline-pick-{self.matte().id}")
        self.assertEqual((self.session.selected, self.matte().on), (self.matte().id, True))
        self.click(f"outline-on-{self.matte().id}")
        self.assertFalse(self.matte().on)

    def test_hair_is_painted_with_ctrl_round_a_subject_that_is_there(self):
        ctrl = Qt.KeyboardModifier.ControlModifier
        self.stroke([(80, 93), (96, 93)], ctrl)  # of nothing yet: the first stroke says of what
        self.assertEqual([s.means for s in self.matte().strokes], [INSIDE])
        self.key(Qt.Key.Key_Z, ctrl)
        self.paint()
        soft = lambda: int(((self.matte().at(self.session.frame).alpha > 20) & (self.matte().at(self.session.frame).alpha < 235)).sum())
        before, strokes = soft(), len(self.matte().strokes)
        self.session.select("")  # there is no other whose hair it might be
        self.stroke([(88, 66), (100, 72)], ctrl)
        self.assertEqual((self.matte().strokes[-1].means, len(self.session.shot.mattes)), (HAIR, 1))
        self.assertNotEqual(soft(), before)
        self.key(Qt.Key.Key_Z, ctrl)
        self.assertEqual((soft(), len(self.matte().strokes)), (before, strokes), "one step back")

    def test_a_first_guess_is_seen_while_the_subject_is_still_found(self):
        go, whole = threading.Event(), Follower.select

        def slow(follower, source, frame):
            go.wait(20)
            return whole(follower, source, frame)

        self.addCleanup(go.set)
        shown = lambda at: self.canvas.grab().toImage().pixelColor(int(at[0]), int(at[1]))
        at = self.canvas.to_widget((88, 78))  # on the ball, beside the stroke
        bare = shown(at)
        with mock.patch.object(Follower, "select", slow):
            self.drag([(80, 93), (88, 93), (96, 93)])
            self.wait(lambda: self.session.work.glimpse is not None and self.session.work.glimpse.found)
            self.settle()
            self.assertTrue(self.session.jobs.busy)
            self.assertEqual(self.session.shot.mattes, ())
            guess = laid_out(self.session.work.glimpse.at(6), 320, 180)
            self.assertGreater(overlap(guess, self.truth[6]), 0.6)
            self.assertGreater(shown(at).blueF(), bare.blueF() + 0.1)
            go.set()
            self.wait(lambda: not self.session.jobs.busy)
        self.assertIsNone(self.session.work.glimpse)
        self.assertGreater(self.fit(6), 0.8)

    def test_other_frames_are_read_while_a_stroke_is_painted_and_one_that_is_ready_does_not_wait(self):
        begun = threading.Event()

        def for_ever(follower, frame, check):
            begun.set()
            while True:
                check()
                time.sleep(0.005)

        first, *rest = (self.canvas.to_widget(p) for p in [(80, 93), (88, 93), (96, 93)])
        with mock.patch.object(Follower, "look_ahead", for_ever):
            self.mouse(QEvent.Type.MouseButtonPress, first)
            self.wait(begun.is_set)
            self.assertTrue(self.session.jobs.busy)
            for at in rest:
                self.mouse(QEvent.Type.MouseMove, at)
            self.mouse(QEvent.Type.MouseButtonRelease, rest[-1], Qt.MouseButton.NoButton)
            self.wait(lambda: self.session.shot.mattes and not self.session.jobs.busy)
            self.assertGreater(self.fit(6), 0.8)
            self.assertEqual(self.told(), "", "nobody asked for it, so its end is no news")
            with mock.patch.object(self.session.jobs, "start") as started:  # what was read once is not read again
                self.mouse(QEvent.Type.MouseButtonPress, first)
                started.assert_not_called()
                self.key(Qt.Key.Key_Escape)

    def test_the_sun_is_read_from_the_shadow_of_what_was_painted(self):
        self.paint()
        self.click("step-light")
        self.assertFalse(self.session.shot.shadow.lines)
        self.click("read-subject-shadow")
        self.wait_idle()
        self.assertIn("Without a camera that moves", self.told())
        with mock.patch("lodestar.app.shot_commands.ask", return_value="Do not save"):
            self.open_demo()
        self.click("step-light")
        button = self.window.findChild(QPushButton, "read-subject-shadow")
        self.assertFalse(button.isVisible())
        around = (300.0, 230.0, 290.0, 330.0, 285.0, 450.0, 290.0, 575.0), (420.0, 230.0, 430.0, 330.0, 420.0, 450.0, 425.0, 575.0, 300.0, 590.0)
        strokes = Stroke(46, (352.0, 240.0, 350.0, 290.0, 350.0, 380.0), 8.0), *(Stroke(46, s, 8.0, False) for s in around)
        self.session.edit("Paint", lambda s: msgspec.structs.replace(s, mattes=(*s.mattes, Brushed(id="v", name="Visitor", strokes=strokes))))
        before = self.session.shot
        self.wait(button.isVisible)
        self.click("read-subject-shadow")
        self.wait(lambda: not self.session.jobs.busy)
        lines = self.session.shot.shadow.lines
        self.assertEqual(len(lines), len(before.shadow.lines) + 1)
        self.assertIn("The shadow of Visitor was found", self.told())
        self.click("read-subject-shadow")
        self.wait(lambda: not self.session.jobs.busy)
        self.assertEqual(self.session.shot.shadow.lines, lines, "read again it does not count twice")
        was, now = (sun_of(s) for s in (before, self.session.shot))
        self.assertLess(abs(was.bearing.value[0] - now.bearing.value[0]), 4)
        self.session.undo()
        self.session.undo()
        self.assertEqual(self.session.shot.shadow.lines, before.shadow.lines)

    def test_what_was_found_is_on_the_disk_frame_by_frame(self):
        self.paint()
        go, alpha = threading.Event(), laid_out(self.matte().at(6), 320, 180)

        def some(shot, source, job):
            for frame in (6, 7, 8):
                yield stored(frame, alpha, 0.9, False)
            while not go.wait(0.02):
                job.step(0.1)

        disk = self.session.files.swap
        self.session.files._timer.stop()  # the autosave that comes every few seconds is not waited for
        self.addCleanup(go.set)
        with mock.patch.object(matting, "followed", some), mock.patch.object(self.session.files._timer, "start"):
            self.session.work.follow_matte(self.matte().id)
            self.wait(lambda: len(self.matte().found) == 3)
            self.session.files.finish_autosave()
            self.assertTrue(self.session.jobs.busy)
            kept = next(m for m in files.read(disk.path).mattes if m.id == self.matte().id)
            self.assertEqual([f.frame for f in kept.found], [6, 7, 8])
            go.set()
            self.wait(lambda: not self.session.jobs.busy)

    def test_strokes_find_the_subject_and_each_is_one_step_of_undo(self):
        self.paint()
        source = self.matte()
        self.assertEqual([(s.frame, s.inside) for s in source.strokes], [(6, True), (6, False)])
        self.assertEqual(self.session.selected, source.id)
        self.assertGreater(self.fit(6), 0.85)
        self.assertEqual(self.find("step-foreground").reading.mend, ("Bring up to date", "follow-due"))
        panel, kept = self.window.panel("Foreground"), self.find("keep-matte")
        below = panel.edge.mapTo(panel, QPoint(0, 0)).y() - kept.mapTo(panel, QPoint(0, kept.height())).y()
        self.assertLess(below, 20, "rows that are hidden leave a hole")
        # the tint of what was found shows in the picture
        self.settle()
        shown = lambda: self.canvas.grab().toImage()
        at = self.canvas.to_widget((88, 78))  # on the ball, beside the stroke
        tinted = shown().pixelColor(int(at[0]), int(at[1]))
        with mock.patch.dict(self.canvas.drawn, mattes=False):
            bare = shown().pixelColor(int(at[0]), int(at[1]))
        self.assertGreater(tinted.blueF(), bare.blueF() + 0.1)
        # and a line along its edge, of no colour of its own
        found = self.matte().at(6)
        row = found.alpha.shape[0] // 2
        edge = found.left + int(np.flatnonzero(found.alpha[row] > 127)[0])
        x, y = (int(v) for v in self.canvas.to_widget((edge, found.top + row)))
        line = [shown().pixelColor(x + k, y).redF() for k in range(-8, 9)]
        self.assertGreater(max(line), line[0] + 0.2)
        self.assertGreater(max(line), line[-1] + 0.2)
        self.session.undo()
        self.assertEqual(len(self.matte().strokes), 1)
        self.session.undo()
        self.assertEqual(self.session.shot.mattes, ())

    def test_it_is_followed_and_kept_in_the_file(self):
        self.paint()
        steps = len(self.session.history._past)
        self.click("follow")
        self.wait(lambda: not self.session.jobs.busy)
        self.settle()
        self.assertEqual([f.frame for f in self.matte().found], list(range(16)))
        self.assertGreater(min(self.fit(f) for f in range(16)), 0.75)
        self.assertEqual(len(self.session.history._past), steps + 1, "following is more than one step of undo")
        self.assertFalse(matting.due_mattes(self.session.shot))
        self.session.files.save(self.folder / "a.lode")
        self.assertEqual(len(files.read(self.folder / "a.lode").mattes[0].found), 16)
        # a stroke on a frame to which it was followed corrects that frame: the rest of the subject stays
        self.session.show_frame(9)
        before = laid_out(self.matte().at(9), 320, 180)
        self.stroke([(106, 76), (106, 84), (106, 92)], SHIFT)
        after = laid_out(self.matte().at(9), 320, 180)
        self.assertGreater(before[78:90, 104:109].mean(), 0.9)
        self.assertLess(after[78:90, 104:109].mean(), 0.2)
        self.assertGreater(after[84:104, 114:130].mean(), 0.9)
        self.session.undo()
        np.testing.assert_array_equal(laid_out(self.matte().at(9), 320, 180), before)
        # another stroke makes it due, and the step's link brings it up to date
        self.session.show_frame(12)
        self.stroke([(136, 96), (140, 96)])
        self.assertTrue(matting.due_mattes(self.session.shot))
        self.assertEqual(self.find("step-foreground").reading.state, "stale")
        self.window.commands.run("follow-due")
        self.wait(lambda: not self.session.jobs.busy)
        self.assertFalse(matting.due_mattes(self.session.shot))
        self.click("keep-matte")
        self.session.set("Range", first=2)
        self.assertFalse(matting.due_mattes(self.session.shot))

    def test_strokes_that_wait_go_where_they_were_painted(self):
        self.paint()
        mine = self.matte().id
        with mock.patch.object(type(self.session.jobs), "busy", True):
            self.drag([(84, 99), (92, 99)])
            self.session.select("")  # another thing is in hand by the time that it is looked at
            self.session.show_frame(2)
        tool = self.canvas.tool
        self.assertEqual([(w.stroke.frame, w.id) for w in tool.waiting], [(6, mine)])
        self.session.jobs.changed.emit()
        self.wait(lambda: len(self.matte().strokes) == 3 and not self.session.jobs.busy)
        self.assertEqual((self.matte().strokes[-1].frame, len(self.session.shot.mattes)), (6, 1))
        self.session.show_frame(6)
        with mock.patch.object(type(self.session.jobs), "busy", True):
            self.drag([(84, 99), (92, 99)])
        self.assertEqual(len(tool.waiting), 1)
        with mock.patch("lodestar.app.shot_commands.ask", return_value="Do not save"):
            self.open_demo()
        self.session.jobs.changed.emit()
        self.settle()
        self.assertEqual((tool.waiting, self.session.jobs.busy), ([], False))
        self.assertTrue(all(not isinstance(m, Brushed) for m in self.session.shot.mattes), "a stroke went to another shot")

    def test_cancelled_it_keeps_what_was_found(self):
        self.paint()
        with mock.patch("lodestar.app.long_work.FRAMES_MS", 5):
            self.click("follow")
            self.wait(lambda: len(self.matte().found) > 3)
            self.session.jobs.cancel()
            self.wait(lambda: not self.session.jobs.busy)
        self.assertGreater(len(self.matte().found), 3)
        self.assertIn("stay", self.session.messages[-1].hint)

    def test_the_picture_goes_along_while_a_subject_is_followed_until_somebody_goes_elsewhere(self):
        self.paint()
        self.canvas.refine = True
        alpha, go, asked = laid_out(self.matte().at(6), 320, 180), threading.Semaphore(0), []

        def one_by_one(shot, source, job):
            for frame in (6, 7, 8, 9):
                while not go.acquire(timeout=0.02):
                    job.step(0.1)
                yield stored(frame, alpha, 0.9 if frame != 8 else 0.5, False)

        self.addCleanup(lambda: [go.release() for _ in range(9)])
        ask, frames = self.canvas.pictures.ask, []
        self.session.frame_changed.connect(frames.append)
        with (
            mock.patch.object(matting, "followed", one_by_one),
            mock.patch.object(self.canvas.pictures, "ask", lambda r: (asked.append((self.session.work.following, r.quality)), ask(r))),
        ):
            self.click("follow")
            for frame in (6, 7, 8):
                go.release()
                self.wait(lambda frame=frame: len(self.matte().found) == frame - 5 and self.session.frame == frame)
                self.wait(lambda frame=frame: self.canvas.shown.index == frame)
            self.assertIn((True, "draft"), asked)
            self.assertNotIn((True, "final"), asked)
            self.session.show_frame(2)
            go.release()
            self.wait(lambda: not self.session.jobs.busy)
            self.assertEqual((len(self.matte().found), self.session.frame), (4, 2))
            self.assertFalse(self.session.work.following)
            # what it is unsure of is one click away
            self.click("strip-next-unsure-frame")
            self.assertEqual(self.session.frame, 8)
            # left alone it comes back to where it began
            self.session.show_frame(6)
            self.click("follow")
            for _ in range(4):
                go.release()
            self.wait(lambda: not self.session.jobs.busy)
            self.assertEqual((frames[-1], self.session.frame), (6, 6))
            self.assertGreater(max(frames), 8)

    def test_unsure_frames_are_gone_to_and_strokes_taken_away(self):
        self.paint()
        sure = {3: 0.5, 11: UNSURE - 0.01}
        found = tuple(msgspec.structs.replace(self.matte().found[0], frame=f, sure=sure.get(f, 1.0)) for f in range(16))
        mark = matting.brushed_inputs(self.session.shot, self.matte())
        self.session.edit_item("Test", self.matte().id, found=found, source=mark)
        self.settle()
        self.assertIn("2 unsure", self.find("step-foreground").reading.second)
        for frame in (11, 3):
            self.click("next-unsure")
            self.assertEqual(self.session.frame, frame)
        self.session.show_frame(6)
        self.settle()
        self.click("unpaint-matte")
        self.assertEqual(self.matte().strokes, ())

    def test_the_right_button_paints_nothing(self):
        """It opens the menu: QTest's press reaches the canvas as a hand's does before that."""
        self.click("tool-brush")
        at = QPoint(*(int(v) for v in self.canvas.to_widget((120, 95))))
        QTest.mousePress(self.canvas, Qt.MouseButton.RightButton, pos=at)
        self.assertEqual(self.canvas.tool.line, [])
        QTest.mouseRelease(self.canvas, Qt.MouseButton.RightButton, pos=at)
        self.settle()
        self.assertEqual(self.session.shot.mattes, ())
        self.paint()  # the left one does
        self.assertEqual([stroke.inside for stroke in self.matte().strokes], [True, False])

    def test_keys_change_the_brush_and_an_outline_is_still_an_outline(self):
        before = self.canvas.tool.radius
        QTest.keyClick(self.canvas, "]")
        self.assertGreater(self.canvas.tool.radius, before)
        QTest.keyClick(self.canvas, "[")
        self.assertAlmostEqual(self.canvas.tool.radius, before)
        self.paint()
        self.click("draw-matte")
        for at in ((20, 20), (60, 20), (60, 60), (20, 20)):
            self.click_at(at)
        self.assertEqual([type(m).__name__ for m in self.session.shot.mattes], ["Brushed", "Outline"])
        QTest.keyClick(self.canvas, Qt.Key.Key_Delete)
        self.assertEqual([type(m).__name__ for m in self.session.shot.mattes], ["Brushed"])


if __name__ == "__main__":
    unittest.main()
