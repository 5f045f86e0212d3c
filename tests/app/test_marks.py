"""The tools on tracks, by mouse and keys: choosing, rejecting, deleting, joining, more of them, one by hand, regions that are offered."""

import os
import unittest
from unittest import mock

import numpy as np
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtTest import QTest

from lodestar.app import theme
from lodestar.app.derived import errors_of, points_of
from lodestar.core.picture.frame import frame
from lodestar.core.shot.document import solve_is_stale
from lodestar.core.track.edit import lengths
from tests.app.window_case import LEFT, NONE, WindowCase

CTRL, SHIFT, ALT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.AltModifier


class MarksCase(WindowCase):
    def setUp(self):
        super().setUp()
        self.open_demo()
        self.click("step-track")
        self.session.show_frame(46)
        self.settle()

    @property
    def tracks(self):
        return self.session.shot.tracks

    def assert_undone(self, before):
        """Undo brings the very value back, and redo the other one."""
        after = self.tracks
        self.assertIsNot(after, before)
        self.key(Qt.Key.Key_Z, CTRL, self.window)
        self.assertIs(self.tracks, before)
        self.key(Qt.Key.Key_Z, CTRL | SHIFT, self.window)
        self.assertIs(self.tracks, after)

    def type_into(self, name, text):
        field = self.find(name)
        QTest.keyClicks(field, text[0])  # begins to type, whatever is a shortcut elsewhere
        QTest.keyClicks(field.editor, text[1:])
        QTest.keyClick(field.editor, Qt.Key.Key_Return)
        self.settle()

    def in_box(self, low, high):
        rows = self.tracks.at(self.session.frame)
        inside = ((self.tracks.xy[rows] > low) & (self.tracks.xy[rows] < high)).all(1)
        return {int(t) for t in self.tracks.track[rows[inside]]}


class DrawnTest(MarksCase):
    def test_a_mark_lies_on_its_track_and_its_fill_tells_the_error(self):
        self.wait(lambda: np.isfinite(errors_of(self.session.shot)).any())
        self.click("show-tails")  # which would lie beside some
        self.wait_picture()
        rows = self.tracks.at(self.session.frame)
        at, error = self.canvas.to_widget(self.tracks.xy[rows]), errors_of(self.session.shot)[rows]
        alone = np.sort(np.linalg.norm(at[:, None] - at[None], axis=-1), axis=1)[:, 1] > 18
        inside = ((at > 20) & (at < [self.canvas.width() - 20, self.canvas.height() - 20])).all(1)
        chosen = np.flatnonzero(alone & inside & np.isfinite(error) & ~self.tracks.rejected[self.tracks.track[rows]])[:40]
        self.assertGreater(len(chosen), 15)

        def grab():
            self.settle()
            self.canvas.image = None  # over an even ground, which weighs all sides of a mark alike
            return self.pixels(self.canvas.grab().toImage()).astype(int)

        with_ = grab()
        self.click("show-marks")
        without = grab()
        off = []
        for k in chosen:
            x, y = np.floor(at[k]).astype(int)
            self.assertLess(np.abs(with_[y, x] - theme.error_colour(error[k]).getRgb()[:3]).max(), 12, (at[k], error[k]))
            part = np.s_[y - 8 : y + 9, x - 8 : x + 9]
            weight = np.abs(with_[part] - without[part]).sum(-1)
            ys, xs = np.mgrid[part]
            off.append([(weight * xs).sum() / weight.sum() + 0.5 - at[k, 0], (weight * ys).sum() / weight.sum() + 0.5 - at[k, 1]])
        # pixel k reaches from k to k + 1; a stamp is made for each quarter of a pixel
        self.assertLess(np.abs(np.mean(off, 0)).max(), 0.05)
        self.assertLess(np.abs(off).max(), 0.25)


