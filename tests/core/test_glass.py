"""Glass and gradients: what is seen through a slab, how a ray is bent, what light a slab lets pass."""

import unittest

import msgspec
import numpy as np

from lodestar.core.basics.keyed import constant
from lodestar.core.edits.surfaces import with_pattern, with_ready
from lodestar.core.evaluate.objects import items_of
from lodestar.core.light.lamps import SkyLight, SpotLight, SunLight
from lodestar.core.picture.frame import frame
from lodestar.core.render import facets, textures
from lodestar.core.render.engine import Engine, Quality
from lodestar.core.render.items import Item, Texture
from lodestar.core.shape.solids import box_mesh
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Surface, Title
from tests.core.test_rays import GROUND, looking, placed
from tests.helpers import DEMO, compiled

NONE = [SkyLight(np.full(3, 1e-6))]
SIZE = (96, 96)


def slab(clear=1.0, base=(1.0, 1.0, 1.0), rough=0.03, turn=0.0, deep=0.2):
    """A box of 4 x `deep` x 4 round the origin, turned about the upright axis by degrees."""
    a = np.deg2rad(turn)
    m = np.eye(4)
    m[:3, :3] = np.array([[np.cos(a), -np.sin(a), 0], [np.sin(a), np.cos(a), 0], [0, 0, 1]]) @ np.diag([4.0, deep, 4.0])
    m[2, 3] = -2.0
    return Item(box_mesh(), lambda share: m, base, rough, 0.0, clear=clear)


def through(item, plate, samples=4):
    """What a camera 6 away, looking along y, sees of an item before a plate."""
    camera = looking((0.0, -6.0, 0.0), (0.0, 0.0, 0.0), 400.0, SIZE)
    layers = Engine().render([item], NONE, lambda share: camera, SIZE, Quality(0.0, samples), plate=lambda: plate)
    found = np.zeros((SIZE[1], SIZE[0], 4), np.float32)
    h, w = layers.colour.shape[:2]
    found[layers.top : layers.top + h, layers.left : layers.left + w] = layers.colour
    return found


