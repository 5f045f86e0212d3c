"""Near lamps, glow, coat and surfaces by part against closed forms and published values; the passes of light."""

import math
import unittest

import cv2
import msgspec
import numpy as np

from lodestar.core.basics.keyed import Key, Keyed, constant
from lodestar.core.edits.surfaces import READY, with_ready
from lodestar.core.evaluate.lights import lights_at
from lodestar.core.evaluate.objects import items_of
from lodestar.core.light.lamps import Area, AreaLight, SkyLight, Spot, SpotLight, SunLight, ground_light, ground_reach, light_of
from lodestar.core.matte.sources import Outline
from lodestar.core.picture.frame import frame
from lodestar.core.render import near, textures
from lodestar.core.render.engine import Engine, Quality
from lodestar.core.render.incoming import Lights
from lodestar.core.render.items import Finish, Item, Texture
from lodestar.core.render.near import near_of
from lodestar.core.render.sampling import LAMP
from lodestar.core.render.seen import seen_of
from lodestar.core.render.sphere import sphere_of
from lodestar.core.shape.solids import box_mesh, card_mesh
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import TEXTURES, Card, Surface, Title
from tests.core.test_rays import GROUND, SKY, looking, looking_down, placed, whole
from tests.factory import make_shot
from tests.helpers import FolderCase, compiled

WEAK = SkyLight(np.full(3, 0.02))


def far_box():
    """Something of ours, without which nothing is drawn, out of the way."""
    return Item(box_mesh(), placed(60.0, 60.0, 0.0, 0.01, 0.01, 0.01), (0.5, 0.5, 0.5), 1.0, 0.0)


def lit(items, lights, camera, size=(64, 64), samples=256):
    """(h, w) light with our things, less that without them, over a whole picture."""
    layers = Engine().render([*items, far_box()], [*lights, WEAK], lambda share: camera, size, Quality(0.0, samples))
    found = np.zeros((size[1], size[0], 3), np.float32)
    if layers is not None:  # a lamp of no power reaches no part of the picture
        h, w = layers.light_with.shape[:2]
        found[layers.top : layers.top + h, layers.left : layers.left + w] = layers.light_with - layers.light_without
    return found[..., 1]


