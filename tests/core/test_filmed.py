"""Our things as the clip was filmed: its grain and its softness are measured where they are known, and given to what is ours."""

import functools
import tempfile
import unittest
from pathlib import Path

import cv2
import msgspec
import numpy as np

from lodestar.core.basics.colour import encode
from lodestar.core.basics.keyed import constant
from lodestar.core.finish.grain import blocks_of, grain_tile, measured_grain
from lodestar.core.finish.softness import softness_px
from lodestar.core.media.plates import probe
from lodestar.core.picture.composite import light_of
from lodestar.core.picture.filmed import as_filmed
from lodestar.core.picture.frame import frame
from lodestar.core.picture.ours import Ours
from lodestar.core.picture.plate import Size
from lodestar.core.picture.workshop import close_workshop
from lodestar.core.shot import files
from lodestar.core.shot.document import Exposure, Shot, with_plate
from tests.helpers import DEMO

BASE, BY_LIGHT = 2e-5, 4e-4
ACROSS = 0.5  # of the grain of a channel goes with that of the others


def grainy(rng: np.random.Generator, coarse_px: float, strength: float = 1.0) -> np.ndarray:
    """(720, 1280, 3) linear light: a slow change of brightness over the upper half, texture over the lower, with grain of known variance."""
    y, x = np.mgrid[:720, :1280]
    light = np.stack([0.05 + 0.6 * x / 1280] * 3, -1) * np.array([1, 0.9, 0.8])
    texture = cv2.GaussianBlur(rng.standard_normal((720, 1280)), (0, 0), 1.2)
    light[360:] *= np.maximum(1 + 0.3 * texture[360:] / texture.std(), 0.1)[..., None]
    noise = np.sqrt(1 - ACROSS) * rng.standard_normal(light.shape) + np.sqrt(ACROSS) * rng.standard_normal((720, 1280, 1))
    if coarse_px:
        noise = cv2.GaussianBlur(noise, (0, 0), coarse_px)
    noise /= noise.std()
    return (light + strength * np.sqrt(BASE + BY_LIGHT * light) * noise).astype(np.float32)


@functools.cache
def bars() -> np.ndarray:
    """(720, 1280) wavy bars, each px the mean over its own area."""
    y, x = np.mgrid[: 720 * 8, :1280].astype(np.float32)
    return (0.2 + 0.5 * (((np.sin(x / 90) * 60 + y / 8) % 140) < 70)).reshape(720, 8, 1280).mean(1, dtype=np.float32)


def edges(rng: np.random.Generator, blur_px: float) -> np.ndarray:
    """(720, 1280) linear light with bars whose edges have a Gaussian blur, and that of a px."""
    return cv2.GaussianBlur(bars(), (0, 0), blur_px) + 0.003 * rng.standard_normal((720, 1280), np.float32)


class MeasuredTest(unittest.TestCase):
    def test_grain_of_known_variance_is_found_and_made_again(self):
        for coarse, beside in ((0.0, 0.0), (0.7, float(np.exp(-1 / (4 * 0.7**2))))):  # of Gaussian noise blurred by sigma, px beside each other
            with self.subTest(coarse=coarse):
                rng = np.random.default_rng(3)
                grain = measured_grain([blocks_of(grainy(rng, coarse)) for _ in range(2)])
                self.assertIsNotNone(grain)
                for light in (0.1, 0.3, 0.6):
                    np.testing.assert_allclose(np.sqrt(grain.base + light * grain.by_light), np.sqrt(BASE + light * BY_LIGHT), rtol=0.2)
                tile = grain_tile(grain, (7,)).astype(float)
                np.testing.assert_allclose(tile.std((0, 1)), 1, atol=0.05)
                self.assertAlmostEqual(float((tile[..., 1] * np.roll(tile[..., 1], 1, 1)).mean()), beside, delta=0.15)
                self.assertAlmostEqual(float((tile[..., 0] * tile[..., 2]).mean()), ACROSS, delta=0.1)
                # over its edges it goes on as inside
                seam, inside = np.abs(tile[:, 0] - tile[:, -1]).mean(), np.abs(tile[:, 100] - tile[:, 101]).mean()
                self.assertAlmostEqual(float(seam / inside), 1, delta=0.15)
                np.testing.assert_array_equal(grain_tile(grain, (7,)), grain_tile(grain, (7,)))
                self.assertLess(abs(float((tile * grain_tile(grain, (8,))).mean())), 0.02)

    def test_where_there_is_none_nothing_is_made_up(self):
        self.assertIsNone(measured_grain([]))
        self.assertIsNone(measured_grain([blocks_of(np.full((720, 1280, 3), 0.4, np.float32))]))
        self.assertIsNone(measured_grain([blocks_of(np.ones((720, 1280, 3), np.float32))]), "all is cut off at white")
        self.assertIsNone(measured_grain([blocks_of(np.zeros((10, 10, 3), np.float32))]), "smaller than what is looked at")

    def test_a_black_and_white_clip_has_grain_without_colour(self):
        grey = np.repeat(grainy(np.random.default_rng(6), 0.7)[..., :1], 3, 2)
        tile = grain_tile(measured_grain([blocks_of(grey)]), (1,))
        self.assertAlmostEqual(float(tile.std()), 1, delta=0.05)
        np.testing.assert_allclose(tile[..., 0], tile[..., 2], atol=0.02)

    def test_edges_of_known_blur_are_measured(self):
        rng = np.random.default_rng(4)
        for blur in (0.45, 0.7, 1.0, 1.5):
            true = float(np.hypot(blur, 12**-0.5))  # a px adds the variance of its own width
            found = softness_px(edges(rng, blur))
            self.assertAlmostEqual(found, true, delta=0.13)
        self.assertIsNone(softness_px(np.full((720, 1280), 0.3, np.float32)))


class GivenTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.addClassCleanup(close_workshop)
        rng = np.random.default_rng(5)
        for k in range(4):
            light = np.maximum(edges(rng, 1.1), 0)[..., None]
            noise = cv2.GaussianBlur(rng.standard_normal((720, 1280, 3)), (0, 0), 0.7)
            light = light + np.sqrt(BASE + BY_LIGHT * light) * noise / noise.std()
            cv2.imwrite(
                f"{folder.name}/clip.{k:04d}.png",
                np.round(65535 * encode(np.clip(light, 0, 1), "srgb")).astype(np.uint16),
                [cv2.IMWRITE_PNG_COMPRESSION, 0],
            )
        cls.shot = with_plate(Shot(), probe(Path(folder.name) / "clip.0000.png"))
        y, x = np.mgrid[:300, :400]
        cover = (np.hypot(x - 200, y - 150) < 120).astype(np.float32)
        colour = np.dstack([0.4 * cover] * 3 + [cover]).astype(np.float32)
        none = np.zeros((300, 400), np.float32)
        cls.part = Ours(colour, np.ones((300, 400, 3), np.float32), none, none, cover, none, 100, 200)

    def filmed(self, index=1, scale=1.0, **shares):
        shot = msgspec.structs.replace(self.shot, exposure=Exposure(**{name: constant(value) for name, value in shares.items()}))
        return as_filmed(shot, index, Size(round(1280 * scale), round(720 * scale), scale), self.part, lambda: None).colour

    def test_a_shot_of_a_clip_has_both_and_one_that_was_made_before_has_neither(self):
        self.assertEqual((self.shot.exposure.softness.value, self.shot.exposure.grain.value), ((1.0,), (1.0,)))
        kept = with_plate(msgspec.structs.replace(self.shot, exposure=Exposure()), msgspec.structs.replace(self.shot.plate, count=3))
        self.assertEqual(kept.exposure, Exposure())
        self.assertIs(as_filmed(msgspec.structs.replace(self.shot, exposure=Exposure()), 1, Size(1280, 720, 1.0), self.part, lambda: None), self.part)

    def test_what_is_ours_has_as_much_grain_as_the_clip(self):
        inside = self.part.colour[..., 3] > 0
        found = self.filmed(grain=1.0)
        np.testing.assert_array_equal(found[..., 3], self.part.colour[..., 3])
        self.assertEqual(float(np.abs(found[~inside]).max()), 0.0)
        expected = np.sqrt(BASE + BY_LIGHT * 0.4)
        for c in range(3):
            self.assertAlmostEqual(float(found[inside][:, c].std() / expected), 1, delta=0.25)
            self.assertAlmostEqual(float(found[inside][:, c].mean()), 0.4, delta=0.002)
        twice = self.filmed(grain=2.0)
        self.assertAlmostEqual(float(twice[inside][:, 0].std() / found[inside][:, 0].std()), 2, delta=0.01)
        np.testing.assert_array_equal(found, self.filmed(grain=1.0))
        other = self.filmed(index=2, grain=1.0)
        self.assertLess(abs(np.corrcoef(other[inside][:, 0], found[inside][:, 0])[0, 1]), 0.1, "grain of another frame is another")
        half = self.filmed(scale=0.5, grain=1.0)
        self.assertLess(float(half[inside][:, 0].std()), 0.8 * float(found[inside][:, 0].std()), "of a smaller picture each px is a mean")

    def test_it_can_be_stopped_while_the_clip_is_looked_at_and_begins_anew(self):
        class Stopped(Exception):
            pass

        def stop():
            raise Stopped

        info = msgspec.structs.replace(self.shot.plate, rate=(24, 1))  # a clip of which nothing is known yet
        shot = msgspec.structs.replace(self.shot, plate=info)
        with self.assertRaises(Stopped):
            as_filmed(shot, 1, Size(1280, 720, 1.0), self.part, stop)
        self.assertFalse((as_filmed(shot, 1, Size(1280, 720, 1.0), self.part, lambda: None).colour == self.part.colour).all())

    def test_its_edges_are_as_soft_as_those_of_the_clip(self):
        cover = self.filmed(softness=1.0)[..., 3]
        wide = np.zeros((720, 1280), np.float32)
        wide[100:400, 200:600] = cover
        self.assertAlmostEqual(softness_px(wide), float(np.hypot(1.1, 12**-0.5)), delta=0.2)
        self.assertAlmostEqual(float(cover[150, 200]), 1.0, places=5)

    def test_its_shadow_is_as_soft_and_has_no_pale_rim_beside_what_casts_it(self):
        shade = np.ones((300, 400, 3), np.float32)
        shade[150:] = 0.5  # also under the disc, which hides most of it
        shade[self.part.colour[..., 3] > 0] = 1.0
        shot = msgspec.structs.replace(self.shot, exposure=Exposure(softness=constant(1.0)))
        none = np.zeros_like(self.part.colour)
        for part in (self.part._replace(shade=shade), self.part._replace(shade=shade, colour=none)):
            soft = as_filmed(shot, 1, Size(1280, 720, 1.0), part, lambda: None)
            across = soft.shade[130:170, 20, 0]
            wide = (1 - across) @ np.ones(40) / 0.5
            self.assertAlmostEqual(float(wide), 20, delta=0.1, msg="the edge stays where it is")
            rise = np.diff(across)
            self.assertAlmostEqual(float(np.sqrt((rise * (np.arange(39) - 19) ** 2).sum() / rise.sum())), 1.1, delta=0.25)
        soft = as_filmed(shot, 1, Size(1280, 720, 1.0), self.part._replace(shade=shade), lambda: None)
        beside = (self.part.colour[..., 3] == 0) & (np.arange(300) > 160)[:, None]
        self.assertAlmostEqual(float(soft.shade[beside].max()), 0.5, places=5)

    def test_a_draft_is_clean_and_a_final_picture_changes_where_our_things_are(self):
        demo = files.read(DEMO)
        clean = msgspec.structs.replace(demo, exposure=msgspec.structs.replace(demo.exposure, softness=constant(0.0), grain=constant(0.0)))
        shot = msgspec.structs.replace(demo, exposure=msgspec.structs.replace(demo.exposure, softness=constant(1.0), grain=constant(1.0)))
        np.testing.assert_array_equal(frame(shot, 20, "draft").pixels, frame(clean, 20, "draft").pixels)
        before, after = (frame(s, 20, samples=4).pixels for s in (clean, shot))
        layer = frame(clean, 20, layer="layers", samples=4).pixels[..., 3]
        shade = frame(clean, 20, layer="shadow", samples=4).pixels.max(-1)
        uneven = cv2.dilate(shade, np.ones((9, 9))) - cv2.erode(shade, np.ones((9, 9))) > 1e-3
        away = (cv2.dilate(layer, np.ones((9, 9))) == 0) & ~uneven
        self.assertGreater(float(away.mean()), 0.5)
        self.assertTrue((before == after).all(-1)[away].all())
        change = light_of(after, demo.plate.transfer) - light_of(before, demo.plate.transfer)
        self.assertGreater(float(change[layer > 0.99].std()), 0.002)
        self.assertLess(abs(float(change[layer > 0.99].mean())), 0.002)


if __name__ == "__main__":
    unittest.main()