class ChooseTest(MarksCase):
    def test_a_rectangle_chooses_and_shift_adds(self):
        wanted = self.in_box((300, 500), (700, 640))
        self.assertGreater(len(wanted), 5)
        self.drag([(300, 500), (450, 600), (700, 640)], CTRL)
        self.assertEqual(self.session.tracks, wanted)
        more = self.in_box((800, 500), (1000, 640))
        self.mouse(QEvent.Type.MouseButtonPress, self.canvas.to_widget((800, 500)), LEFT, CTRL)
        self.mouse(QEvent.Type.MouseMove, self.canvas.to_widget((1000, 640)), LEFT, CTRL)
        self.mouse(QEvent.Type.MouseButtonRelease, self.canvas.to_widget((1000, 640)), Qt.MouseButton.NoButton, CTRL | SHIFT)
        self.assertEqual(self.session.tracks, wanted | more)

    def test_a_rectangle_or_a_line_in_the_scene_chooses_points(self):
        self.click("view-both")
        scene = self.window.viewer.scene
        self.wait(lambda: scene._fitted is not None)
        xy, depth = scene.camera().project(points_of(self.session.shot))
        low, high = np.array([scene.width() * 0.3, scene.height() * 0.3]), np.array([scene.width() * 0.7, scene.height() * 0.8])
        inside = (depth > 0) & (xy > low).all(1) & (xy < high).all(1)
        for kind, at in ((QEvent.Type.MouseButtonPress, low), (QEvent.Type.MouseMove, (low + high) / 2), (QEvent.Type.MouseMove, high)):
            self.mouse(kind, at, LEFT, CTRL, scene)
        self.mouse(QEvent.Type.MouseButtonRelease, high, Qt.MouseButton.NoButton, CTRL, scene)
        self.assertEqual(self.session.tracks, {int(k) for k in self.session.shot.solve.point_ids[inside]})
        self.assertGreater(len(self.session.tracks), 20)
        # a line drawn round them: half of that rectangle, under its diagonal
        corner, before = np.array([low[0], high[1]]), scene.camera().R
        for kind, at in ((QEvent.Type.MouseButtonPress, low), (QEvent.Type.MouseMove, high), (QEvent.Type.MouseMove, corner)):
            self.mouse(kind, at, LEFT, CTRL | ALT, scene)
        self.mouse(QEvent.Type.MouseButtonRelease, corner, Qt.MouseButton.NoButton, CTRL | ALT, scene)
        share = (xy - low) / (high - low)
        under = inside & (share[:, 1] > share[:, 0])
        self.assertEqual(self.session.tracks, {int(k) for k in self.session.shot.solve.point_ids[under]})
        np.testing.assert_array_equal(scene.camera().R, before)

    def test_reject_restore_and_delete(self):
        before = self.tracks
        chosen = self.in_box((300, 500), (700, 640))
        self.drag([(300, 500), (700, 640)], CTRL)
        self.key(Qt.Key.Key_Delete)
        self.assertEqual(set(np.flatnonzero(self.tracks.rejected)), chosen)
        self.assert_undone(before)
        rejected = self.tracks
        self.click("restore-tracks")
        self.assertFalse(self.tracks.rejected.any())
        self.assert_undone(rejected)
        kept = self.tracks
        self.click("delete-tracks")
        self.assertEqual(lengths(self.tracks)[sorted(chosen)].sum(), 0)
        self.assertEqual(self.session.tracks, frozenset())
        self.assert_undone(kept)
        self.assertIn("stale", self.find("step-solve").accessibleDescription())

    def test_rules_choose_and_say_how_many(self):
        rule = self.find("rule")
        for index, value, meant in ((1, "20", lambda t: (lengths(t) < 20) & (lengths(t) > 0)),):
            rule.setCurrentIndex(index)
            rule.activated.emit(index)
            self.type_into("rule-limit", value)
            self.click("choose-by-rule")
            self.assertEqual(self.session.tracks, {int(k) for k in np.flatnonzero(meant(self.tracks))})
        rule.setCurrentIndex(0)
        rule.activated.emit(0)
        self.click("choose-by-rule")
        self.type_into("rule-limit", "0.3")
        self.click("choose-by-rule")
        # the mean error of each track, worked out here from the cameras and points of the solve alone
        solve, tracks = self.session.shot.solve, self.tracks
        total, count = np.zeros(tracks.count), np.zeros(tracks.count)
        for k, f in enumerate(solve.frames):
            rows = tracks.at(int(f))
            rows = rows[np.isin(tracks.track[rows], solve.point_ids)]
            place = np.searchsorted(solve.point_ids, tracks.track[rows], sorter=(order := np.argsort(solve.point_ids)))
            off = np.linalg.norm(solve.camera(k).project(solve.xyz[order[place]])[0] - tracks.xy[rows], axis=1)
            total += np.bincount(tracks.track[rows], off, tracks.count)
            count += np.bincount(tracks.track[rows], minlength=tracks.count)
        mean = np.where(count > 0, total / np.maximum(count, 1), 0)
        clear = np.flatnonzero((np.abs(mean - 0.3) > 0.01) & ~tracks.rejected & (count > 0))
        self.assertEqual({int(k) for k in clear if mean[k] > 0.3}, {int(k) for k in clear if int(k) in self.session.tracks})
        self.assertTrue(5 < len(self.session.tracks) < tracks.count / 2)

    def test_two_marks_are_one_point(self):
        before = self.tracks
        rows = self.tracks.at(46)[:2]
        one, other = (int(k) for k in self.tracks.track[rows])
        self.session.select("", frozenset([one, other]))
        self.settle()
        self.click("join-tracks")
        self.assertEqual(lengths(self.tracks)[max(one, other)], 0)
        self.assertEqual(self.session.tracks, {min(one, other)})
        self.assert_undone(before)

    def test_what_is_one_point_is_found(self):
        before = self.tracks
        self.click("join-found")
        self.wait_idle()
        self.assertIn("joined", self.told())
        self.assertIsNot(self.tracks, before)
        self.assertLess((lengths(self.tracks) > 0).sum(), (lengths(before) > 0).sum())
        self.assertEqual(lengths(self.tracks).sum() <= lengths(before).sum(), True)
        self.assert_undone(before)


