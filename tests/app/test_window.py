"""The window: undo, keys, files, recovery, messages, missing clips, keyboard, and jobs that are cancelled."""

import threading
import time
import unittest
from unittest import mock

import msgspec
import numpy as np
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QWidget

from lodestar.app.commands import Finder
from lodestar.app.derived import points_of
from lodestar.app.fields import NumberField
from lodestar.app.session import DRAG_REFRESH_MS, STEPS
from lodestar.core.basics.keyed import constant
from lodestar.core.edits.settle import with_tracks
from lodestar.core.evaluate.cameras import camera_at
from lodestar.core.picture.frame import frame
from lodestar.core.shot.objects import Anchor, Box, Card, GroundMesh, Logo, Title, Tube
from tests.app.window_case import WindowCase
from tests.factory import make_shot


class DemoCase(WindowCase):
    def setUp(self):
        super().setUp()
        self.open_demo()
        self.settle()


class ViewTest(DemoCase):
    def test_the_picture_is_the_frame_that_the_core_makes(self):
        self.session.show_frame(46)
        self.wait_picture()
        pixels, shown = self.pixels(), self.canvas.shown
        np.testing.assert_array_equal(pixels, frame(self.session.shot, 46, "final", scale=shown.scale).pixels)
        bare = frame(msgspec.structs.replace(self.session.shot, objects=()), 46, "final", scale=shown.scale).pixels
        self.assertGreater((pixels != bare).any(-1).mean(), 0.05)
        self.click("before-after")
        self.wait(lambda: self.canvas.bare is not None)

    def test_the_final_picture_comes_though_the_plate_was_asked_for_meanwhile(self):
        self.session.show_frame(46)
        self.wait_picture()
        self.canvas.set_before_after(True)
        self.wait(lambda: self.canvas.bare is not None)
        count = self.canvas.pictures.count
        self.session.show_frame(47)
        while self.canvas.pictures.count == count:  # the draft is made, and nobody was told yet
            time.sleep(0.002)
        self.canvas._still.stop()
        self.canvas._ask_final()
        self.wait_picture()

    def test_what_is_dragged_is_shown_as_a_sketch_and_made_good_where_it_is_let_go(self):
        self.session.show_step("Place")
        self.session.select("open-sky")
        self.session.show_frame(46)
        self.wait_picture()
        self.canvas.refine = False  # else it is made final meanwhile, where the machine is slow
        self.session.set_dragging(True)
        self.session.edit_item("Move", "open-sky", position=constant(0.6, -0.7, 0.0))
        self.wait(lambda: self.canvas.shown.quality == "sketch" and self.canvas.shown.shot is self.session.shot)
        sketch = frame(self.session.shot, 46, "sketch", scale=self.canvas.shown.scale).pixels
        np.testing.assert_array_equal(self.pixels(), sketch)
        self.session.set_dragging(False)
        self.wait_picture("draft")

    def test_nothing_is_cut_at_1280_by_800(self):
        self.assertEqual((self.window.width(), self.window.height()), (1280, 800))
        for step in STEPS:
            self.click(f"step-{step.lower()}")
            panel = self.window.panel(step)
            self.assertLessEqual(panel.widget().minimumSizeHint().width(), panel.viewport().width(), step)
            for child in panel.findChildren(QWidget):
                if child.isVisible() and child.parent() is not None and child.objectName() and not child.parent().isHidden():
                    right = child.mapTo(panel, child.rect().topRight()).x()
                    self.assertLessEqual(right, panel.width(), f"{step}: {child.objectName()}")
        panel = self.window.panel("Place")
        self.click("step-place")
        svg = "<svg xmlns='http://www.w3.org/2000/svg' viewBox='0 0 1 1'><path d='M0 0h1v1z'/></svg>"
        for item in (Title(id="k"), Logo(id="k", svg=svg), Card(id="k"), Anchor(id="k"), Box(id="k"), Tube(id="k"), GroundMesh(id="k")):
            self.session.set("One object", objects=(item,))
            self.settle()
            self.assertLessEqual(panel.widget().minimumSizeHint().width(), panel.viewport().width(), item.NOUN)
        viewer = self.window.viewer
        self.assertGreaterEqual(viewer.width() * viewer.height(), 0.5 * 1280 * 772 * 0.99)

    def test_every_control_has_a_name_and_a_tooltip(self):
        missing = []
        for step in STEPS:
            self.click(f"step-{step.lower()}")
            for child in self.window.panel(step).findChildren(QWidget):
                focus = child.focusPolicy() & Qt.FocusPolicy.TabFocus
                if child.isVisible() and focus and child.objectName() not in ("panel", "") and not child.objectName().startswith("qt_"):
                    named = child.accessibleName() or getattr(child, "text", lambda: "")()
                    if not named or not child.toolTip():
                        missing.append(f"{step}: {child.objectName()}")
        self.assertEqual(missing, [])

    def test_panels_are_made_where_they_are_needed_and_the_others_while_nobody_waits(self):
        made = lambda: {step for step in STEPS if self.window.panels[step].is_filled}
        self.assertEqual(made(), {"Plate", "Place"})
        before = len(self.session.shot.lamps)
        self.window.commands.run("add-spot")  # by the finder, before anybody turned to Light
        self.assertEqual(len(self.session.shot.lamps), before + 1)
        self.assertIn("Light", made())
        self.click("step-ground")
        self.assertTrue(self.find("set-ground").isVisible())
        self.assertNotIn("Finish", made())
        shown, pages, output = [], self.window.settings, self.window.panels["Output"]
        pages.currentChanged.connect(lambda _: shown.append(output.note.text() if pages.currentWidget() is output else ""))
        self.click("step-output")
        self.assertEqual(shown, ["", output.note.text()], "nothing of another step, and then what tells of this shot from the first")
        self.assertTrue(shown[1])
        self.click("step-ground")
        self.window.fill_ahead = True
        self.click("step-output")
        self.wait(lambda: made() == set(STEPS))
        self.wait(lambda: not self.window._filling.isActive())

    def test_zoom_keeps_the_place_under_the_pointer(self):
        at = QPointF(300, 200)
        before = self.canvas.to_plate(at)
        self.canvas.set_zoom(2.0, at)
        np.testing.assert_allclose(self.canvas.to_plate(at), before, atol=1e-6)
        self.key(Qt.Key.Key_F)
        self.assertEqual(self.canvas.zoom, 0.0)

    def test_one_key_gives_the_window_to_the_picture(self):
        wide = self.canvas.width()
        self.key(Qt.Key.Key_H)
        self.assertGreater(self.canvas.width(), wide + 300)
        self.key(Qt.Key.Key_H)
        self.assertEqual(self.canvas.width(), wide)

    def test_while_it_plays_the_panel_follows_some_times_a_second(self):
        panel, shown = self.window.panel(self.session.step), []
        self.session.frame_changed.connect(shown.append)
        with mock.patch.object(panel, "refresh") as refresh:
            began = time.monotonic()
            self.key(Qt.Key.Key_Space)
            self.wait(lambda: len(shown) > 15 and refresh.call_count > 2)
            seconds, count = time.monotonic() - began, refresh.call_count
            self.key(Qt.Key.Key_Space)
            self.assertLessEqual(count, seconds * 1000 / DRAG_REFRESH_MS + 2)

    def test_playing_keeps_the_clock(self):
        self.session.show_frame(0)
        self.key(Qt.Key.Key_Space)
        self.wait(lambda: self.session.frame >= 12, 5)
        player = self.window.time.player
        # the frame on show is the one of the clock, however late this machine is: a clock that jumps makes it jump
        for seconds, frame_ in ((1.0, 25), (2.2, 55)):
            with mock.patch("time.perf_counter", return_value=player.began + seconds + 0.001):
                player._tick()
            self.assertEqual(self.session.frame, frame_)
        self.key(Qt.Key.Key_Space)
        self.assertFalse(player.playing)

    def test_the_scene_view_orbits_and_shares_the_selection(self):
        self.click("view-both")
        scene = self.window.viewer.scene
        self.wait(lambda: scene._fitted is not None)
        xy, depth = scene.camera().project(points_of(self.session.shot))
        inside = (xy > 20).all(1) & (xy < [scene.width() - 20, scene.height() - 20]).all(1) & (xy[:, 1] > 40)
        # one that stands alone, so that the click is plain
        gaps = np.linalg.norm(xy[:, None] - xy, axis=2) + 1e9 * np.eye(len(xy))
        pick = int(np.argmax(np.where(inside, gaps.min(1), -1)))
        QTest.mouseClick(scene, Qt.MouseButton.LeftButton, pos=QPointF(*xy[pick]).toPoint())
        self.assertEqual(self.session.tracks, {int(self.session.shot.solve.point_ids[pick])})
        # what is kept from frame to frame is painted anew when something of it changes
        for change in (lambda: scene._set("point_px", 5), lambda: scene._set("colours", "error"), lambda: self.session.select("", frozenset())):
            before = scene.grab().toImage()
            change()
            self.settle()
            self.assertNotEqual(scene.grab().toImage(), before)
        heading = scene.heading
        self.mouse(QEvent.Type.MouseButtonPress, (200, 90), widget=scene)
        self.mouse(QEvent.Type.MouseMove, (260, 90), widget=scene)
        self.mouse(QEvent.Type.MouseButtonRelease, (260, 90), widget=scene)
        self.assertNotEqual(scene.heading, heading)


