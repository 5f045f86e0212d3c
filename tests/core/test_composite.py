"""From layers to the finished picture: light that is added, kinds of numbers, several suns, mattes by name, finish in order."""

import tempfile
import threading
import unittest
from pathlib import Path

import msgspec
import numpy as np

from lodestar.core.basics.keyed import Keyed, constant
from lodestar.core.finish.edges import LUMINANCE, hue_turned
from lodestar.core.finish.entries import Edge, Grade, Vignette, done, finished
from lodestar.core.light.lamps import Sky, SkyLight, Sun, SunLight, light_of, lights_of
from lodestar.core.matte.sources import Outline
from lodestar.core.picture.composite import codes_of, over_plate, shade_of
from lodestar.core.picture.composite import light_of as light_of_codes
from lodestar.core.picture.edges import without_background
from lodestar.core.picture.frame import frame
from lodestar.core.picture.workshop import close_workshop, own_workshop
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens
from lodestar.core.render.engine import Engine, Quality
from lodestar.core.render.items import LEVEL, Item
from lodestar.core.shape.solids import box_mesh
from lodestar.core.shot import files
from lodestar.core.shot.objects import Card
from tests.factory import make_shot
from tests.helpers import DEMO

HERE = np.eye(4)
NOTHING = np.zeros((4, 4), np.float32)


def over(plate, transfer, colour=(0, 0, 0, 0), shade=1.0):
    return over_plate(plate, transfer, np.full((4, 4, 4), colour, np.float32), np.full((4, 4, 3), shade, np.float32), NOTHING, NOTHING, 0, 0)


class CompositeTest(unittest.TestCase):
    def test_light_that_is_added_brightens_the_plate(self):
        plate = np.full((4, 4, 3), 0.2, np.float32)
        np.testing.assert_allclose(over(plate, "linear", shade=1.5), 0.3, rtol=1e-6)
        shade = shade_of(np.full((2, 2, 3), 1.5, np.float32), np.ones((2, 2, 3), np.float32), 0.3, np.zeros(3, np.float32))
        np.testing.assert_allclose(shade, 1.5, err_msg="density is of a shadow, not of a light")

    def test_eight_bit_linear_light_does_not_wrap(self):
        for kind, most in ((np.uint8, 255), (np.uint16, 65535)):
            plate = np.full((4, 4, 3), most, kind)
            self.assertEqual(over(plate, "linear", colour=(1.4, 1.4, 1.4, 0.0)).min(), most)
        self.assertAlmostEqual(float(over(np.ones((4, 4, 3), np.float32), "linear", colour=(1.4, 0, 0, 0)).max()), 2.4, places=5)

    def test_codes_of_eight_bits_are_those_of_the_curve_rounded(self):
        """Which are told by a table: of light all over the scale, over it, and of what is no number."""
        light = np.concatenate([np.linspace(0, 1.2, 4001) ** 2, [0.0, 1.0, 5.0, 1e9]]).astype(np.float32)
        colour = np.dstack([light[None]] * 3 + [np.ones((1, len(light)), np.float32)])
        clear = np.zeros((1, len(light)), np.float32)
        put = lambda kind, transfer: over_plate(
            np.zeros((1, len(light), 3), kind), transfer, colour, np.ones((1, len(light), 3), np.float32), clear, clear, 0, 0
        )
        for transfer in ("rec709", "srgb", "linear", "hlg", "pq", "gamma22"):
            exact = np.minimum(put(np.float32, transfer).astype(float) * 255, 255)
            off = np.abs(put(np.uint8, transfer) - exact)
            self.assertLess(float(off.max()), 0.5001, transfer)
        colour[:] = np.nan
        self.assertEqual(put(np.uint8, "rec709").shape, (1, len(light), 3))

    def test_codes_come_back_from_light(self):
        for transfer in ("rec709", "srgb", "linear"):
            for kind in (np.uint8, np.uint16):
                codes = np.arange(256, dtype=np.float64).reshape(16, 16, 1).repeat(3, 2) * (1 if kind is np.uint8 else 257)
                np.testing.assert_array_equal(codes_of(light_of_codes(codes.astype(kind), transfer), transfer, np.dtype(kind)), codes.astype(kind))

    def test_where_nothing_changes_the_plate_is_the_same(self):
        plate = np.random.default_rng(0).integers(0, 256, (4, 4, 3)).astype(np.uint8)
        np.testing.assert_array_equal(over(plate, "rec709"), plate)


class LightsTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.engine = Engine()

    def render(self, lights, samples=4):
        R = np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]])
        tilt = np.array([[1.0, 0, 0], [0, np.cos(0.6), -np.sin(0.6)], [0, np.sin(0.6), np.cos(0.6)]])
        camera = Camera(tilt @ R, -tilt @ R @ np.array([0.0, -6.0, 4.0]), Lens(220.0, 220.0, 159.5, 89.5, -0.05, 0.01))
        box = Item(box_mesh(), lambda share: HERE, (0.6, 0.5, 0.4), 0.6, 0.0)
        ground = Item(LEVEL, lambda share: HERE, (0, 0, 0), 1.0, 0.0, drawn=False, receives=True)
        layers = self.engine.render([box, ground], lights, lambda share: camera, (320, 180), Quality(0.0, samples))
        whole = np.zeros((180, 320, 10), np.float32)
        h, w = layers.colour.shape[:2]
        whole[layers.top : layers.top + h, layers.left : layers.left + w] = np.concatenate(
            [layers.colour, layers.light_with, layers.light_without], -1
        )
        return whole

    def test_the_light_of_two_suns_and_a_sky_adds_up(self):
        a = SunLight(np.array([0.6, -0.3, 0.74]), np.array([1.0, 0.9, 0.8]), 0.5)
        b = SunLight(np.array([-0.7, -0.3, 0.65]), np.array([0.2, 0.3, 0.6]), 2.0)
        sky = SkyLight(np.array([0.2, 0.3, 0.4]))
        both = self.render([a, b, sky], 64)
        one, two, three = (self.render([light], 64) for light in (a, b, sky))
        part = (both[..., 7:] > 0).all(-1) & (one[..., 7:] > 0).all(-1) & (two[..., 7:] > 0).all(-1) & (three[..., 7:] > 0).all(-1)
        self.assertGreater(part.sum(), 500)
        # each lamp has samples of its own, so what differs is their noise at the edges of shadows
        self.assertLess(np.sqrt(np.mean((both - one - two - three)[part][:, 4:] ** 2)), 5e-3)
        self.assertLess(np.median(np.abs(both - one - two - three)[part][:, 4:]), 5e-4)
        seen = both[..., 3] > 0.99
        np.testing.assert_allclose(both[seen][:, :3], (one + two + three)[seen][:, :3], atol=0.02)
        np.testing.assert_allclose(both[..., 3], one[..., 3], atol=1e-6)

    def test_a_workshop_gives_back_what_it_took_on_whatever_thread(self):
        """Eight workshops, each on a thread of its own as a delivery has it; a picture of 1280 x 720 takes 130 MB while it is made. The first
        ones find out how much is kept for the next (level from the fourth on, measured)."""
        used = []
        for _ in range(8):
            thread = threading.Thread(target=self._once)
            thread.start()
            thread.join()
            with open("/proc/self/status") as status:
                used.append(next(int(line.split()[1]) for line in status if line.startswith("VmRSS")) / 1024)
        self.assertLess(used[-1] - used[4], 80, used)

    @staticmethod
    def _once():
        camera = Camera(np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]]), np.array([0.0, 0.0, 4.0]), Lens(900.0, 900.0, 639.5, 359.5, -0.05, 0.01))
        box = Item(box_mesh(), lambda share: np.diag([5.0, 1.0, 5.0, 1.0]), (0.6, 0.5, 0.4), 0.6, 0.0)
        with own_workshop() as workshop:
            workshop.engine.render([box], [SkyLight(np.ones(3))], lambda share: camera, (1280, 720), Quality(0.0, 2))

    def test_a_lamp_gives_what_it_says(self):
        sun = Sun(bearing=constant(90.0), height=constant(30.0), strength=constant(2.0), colour=(1.0, 0.5, 0.25))
        light = light_of(sun, 0)
        np.testing.assert_allclose(light.direction, [np.cos(np.pi / 6), 0, 0.5], atol=1e-12)
        np.testing.assert_allclose(light.colour, [2.0, 1.0, 0.5])
        self.assertEqual(len(lights_of((sun, msgspec.structs.replace(Sky(), on=False)), 0)), 1)