class GlassTest(unittest.TestCase):
    def test_rays_are_bent_as_snell_says(self):
        refracted = compiled(facets.refracted)
        for degrees in (0.0, 20.0, 45.0, 80.0):
            a = np.deg2rad(degrees)
            d = refracted((np.sin(a), 0.0, -np.cos(a)), (0.0, 0.0, 1.0), 1 / 1.5)
            self.assertAlmostEqual(float(np.hypot(*d[:2])), np.sin(a) / 1.5, places=9)
        # beyond the critical angle of arcsin(1 / 1.5) = 41.8 degrees all is mirrored
        a = np.deg2rad(42.0)
        self.assertEqual(refracted((np.sin(a), 0.0, -np.cos(a)), (0.0, 0.0, 1.0), 1.5), (np.sin(a), 0.0, -np.cos(a)))

    def test_a_clear_slab_lets_pass_what_its_two_faces_do_not_mirror(self):
        """Normal incidence: 4 % at each face of an index of 1.5 (Fresnel)."""
        plate = np.full((96, 96, 3), (0.5, 0.4, 0.2), np.float32)
        seen = through(slab(base=(1.0, 0.5, 1.0)), plate)[40:56, 40:56]
        np.testing.assert_allclose(seen[..., :3].mean((0, 1)), 0.96**2 * np.array([0.5, 0.2, 0.2]), rtol=0.02)
        np.testing.assert_allclose(seen[..., 3], 1.0, atol=1e-3)

    def test_a_turned_slab_shifts_what_is_behind_it_as_the_handbook_says(self):
        """By t sin(a - b) / cos(b) with sin(b) = sin(a) / n for a plane plate of thickness t (any textbook of optics)."""
        plate = np.zeros((96, 96, 3), np.float32)
        plate[:, 48:] = 1.0
        camera, deep = looking((0.0, -1e-3, 6.0), (0.0, 0.0, 0.0), 400.0, SIZE), 0.6

        def edge(degrees):
            a = np.deg2rad(degrees)
            m = np.eye(4)
            m[:3, :3] = np.array([[np.cos(a), 0, -np.sin(a)], [0, 1, 0], [np.sin(a), 0, np.cos(a)]]) @ np.diag([4.0, 4.0, deep])
            m[2, 3] = 2.0
            item = Item(box_mesh(), lambda share: m, (1.0, 1.0, 1.0), 0.03, 0.0, clear=1.0)
            layers = Engine().render([item, GROUND], NONE, lambda share: camera, SIZE, Quality(0.0, 64), plate=lambda: plate)
            row = layers.colour[44 - layers.top : 52 - layers.top, 20:80, 0].mean(0)
            return float(np.interp(0.46, row, np.arange(20, 80)))

        a = np.deg2rad(30.0)
        b = np.arcsin(np.sin(a) / 1.5)
        # half of what the two ways differ by, since the rays are not quite parallel
        self.assertAlmostEqual(abs(edge(30.0) - edge(-30.0)) / 2, deep * np.sin(a - b) / np.cos(b) * 400 / 6, delta=0.4)

    def test_ground_behind_glass_is_lit_by_lamps(self):
        """A spot of colour I at height h adds I / h^2 to a sky of 1, of which two faces let 0.96 squared pass; where there is no light at all, the ground
        stays as it was filmed."""
        pane = Item(box_mesh(), placed(0.0, 0.0, 1.0, 6.0, 6.0, 0.1), (1.0, 1.0, 1.0), 0.03, 0.0, clear=1.0)
        spot = SpotLight(np.array([0.0, 0.0, 0.8]), np.array([0.0, 0.0, -1.0]), -2.0, -2.0, 0.0, np.full(3, 0.4))
        camera, plate = looking((0.0, -1e-3, 4.0), (0.0, 0.0, 0.0), 400.0, SIZE), np.full((96, 96, 3), 0.25, np.float32)
        seen = []
        for lights in ([SkyLight(np.ones(3))], [SkyLight(np.ones(3)), spot], [SkyLight(np.full(3, 1e-9))]):
            layers = Engine().render([pane, GROUND], lights, lambda share: camera, SIZE, Quality(0.0, 64), plate=lambda: plate)
            seen.append(float(layers.colour[46 - layers.top : 50 - layers.top, 46 - layers.left : 50 - layers.left, 1].mean()))
        self.assertAlmostEqual(seen[1] - seen[0], 0.25 * 0.96**2 * 0.4 / 0.8**2, delta=0.01)
        self.assertAlmostEqual(seen[2], 0.25 * 0.96**2, delta=0.01)

    def test_frosted_glass_blurs_and_clear_glass_does_not(self):
        rng = np.random.default_rng(1)
        plate = np.repeat(rng.random((96, 96, 1)).astype(np.float32), 3, 2)
        clear, frosted = (through(slab(rough=rough), plate, 16)[30:66, 30:66, 1] for rough in (0.03, 0.5))
        self.assertLess(float(frosted.std()), 0.3 * float(clear.std()))
        self.assertAlmostEqual(float(frosted.mean() / clear.mean()), 1.0, delta=0.1)

    def test_a_letter_behind_frosted_glass_is_blurred_the_more_the_farther_it_stands(self):
        """Contrast of the edges of a white board behind the pane."""
        found, camera = {}, looking((0.0, -6.0, 0.0), (0.0, 0.0, 0.0), 400.0, SIZE)
        for rough, away in ((0.03, 1.0), (0.4, 0.15), (0.4, 1.0)):
            board = Item(box_mesh(), placed(0.0, away, -0.5, 0.8, 0.02, 1.0), (1.0, 1.0, 1.0), 1.0, 0.0, glow=1.0)
            layers = Engine().render([slab(rough=rough, deep=0.1), board], NONE, lambda share: camera, SIZE, Quality(0.0, 64))
            row = layers.colour[48 - layers.top, :, 1]
            found[rough, away] = float(np.abs(np.diff(row)).max())
        self.assertGreater(found[0.03, 1.0], 0.6)
        self.assertLess(found[0.4, 1.0], 0.5 * found[0.4, 0.15])
        self.assertLess(found[0.4, 0.15], found[0.03, 1.0])

    def test_what_glows_in_the_dark_is_seen(self):
        """What a lamp reaches where there is no other light is almost endless, and hides nothing."""
        board = Item(box_mesh(), placed(0.0, 0.0, 0.0, 1.0, 0.2, 1.0), (1.0, 1.0, 1.0), 1.0, 0.0, glow=1.0)
        camera = looking((0.0, -6.0, 0.5), (0.0, 0.0, 0.5), 200.0, SIZE)
        layers = Engine().render([board], NONE, lambda share: camera, SIZE, Quality(0.0, 4))
        self.assertGreater(float(layers.colour[48 - layers.top, 48 - layers.left, 1]), 0.9)

    def test_its_shadow_has_the_light_that_it_lets_pass(self):
        sun, camera = [SunLight(np.array([0.3, 0, 0.954]), np.ones(3), 0.0)], looking((0.0, -4.0, 3.0), (0.0, 0.0, 0.5), 60.0, (64, 64))
        for clear in (0.5, 1.0):
            lid = Item(box_mesh(), placed(0.0, 0.0, 1.0, 1.0, 1.0, 0.2), (0.8, 0.8, 0.8), 0.1, 0.0, clear=clear)
            layers = Engine().render([lid, GROUND], sun, lambda share: camera, (64, 64), Quality(0.0, 16))
            shade = np.where(layers.light_without > 0, layers.light_with / np.maximum(layers.light_without, 1e-9), 1.0)[..., 1]
            self.assertAlmostEqual(float(shade[layers.colour[..., 3] == 0].min()), clear * 0.92 * 0.8, delta=0.02)


