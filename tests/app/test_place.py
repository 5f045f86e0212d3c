"""Placing by pointing: from a solved shot to something that stands there and sticks, and everything that is done to it by hand."""

import json
import unittest
from unittest import mock

import cv2
import msgspec
import numpy as np
from PyQt6.QtCore import QEvent, QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent, QFontMetricsF
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QPushButton

from lodestar.app import derived, readings, theme
from lodestar.app.derived import points_of
from lodestar.core.basics.geometry import meet_plane
from lodestar.core.basics.keyed import constant
from lodestar.core.edits.arrange import place_of
from lodestar.core.edits.lights import sun_of
from lodestar.core.edits.settle import with_solve
from lodestar.core.evaluate import ground
from lodestar.core.evaluate.cameras import camera_at
from lodestar.core.evaluate.objects import box_of, pose_of
from lodestar.core.media.plates import probe
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens
from lodestar.core.scene.poses import moved
from lodestar.core.shape.drawings import drawing_outlines
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot, solve_is_stale, with_plate
from lodestar.core.shot.objects import Anchor, Box, Card, GroundMesh, Logo, Title, Tube
from lodestar.core.track.edit import lengths
from tests.app.window_case import LEFT, SHIFT, WindowCase
from tests.helpers import DEMO, SHOTS, looked_down_on, texture, write_clip

CTRL, ALT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.AltModifier
FRAME = 46
STAR = "<svg xmlns='http://www.w3.org/2000/svg' viewBox='0 0 10 10'><path d='M5 0 L6.2 3.8 L10 5 L6.2 6.2 L5 10 L3.8 6.2 L0 5 L3.8 3.8 z'/></svg>"


def true_cameras() -> list[Camera]:
    tree = json.loads((SHOTS / "terrace.camera.json").read_text())
    lens = Lens(**{k: tree["lens"][k] for k in ("fx", "fy", "cx", "cy", "k1", "k2")})
    return [Camera(np.array(f["R"]), np.array(f["t"]), lens) for f in tree["frames"]]


class PlaceCase(WindowCase):
    """The demo's solve, with no object yet."""

    def setUp(self):
        super().setUp()
        self.clicks = 0
        shot = msgspec.structs.replace(files.read(DEMO), objects=(), mattes=())
        self.session.files.start_shot(shot, None)
        self.session.show_step("Solve")
        self.session.show_frame(FRAME)
        self.settle()

    def count_click(self, widget, at=None):
        self.clicks += 1
        if at is not None:
            QTest.mouseMove(widget, at)
            self.mouse(QEvent.Type.MouseMove, (at.x(), at.y()), Qt.MouseButton.NoButton, widget=widget)
        QTest.mouseClick(widget, LEFT, pos=at if at is not None else widget.rect().center())
        self.settle()

    def place_at(self, pixel):
        """The two clicks that it takes: the step, and the place."""
        self.count_click(self.find("step-place"))
        self.count_click(self.canvas, QPointF(*self.canvas.to_widget(pixel)).toPoint())

    def item(self):
        self.assertTrue(self.session.shot.objects, self.told())
        return self.session.shot.objects[-1]

    def take(self, name):
        self.session.show_step("Place")
        self.settle()
        self.window.viewer.take(name)

    def sliding(self, true_point, own=(0.0, 0.0, 0.0)) -> np.ndarray:
        """(f,) px between where a point of the object, in its own axes, is in our picture and where that point of the true scene is
        in the plate, both since the frame in which it was placed."""
        cameras, off = true_cameras(), []
        for f in self.session.shot.solve.frames:
            ours, _ = camera_at(self.session.shot, int(f)).project(moved(pose_of(self.session.shot, self.item(), int(f)), np.array(own)))
            off.append(ours - cameras[int(f)].project(true_point)[0])
        return np.linalg.norm(np.array(off) - off[list(self.session.shot.solve.frames).index(FRAME)], axis=1)


