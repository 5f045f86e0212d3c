"""Keys, edges that move, and mattes that refer to each other."""

import tempfile
import unittest

import cv2
import msgspec
import numpy as np

from lodestar.core.basics.colour import to_xyz
from lodestar.core.basics.errors import PlateError, ShotFileError
from lodestar.core.basics.keyed import constant
from lodestar.core.matte.key import Keyer, keyed_cover, oklab, sample_at, without_specks
from lodestar.core.matte.matte import edged
from lodestar.core.matte.outline import Form, coverage
from lodestar.core.matte.sources import Outline, Pictured, View, coverage_of, matte_of
from lodestar.core.picture.composite import light_of
from lodestar.core.picture.frame import frame
from lodestar.core.picture.matte_view import VIEWS, behind, matte_view
from lodestar.core.picture.workshop import close_workshop
from lodestar.core.shot import files
from lodestar.core.shot.checked import checked
from tests.helpers import DEMO

SKY, WALL = (0.35, 0.5, 0.8), (0.4, 0.3, 0.2)


def two_halves(width=60, height=40):
    """Left of the middle column the sky's colour, right of it the wall's, the middle half of each."""
    light = np.empty((height, width, 3), np.float32)
    light[:, : width // 2], light[:, width // 2 :] = SKY, WALL
    light[:, width // 2] = 0.5 * (np.array(SKY) + WALL)
    return light


def within(polygon: np.ndarray, left: float, top: float) -> float:
    """Area of a polygon (n, 2) within the px whose corner is at (left, top)."""
    kept = [tuple(p) for p in polygon]
    for axis, sign, limit in ((0, 1, left), (0, -1, -left - 1), (1, 1, top), (1, -1, -top - 1)):
        before, kept = kept, []
        for a, b in zip(before, before[1:] + before[:1], strict=True):
            u, v = sign * a[axis] - limit, sign * b[axis] - limit
            if u >= 0:
                kept.append(a)
            if (u < 0) != (v < 0):
                kept.append(tuple(np.array(a) + u / (u - v) * (np.array(b) - a)))
    if len(kept) < 3:
        return 0.0
    x, y = np.array(kept).T
    return abs(float(x @ np.roll(y, -1) - y @ np.roll(x, -1))) / 2


def box(id_, x0, y0, x1, y1, **more):
    """An outline with straight sides (many corners each)."""
    t = np.linspace(0, 1, 9)[:-1]
    corners = [(x0, y0), (x1, y0), (x1, y1), (x0, y1)]
    points = np.concatenate([np.array(a) + t[:, None] * np.subtract(b, a) for a, b in zip(corners, corners[1:] + corners[:1])])
    return Outline(id=id_, name=id_, shape=constant(*points.ravel()), feather=constant(0.0), **more)


class KeyTest(unittest.TestCase):
    def test_oklab_as_published(self):
        """The table of B. Ottosson's page on Oklab, XYZ to Lab, three digits (from memory)."""
        xyz = np.array([[0.950, 1.0, 1.089], [1, 0, 0], [0, 1, 0], [0, 0, 1]])
        known = np.array([[1.0, 0.0, 0.0], [0.450, 1.236, -0.019], [0.922, -0.671, 0.263], [0.153, -1.415, -0.449]])
        found = oklab(xyz @ np.linalg.inv(to_xyz("bt709")).T)
        np.testing.assert_allclose(found, known, atol=0.0035)

    def test_a_colour_is_told_from_another_and_an_edge_is_in_between(self):
        cover = keyed_cover(Keyer(id="k", name="k", samples=(SKY,), tolerance=constant(0.03), fade=constant(0.08)), two_halves(), 0)
        self.assertEqual(cover[:, :30].min(), 1)
        self.assertEqual(cover[:, 31:].max(), 0)
        self.assertTrue(0 < cover[0, 30] < 1, cover[0, 30])

    def test_the_same_colour_in_part_shade_is_kept(self):
        shaded = np.full((4, 4, 3), SKY, np.float32) * 0.7
        key = Keyer(id="k", name="k", samples=(SKY,), tolerance=constant(0.05))
        self.assertEqual(keyed_cover(key, shaded, 0).min(), 1)
        self.assertEqual(keyed_cover(key, np.full((4, 4, 3), WALL, np.float32), 0).max(), 0)

    def test_brightness_is_lightness_whatever_the_colour(self):
        key = Keyer(id="k", name="k", by="brightness", dark=constant(0.5), bright=constant(0.9), fade=constant(0.02))
        # 18 % grey has a lightness of 0.565: the cube root of its light
        cover = keyed_cover(key, np.array([[[0.18] * 3, [0.08] * 3, [0.9] * 3]], np.float32), 0)
        np.testing.assert_array_equal(cover, [[1, 0, 0]])

    def test_nothing_picked_covers_nothing(self):
        self.assertEqual(keyed_cover(Keyer(id="k", name="k"), two_halves(), 0).max(), 0)

    def test_specks_go_and_large_parts_stay(self):
        cover = np.zeros((60, 60), np.float32)
        cover[10:40, 10:40] = 1
        cover[20:22, 20:22] = 0
        cover[50:52, 50:53] = 1
        clean = without_specks(cover, 4)
        self.assertEqual(clean[20, 20], 1)
        self.assertEqual(clean[50, 50], 0)
        self.assertEqual(clean.sum(), 900)
        np.testing.assert_array_equal(without_specks(cover, 0), cover)

    def test_a_sample_is_the_mean_round_a_place_and_stays_in_the_picture(self):
        light = two_halves()
        np.testing.assert_allclose(sample_at(light, 5, 5), SKY, atol=1e-5)
        np.testing.assert_allclose(sample_at(light, 500, -9), WALL, atol=1e-5)


class EdgeTest(unittest.TestCase):
    def test_an_edge_moves_by_parts_of_a_px(self):
        """Area of a disc of radius r: pi r^2."""
        round_ = np.linspace(0, 2 * np.pi, 40, endpoint=False)
        for grow in (-3.0, -0.4, 0.5, 1.0, 2.25):
            points = np.c_[np.cos(round_), np.sin(round_)]
            cover = edged(coverage(60 + 25 * points, 121, 121), grow, 0)
            self.assertAlmostEqual(float(cover.sum()) / (np.pi * (25 + grow) ** 2), 1, delta=0.02, msg=grow)

    def test_each_px_is_covered_by_the_area_of_the_polygon_in_it(self):
        """Against the polygon cut to each px (I. Sutherland, G. Hodgman, CACM 1974) and the shoelace formula."""
        rng = np.random.default_rng(5)
        for shift in (0.0, -9.0, 14.0):  # in the picture, and cut by its left and upper, right and lower border
            angle = np.sort(rng.uniform(0, 2 * np.pi, 9))
            corners = 12 + shift + np.c_[np.cos(angle), np.sin(angle)] * rng.uniform(3, 10, (9, 1))
            for shape in (corners, corners[::-1]):
                cover = coverage(shape, 24, 24, Form(sharp=tuple(range(9))))
                exact = np.array([[within(corners, x - 0.5, y - 0.5) for x in range(24)] for y in range(24)])
                np.testing.assert_allclose(cover, exact, atol=2e-6)
        bow = np.array([[2.0, 2.0], [18.0, 14.0], [18.0, 2.0], [2.0, 14.0]])  # crosses itself in the middle
        self.assertAlmostEqual(float(coverage(bow, 24, 24, Form(sharp=(0, 1, 2, 3))).sum()), 2 * 0.5 * 12 * 8, delta=0.5)

    def test_sharp_corners_and_open_lines_cover_what_formulas_say(self):
        square = np.array([[20.3, 20.0], [60.3, 20.0], [60.3, 50.5], [20.3, 50.5]])
        hard = coverage(square, 90, 90, Form(sharp=(0, 1, 2, 3)))
        self.assertAlmostEqual(float(hard.sum()), 40 * 30.5, places=3)
        self.assertEqual(hard[35, 21:60].min(), 1)
        self.assertEqual(hard[35, 62:].max(), 0)
        self.assertGreater(float(coverage(square, 90, 90).sum()), 40 * 30.5 * 1.1, "smooth corners bulge")
        # a straight line of width w with round ends: w l + pi w^2 / 4
        stroke = coverage(np.array([[20.0, 30.0], [60.0, 45.0]]), 90, 90, Form(closed=False, thick=7.0))
        self.assertAlmostEqual(float(stroke.sum()), 7 * np.hypot(40, 15) + np.pi * 49 / 4, delta=0.5)
        thin = coverage(np.array([[20.3, 30.2], [60.3, 30.2]]), 90, 90, Form(closed=False, thick=0.5))
        self.assertAlmostEqual(float(thin.sum()), 0.5 * 40, delta=0.5)

    def test_a_feather_differs_from_corner_to_corner_and_reaches_inward(self):
        square = np.array([[30.0, 30.0], [90.0, 30.0], [90.0, 90.0], [30.0, 90.0]])
        sharp = (0, 1, 2, 3)
        even = coverage(square, 120, 120, Form(sharp, outward=12))
        same = coverage(square, 120, 120, Form(sharp, outward=12, shares=(1, 1, 1, 0.999)))
        self.assertLess(float(np.abs(even - same).max()), 0.1, "by the distance of pixels, or of the line")
        own = coverage(square, 120, 120, Form(sharp, outward=12, shares=(0, 2, 2, 0)))
        self.assertEqual(float(own[60, :28].max()), 0)  # between two corners without feather
        column = own[60, 91:118]
        np.testing.assert_allclose(column[11], 0.5, atol=0.05)  # half of the way over 24 px
        self.assertTrue((np.diff(column) <= 1e-6).all())
        both = coverage(square, 120, 120, Form(sharp, outward=10, inward=10))
        np.testing.assert_allclose(both[60, 30], 0.5, atol=0.05)
        self.assertEqual((both[60, 42], both[60, 18]), (1, 0))

    def test_softening_keeps_the_area(self):
        cover = coverage_of(box("a", 20, 20, 60, 60), View(0, 80, 80))
        soft = edged(cover, 0, 3)
        self.assertAlmostEqual(float(soft.sum()), float(cover.sum()), delta=1)
        self.assertGreater(((soft > 0.05) & (soft < 0.95)).sum(), 4 * ((cover > 0.05) & (cover < 0.95)).sum())


class ReferringTest(unittest.TestCase):
    def setUp(self):
        self.left, self.high = box("left", 0, 0, 40, 80), box("high", 0, 0, 80, 30)
        self.view = View(0, 80, 80, others=(self.left, self.high))
        self.areas = {m.id: float(coverage_of(m, self.view).sum()) for m in (self.left, self.high)}
        both = coverage_of(self.left, self.view) * coverage_of(self.high, self.view)
        self.both = float(both.sum())

    def cover(self, **fields):
        return float(coverage_of(msgspec.structs.replace(self.left, **fields), self.view).sum())

    def test_only_inside_and_not_inside(self):
        self.assertAlmostEqual(self.cover(within=("high",)), self.both, delta=1e-3)
        self.assertAlmostEqual(self.cover(without=("high",)), self.areas["left"] - self.both, delta=1e-3)

    def test_what_is_referred_to_may_be_off(self):
        off = msgspec.structs.replace(self.high, on=False)
        view = self.view._replace(others=(self.left, off))
        self.assertAlmostEqual(float(coverage_of(msgspec.structs.replace(self.left, within=("high",)), view).sum()), self.both, delta=1e-3)
        self.assertEqual(matte_of((off,), view).max(), 0)

    def test_a_ring_ends_and_what_is_gone_counts_for_nothing(self):
        ring = (msgspec.structs.replace(self.left, without=("high",)), msgspec.structs.replace(self.high, without=("left",)))
        found = coverage_of(ring[0], self.view._replace(others=ring))
        self.assertAlmostEqual(float(found.sum()), self.areas["left"] - self.both, delta=1e-3)
        self.assertEqual(self.cover(within=("gone",)), 0)
        self.assertEqual(self.cover(without=("gone",)), self.areas["left"])


class PicturedTest(unittest.TestCase):
    def test_channels_of_a_sequence_and_where_it_begins(self):
        with tempfile.TemporaryDirectory() as folder:
            for k in range(3):
                picture = np.zeros((36, 64, 4), np.uint8)
                picture[:, : 16 * (k + 1)] = (0, 0, 255, 128)  # blue, green, red, alpha
                cv2.imwrite(f"{folder}/m.{k:04}.png", picture)
            shot = files.read(DEMO)
            cover = lambda index, **fields: (
                frame(
                    msgspec.structs.replace(shot, mattes=(Pictured(id="p", name="p", picture=f"{folder}/m.0000.png", **fields),)),
                    index,
                    layer="matte",
                ).pixels
            )
            self.assertAlmostEqual(float(cover(12, first=10).mean()), 0.75 * 128 / 255, delta=0.01)
            self.assertAlmostEqual(float(cover(10, first=10, channel="red").mean()), 0.25, delta=0.01)
            self.assertEqual(float(cover(10, channel="blue", first=10).max()), 0)
            self.assertAlmostEqual(float(cover(11, first=10, channel="brightness").max()), 0.2126, delta=0.002)
            with self.assertRaises(PlateError):
                frame(msgspec.structs.replace(shot, mattes=(Pictured(id="p", name="p", picture=f"{folder}/none.png"),)), 0, layer="matte")
        close_workshop()


class InShotTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.addClassCleanup(close_workshop)
        cls.shot = files.read(DEMO)
        light = light_of(frame(cls.shot, 0, layer="plate").pixels, cls.shot.plate.transfer)
        sky = tuple(sample_at(light, x, y) for x, y in ((640, 30), (200, 60), (470, 25), (250, 10), (480, 85), (1240, 15)))
        cls.key = Keyer(id="sky", name="Sky", samples=sky, tolerance=constant(0.03), fade=constant(0.02), specks=constant(12.0))
        cls.keyed = msgspec.structs.replace(cls.shot, mattes=(*cls.shot.mattes, cls.key))

    def test_the_sky_of_the_demo_is_keyed(self):
        cover = frame(self.keyed, 0, layer="matte", mattes=("sky",)).pixels
        self.assertGreater(cover[5:60, 20:-20].mean(), 0.97)  # open sky above the domes
        self.assertLess(cover[140:].mean(), 0.1)  # hills and paving, but for what glints
        half = frame(self.keyed, 0, layer="matte", mattes=("sky",), scale=0.5).pixels
        self.assertLess(np.abs(half - cover.reshape(360, 2, 640, 2).mean((1, 3))).mean(), 0.01)

    def test_a_matte_that_does_not_hide_leaves_titles_that_stand_behind_all(self):
        quiet = msgspec.structs.replace(self.keyed, mattes=(*self.shot.mattes, msgspec.structs.replace(self.key, hides=False, inverted=True)))
        loud = msgspec.structs.replace(self.keyed, mattes=(*self.shot.mattes, msgspec.structs.replace(self.key, inverted=True)))
        a, b, c = (frame(s, 20, "draft").pixels.astype(int) for s in (self.shot, quiet, loud))
        np.testing.assert_array_equal(a, b)
        self.assertGreater(np.abs(a - c).max(), 30)

    def test_the_views_show_what_they_say(self):
        cover = frame(self.keyed, 0, layer="matte", mattes=("sky",)).pixels
        found = {view: matte_view(self.keyed, 0, view, ("sky",)) for view in VIEWS}
        np.testing.assert_array_equal(found["matte"][..., 0], np.round(255 * cover))
        inside, outside = cover == 1, cover == 0
        plate = frame(self.keyed, 0, layer="plate").pixels
        for view in VIEWS[3:]:
            self.assertLess(np.abs(found[view][inside].astype(int) - plate[inside]).max(), 3, view)
        self.assertEqual(found["over white"][outside].min(), 255)
        self.assertEqual(found["over black"][outside].max(), 0)
        self.assertEqual(len(np.unique(behind("checker", 60, 60))), 2)
        self.assertGreater(int(found["edge"].max()), 200)
        tint = found["tint"][inside].astype(int) - plate[inside]
        self.assertLess(tint[:, 2].mean(), -20)  # the tint is orange: less blue

    def test_it_is_written_and_read_and_nonsense_is_refused(self):
        text = msgspec.json.encode(self.key)
        self.assertEqual(msgspec.json.decode(text, type=Keyer), self.key)
        with self.assertRaises(ShotFileError):
            many = msgspec.structs.replace(self.key, samples=self.key.samples * 20)
            checked(msgspec.structs.replace(self.shot, mattes=(many,)), "a.lode")


if __name__ == "__main__":
    unittest.main()
