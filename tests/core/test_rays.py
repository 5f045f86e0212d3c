"""The renderer against what is known outside of it: closed forms, a reference renderer, the projection itself; and against bad input."""

import gc
import hashlib
import math
import subprocess
import sys
import unittest
import weakref
from unittest import mock

import numpy as np
from scipy.stats import qmc

from lodestar.core.basics.errors import RenderError
from lodestar.core.light.lamps import SkyLight, SunLight
from lodestar.core.light.sun import direction
from lodestar.core.light.surroundings import BOUNCE
from lodestar.core.picture.composite import shade_of
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens
from lodestar.core.render import embree, pool, rays, sampling
from lodestar.core.render.engine import Engine, Quality
from lodestar.core.render.eye import Nets, eye_of, ray_through
from lodestar.core.render.geometry import halvings
from lodestar.core.render.items import LEVEL, Item
from lodestar.core.render.region import footprint
from lodestar.core.shape.extrude import Mesh
from lodestar.core.shape.fonts import SHIPPED
from lodestar.core.shape.solids import box_mesh, card_mesh
from tests.helpers import compiled, word_mesh

GROUND = Item(LEVEL, lambda share: np.eye(4), (0, 0, 0), 1.0, 0.0, drawn=False, receives=True)
OVERHEAD = SunLight(np.array([0, 0, 1.0]), np.ones(3), 0.0)
SKY = SkyLight(np.ones(3))
NO_TINT = np.zeros(3, np.float32)
BLACK = {"base": (0.0, 0.0, 0.0), "metal": 1.0, "roughness": 1.0}  # takes light, and sends next to none back


def placed(x=0.0, y=0.0, z=0.0, wide=1.0, deep=1.0, high=1.0):
    m = np.diag([wide, deep, high, 1.0])
    m[:3, 3] = x, y, z
    return lambda share: m


def box(*place, **how):
    return Item(box_mesh(), placed(*place), **{"base": (0.8, 0.8, 0.8), "roughness": 0.5, "metal": 0.0, **how})


def looking_down(height, size=64, wide=2.0):
    """A camera straight over the origin whose picture shows `wide` of the ground; rows run against y."""
    R = np.array([[1.0, 0, 0], [0, -1, 0], [0, 0, -1]])
    focal = size * height / wide
    return Camera(R, -R @ np.array([0, 0, height]), Lens(focal, focal, (size - 1) / 2, (size - 1) / 2))


def looking(eye, at, focal, size, **lens):
    forward = np.asarray(at, float) - eye
    forward /= np.linalg.norm(forward)
    right = np.cross(forward, [0, 0, 1.0])
    right /= np.linalg.norm(right)
    R = np.stack([right, np.cross(forward, right), forward])
    return Camera(R, -R @ np.asarray(eye, float), Lens(focal, focal, (size[0] - 1) / 2, (size[1] - 1) / 2, **lens))


def whole(items, lights, camera, size, samples=64, **how):
    """(h, w, 4) our colour and (h, w, 3) shade over a whole picture."""
    view = camera if callable(camera) else lambda share: camera
    layers = Engine().render(items, lights, view, size, Quality(0.0, samples, **how))
    colour, shade = np.zeros((size[1], size[0], 4), np.float32), np.ones((size[1], size[0], 3), np.float32)
    if layers is not None:
        h, w = layers.colour.shape[:2]
        part = slice(layers.top, layers.top + h), slice(layers.left, layers.left + w)
        colour[part], shade[part] = layers.colour, shade_of(layers.light_with, layers.light_without, 1.0, NO_TINT)
    return colour, shade