class MattesTest(unittest.TestCase):
    """Two cards, one behind the other, and a matte over all of the picture."""

    @classmethod
    def setUpClass(cls):
        cls.addClassCleanup(close_workshop)
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        made = make_shot(seed=2, frames=50, clip=Path(folder.name) / "grey.mp4")
        x, y = 0.0, 1.0
        cls.near = Card(id="near", position=constant(x, y, 0.0), colour=(1.0, 0.0, 0.0), width=constant(1.0), height=constant(1.0))
        cls.far = Card(id="far", position=constant(x + 0.4, y + 1.5, 0.0), colour=(0.0, 0.0, 1.0), width=constant(1.5), height=constant(1.5))
        all_ = Outline(id="all", name="all", shape=Keyed((-50.0, -50.0, 1400.0, -50.0, 1400.0, 800.0, -50.0, 800.0)))
        cls.shot = msgspec.structs.replace(made, objects=(cls.far, cls.near), mattes=(all_,))

    def layers(self, **mattes):
        objects = tuple(msgspec.structs.replace(o, mattes=mattes.get(o.id)) for o in self.shot.objects)
        pixels = frame(msgspec.structs.replace(self.shot, objects=objects), 46, layer="layers", samples=4).pixels
        return (pixels[..., 0] > pixels[..., 2] + 0.1).sum(), (pixels[..., 2] > pixels[..., 0] + 0.1).sum()

    def test_a_matte_stands_before_those_that_name_it(self):
        red, blue = self.layers(near=(), far=())
        self.assertGreater(min(red, blue), 1000)
        self.assertEqual(self.layers(), (0, 0))  # all mattes stand before all objects
        only_near = self.layers(near=(), far=("all",))
        self.assertEqual(only_near[1], 0)
        self.assertAlmostEqual(only_near[0] / red, 1.0, delta=0.03)  # the far one, blue, shines on it
        only_far = self.layers(near=("all",), far=())
        self.assertEqual(only_far[0], 0)
        self.assertAlmostEqual(only_far[1] / blue, 1.0, delta=0.02)  # what the near one hid stays hidden

    def test_the_shadow_names_mattes_of_its_own(self):
        shadow = lambda names: (
            frame(
                msgspec.structs.replace(self.shot, shadow=msgspec.structs.replace(self.shot.shadow, mattes=names)), 46, layer="shadow", samples=2
            ).pixels
        )
        self.assertEqual(float(shadow(None).min()), 1.0)
        self.assertLess(float(shadow(()).min()), 0.8)


class EdgeTest(unittest.TestCase):
    """A disc in front of a bright wall, mixed by known shares, and a dark thing of ours between the two."""

    def setUp(self):
        y, x = np.mgrid[0:80, 0:120]
        self.front = np.clip((20 - np.hypot(x - 60, y - 40)) / 3 + 0.5, 0, 1).astype(np.float32)
        grain = np.random.default_rng(0).normal(0, 0.004, (80, 120, 1))
        wall, person = np.array([0.7, 0.75, 0.8]) + 0.002 * x[..., None] + grain, np.array([0.25, 0.1, 0.08]) + grain
        share = self.front[..., None]
        mix = lambda behind: (share * person + (1 - share) * behind).astype(np.float32)
        self.plate, self.thing = mix(wall), np.array([0.03, 0.04, 0.05])
        self.wanted = mix(np.broadcast_to(self.thing, wall.shape))
        self.edge = (self.front > 0.05) & (self.front < 0.95)

    def composite(self, plate):
        colour = np.broadcast_to(np.float32([*self.thing, 1.0]), (*self.front.shape, 4))
        ones, nothing = np.ones((*self.front.shape, 3), np.float32), np.zeros_like(self.front)
        return over_plate(plate, "linear", np.ascontiguousarray(colour), ones, self.front, nothing, 0, 0)

    def test_no_fringe_of_the_old_background_stays(self):
        plain = self.composite(self.plate)
        clean = self.composite(without_background(self.plate, "linear", np.ones_like(self.front), self.front, 0, 0, 1.0))
        off = lambda found: float(np.sqrt(((found - self.wanted)[self.edge] ** 2).mean()))
        self.assertGreater(off(plain), 0.1)
        self.assertLess(off(clean), 0.02)
        np.testing.assert_array_equal(clean[self.front >= 1], plain[self.front >= 1])
        np.testing.assert_array_equal(clean[self.front <= 0], plain[self.front <= 0])

    def test_a_plate_without_partly_covered_px_is_not_touched(self):
        hard = (self.front > 0.5).astype(np.float32)
        self.assertIs(without_background(self.plate, "linear", np.ones_like(hard), hard, 0, 0, 1.0), self.plate)


