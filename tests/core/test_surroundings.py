"""Light from all around: its tables against closed forms, files of it, what an edit does, ripples of mirrors and the lens."""

import json
import math
import tempfile
import unittest
from pathlib import Path

import cv2
import msgspec
import numpy as np

from lodestar.core.basics.errors import PlateError
from lodestar.core.basics.keyed import constant
from lodestar.core.edits.focus import with_focus_at
from lodestar.core.edits.lights import with_surroundings, without_surroundings
from lodestar.core.edits.settle import with_ground
from lodestar.core.evaluate.cameras import camera_at, lens_at
from lodestar.core.evaluate.lights import lights_at
from lodestar.core.light.lamps import SkyLight, SunLight
from lodestar.core.light.sun import direction
from lodestar.core.light.surroundings import (
    BRIGHTNESS,
    GUIDE_HIGH,
    HIGH,
    MATT,
    NORMALS,
    WIDE,
    AroundLight,
    Surroundings,
    directions,
    light_around,
    prepared,
    solid_angles,
    turn_of,
)
from lodestar.core.media.panorama import panorama
from lodestar.core.picture.frame import frame, light_frame
from lodestar.core.picture.workshop import close_workshop
from lodestar.core.render.engine import Engine, Quality
from lodestar.core.render.items import Item, Texture
from lodestar.core.render.textures import RIPPLES
from lodestar.core.shape.solids import box_mesh, card_mesh
from lodestar.core.shot import files
from lodestar.core.shot.document import ShadowLine
from tests.core.test_cli import example
from tests.core.test_rays import GROUND, looking, looking_down, placed, whole
from tests.helpers import DEMO, by_hand

NO_SUN = SunLight(np.array([0, 0, 1.0]), np.zeros(3), 1.0)


def even(value=0.7):
    return np.full((HIGH, WIDE, 3), value, np.float32)


def patch(bearing, height, radius_deg, value, base=0.0):
    """A picture with a disc of light."""
    away = np.rad2deg(np.arccos(np.clip(directions(HIGH) @ direction(bearing, height), -1, 1)))
    return np.where(away[..., None] < radius_deg, value, base).astype(np.float32) * np.ones(3, np.float32)