class ClosedFormsTest(unittest.TestCase):
    def test_under_a_round_lamp(self):
        """A disc of radius r and light L straight over a place at height h gives L r^2 / (r^2 + h^2). J. R. Howell, A Catalog of Radiation
        Configuration Factors, C-41 with a differential element (from memory: the view factor of a coaxial disc)."""
        for r, h in ((0.5, 1.0), (1.0, 1.0), (0.3, 2.0)):
            lamp = AreaLight(np.array([0.0, 0.0, h]), np.array([0.0, r, 0.0]), np.array([r, 0.0, 0.0]), np.full(3, 2.0), True)
            found = lit([GROUND], [lamp], looking_down(h * 0.9, wide=0.1))
            self.assertAlmostEqual(float(found[24:40, 24:40].mean()), 2.0 * r * r / (r * r + h * h), delta=0.01 * 2.0)

    def test_it_shines_to_one_side(self):
        lamp = AreaLight(np.array([0.0, 0.0, 1.0]), np.array([0.0, -0.5, 0.0]), np.array([0.5, 0.0, 0.0]), np.full(3, 2.0), False)
        self.assertLess(abs(float(lit([GROUND], [lamp], looking_down(0.9, wide=0.5)).max())), 1e-3)

    def test_a_spot_falls_with_the_square_of_its_distance_and_ends_at_its_cone(self):
        cone = 30.0
        spot = SpotLight(
            np.array([0.0, 0.0, 2.0]),
            np.array([0.0, 0.0, -1.0]),
            math.cos(math.radians(cone)),
            math.cos(math.radians(cone)) + 1e-6,
            0.0,
            np.full(3, 4.0),
        )
        found = lit([GROUND], [spot], looking_down(5.0, wide=4.0))
        x = (np.arange(64) - 31.5) * 4 / 64
        cosine = 2 / np.hypot(x, 2)
        known = np.where(np.abs(x) < 2 * math.tan(math.radians(cone)), 4.0 * cosine**3 / 4.0, 0.0)
        row = found[31:33].mean(0)
        inside = np.abs(np.abs(x) - 2 * math.tan(math.radians(cone))) > 0.1
        np.testing.assert_allclose(row[inside], known[inside], atol=0.02)

    def test_a_thing_of_ours_hides_a_lamp(self):
        spot = SpotLight(np.array([0.0, 0.0, 4.0]), np.array([0.0, 0.0, -1.0]), -2.0, -2.0, 0.0, np.full(3, 8.0))
        lid = Item(box_mesh(), placed(0.0, 0.0, 2.0, 1.0, 1.0, 0.01), (0.5, 0.5, 0.5), 1.0, 0.0)
        found = lit([GROUND, lid], [spot], looking((0.0, -6.0, 3.0), (0.0, 0.0, 0.0), 60.0, (64, 64)))
        camera = looking((0.0, -6.0, 3.0), (0.0, 0.0, 0.0), 60.0, (64, 64))
        at = lambda p: tuple(camera.project(np.array(p))[0].round().astype(int)[::-1])
        self.assertAlmostEqual(float(found[at((0.0, 0.0, 0.0))]), 0.0, delta=0.01)
        # its shadow is twice as wide as it is
        self.assertGreater(float(found[at((1.4, 0.0, 0.0))]), 0.3)

    def test_a_mirror_shows_the_light_of_lamps(self):
        """A spot lights the back of a box, which the camera sees in polished metal alone; one at the mirrored place sees it as bright."""
        spot = SpotLight(np.array([0.0, 5.0, 6.0]), np.array([0.0, -0.7, -0.7]), -2.0, -2.0, 0.0, np.full(3, 40.0))
        block = Item(box_mesh(), placed(0.0, 0.0, 0.0), (0.6, 0.6, 0.6), 1.0, 0.0)
        metal = Item(box_mesh(), placed(0.0, 2.1, 0.0, 4.0, 0.2, 2.0), (1.0, 1.0, 1.0), 0.03, 1.0)
        dark = [spot, SkyLight(np.full(3, 1e-6))]
        seen = []
        for y, at_y, items in ((-3.0, 2.0, [block, metal]), (7.0, 0.5, [block])):  # the mirror's face is at y = 2
            camera = looking((0.0, y, 1.6), (0.0, at_y, 1.1), 60.0, (96, 96))
            at = camera.project(np.array([0.0, 3.5 if y < 0 else 0.5, 0.8]))[0].round().astype(int)
            colour, _ = whole(items, dark, camera, (96, 96), 256)
            seen.append(float(colour[at[1] - 1 : at[1] + 2, at[0] - 1 : at[0] + 2, 1].mean()))
        self.assertGreater(seen[1], 0.1)
        self.assertAlmostEqual(seen[0] / seen[1], 1.0, delta=0.05)

    def test_a_glowing_plate_is_as_a_lamp(self):
        r = 0.5
        plate = Item(
            card_mesh(),
            lambda share: np.array([[2 * r, 0, 0, 0], [0, 0, -2 * r, r], [0, 1, 0, 1.0], [0, 0, 0, 1.0]]),
            (1.0, 1.0, 1.0),
            1.0,
            0.0,
            glow=2.0,
        )
        lamp = AreaLight(np.array([0.0, 0.0, 1.0]), np.array([0.0, r, 0.0]), np.array([r, 0.0, 0.0]), np.full(3, 2.0), False)
        camera = looking_down(0.9, wide=1.0)
        glowing, shining = (lit([GROUND, *more], lights, camera) for more, lights in (([plate], []), ([], [lamp])))
        # the plate hides as much of the weak sky as it takes
        np.testing.assert_allclose(glowing, shining, atol=0.05)
        self.assertAlmostEqual(float(glowing.mean() / shining.mean()), 1.0, delta=0.02)

    def test_many_lamps_give_what_they_give_one_by_one(self):
        """Spots that shine all round, and of a small cone each with a colour of its own, of which most reach nothing of a place."""
        rng = np.random.default_rng(2)
        down, cone = np.array([0.0, 0.0, -1.0]), math.cos(math.radians(25.0))
        for count, edge in ((10, -2.0), (60, cone)):
            places = np.c_[rng.uniform(-2, 2, (count, 2)), rng.uniform(1, 3, count)]
            lamps = [SpotLight(p, down, edge, edge + 0.02 * (edge > 0), 0.0, rng.uniform(0.2, 2.0, 3)) for p in places]
            camera = looking_down(5.0, wide=4.0)
            together = lit([GROUND], lamps, camera)
            apart = sum(lit([GROUND], [lamp], camera, samples=4) for lamp in lamps)
            self.assertAlmostEqual(float(together.mean() / apart.mean()), 1.0, delta=0.01)
            self.assertLess(float(np.abs(together - apart).mean()), 0.03 * float(apart.mean()))