class TitleTest(DemoCase):
    def setUp(self):
        super().setUp()
        self.click("step-place")
        self.session.select("open-sky")
        self.settle()

    def title(self):
        return self.session.object()

    def test_numbers_are_dragged_typed_and_reset_as_one_step_each(self):
        field = self.find("title-height")
        self.assertIsInstance(field, NumberField)
        self.mouse(QEvent.Type.MouseButtonPress, (20, 10), widget=field)
        for x in (40, 60, 80):
            self.mouse(QEvent.Type.MouseMove, (x, 10), widget=field)
        self.mouse(QEvent.Type.MouseButtonRelease, (80, 10), widget=field)
        self.assertAlmostEqual(self.title().height.at(0)[0], 0.92 + 60 * 0.005, places=3)
        self.session.undo()
        self.assertAlmostEqual(self.title().height.at(0)[0], 0.92, places=6)
        QTest.mouseClick(field, Qt.MouseButton.LeftButton)
        field.editor.setText("1 m + 20 cm")
        QTest.keyClick(field.editor, Qt.Key.Key_Return)
        self.assertAlmostEqual(self.title().height.at(0)[0], 1.2)
        QTest.mouseClick(field, Qt.MouseButton.LeftButton)
        field.editor.setText("very high")
        QTest.keyClick(field.editor, Qt.Key.Key_Return)
        self.assertAlmostEqual(self.title().height.at(0)[0], 1.2)
        self.assertIn("is not a number", self.told())

    def test_handles_turn_size_and_lift(self):
        self.session.show_frame(46)
        tool = self.canvas.tool
        for handle, part in (("turn", "turn"), ("size", "size"), ("z", "position")):
            before = {p: np.array(getattr(self.title(), p).at(46)) for p in ("turn", "size", "position")}
            start = tool._on_widget(tool.handles(self.title())[handle])
            self.drag([start, start + [18, -14], start + [36, -28]], plate=False)
            changed = {p: np.abs(np.array(getattr(self.title(), p).at(46)) - old) for p, old in before.items()}
            # this handle changes this and nothing else: the heading alone, the size, the height alone
            mine = {"turn": [0], "size": [0], "z": [2]}[handle]
            self.assertGreater(changed[part][mine].min(), 0.01, handle)
            changed[part][mine] = 0
            self.assertLess(max(float(c.max()) for c in changed.values()), 1e-6, handle)
        self.assertGreater(self.title().position.at(46)[2], 0.05)
        drop = tool._on_widget(tool.handles(self.title())["drop"])
        self.drag([drop, drop], plate=False)
        self.assertEqual(self.title().position.at(46)[2], 0.0)

    def test_a_number_typed_while_dragging_sets_it(self):
        tool = self.canvas.tool
        start = tool._on_widget(tool.handles(self.title())["turn"])
        self.mouse(QEvent.Type.MouseButtonPress, start)
        self.mouse(QEvent.Type.MouseMove, start + [10, 0])
        for digit in (Qt.Key.Key_3, Qt.Key.Key_5):
            self.key(digit)
        self.assertEqual(self.title().turn.at(0)[0], 35.0)
        self.mouse(QEvent.Type.MouseButtonRelease, start, Qt.MouseButton.NoButton)

    def test_keys_are_set_by_dragging_and_moved_in_the_lane(self):
        self.click("keying")
        self.assertTrue(self.session.keying)
        for at in (10, 60):
            self.session.show_frame(at)
            self.key(Qt.Key.Key_Right)
        self.assertEqual([k.frame for k in self.title().position.keys], [10, 60])
        lanes = self.window.time.lanes
        from lodestar.app.timeline.axis import TimeAxis

        axis = TimeAxis(self.session, self.window.time.width())
        self.mouse(QEvent.Type.MouseButtonPress, (axis.x(60), 9), widget=lanes)
        self.mouse(QEvent.Type.MouseMove, (axis.x(80), 9), widget=lanes)
        self.mouse(QEvent.Type.MouseButtonRelease, (axis.x(80), 9), widget=lanes)
        self.assertEqual([k.frame for k in self.title().position.keys], [10, 80])
        self.key(Qt.Key.Key_Delete, widget=lanes)
        self.assertEqual([k.frame for k in self.title().position.keys], [10])

    def test_lying_down_duplicating_and_deleting(self):
        self.click("lie-down")
        self.assertEqual(self.title().turn.at(0)[1], -90.0)
        self.click("stand-up")
        self.assertEqual(self.title().turn.at(0)[1], 0.0)
        before = [o.id for o in self.session.shot.objects]
        self.click("duplicate")
        self.assertEqual(len(self.session.shot.objects), len(before) + 1)
        self.key(Qt.Key.Key_Delete)
        self.assertEqual([o.id for o in self.session.shot.objects], before)

    def test_a_drag_shows_itself_in_the_picture(self):
        self.wait_picture()
        before = self.pixels().copy()
        xy, _ = camera_at(self.session.shot, self.session.frame).project(np.array(self.title().position.at(0)) + [0, 0, 0.3])
        start = self.canvas.to_widget(xy)
        self.mouse(QEvent.Type.MouseButtonPress, start)
        self.mouse(QEvent.Type.MouseMove, start + [40, 10])
        self.wait(lambda: self.canvas.shown.shot is self.session.shot)
        self.assertTrue((self.pixels() != before).any())
        self.mouse(QEvent.Type.MouseButtonRelease, start + [40, 10], Qt.MouseButton.NoButton)