class TablesTest(unittest.TestCase):
    def test_even_light_stays_even(self):
        around = prepared(even())
        np.testing.assert_allclose(around.texels, 0.7, atol=1e-4)
        np.testing.assert_allclose(around.level, 0.7, atol=1e-4)
        self.assertIsNone(around.sun)

    def test_a_matt_place_gets_the_light_by_its_cosine(self):
        picture = np.random.default_rng(3).random((16, 32, 3)).astype(np.float32).repeat(32, 0).repeat(32, 1)
        around = prepared(picture, sun=NO_SUN)
        d, each = directions(HIGH), solid_angles(HIGH)
        begin, wide, high = around.levels[MATT]
        for row, column in ((2, 5), (20, 90), (50, 40)):
            n = directions(high)[row, column]
            known = (picture * (np.maximum(d @ n, 0) * each)[..., None]).reshape(-1, 3).sum(0) / np.pi
            np.testing.assert_allclose(around.texels[begin + row * wide + column], known, rtol=0.01)

    def test_directions_are_as_dense_as_the_light_that_a_place_gets(self):
        around = prepared(patch(40, 50, 12, 5.0, 0.2), sun=NO_SUN)
        each = solid_angles(GUIDE_HIGH)
        for k, n in enumerate(NORMALS):
            self.assertAlmostEqual(float((around.density[k] * each).sum()), 1.0, delta=1e-6)
            behind = directions(GUIDE_HIGH) @ n < -1e-6
            self.assertEqual(float(around.density[k][behind].max()), 0.0)

    def test_a_sun_is_taken_out_with_all_of_its_light(self):
        """A disc of radius r and light L gives a surface that faces it L sin(r)^2 (closed form; white sends back irradiance / pi)."""
        for size in (0.8, 2.0):
            picture = patch(120, 35, size, 2000.0 / size**2, 0.3)
            sun = prepared(picture).sun
            self.assertIsNotNone(sun)
            self.assertLess(math.degrees(math.acos(min(float(sun.direction @ direction(120, 35)), 1.0))), 0.15)
            known = 2000.0 / size**2 * math.sin(math.radians(size)) ** 2
            self.assertAlmostEqual(float(sun.colour[1]) / known, 1.0, delta=0.08)  # the edge of the disc is cut by px of a third of a degree
            self.assertAlmostEqual(sun.width_deg / (2 * size), 1.0, delta=0.12)
        self.assertIsNone(prepared(patch(120, 35, 40, 3.0, 0.3)).sun, "a broad light is no sun")

    def test_strength_is_the_light_on_white_surfaces_on_average(self):
        around = prepared(even(0.2))
        light = light_around(around, Surroundings(strength=constant(1.4)), np.eye(3), 0)[0]
        self.assertAlmostEqual(float(light.colour @ BRIGHTNESS), 1.4, delta=0.01)

    def test_the_floor_is_blurred_and_the_sky_is_not(self):
        picture = np.random.default_rng(1).random((HIGH, WIDE, 3)).astype(np.float32)
        sharp, soft = (prepared(picture, floor, NO_SUN).texels[: HIGH * WIDE].reshape(HIGH, WIDE, 3) for floor in (0.0, 30.0))
        np.testing.assert_array_equal(sharp[: HIGH // 2], soft[: HIGH // 2])
        self.assertLess(soft[HIGH // 2 + 8 :].std(), 0.1 * sharp[HIGH // 2 + 8 :].std())
        self.assertAlmostEqual(float(soft[HIGH // 2 :].mean()), float(sharp[HIGH // 2 :].mean()), delta=0.01)


class LightTest(unittest.TestCase):
    def test_white_in_even_light_is_not_seen(self):
        """The white furnace: what sends back all light, in a room as bright everywhere, has the brightness of the room (common practice)."""
        light = AroundLight(prepared(even(0.6)), np.eye(3), 1.0)
        for roughness, metal in ((1.0, 1.0), (0.35, 1.0), (0.15, 1.0)):
            ball = Item(box_mesh(), placed(0, 0, 0, 1, 1, 1), (1.0, 1.0, 1.0), roughness, metal)
            colour, _ = whole([ball], [light], looking((3.0, -4.0, 2.0), (0, 0, 0.5), 160, (96, 96)), (96, 96))
            inside = colour[..., 3] > 0.999
            self.assertGreater(inside.sum(), 500)
            self.assertAlmostEqual(float(colour[inside][:, 1].mean()), 0.6, delta=0.006)

    def test_the_shadow_falls_away_from_where_the_light_comes_from(self):
        light = AroundLight(prepared(patch(90, 45, 10, 40.0, 0.02), sun=NO_SUN), np.eye(3), 1.0)
        post = Item(box_mesh(), placed(0, 0, 0, 0.2, 0.2, 1.0), (0.5, 0.5, 0.5), 1.0, 0.0)
        shade = whole([post, GROUND], [light], looking_down(6.0, 96, 4.0), (96, 96), 128)[1][..., 1]
        # the light stands to the right, at x: half a metre to the left of the post lies its shadow
        self.assertLess(shade[48, 48 - 14], 0.35)
        self.assertGreater(shade[48, 48 + 14], 0.93)
        turned = light._replace(turn=turn_of(Surroundings(heading=constant(180.0)), 0))
        shade = whole([post, GROUND], [turned], looking_down(6.0, 96, 4.0), (96, 96), 128)[1][..., 1]
        self.assertLess(shade[48, 48 + 14], 0.35)

    def test_polished_metal_shows_its_neighbour(self):
        """A polished plate seen at 45 degrees beside a red wall that glows: it has the wall's colour, by the law of reflection."""
        plate = Item(box_mesh(), placed(0, 0, -0.1, 4, 4, 0.1), (1.0, 1.0, 1.0), 0.03, 1.0)
        wall = Item(box_mesh(), placed(0, 2.0, 0, 4, 0.1, 4), (1.0, 0.1, 0.1), 1.0, 0.0, glow=0.5)
        camera = looking((0.0, -2.0, 2.0), (0.0, 0.0, 0.0), 60, (64, 64))
        colour, _ = whole([plate, wall], [SkyLight(np.full(3, 0.01))], camera, (64, 64), 128)
        middle = colour[34:40, 28:36].reshape(-1, 4)
        np.testing.assert_allclose(middle[:, 0], 0.51, atol=0.02)  # each px: seen as a lamp too, some would be far brighter
        middle = middle.mean(0)
        self.assertLess(float(middle[1]), 0.12)


class GroundSeenTest(unittest.TestCase):
    """A polished plate stands upright on the ground; the camera filmed a ground that is green on the left and red on the right."""

    def colour(self, plate, roughness=0.03):
        wall = Item(box_mesh(), placed(0, 0.5, 0, 3, 0.1, 2), (1.0, 1.0, 1.0), roughness, 1.0)
        camera = looking((0.0, -4.0, 1.6), (0.0, 0.0, 0.4), 70, (96, 96))
        layers = Engine().render([wall, GROUND], [SkyLight(np.full(3, 0.5))], lambda share: camera, (96, 96), Quality(0.0, 64), plate=plate)
        found = np.zeros((96, 96, 4), np.float32)
        h, w = layers.colour.shape[:2]
        found[layers.top : layers.top + h, layers.left : layers.left + w] = layers.colour
        return found

    def test_metal_mirrors_the_ground_that_was_filmed(self):
        """By the law of reflection what is on the left of the ground is seen on the left; what was not filmed stays even."""
        light = np.zeros((96, 96, 3), np.float32)
        light[:, :48, 1], light[:, 48:, 0] = 0.8, 0.8
        found, even = self.colour(lambda: light), self.colour(None)
        low = slice(46, 50)  # there it shows the ground between it and the foot of the picture
        self.assertGreater(float(found[low, 36:44, 1].mean()), 0.6)
        self.assertLess(float(found[low, 36:44, 0].mean()), 0.15)
        self.assertGreater(float(found[low, 52:60, 0].mean()), 0.6)
        self.assertLess(float(np.ptp(even[low, 36:60, :3].mean((0, 1)))), 0.02)
        # what mirrors the sky shows no ground
        np.testing.assert_allclose(found[22:26, 40:56, :3], even[22:26, 40:56, :3], atol=0.02)

    def test_our_shadows_lie_on_the_ground_that_a_mirror_shows(self):
        """Under a sun overhead a card shades the ground on the left, which gets what the sky sends there and no more: where sun and sky give an open
        ground the same, half of what it has under the sky alone. On the right it has all of the sun."""
        light = np.full((96, 96, 3), 0.8, np.float32)
        wall = Item(box_mesh(), placed(0, 0.5, 0, 3, 0.1, 2), (1.0, 1.0, 1.0), 0.03, 1.0)
        card = Item(box_mesh(), placed(-1.0, -1.0, 6, 2, 3, 0.1), (0, 0, 0), 1.0, 0.0)
        camera = looking((0.0, -4.0, 1.6), (0.0, 0.0, 0.4), 70, (96, 96))
        sun, sky = SunLight(np.array([0, 0, 1.0]), np.full(3, 0.5), 0.1), SkyLight(np.full(3, 0.5))

        def sides(*lights):
            layers = Engine().render([wall, card, GROUND], list(lights), lambda share: camera, (96, 96), Quality(0.0, 64), plate=lambda: light)
            low = layers.colour[46 - layers.top : 50 - layers.top, :, 0]
            return float(low[:, 36 - layers.left : 44 - layers.left].mean()), float(low[:, 52 - layers.left : 60 - layers.left].mean())

        (left, right), (left_both, right_both) = sides(sky), sides(sun, sky)
        self.assertAlmostEqual(left_both / left, 0.5, delta=0.02)
        self.assertAlmostEqual(right_both / 0.8, 0.5 + 0.5 * right / 0.8, delta=0.02)
        self.assertLess(left, right, "the card hides some of the sky")

    def test_a_rough_mirror_blurs_it_and_matt_letters_do_not_ask_for_it(self):
        light = np.zeros((96, 96, 3), np.float32)
        light[:, :48, 1], light[:, 48:, 0] = 0.8, 0.8
        step = lambda found: float(np.abs(np.diff(found[48, 30:66, 1])).max())
        self.assertLess(step(self.colour(lambda: light, 0.5)), 0.5 * step(self.colour(lambda: light)))

        def never():
            raise AssertionError("nothing here mirrors")

        matt = Item(box_mesh(), placed(0, 0.5, 0, 3, 0.1, 2), (1.0, 1.0, 1.0), 0.6, 0.0)
        camera = looking((0.0, -4.0, 1.6), (0.0, 0.0, 0.4), 70, (96, 96))
        self.assertIsNotNone(Engine().render([matt, GROUND], [SkyLight(np.ones(3))], lambda share: camera, (96, 96), Quality(0.0, 2), plate=never))


class FilesTest(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def write(self, name, picture):
        path = str(self.folder / name)
        self.assertTrue(cv2.imwrite(path, picture))
        return path

    def test_a_radiance_picture(self):
        """Written by OpenCV's own encoder of .hdr, whose mantissa has 8 bits."""
        picture = np.random.default_rng(2).uniform(0.5, 2, (8, 16, 3)).astype(np.float32).repeat(64, 0).repeat(64, 1)
        picture[10:12, 20:24] = 900.0
        found = panorama(self.write("room.hdr", picture[..., ::-1]))
        self.assertEqual(found.shape, (HIGH, WIDE, 3))
        np.testing.assert_allclose(found, picture, rtol=0.02)

    def test_what_is_no_light_is_dark(self):
        import OpenEXR

        picture = np.ones((64, 128, 3), np.float32)
        picture[3, 4], picture[5, 6], picture[7, 8] = np.nan, -4.0, np.inf
        path = str(self.folder / "room.exr")
        with OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}, {"RGB": picture}) as file:
            file.write(path)
        found = panorama(path)
        self.assertTrue(np.isfinite(found).all() and found.min() >= 0)
        self.assertGreater(found.max(), 100)

    def test_bad_files_are_refused_with_a_sentence(self):
        square = self.write("square.png", np.zeros((64, 64, 3), np.uint8))
        cut = self.folder / "cut.hdr"
        cut.write_bytes(b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 64 +X 128\n\x02\x02")
        huge = self.folder / "huge.hdr"
        huge.write_bytes(b"#?RADIANCE\n\n-Y 90000 +X 180000\n")
        none = self.folder / "none.hdr"
        none.write_bytes(b"hello")
        for path, word in ((square, "twice as wide"), (cut, "Radiance"), (huge, "says that it has"), (none, "Radiance"), ("/gone/a.hdr", "not in")):
            with self.assertRaises(PlateError) as caught:
                panorama(str(path))
            self.assertIn(word, str(caught.exception))


class ShotTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.shot = files.read(DEMO)

    def test_they_take_the_place_of_sky_and_sun_and_give_it_back(self):
        lit = with_surroundings(msgspec.structs.replace(self.shot, shadow=msgspec.structs.replace(self.shot.shadow, lines=())), "clear")
        self.assertFalse(any(lamp.on for lamp in lit.lamps))
        self.assertEqual([type(light) for light in lights_at(lit, 46)], [AroundLight, SunLight])
        self.assertTrue(all(lamp.on for lamp in without_surroundings(lit).lamps))
        line = ShadowLine(foot=(0.0, 0.0, 0.0), tip=(1.0, 0.0, 0.0), height=1.0)
        known = with_surroundings(msgspec.structs.replace(self.shot, shadow=msgspec.structs.replace(self.shot.shadow, lines=(line,))), "clear")
        self.assertEqual([type(light) for light in lights_at(known, 46)], [SunLight, AroundLight], "a sun that shadows tell is kept")

    def test_each_kind_lights_the_titles_and_is_saved(self):
        plain = frame(self.shot, 46, "draft", layer="layers", scale=0.5).pixels
        seen = [plain]
        for kind in ("overcast", "dusk", "soft box", "sky"):
            lit = with_surroundings(self.shot, kind)
            with tempfile.TemporaryDirectory() as folder:
                files.write(lit, Path(folder) / "a.lode")
                lit = files.read(Path(folder) / "a.lode")
            found = frame(lit, 46, "draft", layer="layers", scale=0.5).pixels
            self.assertTrue(np.isfinite(found).all())
            self.assertGreater(min(np.abs(found[..., :3] - other[..., :3]).max() for other in seen), 0.05, kind)
            seen.append(found)

    def test_as_the_document_writes_them(self):
        shot = by_hand(self.shot, json.loads(example("docs/shot-file.md", "surroundings")))
        found = {layer: frame(shot, 46, layer=layer, scale=0.5).pixels for layer in ("layers", "reflection")}
        self.assertGreater((found["layers"][..., 3] > 0.5).sum(), 150)
        self.assertGreater((found["reflection"][..., 3] > 0.2).sum(), 50)

    def test_they_stay_where_they_were_when_the_scene_is_turned_and_sized(self):
        lit = with_surroundings(self.shot, "dusk")
        lit = msgspec.structs.replace(lit, focus=msgspec.structs.replace(lit.focus, on=True))
        turned = with_ground(lit, msgspec.structs.replace(lit.ground, turned=(30.0, 0.0, 0.0), sized=2.0))
        self.assertAlmostEqual(turned.focus.distance.at(0)[0], 2 * lit.focus.distance.at(0)[0])
        toward = lambda shot: camera_at(shot, 46).R @ next(a.turn for a in lights_at(shot, 46) if isinstance(a, AroundLight)).T[:, 1]
        np.testing.assert_allclose(toward(turned), toward(lit), atol=1e-6)


class LowSunTest(unittest.TestCase):
    """The second shot of the demo: a low sun behind metal letters on uneven ground, a kerb before them and a basin."""

    @classmethod
    def setUpClass(cls):
        cls.shot = files.read(DEMO.with_name("low-sun.lode"))
        cls.addClassCleanup(close_workshop)

    def test_its_shadow_is_as_deep_as_those_of_the_place(self):
        """On sunlit paving, against the shadow of the basin's rim that was filmed."""
        light = light_frame(self.shot.plate, 40)
        mean = lambda rows, columns: light[rows, columns].reshape(-1, 3).mean(0)
        known = mean(slice(640, 690), slice(250, 600)) / mean(slice(560, 620), slice(10, 80))
        shade = frame(self.shot, 40, layer="shadow").pixels[500:590, 0:160].reshape(-1, 3)
        np.testing.assert_allclose(np.percentile(shade, 5, axis=0), known, atol=0.12)
        self.assertGreater(float((shade[:, 0] < 0.5).mean()), 0.2)

    def test_the_basin_shows_the_letters_and_their_lit_sides(self):
        mirrored = frame(self.shot, 40, "draft", layer="reflection").pixels
        water = mirrored[480:565, 300:1100]
        self.assertGreater(float((water[..., 3] > 0.3).mean()), 0.15)
        self.assertEqual(float(mirrored[:440, :, 3].max()), 0.0)


class MirrorTest(unittest.TestCase):
    def pond(self, **how):
        letter = Item(card_mesh(), placed(0.0, 1.0, 0.0, 1.0, 1.0, 1.0), (1.0, 1.0, 1.0), 1.0, 0.0)
        pond = Item(box_mesh(), placed(0, 0, -0.2, 6, 6, 0.2), (0, 0, 0), 0.03, 0.0, drawn=False, hides=True, reflects=1.0, **how)
        camera = looking((0.0, -4.0, 1.5), (0.0, 0.5, 0.0), 90, (96, 96))
        return whole([letter, pond], [SkyLight(np.ones(3))], camera, (96, 96), 32)[0][..., 3]

    def test_ripples_break_the_mirror_and_run(self):
        still = self.pond()
        moved = [
            self.pond(texture=Texture(RIPPLES, 0.2, (0, 0, 0), 0.0, 0.05, (0.0, -shift, 0.0)), scaled=np.diag([6.0, 6.0, 0.2, 1.0]))
            for shift in (0.0, 0.4)
        ]
        self.assertGreater(np.abs(moved[0] - still).sum(), 0.03 * still.sum())
        self.assertGreater(np.abs(moved[0] - moved[1]).sum(), 0.02 * still.sum())
        # no light is lost over the whole: they move it
        self.assertAlmostEqual(float(moved[0].sum() / still.sum()), 1.0, delta=0.15)

    def test_what_is_far_from_the_mirror_fades(self):
        still, faded = self.pond(), self.pond(fades=0.5)
        mirrored = (still > 0.5) & (faded < 0.95 * still)
        rows = np.flatnonzero(mirrored.any(1))
        self.assertGreater(len(rows), 10)
        share = [float((faded[y][mirrored[y]] / still[y][mirrored[y]]).mean()) for y in (rows[1], rows[-2])]
        self.assertGreater(share[0], share[1] + 0.2, "its foot, which is near, stays; its top goes")

    def test_water_mirrors_by_its_angle_as_fresnel_says(self):
        """Seen from steeper and steeper places; exact equations for light without polarisation, index 1.333 (E. Hecht, Optics, ch. 4.6)."""
        wall = Item(box_mesh(), placed(0.0, 60.0, 0.0, 400.0, 1.0, 400.0), (1.0, 1.0, 1.0), 1.0, 0.0, thickness=1.0)
        pond = Item(box_mesh(), placed(0, 0, -0.2, 60, 60, 0.2), (0, 0, 0), 0.03, 0.0, drawn=False, hides=True, reflects=1.0, fresnel=1.0)
        for degrees in (20.0, 50.0, 65.0, 75.0, 82.0):
            a = math.radians(degrees)
            camera = looking((0.0, -8 * math.sin(a), 8 * math.cos(a)), (0.0, 0.0, 0.0), 300, (32, 32))
            seen = float(whole([wall, pond], [SkyLight(np.ones(3))], camera, (32, 32), 16)[0][14:18, 14:18, 3].mean())
            b = math.asin(math.sin(a) / 1.333)
            s = (math.sin(a - b) / math.sin(a + b)) ** 2
            p = (math.tan(a - b) / math.tan(a + b)) ** 2
            self.assertAlmostEqual(seen, (s + p) / 2, delta=0.012, msg=str(degrees))

    def test_what_is_under_the_waterline_is_not_seen_and_not_mirrored(self):
        picture = np.zeros((64, 8, 4), np.uint8)
        picture[:32, :, 0], picture[32:, :, 2], picture[..., 3] = 255, 255, 255
        board = Item(card_mesh(), placed(0.0, 1.0, -1.0, 2.0, 1.0, 2.0), (1.0, 1.0, 1.0), 1.0, 0.0, picture=picture)
        pond = Item(box_mesh(), placed(0, 0, -0.2, 9, 9, 0.2), (0, 0, 0), 0.03, 0.0, drawn=False, hides=True, reflects=0.6)
        colour, _ = whole([board, pond], [SkyLight(np.ones(3))], looking((0.0, -5.0, 1.5), (0.0, 1.0, 0.0), 110, (96, 96)), (96, 96), 16)
        self.assertLess(float(colour[..., 2].max()), 0.15, "nothing of its lower half, which is blue, but where its px meet the red ones")
        column = colour[:, 48, 0] / np.maximum(colour[:, 48, 3], 1e-6)
        there = np.flatnonzero(colour[:, 48, 3] > 0.3)
        self.assertTrue((np.diff(there) == 1).all(), "from its top through the waterline to the mirrored top without a gap")
        self.assertGreater(float(column[there[2:-2]].min()), 0.5)
        self.assertAlmostEqual(float(colour[there[-4], 48, 3]), 0.6, delta=0.05)


class LensTest(unittest.TestCase):
    def test_the_blur_of_a_point_is_that_of_a_thin_lens(self):
        """A point at z blurs to a disc of radius f A |1/z - 1/s|, f in px, A the lens's radius, s what is sharp (handbooks of optics)."""
        small = Item(box_mesh(), placed(0, 0, -0.005, 0.01, 0.01, 0.01), (1.0, 1.0, 1.0), 1.0, 0.0)
        camera = looking((0.0, -6.0, 0.0), (0.0, 0.0, 0.0), 400, (128, 128))
        for sharp, aperture in ((4.0, 0.3), (12.0, 0.2), (6.0, 0.3)):
            alpha = whole([small], [SkyLight(np.ones(3))], camera, (128, 128), 256, aperture=aperture, focus=sharp)[0][..., 3]
            y, x = np.mgrid[0:128, 0:128] - 63.5
            spread = math.sqrt(float((alpha * (x * x + y * y)).sum() / alpha.sum()))
            known = 400 * aperture * abs(1 / 6.0 - 1 / sharp) / math.sqrt(2)  # rms radius of an even disc
            self.assertAlmostEqual(spread, math.hypot(known, 0.35), delta=0.4, msg=str(sharp))
            self.assertAlmostEqual(float(alpha.sum()), (400 * 0.01 / 6) ** 2, delta=0.15)

    def test_focus_on_an_object(self):
        shot = files.read(DEMO)
        item = next(o for o in shot.objects if o.drawn)
        found = with_focus_at(shot, item.id, 46, "here")
        camera = camera_at(shot, 46)
        place = np.array(item.position.at(46))
        self.assertAlmostEqual(found.focus.distance.at(46)[0], float(camera.R[2] @ place + camera.t[2]), delta=1.0)
        radius, away = lens_at(found, 46)
        self.assertGreater(radius, 0)
        self.assertEqual(away, found.focus.distance.at(46)[0])
        self.assertEqual(lens_at(shot, 46)[0], 0.0)

    def test_a_title_out_of_focus_is_soft(self):
        shot = files.read(DEMO)
        away = msgspec.structs.replace(shot.focus, on=True, distance=constant(1.0), stop=constant(0.7))
        soft, sharp = (frame(s, 46, layer="layers", scale=0.5).pixels[..., 3] for s in (msgspec.structs.replace(shot, focus=away), shot))
        partly = lambda alpha: int(((alpha > 0.05) & (alpha < 0.95)).sum())
        self.assertGreater(partly(soft), 2 * partly(sharp))


if __name__ == "__main__":
    unittest.main()