class ClosedFormsTest(unittest.TestCase):
    def test_the_penumbra_of_an_edge_is_the_segment_of_a_disc(self):
        """A straight edge at height 2 under a sun overhead: the part of a disc that a chord leaves, its area by elementary geometry."""
        width = 6.0
        edge = box(-50.0, 0.0, 2.0, 100.0, 100.0, 1e-4, **BLACK)  # all of x < 0
        sun = SunLight(np.array([0, 0, 1.0]), np.ones(3), width)
        _, shade = whole([edge, GROUND], [sun], looking_down(1.0, wide=0.6), (64, 64), 256)
        x = (np.arange(64) - 31.5) * 0.6 / 64 / (2.0 * math.tan(math.radians(width / 2)))
        x = np.clip(x, -1, 1)
        seen = 1 - (np.arccos(x) - x * np.sqrt(1 - x * x)) / np.pi
        np.testing.assert_allclose(shade[16:48, :, 1].mean(0), seen, atol=0.02)

    def test_sky_beside_an_endless_wall(self):
        """H. C. Hottel's crossed strings: beside a wall of height h, level ground at x sees (1 + sin(atan(x / h))) / 2 of the sky."""
        wall = box(-0.5, 0.0, 0.0, 1.0, 400.0, 1.0, **BLACK)
        _, shade = whole([wall, GROUND], [SKY], looking_down(40.0, wide=4.0), (64, 64), 256)
        x = (np.arange(64) - 31.5) * 4 / 64
        seen = (1 + np.sin(np.arctan(x))) / 2
        np.testing.assert_allclose(shade[24:40, 34:, 1].mean(0), seen[34:], atol=0.012)

    def test_the_form_factor_of_two_squares(self):
        """Two squares of side 1, one over the other at a distance of 1: 0.1998. J. R. Howell, A Catalog of Radiation Configuration Factors, C-11. What
        sky the upper one hides it sends back in its place as much of the ground's light as its colour."""
        above = np.array([[1, 0, 0, 0], [0, 0, 1, -0.5], [0, 1, 0, 1.0], [0, 0, 0, 1.0]])
        black = Item(card_mesh(), lambda share: above, **BLACK)
        for colour, lid in ((0.0, black), (0.5, black._replace(base=(0.5, 0.5, 0.5), metal=0.0)), (1.0, black._replace(base=(1, 1, 1), metal=0.0))):
            _, shade = whole([lid, GROUND], [SKY], looking_down(0.9, wide=1.0), (64, 64), 64)
            self.assertAlmostEqual(1 - float(shade[..., 1].mean()), 0.1998 * (1 - BOUNCE * colour), delta=0.002, msg=str(colour))

    def test_an_upright_receiver_sees_half_of_the_sky(self):
        """A low stand-in before a tall box of ours: what the box takes of the sky is what a wall hides, from a place that faces it."""
        receiver = box(0.0, 2.0, 0.0, 400.0, 1.0, 8.0, drawn=False, receives=True, hides=True)  # faces the box with its side y = 1.5
        ours = box(0.0, -0.5, 0.0, 400.0, 1.0, 4.0, **BLACK)  # up to y = 0: 1.5 away, 4 high
        camera = looking((0.0, 0.75, 6.0), (0.0, 1.5, 2.0), 60.0, (64, 64))
        layers = Engine().render([receiver, ours], [SKY], lambda share: camera, (64, 64), Quality(0.0, 256))
        x, y = camera.project(np.array([0.0, 1.5, 2.0]))[0].round().astype(int) - [layers.left, layers.top]
        self.assertEqual(float(layers.colour[y, x, 3]), 0.0)
        ray = camera.rays(np.array([x + layers.left, y + layers.top], float))
        at = camera.centre + ray * (1.5 - camera.centre[1]) / ray[1]
        # crossed strings again: of light that falls on a wall by the cosine from its normal, the sky over the horizon is one half; the
        # strip between the horizon and the upper edge of ours, seen from the height z, is taken from it; below, the ground's light
        over = math.sin(math.atan2(4.0 - at[2], 1.5)) / 2
        below = math.sin(math.atan2(at[2], 1.5)) / 2
        bounce = 0.3
        left = (0.5 + 0.5 * bounce - over - below * bounce) / (0.5 + 0.5 * bounce)
        patch = (slice(y, y + 1), slice(max(x - 8, 0), x + 8))
        self.assertAlmostEqual(float((layers.light_with / np.maximum(layers.light_without, 1e-9))[patch][..., 1].mean()), left, delta=0.02)


