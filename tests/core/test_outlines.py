"""Outlines whose corners have handles."""

import unittest

import msgspec
import numpy as np
from scipy.spatial import cKDTree

from lodestar.core.basics.errors import ShotFileError
from lodestar.core.basics.keyed import Key, Keyed
from lodestar.core.edits.outlines import with_corner, with_handles, without_corner, without_handles
from lodestar.core.matte.outline import Form, coverage, smooth_line
from lodestar.core.matte.sources import Outline, line_of
from lodestar.core.shot.checked import checked
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Title

K = 4 / 3 * (np.sqrt(2) - 1)  # length of the handles of a quarter of a circle (handbooks; the cubic is true to 0.03 % of the radius)
FIVE = np.array([[40.0, 30.0], [120.0, 20.0], [160.0, 90.0], [90.0, 150.0], [30.0, 100.0]])


def keyed(*shapes) -> Keyed:
    values = [tuple(float(v) for v in np.asarray(shape).ravel()) for shape in shapes]
    return Keyed(values[0], tuple(Key(10.0 * k, value) for k, value in enumerate(values)))


def between(line, other):
    """Largest distance (px) of places on one closed line from the other, both cut finely."""
    dense = lambda p: np.concatenate([a + (b - a) * np.linspace(0, 1, 40)[:, None] for a, b in zip(p, np.roll(p, -1, 0), strict=True)])
    a, b = dense(line), dense(other)
    return float(cKDTree(b).query(a[::7])[0].max())


