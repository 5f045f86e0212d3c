"""The renderer against one that shares no code with it: Mitsuba 3 (W. Jakob and others), scalar variant, from the package registry.

Mitsuba takes two minutes for its pictures, so they are kept, each by the hash of its whole scene as Mitsuba read it and of its version: a scene
that is another one is drawn anew. One test always draws. Keep what is missing with: python -m tests.core.test_reference_renderer
"""

import hashlib
import unittest
from pathlib import Path

import mitsuba as mi
import numpy as np
from scipy import ndimage

from lodestar.core.light.lamps import AreaLight, SkyLight, SunLight
from lodestar.core.light.sun import direction
from lodestar.core.light.surroundings import BOUNCE, AroundLight, directions, prepared
from lodestar.core.render.engine import Engine, Quality
from lodestar.core.render.facets import MIRROR_WIDTH
from lodestar.core.render.items import LEVEL, Item
from lodestar.core.render.lighting import COAT_ROUGHNESS
from lodestar.core.shape.fonts import SHIPPED
from lodestar.core.shape.solids import box_mesh
from tests.core.test_rays import looking, placed, whole
from tests.helpers import word_mesh

mi.set_variant("scalar_rgb")
KEPT = Path(__file__).parents[1] / "data" / "mitsuba.npz"
SIZE = (192, 128)
EYE, AT, FOCAL = (1.5, -7.0, 3.0), (0.2, 0.5, 0.4), 170.0
SUN = SunLight(direction(215.0, 38.0), np.full(3, 0.9), 0.0)
SKY = SkyLight(np.full(3, 0.45))


def things():
    letters = Item(word_mesh(next(iter(SHIPPED)), "Ra", 0.3, 0.02), placed(-0.6, 0.0, 0.0), (0, 0, 0), 1.0, 0.0)
    block = Item(box_mesh(), placed(1.5, 0.4, 0.0, 0.6, 0.6, 0.9), (0, 0, 0), 1.0, 0.0)
    wall = Item(box_mesh(), placed(0.0, 2.0, 0.0, 4.0, 0.3, 1.6), (0, 0, 0), 1.0, 0.0, drawn=False, receives=True, hides=True)
    ground = Item(LEVEL, lambda share: np.eye(4), (0, 0, 0), 1.0, 0.0, drawn=False, receives=True)
    return [letters, block], wall, ground


def mesh(item, bsdf, **more):
    m = item.model(0.0)
    corners = item.mesh.vertices.astype(float) @ m[:3, :3].T + m[:3, 3]
    made = mi.Mesh("solid", len(corners), len(item.mesh.triangles), props=properties(bsdf, **more))
    params = mi.traverse(made)
    params["vertex_positions"] = corners.astype(np.float32).ravel()
    params["faces"] = item.mesh.triangles.astype(np.uint32).ravel()
    params.update()
    return made


def properties(bsdf, **more):
    props = mi.Properties()
    props["bsdf"] = mi.load_dict(bsdf)
    for name, value in more.items():
        props[name] = mi.load_dict(value)
    return props


def rgb(value):
    return {"type": "rgb", "value": value}


def matt(share):
    return {"type": "diffuse", "reflectance": rgb(share)}


class Kept(dict):
    """Pictures of Mitsuba, (h, w) float16, by the hash of their scene."""

    def __init__(self):
        if KEPT.exists():
            with np.load(KEPT) as kept:
                self.update(kept)
        self.used = {}

    def picture(self, scene):
        params = mi.traverse(scene)
        text = hashlib.sha256((mi.__version__ + str(scene)).encode())
        for name in sorted(params.keys()):
            value = np.array(params[name])
            text.update(name.encode() + (str(params[name]).encode() if value.dtype == object else value.tobytes()))
        key = text.hexdigest()[:16]
        if key not in self:
            self[key] = np.array(mi.render(scene, seed=1))[..., 0].astype(np.float16)
        self.used[key] = self[key]
        return self[key].astype(np.float32)


KEPT_PICTURES = Kept()