class AskForMoreTest(MarksCase):
    def test_more_in_one_place(self):
        before = self.tracks
        self.click("tool-more")
        self.click_at((700, 300))
        self.assertIn("click is no place", self.told())
        self.drag([(900, 180), (1010, 180), (1010, 300), (900, 300), (900, 185)])
        self.wait_idle()
        self.assertGreater(self.tracks.count, before.count)
        new = np.arange(before.count, self.tracks.count)
        self.assertEqual(self.session.tracks, {int(k) for k in new})
        self.assertGreaterEqual(lengths(self.tracks)[new].min(), 12)
        at = self.tracks.xy[(self.tracks.frame == 46) & (self.tracks.track >= before.count)]
        self.assertTrue(((at > [898, 178]) & (at < [1012, 302])).all())
        self.assert_undone(before)

    def test_cancelled_in_the_middle_it_leaves_the_shot_as_it_was(self):
        shot = self.session.shot
        self.click("tool-more")
        self.drag([(300, 380), (1000, 380), (1000, 640), (300, 640)])
        self.wait(lambda: self.session.jobs.busy and self.session.jobs.job.share > 0.1)
        self.session.jobs.cancel()
        self.wait_idle()
        self.assertIs(self.session.shot, shot)

    def test_one_by_hand_is_followed_corrected_and_marked(self):
        before = self.tracks
        self.click("tool-hand")
        # a corner of the small dome's foot
        self.click_at((505, 400))
        self.wait_idle()
        self.assertEqual(self.tracks.count, before.count + 1)
        number = self.tracks.count - 1
        np.testing.assert_allclose(self.tracks.keys[0], [number, 46, 505, 400], atol=1)
        self.assertGreater(lengths(self.tracks)[number], 10)
        self.assertEqual(self.session.tracks, {number})
        self.assert_undone(before)
        placed = self.tracks
        self.session.show_frame(50)
        self.settle()
        self.session.select("", frozenset([number]))
        here = self.tracks.xy[(self.tracks.frame == 50) & (self.tracks.track == number)][0]
        self.drag([here, here + [8, 0], here + [16, 0]])
        self.wait_idle()
        self.assertEqual(len(self.tracks.keys), 2)
        moved = self.tracks.xy[(self.tracks.frame == 50) & (self.tracks.track == number)][0]
        np.testing.assert_allclose(moved, here + [16, 0], atol=1)
        self.assert_undone(placed)
        self.key(Qt.Key.Key_Delete)
        self.assertEqual((lengths(self.tracks)[number], len(self.tracks.keys)), (0, 0))

    def test_regions_are_offered_switched_off(self):
        shot = self.session.shot
        self.click("suggest-regions")
        self.assertTrue(self.session.jobs.busy)
        self.wait_idle()
        regions = self.session.shot.regions
        self.assertTrue(regions and not any(r.on for r in regions))
        self.assertNotIn("stale", self.find("step-track").accessibleDescription())
        self.click(f"outline-on-{regions[0].id}")
        self.assertTrue(self.session.shot.regions[0].on)
        self.assertIn("stale", self.find("step-track").accessibleDescription())
        self.key(Qt.Key.Key_Z, CTRL, self.window)
        self.key(Qt.Key.Key_Z, CTRL, self.window)
        self.assertIs(self.session.shot, shot)

    def test_the_trackers_view_shows_what_it_is_shown(self):
        self.wait_picture()
        colour = self.pixels().astype(int)
        self.assertGreater(np.abs(colour[..., 0] - colour[..., 2]).max(), 30)
        QTest.mouseClick(self.find("show-eyes"), LEFT, NONE, QPointF(6, 8).toPoint())
        self.wait(lambda: self.canvas.shown is not None and self.canvas.shown.layer == "tracker")
        grey = self.pixels().astype(int)
        self.assertEqual(np.abs(grey[..., 0] - grey[..., 2]).max(), 0)
        self.session.edit_part("Set contrast", "follow", contrast=1.0)
        self.wait(lambda: self.canvas.shown.shot is self.session.shot)
        self.assertGreater(self.pixels().std(), grey.std() * 1.05)
        # what is delivered is untouched by it
        plain = frame(self.session.shot, 46, "draft", layer="plate").pixels
        self.assertGreater(np.abs(plain[..., 0].astype(int) - plain[..., 2]).max(), 30)
        self.click("step-solve")
        self.wait(lambda: self.canvas.shown.layer == "picture")