class ManyLampsTest(unittest.TestCase):
    """Which of many lamps a place asks."""

    def setUp(self):
        rng = np.random.default_rng(4)
        self.rng, lamps = rng, []
        for k in range(150):
            place, to = rng.uniform(-2, 2, 3), rng.normal(size=3)
            to /= np.linalg.norm(to)
            u = np.cross(to, (0.3, 0.5, 0.8))
            u *= 0.3 / np.linalg.norm(u)
            edge = math.cos(rng.uniform(0.2, 2.0))
            spot = SpotLight(place, to, edge, edge + 0.05, 0.1 * (k % 3), rng.uniform(0.2, 2.0, 3))
            lamps.append(spot if k % 2 else AreaLight(place, u, np.cross(to, u), rng.uniform(0.2, 2.0, 3), k % 4 == 0))
        self.near = near_of(lamps, [], np.zeros(3), 1.0)
        nothing = np.zeros(3)
        self.lights = Lights(
            np.zeros((0, 7)), nothing, nothing, *self.near, nothing, 0.0, sphere_of(None), seen_of(None, None, (1, 1), nothing, 1.0, 1)
        )
        self.choose, self.ask = compiled(near._chosen), compiled(near.from_near)

    def places(self):
        for _ in range(6):
            n = self.rng.normal(size=3)
            yield tuple(self.rng.uniform(-2, 2, 3)), tuple(n / np.linalg.norm(n))

    def test_each_is_asked_as_often_as_it_says(self):
        for p, n in self.places():
            asked = [self.choose(self.lights, p, n, u) for u in (np.arange(20_000) + 0.5) / 20_000]
            told = dict(one for one in asked if one[1] > 0)  # of a part of the tree that seemed to give some, none may
            for lamp, chance in told.items():
                self.assertAlmostEqual(sum(one == lamp and its > 0 for one, its in asked) / len(asked), chance, delta=1e-3)
            none = sum(its == 0 for _, its in asked) / len(asked)
            self.assertAlmostEqual(sum(told.values()) + none, 1.0, delta=1e-3)
            self.assertLess(none, 0.5)

    def test_numbers_at_both_ends_choose_too(self):
        for p, n in self.places():
            for u in (0.0, 0.5, np.nextafter(1.0, 0.0), 1.0):
                lamp, chance = self.choose(self.lights, p, n, u)
                self.assertTrue(0 <= lamp < len(self.near.table) and 0 <= chance <= 1, (u, lamp, chance))

    def test_none_that_gives_light_is_left_out(self):
        """Of each lamp alone: where some of its points light the place, it is asked."""
        for p, n in self.places():
            asked = {self.choose(self.lights, p, n, u)[0] for u in (np.arange(20_000) + 0.5) / 20_000}
            gives = np.zeros(len(self.near.table))
            for k in range(len(gives)):
                alone = self.lights._replace(near=self.near.table[k : k + 1])
                for a, b in self.rng.random((40, 2)):
                    sample = np.zeros(64)
                    sample[LAMP + 1 : LAMP + 3] = a, b
                    gives[k] += sum(self.ask(alone, 0, p, n, sample)[0]) / 40
            self.assertLessEqual({k for k in range(len(gives)) if gives[k] > 0.01 * gives.sum()}, asked)


