"""Colour, units, geometry and jobs against published equations and reference libraries."""

import unittest

import cv2
import numpy as np
from scipy.spatial.transform import Rotation

from lodestar.core.basics import colour, geometry, jit, units
from lodestar.core.basics.errors import Cancelled, UserError
from lodestar.core.basics.job import Job
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens
from tests.helpers import compiled


class ColourTest(unittest.TestCase):
    def test_rec709_equation(self):
        # ITU-R BT.709-6, item 1.2: V = 1.099 L^0.45 - 0.099 for L >= 0.018, 4.5 L below
        for light in (0.0, 0.01, 0.0179, 0.018, 0.18, 0.5, 1.0):
            code = 1.099 * light**0.45 - 0.099 if light >= 0.018 else 4.5 * light
            self.assertAlmostEqual(float(colour.encode(np.array(light), "rec709")), code, places=5)
        self.assertAlmostEqual(float(colour.encode(np.array(0.18), "rec709")), 0.4090, places=3)  # grey card, from memory

    def test_srgb_equation(self):
        # IEC 61966-2-1: V = 1.055 L^(1/2.4) - 0.055 above 0.0031308, 12.92 L below; code 0.5 is light 0.21404
        self.assertAlmostEqual(float(colour.decode(np.array(0.5), "srgb")), 0.21404, places=5)
        self.assertAlmostEqual(float(colour.encode(np.array(0.002), "srgb")), 0.02584, places=6)

    def test_all_codes_come_back(self):
        codes = np.arange(256) / 255
        for transfer in colour.TRANSFERS:
            back = colour.encode(colour.decode(codes, transfer), transfer) * 255
            np.testing.assert_array_equal(np.round(back), np.arange(256))
        with self.assertRaises(ValueError):
            colour.decode(codes, "film")


class UnitsTest(unittest.TestCase):
    def test_arithmetic_with_units(self):
        for text, unit, value in (
            ("1 m + 20 cm", "m", 1.2),
            ("3/4", "%", 0.75),
            ("2*(3+4)", "", 14),
            ("−5", "°", -5),
            ("1 ft", "m", 0.3048),
            ("250 mm", "cm", 25),
            (".5", "m", 0.5),
            ("1,5 m", "m", 1.5),
            ("1e2", "", 100),
        ):
            self.assertAlmostEqual(units.parse(text, unit), value, msg=text)

    def test_nothing_is_evaluated(self):
        for text in ("__import__('os')", "a", "1 furlong", "", "2**99", "(1).real", "1/0", "[1]", "9" * 300, "(" * 150):
            with self.assertRaises(UserError, msg=text):
                units.parse(text, "m")