class WorkTest(DemoCase):
    def test_rejecting_and_undo_of_everything(self):
        first = self.session.shot
        self.click("step-track")
        self.session.select("", frozenset([3, 4]))
        self.key(Qt.Key.Key_Delete)
        self.assertEqual(int(self.session.shot.tracks.rejected.sum()), 2)
        self.click("restore-all")
        self.assertEqual(int(self.session.shot.tracks.rejected.sum()), 0)
        self.session.edit_value("Sun", "sun", "bearing", lambda v: v.changed(0, (10.0,)))
        while self.session.history.undo_label:
            self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier, self.window)
        self.assertIs(self.session.shot, first)

    def test_a_region_is_drawn_and_makes_the_tracks_stale(self):
        self.click("step-track")
        self.click("tool-region")
        for corner in ((100, 100), (300, 100), (300, 300)):
            self.click_at(corner)
        self.key(Qt.Key.Key_Return)
        self.assertEqual(len(self.session.shot.regions), 1)
        self.assertIn("stale", self.find("step-track").accessibleDescription())

    def test_cancel_leaves_the_shot_as_it_was(self):
        before = self.session.shot
        self.click("step-track")
        self.click("track")
        self.wait(lambda: self.session.jobs.job is not None and self.session.jobs.job.share > 0.05)
        self.click("cancel-job")
        self.wait_idle()
        self.assertIs(self.session.shot, before)
        self.assertIn("cancelled", self.told())

    def test_a_failed_solve_says_why_and_keeps_the_shot(self):
        shot = self.session.shot
        self.session.edit("Reject nearly all", lambda s: with_tracks(s, shot.tracks.with_rejected(np.arange(shot.tracks.count) > 8)))
        before = self.session.shot
        self.click("step-solve")
        self.click("solve")
        self.wait_idle()
        self.assertIs(self.session.shot, before)
        self.assertIn("too few", self.told())
        self.assertIn("too few", self.find("strip-text").text())

    def test_track_and_solve_leaves_titles_where_they_are(self):
        self.session.set("Shorten", first=20, last=59)
        on_picture = lambda: [
            camera_at(self.session.shot, f).project(np.array(o.position.at(f)))[0] for f in (25, 50) for o in self.session.shot.objects
        ]
        before = on_picture()
        self.session.work.track_and_solve()
        self.wait_idle()
        self.assertEqual(self.session.history.undo_label, "Track and solve")
        self.assertLess(np.linalg.norm(np.subtract(on_picture(), before), axis=1).max(), 2.0)

    def test_while_work_goes_on_its_progress_alone_is_drawn_anew(self):
        panel, row = self.window.panel(self.session.step), self.find("step-track")
        rows, told, go_on = [*self.window.course.rows], [], threading.Event()

        def work(job):
            for k in range(5):
                job.step(k / 5, f"part {k}")
                go_on.wait(20)
                go_on.clear()

        self.session.work.run_job("Count", "Track", work, lambda result: None)
        self.settle()
        with mock.patch.object(panel, "refresh") as panels, mock.patch.object(self.window.commands, "refresh") as commands:
            with mock.patch.object(type(row), "update_reading", autospec=True, side_effect=type(row).update_reading) as readings:
                for k in range(5):
                    self.wait(lambda k=k: f"part {k}" in row.accessibleDescription())
                    told.append(self.find("cancel-job").isVisible())
                    if k < 4:
                        go_on.set()
            self.assertEqual((panels.call_count, commands.call_count), (0, 0))
            self.assertEqual({call.args[0] for call in readings.call_args_list}, {row})
        go_on.set()
        self.wait_idle()
        self.assertTrue(all(told) and len(rows) > 5)
        self.assertNotIn("part", row.accessibleDescription())

    def test_a_result_that_no_longer_fits_is_offered(self):
        self.session.files.start_shot(make_shot(frames=16, tracks=160, clip=self.folder / "plain.mp4"), None)
        rejected = self.session.shot.tracks.rejected.copy()
        rejected[:3] = True
        self.session.edit("Reject", lambda s: with_tracks(s, s.tracks.with_rejected(rejected)))
        self.session.work.solve()
        self.session.undo()  # while it runs: the tracks that it solves are gone
        before = self.session.shot
        self.wait_idle()
        self.assertIs(self.session.shot, before)
        self.assertIn("the tracks changed meanwhile", self.told())
        self.click("strip-take-it-all-the-same")
        self.assertTrue(self.session.shot.tracks.rejected[:3].all(), "a solve comes with the tracks that it was made from")
        self.session.undo()
        self.assertIs(self.session.shot, before)

    def test_what_is_done_while_a_job_runs_stays(self):
        self.session.files.start_shot(make_shot(frames=16, tracks=160, clip=self.folder / "plain.mp4"), None)
        self.session.work.solve()
        self.session.edit_item("Type", "t0", text="MEANWHILE")
        solve = self.session.shot.solve
        self.wait_idle()
        self.assertIsNot(self.session.shot.solve, solve)
        self.assertEqual(self.session.shot.objects[0].text, "MEANWHILE")

    def test_a_cancelled_output_leaves_no_file(self):
        self.session.work.deliver(self.folder / "out.mp4", quality="draft")
        self.wait(lambda: self.session.jobs.job is not None and self.session.jobs.job.share > 0.05)
        self.session.jobs.cancel()
        self.wait_idle()
        self.assertEqual(list(self.folder.glob("*.mp4")) + list(self.folder.glob(".*.mp4")), [])

    def test_a_fault_of_the_program_is_told_in_one_sentence(self):
        with self.assertLogs("lodestar.app.jobs", "ERROR"):
            self.session.work.run_job("Count", "Track", lambda job: 1 / 0, lambda result: None)
            self.wait_idle()
        self.assertIn("fault of the program", self.told())


