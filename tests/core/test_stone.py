"""Surfaces from pictures: patches of the plate made straight, even and endless; and how they lie on solids."""

import math
import unittest

import cv2
import msgspec
import numpy as np

from lodestar.core.basics.colour import decode
from lodestar.core.basics.errors import PlateError, ShotFileError
from lodestar.core.edits.own_surfaces import own_of, read_own, write_own
from lodestar.core.edits.stone import quad_under, read_map, with_map, with_picture, with_surface_of_place, without_map
from lodestar.core.edits.surfaces import with_made_of
from lodestar.core.evaluate.cameras import scene_frame
from lodestar.core.evaluate.lights import light_on, lights_at
from lodestar.core.evaluate.objects import items_of
from lodestar.core.evaluate.pointing import Points
from lodestar.core.light.lamps import SkyLight, SunLight
from lodestar.core.light.sun import direction
from lodestar.core.light.surroundings import BOUNCE, AroundLight, prepared
from lodestar.core.media.tiles import endless, evenly_lit, heights_of_normals, normals_of, packed, smaller, straightened, unpacked, unpacked_maps
from lodestar.core.picture.frame import frame, light_frame
from lodestar.core.picture.workshop import close_workshop
from lodestar.core.render.items import Item, Texture
from lodestar.core.render.textures import PICTURED
from lodestar.core.shape.solids import box_mesh
from lodestar.core.shot import files
from lodestar.core.shot.checked import checked
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Box
from tests.core.test_rays import looking, placed, whole
from tests.helpers import DEMO, FolderCase, texture


class TilesTest(unittest.TestCase):
    def test_a_patch_is_made_straight(self):
        """A board of squares seen in perspective by OpenCV's own warp comes back."""
        board = np.kron((np.indices((8, 8)).sum(0) % 2).astype(np.float32), np.ones((25, 25), np.float32))[..., None].repeat(3, 2)
        corners = np.array([[60, 40], [230, 70], [250, 260], [30, 230]], np.float32)
        own = np.array([[-0.5, -0.5], [199.5, -0.5], [199.5, 199.5], [-0.5, 199.5]], np.float32)
        seen = cv2.warpPerspective(board, cv2.getPerspectiveTransform(own, corners), (300, 300))
        found = straightened(seen, corners)
        self.assertLess(float(np.abs(cv2.resize(found, (200, 200)) - board).mean()), 0.06)

    def test_slow_light_goes_and_the_grain_stays(self):
        grain = 0.3 + 0.2 * texture(128, 128)[..., None].astype(np.float32).repeat(3, 2)
        lit = grain * np.linspace(0.6, 1.4, 128, dtype=np.float32)[None, :, None]
        even = evenly_lit(lit)
        side = lambda picture: float(picture[:, :32].mean() / picture[:, -32:].mean())
        self.assertLess(side(lit), 0.6)
        self.assertAlmostEqual(side(even), 1.0, delta=0.16)
        self.assertGreater(float(np.corrcoef(even.ravel(), grain.ravel())[0, 1]), 0.7)

    def test_an_endless_patch_has_no_seam_and_keeps_its_contrast(self):
        patch = texture(128, 128, 4)[..., None].astype(np.float32).repeat(3, 2) + np.linspace(0, 0.5, 128, dtype=np.float32)[:, None, None]
        tile = endless(patch)
        for axis in (0, 1):
            inside = np.abs(np.diff(tile, axis=axis)).mean()
            seam = np.abs(np.take(tile, 0, axis) - np.take(tile, -1, axis)).mean()
            self.assertLess(seam, 3 * inside)
        self.assertAlmostEqual(float(tile.mean() / patch.mean()), 1.0, delta=0.03)
        self.assertGreater(float(tile.std() / patch.std()), 0.7)

    def test_packed_and_unpacked(self):
        light = np.full((64, 64, 3), [0.5, 0.2, 0.05], np.float32)
        codes = unpacked(packed(light))
        np.testing.assert_allclose(decode(codes[32, 32, :3] / np.float32(255), "srgb"), light[0, 0], atol=0.01)
        self.assertLessEqual(max(smaller(np.zeros((4000, 300, 3), np.uint8)).shape), 1024)

    def test_bad_bytes_are_refused(self):
        done, huge = cv2.imencode(".png", np.zeros((4, 9000, 3), np.uint8))
        self.assertTrue(done)
        for data in (b"", b"nonsense", packed(np.ones((64, 64, 3), np.float32))[:80], huge.tobytes()):
            with self.assertRaises(PlateError):
                unpacked(data)