class SolveSettingsTest(MarksCase):
    def setUp(self):
        super().setUp()
        self.click("step-solve")

    def test_the_report_is_on_show(self):
        panel = self.window.panel("Solve")
        self.assertIn("slides under", panel.verdict.text())
        self.assertRegex(panel.rows["A title slides"][0].text(), r"\d\.\d\d px")
        self.assertRegex(panel.rows["Against noise"][0].text(), r"\d\.\d\d ×")

    def test_the_course_tells_more_under_the_pointer(self):
        tip = self.find("step-solve").toolTip()
        self.assertIn("slides under", tip)
        self.assertRegex(tip, r"Worst in time: frame \d+, \d\.\d\d px\. Worst in the picture: \w+")

    def test_a_focal_length_in_millimetres(self):
        self.type_into("focal-mm", "35")
        self.assertAlmostEqual(self.session.shot.solving.focal_px, 35 / 36 * 1280, places=1)
        box = self.find("sensor")
        box.setCurrentIndex(1)
        box.activated.emit(1)
        self.assertAlmostEqual(self.session.shot.solving.focal_px, 35 / 24.9 * 1280, places=1)
        self.assertIn("stale", self.find("step-solve").accessibleDescription())
        self.type_into("focal-px", "0")
        self.assertEqual(self.session.shot.solving.focal_px, 0)

    def test_a_sensor_of_ones_own_joins_the_list(self):
        with mock.patch.dict(os.environ, {"XDG_CONFIG_HOME": str(self.folder)}):
            before = self.find("sensor").count()
            self.type_into("sensor-width", "22.3")
            self.assertEqual(self.find("sensor").count(), before + 1)
            self.assertIn("22.3", self.find("sensor").currentText())
            self.type_into("focal-mm", "50")
            self.assertAlmostEqual(self.session.shot.solving.focal_px, 50 / 22.3 * 1280, places=1)

    def test_what_is_found_and_what_is_given(self):
        panel = self.window.panel("Solve")
        QTest.mouseClick(panel.distortion[0][0], LEFT, pos=QPoint(6, 8))
        self.settle()
        self.assertFalse(self.session.shot.solving.k1)
        self.type_into("given-k1", "-0.05")
        self.assertEqual(self.session.shot.solving.distortion, (-0.05, 0.0))
        QTest.mouseClick(panel.rolling, LEFT, pos=QPoint(6, 8))
        self.assertTrue(self.session.shot.solving.rolling)
        for word in ("none", "zooms"):
            QTest.keyClick(self.find("lens-zoom"), Qt.Key.Key_Down)
            self.assertEqual(self.session.shot.solving.zoom, word)
        self.type_into("reference-frame", "30")
        self.assertEqual(self.session.shot.solving.reference, 30)
        self.assertTrue(solve_is_stale(self.session.shot))
        for _ in range(6):
            self.key(Qt.Key.Key_Z, CTRL, self.window)
        self.assertEqual((self.session.shot.solving.zoom, self.session.shot.solving.reference), ("auto", None))
        self.assertFalse(solve_is_stale(self.session.shot))
        self.assertEqual(self.session.shot.solving.distortion, (0.0, 0.0))
        self.assertTrue(panel.distortion[0][0].isChecked())

    def test_refining_from_the_window(self):
        solve = self.session.shot.solve
        box = self.find("solve-start")
        box.setCurrentIndex(1)
        box.activated.emit(1)
        self.click("solve")
        self.wait_idle()
        again = self.session.shot.solve
        self.assertIsNot(again, solve)
        self.assertEqual(again.why, "refined from the solve before")
        self.assertAlmostEqual(again.lens.fx, solve.lens.fx, delta=1.0)


class GroundFollowsPointsTest(WindowCase):
    def test_uneven_ground_is_switched_in_the_panel_and_undone(self):
        self.open_demo()
        self.click("step-ground")
        # the demo was saved before ground was found to be uneven, and goes on as it was
        self.assertFalse(self.find("ground-uneven").isChecked())
        self.click("ground-uneven")
        self.assertTrue(self.session.shot.ground.uneven)
        self.key(Qt.Key.Key_Z, CTRL, self.window)
        self.assertFalse(self.session.shot.ground.uneven)
        self.assertFalse(self.find("ground-uneven").isChecked())


if __name__ == "__main__":
    unittest.main()