class SurfaceTest(unittest.TestCase):
    def seen(self, item, lights=(SKY,), samples=64):
        """Mean colour (3,) of the front of a box that fills the picture."""
        camera = looking((0.0, -4.0, 0.5), (0.0, 0.0, 0.5), 400.0, (32, 32))
        layers = Engine().render([item], list(lights), lambda share: camera, (32, 32), Quality(0.0, samples))
        return layers.colour[8:24, 8:24, :3].mean((0, 1))

    def block(self, **how):
        return Item(box_mesh(), placed(0.0, 0.0, 0.0, 4.0, 1.0, 4.0), (0.5, 0.4, 0.3), 0.6, 0.0, **how)

    def test_glow_is_seen_as_it_is_sent(self):
        dark, glowing = self.seen(self.block()), self.seen(self.block(glow=3.0))
        np.testing.assert_allclose(glowing - dark, 3.0 * np.array([0.5, 0.4, 0.3]), atol=1e-3)

    def test_a_coat_sends_back_f0_of_what_it_mirrors_and_takes_that_from_beneath(self):
        """Of an index of 1.5 four percent come back straight on: ((n - 1) / (n + 1))^2, Fresnel."""
        bare, coated = self.seen(self.block()), self.seen(self.block(coat=1.0))
        mirrored = (coated - bare * 0.96**2) / 0.04
        # what it mirrors straight on lies level before it: between the ground's light and the sky's
        self.assertTrue(np.all((mirrored > 0.2) & (mirrored < 1.4)), mirrored)
        black = Item(box_mesh(), placed(0.0, 0.0, 0.0, 4.0, 1.0, 4.0), (0.0, 0.0, 0.0), 1.0, 0.0)
        self.assertLess(float(self.seen(black._replace(coat=1.0)).max()), 0.1)

    def test_metals_mirror_in_their_own_colour(self):
        """F0 of gold 1.00, 0.77, 0.34 and of copper 0.95, 0.64, 0.54, as N. Hoffman's table of linear values gives it (from memory): a polished metal under an even surrounding sends
        back about that, for its F0 is its colour."""
        camera = looking((0.0, -0.05, 4.0), (0.0, 0.0, 0.0), 400.0, (32, 32))
        for f0 in ((1.0, 0.77, 0.34), (0.95, 0.64, 0.54), (0.97, 0.96, 0.91), (0.91, 0.92, 0.92)):
            up = Item(box_mesh(), placed(0.0, 0.0, -1.0, 8.0, 8.0, 1.0), f0, 0.03, 1.0)
            layers = Engine().render([up], [SKY], lambda share: camera, (32, 32), Quality(0.0, 16))
            seen = layers.colour[8:24, 8:24, :3].mean((0, 1))
            np.testing.assert_allclose(seen / seen.max(), np.array(f0) / max(f0), atol=0.02)

    def test_parts_have_surfaces_of_their_own(self):
        red, green = (0.8, 0.0, 0.0), (0.0, 0.6, 0.0)
        title = Title(
            id="t",
            text="H",
            bevel=constant(0.05),
            colour=(0.5, 0.5, 0.5),
            surfaces=(Surface(id="a", part="edges", colour=red), Surface(id="b", part="sides", colour=green, metal=constant(1.0))),
        )
        (item,) = items_of(Shot(objects=(title,)), title, 0)
        face, edges, sides, back = item.finishes
        self.assertEqual(back, face)
        self.assertGreater(edges.base[0], 10 * edges.base[1] + 0.1)
        self.assertEqual(sides.metal, 1.0)
        camera = looking((3.0, -3.0, 1.5), (0.0, 0.0, 0.5), 300.0, (320, 200))
        seen = Engine().render([item], [SKY], lambda share: camera, (320, 200), Quality(0.0, 16)).colour
        full = seen[seen[..., 3] > 0.99][:, :3]
        for channel in (0, 1):
            self.assertGreater((full[:, channel] > 2 * full[:, 1 - channel]).sum(), 50, "edges red, sides green")
        self.assertGreater((np.ptp(full, axis=1) < 0.05).sum(), 50, "the face is grey")

    def test_see_through_things_cover_and_shade_by_their_share(self):
        def picture(opacity):
            lid = Item(box_mesh(), placed(0.0, 0.0, 1.0, 1.0, 1.0, 0.2), (0.5, 0.5, 0.5), 1.0, 0.0, opacity=opacity)
            sun = [SunLight(np.array([0.3, 0, 0.954]), np.ones(3), 0.0)]
            camera = looking((0.0, -4.0, 3.0), (0.0, 0.0, 0.5), 60.0, (64, 64))
            layers = Engine().render([lid, GROUND], sun, lambda share: camera, (64, 64), Quality(0.0, 16))
            return layers, camera

        for opacity in (0.25, 0.7):
            layers, camera = picture(opacity)
            self.assertAlmostEqual(float(layers.colour[..., 3].max()), 1 - (1 - opacity) ** 1, delta=0.02)
            shade = np.where(layers.light_without > 0, layers.light_with / np.maximum(layers.light_without, 1e-9), 1.0)[..., 1]
            self.assertAlmostEqual(float(shade[layers.colour[..., 3] == 0].min()), 1 - opacity, delta=0.02)


