"""The lines that letters stand on: circles and paths against formulas, and carets that go with them."""

import unittest

import msgspec
import numpy as np

from lodestar.core.basics.keyed import Key, Keyed, constant
from lodestar.core.edits.letters import with_path, with_path_point, without_path_point
from lodestar.core.edits.settle import with_ground
from lodestar.core.evaluate.lettering import caret_ends, carets, letters_move, title_parts, title_places
from lodestar.core.evaluate.lines import path_line
from lodestar.core.evaluate.objects import box_of, mesh_of, pose_of
from lodestar.core.scene.poses import moved
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Bend, Title

ROUND = np.linspace(-np.pi / 2, np.pi / 2, 9)
ARC = np.stack([3 * np.sin(ROUND), 3 - 3 * np.cos(ROUND), 0 * ROUND], 1)  # half a circle on the ground, round (0, 3), from left to right


def on(path, **fields) -> Title:
    return Title(id="t", text="HELLO HILL", height=constant(0.5), path=tuple(np.ravel(path).tolist()), **fields)


class PathTest(unittest.TestCase):
    def test_a_spline_through_points_of_a_circle_is_that_circle(self):
        points, long = path_line(tuple(ARC.ravel()))
        away = np.linalg.norm(points - [0, 3, 0], axis=1)
        self.assertLess(np.abs(away - 3).max(), 0.01)
        self.assertAlmostEqual(long[-1], 3 * np.pi, delta=0.01)
        points, long = path_line((0.0, 0.0, 0.0, 0.0, 3.0, 4.0))  # two points: a straight line
        self.assertAlmostEqual(long[-1], 5.0)

    def test_letters_stand_on_it_upright_and_face_outward(self):
        title = on(ARC)
        for part in title_parts(title, 0):
            m = part.place
            np.testing.assert_allclose(m[:3, :3] @ m[:3, :3].T, np.eye(3), atol=1e-9)
            self.assertAlmostEqual(np.linalg.det(m[:3, :3]), 1.0)
            np.testing.assert_allclose(m[:3, 2], [0, 0, 1], atol=1e-9)
            middle = m[:3, 3] + m[:3, 0] * np.ptp(part.mesh.vertices[:, 0]) / 2
            self.assertAlmostEqual(np.linalg.norm(middle * 0.5 - [0, 3, 0]), 3.0, delta=0.05)
            # read from inside the half circle's front, where the straight title is read from too
            self.assertGreater(m[:3, 1] @ ([0, 3, 0] - middle * 0.5), 0)

    def test_lying_letters_lie_on_the_surface_with_their_tops_to_the_left_of_the_way(self):
        flat = on([[-2, 0, 0], [2, 0, 0]], lying=True, depth=constant(0.2))
        for part in title_parts(flat, 0):
            np.testing.assert_allclose(part.place[:3, 2], [0, 1, 0], atol=1e-9)
        low, high = box_of(flat, 0)
        np.testing.assert_allclose([low[2], high[2]], [0, 0.2], atol=1e-6)  # on the ground, not half in it
        points = mesh_of(flat, 0).vertices * 0.5
        np.testing.assert_allclose([points[:, 2].min(), points[:, 2].max()], [0, 0.2], atol=1e-3)

    def test_the_words_lie_about_its_middle_go_along_it_and_straight_on_beyond_its_ends(self):
        straight = Title(id="t", text="HELLO HILL", height=constant(0.5))
        same = on([[-2, 0, 0], [2, 0, 0]])
        x = lambda title: title_places(title, 0)[:, 0, 3]
        shift = np.array(x(same)) - x(straight)
        np.testing.assert_allclose(shift, shift[0], atol=1e-9)
        self.assertLess(abs(shift[0]), 0.05, "between what the letters cover and what they take up")
        gone = msgspec.structs.replace(same, along=Keyed((0.0,), (Key(0.0, (0.0,)), Key(10.0, (2.0,)))))
        self.assertTrue(letters_move(gone))
        np.testing.assert_allclose(title_places(gone, 10)[:, 0, 3] - x(same), 2.0 * 4 / 0.5, atol=1e-9)

    def test_the_scene_made_larger_takes_it_along(self):
        title = on(ARC)
        self.assertEqual(title.shape_sized(2.0)["path"][3], 2 * title.path[3])

    def test_it_is_laid_changed_and_shortened_through_the_scene(self):
        title = msgspec.structs.replace(on([]), position=constant(1.0, 2.0, 0.5), turn=constant(40.0, 0.0, 0.0), size=constant(1.5))
        shot = Shot(objects=(title,))
        laid = with_path(shot, "t", 0, ARC, np.array([0.0, 0.0, 2.0]))
        item = laid.objects[0]
        np.testing.assert_allclose(moved(pose_of(laid, item, 0), np.array(item.path).reshape(-1, 3)), ARC, atol=1e-4)
        np.testing.assert_allclose(item.path_normal, (0, 0, 1), atol=1e-9)
        other = with_path_point(laid, "t", 0, 2, np.array([5.0, 5.0, 1.0])).objects[0]
        np.testing.assert_allclose(moved(pose_of(laid, other, 0), np.array(other.path[6:9])), [5, 5, 1], atol=1e-4)
        self.assertEqual(len(without_path_point(laid, "t", 2).objects[0].path), len(item.path) - 3)
        two = with_path(shot, "t", 0, ARC[:2], np.array([0.0, 0.0, 1.0]))
        self.assertEqual(without_path_point(two, "t", 0), two)
        self.assertIs(with_path(shot, "t", 0, ARC[:1], np.array([0.0, 0.0, 1.0])), shot)
        # what is said of the ground later leaves it where it is in the picture
        self.assertEqual(with_ground(laid, laid.ground).objects[0].path, item.path)

    def test_paths_that_are_none(self):
        for path in ([0.0] * 6, [0.0, 0.0, 0.0, 0.0, 0.0, 1.0], [1.0] * 30):
            for part in title_parts(on(path), 0):
                self.assertTrue(np.isfinite(part.place).all())


class CaretTest(unittest.TestCase):
    def test_carets_go_with_a_circle_a_path_and_what_deforms_the_letters(self):
        plain = Title(id="t", text="AVE", height=constant(1.0), depth=constant(0.2))
        flat = carets(plain, 0)
        ends = caret_ends(plain, 0)
        np.testing.assert_allclose(ends[:, 0, 0], flat[:, 0], atol=1e-9)
        np.testing.assert_allclose(ends[:, 1, 2] - ends[:, 0, 2], 1.24)
        np.testing.assert_allclose(ends[..., 1], -0.1)
        bent = msgspec.structs.replace(plain, bend=constant(180.0))
        turned = caret_ends(bent, 0)
        way = turned[:, 1] - turned[:, 0]
        self.assertGreater(way[-1] @ [1, 0, 0], 0.9, "half a circle ends on its side")
        self.assertLess(way[0] @ [1, 0, 0], -0.9)
        lying = msgspec.structs.replace(plain, path=(-3.0, 0.0, 0.0, 3.0, 0.0, 0.0), lying=True)
        np.testing.assert_allclose((caret_ends(lying, 0)[:, 1] - caret_ends(lying, 0)[:, 0])[:, 1], 1.24, atol=1e-9)
        leaning = msgspec.structs.replace(plain, deforms=(Bend(id="b", axis="across", angle=constant(90.0)),))
        foot, top = caret_ends(leaning, 0)[1]
        self.assertGreater(abs(top[1] - foot[1]), 0.5, "it leans with the letters")


if __name__ == "__main__":
    unittest.main()