class LightOnTest(unittest.TestCase):
    def test_a_white_surface_under_known_lamps(self):
        """Lambert: the cosine to the sun; half of the sky on an upright surface, and half of what the ground sends back."""
        sun, sky = SunLight(direction(180.0, 30.0), np.full(3, 2.0), 0.5), SkyLight(np.full(3, 0.4))
        np.testing.assert_allclose(light_on([sun, sky], np.array([0, 0, 1.0])), 0.4 + 2 * math.sin(math.radians(30)))
        wall = light_on([sun, sky], np.array([0, -1.0, 0]))
        np.testing.assert_allclose(wall, 0.2 + 0.5 * BOUNCE * (0.4 + 1.0) + 2 * math.cos(math.radians(30)))
        even = AroundLight(prepared(np.full((512, 1024, 3), 0.5, np.float32)), np.eye(3), 2.0)
        np.testing.assert_allclose(light_on([even], np.array([0.6, 0, 0.8])), 1.0, rtol=1e-3)


class LaidOverTest(unittest.TestCase):
    def test_a_picture_lies_upright_in_its_size_on_each_side(self):
        """A box of one metre with a picture of half a metre: left half red, right half blue, so that stripes are a quarter of a metre wide."""
        picture = np.zeros((64, 64, 4), np.uint8)
        picture[:, :32, 0], picture[:, 32:, 2], picture[..., 3] = 255, 255, 255
        stripes = Texture(PICTURED, 0.5, (0, 0, 0), 1.0, 0.0, picture=picture)
        box = Item(box_mesh(), placed(), (1.0, 1.0, 1.0), 1.0, 0.0, texture=stripes, scaled=np.eye(4))
        colour, _ = whole([box], [SkyLight(np.ones(3))], looking((0.0, -4.0, 0.5), (0.0, 0.0, 0.5), 350, (128, 128)), (128, 128), 16)
        row = colour[64]
        inside = np.flatnonzero(row[:, 3] > 0.99)
        red = row[:, 0] > row[:, 2]
        changes = [k for k in inside[1:] if red[k] != red[k - 1]]
        self.assertEqual(len(changes), 3)
        np.testing.assert_allclose(np.diff(changes), 0.25 * 350 / 3.5, atol=1.5)
        middle = np.abs(np.array(changes) - 63.5).min()
        self.assertLess(middle, 1.5, "a stripe begins at its own axis")

    def test_relief_tilts_what_is_seen(self):
        picture = np.zeros((64, 64, 4), np.uint8)
        picture[..., :3], picture[..., 3] = (127 + 120 * np.sin(np.arange(64) / 64 * 4 * np.pi))[None, :, None].astype(np.uint8), 255
        sun = SunLight(direction(90.0, 5.0), np.ones(3), 0.5)
        found = []
        for relief in (0.0, 0.1):
            looks = Texture(PICTURED, 0.5, (0, 0, 0), 0.0, relief, picture=picture)
            box = Item(box_mesh(), placed(), (0.5, 0.5, 0.5), 1.0, 0.0, texture=looks, scaled=np.eye(4))
            colour, _ = whole([box], [sun, SkyLight(np.full(3, 0.2))], looking((0.0, -4.0, 0.5), (0.0, 0.0, 0.5), 300, (96, 96)), (96, 96), 16)
            found.append(float(colour[30:66, 30:66, 1].std()))
        self.assertGreater(found[1], found[0] + 0.02)

    def test_a_relief_map_shades_as_its_slopes_say(self):
        """Waves across a matt wall under a sun alone: Lambert's cosine of the wave's own normal, by the formula."""
        high, n = 0.02, 256
        wave = 0.5 + 0.5 * np.sin(2 * np.pi * (np.arange(n) + 0.5) / n)
        maps = np.dstack([np.broadcast_to(np.rint(wave * 65535).astype(np.uint16), (n, n))] * 2)
        sun = SunLight(np.array([0.5, -0.8, 0.33]) / np.linalg.norm([0.5, -0.8, 0.33]), np.ones(3), 0.5)
        looks = Texture(PICTURED, 1.0, (0, 0, 0), 1.0, high, maps=maps, gives=(True, False))
        box = Item(box_mesh(), placed(), (0.5, 0.5, 0.5), 1.0, 0.0, texture=looks, scaled=np.eye(4))
        colour, _ = whole([box], [sun], looking((0.0, -4.0, 0.5), (0.0, 0.0, 0.5), 450, (128, 128)), (128, 128), 16)
        x = (np.arange(128) - 63.5) / 450 * 3.5
        inside = np.abs(x) < 0.45
        slope = high * np.pi * np.cos(2 * np.pi * x)
        cosine = (-slope * sun.direction[0] - sun.direction[1]) / np.sqrt(1 + slope**2)
        seen = colour[60:68, :, 1].mean(0)
        np.testing.assert_allclose(seen[inside] / seen[inside].mean(), cosine[inside] / cosine[inside].mean(), atol=0.012)
        self.assertGreater(cosine[inside].max() / cosine[inside].min(), 1.05)

    def test_a_roughness_map_is_as_surfaces_of_that_roughness(self):
        n = 64
        maps = np.zeros((n, n, 2), np.uint16)
        maps[:, : n // 2, 1], maps[:, n // 2 :, 1] = round(0.2 * 65535), round(0.8 * 65535)
        sun = SunLight(np.array([0.0, -1.0, 0.1]) / np.hypot(1, 0.1), np.ones(3), 3.0)
        view = looking((0.0, -4.0, 0.5), (0.0, 0.0, 0.5), 450, (96, 96))

        def seen(roughness, texture=None):
            box = Item(box_mesh(), placed(), (0.9, 0.7, 0.4), roughness, 1.0, texture=texture, scaled=np.eye(4))
            return whole([box], [sun, SkyLight(np.full(3, 0.2))], view, (96, 96), 16)[0]

        mapped = seen(0.5, Texture(PICTURED, 1.0, (0, 0, 0), 1.0, 0.0, maps=maps, gives=(False, True)))
        smooth, rough = seen(0.2), seen(0.8)
        np.testing.assert_allclose(mapped[:, 8:44], rough[:, 8:44], atol=0.01)  # the map begins anew at the middle of the wall
        np.testing.assert_allclose(mapped[:, 52:88], smooth[:, 52:88], atol=0.01)
        self.assertGreater(np.abs(smooth - rough)[:, 8:88].max(), 0.1)

    def test_a_pattern_is_turned_and_moved_on_its_face(self):
        """Stripes of a quarter of a metre: turned by 90 degrees they lie, moved by 0.1 they are 0.1 to the right."""
        picture = np.zeros((64, 64, 4), np.uint8)
        picture[:, :32, 0], picture[:, 32:, 2], picture[..., 3] = 255, 255, 255
        view = looking((0.0, -4.0, 0.5), (0.0, 0.0, 0.5), 350, (128, 128))

        def reds(**fields):
            stripes = Texture(PICTURED, 0.5, (0, 0, 0), 1.0, 0.0, picture=picture, **fields)
            box = Item(box_mesh(), placed(), (1.0, 1.0, 1.0), 1.0, 0.0, texture=stripes, scaled=np.eye(4))
            colour, _ = whole([box], [SkyLight(np.ones(3))], view, (128, 128), 16)
            return (colour[16:112, 16:112, 0] > colour[16:112, 16:112, 2]).astype(int)

        still, turned, moved = reds(), reds(turn=math.pi / 2), reds(shift=(-0.2, 0.0, 0.0))
        self.assertEqual(np.abs(np.diff(still, axis=0)).sum(), 0)
        self.assertEqual(np.abs(np.diff(turned, axis=1)).sum(), 0)
        # to the left: what was at the right of the picture is now above
        np.testing.assert_array_equal(turned[:, 40], np.rot90(still)[:, 40])
        edge = lambda red: np.flatnonzero(np.diff(red[40]) > 0)[0]
        self.assertAlmostEqual(float(edge(moved) - edge(still)) % 50, 0.1 * 350 / 3.5, delta=1.0)  # they repeat each 50 px


class MapsTest(FolderCase):
    def test_heights_come_back_from_normals_whichever_way_their_y_runs(self):
        n = 128
        y, x = np.mgrid[:n, :n] / n * 2 * np.pi
        z = 3.0 * np.sin(2 * x) * np.cos(y) + 1.5 * np.cos(x + 2 * y)
        right = 2 * np.pi / n * (6.0 * np.cos(2 * x) * np.cos(y) - 1.5 * np.sin(x + 2 * y))
        down = 2 * np.pi / n * (-3.0 * np.sin(2 * x) * np.sin(y) - 3.0 * np.sin(x + 2 * y))
        for way in (1, -1):
            normal = np.dstack([-right, way * down, np.ones_like(z)])
            codes = 0.5 + 0.5 * normal / np.linalg.norm(normal, axis=2, keepdims=True)
            path = str(self.folder / f"n{way}.png")
            cv2.imwrite(path, np.rint(codes[..., ::-1] * 255).astype(np.uint8))
            found = heights_of_normals(normals_of(np.rint(codes * 255) / 255))
            np.testing.assert_allclose(found, z - z.mean(), atol=0.1)
            shot = with_map(Shot(objects=(Box(id="b"),)), "b", read_map("relief", path))
            self.assertEqual(shot.objects[0].texture, "picture")
            self.assertAlmostEqual(shot.objects[0].relief.at(0)[0], np.ptp(z) / n, delta=0.002)
            heights = unpacked_maps(shot.objects[0].relief_map, b"")[..., 0] / 65535
            np.testing.assert_allclose(heights * np.ptp(z), z - z.min(), atol=0.15)
        self.assertIsNone(normals_of(np.full((8, 8, 3), 0.5)))
        self.assertIsNone(normals_of(np.random.default_rng(1).random((32, 32, 3))))

    def test_a_map_keeps_its_16_bits_through_the_shot_and_is_taken_away(self):
        ramp = np.broadcast_to(np.linspace(0, 65535, 300).astype(np.uint16), (40, 300))
        path = self.folder / "ramp.png"
        cv2.imwrite(str(path), ramp)
        shot = with_map(with_map(Shot(objects=(Box(id="b"),)), "b", read_map("relief", str(path))), "b", read_map("roughness", str(path)))
        files.write(shot, self.folder / "a.lode")
        (box,) = files.read(self.folder / "a.lode").objects
        np.testing.assert_allclose(unpacked_maps(box.relief_map, box.roughness_map), np.dstack([ramp, ramp]), atol=40)
        texture = items_of(shot, box, 0)[0].texture
        self.assertEqual(texture.gives, (True, True))
        self.assertIsNone(texture.picture)
        again = read_again(own_of(shot, "b", "Mine", 0), self.folder / "Mine.lodesurface")
        self.assertEqual(with_made_of(Shot(objects=(Box(id="c"),)), "c", again.made_of, 0).objects[0].relief_map, box.relief_map)
        bare = without_map(without_map(shot, "b", "relief"), "b", "roughness").objects[0]
        self.assertEqual((bare.relief_map, bare.roughness_map, bare.texture), (b"", b"", "none"))
        with self.assertRaises(PlateError):
            unpacked_maps(b"no picture", b"")


def read_again(own, path):
    write_own(own, path)
    return read_own(path)


class PlaceTest(FolderCase):
    def setUp(self):
        super().setUp()
        self.addCleanup(close_workshop)
        self.shot = files.read(DEMO)
        self.points = Points(scene_frame(self.shot).points(self.shot.solve.xyz), None)
        self.title = next(o for o in self.shot.objects if o.drawn)

    def test_a_title_of_the_paving_has_its_colour_where_it_stands(self):
        """What is made of the ground and lies on it, under the same lamps, is as bright as the ground there."""
        light = light_frame(self.shot.plate, 46)
        quad = quad_under(self.shot, 46, np.array([600.0, 560.0]), self.points)
        np.testing.assert_allclose(quad.normal, [0, 0, 1], atol=0.02)
        made = with_surface_of_place(self.shot, self.title.id, light, 46, quad)
        item = next(o for o in made.objects if o.id == self.title.id)
        self.assertEqual(item.texture, "picture")
        keyed = msgspec.structs.replace(self.title, roughness=self.title.roughness.with_key(3, (0.2,), "linear"))
        again = with_surface_of_place(msgspec.structs.replace(self.shot, objects=(keyed,)), keyed.id, light, 46, quad)
        self.assertEqual(again.objects[0].roughness, keyed.roughness, "keys are kept")
        albedo = decode(unpacked(item.texture_picture)[..., :3] / np.float32(255), "srgb").mean((0, 1))
        mask = np.zeros(light.shape[:2], np.uint8)
        cv2.fillConvexPoly(mask, np.rint(quad.corners).astype(np.int32), 1)
        seen = light[mask > 0].mean(0)
        np.testing.assert_allclose(albedo * light_on(lights_at(made, 46), quad.normal), seen, rtol=0.08)
        self.assertIsNotNone(items_of(made, item, 46)[0].texture.picture)
        again = self.folder / "stone.lode"
        files.write(made, again)
        self.assertEqual(next(o for o in files.read(again).objects if o.id == self.title.id), item)
        plain, stone = (frame(s, 46, "draft", layer="layers", scale=0.5).pixels for s in (self.shot, made))
        self.assertGreater(float(np.abs(plain - stone)[..., :3].max()), 0.1)

    def test_there_is_no_square_in_the_sky_or_at_the_rim(self):
        self.assertIsNone(quad_under(self.shot, 46, np.array([640.0, 20.0]), Points(np.zeros((0, 3)), None)))
        self.assertIsNone(quad_under(self.shot, 46, np.array([4.0, 715.0]), self.points))

    def test_a_picture_of_a_file(self):
        path = str(self.folder / "tile.png")
        cv2.imwrite(path, np.full((40, 60, 3), (10, 20, 200), np.uint8))
        item = next(o for o in with_picture(self.shot, self.title.id, path).objects if o.id == self.title.id)
        self.assertEqual(unpacked(item.texture_picture).shape, (40, 60, 4))
        with self.assertRaises(ShotFileError):
            checked(msgspec.structs.replace(self.shot, objects=(msgspec.structs.replace(item, texture_picture=bytes(9_000_000)),)), "a")


if __name__ == "__main__":
    unittest.main()