class PatternTest(unittest.TestCase):
    def test_noise_is_even_and_smooth_and_nothing_on_the_lattice(self):
        """Gradient noise is 0 at each whole place, and its mean is 0 (K. Perlin 2002)."""
        noise = compiled(textures.noise)
        self.assertEqual(max(abs(noise(float(x), float(y), 3.0)) for x in range(-4, 4) for y in range(-4, 4)), 0.0)
        rng = np.random.default_rng(0)
        places = rng.uniform(-50, 50, (4000, 3))
        found = np.array([noise(*p) for p in places])
        self.assertLess(abs(found.mean()), 0.02)
        self.assertTrue(0.15 < found.std() < 0.4, found.std())
        near = np.array([noise(*(p + [1e-4, 0, 0])) for p in places])
        self.assertLess(np.abs(near - found).max(), 1e-3)

    def test_every_pattern_keeps_within_its_bounds(self):
        pattern = compiled(textures.pattern)
        rng = np.random.default_rng(1)
        for kind in range(1, len(textures.NAMES)):
            found = np.array([pattern(kind, *p) for p in rng.uniform(-9, 9, (1500, 3))])
            self.assertTrue((found >= 0).all() and (found <= 1).all(), textures.NAMES[kind])
            self.assertGreater(found[:, 0].std(), 0.05, textures.NAMES[kind])

    def test_the_document_and_the_kernels_name_the_same_patterns(self):
        self.assertEqual(textures.NAMES, TEXTURES)

    def colours(self, texture, amount=1.0, relief=0.0, place=(0.0, 0.0, 0.0)):
        # of a block 40 units deep, so that only its front is seen
        item = Item(
            box_mesh(), placed(*place, 4.0, 40.0, 4.0), (0.6, 0.1, 0.1), 1.0, 0.0, texture=Texture(texture, 0.5, (0.1, 0.1, 0.6), amount, relief)
        )
        item = item._replace(scaled=np.diag([4.0, 40.0, 4.0, 1.0]))
        camera = looking((place[0], place[1] - 24.0, 2.0), (place[0], place[1], 2.0), 250.0, (64, 64))
        return Engine().render([item], [SKY], lambda share: camera, (64, 64), Quality(0.0, 16)).colour[4:60, 4:60, :3]

    def test_two_colours_are_seen_and_none_without_it(self):
        plain, half, full = (self.colours(textures.STONE, amount) for amount in (0.0, 0.5, 1.0))
        self.assertLess(float(plain.std((0, 1)).max()), 0.01)
        self.assertGreater(float(full[..., 2].mean()), float(half[..., 2].mean()) + 0.05)
        self.assertGreater(float(full.std((0, 1)).max()), 0.03)

    def test_a_pattern_goes_with_its_thing(self):
        here, there = self.colours(textures.BRICK), self.colours(textures.BRICK, place=(3.0, 5.0, 0.0))
        self.assertLess(float(np.abs(here - there).mean()), 0.02)

    def test_relief_turns_the_light_but_keeps_its_mean(self):
        flat, raised = self.colours(textures.STONE, 0.0), self.colours(textures.STONE, 0.0, 0.1)
        self.assertGreater(float(raised[..., 0].std()), 3 * float(flat[..., 0].std()))
        self.assertAlmostEqual(float(raised.mean() / flat.mean()), 1.0, delta=0.1)