class HandlesTest(unittest.TestCase):
    def test_four_corners_with_handles_are_a_circle(self):
        corners = np.array([[100.0, 40.0], [160.0, 100.0], [100.0, 160.0], [40.0, 100.0]])
        way = np.array([[1.0, 0], [0, 1.0], [-1.0, 0], [0, -1.0]]) * 60 * K
        handles = np.stack([corners - way, corners + way], 1).reshape(-1, 2)
        shape = np.concatenate([corners, handles])
        line = smooth_line(shape, 60, handled=(0, 1, 2, 3))
        np.testing.assert_allclose(np.linalg.norm(line - 100, axis=1), 60, atol=60 * 4e-4)
        cover = coverage(shape, 200, 200, Form(handled=(0, 1, 2, 3)))
        self.assertAlmostEqual(float(cover.sum()) / (np.pi * 60**2), 1.0, delta=0.001)

    def test_handles_that_a_corner_is_given_change_nothing_and_go_again(self):
        outline = Outline(id="o", name="O", shape=keyed(FIVE, FIVE * 1.1 + [5, 9]), sharp=(1,), feathers=(1.0, 2.0, 1.0, 1.0, 0.5))
        for corner in range(5):
            made = with_handles(outline, corner)
            self.assertEqual((made.handled, made.count, made.feathers), ((corner,), 5, outline.feathers))
            for frame in (0, 4, 10):
                if frame != 4 or corner != 1:
                    line, old = (line_of(o, np.array(o.shape.at(frame)).reshape(-1, 2)) for o in (made, outline))
                    np.testing.assert_allclose(line, old, atol=0.35 if frame == 4 else 1e-9)
            self.assertEqual(without_handles(made, corner).shape, outline.shape)
        self.assertNotIn(1, with_handles(outline, 1).sharp)

    def test_a_new_corner_leaves_the_shape_as_it_is_at_each_key(self):
        for closed in (True, False):
            outline = Outline(id="o", name="O", shape=keyed(FIVE, FIVE * [1.3, 0.8] + [9, 2], FIVE[::-1]), sharp=(3,), closed=closed)
            outline = with_handles(outline, 0)
            for after in range(5 if closed else 4):
                made = with_corner(outline, after, 0.3)
                self.assertEqual(made.count, 6)
                for frame in (0, 10, 20):
                    line, old = (line_of(o, np.array(o.shape.at(frame)).reshape(-1, 2)) for o in (made, outline))
                    self.assertLess(between(line, old), 0.6, (closed, after, frame))  # chords of the line itself
                    fine, rough = (smooth_line(np.array(o.shape.at(frame)).reshape(-1, 2), 200, o.sharp, closed, o.handled) for o in (made, outline))
                    self.assertLess(between(fine[::4], rough[::4]), 0.12)
        square = Outline(id="o", name="O", shape=keyed(FIVE[:4]), sharp=(0, 1, 2, 3))
        made = with_corner(square, 3, 0.25)
        self.assertEqual((made.handled, made.sharp), ((), (0, 1, 2, 3, 4)))
        np.testing.assert_allclose(np.array(made.shape.value)[8:], FIVE[3] + 0.25 * (FIVE[0] - FIVE[3]))

    def test_a_corner_less_takes_its_handles_along(self):
        outline = with_handles(with_handles(Outline(id="o", name="O", shape=keyed(FIVE)), 1), 3)
        less = without_corner(outline, 1)
        self.assertEqual((less.count, less.handled), (4, (2,)))
        np.testing.assert_allclose(np.array(less.shape.value)[8:], np.array(outline.shape.value)[14:])

    def test_a_key_of_some_corners_leaves_the_others_between_their_own(self):
        shape = keyed(FIVE, FIVE + [20, 0])
        moved = FIVE + [10, 0]
        moved[1] += [0, 40]
        shape = shape.with_key(5, tuple(moved.ravel()), "linear", (2, 3))
        shape = msgspec.structs.replace(shape, keys=tuple(msgspec.structs.replace(k, easing="linear") for k in shape.keys))
        at = lambda shape, frame: np.array(shape.at(frame)).reshape(-1, 2)
        for frame in (0, 2.5, 5, 7, 10, 12):
            want = FIVE + [2 * min(frame, 10), 0]
            want[1] += [0, 8 * max(0, min(frame, 10 - frame))]  # there and back for this corner alone
            np.testing.assert_allclose(at(shape, frame), want, atol=1e-9)
        np.testing.assert_allclose(shape.over(np.array([2.5, 7])), [shape.at(2.5), shape.at(7)])
        # the others change at other keys: what this key does not hold is not remembered by it
        later = shape.with_key(10, tuple((FIVE + [60, 0]).ravel()))
        np.testing.assert_allclose(at(later, 5)[[0, 2, 3, 4]], (FIVE + [30, 0])[[0, 2, 3, 4]])
        np.testing.assert_allclose(at(later, 5)[1], moved[1])
        # another corner joins the key, and all of them make it whole
        self.assertEqual(later.with_key(5, later.at(5), only=(8, 9)).keys[1].only, (2, 3, 8, 9))
        self.assertEqual(later.with_key(5, later.at(5)).keys[1].only, ())
        self.assertEqual(later.with_key(10, later.at(10), only=(0, 1)).keys[2].only, ())
        alone = Keyed(shape.value, (shape.keys[1],))
        self.assertEqual(alone.at(9), shape.keys[1].value)

    def test_corners_that_are_keyed_apart_stay_so_when_some_come_and_go(self):
        shape = keyed(FIVE, FIVE + [20, 0])
        moved = FIVE + [10, 0]
        moved[3] += [0, 40]
        outline = Outline(id="o", name="O", shape=shape.with_key(5, tuple(moved.ravel()), "linear", (6, 7)), sharp=(0, 1, 2, 3, 4), apart=True)
        self.assertEqual((outline.keyed_at(5), outline.keyed_at(0), outline.keyed_at(3)), ((3,), (0, 1, 2, 3, 4), ()))
        self.assertEqual(without_corner(outline, 1).keyed_at(5), (2,))
        self.assertEqual([k.frame for k in without_corner(outline, 3).shape.keys], [0, 10])
        for change, held, numbers in (
            (with_corner(outline, 3, 0.5), (3, 4), [0, 1, 2, 3, 5]),
            (with_corner(outline, 0, 0.5), (4,), [0, 2, 3, 4, 5]),
            (with_handles(outline, 3), (3,), range(5)),
        ):
            self.assertEqual(change.keyed_at(5), held)
            checked(Shot(mattes=(change,)), "a")
            for frame in (0, 3, 5, 8, 10):
                np.testing.assert_allclose(
                    np.array(change.shape.at(frame)).reshape(-1, 2)[list(numbers)], np.array(outline.shape.at(frame)).reshape(-1, 2), atol=1e-9
                )
        self.assertEqual(with_handles(outline, 3).shape.keys[1].only, (6, 7, 10, 11, 12, 13))

    def test_handles_that_do_not_fit_are_refused(self):
        good = with_handles(Outline(id="o", name="O", shape=keyed(FIVE)), 1)
        checked(Shot(mattes=(good,)), "a")
        for handled in ((1, 1), (9,), (2, 1), (0, 1, 2, 3)):
            with self.assertRaises(ShotFileError):
                checked(Shot(mattes=(msgspec.structs.replace(good, handled=handled),)), "a")
        for only in ((0,), (1, 2), (2, 3, 0, 1), (14, 15)):
            keyed_apart = Keyed(good.shape.value, (msgspec.structs.replace(good.shape.keys[0], only=only),))
            with self.assertRaises(ShotFileError):
                checked(Shot(mattes=(msgspec.structs.replace(good, shape=keyed_apart),)), "a")
        title = Title(id="t", position=Keyed((0.0, 0.0, 0.0), (Key(4.0, (0.0, 0.0, 1.0), only=(3,)),)))
        with self.assertRaisesRegex(ShotFileError, "only"):
            checked(Shot(objects=(title,)), "a")


if __name__ == "__main__":
    unittest.main()