def drawn(parts, samples, depth=2):
    """(h, w) light that reaches the camera over one bounce; hit or not, by the camera of the tests."""
    to = lambda p: [float(x) for x in p]
    sensor = {
        "type": "perspective",
        "fov_axis": "x",
        "fov": float(2 * np.degrees(np.arctan(SIZE[0] / 2 / FOCAL))),
        "to_world": mi.ScalarTransform4f().look_at(origin=to(EYE), target=to(AT), up=[0, 0, 1]),
        "film": {"type": "hdrfilm", "width": SIZE[0], "height": SIZE[1], "rfilter": {"type": "box"}, "pixel_format": "luminance"},
        "sampler": {"type": "multijitter", "sample_count": samples},
    }
    scene = mi.load_dict({"type": "scene", "integrator": {"type": "path", "max_depth": depth}, "sensor": sensor, **parts})
    return KEPT_PICTURES.picture(scene)


def room():
    """(512, 1024, 3) a sky that is brighter to one side, with a broad soft light in it, over a dim floor."""
    d = directions(512)
    away = np.degrees(np.arccos(np.clip(d @ direction(230.0, 50.0), -1, 1)))
    light = 0.25 + 0.2 * d[..., 0] + 6.0 * np.clip((16 - away) / 6, 0, 1)
    return np.repeat(np.where(d[..., 2] > 0, light, 0.12)[..., None], 3, 2).astype(np.float32)