class ReadyTest(unittest.TestCase):
    def test_each_ready_surface_is_seen_and_differs_and_keeps_what_has_keys(self):
        title = Title(id="t", text="A", roughness=Keyed((0.2,), (Key(0.0, (0.2,)),)))
        shot, seen = Shot(objects=(title,)), {}
        camera = looking((0.8, -2.4, 0.8), (0.0, 0.0, 0.5), 90.0, (64, 64))
        for name in READY:
            made = with_ready(shot, "t", name, 0)
            self.assertEqual(made.objects[0].roughness, title.roughness)
            plain = with_ready(Shot(objects=(Title(id="t", text="A"),)), "t", name, 0)
            items = items_of(plain, plain.objects[0], 0)
            seen[name], _ = whole(items, [SkyLight(np.full(3, 0.6))], camera, (64, 64), 8)
        names = list(seen)
        self.assertGreaterEqual(len(names), 16)
        for k, a in enumerate(names):
            for b in names[:k]:
                same = np.minimum(seen[a][..., 3], seen[b][..., 3]) > 0.9
                self.assertGreater(float(np.abs(seen[a] - seen[b])[same].max()), 0.03, (a, b))
        edges = with_ready(shot, "t", "Gilded edge", 0).objects[0].surfaces
        self.assertEqual([s.part for s in edges], ["edges"])


class FollowingTest(FolderCase):
    def test_a_lamp_changes_with_what_it_follows(self):
        path = self.folder / "wall.png"
        cv2.imwrite(str(path), np.full((20, 30, 3), (64, 128, 255), np.uint8))
        glow = Keyed((0.0,), (Key(0.0, (0.0,), "linear"), Key(10.0, (2.0,), "linear")))
        title, card = Title(id="t", text="A", glow=glow), Card(id="c", pattern="picture", picture=str(path))
        lamp = Spot(id="s", strength=constant(4.0), colour=(1.0, 1.0, 1.0))
        at = lambda id_, frame: lights_at(Shot(objects=(title, card), lamps=(msgspec.structs.replace(lamp, follows=id_),)), frame)[0].colour
        np.testing.assert_allclose(at("t", 5), 2.0)
        np.testing.assert_allclose(at("t", 10), 4.0)
        # IEC 61966-2-1: codes 255, 128, 64 are 1, 0.2159, 0.0513 of linear light
        np.testing.assert_allclose(at("c", 0), 4 * np.array([1.0, 0.2159, 0.0513]), atol=2e-3)
        for id_ in ("", "gone"):
            np.testing.assert_allclose(at(id_, 0), 4.0)


