"""Pictures: the shadow of a box against the polygon worked out by hand, the plate untouched, passes that fit together."""

import math
import unittest
from typing import NamedTuple
from unittest import mock

import cv2
import msgspec
import numpy as np

from lodestar.core.basics.colour import decode, encode
from lodestar.core.basics.errors import PlateError
from lodestar.core.basics.keyed import Keyed, constant
from lodestar.core.evaluate.cameras import camera_at, default_lens
from lodestar.core.evaluate.objects import mesh_of, model_of
from lodestar.core.light.lamps import SkyLight, SunLight
from lodestar.core.light.sun import direction
from lodestar.core.matte.sources import Outline
from lodestar.core.media.plates import probe
from lodestar.core.picture.composite import shade_of
from lodestar.core.picture.edges import without_background
from lodestar.core.picture.frame import QUALITIES, frame
from lodestar.core.picture.workshop import close_workshop
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens
from lodestar.core.render import denoise, rays
from lodestar.core.render.engine import LEAST_DETAIL, Engine, Quality
from lodestar.core.render.items import Item
from lodestar.core.shape.extrude import Mesh, extrude
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot, with_plate
from lodestar.core.shot.objects import Title
from tests.helpers import DEMO, FolderCase

_HERE = np.eye(4)
_FLAT = Mesh(
    np.array([[-50, -50, 0], [50, -50, 0], [50, 50, 0], [-50, 50, 0]], np.float32),
    np.tile(np.array([0, 0, 1], np.float32), (4, 1)),
    np.array([[0, 1, 2], [0, 2, 3]], np.int32),
)
_GROUND = Item(_FLAT, lambda share: _HERE, (0, 0, 0), 1.0, 0.0, drawn=False, receives=True, hides=True)


def box_mesh(w: float, d: float, h: float) -> Mesh:
    """A box that stands on z = 0, w by d by h round the z axis."""
    return extrude([np.array([[-w / 2, 0], [w / 2, 0], [w / 2, h], [-w / 2, h]])], d, 0.0)


def above(height: float = 20.0, size: int = 400, focal: float = 1000.0) -> Camera:
    """A camera that looks straight down from over the origin: x to the right, y up in the picture."""
    R = np.array([[1.0, 0, 0], [0, -1, 0], [0, 0, -1]])
    return Camera(R, -R @ np.array([0, 0, height]), Lens(focal, focal, (size - 1) / 2, (size - 1) / 2))


class Shaded(NamedTuple):
    colour: np.ndarray
    shade: np.ndarray


def shaded(items, lights, camera, samples, size=(400, 400)) -> Shaded:
    """Our things over a whole picture, with what is left of the light: the ratio of sums."""
    colour, shade = np.zeros((size[1], size[0], 4), np.float32), np.ones((size[1], size[0], 3), np.float32)
    layers = Engine().render(items, lights, lambda share: camera, size, Quality(0.0, samples))
    h, w = layers.colour.shape[:2]
    part = slice(layers.top, layers.top + h), slice(layers.left, layers.left + w)
    colour[part], shade[part] = layers.colour, shade_of(layers.light_with, layers.light_without, 1.0, np.zeros(3, np.float32))
    return Shaded(colour, shade)