def round_about(picture):
    """Mitsuba's own first column lies along our middle one, y, after its y axis was put up."""
    turn = mi.ScalarTransform4f().rotate([1, 0, 0], 90)
    return {"room": {"type": "envmap", "bitmap": mi.Bitmap(np.ascontiguousarray(np.roll(picture, picture.shape[1] // 2, 1))), "to_world": turn}}


def lamps():
    """The sun as a direction, and a sphere of light: the sky over the horizon, what the place sends back under it."""
    rows = np.zeros((64, 128, 3), np.float32)
    lift = float(BOUNCE * (SKY.colour[0] + SUN.colour[0] * SUN.direction[2]))
    rows[:32], rows[32:] = SKY.colour, lift  # a white surface sends back radiance as bright as what surrounds it
    turn = mi.ScalarTransform4f().rotate([1, 0, 0], 90)
    sphere = {"type": "envmap", "bitmap": mi.Bitmap(rows), "to_world": turn}
    # a white surface that faces the sun sends back colour = irradiance / pi
    sun = {
        "type": "directional",
        "direction": [float(-x) for x in SUN.direction],
        "irradiance": rgb(float(np.pi * SUN.colour[0])),
    }
    return {"sphere": sphere, "sun": sun}


class ReferenceTest(unittest.TestCase):
    def ours(self, items, lights, samples=256):
        camera = looking(EYE, AT, FOCAL, SIZE)
        layers = Engine().render(items, lights, lambda share: camera, SIZE, Quality(0.0, samples))
        found = np.zeros((SIZE[1], SIZE[0], 3), np.float32)
        h, w = layers.colour.shape[:2]
        found[layers.top : layers.top + h, layers.left : layers.left + w] = np.stack(
            [layers.colour[..., 3], layers.light_with[..., 1], layers.light_without[..., 1]], -1
        )
        return found

    def test_light_on_ground_and_wall(self):
        self.compare_shade([SUN, SKY], lamps(), 0.01, 0.008)

    def test_surroundings_on_ground_and_wall(self):
        around = AroundLight(prepared(room(), sun=SunLight(np.array([0, 0, 1.0]), np.zeros(3), 1.0)), np.eye(3), 1.0)
        self.compare_shade([around], round_about(room()), 0.02, 0.03)

    def test_metal_in_surroundings(self):
        """Letters and a box of metal that loses nothing, polished and rough, which show the room and each other."""
        around = AroundLight(prepared(room(), sun=SunLight(np.array([0, 0, 1.0]), np.zeros(3), 1.0)), np.eye(3), 1.0)
        camera = looking(EYE, AT, FOCAL, SIZE)
        for roughness in (0.2, 0.5):
            solids = [solid._replace(base=(1.0, 1.0, 1.0), metal=1.0, roughness=roughness) for solid in things()[0]]
            ours = whole(solids, [around], camera, SIZE, 256)[0]
            metal = {"type": "roughconductor", "material": "none", "distribution": "ggx", "alpha": roughness**2}
            known = drawn({f"solid{k}": mesh(item, metal) for k, item in enumerate(solids)} | round_about(room()), 256, 3)
            # theirs lacks what facets send on to each other: as much as an even room would lose
            known /= drawn({f"solid{k}": mesh(item, metal) for k, item in enumerate(solids)} | round_about(np.ones_like(room())), 64, 9)
            part = ours[..., 3] > 0.999
            self.assertGreater(part.sum(), 800)
            self.assertAlmostEqual(float(ours[part][:, 1].mean() / known[part].mean()), 1.0, delta=0.02, msg=str(roughness))

    def test_a_clear_coat_in_surroundings(self):
        """What it mirrors, of a box's front and top: that of the coated box less what of the bare one comes through, beside a coat over black."""
        around = AroundLight(prepared(room(), sun=SunLight(np.array([0, 0, 1.0]), np.zeros(3), 1.0)), np.eye(3), 1.0)
        camera, block = looking(EYE, AT, FOCAL, SIZE), things()[0][1]
        matt_ = block._replace(base=(0.5,) * 3, roughness=1.0)
        bare, coated = (whole([matt_._replace(coat=coat)], [around], camera, SIZE, 256)[0] for coat in (0.0, 1.0))
        plastic = {"type": "roughplastic", "distribution": "ggx", "alpha": COAT_ROUGHNESS**2, "int_ior": 1.5, "diffuse_reflectance": rgb(0.0)}
        known = drawn({"solid": mesh(block, plastic)} | round_about(room()), 1024)
        y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]].astype(float)
        rays = camera.rays(np.stack([x, y], -1))
        for axis, at, normal in ((1, 0.1, (0, -1, 0)), (2, 0.9, (0, 0, 1))):
            p = camera.centre + rays * ((at - camera.centre[axis]) / rays[..., axis])[..., None]
            inner = np.where(np.arange(3) == axis, 1.0, [0.27, 0.27, 0.42])
            on = (np.abs(p - [1.5, 0.4, 0.45]) < inner).all(-1) & (coated[..., 3] > 0.999)
            self.assertGreater(on.sum(), 30)
            fresnel = 0.04 + 0.96 * (1 + rays[on] @ np.array(normal, float)) ** 5
            mirrored = coated[on][:, 1] - (1 - fresnel) ** 2 * bare[on][:, 1]
            self.assertAlmostEqual(float(mirrored.mean() / known[on].mean()), 1.0, delta=0.02, msg=str(normal))

    def test_matt_things_light_each_other(self):
        """A white slab and a white block on it in sun and sky, against each alone: what they take from each other and send to each other."""
        block = things()[0][1]._replace(base=(0.8, 0.8, 0.8))
        solids = [block._replace(model=placed(0.2, 0.5, 0.0, 2.4, 1.6, 0.2)), block._replace(model=placed(0.2, 1.1, 0.2, 2.4, 0.4, 1.0))]
        camera = looking(EYE, AT, FOCAL, SIZE)
        ours, known = [], []
        for chosen in (solids, solids[:1], solids[1:]):
            layers = Engine().render(chosen, [SUN, SKY], lambda share: camera, SIZE, Quality(0.0, 256))
            whole = np.zeros((SIZE[1], SIZE[0]))
            h, w = layers.colour.shape[:2]
            whole[layers.top : layers.top + h, layers.left : layers.left + w] = np.where(layers.colour[..., 3] > 0.999, layers.colour[..., 1], 0)
            ours.append(whole)
            known.append(drawn({f"solid{k}": mesh(item, matt(0.8)) for k, item in enumerate(chosen)} | lamps(), 256, 3))
        both, slab, upright = (ndimage.binary_erosion(whole > 0, np.ones((3, 3))) for whole in ours)
        ratios = []
        for pictures in (ours, known):
            one_of_them = np.where(upright, pictures[2], pictures[1])
            ratios.append((pictures[0] / np.maximum(one_of_them, 1e-9))[both & (slab ^ upright)])
        self.assertGreater(len(ratios[0]), 1000)
        self.assertGreater(ratios[1].max(), 1.15)  # what they send is no small part
        self.assertAlmostEqual(float(ratios[0].mean() / ratios[1].mean()), 1.0, delta=0.01)
        self.assertLess(float(np.sqrt(np.mean((ratios[0] - ratios[1]) ** 2))), 0.02)

    def compare_shade(self, lights, emitters, mean, rms):
        solids, wall, ground = things()
        ours = self.ours([*solids, wall, ground], lights)
        black = {f"solid{k}": mesh(item, matt(0.0)) for k, item in enumerate(solids)}
        floor = {"floor": {"type": "rectangle", "to_world": mi.ScalarTransform4f().scale([60, 60, 1]), "bsdf": matt(1.0)}}
        # the ground takes the light from under the horizon away from the wall; ours knows that light as the ground's own, so each is
        # compared where the other is not there
        both = []
        for here, other in (
            ({**floor, "wall": mesh(wall, matt(0.0))}, "ground"),
            ({"wall": mesh(wall, matt(1.0))}, "wall"),
        ):
            with_, without = (drawn({**here, **more, **emitters}, 256) for more in (black, {}))
            both.append((other, with_, without))
        clear = ours[..., 0] < 1e-4
        camera = looking(EYE, AT, FOCAL, SIZE)
        y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]].astype(float)
        rays = camera.rays(np.stack([x, y], -1))
        # the wall's front side and top by geometry: what the eye sees of it
        t = (1.85 - camera.centre[1]) / rays[..., 1]
        front = camera.centre + rays * t[..., None]
        on_wall = (t > 0) & (np.abs(front[..., 0]) < 1.9) & (front[..., 2] > 0.1) & (front[..., 2] < 1.5)
        down = np.where(rays[..., 2] < 0, -camera.centre[2] / np.minimum(rays[..., 2], -1e-9), 0)
        floor_at = camera.centre + rays * down[..., None]
        on_ground = (rays[..., 2] < -0.05) & (floor_at[..., 1] < 1.7)
        for name, with_, without in both:
            part = clear & (ours[..., 2] > 0) & (on_wall if name == "wall" else on_ground)
            self.assertGreater(part.sum(), 400, name)
            shade, reference = ours[part][:, 1] / ours[part][:, 2], with_[part] / without[part]
            self.assertAlmostEqual(shade.mean() / reference.mean(), 1.0, delta=mean, msg=name)
            self.assertLess(np.sqrt(np.mean((shade - reference) ** 2)), rms, name)
            if name == "ground" and any(light is SUN for light in lights):  # where the hard shadow lies
                dark, known = shade < 0.6, reference < 0.6
                self.assertGreater(known.sum(), 100)
                self.assertGreater((dark & known).sum() / (dark | known).sum(), 0.985)

    def parts_of_the_picture(self):
        """Masks of the wall's front and of the ground before it, by geometry."""
        camera = looking(EYE, AT, FOCAL, SIZE)
        y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]].astype(float)
        rays = camera.rays(np.stack([x, y], -1))
        t = (1.85 - camera.centre[1]) / rays[..., 1]
        front = camera.centre + rays * t[..., None]
        wall = (t > 0) & (np.abs(front[..., 0]) < 1.9) & (front[..., 2] > 0.1) & (front[..., 2] < 1.5)
        down = np.where(rays[..., 2] < 0, -camera.centre[2] / np.minimum(rays[..., 2], -1e-9), 0)
        floor = camera.centre + rays * down[..., None]
        return {"wall": wall, "ground": (rays[..., 2] < -0.05) & (floor[..., 1] < 1.7) & ~wall}

    def near_light(self, lights, ours_too, emitters, white=0.0):
        """The light that near lamps add to ground and wall, ours and Mitsuba's, per part of the picture: (ours, known) of the clear px. white: what the solids
        send back, once."""
        solids, wall, ground = things()
        solids = [ours_too(solid, k) for k, solid in enumerate(solids)]
        weak = SkyLight(np.full(3, 0.004))  # ours is a factor on what light there is; so little of it that its own shade does not count
        ours = self.ours([*solids, wall, ground], [*lights, weak])
        added = ours[..., 1] - ours[..., 2]
        solid = {f"solid{k}": mesh(item, matt(white), **emitters(k)) for k, item in enumerate(solids)}
        floor = {"floor": {"type": "rectangle", "to_world": mi.ScalarTransform4f().scale([60, 60, 1]), "bsdf": matt(1.0)}}
        lamps = emitters(None)
        found = {}
        for name, here in (("ground", {**floor, "wall": mesh(wall, matt(0.0))}), ("wall", {"wall": mesh(wall, matt(1.0))})):
            part = self.parts_of_the_picture()[name] & (ours[..., 0] < 1e-4) & (ours[..., 2] > 0)
            found[name] = added[part], drawn({**here, **solid, **lamps}, 256, 3 if white else 2)[part]
        return found

    def test_an_area_lamp_on_ground_and_wall(self):
        lamp = AreaLight(np.array([0.5, -1.5, 2.2]), np.array([0.0, 0.5, 0.0]), np.array([0.7, 0.0, 0.0]), np.full(3, 3.0), False)
        to_world = mi.ScalarTransform4f().translate([0.5, -1.5, 2.2]).rotate([1, 0, 0], 180).scale([0.7, 0.5, 1])
        shines = {"lamp": {"type": "rectangle", "to_world": to_world, "emitter": {"type": "area", "radiance": rgb(3.0)}}}
        for white in (0.0, 0.8):  # black letters and a black box, and white ones that send its light on
            matt_ = lambda solid, k, white=white: solid._replace(base=(white, white, white), roughness=1.0)
            found = self.near_light([lamp], matt_, lambda k: {} if k is not None else shines, white)
            for name, (ours, known) in found.items():
                with self.subTest(name, white=white):
                    self.assertAlmostEqual(ours.mean() / known.mean(), 1.0, delta=0.02)
                    self.assertLess(np.sqrt(np.mean((ours - known) ** 2)), 0.05 * known.max())

    def test_glowing_letters_light_ground_and_wall(self):
        glow = {"emitter": {"type": "area", "radiance": rgb(2.0)}}
        # black ones, and white ones that light each other as well: far from them that comes in rare bright samples, of which the filter keeps less
        for base, white, off_by in ((0.01, 0.0, 0.02), (1.0, 1.0, 0.04)):
            shining = lambda solid, k, base=base: solid._replace(base=(base,) * 3, roughness=1.0, glow=2.0 / base if k == 0 else 0.0)
            found = self.near_light([], shining, lambda k: glow if k == 0 else {}, white)
            for name, (ours, known) in found.items():
                with self.subTest(name, white=white):
                    self.assertAlmostEqual(ours.mean() / known.mean(), 1.0, delta=off_by)
                    self.assertLess(np.sqrt(np.mean((ours - known) ** 2)), 0.06 * known.max())

    def test_letters_behind_clear_and_frosted_glass(self):
        """Glowing letters through a pane, by one way through it (three meetings), in the dark."""
        solids, _, _ = things()
        letters = [item._replace(base=(0.01, 0.01, 0.01), glow=100.0, roughness=1.0) for item in solids]
        camera = looking(EYE, AT, FOCAL, SIZE)
        found = []
        for roughness in (0.03, 0.3, 0.5):
            pane = Item(box_mesh(), placed(0.3, -0.6, -0.3, 4.0, 0.15, 2.2), (1.0, 1.0, 1.0), roughness, 0.0, clear=1.0)
            layers = Engine().render([*letters, pane], [SkyLight(np.full(3, 1e-6))], lambda share: camera, SIZE, Quality(0.0, 256))
            ours = np.zeros((SIZE[1], SIZE[0]), np.float32)
            h, w = layers.colour.shape[:2]
            ours[layers.top : layers.top + h, layers.left : layers.left + w] = layers.colour[..., 1]
            glow = {"type": "area", "radiance": rgb(1.0)}
            shining = {f"solid{k}": mesh(item, matt(0.0), emitter=glow) for k, item in enumerate(solids)}
            glass = {"type": "roughdielectric", "distribution": "ggx", "alpha": max(roughness**2, 1e-3), "int_ior": 1.5, "ext_ior": 1.0}
            known = drawn({**shining, "pane": mesh(pane, glass)}, 256, 4)
            y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]].astype(float)
            rays = camera.rays(np.stack([x, y], -1))
            at = camera.centre + rays * ((-0.675 - camera.centre[1]) / rays[..., 1])[..., None]
            part = (np.abs(at[..., 0] - 0.3) < 1.9) & (at[..., 2] > -0.2) & (at[..., 2] < 1.8)
            self.assertGreater(known[part].mean(), 0.05)
            found.append((roughness, ours[part].mean() / known[part].mean(), np.sqrt(np.mean((ours[part] - known[part]) ** 2))))
        for roughness, mean, rms in found:
            with self.subTest(roughness):
                self.assertAlmostEqual(mean, 1.0, delta=0.02)
                self.assertLess(rms, 0.05)

    def test_a_rough_mirror_shows_as_much_of_a_thing(self):
        """The letters as lamps of light 1 over a rough conductor that loses nothing: what it sends is the share of its rays that meet them."""
        solids, _, _ = things()
        for roughness in (0.3, 0.6):
            pond = Item(box_mesh(), placed(0.0, -1.4, -0.2, 5.0, 2.4, 0.2), (0, 0, 0), roughness, 0.0, drawn=False, hides=True, reflects=1.0)
            ours = self.ours([*solids, pond], [SKY])[..., 0]
            glow = {"type": "area", "radiance": rgb(1.0)}
            shining = {f"solid{k}": mesh(item, matt(0.0), emitter=glow) for k, item in enumerate(solids)}
            metal = {"type": "roughconductor", "material": "none", "distribution": "ggx", "alpha": MIRROR_WIDTH * roughness**2}
            known = drawn({**shining, "pond": mesh(pond, metal)}, 256)
            camera = looking(EYE, AT, FOCAL, SIZE)
            y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]].astype(float)
            rays = camera.rays(np.stack([x, y], -1))
            at = camera.centre + rays * (-camera.centre[2] / np.minimum(rays[..., 2], -1e-9))[..., None]
            part = (np.abs(at[..., 0]) < 2.4) & (at[..., 1] > -2.5) & (at[..., 1] < -0.35) & (rays[..., 2] < 0)
            self.assertGreater(known[part].mean(), 0.05)
            self.assertAlmostEqual(ours[part].mean() / known[part].mean(), 1.0, delta=0.01, msg=str(roughness))
            self.assertLess(np.sqrt(np.mean((ours[part] - known[part]) ** 2)), 0.03)


class KeptTest(unittest.TestCase):
    def test_what_is_kept_is_what_it_draws_and_another_scene_is_another_picture(self):
        block = things()[0][1]
        kept = drawn({"solid": mesh(block, matt(0.8)), **lamps()}, 16)
        pictures = dict(KEPT_PICTURES)
        self.addCleanup(KEPT_PICTURES.update, pictures)
        KEPT_PICTURES.clear()
        np.testing.assert_allclose(drawn({"solid": mesh(block, matt(0.8)), **lamps()}, 16), kept, atol=2e-3)
        for other in (mesh(block, matt(0.7)), mesh(block._replace(model=placed(1.4, 0.4, 0.0, 0.6, 0.6, 0.9)), matt(0.8))):
            self.assertGreater(np.abs(drawn({"solid": other, **lamps()}, 16) - kept).max(), 0.01)
        self.assertEqual(len(KEPT_PICTURES), 3)


if __name__ == "__main__":
    if unittest.main(exit=False).result.wasSuccessful():
        np.savez_compressed(KEPT, **KEPT_PICTURES.used)