class ShotTest(unittest.TestCase):
    def test_who_walks_before_it_is_not_seen_through_it(self):
        """The filmed frame shows the visitor where the glass lets one see through; they walk before it, so their red coat is no part of it."""
        shot = with_ready(files.read(DEMO), "open-sky", "Glass", 60)
        colour = frame(shot, 60, layer="layers", scale=0.5, samples=8).pixels
        free = (frame(shot, 60, layer="matte", scale=0.5).pixels < 0.01) & (colour[..., 3] > 0.9)
        free[:190] = False  # the red words on the wall
        free[:, 250:] = False
        red = colour[..., 0] > 2.5 * colour[..., 2]
        self.assertLess(int((red & free).sum()), 12)

    def test_what_no_filter_touches_is_as_quiet_as_the_rest(self):
        """Bevels of glass, which bend what lies behind them each way: against eight times as many samples at most. Their glints are cut at white."""
        shot = files.read(DEMO)
        for thing in [o for o in shot.objects if o.drawn]:
            shot = with_ready(shot, thing.id, "Glass", 46)
        found, still = (frame(shot, 46, quality, layer="layers", scale=0.5).pixels for quality in ("final", "fine"))
        whole = (found[..., 3] > 0.999) & (still[..., 3] > 0.999)
        off = np.minimum(found[whole][:, :3], 1) - np.minimum(still[whole][:, :3], 1)
        self.assertGreater(int(whole.sum()), 10_000)
        self.assertLess(float(np.sqrt((off * off).mean())), 0.014)


class GradientTest(unittest.TestCase):
    def test_it_runs_from_one_colour_to_the_other_over_all_letters(self):
        title = Title(id="t", text="III III", colour=(1.0, 0.0, 0.0), second=(0.0, 0.0, 1.0), roughness=constant(1.0))
        camera = looking((0.0, -12.0, 0.5), (0.0, 0.0, 0.5), 300.0, SIZE)
        for texture, axis in (("gradient up", 0), ("gradient along", 1)):
            made = with_pattern(Shot(objects=(title,)), "t", texture, 0)
            items = items_of(made, made.objects[0], 0)
            layers = Engine().render(items, [SkyLight(np.full(3, 0.5))], lambda share: camera, SIZE, Quality(0.0, 16))
            full = layers.colour[..., 3] > 0.99
            share = layers.colour[..., 2] / np.maximum(layers.colour[..., 0] + layers.colour[..., 2], 1e-6)
            at = np.nonzero(full)[axis].astype(float)
            slope = np.corrcoef(at, share[full])[0, 1]
            self.assertGreater(abs(slope), 0.97, texture)
            self.assertEqual(slope > 0, axis == 1, "upward: from the foot; along: to the right")
            self.assertLess(float(share[full].min()), 0.15)
            self.assertGreater(float(share[full].max()), 0.85)

    def test_other_parts_keep_their_own(self):
        title = Title(id="t", text="I", surfaces=(Surface(id="s", part="sides", texture="stone"),), texture="gradient up")
        (item,) = items_of(Shot(objects=(title,)), title, 0)
        self.assertEqual([look.texture.kind for look in item.finishes], [textures.UPWARD, textures.UPWARD, textures.STONE, textures.UPWARD])
        self.assertIsInstance(item.finishes[0].texture, Texture)
        self.assertEqual(msgspec.json.decode(msgspec.json.encode(title), type=Title), title)


if __name__ == "__main__":
    unittest.main()