class RendererTest(unittest.TestCase):
    def render(self, items, samples, softness=0.0, sky=0.0, sun=(0.6, 0.3)):
        camera, d = above(), np.array([*sun, 1.0])
        lights = [SunLight(d / np.linalg.norm(d), np.ones(3), softness), SkyLight(np.full(3, sky))]
        return shaded([*items, _GROUND], lights, camera, samples), camera

    def test_shadow_of_a_box_is_the_polygon_worked_out_by_hand(self):
        w, d, h = 1.0, 0.6, 1.5
        item = Item(box_mesh(w, d, h), lambda share: np.eye(4), (0.8, 0.8, 0.8), 0.5, 0.0)
        slope = np.array([0.63, 0.33])  # no edge along the middle of a row of px, where half is as much as not
        layers, camera = self.render([item], 16, sun=tuple(slope))
        # the shadow is the hull of the foot and of the top moved by h times the slope away from the sun
        foot = np.array([[x, y] for x in (-w / 2, w / 2) for y in (-d / 2, d / 2)])
        hull = cv2.convexHull(np.concatenate([foot, foot - h * slope]).astype(np.float32))[:, 0]
        pixels, _ = camera.project(np.c_[hull, np.zeros(len(hull))].astype(float))
        fine = np.zeros((3200, 3200), np.uint8)
        cv2.fillPoly(fine, [np.round(((pixels + 0.5) * 8 - 0.5) * 16).astype(np.int32)], 255, shift=4)
        wanted = cv2.resize(fine, (400, 400), interpolation=cv2.INTER_AREA) > 127
        dark = (layers.shade[..., 1] < 0.5) | (layers.colour[..., 3] > 0.5)
        # the box itself hides part of its shadow from above, and reaches beyond it where it is nearer to the camera
        solid = layers.colour[..., 3] > 0.5
        both = wanted & ~solid
        overlap = (dark & ~solid & both).sum() / ((dark & ~solid) | both).sum()
        self.assertGreater(overlap, 0.985)

    def test_the_edge_of_what_is_ours_covers_each_px_by_the_area_of_it(self):
        turned = np.eye(4)
        turned[:2, :2] = [[math.cos(0.1), -math.sin(0.1)], [math.sin(0.1), math.cos(0.1)]]
        item = Item(box_mesh(2.0, 1.2, 0.01), lambda share: turned, (0.8, 0.8, 0.8), 0.5, 0.0)
        camera = above()
        layers = Engine().render([item], [SkyLight(np.ones(3))], lambda share: camera, (400, 400), QUALITIES["final"])
        found = np.zeros((400, 400))
        h, w = layers.colour.shape[:2]
        found[layers.top : layers.top + h, layers.left : layers.left + w] = layers.colour[..., 3]
        corners = np.array([(-1.0, -0.6, 0.01), (1.0, -0.6, 0.01), (1.0, 0.6, 0.01), (-1.0, 0.6, 0.01)]) @ turned[:3, :3].T
        outline = (camera.project(corners)[0] + 0.5).astype(np.float32)
        inside = (found > 0.5).astype(np.uint8)
        ring = cv2.dilate(inside, np.ones((5, 5))) > cv2.erode(inside, np.ones((5, 5)))
        area = np.where(ring, 0.0, found)
        for y, x in np.argwhere(ring):
            px = np.array([(x, y), (x + 1, y), (x + 1, y + 1), (x, y + 1)], np.float32)
            area[y, x] = cv2.intersectConvexConvex(outline, px)[0]
        edge = (area > 0.02) & (area < 0.98)
        self.assertGreater(edge.sum(), 300)
        off = (found - area)[edge]
        self.assertLess(float(np.sqrt((off * off).mean())), 0.015)
        self.assertLess(float(np.abs(found - area).max()), 0.06)

    def test_what_is_under_the_hand_takes_no_more_px_in_a_large_window_and_looks_the_same(self):
        item = Item(box_mesh(1.0, 0.6, 1.5), lambda share: np.eye(4), (0.8, 0.8, 0.8), 0.5, 0.0)
        lights, drawn, shares, tiles = [SunLight(np.array([0.5, 0.3, 0.8]), np.ones(3), 0.5)], [], [], rays.tiles
        sketch, sides = QUALITIES["sketch"], (400, 800, 1600)
        with mock.patch.object(rays, "tiles", lambda *of: (drawn.append(of[10].taken.size), tiles(*of))):
            for side in sides:
                layers = Engine().render([item, _GROUND], lights, lambda share, k=side / 400: above().scaled(k), (side, side), sketch)
                shares.append(layers.colour[..., 3].sum() / side**2)
        of_side = dict(zip(sides, drawn[:: len(drawn) // 3], strict=True))
        self.assertLess(of_side[800], 1.6 * of_side[400])  # 4 times otherwise
        np.testing.assert_allclose(shares, shares[-1], rtol=0.1)
        self.assertEqual([sketch.detail_of((side, side)) for side in (400, 1600, 4000)], [0.5, LEAST_DETAIL, LEAST_DETAIL])

    def test_two_shadows_that_overlap_are_no_darker_than_one(self):
        def post(x: float) -> Item:
            m = np.eye(4)
            m[0, 3] = x
            return Item(box_mesh(0.3, 0.3, 2.0), lambda share: m, (0.5, 0.5, 0.5), 0.5, 0.0)

        one, two, both = (self.render(items, 24, sky=0.3)[0] for items in ([post(0.0)], [post(0.5)], [post(0.0), post(0.5)]))
        ground = both.colour[..., 3] < 0.01
        overlap = ground & (one.shade[..., 1] < 0.5) & (two.shade[..., 1] < 0.5)
        self.assertGreater(overlap.sum(), 300)
        darkest = np.minimum(one.shade, two.shade)[overlap]
        # the sun is taken once; the sky by a little more, since two posts hide more of it than one
        self.assertGreater(np.median(both.shade[overlap] / darkest), 0.85)
        # sky over sky and sun on level ground is all that a full shadow leaves
        self.assertLess(np.median(both.shade[overlap]), 0.3 / (0.3 + 1 / math.sqrt(0.6**2 + 0.3**2 + 1)) + 0.02)

    def test_a_wide_sun_makes_a_half_shadow_of_the_right_width(self):
        item = Item(box_mesh(3.0, 0.2, 1.0), lambda share: np.eye(4), (0.8, 0.8, 0.8), 0.5, 0.0)
        layers, _ = self.render([item], 64, softness=10.0, sun=(0.0, 1.0))
        column = layers.shade[:, 200, 1]
        soft = ((column > 0.1) & (column < 0.9)).sum() / 50  # 50 px a metre
        # edge at height 1, sun at 45 degrees, 10 degrees wide: its shadow's end spreads over cot(40) - cot(50)
        wide = 1 / math.tan(math.radians(40)) - 1 / math.tan(math.radians(50))
        # a disc passes from 10 to 90 % of its light over 0.69 of its width (integral of the circle's chord)
        self.assertAlmostEqual(soft, 0.69 * wide, delta=0.06)

    def at(self, x=0.0, y=0.0, z=0.0):
        m = np.eye(4)
        m[:3, 3] = x, y, z
        return lambda share: m

    def test_a_stand_in_hides_what_is_behind_it_and_is_not_seen_itself(self):
        low = Item(box_mesh(2.0, 2.0, 0.5), self.at(), (0.8, 0.8, 0.8), 0.5, 0.0)
        over = Item(box_mesh(1.0, 1.0, 0.2), self.at(0.5, 0.0, 1.0), (0.8, 0.8, 0.8), 0.5, 0.0, drawn=False, hides=True)
        for samples in (1, 8):
            layers, camera = self.render([low, over], samples)
            seen = lambda x, y, z, layers=layers, camera=camera: float(
                layers.colour[tuple(camera.project(np.array([x, y, z]))[0].round().astype(int)[::-1])][3]
            )
            self.assertLess(seen(0.5, 0.0, 1.2), 0.01, "behind the stand-in")
            self.assertGreater(seen(-0.7, 0.0, 0.5), 0.99, "beside it")

    def test_a_shadow_falls_on_what_receives_it_at_its_height(self):
        post = Item(box_mesh(0.4, 0.4, 2.0), self.at(), (0.8, 0.8, 0.8), 0.5, 0.0)
        top = 0.8
        table = Item(box_mesh(3.0, 3.0, top), self.at(-1.8), (0.8, 0.8, 0.8), 0.5, 0.0, drawn=False, receives=True)
        layers, camera = self.render([post, table], 8, sun=(1.0, 0.0))
        shade = lambda x, z: float(layers.shade[tuple(camera.project(np.array([x, 0.0, z]))[0].round().astype(int)[::-1])][1])
        # the sun stands 45 degrees high: on the table the shadow ends 2.0 - 0.8 behind the post, on the ground it would reach 2.0
        self.assertLess(shade(-1.0, top), 0.05)
        self.assertGreater(shade(-1.6, top), 0.95)

    def test_a_mirror_shows_what_stands_on_it_upside_down(self):
        # seen from the side: the picture of a post in still water begins at its foot and is as long as the post
        tilt = np.deg2rad(12.0)
        R = np.array([[1, 0, 0], [0, -np.sin(tilt), -np.cos(tilt)], [0, np.cos(tilt), -np.sin(tilt)]])
        centre = np.array([0.0, -10 * np.cos(tilt), 10 * np.sin(tilt)])
        camera = Camera(R, -R @ centre, Lens(1000.0, 1000.0, 199.5, 199.5))
        post = Item(box_mesh(0.3, 0.3, 1.2), self.at(), (1.0, 0.1, 0.1), 1.0, 0.0)
        water = Item(_FLAT, lambda share: _HERE, (0, 0, 0), 0.0, 0.0, drawn=False, receives=False, hides=True, reflects=0.5)
        lights = [SunLight(np.array([0.0, -0.7, 0.7]), np.ones(3), 0.0), SkyLight(np.full(3, 0.5))]
        layers = shaded([post, water], lights, camera, 8)
        front = np.array([0.0, -0.15, 0.0])
        pixel = lambda z: camera.project(front + [0, 0, z])[0].round().astype(int)
        up, down = (layers.colour[pixel(z)[1], pixel(z)[0]] for z in (0.6, -0.6))
        self.assertAlmostEqual(float(down[3]), 0.5, delta=0.02)
        np.testing.assert_allclose(down[:3], 0.5 * up[:3], rtol=0.25, atol=0.02)
        self.assertGreater(down[0], 2 * down[1], "the red post")
        beyond = pixel(-1.5)
        self.assertLess(float(layers.colour[beyond[1], beyond[0]][3]), 0.01)

    def test_only_the_near_side_of_a_closed_solid_is_drawn_and_nothing_changes_by_it(self):
        closed = box_mesh(1.0, 1.0, 1.0)
        self.assertTrue(closed.closed)
        turned = np.eye(4)
        turned[:3, :3] = cv2.Rodrigues(np.array([0.4, 0.3, 0.8]))[0]
        turned[2, 3] = 1.0
        pictures = [
            self.render([Item(mesh, lambda share: turned, (0.7, 0.6, 0.5), 0.4, 0.0)], 4)[0] for mesh in (closed, closed._replace(closed=False))
        ]
        np.testing.assert_allclose(pictures[0].colour, pictures[1].colour, atol=2e-3)
        self.assertLess(np.abs(pictures[0].shade - pictures[1].shade).mean(), 1e-3)

    def test_light_on_a_matt_white_face_is_what_the_lamp_says(self):
        item = Item(box_mesh(4, 4, 0.5), lambda share: np.eye(4), (1.0, 1.0, 1.0), 1.0, 0.0)
        layers = shaded([item, _GROUND], [SunLight(np.array([0, 0, 1.0]), np.full(3, 0.7), 0.0)], above(), 4)
        # Lambert with 4 % taken by the gloss, which gives part of it back
        self.assertAlmostEqual(float(layers.colour[200, 200, 1]), 0.7, delta=0.07)


class FilterTest(unittest.TestCase):
    def test_a_dot_that_rare_samples_made_is_taken_out_and_what_has_a_shape_stays(self):
        """One px far off its noise among those of its plane; not a line, a px of another plane, one at an edge, nor what is known exactly."""
        even, noise = 0.4, 0.03
        rng = np.random.default_rng(0)
        value = (even + noise * np.clip(rng.standard_normal((40, 60)), -2, 2)).astype(np.float32)
        guide = np.zeros((6, 40, 60), np.float32)
        guide[2] = 1
        squared = np.full((40, 60), noise**2, np.float32)
        dots, tilted, exact, corner = {(10, 10): 0.1, (20, 31): 0.9, (17, 5): 0.05}, (30, 20), (30, 40), (0, 59)
        for place, light in (*dots.items(), (tilted, 0.9), (exact, 0.9), (corner, 0.9)):
            value[place] = light
        value[5, 40:50] = 0.9  # a line of light
        guide[:3, *tilted], squared[exact] = (1, 0, 0), 0.0
        before = np.repeat(value[None], 4, 0)
        after = np.empty_like(before)
        denoise.without_dots(denoise.Sheet(before, np.ones((40, 60), np.float32), guide, squared), after, np.zeros(1, np.int64), 3)
        for place in dots:
            self.assertLess(abs(after[3][place] - even), 2.1 * noise)
        for place in (tilted, exact, corner, *((5, x) for x in range(40, 50))):
            self.assertEqual(after[3][place], np.float32(0.9))
        rest = np.ones((40, 60), bool)
        rest[tuple(zip(*dots, strict=True))] = False
        self.assertGreater((after[3] == before[3])[rest].mean(), 0.97, "noise is left to the filter")
        np.testing.assert_array_equal(after[0], after[3])


class FrameTest(FolderCase):
    @classmethod
    def setUpClass(cls):
        cls.shot = files.read(DEMO)
        cls.plate = frame(msgspec.structs.replace(cls.shot, objects=()), 40).pixels
        cls.final = frame(cls.shot, 40, "final", samples=8).pixels

    @classmethod
    def tearDownClass(cls):
        close_workshop()

    def test_the_plate_is_untouched_where_nothing_of_ours_is(self):
        changed = (self.final != self.plate).any(-1)
        self.assertTrue(0.02 < changed.mean() < 0.35)
        rows = np.flatnonzero(changed.any(1))
        self.assertGreater(rows.min(), 250)  # the sky and the domes are the plate's own numbers

    def test_passes_make_the_picture(self):
        layers = frame(self.shot, 40, "final", layer="layers", samples=8).pixels
        shadow = frame(self.shot, 40, "final", layer="shadow", samples=8).pixels
        # where something in front covers a px in part, the old background is taken out of the plate
        matte = frame(self.shot, 40, layer="matte").pixels
        cover = np.clip(layers[..., 3] / np.maximum(1 - matte, 1e-6), 0, 1).astype(np.float32)
        plate = without_background(self.plate, "rec709", cover, matte, 0, 0, 1.0)
        self.assertTrue((plate != self.plate).any())
        light = decode(plate / np.float32(255), "rec709") * shadow * (1 - layers[..., 3:]) + layers[..., :3]
        again = np.clip(encode(light, "rec709") * 255 + 0.5, 0, 255).astype(np.uint8)
        self.assertLessEqual(np.abs(again.astype(int) - self.final).max(), 1)

    def test_what_passes_in_front_hides_title_and_shadow(self):
        matte = frame(self.shot, 40, layer="matte").pixels
        inside = matte >= 1
        self.assertGreater(inside.sum(), 4000)
        np.testing.assert_array_equal(self.final[inside], self.plate[inside])

    def test_the_title_stands_where_its_geometry_says(self):
        title = self.shot.objects[0]
        shot = msgspec.structs.replace(
            self.shot, objects=(title,), mattes=(), exposure=msgspec.structs.replace(self.shot.exposure, shutter=constant(0.0))
        )
        alpha = frame(shot, 40, "final", layer="layers", samples=16).pixels[..., 3]
        mesh, m, camera = mesh_of(title, 40), model_of(shot, title, 40), camera_at(shot, 40)
        xy, _ = camera.project(mesh.vertices @ m[:3, :3].T + m[:3, 3])
        fine = np.zeros((720 * 4, 1280 * 4), np.uint8)
        for triangle in (xy[mesh.triangles] + 0.5) * 4 - 0.5:
            cv2.fillConvexPoly(fine, np.round(triangle * 16).astype(np.int32), 255, shift=4)
        wanted = cv2.resize(fine, (1280, 720), interpolation=cv2.INTER_AREA) > 127
        found = alpha > 0.5
        self.assertGreater((found & wanted).sum() / (found | wanted).sum(), 0.985)

    def test_objects_are_there_within_their_span_and_while_they_are_visible(self):
        title = self.shot.objects[0]
        plate = frame(self.shot, 10, "draft", layer="plate").pixels
        with_ = lambda **fields: frame(msgspec.structs.replace(self.shot, objects=(msgspec.structs.replace(title, **fields),)), 10, "draft").pixels
        for fields, seen in (
            ({"span": (5, 10)}, True),
            ({"span": (11, 20)}, False),
            ({"span": (0, 9)}, False),
            ({"visible": False}, False),
            ({"drawn": False}, False),
        ):
            self.assertEqual(bool((with_(**fields) != plate).any()), seen, fields)

    def test_a_smaller_picture_is_the_same_picture(self):
        small = frame(self.shot, 40, "final", scale=0.5, samples=8).pixels
        reference = cv2.resize(self.final, (640, 360), interpolation=cv2.INTER_AREA)
        self.assertLess(np.abs(small.astype(int) - reference).mean(), 1.2)

    def test_motion_blur_follows_the_keys(self):
        title = msgspec.structs.replace(
            self.shot.objects[0], position=Keyed((0.0, 0.0, 0.0)).with_key(39, (-2, 0, 0), "linear").with_key(41, (2, 0, 0), "linear")
        )
        still, moving = (
            msgspec.structs.replace(self.shot, objects=(title,), mattes=(), exposure=msgspec.structs.replace(self.shot.exposure, shutter=constant(s)))
            for s in (0.0, 0.5)
        )
        edge = lambda shot: (lambda a: ((a > 0.05) & (a < 0.95)).mean())(
            frame(shot, 40, "final", layer="layers", samples=24, scale=0.5).pixels[..., 3]
        )
        self.assertGreater(edge(moving), 3 * edge(still))

    def test_a_shot_without_a_solve_shows_objects_before_a_still_camera(self):
        shot = msgspec.structs.replace(with_plate(Shot(), self.shot.plate), objects=(Title(id="a", text="HI"),))
        self.assertTrue((frame(shot, 0, "draft").pixels != frame(msgspec.structs.replace(shot, objects=()), 0).pixels).any())
        self.assertEqual(camera_at(shot, 0).lens, default_lens(1280, 720))

    def test_a_shot_without_a_clip_says_so(self):
        with self.assertRaises(PlateError):
            frame(Shot(), 0)
        gone = msgspec.structs.replace(self.shot, plate=msgspec.structs.replace(self.shot.plate, path=str(self.folder / "gone.mp4")))
        with self.assertRaises(PlateError) as told:
            frame(gone, 0)
        self.assertIn("gone.mp4", told.exception.what)

    def test_deep_and_linear_plates_keep_their_kind(self):
        for name, picture in (("a.0000.png", np.full((90, 160, 3), 30000, np.uint16)), ("b.0000.tif", np.full((90, 160, 3), 30000, np.uint16))):
            cv2.imwrite(str(self.folder / name), picture)
            shot = with_plate(Shot(), probe(self.folder / name))
            shot = msgspec.structs.replace(
                shot, objects=(Title(id="a", text="HI"),), mattes=(Outline(id="m", name="m", shape=Keyed((0.0, 0, 9, 0, 9, 9))),)
            )
            pixels = frame(shot, 0, "draft").pixels
            self.assertEqual(pixels.dtype, np.uint16)
            self.assertEqual(pixels[2, -3, 0], 30000)
            self.assertTrue((pixels != 30000).any())

    def test_sun_from_above_lights_the_top(self):
        """The upper side of a box is lit by a sun overhead, and its sides by one that stands low."""
        R = np.array([[1.0, 0, 0], [0, -0.6, -0.8], [0, 0.8, -0.6]])
        camera = Camera(R, -R @ np.array([0.0, -4.0, 3.5]), Lens(300.0, 300.0, 159.5, 119.5))
        box = Item(box_mesh(1.0, 1.0, 1.0), lambda share: _HERE, (0.5, 0.5, 0.5), 0.9, 0.0)
        light = {}
        engine = Engine()
        for height in (90.0, 5.0):
            layers = engine.render([box], [SunLight(direction(180.0, height), np.ones(3), 0.5)], lambda share: camera, (320, 240), Quality(0.0, 4))
            for part, point in (("top", (0.0, 0.0, 1.0)), ("front", (0.0, -0.5, 0.5))):
                x, y = camera.project(np.array(point))[0].round().astype(int)
                light[height, part] = float(layers.colour[y - layers.top, x - layers.left, 1])
        self.assertGreater(light[90.0, "top"], 3 * light[90.0, "front"])
        self.assertGreater(light[5.0, "front"], 3 * light[5.0, "top"])


if __name__ == "__main__":
    unittest.main()