class CameraTest(unittest.TestCase):
    def test_rays_are_the_projection_backwards(self):
        """With a strong lens, a readout of most of a frame and a zoom: a point on a ray is projected to its pixel by the camera of its row's time."""
        size, readout = (640, 360), 0.8

        def camera(share):
            here = looking((0.3 * share, -8.0, 2.0 + 0.2 * share), (0.4 * share, 0.0, 1.0), 480.0, size, k1=-0.18, k2=0.03)
            return Camera(here.R, here.t, here.lens.zoomed(1 + 0.02 * share))

        origin, scale = np.array([1.0, 2.0, 3.0]), 2.5
        eye = eye_of(Nets(), camera, (0, 0, *size), size, 0.0, readout, origin, scale)
        through = compiled(ray_through)
        rng = np.random.default_rng(3)
        for x, y in rng.uniform(0, [size[0] - 1, size[1] - 1], (300, 2)):
            o, d, _ = through(eye, x, y, 0.5, 0.0, 0.0)
            point = (np.array(o) + 3.0 * np.array(d)) * scale + origin
            back, _ = camera(readout * (y / (size[1] - 1) - 0.5)).project(point)
            self.assertLess(np.abs(back - [x, y]).max(), 0.01)

    def test_a_spin_within_an_exposure_is_the_mean_of_its_moments(self):
        def spun(share):
            m = np.eye(4)
            a = math.radians(90 * share)
            m[:2, :2] = [[math.cos(a), -math.sin(a)], [math.sin(a), math.cos(a)]]
            return m @ np.diag([2.0, 0.3, 1.0, 1.0])

        camera, size = looking_down(8.0, wide=3.0), (64, 64)
        item = lambda model: Item(box_mesh(), model, (0.8, 0.8, 0.8), 0.5, 0.0)
        moving = whole([item(spun)], [SKY], camera, size, 256, shutter=1.0)[0][..., 3]
        moments = np.mean(
            [whole([item(lambda share, s=s: spun(s))], [SKY], camera, size, 4)[0][..., 3] for s in (np.arange(64) + 0.5) / 64 - 0.5], axis=0
        )
        self.assertLess(np.sqrt(np.mean((moving - moments) ** 2)), 0.02)
        self.assertGreater(np.mean((moving > 0.05) & (moving < 0.95)), 0.2)

    def test_the_part_that_is_drawn_is_no_larger_because_the_ground_goes_on_behind_the_camera(self):
        """The sky's shade round a box reaches behind the camera before it; over the box's top and beside it nothing is touched."""
        size, camera = (160, 90), looking((0.0, -2.2, 0.5), (0.0, 0.0, 0.4), 90.0, (160, 90), k1=-0.1)
        item = box(0.0, 0.0, 0.0, 0.8, 0.8, 0.8)
        left, top, right, bottom = footprint([item, GROUND], [SKY], lambda share: camera, size, 0.0, 0.0)
        highest = camera.project(np.array([[x, y, 0.8] for x in (-0.4, 0.4) for y in (-0.4, 0.4)]))[0][:, 1].min()
        self.assertTrue(highest - 10 < top <= highest)
        self.assertEqual((left, right, bottom), (0, 160, 90))
        # and no place of the box, or of the ground a height round it, that is in the picture, is cut off
        rng = np.random.default_rng(1)
        places = np.concatenate(
            [rng.uniform([-0.4, -0.4, 0.0], [0.4, 0.4, 0.8], (2000, 3)), rng.uniform([-1.2, -1.2, 0.0], [1.2, 1.2, 0.0], (2000, 3))]
        )
        xy, depth = camera.project(places)
        seen = xy[(depth > 0) & (np.abs(xy - [79.5, 44.5]) < [80, 45]).all(1)]
        self.assertGreater(len(seen), 1000)
        self.assertTrue((seen >= [left - 0.5, top - 0.5]).all() and (seen <= [right - 0.5, bottom - 0.5]).all())

    def test_what_comes_near_the_lens_grows_thin(self):
        solid = lambda near: whole([box(0.0, near + 0.5, -2.0, 4.0, 1.0, 4.0)], [SKY], looking((0, 0, 0), (0, 1, 0), 40.0, (32, 32)), (32, 32), 16)[
            0
        ][16, 16, 3]
        self.assertAlmostEqual(solid(1.0), 1.0, places=4)
        self.assertTrue(0.05 < solid(0.62) < 0.95, solid(0.62))
        inside = whole([box(0.0, 0.0, -2.0, 4.0, 1.0, 4.0)], [SKY, OVERHEAD], looking((0, 0, 0), (0, 1, 0), 40.0, (32, 32)), (32, 32), 16)[0]
        self.assertTrue(np.isfinite(inside).all())