class DocumentTest(unittest.TestCase):
    def test_lamps_of_a_shot_are_keyed_and_aimed(self):
        spot = Spot(id="s", turn=constant(90.0, 0.0), strength=Keyed((1.0,), (Key(0.0, (1.0,), "linear"), Key(10.0, (3.0,)))))
        light = light_of(spot, 5)
        np.testing.assert_allclose(light.direction, [-1, 0, 0], atol=1e-9)
        self.assertAlmostEqual(float(light.colour[0]), 2.0)
        down = light_of(Area(id="a"), 0)
        way = np.cross(down.u, down.v)
        np.testing.assert_allclose(way / np.linalg.norm(way), [0, 0, -1], atol=1e-9)

    def test_no_light_and_nonsense(self):
        for lamp in (
            Spot(id="s", cone=constant(0.0)),
            Spot(id="s", radius=constant(-1.0)),
            Area(id="a", size=constant(0.0, 0.0)),
            Spot(id="s", strength=constant(0.0)),
        ):
            found = lit([GROUND], [light_of(lamp, 0)], looking_down(5.0), samples=4)
            self.assertTrue(np.isfinite(found).all(), lamp)
        inside = Spot(id="s", position=constant(0.0, 0.0, 0.5))
        box = Item(box_mesh(), placed(), (0.5, 0.5, 0.5), 1.0, 0.0)
        self.assertTrue(np.isfinite(lit([GROUND, box], [light_of(inside, 0)], looking_down(5.0), samples=4)).all())
        many = [light_of(Spot(id=str(k), position=constant(k % 30 - 15.0, k // 30 - 15.0, 2.0)), 0) for k in range(1000)]
        self.assertTrue(np.isfinite(lit([GROUND], many, looking_down(5.0), size=(16, 16), samples=2)).all())

    def test_finishes_of_a_plain_item(self):
        item = Item(box_mesh(), placed(), (0.1, 0.2, 0.3), 0.4, 0.5, coat=0.6, glow=0.7)
        self.assertEqual(item.finishes, (Finish((0.1, 0.2, 0.3), 0.4, 0.5, 0.6, 0.7),) * 4)


class ReachTest(unittest.TestCase):
    def test_the_line_of_its_reach_is_where_its_light_falls_to_it(self):
        """Straight under a lamp that shines all round, white ground at a distance r from its foot gets I h / (h^2 + r^2)^(3/2): the inverse square and
        Lambert's cosine (handbooks)."""
        lamp = Spot(id="l", position=constant(1.0, 2.0, 1.5), cone=constant(360.0), strength=constant(4.0), colour=(1.0, 1.0, 1.0))
        line = ground_reach(light_of(lamp, 0), 0.1)
        r = np.linalg.norm(line - [1.0, 2.0, 0.0], axis=1)
        true = ((4.0 * 1.5 / 0.1) ** (2 / 3) - 1.5**2) ** 0.5
        np.testing.assert_allclose(r, true, rtol=0.09)  # steps outward grow by 8 %
        self.assertTrue(np.all(r <= true * 1.001), "it is lit as far as the line")
        np.testing.assert_allclose(ground_light(light_of(lamp, 0), np.array([[1.0, 2.0 + true, 0.0]])), 0.1)

    def test_it_ends_at_the_cone_is_none_where_too_little_arrives_and_agrees_with_the_picture(self):
        spot = Spot(
            id="s", position=constant(0.0, 0.0, 2.0), turn=constant(0.0, -90.0), cone=constant(60.0), soft=constant(0.01), colour=(1.0, 1.0, 1.0)
        )
        r = np.linalg.norm(ground_reach(light_of(spot, 0)), axis=1)
        np.testing.assert_allclose(r, 2 * math.tan(math.radians(30)), rtol=0.09)
        self.assertEqual(len(ground_reach(light_of(msgspec.structs.replace(spot, turn=constant(0.0, 90.0)), 0))), 0)
        self.assertEqual(len(ground_reach(light_of(msgspec.structs.replace(spot, strength=constant(0.01)), 0))), 0)
        self.assertEqual(len(ground_reach(light_of(msgspec.structs.replace(spot, position=constant(0.0, 0.0, -1.0)), 0))), 0)
        area = Area(id="a", position=constant(0.0, 0.0, 2.0), size=constant(0.4, 0.4), strength=constant(9.0), colour=(1.0, 1.0, 1.0))
        seen = lit([GROUND], [light_of(area, 0)], looking_down(6.0, wide=2.0), samples=64)
        given = ground_light(light_of(area, 0), np.array([[0.0, 0.0, 0.0]]))
        self.assertAlmostEqual(float(seen[30:34, 30:34].mean()), float(given[0]), delta=0.03 * float(given[0]))


class PassesTest(FolderCase):
    def test_light_with_and_without_make_the_shade_and_depth_is_along_the_view(self):
        shot = make_shot(2, frames=6, clip=self.folder / "a.mp4")
        title = msgspec.structs.replace(shot.objects[0], text="III", height=constant(0.8))
        shot = msgspec.structs.replace(shot, objects=(title,))
        get = lambda layer, **how: frame(shot, 3, "final", layer=layer, scale=0.4, **how).pixels
        with_, without, shade = get("with"), get("without"), get("shadow")
        there = without[..., 1] > 0
        self.assertGreater(there.sum(), 2000)
        np.testing.assert_allclose((with_ / np.maximum(without, 1e-9))[there], shade[there], atol=1e-3)
        self.assertLess(float(shade[there].min()), 0.6)
        # of as many samples each: a pass is drawn by itself, and takes as many as its own error asks for
        deep, alpha = get("depth", samples=16), get("layers", samples=16)[..., 3]
        np.testing.assert_array_equal(np.isfinite(deep), alpha > 0)
        from lodestar.core.evaluate.cameras import camera_at

        known = float(camera_at(shot, 3).project(np.array(title.position.value))[1])
        self.assertAlmostEqual(float(np.median(deep[alpha > 0.99])), known, delta=0.5)
        np.testing.assert_array_equal(get("layers"), get("layers"))
        other = get("layers", seed=5)
        self.assertGreater(float(np.abs(other - get("layers")).max()), 1e-4)
        self.assertLess(float(np.abs(other - get("layers")).mean()), 2e-3)

    def test_the_reflection_is_what_mirrors_show(self):
        from lodestar.core.shot.objects import Box

        shot = make_shot(2, frames=6, clip=self.folder / "a.mp4")
        title = msgspec.structs.replace(shot.objects[0], position=constant(0.0, 4.0, 0.1))
        pond = Box(
            id="pond",
            position=constant(0.0, 3.0, -0.1),
            extent=constant(8.0, 4.0, 0.1),
            drawn=False,
            hides=True,
            reflects=constant(0.5),
            roughness=constant(0.0),
        )
        shot = msgspec.structs.replace(shot, objects=(title, pond))
        get = lambda layer: frame(shot, 3, "final", layer=layer, scale=0.4).pixels
        mirrored, whole = get("reflection"), get("layers")
        self.assertGreater((mirrored[..., 3] > 0.2).sum(), 50)
        self.assertTrue(np.all(mirrored[..., 3] <= whole[..., 3] + 1e-5))
        ys = np.nonzero(mirrored[..., 3] > 0.2)[0]
        directly = np.nonzero((whole[..., 3] - mirrored[..., 3]) > 0.9)[0]
        self.assertGreater(ys.mean(), directly.mean(), "it lies under the letters")
        # flush with the level ground it takes shadows as that does; neither wins by chance
        flush = lambda receives: msgspec.structs.replace(pond, hides=False, receives=receives)
        shot = msgspec.structs.replace(shot, objects=(title, flush(True)))
        taken = get("shadow")
        shot = msgspec.structs.replace(shot, objects=(title, flush(False)))
        np.testing.assert_array_equal(get("shadow"), taken)
        self.assertLess(float(taken.min()), 0.8)
        # a mirror of its own tint shows that share of each colour; one that a matte limits shows nothing beside it, and all inside
        half = Outline(
            id="left",
            name="left",
            on=False,
            feather=constant(0.0),
            sharp=(0, 1, 2, 3),
            shape=constant(0, 0, shot.plate.width / 2, 0, shot.plate.width / 2, 2000, 0, 2000),
        )
        limited = msgspec.structs.replace(pond, mirror_inside=("left", "gone"), mirror_tint=(1.0, 0.735357, 1.0))  # 0.5 linear (IEC 61966-2-1)
        shot = msgspec.structs.replace(shot, objects=(title, limited), mattes=(half,))
        part = get("reflection")
        middle = mirrored.shape[1] // 2
        there = mirrored[:, : middle - 1, 3] > 0.2
        self.assertGreater(there.sum(), 20)
        ratio = part[:, : middle - 1][there] / mirrored[:, : middle - 1][there]
        np.testing.assert_allclose(ratio.mean(0), (1.0, 0.5, 1.0, 1.0), atol=0.03)
        self.assertGreater((mirrored[:, middle + 1 :, 3] > 0.2).sum(), 20)
        self.assertLess(float(part[:, middle + 1 :, 3].max()), 0.05)
        again = get("layers")
        np.testing.assert_allclose(again[:, middle + 1 :, 3], (whole - mirrored)[:, middle + 1 :, 3], atol=0.06)


if __name__ == "__main__":
    unittest.main()