class PointingTest(PlaceCase):
    def test_a_title_on_the_terrace_in_two_clicks_and_it_sticks(self):
        pixel = (720.0, 540.0)
        self.place_at(pixel)
        self.assertLessEqual(self.clicks, 6)
        title = self.item()
        self.assertIsInstance(title, Title)
        self.assertEqual(title.turn.value[1:], (0, 0))
        self.assertEqual(title.position.value[2], 0.0)
        self.assertGreaterEqual(len(title.tracks), 4)
        camera = true_cameras()[FRAME]
        ray = camera.rays(np.array(pixel))
        true = camera.centre + float(meet_plane(camera.centre, ray, np.zeros(3), np.array([0, 0, 1.0]))) * ray
        slide = self.sliding(true)
        self.assertLess(np.median(slide), 0.5)
        self.assertLess(slide.max(), 1.5)

    def test_a_title_on_a_wall_in_two_clicks_and_it_hangs_flat(self):
        camera = true_cameras()[FRAME]
        # the front of the walled ground behind the terrace: y = 12.6 in the true scene
        on_wall = np.array([-5.0, 12.6, 0.5])
        pixel = camera.project(on_wall)[0]
        self.place_at(pixel)
        self.assertLessEqual(self.clicks, 6)
        title = self.item()
        # its back lies on the wall: flat against it, upright
        back = moved(pose_of(self.session.shot, title, FRAME), np.array([0.0, box_of(title, FRAME)[1][1], 0.0]))
        self.assertEqual(title.turn.value[1:], (0, 0))
        own = camera_at(self.session.shot, FRAME)
        low, high = box_of(title, FRAME)
        sides = own.project(moved(pose_of(self.session.shot, title, FRAME), np.array([low, high])))[0][:, 0]
        self.assertTrue(sides.min() >= 0 and sides.max() < self.session.shot.plate.width, "all of it is seen")
        # it was moved along the wall for that, by the place that it now hangs on
        ray = camera.rays(own.project(back)[0])
        on_wall = camera.centre + float(meet_plane(camera.centre, ray, on_wall, np.array([0, 1.0, 0]))) * ray
        self.assertLess(abs(on_wall[0] + 5.0), high[0] - low[0])
        away = np.linalg.norm(back - own.centre)
        self.assertAlmostEqual(away, np.linalg.norm(on_wall - camera.centre), delta=0.03 * away)
        ahead = camera_at(self.session.shot, FRAME).R @ pose_of(self.session.shot, title, FRAME)[:3, 1]
        true = camera.R @ np.array([0, 1.0, 0])
        self.assertLess(np.rad2deg(np.arccos(ahead @ true / np.linalg.norm(ahead))), 3.0)
        slide = self.sliding(on_wall, (0.0, box_of(title, FRAME)[1][1], 0.0))
        self.assertLess(np.median(slide), 0.5)
        self.assertLess(slide.max(), 1.5)

    def test_the_check_pattern_lies_on_the_ground_and_says_how_it_holds(self):
        self.take("check")
        self.click_at((700, 560))
        card = self.item()
        self.assertEqual((card.pattern, card.turn.value[1]), ("grid", -90.0))
        self.wait_picture()
        at, _ = camera_at(self.session.shot, FRAME).project(place_of(self.session.shot, card, FRAME))
        from lodestar.app.viewer.tools import handles

        said, tag = [], handles.drawing.tag
        # the painter must not be kept, so only the words are
        with mock.patch.object(handles.drawing, "tag", lambda p, at, lines, edge="": said.extend(lines) or tag(p, at, lines, edge)):
            self.canvas.grab()
        self.assertTrue(any("slip" in line for line in said), "the badge stands on it")
        # its cells are seen where it lies
        pixels = self.pixels().astype(int)
        x, y = (at * [pixels.shape[1] / 1280, pixels.shape[0] / 720]).astype(int)
        self.assertGreater(np.ptp(pixels[y - 12 : y + 12, x - 40 : x + 40].mean(2)), 50)

    def test_points_are_added_dropped_and_drawn_round(self):
        self.take("title")
        tool = self.canvas.tool
        points, camera = points_of(self.session.shot), self.canvas.camera()
        xy, depth = camera.project(points)
        # points that stand alone, so that a click means one of them
        inside = np.flatnonzero((depth > 0) & (xy > [200, 420]).all(1) & (xy < [1100, 690]).all(1))
        gaps = np.linalg.norm(xy[inside][:, None] - xy, axis=2)
        gaps[np.arange(len(inside)), inside] = np.inf
        alone = inside[gaps.min(1) > 26]
        self.click_at(xy[alone[0]], SHIFT)
        self.assertIn(alone[0], tool.chosen)
        count = len(tool.chosen)
        self.click_at(xy[alone[0]], ALT)
        self.assertEqual((len(tool.chosen), alone[0] in tool.chosen), (count - 1, False))
        self.key(Qt.Key.Key_Escape)
        self.assertIsNone(tool.chosen)
        self.drag([(300, 520), (900, 520), (900, 660), (300, 660), (300, 525)])
        self.assertGreater(len(tool.chosen), 15)
        self.assertTrue(((xy[tool.chosen] > [295, 515]).all(1) & (xy[tool.chosen] < [905, 665]).all(1)).all())
        self.click_at((600, 600))
        self.assertLess(abs(self.item().position.value[2]), 0.05)

    def test_a_sun_that_nobody_set_is_not_told_as_set(self):
        """The light of a title that was just placed is that of no place."""
        shot = self.session.shot
        self.assertEqual(readings.light(shot).state, readings.EMPTY)
        self.take("title")
        self.click_at((600, 600))
        shot = self.session.shot
        self.assertEqual((readings.light(shot).state, readings.light(shot).second), (readings.GOOD, "from 2 shadows"))
        unread = msgspec.structs.replace(shot, lamps=Shot().lamps, shadow=msgspec.structs.replace(shot.shadow, lines=()))
        self.assertEqual((readings.light(unread).state, readings.light(unread).second), (readings.DOUBTFUL, "not the place's yet"))
        sun = msgspec.structs.replace(sun_of(unread), bearing=constant(120.0))
        by_hand = msgspec.structs.replace(unread, lamps=(sun, *unread.lamps[1:]))
        self.assertEqual((readings.light(by_hand).state, readings.light(by_hand).second), (readings.GOOD, "set by hand"))

    def test_a_line_round_nothing_and_the_sky_are_told(self):
        self.take("title")
        self.drag([(20, 30), (60, 30), (60, 60), (20, 60), (20, 32)])
        self.assertIn("a surface needs three", self.told())
        self.session.snap = "ground"
        self.click_at((640, 20))
        self.assertIn("no surface", self.told())
        self.assertEqual(self.session.shot.objects, ())
        # what was told of a click that failed goes as soon as another one does something
        strip = self.window.strip
        self.assertTrue(strip.isVisible())
        self.click_at((640, 560))
        self.assertEqual(len(self.session.shot.objects), 1)
        self.assertFalse(strip.isVisible())

    def test_snaps_to_ground_wall_point_and_far_away(self):
        self.session.show_step("Place")
        self.settle()
        menu = self.find("snap").menu()
        action = lambda name: next(a for a in menu.actions() if a.objectName() == f"snap-{name}")
        for number, name in enumerate(("ground", "wall", "point", "far")):
            self.window.viewer.take("anchor")
            action(name).trigger()
            if name == "far":
                for digit in (Qt.Key.Key_8, Qt.Key.Key_0):
                    self.key(digit)
                self.assertEqual(self.session.far_distance, 80.0)
            self.click_at((640, 40) if name == "far" else (400, 330) if name == "wall" else (640, 560))
            at, eye = np.array(self.item().position.value), camera_at(self.session.shot, FRAME).centre
            self.assertEqual(len(self.session.shot.objects), number + 1, name)
            xy = camera_at(self.session.shot, FRAME).project(at)[0]
            clicked = (640, 40) if name == "far" else (400, 330) if name == "wall" else (640, 560)
            self.assertLess(np.linalg.norm(xy - clicked), 110 if name == "point" else 1.0, name)
            if name == "ground":
                self.assertEqual(at[2], 0.0)
            if name == "wall":
                self.assertGreater(at[2], 0.1, "a place on a wall, not the ground before it")
            if name == "point":
                self.assertLess(np.linalg.norm(points_of(self.session.shot) - at, axis=1).min(), 1e-3)
            if name == "far":
                self.assertAlmostEqual(float(np.linalg.norm(at - eye)), 80.0, delta=0.01)
        self.session.snap = "surface"

    def test_files_become_logos_and_cards_also_when_dropped(self):
        svg, png = self.folder / "star.svg", self.folder / "sign.png"
        svg.write_text(STAR)
        cv2.imwrite(str(png), np.full((30, 60, 3), 200, np.uint8))
        for name, path, kind in (("logo", svg, Logo), ("picture", png, Card)):
            with mock.patch("PyQt6.QtWidgets.QFileDialog.getOpenFileName", return_value=(str(path), "")):
                self.take(name)
            self.click_at((700, 560))
            self.wait_idle()
            self.assertIsInstance(self.item(), kind)
        self.assertAlmostEqual(self.item().width.value[0] / self.item().height.value[0], 2.0, places=3)
        with mock.patch("PyQt6.QtWidgets.QFileDialog.getOpenFileName", return_value=(str(png), "")):
            self.take("logo")
        self.click_at((700, 560))
        self.wait_idle()
        self.assertIn("see-through", self.told())
        cut = np.zeros((200, 300, 4), np.uint8)
        cv2.circle(cut, (150, 100), 80, (30, 60, 200, 255), -1, cv2.LINE_AA)
        cv2.imwrite(str(png), cut)
        self.click_at((700, 560))
        self.wait_idle()
        self.assertIsInstance(self.item(), Logo)
        outline = drawing_outlines(self.item().svg)[0][0]
        np.testing.assert_allclose(np.hypot(outline[:, 0], outline[:, 1] - 0.5), 0.5, atol=0.002)
        self.session.undo()
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(svg))])
        at = self.canvas.mapTo(self.window, QPointF(*self.canvas.to_widget((500, 600))).toPoint())
        drop = QDropEvent(QPointF(at), Qt.DropAction.CopyAction, data, LEFT, Qt.KeyboardModifier.NoModifier)
        self.window.dropEvent(drop)
        self.assertEqual(len(self.session.shot.objects), 3)
        xy, _ = camera_at(self.session.shot, FRAME).project(np.array(self.item().position.value))
        np.testing.assert_allclose(xy, (500, 600), atol=2)
        svg.write_text("<!DOCTYPE svg [<!ENTITY a 'b'>]>" + STAR)
        self.window.dropEvent(drop)
        self.assertIn("entities", self.told())
        self.assertEqual(len(self.session.shot.objects), 3)

    def test_a_box_is_drawn_from_its_foot(self):
        self.take("box-stand-in")
        camera = self.canvas.camera()
        spot = lambda *p: camera.project(np.array(p, float))[0]
        foot = [spot(-1, 0.5, 0), spot(0, 0.8, 0), spot(0.6, 1.2, 0)]
        self.drag(foot)
        self.click_at(spot(-1, 0.5, 0.9))
        box = self.item()
        self.assertIsInstance(box, Box)
        self.assertTrue(box.hides and box.receives and not box.drawn)
        self.assertAlmostEqual(box.extent.value[2], 0.9, delta=0.1)
        self.take("box")
        self.drag(foot)
        for key in (Qt.Key.Key_Period, Qt.Key.Key_Return, Qt.Key.Key_Backspace, Qt.Key.Key_2, Qt.Key.Key_Return):
            self.key(key)
            self.canvas.grab()  # a mere point is no number yet
        self.assertEqual(self.item().extent.value[2], 2.0)
        self.session.show_step("Light")
        self.settle()
        self.drag([spot(-1, 1, 0), spot(-0.4, 1.4, 0)])
        for key in (Qt.Key.Key_Period, Qt.Key.Key_Return, Qt.Key.Key_5, Qt.Key.Key_Return):
            self.key(key)
            self.canvas.grab()
        self.assertEqual(self.session.shot.shadow.lines[-1].height, 0.5)