class FinishTest(DemoCase):
    def setUp(self):
        super().setUp()
        self.click("step-finish")

    def add(self, name: str):
        """As by its menu, which a test cannot hold open."""
        button = self.find("add-finish")
        next(a for a in button.menu().actions() if a.text() == name).trigger()
        self.settle()

    def test_entries_are_added_changed_moved_and_taken_away(self):
        self.session.show_frame(20)
        self.wait_picture()
        before = self.pixels().astype(int)
        self.add("Grade")
        self.add("Vignette")
        self.assertEqual([e.name for e in self.session.shot.finish], ["Grade", "Vignette"])
        field = self.find("finish-0-exposure")
        self.mouse(QEvent.Type.MouseButtonPress, (20, 10), widget=field)
        self.mouse(QEvent.Type.MouseMove, (120, 10), widget=field)
        self.mouse(QEvent.Type.MouseButtonRelease, (120, 10), widget=field)
        self.assertAlmostEqual(self.session.shot.finish[0].exposure.at(0)[0], 1.0)
        self.wait_picture()
        middle = lambda p: p[p.shape[0] // 2 - 20 :][:40, p.shape[1] // 2 - 20 :][:, :40].mean()
        self.assertGreater(middle(self.pixels()), middle(before) + 20)
        self.click("finish-up-1")
        self.assertEqual([e.name for e in self.session.shot.finish], ["Vignette", "Grade"])
        self.click("finish-remove-0")
        self.click("finish-on-0")
        self.assertEqual([(e.name, e.on) for e in self.session.shot.finish], [("Grade", False)])
        self.wait_picture()
        np.testing.assert_array_equal(self.pixels(), before)
        for _ in range(6):
            self.session.undo()
        self.assertEqual(self.session.shot.finish, ())

    def test_grain_of_the_clip_is_set_by_typing(self):
        field = self.find("grain")
        field.setFocus()
        QTest.keyClicks(field, "2")
        QTest.keyClicks(field.editor, "50")
        QTest.keyClick(field.editor, Qt.Key.Key_Return)
        self.assertEqual(self.session.shot.exposure.grain.at(0)[0], 2.5)
        self.assertEqual((self.session.shot.exposure.softness.at(0)[0], self.session.shot.exposure.shutter.at(0)[0]), (1.0, 0.4))
        self.session.undo()
        self.assertEqual(self.session.shot.exposure.grain.at(0)[0], 1.0)

    def test_an_edge_begins_with_what_passes_in_front(self):
        self.add("Edge")
        (edge,) = self.session.shot.finish
        self.assertEqual(edge.mattes, tuple(m.id for m in self.session.shot.mattes))
        self.assertEqual(self.find("finish-mattes-0").text(), "Visitor")

    def test_a_finish_works_inside_mattes_and_objects_stand_behind_some(self):
        self.add("Grade")
        choice = self.find("finish-mattes-0")
        self.assertEqual(choice.text(), "the whole picture")
        choice._fill()
        matte = self.session.shot.mattes[0]
        next(a for a in choice.menu().actions() if a.text() == matte.name).trigger()
        self.settle()
        self.assertEqual((self.session.shot.finish[0].mattes, choice.text()), ((matte.id,), matte.name))
        self.click("step-place")
        self.session.select("open-sky")
        self.settle()
        behind = self.window.panel("Place").behind
        self.assertEqual(behind.text(), "all mattes")
        behind._fill()
        next(a for a in behind.menu().actions() if a.text() == matte.name).trigger()
        self.settle()
        self.assertEqual((self.session.object().mattes, behind.text()), ((), "none"))


class FinderTest(WindowCase):
    def test_the_finder_shows_what_cannot_be_done_now_and_does_not_do_it(self):
        finder = Finder(self.window.commands)
        finder.show()
        QTest.keyClicks(finder.text, "write output")
        rows = [finder.list.item(i) for i in range(finder.list.count())]
        self.assertTrue(rows and rows[0].text().endswith("needs a clip"))
        with mock.patch.object(self.window.shot, "write_output") as run:
            QTest.keyClick(finder.text, Qt.Key.Key_Return)
        self.assertEqual(run.call_count, 0)
        self.assertTrue(finder.isVisible())
        finder.text.clear()
        able = [bool(finder.list.item(i).flags() & Qt.ItemFlag.ItemIsEnabled) for i in range(finder.list.count())]
        self.assertEqual(able, sorted(able, reverse=True))
        finder.close()
        # whatever cannot be done says what it waits for, with an empty window and with a shot
        for open_ in (lambda: None, self.open_demo):
            open_()
            self.settle()
            for command in self.window.commands.all.values():
                self.assertEqual(command.enabled(), not command.enabled.why(), command.id)

    def test_what_is_named_as_it_was_typed_comes_first(self):
        self.open_demo()
        finder = Finder(self.window.commands)
        labels = lambda: [finder.list.item(i).text().partition(" › ")[2].split("    ")[0] for i in range(finder.list.count())]
        for typed, first in (("solve", "Solve"), ("undo", "Undo"), ("choose", "Choose all")):
            finder.text.setText(typed)
            self.assertTrue(labels()[0].startswith(first), f"{typed}: {labels()}")
        finder.text.setText("solve")
        self.assertGreater(len(labels()), labels().index("Choose all"), "what only speaks of it is found too")
        self.assertGreater(labels().index("Choose all"), labels().index("Solve"))
        finder.close()

    def test_the_finder_runs_commands(self):
        self.open_demo()
        QTest.keyClick(self.window, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
        (finder,) = self.window.findChildren(Finder)  # the window goes on beside it
        self.assertTrue(finder.isVisible())
        QTest.keyClicks(finder.text, "go light")
        self.assertEqual(finder.list.count(), 1)
        QTest.keyClick(finder.text, Qt.Key.Key_Return)
        self.assertEqual(self.session.step, "Light")
        self.assertFalse(finder.isVisible())

    def test_side_folders_and_recent_shots_are_remembered(self):
        self.open_demo()
        self.session.files.save(self.folder / "mine.lode")
        self.assertEqual(self.session.files.recent()[0], str(self.folder / "mine.lode"))


if __name__ == "__main__":
    unittest.main()
