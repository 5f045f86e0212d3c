"""The whole path in the window, by mouse: clip, track, solve, ground, title, light, matte, movie."""

import unittest
from unittest import mock

import av
import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from lodestar.core.evaluate.cameras import camera_at, scene_frame
from lodestar.core.shot import files
from tests.app.window_case import SHIFT, WindowCase
from tests.helpers import SHOTS


class PathTest(WindowCase):
    def test_from_a_clip_to_a_movie(self):
        clip = str(SHOTS / "terrace.mp4")
        with mock.patch("PyQt6.QtWidgets.QFileDialog.getOpenFileName", return_value=(clip, "")):
            self.click("invite-clip")
        self.wait_idle()
        self.assertEqual(self.session.shot.plate.count, 100)
        self.session.set("Shorten", last=39)

        self.click("step-track")
        self.click("track")
        self.assertTrue(self.session.jobs.busy)
        self.wait_idle()
        self.assertGreater(self.session.shot.tracks.count, 300)

        self.click("step-solve")
        self.click("solve")
        self.wait_idle()
        solve = self.session.shot.solve
        self.assertIsNotNone(solve, self.told())
        self.assertLess(solve.mean_px, 0.6)
        self.click("reject-worst")
        self.assertTrue(self.session.shot.tracks.rejected.any())
        self.assertIn("stale", self.find("step-solve").accessibleDescription())

        self._say_the_ground()
        self._place_a_title()
        self._read_the_sun()
        self._draw_the_visitor()
        out = self.folder / "out.mp4"
        self.click("step-output")
        self.session.set("Shorten", first=10, last=14)
        with mock.patch("PyQt6.QtWidgets.QFileDialog.getSaveFileName", return_value=(str(out), "")):
            self.click("write-output")
        self.wait_idle()
        with av.open(str(out)) as movie:
            self.assertEqual(sum(1 for _ in movie.decode(video=0)), 5)
        self.assertEqual(self.session.shot.output.path, str(out))
        with mock.patch("PyQt6.QtWidgets.QFileDialog.getSaveFileName", return_value=(str(self.folder / "mine.lode"), "")):
            self.key(Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier, self.window)
        self.assertEqual(files.read(self.folder / "mine.lode").objects, self.session.shot.objects)
        self.assertFalse(self.session.files.unsaved)

    def _say_the_ground(self):
        self.click("step-ground")
        self.session.show_frame(20)
        self.settle()
        # a line drawn round the lower part of the picture, where the terrace is
        self.drag([(300, 560), (1200, 560), (1200, 700), (300, 700), (300, 565)])
        self.assertGreater(len(self.session.tracks), 10)
        self.click("set-ground")
        self.assertGreater(len(self.session.shot.ground.on_ground), 10)
        points = scene_frame(self.session.shot).points(self.session.shot.solve.xyz)
        tracks = self.session.shot.tracks
        chosen = [int(t) for t in tracks.track[tracks.at(20)] if t in self.session.shot.ground.on_ground]
        first, second = chosen[0], max(chosen, key=lambda t: np.linalg.norm(self._track_at(t) - self._track_at(chosen[0])))
        self.click_at(self._track_at(first))
        self.click("set-origin")
        self.assertEqual(self.session.shot.ground.origin, first)
        self.click_at(self._track_at(second), SHIFT)
        self.assertEqual(self.session.tracks, {first, second})
        field = self.find("distance")
        QTest.keyClicks(field, "3")
        QTest.keyClick(field.editor, Qt.Key.Key_Return)
        self.click("set-distance")
        self.assertEqual(self.session.shot.ground.spans[0].metres, 3.0)
        points = scene_frame(self.session.shot).points(self.session.shot.solve.xyz)
        place = dict(zip(self.session.shot.solve.point_ids.tolist(), points))
        self.assertAlmostEqual(float(np.linalg.norm(place[first] - place[second])), 3.0, places=6)
        self.assertLess(abs(place[second][2]), 0.1)

    def _track_at(self, number: int):
        tracks = self.session.shot.tracks
        rows = tracks.at(self.session.frame)
        return tracks.xy[rows[tracks.track[rows] == number][0]]

    def _place_a_title(self):
        self.click("step-place")
        self.click_at((700, 520))  # the tool for placing is in hand where there is no title yet
        self.assertEqual(len(self.session.shot.objects), 1)
        title = self.session.shot.objects[0]
        self.assertEqual(title.turn.at(0)[1:], (0, 0))
        xy, _ = camera_at(self.session.shot, 20).project(np.array(title.position.at(20)))
        np.testing.assert_allclose(xy, (700, 520), atol=12)
        self.assertLess(abs(title.position.at(20)[2]), 0.05)
        words = self.find("words")
        words.selectAll()
        QTest.keyClicks(words, "GATE 3")
        self.assertEqual(self.session.shot.objects[0].text, "GATE 3")
        before = self.session.shot.objects[0].position
        self.wait_picture()
        self.drag([(700, 505), (720, 505), (760, 505), (790, 505)])
        after = self.session.shot.objects[0].position
        self.assertNotEqual(before, after)
        self.assertAlmostEqual(before.at(0)[2], after.at(0)[2], places=6)  # dragged over the ground, not off it
        self.session.undo()
        self.assertEqual(self.session.shot.objects[0].position, before)

    def _read_the_sun(self):
        self.click("step-light")
        camera = camera_at(self.session.shot, 20)
        foot, tip, top = np.array([1.0, 2.0, 0]), np.array([1.8, 2.5, 0]), np.array([1.0, 2.0, 0.8])
        pixels = [camera.project(p)[0] for p in (foot, tip, top)]
        self.drag([pixels[0], (pixels[0] + pixels[1]) / 2, pixels[1]])
        self.click_at(pixels[2])
        light = self.session.shot.lamps[0]
        self.assertEqual(len(self.session.shot.shadow.lines), 1)
        bearing = np.rad2deg(np.arctan2(-0.8, -0.5)) % 360
        self.assertAlmostEqual(light.bearing.at(0)[0], bearing, delta=1.5)
        self.assertAlmostEqual(light.height.at(0)[0], np.rad2deg(np.arctan2(0.8, np.hypot(0.8, 0.5))), delta=1.5)

    def _draw_the_visitor(self):
        self.click("step-foreground")
        self.wait_picture()
        free = self.pixels().copy()
        corners = [(560, 380), (760, 380), (760, 560), (560, 560)]
        for corner in corners:
            self.click_at(corner)
        self.click_at(corners[0])
        self.assertEqual(len(self.session.shot.mattes), 1)
        self.wait_picture()
        covered = self.pixels()
        self.assertTrue((free != covered).any(), "the matte changes the picture")
        self.session.show_frame(25)
        seen = self.canvas.tool.shape_here()[2]  # it went with the camera since it was drawn
        self.drag([seen, (800, 590)])
        matte = self.session.shot.mattes[0]
        self.assertEqual([k.frame for k in matte.shape.keys], [20, 25])
        np.testing.assert_allclose(np.array(matte.shape.at(25)).reshape(-1, 2)[2], (800, 590), atol=2)


if __name__ == "__main__":
    unittest.main()