class UntrackedTest(WindowCase):
    """Where there is nothing to track, and where the camera only turns, the same tools place on the view ray."""

    def test_over_an_unsolved_plate_a_title_floats_and_is_keyed_by_hand(self):
        with mock.patch("PyQt6.QtWidgets.QFileDialog.getOpenFileName", return_value=(str(SHOTS / "lookout.mp4"), "")):
            self.click("invite-clip")
        self.wait_idle()
        self.click("step-place")
        self.window.viewer.take("title")
        self.session.snap = "far"
        self.click_at((500, 300))
        title = self.session.shot.objects[-1]
        camera = camera_at(self.session.shot, 0)
        np.testing.assert_allclose(camera.project(np.array(title.position.value))[0], (500, 300), atol=1)
        self.session.set_keying(True)
        tool = self.canvas.tool
        for frame, by in ((0, 20), (40, 120)):
            self.session.show_frame(frame)
            self.settle()
            start = tool._on_widget(tool.handles(self.session.object())["x"])
            self.drag([start, start + [by / 2, 0], start + [by, 0]], plate=False)
        self.window.commands.run("constant-speed")
        keys = self.session.object().position.keys
        self.assertEqual([(k.frame, k.easing) for k in keys][0], (0.0, "linear"))
        at = [camera.project(np.array(self.session.object().position.at(f)))[0] for f in (0, 10, 20, 30, 40)]
        steps = np.linalg.norm(np.diff(at, axis=0), axis=1)
        self.assertGreater(steps.min(), 5)
        self.assertLess(np.ptp(steps) / steps.mean(), 0.1)

    def test_a_camera_that_turns_gets_titles_at_a_distance_and_on_its_floor(self):
        from lodestar.core.basics.job import Job
        from lodestar.core.work.solving import solve_shot
        from lodestar.core.work.tracking import track_shot

        shot = msgspec.structs.replace(with_plate(Shot(), probe(SHOTS / "lookout.mp4")), last=39)
        shot = solve_shot(track_shot(shot, Job()), Job())
        self.assertEqual(shot.solve.motion, "turning")
        self.session.files.start_shot(shot, None)
        self.session.show_step("Place")
        self.settle()
        self.click_at((640, 600))
        title = self.session.shot.objects[-1]
        self.assertAlmostEqual(title.position.value[2], 0.0, places=4)
        np.testing.assert_allclose(camera_at(shot, 0).project(np.array(title.position.value))[0], (640, 600), atol=1)
        self.window.viewer.take("title")
        self.session.snap = "far"
        self.click_at((640, 200))
        far = np.array(self.session.shot.objects[-1].position.value)
        self.assertAlmostEqual(float(np.linalg.norm(far - camera_at(shot, 0).centre)), self.session.far_distance, delta=0.01)

    def test_a_camera_that_stands_still_is_solved_and_a_title_stays_where_it_is_put(self):
        picture = np.repeat((texture(360, 640) * 255).astype(np.uint8)[..., None], 3, -1)
        clip = write_clip(self.folder / "still.mp4", [picture] * 14)
        self.session.files.start_shot(with_plate(Shot(), probe(clip)), None)
        self.session.show_step("Solve")
        self.settle()
        self.click("solve")
        self.wait(lambda: not self.session.jobs.busy)
        shot, panel = self.session.shot, self.window.panel("Solve")
        self.assertEqual(shot.solve.motion, "still")
        self.assertEqual(panel.rows["Camera"][0].text(), "stands still")
        self.assertEqual([panel.lens_rows[name][1].text() for name in ("Focal length", "Distortion k1")], ["not seen"] * 2)
        self.assertEqual(readings.ground(shot).first, "level · camera still")
        self.session.show_step("Place")
        self.settle()
        self.click_at((320, 300))
        at = np.array(self.session.shot.objects[-1].position.value)
        seen = np.array([camera_at(self.session.shot, frame).project(at)[0] for frame in range(14)])
        self.assertLess(float(np.abs(seen - [320, 300]).max()), 0.1)


class HandsTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.place_at((720, 540))
        self.settle()

    def grab_handle(self, canvas, name, by, modifiers=Qt.KeyboardModifier.NoModifier):
        tool = canvas.tool
        start = tool._on_widget(tool.handles(self.session.object())[name])
        self.assertIsNotNone(start, name)
        for kind, at in (
            (QEvent.Type.MouseButtonPress, start),
            (QEvent.Type.MouseMove, start + np.array(by) / 2),
            (QEvent.Type.MouseMove, start + by),
            (QEvent.Type.MouseButtonRelease, start + by),
        ):
            self.mouse(kind, at, modifiers=modifiers, widget=canvas)

    def test_handles_work_in_the_scene_view_too_and_share_the_selection(self):
        self.click("view-scene")
        scene = self.window.viewer.scene
        self.click("look-top")
        scene.fit(chosen=True)
        self.settle()
        title = self.item()
        self.grab_handle(scene, "x", (60, 0))
        after = self.item()
        self.assertNotEqual(after.position, title.position)
        self.assertAlmostEqual(after.position.value[2], title.position.value[2], places=9)
        self.assertEqual(self.session.history.undo_label, f"Move {title.name}")
        self.grab_handle(scene, "turn", (40, 10), SHIFT)
        self.assertAlmostEqual(self.item().turn.value[0] % 15, 0.0, places=6)
        self.session.undo()
        self.session.undo()
        self.assertEqual(self.item(), title)

    def test_the_camera_path_cannot_be_dragged(self):
        self.click("view-scene")
        self.session.select("")
        scene = self.window.viewer.scene
        self.settle()
        before = self.session.shot
        camera = scene.camera()
        for f in (0, 50, 99):
            xy, depth = camera.project(camera_at(self.session.shot, f).centre)
            self.mouse(QEvent.Type.MouseButtonPress, xy, widget=scene)
            self.mouse(QEvent.Type.MouseMove, xy + [40, 30], widget=scene)
            self.mouse(QEvent.Type.MouseButtonRelease, xy + [40, 30], widget=scene)
        self.assertIs(self.session.shot.solve, before.solve)
        self.assertEqual(self.session.shot.ground, before.ground)

    def test_snapping_nudging_and_dropping(self):
        self.grab_handle(self.canvas, "z", (0, -60))
        self.assertGreater(self.item().position.value[2], 0.1)
        self.grab_handle(self.canvas, "z", (0, -20), SHIFT)  # Shift: down on the ground again
        self.assertEqual(self.item().position.value[2], 0.0)
        self.grab_handle(self.canvas, "x", (70, 0), CTRL)
        away = np.linalg.norm(points_of(self.session.shot) - self.item().position.value, axis=1).min()
        self.assertLess(away, 1e-6, "it stands on a point")
        before = np.array(self.item().position.value)
        self.key(Qt.Key.Key_Right)
        self.key(Qt.Key.Key_Right, SHIFT)
        step = np.array(self.item().position.value) - before
        self.assertAlmostEqual(float(np.linalg.norm(step)), 0.22 * box_of(self.item(), FRAME)[1][2], delta=0.01)

    def test_pivot_and_parent_are_chosen_without_a_jump(self):
        before = pose_of(self.session.shot, self.item(), FRAME)
        pivot = self.find("pivot")
        QTest.keyClick(pivot, Qt.Key.Key_Down)
        self.settle()
        self.assertNotEqual(self.item().pivot, (0.0, 0.0, 0.0))
        np.testing.assert_allclose(pose_of(self.session.shot, self.item(), FRAME), before, atol=1e-9)
        anchor = Anchor(id="a", position=constant(2, 2, 0), turn=constant(40, 0, 0), size=constant(3))
        title = self.item().id
        self.session.edit("Anchor", lambda s: msgspec.structs.replace(s, objects=(anchor, *s.objects)))
        self.session.select(title)
        self.settle()
        parent = self.find("parent")
        QTest.keyClick(parent, Qt.Key.Key_Down)
        self.settle()
        item = self.session.object()
        self.assertEqual(item.parent, "a")
        np.testing.assert_allclose(pose_of(self.session.shot, item, FRAME), before, atol=1e-9)
        self.session.select("a")
        self.settle()
        QTest.keyClick(self.find("parent"), Qt.Key.Key_Down)
        self.assertIn("cannot be its parent", self.told())

    def test_any_point_of_an_object_is_picked_as_its_pivot(self):
        item, camera = self.item(), self.canvas.camera()
        before = pose_of(self.session.shot, item, FRAME)
        low, high = box_of(item, FRAME)
        # a point of the I of TITLE, on the front of the letters
        own = np.array([low[0] + 0.31 * (high[0] - low[0]), low[1], 0.5 * high[2]])
        tool = self.canvas.tool
        hit = None
        for share in np.linspace(0.05, 0.95, 61):
            own[0] = low[0] + share * (high[0] - low[0])
            at = self.canvas.to_widget(camera.project(moved(before, own))[0])
            hit = tool._hit(item, QPointF(*at))
            if hit is not None and abs(hit[1][1] - low[1]) < 1e-3:
                break
        np.testing.assert_allclose(hit[1], own, atol=0.02)
        self.mouse(QEvent.Type.MouseButtonPress, at, modifiers=ALT)
        self.mouse(QEvent.Type.MouseButtonRelease, at, modifiers=ALT)
        np.testing.assert_allclose(self.item().pivot, hit[1], atol=0.02)
        np.testing.assert_allclose(pose_of(self.session.shot, self.item(), FRAME), before, atol=1e-9)
        self.mouse(QEvent.Type.MouseButtonPress, (20, 120), modifiers=ALT)
        self.mouse(QEvent.Type.MouseButtonRelease, (20, 120), modifiers=ALT)
        self.assertIn("beside", self.told())

    def test_an_object_is_named_coloured_and_given_its_span(self):
        QTest.keyClicks(self.find("object-name"), "Gate sign")
        self.settle()
        self.assertEqual((self.item().label, self.item().name), ("Gate sign", "Gate sign"))
        self.find("lane-colour").picked.emit((0.2, 0.4, 0.9))
        self.assertEqual(self.item().lane, (0.2, 0.4, 0.9))
        for name, value in (("span-first", "10"), ("span-last", "60")):
            field = self.find(name)
            QTest.mouseClick(field, LEFT)
            field.editor.setText(value)
            QTest.keyClick(field.editor, Qt.Key.Key_Return)
        self.assertEqual(self.item().span, (10, 60))
        for name in ("visible", "locked"):
            before = getattr(self.item(), name)
            self.click(name)
            self.assertNotEqual(getattr(self.item(), name), before)

    def test_copies_go_from_shot_to_shot(self):
        self.window.commands.run("copy")
        self.window.commands.run("paste")
        self.assertEqual(len(self.session.shot.objects), 2)
        self.assertEqual(self.session.shot.objects[1].tracks, self.session.shot.objects[0].tracks)
        other = self.open_window()
        try:
            other.session.files.start_shot(msgspec.structs.replace(files.read(DEMO), objects=()), None)
            other.commands.run("paste")
            self.assertEqual((len(other.session.shot.objects), other.session.shot.objects[0].tracks), (1, ()))
        finally:
            self.close_window(other)

    def test_several_are_chosen_moved_and_set_in_a_row(self):
        for _ in range(2):
            self.window.commands.run("duplicate")
        ids = [o.id for o in self.session.shot.objects]
        self.session.select(ids[0], others=frozenset(ids[1:]))
        self.settle()
        before = [place_of(self.session.shot, o, FRAME) for o in self.session.shot.objects]
        self.grab_handle(self.canvas, "x", (50, 0))
        after = [place_of(self.session.shot, o, FRAME) for o in self.session.shot.objects]
        for a, b in zip(before[1:], after[1:], strict=True):
            np.testing.assert_allclose(b - a, after[0] - before[0], atol=1e-9)
        self.click("in-row")
        x = np.array([place_of(self.session.shot, o, FRAME) for o in self.session.shot.objects])
        np.testing.assert_allclose(x[1], (x[0] + x[2]) / 2, atol=1e-9)
        self.session.show_step("Place")
        self.window.viewer.take("path")
        self.drag([(300, 600), (500, 560), (700, 600), (900, 640)])
        faces = {round(o.turn.value[0], 1) for o in self.session.shot.objects}
        self.assertGreater(len(faces), 1)

    def test_a_title_under_the_ground_is_told_and_dropped_by_one_click(self):
        at = self.item().position.value
        self.session.edit_item("Sink", self.item().id, position=constant(at[0], at[1], -0.4))
        self.settle()
        self.assertIn("under the ground", self.find("object-problem").text())
        self.assertIn("partly hidden", self.window.panel("Place").fact.text())
        self.click("raise")
        self.assertGreater(self.item().position.value[2], -0.03)
        self.assertNotIn("under the ground", self.find("object-problem").text())
        self.assertFalse(self.window.panel("Place").drop_up.isVisible())

    def test_steps_of_two_objects_are_two_steps_of_undo(self):
        self.session.set("Another", objects=(*self.session.shot.objects, Box(id="another")))
        a, b = self.session.shot.objects
        at = lambda id_: np.array(next(o for o in self.session.shot.objects if o.id == id_).position.value)
        begin = at(a.id), at(b.id)
        for id_ in (a.id, b.id):
            self.session.select(id_)
            self.settle()
            self.key(Qt.Key.Key_Right)
            self.key(Qt.Key.Key_Right)
        after = at(a.id)
        self.assertGreater(np.linalg.norm(after - begin[0]), 0.01)
        self.assertGreater(np.linalg.norm(at(b.id) - begin[1]), 0.01)
        self.session.undo()
        np.testing.assert_array_equal(at(b.id), begin[1])
        np.testing.assert_array_equal(at(a.id), after)
        self.session.undo()
        np.testing.assert_array_equal(at(a.id), begin[0])

    def test_nothing_in_hand_and_locked_objects(self):
        self.session.edit_item("Lock", self.item().id, locked=True)
        self.settle()
        before = self.item()
        self.grab_handle(self.canvas, "x", (60, 0))
        self.key(Qt.Key.Key_Right)
        self.assertEqual(self.item(), before)
        self.session.edit("Empty", lambda s: msgspec.structs.replace(s, objects=()))
        for command in ("duplicate", "copy", "up", "face", "drop", "row", "key", "bounce", "constant-speed"):
            self.assertFalse(self.window.commands.all[command].enabled(), command)
            self.window.commands.run(command)
        for key in (Qt.Key.Key_Left, Qt.Key.Key_Delete):
            self.key(key)
        self.assertEqual(self.session.shot.objects, ())


class StandInsTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.click("step-place")
        self.click("choose-points")

    def test_ground_post_and_tube_from_chosen_points(self):
        self.drag([(300, 560), (1000, 560), (1000, 690), (300, 690), (300, 565)])
        self.assertGreater(len(self.session.tracks), 10)
        self.click("make-ground")
        mesh = self.item()
        self.assertIsInstance(mesh, GroundMesh)
        self.assertTrue(mesh.receives)
        self.wait_picture()
        ground = [int(t) for t in self.session.shot.solve.point_ids[np.argsort(points_of(self.session.shot)[:, 0])[:3]]]
        self.session.select(mesh.id, frozenset(ground))
        self.settle()
        self.click("mesh-add")
        self.assertEqual(set(self.item().tracks), set(mesh.tracks) | set(ground))
        self.click("mesh-drop")
        self.assertEqual(set(self.item().tracks), set(mesh.tracks) - set(ground))
        chosen = frozenset(int(t) for t in mesh.tracks[:2])
        for name, kind in (("make-post", Card), ("make-tube", Tube)):
            self.session.select("", chosen)
            self.settle()
            self.click(name)
            self.assertIsInstance(self.item(), kind)
            self.assertTrue(self.item().hides)

    def test_the_ends_of_a_post_are_dragged_and_its_foot_snaps_to_the_ground(self):
        self.window.viewer.take("card")
        self.click_at((700, 560))
        tool, item = self.canvas.tool, self.item()
        foot, top = (lambda: tool.sides(self.item())["side foot"]), (lambda: tool.sides(self.item())["side top"])
        at, way = top()
        self.drag([at, at + 20 * way, at + 40 * way], plate=False)
        longer = self.item()
        self.assertGreater(longer.height.at(FRAME)[0], 1.05 * item.height.at(FRAME)[0])
        self.assertEqual(longer.position, item.position)
        self.assertLess(abs(np.hypot(*(top()[0] - at)) - 40), 4, "the bar stays under the pointer")
        at, way = foot()
        self.drag([at, at - 30 * way], plate=False)
        self.assertGreater(place_of(self.session.shot, self.item(), FRAME)[2], 0.02)
        at, way = foot()
        self.drag([at, at + 3 * way, at + 5 * way], plate=False, modifiers=SHIFT)
        self.assertAlmostEqual(place_of(self.session.shot, self.item(), FRAME)[2], 0.0, places=6)
        self.assertAlmostEqual(self.item().height.at(FRAME)[0], longer.height.at(FRAME)[0], places=6)
        for _ in range(3):
            self.window.commands.run("undo")
        self.assertEqual(self.item(), item)

    def test_no_points_chosen_is_told(self):
        self.session.select("", frozenset())
        self.settle()
        for name in ("make-ground", "make-post", "make-tube"):
            self.click(name)
            self.assertIn("points or more", self.told())
        self.assertEqual(self.session.shot.objects, ())

    def test_what_it_does_is_switched_by_hand(self):
        self.window.viewer.take("card")
        self.click_at((700, 560))
        for name in ("hides", "receives", "drawn"):
            before = getattr(self.item(), name)
            self.click(f"does-{name}")
            self.assertEqual(getattr(self.item(), name), not before)


class GroundTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.place_at((720, 540))
        self.session.show_step("Ground")
        self.settle()

    def seen(self):
        return camera_at(self.session.shot, FRAME).project(place_of(self.session.shot, self.item(), FRAME))[0]

    def test_uprights_and_horizon_are_drawn_listed_and_taken_back(self):
        camera, before = true_cameras()[FRAME], self.seen()
        post = [camera.project(np.array([-3.6, 4.7, z]))[0] for z in (0.0, 1.05)]
        self.click("tool-upright")
        self.drag([post[0], (post[0] + post[1]) / 2, post[1]])
        self.assertEqual(len(self.session.shot.ground.uprights), 1)
        self.click("tool-horizon")
        y = camera.project(camera.centre + np.array([0, 1e5, 0]))[0][1]
        self.drag([(200, y), (600, y), (1000, y)])
        self.assertIsNotNone(self.session.shot.ground.horizon)
        np.testing.assert_allclose(self.seen(), before, atol=0.01)
        self.drag([(400, 400), (404, 400)])
        self.assertIn("too short", self.told())
        for name in ("forget-upright-0", "forget-horizon", "forget-distance-0"):
            self.click(name)
        ground = self.session.shot.ground
        self.assertEqual((ground.uprights, ground.horizon, ground.spans), ((), None, ()))

    def test_a_second_distance_holds_the_solve_when_asked(self):
        shot = self.session.shot
        # long ones, whose places are sure without what is said of them
        tracks, known = shot.tracks, set(np.intersect1d(shot.solve.point_ids, np.flatnonzero(lengths(shot.tracks) >= 40)).tolist())
        rows = tracks.at(FRAME)
        rows = rows[[int(t) in known and 200 < x < 1080 and 420 < y < 600 for t, (x, y) in zip(tracks.track[rows], tracks.xy[rows], strict=True)]]
        crowd = tracks.xy[tracks.at(FRAME)]
        rows = [r for r in rows if (np.linalg.norm(crowd - tracks.xy[r], axis=1) < 14).sum() == 1]  # so that a click tells them from others
        a, b = (min(rows, key=lambda r, x=x: abs(tracks.xy[r][0] - x)) for x in (350, 900))
        self.assertTrue(self.window.findChild(QPushButton, "solve-held").isHidden(), "one distance says nothing of itself")
        self.click_at(tracks.xy[a])
        self.click_at(tracks.xy[b], SHIFT)
        pair = {int(tracks.track[r]) for r in (a, b)}
        self.assertEqual(set(self.session.tracks), pair)
        apart = lambda: float(
            np.linalg.norm(np.subtract(*(points_of(self.session.shot)[self.session.shot.solve.point_ids.tolist().index(t)] for t in pair)))
        )
        said = 1.004 * apart()
        QTest.keyClick(self.find("distance"), Qt.Key.Key_Return)
        self.find("distance").editor.selectAll()
        QTest.keyClicks(self.find("distance").editor, f"{said:.4f}")
        QTest.keyClick(self.find("distance").editor, Qt.Key.Key_Return)
        self.click("set-axis-z")
        span = self.session.shot.ground.spans[-1]
        ids, points = self.session.shot.solve.point_ids.tolist(), points_of(self.session.shot)
        self.assertEqual(({span.a, span.b}, span.along), (pair, "z"))
        self.assertGreaterEqual(*(points[ids.index(t)][2] for t in (span.b, span.a)), "the upper one is said to be above the lower")
        self.session.select("", frozenset())
        self.settle()
        away = next(f for f in shot.frames if not pair & set(tracks.track[tracks.at(f)].tolist()))
        self.session.show_frame(away)
        self.settle()
        self.click("choose-direction-1")
        self.assertEqual(set(self.session.tracks), pair)
        self.assertLessEqual(pair, set(tracks.track[tracks.at(self.session.frame)].tolist()), "a frame that shows both")
        self.click("forget-direction-1")
        self.click("set-distance")
        self.assertEqual(len(self.session.shot.ground.spans), 2)
        before = abs(np.log(said / apart()))
        self.assertGreater(before, 0.0015, "both distances are suited half and half")
        seen = self.seen()
        self.click("solve-held")
        self.wait_idle()
        self.assertTrue(self.session.shot.solving.hold)
        self.assertFalse(solve_is_stale(self.session.shot))
        # long tracks are surer of their distance (0.1 %) than what is said (0.5 %): they yield by some hundredths
        self.assertLess(abs(np.log(said / apart())), 0.99 * before, "what is said has its say")
        self.assertGreater(abs(np.log(said / apart())), 0.5 * before, "the tracks have theirs")
        np.testing.assert_allclose(self.seen(), seen, atol=0.5)
        self.session.show_step("Ground")
        self.settle()
        self.click("forget-distance-1")
        self.assertTrue(solve_is_stale(self.session.shot))
        self.assertTrue(self.window.findChild(QPushButton, "solve-held").isHidden())

    def test_the_scene_is_turned_by_hand_and_the_picture_stays(self):
        before, heights = self.seen(), []
        self.click("tool-turn-scene")
        tool = self.canvas.tool
        for name, by in (("about z", (40, 5)), ("z", (0, -30)), ("size", (25, 10)), ("about x", (0, 25))):
            start = tool._on_widget(tool.handles()[name], self.canvas.camera())
            self.drag([start, start + np.array(by) / 2, start + by], plate=False)
            np.testing.assert_allclose(self.seen(), before, atol=0.01, err_msg=name)
            heights.append(self.session.shot.ground)
        self.assertEqual(len(set(heights)), 4)
        self.assertNotEqual(self.session.shot.ground.sized, 1.0)
        self.click("forget-hand")
        self.assertEqual(self.session.shot.ground.turned, (0.0, 0.0, 0.0))
        np.testing.assert_allclose(self.seen(), before, atol=0.01)

    def test_the_level_that_was_found_is_kept_with_one_click(self):
        for name in ("forget-ground",):
            self.click(name)
        self.assertEqual(self.session.shot.ground.on_ground, ())
        self.session.work._propose_level()  # as a solve does
        self.assertTrue(self.window.strip.isVisible())
        self.click("confirm-level")
        self.assertGreater(len(self.session.shot.ground.on_ground), 50)
        self.assertFalse(self.window.strip.isVisible(), "what was answered is still asked")

    def test_where_nothing_tells_which_way_is_up_that_is_said(self):
        self.click("forget-ground")
        self.assertEqual(readings.ground(self.session.shot).state, readings.GOOD)
        heights = np.random.default_rng(0).uniform(0, 3, (len(self.session.shot.solve.xyz), 1))
        told = dict(xyz=self.session.shot.solve.xyz + heights * [0, 0, 1], uprights=np.zeros((0, 5)), held=True)
        self.session.edit("No ground", lambda s: with_solve(s, msgspec.structs.replace(s.solve, **told)))
        self.settle()
        self.assertEqual(readings.ground(self.session.shot).state, readings.DOUBTFUL)
        self.assertIn("level unsure", readings.ground(self.session.shot).first)
        self.session.work._propose_level()
        self.assertIn("which way is up", self.told())
        self.click("strip-show-the-ground")
        self.assertEqual(self.session.step, "Ground")

    def test_ground_under_a_camera_that_looks_down_is_offered(self):
        self.session.edit("Another place", looked_down_on)
        self.session.show_step("Ground")
        self.settle()
        self.assertEqual(readings.ground(self.session.shot).state, readings.DOUBTFUL)
        self.session.work._propose_level()
        self.assertIn("across the view", self.told())
        self.click("strip-it-looks-down")
        self.assertGreater(len(self.session.shot.ground.on_ground), 190)
        self.assertEqual(readings.ground(self.session.shot).state, readings.GOOD)
        self.assertGreater(camera_at(self.session.shot, FRAME).centre[2], 5)
        self.key(Qt.Key.Key_Z, CTRL)
        self.click("looks-down")
        self.assertGreater(len(self.session.shot.ground.on_ground), 190)

    def test_too_few_points_and_points_in_a_line_are_told(self):
        points = points_of(self.session.shot)
        self.session.select("", frozenset())
        self.settle()
        self.assertFalse(self.find("set-ground").isEnabled())
        on_x = np.argsort(np.abs(points[:, 1] - points[10, 1]) + np.abs(points[:, 2] - points[10, 2]))[:3]
        line = msgspec.structs.replace(self.session.shot.solve, xyz=self.session.shot.solve.xyz.copy())
        xyz = line.xyz.copy()
        xyz[on_x] = xyz[on_x[0]] + np.outer([0, 1, 2], [0.5, 0.1, 0.0])
        self.session.edit("Line", lambda s: with_solve(s, msgspec.structs.replace(line, xyz=xyz)))
        self.session.select("", frozenset(int(t) for t in line.point_ids[on_x]))
        self.settle()
        before = self.session.shot.ground
        self.click("set-ground")
        self.assertIn("one line", self.told())
        self.assertEqual(self.session.shot.ground, before)