class FinishTest(unittest.TestCase):
    def test_a_stop_is_twice_the_light_and_no_saturation_is_luminance(self):
        """Luminance of pure red is 0.2126 (ITU-R BT.709-6, 3.2)."""
        red = np.zeros((2, 2, 3), np.float32)
        red[..., 0] = 0.5
        np.testing.assert_allclose(done(Grade(id="a", exposure=constant(1.0)), red, 0)[..., 0], 1.0)
        np.testing.assert_allclose(done(Grade(id="a", saturation=constant(0.0)), red, 0), 0.5 * 0.2126, rtol=1e-5)

    def test_a_vignette_leaves_the_middle_and_darkens_the_corners(self):
        white = np.ones((101, 181, 3), np.float32)
        dark = done(Vignette(id="a", strength=constant(0.6), begins=constant(0.3)), white, 0)
        self.assertEqual(float(dark[50, 90, 0]), 1.0)
        np.testing.assert_allclose(dark[[0, 0, -1, -1], [0, -1, 0, -1], 0], 0.4, rtol=1e-4)

    def test_the_edge_of_a_matte_is_repaired_and_nothing_else(self):
        """A grey disc with a blue fringe, before orange: its band turns orange as bright as it was, light spreads over it, its middle stays."""
        y, x = np.mgrid[:120, :120]
        away = np.hypot(x - 60, y - 60)
        cover = np.clip(40.5 - away, 0, 1).astype(np.float32)
        picture = np.where(cover[..., None] > 0.5, np.float32(0.3), np.float32([0.8, 0.4, 0.1])).astype(np.float32)
        picture[(away > 37) & (away < 40)] = (0.2, 0.3, 0.6)
        run = lambda **trims: finished((Edge(id="e", mattes=("m",), **{"wrap": constant(0.0), **trims}),), picture, 0, lambda names: cover)
        np.testing.assert_array_equal(run(), picture)
        np.testing.assert_array_equal(finished((Edge(id="e", spill=constant(1.0)),), picture, 0, lambda names: cover), picture, "no matte is chosen")
        spilt = run(spill=constant(1.0), width=constant(6.0))
        ring = np.abs(away - 39) < 0.7
        before, after = picture[ring].mean(0), spilt[ring].mean(0)
        self.assertGreater(before[2], before[0])
        self.assertGreater(after[0], 2 * after[2])
        self.assertAlmostEqual(float(after @ LUMINANCE), float(before @ LUMINANCE), delta=0.02)
        wrapped = run(wrap=constant(0.8), reach=constant(10.0))
        near, deep = (wrapped[np.abs(away - r) < 0.7].mean(0) for r in (35, 15))
        self.assertGreater(near[0] - near[2], 0.05)
        np.testing.assert_allclose(deep, 0.3, atol=0.01)
        np.testing.assert_allclose(wrapped[away > 60], picture[away > 60], atol=1e-6)
        darker = run(exposure=constant(-1.0))
        self.assertAlmostEqual(float(darker[ring].mean() / picture[ring].mean()), 0.5, delta=0.08)
        # a turn by 120 degrees three times is none; W3C: luminance is kept
        colour = np.array([[[0.5, 0.4, 0.3]]], np.float32)
        thrice = hue_turned(hue_turned(hue_turned(colour, 120), 120), 120)
        np.testing.assert_allclose(thrice, colour, atol=0.01)
        self.assertAlmostEqual(float((hue_turned(colour, 90) @ LUMINANCE)[0, 0]), float((colour @ LUMINANCE)[0, 0]), delta=2e-3)

    def test_entries_are_done_in_order_and_inside_their_mattes(self):
        light = np.full((4, 4, 3), [0.4, 0.2, 0.1], np.float32)
        half = np.zeros((4, 4), np.float32)
        half[:, :2] = 1
        grey, brighter = Grade(id="a", saturation=constant(0.0), mattes=("m",)), Grade(id="b", exposure=constant(1.0))
        after = finished((grey, brighter, msgspec.structs.replace(brighter, id="c", on=False)), light, 0, lambda names: half)
        np.testing.assert_allclose(after[:, 2:], 2 * light[:, 2:], rtol=1e-6)
        self.assertLess(float(np.ptp(after[:, :2], axis=2).max()), 1e-6)

    def test_the_finish_is_done_to_plate_and_titles_alike(self):
        self.addCleanup(close_workshop)
        demo = files.read(DEMO)
        before = light_of_codes(frame(demo, 46, samples=2).pixels, "rec709")
        graded = msgspec.structs.replace(demo, finish=(Grade(id="g", exposure=constant(-1.0)),))
        after = light_of_codes(frame(graded, 46, samples=2).pixels, "rec709")
        inside = before < 0.99  # what is clipped at white has more light than its code says
        np.testing.assert_allclose(after[inside], before[inside] / 2, atol=0.006)  # two roundings to 8 bits
        off = msgspec.structs.replace(graded, finish=(msgspec.structs.replace(graded.finish[0], on=False),))
        np.testing.assert_array_equal(frame(off, 46, samples=2).pixels, frame(demo, 46, samples=2).pixels)


if __name__ == "__main__":
    unittest.main()