class GeometryTest(unittest.TestCase):
    def test_lens_against_opencv(self):
        # OpenCV's model with k3 = p1 = p2 = 0 is the same polynomial
        lens = Lens(998.0, 998.0, 639.5, 359.5, -0.08, 0.012)
        rng = np.random.default_rng(0)
        points = np.c_[rng.uniform(-0.6, 0.6, (200, 2)), np.ones(200)]
        K = np.array([[lens.fx, 0, lens.cx], [0, lens.fy, lens.cy], [0, 0, 1]])
        reference, _ = cv2.projectPoints(points, np.zeros(3), np.zeros(3), K, np.array([lens.k1, lens.k2, 0, 0]))
        pixels = lens.distort(points[:, :2])
        np.testing.assert_allclose(pixels, reference[:, 0], atol=1e-9)
        np.testing.assert_allclose(lens.undistort(pixels), points[:, :2], atol=1e-10)
        np.testing.assert_allclose([lens.undistort(xy) for xy in pixels], points[:, :2], atol=1e-10)  # one by one, as a pointer asks

    def test_lens_beyond_its_turning_point_stays_finite(self):
        lens = Lens(500.0, 500.0, 320, 240, -0.4, 0.0)
        wild = lens.undistort(np.array([[5000.0, 5000.0], [320, 240]]))
        self.assertTrue(np.isfinite(wild).all())
        self.assertLessEqual(np.linalg.norm(wild[0]), lens.turning_radius() + 1e-9)
        np.testing.assert_allclose(lens.undistort(np.array([5000.0, 5000.0])), wild[0])
        for k1, k2 in ((0.0, 0.0), (-0.4, 0.0), (-0.1, -0.02), (-0.3, 0.1), (0.2, -0.5)):
            # the map's slope, 1 + 3 k1 s + 5 k2 s^2, by NumPy's roots
            roots = [z.real for z in np.roots([5 * k2, 3 * k1, 1.0]) if abs(z.imag) < 1e-12 and z.real > 0]
            want = min(roots) ** 0.5 if roots else 1e6
            self.assertAlmostEqual(Lens(500.0, 500.0, 320, 240, k1, k2).turning_radius(), want, places=9)

    def test_rotations_against_scipy(self):
        rng = np.random.default_rng(1)
        for w in (*rng.standard_normal((5, 3)), np.zeros(3), np.array([1e-10, 0, 0])):
            np.testing.assert_allclose(geometry.rotation_from_vector(w), Rotation.from_rotvec(w).as_matrix(), atol=1e-12)
        turn = geometry.turn_matrix((30, 20, 10))
        np.testing.assert_allclose(turn, Rotation.from_euler("ZXY", (30, 20, 10), degrees=True).as_matrix(), atol=1e-12)

    def test_similarity_is_found(self):
        rng = np.random.default_rng(2)
        a = rng.standard_normal((20, 3))
        true = geometry.Similarity(2.5, Rotation.random(random_state=3).as_matrix(), np.array([1.0, -2, 3]))
        found = geometry.fit_similarity(a, true.points(a))
        self.assertAlmostEqual(found.scale, 2.5)
        np.testing.assert_allclose(found.R, true.R, atol=1e-12)

    def test_a_camera_sees_the_same_after_a_change_of_reference(self):
        rng = np.random.default_rng(4)
        place = geometry.Similarity(3.0, Rotation.random(random_state=1).as_matrix(), rng.standard_normal(3))
        R, t, lens = Rotation.random(random_state=2).as_matrix(), np.array([0, 0, 9.0]), Lens(900, 900, 600, 300, -0.05)
        points = rng.standard_normal((10, 3))
        before, _ = Camera(R, t, lens).project(points)
        after, _ = Camera(*place.camera(R, t), lens).project(place.points(points))
        np.testing.assert_allclose(after, before, atol=1e-9)

    def test_a_camera_looks_through_any_projection(self):
        """A full sphere on a picture of 2:1 (equirectangular, ISO/IEC 23090-2, 7.5.1.3) is a projection as a pinhole is."""

        class Sphere:
            def pixels(self, inside):
                x, y, z = np.moveaxis(inside / np.linalg.norm(inside, axis=-1, keepdims=True), -1, 0)
                return np.stack([(np.arctan2(x, z) / np.pi + 1) * 1000 - 0.5, (np.arcsin(y) / np.pi + 0.5) * 1000 - 0.5], -1)

            def directions(self, pixels):
                u, v = ((pixels[..., 0] + 0.5) / 1000 - 1) * np.pi, ((pixels[..., 1] + 0.5) / 1000 - 0.5) * np.pi
                return np.stack([np.sin(u) * np.cos(v), np.sin(v), np.cos(u) * np.cos(v)], -1)

        camera = Camera(Rotation.random(random_state=3).as_matrix(), np.array([1.0, -2.0, 0.5]), Sphere())
        points = np.random.default_rng(1).uniform(-5, 5, (60, 3))  # all round, behind the camera too
        pixels, _ = camera.project(points)
        away = points - camera.centre
        np.testing.assert_allclose(camera.rays(pixels), away / np.linalg.norm(away, axis=1, keepdims=True), atol=1e-9)
        self.assertTrue(((pixels >= -0.5) & (pixels < [1999.5, 999.5])).all())

    def test_rays_go_through_their_pixels(self):
        camera = Camera(Rotation.random(random_state=5).as_matrix(), np.array([1, 2, 3.0]), Lens(900, 900, 600, 300, -0.05))
        pixels = np.array([[10.0, 20], [600, 300], [1100, 580]])
        xy, depth = camera.project(camera.centre + 7 * camera.rays(pixels))
        np.testing.assert_allclose(xy, pixels, atol=1e-8)
        self.assertTrue((depth > 0).all())


class KernelTest(unittest.TestCase):
    def test_a_part_is_compiled_with_its_kernel_and_has_no_code_of_its_own(self):
        @jit.part
        def half(x):
            return x / 2

        @jit.inlined
        def quarter(x):
            return half(half(x))

        self.assertEqual(compiled(quarter)(3.0), 0.75)
        self.assertEqual(len(quarter.signatures), 1)
        with self.assertRaisesRegex(TypeError, "part of kernels"):
            quarter(3.0)


class JobTest(unittest.TestCase):
    def test_parts_of_stages_add_up(self):
        job = Job()
        job.stage(0.5, 1.0)
        job.part(0.0, 0.5)
        job.step(1.0, "half of the second half")
        self.assertAlmostEqual(job.share, 0.75)

    def test_cancel_raises_at_the_next_step(self):
        job = Job()
        job.cancel()
        with self.assertRaises(Cancelled):
            job.step(0.1)