class SceneViewTest(PlaceCase):
    def test_looks_points_and_fit(self):
        self.click("view-both")
        scene = self.window.viewer.scene
        for name in ("top", "side", "front", "orbit", "camera"):
            self.click(f"look-{name}")
            xy, depth = scene.camera().project(points_of(self.session.shot))
            inside = ((depth > 0) & (xy > 0).all(1) & (xy < [scene.width(), scene.height()]).all(1)).mean()
            self.assertGreater(inside, 0.3 if name == "camera" else 0.6, name)
        menu = self.find("scene-points").menu()
        tint = {}
        for choice in ("plate", "error"):
            next(a for a in menu.actions() if a.objectName() == f"points-{choice}").trigger()
            self.settle()
            image = scene.grab().toImage()
            tint[choice] = [image.pixel(x, y) for x in range(0, image.width(), 3) for y in range(40, image.height(), 3)]
        self.assertNotEqual(tint["plate"], tint["error"])
        everything = scene.near_points().sum()
        next(a for a in menu.actions() if a.objectName() == "points-up to 2 × the path").trigger()
        self.assertLess(scene.near_points().sum(), everything)
        self.assertGreater(scene.near_points().sum(), 100)

    def test_names_in_one_place_stand_below_each_other(self):
        self.click("view-scene")
        twins = tuple(Box(id=name, label=name) for name in ("ONE", "TWO", "THREE"))
        self.session.edit("Twins", lambda s: msgspec.structs.replace(s, objects=twins))
        self.settle()
        scene, painter, metrics = self.window.viewer.scene, mock.Mock(), QFontMetricsF(theme.font(12))
        scene._paint_objects(painter, scene.camera())
        rooms = [metrics.boundingRect(name).translated(at) for at, name in (call.args for call in painter.drawText.call_args_list)]
        self.assertEqual(len(rooms), len(self.session.shot.objects))
        self.assertFalse([1 for k, room in enumerate(rooms) for other in rooms[:k] if room.intersects(other)])


class HiddenTest(WindowCase):
    def test_what_the_ground_hides_is_worked_out_beside_and_again_where_the_core_let_go_of_it(self):
        self.open_demo()
        item = self.session.shot.objects[0]
        sunk = msgspec.structs.replace(item, position=constant(*item.position.at(0)[:2], -0.5 * item.height.at(0)[0]))
        shot = msgspec.structs.replace(self.session.shot, objects=(sunk, *self.session.shot.objects[1:]))
        for _ in range(2):
            ground._kept.clear()
            self.wait(lambda: derived.hidden_of(shot, sunk, 0) > 0.2)


if __name__ == "__main__":
    unittest.main()
