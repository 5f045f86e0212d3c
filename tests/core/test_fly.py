"""Flying through the hole of a letter."""

import unittest

import msgspec
import numpy as np

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.keyed import constant
from lodestar.core.edits.fly import STEEP_DEG, fly_through, hole_at, hole_under
from lodestar.core.evaluate.cameras import camera_at
from lodestar.core.evaluate.lettering import piece_box, title_pieces
from lodestar.core.evaluate.objects import pose_of
from lodestar.core.scene.poses import moved
from lodestar.core.shot.document import rebased
from lodestar.core.shot.objects import Title
from tests.factory import make_shot


class HoleTest(unittest.TestCase):
    def test_the_hole_under_a_place(self):
        title = Title(id="t", text="HO8", height=constant(2.0))
        pieces, _ = title_pieces(title, 0)
        middles = {}
        for piece in pieces:
            low, high = piece_box(piece)
            middles[title.text[piece.letters[0].letter]] = 2.0 * np.array([piece.x + (low[0] + high[0]) / 2, 0.0, piece.y + (low[1] + high[1]) / 2])
        hole = hole_at(title, middles["O"], 0)
        np.testing.assert_allclose(hole.middle, middles["O"], atol=0.06)
        self.assertTrue(0.15 < hole.radius < 0.7)
        self.assertIsNone(hole_at(title, middles["H"], 0))
        self.assertIsNone(hole_at(title, middles["8"], 0), "the bar of an 8 is no hole")
        upper = hole_at(title, middles["8"] + [0, 0, 0.5], 0)
        self.assertGreater(upper.middle[2], middles["8"][2])
        # no part of the letter is within the radius: its own outline, in metres
        for contour in pieces[1].joined.contours():
            away = np.linalg.norm(2.0 * (contour + [pieces[1].x, pieces[1].y]) - hole.middle[[0, 2]], axis=1)
            self.assertGreaterEqual(away.min(), hole.radius - 1e-3)


class FlyTest(unittest.TestCase):
    def setUp(self):
        shot = make_shot(4, frames=40)
        title = msgspec.structs.replace(shot.objects[0], text="DO", position=constant(0.5, 6.0, 0.0), depth=constant(0.25))
        self.shot = msgspec.structs.replace(shot, objects=(title,))
        self.hole = hole_at(title, self.middle_of("O"), 0)

    def middle_of(self, letter):
        title = self.shot.objects[0]
        piece = next(p for p in title_pieces(title, 0)[0] if title.text[p.letters[0].letter] == letter)
        low, high = piece_box(piece)
        return np.array([piece.x + (low[0] + high[0]) / 2, 0.0, piece.y + (low[1] + high[1]) / 2])

    def test_the_path_passes_through_the_middle_of_the_hole(self):
        for frame in (8, 20, 31):
            for upright in (True, False):
                try:
                    flown = fly_through(self.shot, "t0", self.hole, frame, upright)
                except UserError as error:
                    self.assertIn("steep", error.what)
                    continue
                title = flown.objects[0]
                m = pose_of(flown, title, frame)
                np.testing.assert_allclose(moved(m, self.hole.middle), camera_at(flown, frame).centre, atol=1e-6)
                # the path, in the title's own axes, keeps within the hole over all of its depth
                own = [moved(np.linalg.inv(m), camera_at(flown, frame + s).centre) for s in np.linspace(-1, 1, 81)]
                inside = [p for p in own if abs(p[1]) <= title.depth.at(frame)[0] / 2]
                away = [float(np.hypot(*(p - self.hole.middle)[[0, 2]])) for p in inside]
                self.assertLess(max(away), self.hole.radius)
                pitch, roll = title.turn.at(frame)[1:]
                self.assertAlmostEqual(roll, 0.0, places=6)
                if upright:
                    self.assertAlmostEqual(pitch, 0.0, places=6)

    def test_it_is_chosen_in_the_picture(self):
        camera = camera_at(self.shot, 10)
        at = moved(pose_of(self.shot, self.shot.objects[0], 10), self.hole.middle)
        found = hole_under(self.shot, camera, camera.project(at)[0], 10)
        self.assertEqual(found[0].id, "t0")
        np.testing.assert_allclose(found[1].middle, self.hole.middle, atol=1e-9)
        self.assertIsNone(hole_under(self.shot, camera, np.array([2.0, 2.0]), 10))

    def test_what_cannot_be(self):
        solve = self.shot.solve
        for change, word in (
            ({"motion": "turning"}, "no camera that moves"),
            ({"t": np.repeat(solve.t[:1], len(solve.t), 0), "R": np.repeat(solve.R[:1], len(solve.R), 0)}, "does not move"),
        ):
            shot = rebased(self.shot, solve=msgspec.structs.replace(solve, **change))
            with self.assertRaises(UserError) as told:
                fly_through(shot, "t0", self.hole, 20)
            self.assertIn(word, told.exception.what)

    def test_a_path_that_climbs_is_flown_through_only_square_to_it(self):
        solve = self.shot.solve
        centres = solve.centres + np.stack([np.zeros(40), np.zeros(40), 3.0 * np.arange(40)], 1)  # far steeper than the flight was
        t = -np.einsum("kij,kj->ki", solve.R, centres)
        climbing = rebased(self.shot, solve=msgspec.structs.replace(solve, t=t))
        with self.assertRaises(UserError) as told:
            fly_through(climbing, "t0", self.hole, 20)
        self.assertIn("too steep", told.exception.what)
        flown = fly_through(climbing, "t0", self.hole, 20, upright=False)
        self.assertGreater(abs(flown.objects[0].turn.at(20)[1]), STEEP_DEG)
        m = pose_of(flown, flown.objects[0], 20)
        np.testing.assert_allclose(moved(m, self.hole.middle), camera_at(flown, 20).centre, atol=1e-6)


if __name__ == "__main__":
    unittest.main()