class SamplesTest(unittest.TestCase):
    def test_the_sequence_is_sobols(self):
        """Against SciPy's, whose direction numbers are those of S. Joe and F. Y. Kuo, 2008."""
        known = qmc.Sobol(3, scramble=False).random(64)
        # SciPy counts by Gray's code: the same points in another order within each power of two
        ours = np.stack([sampling.sobol(np.arange(64), k) / 2**32 for k in (0, 1, 2)], 1)
        for n in (4, 16, 64):
            self.assertEqual({tuple(p) for p in ours[:n]}, {tuple(p) for p in known[:n]})

    def net(self, points):
        """Whether n points, n a power of 2, are a (0, m, 2)-net: each elementary interval holds one (H. Niederreiter, 1992)."""
        n = len(points)
        for split in range(int(math.log2(n)) + 1):
            boxes = np.floor(points * [2**split, n // 2**split])
            self.assertEqual(len({tuple(b) for b in boxes}), n, split)

    def test_places_in_a_pixel_are_even_at_every_power_of_two(self):
        for pair in (0, sampling.TURNED_PAIRS):  # in the px, and on the lens
            places = sampling._pairs(64)[7, :, pair] / 2**32
            for n in (2, 4, 16, 64):
                self.net(places[:n])

    def test_pairs_tell_nothing_of_each_other(self):
        """Of samples that lie in one quarter of the square of one pair those of another are spread over all quarters of their own."""
        block = np.concatenate(sampling._pairs(64)) / 2**32
        cells = (block[..., 0] * 2).astype(int) * 2 + (block[..., 1] * 2).astype(int)
        for a in range(sampling.TURNING, sampling.TURNED_PAIRS):
            for b in range(a + 1, sampling.TURNED_PAIRS):
                both = np.bincount(cells[:, a] * 4 + cells[:, b], minlength=16)
                np.testing.assert_allclose(both, len(block) / 16, rtol=0.2, err_msg=str((a, b)))

    def test_the_moment_is_even_over_the_places_of_a_pixel(self):
        """Of 64 samples each box of 2 x 2 places holds moments of both halves alike, and so does the lens."""
        own = sampling._pairs(64)[7] / 2**32
        for pair in (0, sampling.TURNED_PAIRS):
            cells = (own[:, pair, 0] * 2).astype(int) * 2 + (own[:, pair, 1] * 2).astype(int)
            late = np.bincount(cells, own[:, 1, 0] >= 0.5, 4)
            np.testing.assert_allclose(late, 8, atol=1 if pair == 0 else 4)

    def test_directions_of_each_round_are_even_over_pixels_too(self):
        block = sampling._pairs(16) / 2**32
        self.assertEqual(sampling.rounds(16), [(0, 1), (1, 2), (2, 4), (4, 8), (8, 16)])
        for first, last in sampling.rounds(16):
            for pair in range(sampling.TURNING, sampling.TURNED_PAIRS):
                whole = block.reshape(8, 8, 16, -1, 2)[:, :, first:last, pair]
                self.net(whole.reshape(-1, 2))
                self.net(whole[4:, :4].reshape(-1, 2))
                self.net(whole[3, 5].reshape(-1, 2))

    def test_halvings_of_a_picture_keep_its_light(self):
        """Black and white of one px each are half of the light: 188 of 255 by IEC 61966-2-1."""
        fine = np.zeros((8, 8, 4), np.uint8)
        fine[..., 3] = 255
        fine[::2, ::2, :3] = fine[1::2, 1::2, :3] = 255
        self.assertEqual([level.shape[:2] for level in halvings(fine)], [(8, 8), (4, 4), (2, 2), (1, 1)])
        self.assertTrue((np.abs(halvings(fine)[1][..., :3].astype(int) - 188) <= 1).all())

    def test_the_fewest_samples_are_taken_where_none_of_ours_is_near_whatever_the_ground_is_made_of(self):
        sky = SkyLight(np.full(3, 0.02))  # faint, so that the box hides none of it from a tile in many
        stone = box(0.0, 0.0, -1.0, 30.0, 30.0, 1.0, drawn=False, hides=True, receives=True)
        view, few = looking((0.0, -5.0, 2.5), (0.5, 0.0, 0.2), 150.0, (160, 96)), {}
        for name, ground in (("level", GROUND), ("mesh", stone), ("mirror", stone._replace(reflects=0.5, roughness=0.02))):
            films: list[rays.Film] = []
            with mock.patch.object(rays, "join", side_effect=lambda film, *light, films=films: films.append(film)):
                Engine().render([box(0.0, 0.0, 0.0, 0.3, 0.3, 0.6), ground], [OVERHEAD, sky], lambda share: view, (160, 96), Quality(0.048, 64))
            (film,) = films
            few[name] = float((film.taken == rays.PLAIN_SAMPLES).mean())
            self.assertTrue((film.taken[film.colour[..., 3] > 0] > rays.PLAIN_SAMPLES).all(), name)
        self.assertGreater(few["level"], 0.3)
        self.assertGreater(few["mesh"], 0.3)
        self.assertEqual(few["mirror"], 0.0, "what a mirror shows may have edges anywhere")


def busy_scene():
    """Letters, a box, a wall and a mirror of the place, a card with holes, ground; camera with a bent lens that moves."""
    letters = Item(word_mesh(next(iter(SHIPPED)), "Aé", 0.3, 0.02), placed(0.0, 0.0, 0.0), (0.8, 0.7, 0.5), 0.4, 0.2)
    holes = np.zeros((16, 16, 4), np.uint8)
    holes[::2, :, 3], holes[..., 0] = 255, 200
    card = Item(card_mesh(), placed(1.4, -0.3, 0.0), (1, 1, 1), 0.8, 0.0, picture=holes)
    wall = box(-1.6, 0.8, 0.0, 1.0, 1.0, 1.5, drawn=False, receives=True, hides=True)
    pond = Item(box_mesh(), placed(0.0, -1.2, -0.1, 3.0, 1.4, 0.11), (0, 0, 0), 0.15, 0.0, drawn=False, hides=True, reflects=0.6)
    lights = [SunLight(direction(200.0, 35.0), np.array([1.2, 1.1, 1.0]), 1.0), SkyLight(np.array([0.3, 0.35, 0.4]))]
    camera = lambda share: looking((0.2 * share, -6.0, 2.0), (0.0, 0.0, 0.5), 150.0, (160, 90), k1=-0.1)
    return [letters, card, wall, pond, GROUND], lights, camera


def fingerprint() -> str:
    items, lights, camera = busy_scene()
    layers = Engine().render(items, lights, camera, (160, 90), Quality(0.02, 32, shutter=0.5, readout=0.3))
    return hashlib.sha256(b"".join(np.ascontiguousarray(a).tobytes() for a in layers[:3])).hexdigest()


class SameTest(unittest.TestCase):
    def test_the_same_bytes_whatever_the_threads(self):
        before = pool.threads()
        self.addCleanup(pool.set_threads, before)
        found = set()
        for count in (1, 2, 3):
            pool.set_threads(count)
            found.add(fingerprint())
        code = "from tests.core.test_rays import fingerprint; print(fingerprint())"
        found.add(subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.strip())
        self.assertEqual(len(found), 1)

    def test_a_part_is_the_same_as_the_whole(self):
        """The samples of a px do not depend on where the part begins that is drawn."""
        items, lights, camera = busy_scene()
        alone = Engine().render(items[:1] + items[4:], lights, camera, (160, 90), Quality(0.0, 4))
        far = box(30.0, 90.0, 0.0)  # widens the part, and is in nobody's way
        more = Engine().render([*items[:1], far, *items[4:]], lights, camera, (160, 90), Quality(0.0, 4))
        self.assertLess(more.left + more.top, alone.left + alone.top + 1)
        cut = lambda a: a[alone.top - more.top :, alone.left - more.left :][: alone.colour.shape[0], : alone.colour.shape[1]]
        # another size of the whole rounds otherwise, which an edge within a rounding of a sample shows
        self.assertLess((np.abs(cut(more.colour)[..., 3] - alone.colour[..., 3]) > 1e-6).sum(), 5)


class MasksTest(unittest.TestCase):
    size = (64, 64)

    def seen(self, items, lights=(SKY, OVERHEAD)):
        return whole([*items, GROUND], list(lights), looking((0.0, -5.0, 2.5), (0.0, 0.0, 0.2), 70.0, self.size), self.size, 16)

    def test_what_is_seen_in_mirrors_only_casts_its_shadow_and_is_mirrored(self):
        pond = Item(box_mesh(), placed(0.0, -1.5, -0.1, 3.0, 2.0, 0.11), (0, 0, 0), 0.0, 0.0, drawn=False, hides=True, reflects=1.0)
        shown, hidden = (self.seen([box(0.0, 0.0, 0.0, 1.0, 0.3, 1.0, seen=s), pond]) for s in (True, False))
        camera = looking((0.0, -5.0, 2.5), (0.0, 0.0, 0.2), 70.0, self.size)
        pixel = lambda *p: tuple(camera.project(np.array(p, float))[0].round().astype(int)[::-1])
        face, image = pixel(0.0, -0.15, 0.8), pixel(0.0, -0.15, -0.6)
        self.assertGreater(shown[0][face][3], 0.99)
        self.assertLess(hidden[0][face][3], 0.01)
        for colour, _ in (shown, hidden):
            self.assertGreater(colour[image][3], 0.9)

    def test_what_hides_does_so_in_mirrors_too(self):
        pond = Item(box_mesh(), placed(0.0, -1.5, -0.1, 3.0, 2.0, 0.11), (0, 0, 0), 0.0, 0.0, drawn=False, hides=True, reflects=1.0)
        post = box(0.0, 0.0, 0.0, 1.0, 0.3, 1.0)
        # seen from the pond it stands before the post's foot; to the eye, over it
        screen = box(0.0, -0.4, -0.1, 1.2, 0.02, 0.5, drawn=False, hides=True)
        camera = looking((0.0, -5.0, 2.5), (0.0, 0.0, 0.2), 70.0, self.size)
        low, high = (tuple(camera.project(np.array([0.0, -0.15, z]))[0].round().astype(int)[::-1]) for z in (-0.3, -0.8))
        free, held = (self.seen([post, pond, *more])[0][..., 3] for more in ([], [screen]))
        self.assertGreater(free[low], 0.9)
        self.assertLess(held[low], 0.1)
        self.assertGreater(held[high], 0.9)

    def test_what_does_not_cast_leaves_the_light(self):
        dark = lambda casts: float(self.seen([box(0.0, 0.0, 1.0, 1.0, 1.0, 0.2, casts=casts)])[1].min())
        self.assertLess(dark(True), 0.9)
        self.assertEqual(dark(False), 1.0)

    def test_what_the_place_shades_already_is_not_shaded_twice(self):
        """Under a roof of the place there is no sun to take away."""
        roof = box(0.0, 0.0, 2.0, 6.0, 6.0, 0.1, drawn=False, hides=True)
        camera = looking((0.0, -2.0, 1.2), (0.0, 0.0, 0.0), 50.0, self.size)
        shade = lambda items: whole([*items, GROUND], [OVERHEAD], camera, self.size, 16)[1]
        low = box(0.0, 0.0, 0.5, 0.5, 0.5, 0.1)
        self.assertLess(shade([low]).min(), 0.05)
        self.assertGreater(shade([low, roof]).min(), 0.99)


class BadInputTest(unittest.TestCase):
    def draw(self, item, camera=None, size=(48, 48), samples=4):
        return whole([item, GROUND], [SKY, OVERHEAD], camera or looking((0, -5, 2), (0, 0, 0.5), 50.0, size), size, samples)

    def test_corners_that_are_no_numbers_are_refused(self):
        broken = box_mesh().vertices.copy()
        broken[3, 1] = np.nan
        for mesh in (box_mesh()._replace(vertices=broken), box_mesh()._replace(triangles=box_mesh().triangles + 1000)):
            with self.assertRaises(RenderError) as told:
                self.draw(Item(mesh, placed(), (1, 1, 1), 0.5, 0.0))
            self.assertIn("broken", told.exception.what)

    def test_nothing_to_draw_is_nothing(self):
        empty = Mesh(np.zeros((0, 3), np.float32), np.zeros((0, 3), np.float32), np.zeros((0, 3), np.int32))
        self.assertIsNone(
            Engine().render([Item(empty, placed(), (1, 1, 1), 0.5, 0.0)], [SKY], lambda s: looking_down(5.0), (64, 64), Quality(0.0, 4))
        )

    def test_the_tree_of_a_solid_goes_when_no_picture_wants_it(self):
        mesh = box_mesh()._replace(vertices=box_mesh().vertices.copy())
        tree = weakref.ref(embree.solids_of([mesh])[0])
        self.draw(Item(mesh, placed(), (1, 1, 1), 0.5, 0.0))
        self.assertIsNotNone(tree(), "kept for the next picture")
        for _ in range(embree.KEPT_ROUNDS):
            self.draw(box(), samples=1)
        gc.collect()
        self.assertIsNone(tree())

    def test_two_million_triangles(self):
        n = 1001
        y, x = np.mgrid[0:n, 0:n].astype(np.float32) / (n - 1) - 0.5
        corners = np.stack([x.ravel(), y.ravel(), 0.5 + 0.05 * np.sin(20 * x.ravel())], 1)
        k = (np.arange(n - 1)[:, None] * n + np.arange(n - 1)).ravel()
        triangles = np.concatenate([np.stack([k, k + 1, k + n + 1], 1), np.stack([k, k + n + 1, k + n], 1)]).astype(np.int32)
        normals = np.tile(np.array([0, 0, 1], np.float32), (n * n, 1))
        colour, _ = self.draw(Item(Mesh(corners, normals, triangles), placed(), (1, 1, 1), 0.5, 0.0))
        self.assertGreater((colour[..., 3] > 0.99).sum(), 10)

    def test_any_size_of_scene_is_the_same_picture(self):
        pictures = []
        for scale in (1e-6, 1.0, 1e6):
            camera = looking(np.array([0.0, -5.0, 2.0]) * scale, np.array([0.0, 0.0, 0.5]) * scale, 50.0, (48, 48))
            pictures.append(self.draw(box(0.0, 0.0, 0.0, scale, scale, scale), camera))
        for colour, shade in pictures[::2]:
            # a sample may fall on the other side of an edge by rounding
            for found, known in ((colour, pictures[1][0]), (shade, pictures[1][1])):
                self.assertLess((np.abs(found - known).max(-1) > 0.02).sum(), 4)
                self.assertLess(np.abs(found - known).mean(), 1e-4)

    def test_a_shadow_begins_at_the_foot_seen_from_afar(self):
        """A tenth of a millimetre beside the foot of a box of 1 m, 100 m away, through a very long lens."""
        eye, foot = np.array([80.0, 0.0, 60.0]), np.array([0.5, 0.0, 0.0])
        camera = looking(eye, foot, 100 / 5e-5, (64, 64))  # 0.05 mm a px
        x, y = camera.project(foot + [1e-4, 0, 0])[0].round().astype(int)
        for bearing, dark in ((270.0, True), (90.0, False)):  # the sun behind the box, and before it
            _, shade = whole([box(), GROUND], [SunLight(direction(bearing, 45.0), np.ones(3), 0.0)], camera, (64, 64), 4)
            self.assertEqual(bool(shade[y, x, 1] < 0.05), dark, shade[y, x, 1])

    def test_whoever_waits_may_stop_it(self):
        class Stopped(Exception):
            pass

        asked, done, draw = [], [], rays.tiles

        def check():
            asked.append(1)
            if len(asked) > 1:
                raise Stopped

        def counted(*args):
            done.append(1)
            draw(*args)

        items, lights, camera = busy_scene()
        rays.tiles = counted
        self.addCleanup(setattr, rays, "tiles", draw)
        large = lambda share: Camera(camera(share).R, camera(share).t, camera(share).lens.scaled(8))
        with self.assertRaises(Stopped):
            Engine().render(items, lights, large, (1280, 720), Quality(0.0, 256), check)
        self.assertLess(len(done), 1280 * 720 / 16 / 96 / 4, "most tiles were never begun")

    def test_without_the_library_a_plain_sentence(self):
        code = (
            "from lodestar.core.render import embree; embree._places = lambda: ['libnothing.so']\n"
            "from tests.core.test_rays import box, SKY, looking_down, Engine, Quality, RenderError\n"
            "try: Engine().render([box()], [SKY], lambda s: looking_down(5.0), (64, 64), Quality(0.0, 4))\n"
            "except RenderError as e: print(e.what)"
        )
        told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
        self.assertIn("Embree 4 was not found", told)
        self.assertRegex(embree.version(), r"^4\.\d+\.\d+$")


if __name__ == "__main__":
    unittest.main()
