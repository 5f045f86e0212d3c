"""Another sky behind the plate: it turns with the solved camera, leaves no fringe, and keeps the grain."""

import json
import tempfile
import unittest
import zipfile
from pathlib import Path

import cv2
import msgspec
import numpy as np

from lodestar.core.basics.colour import encode
from lodestar.core.basics.errors import PlateError, UserError
from lodestar.core.basics.keyed import constant
from lodestar.core.edits.lights import sun_of
from lodestar.core.edits.settle import with_ground
from lodestar.core.edits.sky import read_sky, turned_sky, with_kind_of_sky, with_new_sky, with_picture_of_sky, with_sun_in_place
from lodestar.core.evaluate.cameras import camera_at
from lodestar.core.evaluate.far import around_at, carried_to, turned_to
from lodestar.core.evaluate.old_sky import OldSky, far_ground, lowest_sky, sky_key, sky_luminance, with_sky_of
from lodestar.core.finish.backdrop import Backdrop, turn_of
from lodestar.core.light.skies import KINDS, LOWEST_DEG, LUMINANCE, made
from lodestar.core.matte.far import Around, clouds_among, far_away, unsteady
from lodestar.core.matte.key import keyed_cover
from lodestar.core.picture.behind import _edge, _mixed, _out_of_haze, sky_of
from lodestar.core.picture.composite import light_of
from lodestar.core.picture.edges import smooth
from lodestar.core.picture.frame import QUALITIES, frame
from lodestar.core.picture.plate import Size
from lodestar.core.picture.workshop import close_workshop
from lodestar.core.scene.ground import Ground
from lodestar.core.shot import files
from lodestar.core.shot.document import rebased
from tests.core.test_cli import example
from tests.core.test_mattes import box
from tests.helpers import DEMO, by_hand

WHOLE = Size(1280, 720, 1.0)
ALL = np.ones((720, 1280), np.float32)


def direction(azimuth: float, height: float) -> np.ndarray:
    a, h = np.deg2rad([azimuth, height])
    return np.array([np.sin(a) * np.cos(h), np.cos(a) * np.cos(h), np.sin(h)])


class FarTest(unittest.TestCase):
    """A blue sky with white clouds over dark ground, before which stands a white disc with points on it."""

    def setUp(self):
        rng = np.random.default_rng(3)
        y, x = np.mgrid[:240, :320].astype(np.float32)
        cloud = cv2.GaussianBlur(rng.random((240, 320)).astype(np.float32), (0, 0), 14)
        cloud = np.clip((cloud - cloud.mean()) / cloud.std() * 0.5 + 0.4, 0, 1)[..., None]
        self.light = ((1 - cloud) * np.array([0.25, 0.4, 0.8]) + cloud * np.array([0.9, 0.9, 0.92])).astype(np.float32)
        self.disc = np.hypot(x - 200, y - 90) < 40
        self.light[self.disc] = 0.88
        self.light[170:] = (0.1, 0.12, 0.05)
        self.cover = np.ones((240, 320), np.float32)
        self.cover[170:] = 0
        angle = np.arange(12) * np.pi / 6
        rim = np.stack([200 + 34 * np.cos(angle), 90 + 34 * np.sin(angle)], 1)
        self.points = np.concatenate([rim, [[200.0, 90.0], [190.0, 80.0], [210.0, 100.0]]])
        self.below = y > 175

    def far(self, points, depths=None):
        return far_away(self.light, self.cover, Around(points, np.full(len(points), 20.0) if depths is None else depths, self.below))

    def test_what_has_near_points_is_left_out_whole_and_the_sky_stays(self):
        found = self.far(self.points) * self.cover
        inner = cv2.erode(self.disc.astype(np.uint8), np.ones((9, 9))) > 0
        outer = (cv2.dilate(self.disc.astype(np.uint8), np.ones((9, 9))) == 0) & (np.arange(240) < 166)[:, None]
        self.assertLess(float((found[inner] > 0.1).mean()), 0.05, "where a cloud is as white as it, its rim is not seen")
        self.assertGreater(float((found[outer] > 0.9).mean()), 0.98)

    def test_specks_on_it_that_do_not_look_like_sky_are_no_rim_of_it(self):
        for x, y in np.round(self.points).astype(int):
            self.cover[y, x] = 0
        inner = cv2.erode(self.disc.astype(np.uint8), np.ones((9, 9))) > 0
        self.assertLess(float((self.far(self.points)[inner] > 0.1).mean()), 0.2)

    def test_a_false_point_in_the_sky_and_no_points_take_nothing_away(self):
        for points in (np.zeros((0, 2)), np.array([[60.0, 60.0]]), np.array([[60.0, 60.0], [1e6, -5.0]])):
            found = self.far(points)
            self.assertGreater(float(found[:165].min()), 0.99)
            self.assertEqual(float(found[185:].max()), 0.0)

    def test_gaps_between_leaves_are_sky_and_sheens_on_a_wall_are_not(self):
        rng = np.random.default_rng(5)
        for every, sky in ((9, True), (30, False)):
            self.setUp()
            wall = np.s_[100:170, 20:140]
            self.light[wall], self.cover[wall] = (0.05, 0.1, 0.03), 0.0
            gaps = [(y, x) for y in range(112, 160, every) for x in range(32, 130, every)]
            for y, x in gaps:
                self.light[y : y + 4, x : x + 4], self.cover[y : y + 4, x : x + 4] = (0.6, 0.7, 0.9), 1.0
            corners = [[22.0, 102.0], [138.0, 102.0], [22.0, 166.0], [138.0, 166.0]]
            points = np.concatenate([corners, rng.uniform([24, 104], [136, 164], (60, 2))])
            points = points[[self.cover[int(y), int(x)] == 0 for x, y in points]]
            found = self.far(np.concatenate([points, self.points]), np.concatenate([np.full(len(points), 9.0), np.full(len(self.points), 20.0)]))
            share = float(np.mean([found[y + 1 : y + 3, x + 1 : x + 3].mean() for y, x in gaps]))
            self.assertTrue(share > 0.6 if sky else share < 0.1, (every, share))

    def test_sky_is_seen_between_the_parts_of_what_does_not_look_like_it(self):
        """As through the legs and cables of a bridge, which hide it in turn in other frames; a clip of a real one kept patches of its old sky there."""
        y, x = np.mgrid[:360, :1280].astype(np.float32)
        sky = np.repeat((0.3 + 0.4 * y / 360)[..., None], 3, 2).astype(np.float32)
        bars = ((x % 160 < 24) & (x > 300) & (x < 900)) | ((np.abs(y - 90) < 12) & (x > 300) & (x < 830)) | (y > 280)
        light, cover = np.where(bars[..., None], np.float32([0.3, 0.05, 0.03]), sky), (~bars).astype(np.float32)
        rows = np.arange(20, 280, 20)
        points = np.concatenate([[(c, r) for r in rows] for c in range(332, 830, 160)] + [[(500.0, 40.0), (710.0, 200.0)]]).astype(float)
        moved = cv2.resize(((x > 300) & (x < 830) & (y > 60) & (y < 280)).astype(np.uint8), (640, 180), interpolation=cv2.INTER_NEAREST) > 0
        found = far_away(light, cover, Around(points, np.full(len(points), 30.0), y > 300, moved))
        self.assertGreater(float((found[(y < 270) & ~bars] > 0.9).mean()), 0.97)
        # what ends in another colour is near, though none of its points tells so
        block = (np.abs(x - 600) < 60) & (np.abs(y - 200) < 50)
        bare = np.where(block[..., None], np.float32(0.95), sky)
        seen = cv2.resize(cv2.erode(block.astype(np.uint8), np.ones((9, 9))), (640, 180), interpolation=cv2.INTER_NEAREST) > 0
        found = far_away(bare, (y < 280).astype(np.float32), Around(np.zeros((0, 2)), np.zeros(0), y > 300, seen))
        self.assertLess(float(found[block].mean()), 0.1)
        self.assertGreater(float(found[(y < 270) & ~block].mean()), 0.97)

    def test_a_dark_cloud_that_the_key_leaves_out_is_sky_and_things_before_it_are_not(self):
        y, x = np.mgrid[:360, :640].astype(np.float32)
        light = np.repeat((0.8 - 0.6 * np.exp(-((x - 150) ** 2 + (y - 90) ** 2) / 2 / 50**2))[..., None], 3, 2)
        balloon, sign, tower = np.hypot(x - 330, y - 80) < 20, (abs(x - 440) < 25) & (abs(y - 90) < 25), (abs(x - 560) < 15) & (y > 60)
        light[balloon | sign | tower] = 0.1
        cover = np.clip((light[..., 0] - 0.5) / 0.1, 0, 1)
        ground = np.stack(np.meshgrid(np.arange(20.0, 630, 30), [310.0, 325, 340, 355]), -1).reshape(-1, 2)
        points = np.concatenate([ground, [(430.0, 80.0), (450, 80), (440, 100)], [(150.0, 90.0)]])
        around = Around(points, np.full(len(points), 30.0), y > 300)
        found = np.maximum(cover, clouds_among(light, cover, around))
        cloud = np.hypot(x - 150, y - 90) < 100
        self.assertGreater(float(found[cloud].min()), 0.9)
        inner = cv2.erode((balloon | sign | tower).astype(np.uint8), np.ones((5, 5))) > 0
        self.assertLess(float(found[inner & (y < 295)].max()), 0.01)
        # where hardly any point tells what is near, nothing is taken for a cloud
        self.assertEqual(float(clouds_among(light, cover, around._replace(pixels=points[::3], depths=around.depths[::3])).max()), 0.0)

    def test_points_beside_a_ridge_take_no_band_of_the_sky_away(self):
        """Marks lie beside the edge that they follow. In a clip of a real drone a band of the old sky stayed over the hills."""
        y, x = np.mgrid[:360, :1280].astype(np.float32)
        ridge = 200 + 30 * np.sin(x[0] / 90)
        light = np.repeat((0.3 + 0.4 * y / 360)[..., None], 3, 2).astype(np.float32)
        hill = y > ridge
        light[hill] = (0.05, 0.06, 0.03)
        columns = np.arange(20, 1270, 25)
        points = np.stack([columns, ridge[columns] - 5], 1)
        found = far_away(light, (~hill).astype(np.float32), Around(points, np.full(len(points), 80.0), y > 300))
        self.assertGreater(float(found[y < ridge - 2].min()), 0.95)

    def test_clouds_that_seem_to_move_stay_where_something_else_looks_like_sky(self):
        """In a clip of a real drone a corner of the old sky came and went from frame to frame."""
        self.light[:170] = (0.7, 0.75, 0.85)
        self.light[self.disc] = 0.88
        corner = np.s_[5:55, 5:75]
        moved = self.disc.copy()
        moved[corner] = True
        around = Around(self.points, np.full(len(self.points), 20.0), self.below, cv2.erode(moved.astype(np.uint8), np.ones((5, 5))) > 0)
        found = far_away(self.light, self.cover, around)
        self.assertGreater(float(found[corner].min()), 0.95)
        self.assertLess(float(found[np.hypot(*np.mgrid[-90:150, -200:120]) < 30].max()), 0.1)
        # but not what three near points lie in, though only along a seam of it, as those of a dome that leaves the picture
        self.cover[30, 5:75] = 0
        seam = np.stack([np.arange(10.0, 70, 10), np.full(6, 31.0)], 1)
        found = far_away(self.light, self.cover, around._replace(pixels=np.concatenate([self.points, seam]), depths=np.full(21, 20.0)))
        self.assertLess(float(found[36:50, 12:68].mean()), 0.1)

    def test_where_haze_has_no_edge_the_border_is_not_where_noise_would_have_it(self):
        y, x = np.mgrid[:240, :320].astype(np.float32)
        points = np.stack(np.meshgrid([110.0, 150, 190], [90.0, 120, 150]), -1).reshape(-1, 2)
        around, found = Around(points, np.full(len(points), 20.0), y > 225), []
        for seed in range(4):
            codes = np.sqrt(np.repeat((0.4 + 0.2 * np.exp((y - 220) / 80))[..., None], 3, 2)) + np.random.default_rng(seed).normal(
                0, 1 / 255, (240, 320, 3)
            )
            found.append(far_away((codes**2).astype(np.float32), (y < 220).astype(np.float32), around)[:210] > 0.5)
        changed = np.mean([(a != b).sum() for k, a in enumerate(found) for b in found[:k]])
        self.assertLess(changed, 250)  # 360 when all of the noise is looked at

    def test_sky_is_seen_through_one_wide_gap_in_what_is_near(self):
        """As through the gate of a tower, whose walls are far larger than the gap."""
        self.light[40:170, 10:150], self.cover[40:170, 10:150] = (0.05, 0.1, 0.03), 0.0
        gap = np.s_[90:105, 70:85]
        self.light[gap], self.cover[gap] = (0.6, 0.7, 0.9), 1.0
        edge = np.linspace(12, 148, 12)
        points = np.concatenate([np.stack([edge, np.full(12, y)], 1) for y in (42.0, 65.0, 87.0, 110.0, 130.0, 150.0, 168.0)])
        found = self.far(np.concatenate([points, self.points]), np.concatenate([np.full(len(points), 9.0), np.full(len(self.points), 20.0)]))
        self.assertGreater(float(found[92:103, 72:83].min()), 0.9)
        self.assertLess(float(found[60:80, 20:140].max()), 0.1, "and not through its walls")


class CloudsTest(unittest.TestCase):
    def test_clouds_that_go_from_light_to_as_dark_as_the_ground_are_sky(self):
        """Over a place whose points all lie below the horizon, nothing high up is a thing."""
        demo, rng = files.read(DEMO), np.random.default_rng(4)
        count = len(demo.solve.frames)
        xyz = np.concatenate([rng.uniform([-9, 6], [9, 20], (400, 2)), np.full((400, 1), -1.5)], 1)
        R = np.repeat(np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]])[None], count, 0)
        t = -np.einsum("kij,kj->ki", R, np.linspace([-1.5, 0, 0], [1.5, 0, 0], count))
        told = {"point_ids": np.arange(400, dtype=np.int32), "point_error": np.full(400, 0.1), "uprights": np.zeros((0, 5))}
        solve = msgspec.structs.replace(demo.solve, R=R, t=t, xyz=xyz, colours=np.zeros((0, 3), np.uint8), **told)
        shot = rebased(msgspec.structs.replace(demo, objects=(), mattes=()), solve=solve, ground=Ground())
        y, x = np.mgrid[:720, :1280].astype(np.float32)
        light = ((x / 1280)[..., None] * np.float32([0.75, 0.74, 0.73]) + np.float32([0.1, 0.08, 0.07])).astype(np.float32)
        light[y > 360] = rng.uniform(0.03, 0.2, ((y > 360).sum(), 1)) * np.float32([1, 0.9, 0.8])
        told_by = sky_key(shot, light, 46)
        self.assertGreater(float(keyed_cover(told_by, light, 46)[:350].mean()), 0.97)
        darker = light * np.float32([0.5, 0.5, 0.6])
        self.assertLess(float(keyed_cover(told_by, darker, 46)[:350].mean()), 0.95)
        both = with_sky_of(told_by, shot, darker, 20)
        self.assertGreater(float(keyed_cover(both, darker, 46)[:350].mean()), 0.97)


class SmallPictureTest(unittest.TestCase):
    def test_a_point_on_the_rim_of_a_white_dome_takes_no_cloud_along_at_the_size_of_a_window(self):
        """Seen in a window: a piece of the old sky stayed on top of the dome, where a mark lies on its rim."""
        self.addCleanup(close_workshop)
        demo = msgspec.structs.replace(files.read(DEMO), objects=())
        light = light_of(frame(demo, 46, layer="plate").pixels, demo.plate.transfer)
        shot = with_new_sky(demo, OldSky(sky_key(demo, light, 46)))
        small, whole = (frame(shot, 46, layer="matte", mattes=(shot.mattes[-1].id,), scale=scale).pixels for scale in (790 / 1280, 1.0))
        other = cv2.resize(whole, small.shape[::-1], interpolation=cv2.INTER_AREA)
        top = np.s_[40:90, 110:230]
        self.assertLess(float((np.abs(small - other)[top] > 0.5).mean()), 0.004)


class TurnTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.addClassCleanup(close_workshop)
        cls.folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.folder.cleanup)
        cls.shot = files.read(DEMO)
        camera = camera_at(cls.shot, 46)
        ahead = camera.R[2]
        cls.azimuth = float(np.rad2deg(np.arctan2(ahead[0], ahead[1])))
        # dots on a panorama of the full sphere, 5 px for each degree
        wide, high = 3600, 1800
        y, x = np.mgrid[:high, :wide]
        cls.dots = [(cls.azimuth + a, h) for a, h in ((-14, 6), (0, 9), (12, 5))]
        picture = np.zeros((high, wide))
        for a, h in cls.dots:
            u, v = ((a / 360 + 0.5) % 1) * wide - 0.5, (90 - h) / 180 * high - 0.5
            picture += np.exp(-((x - u) ** 2 + (y - v) ** 2) / (2 * 2.0**2))
        cls.path = str(Path(cls.folder.name) / "dots.png")
        codes = encode(np.clip(picture, 0, 1), "srgb")
        cv2.imwrite(cls.path, np.repeat(np.round(255 * codes).astype(np.uint8)[..., None], 3, 2))
        cls.backdrop = Backdrop(on=True, kind="picture", picture=cls.path, soft=constant(0.0))

    def found(self, shot, index, dot, quality="draft"):
        """Centre of a dot in the picture of the sky, px, and where the camera sees its direction."""
        camera = camera_at(shot, index)
        at = camera.project(camera.centre + 1e6 * direction(*dot))[0]
        sky = sky_of(shot, index, WHOLE, QUALITIES[quality], (0, 0, 1280, 720), ALL)[..., 1]
        x, y = np.round(at).astype(int)
        part = sky[y - 25 : y + 26, x - 25 : x + 26].astype(float)
        v, u = np.mgrid[y - 25 : y + 26, x - 25 : x + 26]
        return np.array([(u * part).sum(), (v * part).sum()]) / part.sum(), at

    def test_it_turns_with_the_camera_and_bends_with_its_lens(self):
        shot = msgspec.structs.replace(self.shot, backdrop=self.backdrop)
        seen = 0
        for index in (0, 46, 99):
            for dot in self.dots:
                camera = camera_at(shot, index)
                xy = camera.project(camera.centre + 1e6 * direction(*dot))[0]
                if not (30 < xy[0] < 1250 and 30 < xy[1] < 690):
                    continue
                seen += 1
                place, at = self.found(shot, index, dot)
                self.assertLess(np.linalg.norm(place - at), 0.2, (index, dot))
        self.assertGreater(seen, 5)

    def test_heading_drift_and_tilt_move_it_as_they_say(self):
        dot = self.dots[1]
        for fields, moved in (
            ({"heading": constant(5.0)}, (dot[0] + 5, dot[1])),
            ({"drift": constant(2.0)}, (dot[0] + 2 * 46 / 25, dot[1])),
        ):
            shot = msgspec.structs.replace(self.shot, backdrop=msgspec.structs.replace(self.backdrop, **fields))
            place, at = self.found(shot, 46, moved)
            self.assertLess(np.linalg.norm(place - at), 0.3, fields)
        up = turn_of(Backdrop(tilt=constant(10.0)), 0, 0.0).T @ np.array([0.0, 1.0, 0.0])
        self.assertAlmostEqual(float(np.rad2deg(np.arcsin(up[2]))), 10.0, places=6)

    def test_what_is_dragged_goes_along(self):
        before, now = direction(20, 10), direction(27, 13)
        shot = turned_sky(msgspec.structs.replace(self.shot, backdrop=self.backdrop), "backdrop", 46, before, now, "here")
        self.assertAlmostEqual(shot.backdrop.heading.value[0], 7.0, places=2)
        self.assertAlmostEqual(shot.backdrop.tilt.value[0], 3.0, places=2)

    def test_its_sun_is_put_where_the_shadows_say(self):
        shot = msgspec.structs.replace(self.shot, backdrop=Backdrop(on=True, kind="clear"))
        put = with_sun_in_place(shot, 46, "here")
        sun = sun_of(shot)
        d = turn_of(put.backdrop, 46, 0.0) @ direction(sun.bearing.at(46)[0], sun.height.at(46)[0])
        light = made("clear")
        row = int((90 - np.rad2deg(np.arcsin(d[2]))) / (90 - LOWEST_DEG) * len(light))
        column = int((np.arctan2(d[0], d[1]) / (2 * np.pi) + 0.5) * light.shape[1])
        self.assertGreater(float(light[row, column].min()), 20)  # the disc of the sun, and nothing else, is so bright
        for backdrop, lamps in ((self.backdrop, shot.lamps), (shot.backdrop, ())):
            with self.assertRaises(UserError):
                with_sun_in_place(msgspec.structs.replace(shot, backdrop=backdrop, lamps=lamps), 46, "here")

    def test_softness_and_edges_take_nothing_dark_from_beyond_the_cover(self):
        even = str(Path(self.folder.name) / "even.png")
        cv2.imwrite(even, np.full((90, 180, 3), 188, np.uint8))
        part = ALL.copy()
        part[:, 640:] = 0
        for soft in (0.0, 0.6, 8.0):
            shot = msgspec.structs.replace(self.shot, backdrop=msgspec.structs.replace(self.backdrop, picture=even, soft=constant(soft)))
            light = sky_of(shot, 46, WHOLE, QUALITIES["draft"], (0, 0, 1280, 720), part)[:200, :642, 1]  # and two px past it, where an edge may lie
            self.assertLess(float(np.ptp(light)), 0.005, soft)

    def test_nothing_of_it_lies_under_the_horizon(self):
        shot = msgspec.structs.replace(self.shot, backdrop=self.backdrop)
        over = sky_of(shot, 46, WHOLE, QUALITIES["draft"], (0, 0, 1280, 720), ALL)[..., 3]
        camera = camera_at(shot, 46)
        y, x = np.mgrid[0:720:40, 0:1280:40]
        up = camera.rays(np.stack([x, y], -1).astype(float))[..., 2]
        seen = over[0:720:40, 0:1280:40]
        self.assertTrue((seen[up > 0.01] == 1).all() and (seen[up < -0.01] == 0).all())

    def test_where_the_ground_falls_away_it_goes_on_as_it_is_at_the_horizon(self):
        panorama = np.zeros((180, 360, 3), np.uint8)
        panorama[:91] = 188  # white over its horizon, black under it
        path = str(Path(self.folder.name) / "half.png")
        cv2.imwrite(path, panorama)
        shot = msgspec.structs.replace(self.shot, backdrop=msgspec.structs.replace(self.backdrop, picture=path, horizon=constant(-4.0)))
        seen = sky_of(shot, 46, WHOLE, QUALITIES["draft"], (0, 0, 1280, 720), ALL)
        y, x = np.mgrid[0:720, 0:1280]
        up = np.rad2deg(np.arcsin(camera_at(shot, 46).rays(np.stack([x, y], -1).astype(float))[..., 2]))
        self.assertTrue((seen[up > -3.7][:, 3] == 1).all() and (seen[up < -4.3][:, 3] == 0).all())
        self.assertGreater(float(seen[(up > -3.7) & (up < -0.5)][:, :3].min()), 0.45)

    def test_a_picture_that_is_gone_is_told(self):
        gone = msgspec.structs.replace(self.backdrop, picture="/none/sky.png", mattes=("a",))
        shot = msgspec.structs.replace(self.shot, backdrop=gone, mattes=(box("a", 0, 0, 1279, 200),))
        with self.assertRaises(PlateError):
            frame(shot, 46, "draft")


class MadeTest(unittest.TestCase):
    def test_the_skies_that_are_made_here_go_on_all_round(self):
        for kind in KINDS[:-1]:
            light = made(kind)
            self.assertTrue(np.isfinite(light).all() and light.min() >= 0, kind)
            seam = np.abs(light[:, 0] - light[:, -1]).mean()
            beside = np.abs(light[:, 1:] - light[:, :-1]).mean()
            self.assertLess(seam, 4 * beside + 1e-3, kind)
        clear = made("clear")
        self.assertGreater(float(clear[-40:].mean()), float(clear[:40].mean()))  # the horizon is brighter than the zenith
        self.assertGreater(float(clear[100, :, 2].mean()), 1.5 * float(clear[100, :, 0].mean()))  # and that is blue


class UnsteadyTest(unittest.TestCase):
    def test_something_that_shifts_is_told_from_the_sky_that_it_hides_for_a_while(self):
        rng = np.random.default_rng(4)
        sky = cv2.GaussianBlur(rng.uniform(150, 190, (90, 200, 3)), (0, 0), 3).astype(np.uint8)
        where = np.dstack(np.meshgrid(np.arange(200), np.arange(90))).astype(np.float32)

        def at(left):
            picture = sky.copy()
            picture[20:70, left : left + 24] = 230
            return picture

        found = unsteady(at(88), (at(58), where), (at(118), where))
        self.assertGreater(found[24:66, 92:108].mean(), 0.95)
        self.assertFalse(found[:, :86].any() or found[:, 114:].any(), "the sky is seen in one of the two, at least")
        # what leaves the picture says nothing
        self.assertFalse(unsteady(at(88), (at(58), (where - [150, 0]).astype(np.float32)), (at(118), where)).any())


class EdgeTest(unittest.TestCase):
    def test_an_edge_is_what_the_two_sides_make_of_it(self):
        """A soft edge between a front and an old sky is put before a new one; against the exact result."""
        rng = np.random.default_rng(0)
        x = np.arange(200)[None, :] + 0 * np.arange(60)[:, None]
        alpha = np.clip((x - 97) / 6, 0, 1).astype(np.float32)  # of the sky, to the right
        front, old, new = (np.array(c, np.float32) for c in ((0.08, 0.10, 0.05), (0.45, 0.55, 0.75), (0.05, 0.04, 0.08)))
        light = front + alpha[..., None] * (old - front) + rng.normal(0, 0.003, (60, 200, 3)).astype(np.float32)
        keyed = np.clip((x - 95) / 5, 0, 1).astype(np.float32)  # a key that takes too much
        inside, outside = x > 106, x < 92
        back, _ = smooth(light, inside, 1.0)
        share = np.where(inside | outside, keyed, _edge(light, back, smooth(light, outside, 1.0)[0], keyed))
        exact = front + alpha[..., None] * (new - front)
        off = lambda share: np.abs(light + share[..., None] * (new - back) - exact)[:, 93:106].mean()
        self.assertLess(off(share), 0.006)
        self.assertGreater(off(keyed), 0.03)

    def test_colour_that_a_clip_carries_over_an_edge_goes_with_the_old_sky(self):
        """Colour at half the size, as in 4:2:0 (ITU-T H.264, 6.2), smears the old sky's blue over 2 px of what stands before it; against the exact
        result before a dark sky, by colour alone."""
        rng = np.random.default_rng(1)
        x = np.arange(200)[None, :] + 0 * np.arange(60)[:, None]
        alpha = np.clip((x - 98.5) / 2, 0, 1).astype(np.float32)
        front, old, new = (np.array(c, np.float32) for c in ((0.34, 0.37, 0.31), (0.40, 0.53, 0.73), (0.11, 0.06, 0.05)))
        exact = front + alpha[..., None] * (new - front)
        light = front + alpha[..., None] * (old - front) + rng.normal(0, 0.003, (60, 200, 3)).astype(np.float32)
        grey = light.mean(-1, keepdims=True)
        coded = grey + cv2.blur(light - grey, (5, 1))
        found = _mixed(coded, np.broadcast_to(new, coded.shape), np.clip((x - 97.5) / 2, 0, 1).astype(np.float32), 1.0, np.float32(1))
        tint = lambda a: a / a.sum(-1, keepdims=True)
        off = lambda a: np.abs(tint(a) - tint(exact))[:, 96:99].mean()
        self.assertLess(off(found), 0.003)
        self.assertGreater(off(coded + alpha[..., None] * (new - old)), 0.01)
        self.assertLess(float(np.abs(found - exact)[:, :90].max()), 0.02, "what lies beyond the edge stays")

    def test_out_of_haze_the_new_sky_comes_bit_by_bit_and_at_an_edge_at_once(self):
        """Left a ridge before the sky, as far from it in brightness as white walls from white clouds are; right haze, into which the sky goes over. Law of the
        haze: H. Koschmieder, Theorie der horizontalen Sichtweite, 1924: what is far has exponentially less of its own light."""
        y, x = np.mgrid[:200, :400]
        sky = 0.5 + 0.3 * np.exp(-(200 - y) / 60.0)
        light = np.repeat(np.where((x < 200) & (y >= 120), 0.87 * sky, sky)[..., None], 3, -1).astype(np.float32)
        light += np.random.default_rng(4).normal(0, 0.004, light.shape).astype(np.float32)
        share = np.clip((121.5 - y) / 3, 0, 1).astype(np.float32)
        out = _out_of_haze(light, share, Size(1280, 720, 1.0))
        self.assertGreater(float(out[:, :150].min()), 0.98)
        column = out[:, 260:].mean(1)
        self.assertLess(column[119:].max(), 0.1)
        self.assertGreater(column[:64].min(), 0.99)
        self.assertLess(np.abs(np.diff(column)).max(), 0.08)
        self.assertIsNone(_out_of_haze(light[:, :190], share[:, :190], Size(1280, 720, 1.0)))
        # one dot of a ridge that is as bright as the cloud behind it is no haze
        light[118:126, 80:100] = sky[118:126, 80:100, None]
        self.assertIsNone(_out_of_haze(light[:, :190], share[:, :190], Size(1280, 720, 1.0)))

    def test_a_darker_sky_has_less_of_the_grain(self):
        rng = np.random.default_rng(2)
        light = 0.64 + rng.normal(0, 0.02, (80, 80, 3)).astype(np.float32)
        found = _mixed(light, np.full_like(light, 0.04), np.ones((80, 80), np.float32), 1.0, np.float32(1))
        # noise of light that comes in grains goes by the root of it (Poisson)
        self.assertAlmostEqual(float(found[20:60, 20:60].std() / light[20:60, 20:60].std()), (0.04 / 0.64) ** 0.5, delta=0.02)


class InShotTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.addClassCleanup(close_workshop)
        demo = msgspec.structs.replace(files.read(DEMO), objects=())
        cls.light = light_of(frame(demo, 46, layer="plate").pixels, demo.plate.transfer)
        cls.key = sky_key(demo, cls.light, 46)
        cls.demo, cls.shot = demo, with_new_sky(demo, OldSky(cls.key))
        cls.key = cls.shot.mattes[-1]
        cls.shot = msgspec.structs.replace(cls.shot, backdrop=msgspec.structs.replace(cls.shot.backdrop, kind="dusk"))

    def picture_of_a_sky(self, ground: float, water: float | None = None) -> np.ndarray:
        """Linear light of a hazy sky down to rough ground that ends about `ground` degrees over the horizon, with water as bright as most of the sky
        between it and the horizon, where its share of the sky's light is given."""
        y, x = np.mgrid[0:720, 0:1280]
        rays = camera_at(self.demo, 46).rays(np.stack([x, y], -1).astype(float))
        up = np.rad2deg(np.arcsin(rays[..., 2]))
        rng = np.random.default_rng(6)
        haze = np.exp(-np.abs(up) / 8)[..., None]
        light = (1 - haze) * np.array([0.3, 0.45, 0.8]) + haze * np.array([0.55, 0.65, 0.8])
        if water is not None:
            light[up < 0] *= water
        earth = up < ground + 0.4 * np.sin(np.arctan2(rays[..., 0], rays[..., 1]) * 30)
        light[earth] = np.array([0.12, 0.14, 0.06]) * (0.5 + rng.random((int(earth.sum()), 1)))
        return (cv2.GaussianBlur(light, (0, 0), 0.7) * (1 + 0.01 * rng.standard_normal((720, 1280, 1)))).astype(np.float32)

    def test_sky_is_followed_down_over_ground_that_falls_away_but_not_into_water(self):
        lowest = {}
        for name, light in (
            ("falls away", self.picture_of_a_sky(-3.0)),
            ("rises", self.picture_of_a_sky(2.0)),
            ("sea to the shore", self.picture_of_a_sky(-4.0, 0.9)),
            ("water without an end", self.picture_of_a_sky(-60.0, 0.97)),
        ):
            lowest[name] = lowest_sky(self.demo, light, 46, sky_key(self.demo, light, 46))
        self.assertEqual((lowest["rises"], lowest["sea to the shore"], lowest["water without an end"]), (0, 0, 0))
        self.assertAlmostEqual(lowest["falls away"], -3.7, delta=0.25)
        shot = with_new_sky(self.demo, OldSky(self.key, -3.7))
        below = lambda shot: float(around_at(shot, 46, 1280, 720, 1.0).below.mean())
        self.assertLess(below(shot), below(self.shot) - 0.02)

    def test_haze_has_the_colour_of_the_farthest_ground(self):
        light = self.picture_of_a_sky(2.0)
        y = np.mgrid[0:720, 0:1280][0]
        light[y > 500] = (0.5, 0.1, 0.1)  # nearer, and of another colour
        key = sky_key(self.demo, light, 46)
        np.testing.assert_allclose(far_ground(self.demo, light, 46, key, 0.0)[0], (0.12, 0.14, 0.06), atol=0.02)
        shot = with_new_sky(self.demo, OldSky(key, far=((0.1, 0.2, 0.3), 0.4)))
        self.assertEqual((shot.backdrop.haze_colour, shot.backdrop.haze), ((0.1, 0.2, 0.3), constant(0.4)))
        light[y > 560] = key.samples[0]  # water
        np.testing.assert_allclose(far_ground(self.demo, light, 46, key, 0.0)[0], (0.12, 0.14, 0.06), atol=0.02)
        self.assertIsNone(far_ground(self.demo, np.zeros_like(light), 46, key, 0.0), "nothing of it is sky")

    def test_so_much_haze_as_the_farthest_ground_has(self):
        """Of what is far, a share of its own light is seen, and the rest is the sky's (Koschmieder); what is near shows its own. Hills that stand
        high over the horizon are nearer, and do not count."""
        y, x = np.mgrid[0:720, 0:1280]
        up = np.rad2deg(np.arcsin(camera_at(self.demo, 46).rays(np.stack([x, y], -1).astype(float))[..., 2]))
        own, sky = np.array([0.10, 0.12, 0.05]), np.array([0.55, 0.65, 0.8])
        for share in (0.0, 0.3, 0.7):
            light = np.where((up < 1.0)[..., None], (1 - share) * own + share * sky, sky)
            light[up < -1.0] = own
            light[(up < 6.0) & (x < 400)] = own
            light = cv2.GaussianBlur(light, (0, 0), 0.7).astype(np.float32)
            key = sky_key(self.demo, light, 46)
            self.assertAlmostEqual(far_ground(self.demo, light, 46, key, 0.0)[1], share, delta=0.03)

    def test_a_new_sky_is_as_bright_as_the_old_one(self):
        brightness = np.array([0.2126, 0.7152, 0.0722])
        heights = 90 - (90 - LOWEST_DEG) * (np.arange(made("clear").shape[0]) + 0.5) / made("clear").shape[0]
        for kind in LUMINANCE:
            self.assertAlmostEqual(LUMINANCE[kind] / float(np.median(made(kind)[(heights > 0) & (heights < 30)] @ brightness)), 1, delta=0.03)
        light = self.picture_of_a_sky(2.0)
        for stops, kinds in ((0.0, ("clear", "overcast")), (-3.0, KINDS)):
            dark = (light * np.float32(2**stops)).astype(np.float32)
            key = sky_key(self.demo, dark, 46)
            shot = with_new_sky(self.demo, OldSky(key, luminance=sky_luminance(dark, 46, key)))
            for kind in kinds:
                shot = with_kind_of_sky(shot, kind)
                seen = sky_of(shot, 46, WHOLE, QUALITIES["draft"], (0, 0, 1280, 720), ALL)[:120, 200:400, :3]
                off = np.log2(np.median(seen @ brightness) / np.median(dark[:120, 200:400] @ brightness))
                self.assertAlmostEqual(float(off), 0, delta=0.8, msg=kind)
        white = with_kind_of_sky(with_new_sky(self.demo, OldSky(self.key, luminance=1.0)), "dusk")
        self.assertEqual(white.backdrop.exposure.at(0), (0.5,), "an old sky that is cut at white does not wash out the new one")
        mine = msgspec.structs.replace(shot.backdrop, exposure=shot.backdrop.exposure.with_key(0, (1.0,)).with_key(9, (2.0,)))
        keyed = with_kind_of_sky(msgspec.structs.replace(shot, backdrop=mine), "clear")
        self.assertEqual(keyed.backdrop.exposure, mine.exposure, "what is keyed stays")
        mine = msgspec.structs.replace(shot.backdrop, exposure=constant(-2.5))
        self.assertEqual(with_kind_of_sky(msgspec.structs.replace(shot, backdrop=mine), "clear").backdrop.exposure.at(0), (-2.5,), "and what was set")

    def test_a_picture_as_a_new_sky_is_as_bright_as_the_old_one(self):
        shot = with_new_sky(self.demo, OldSky(self.key, luminance=0.2))
        with tempfile.TemporaryDirectory() as folder:
            for high, wide, covers in ((90, 160, 70.0), (80, 160, 360.0)):
                codes = np.full((high, wide, 3), 40, np.uint8)
                codes[: high // 2] = 188  # half of white, sRGB (IEC 61966-2-1)
                path = str(Path(folder) / f"{covers}.png")
                cv2.imwrite(path, codes)
                sky = read_sky(path)
                self.assertEqual(sky.width, covers)
                self.assertAlmostEqual(sky.luminance, 0.5, delta=0.005)
                there = with_picture_of_sky(shot, sky, 46, "here").backdrop
                self.assertEqual((there.kind, there.picture), ("picture", path))
                self.assertAlmostEqual(there.exposure.at(0)[0], np.log2(0.2 / 0.5), delta=0.02)
                self.assertEqual(there.width.at(46), (covers,))
                wider = msgspec.structs.replace(shot, backdrop=msgspec.structs.replace(there, width=constant(95.0), kind="dusk"))
                self.assertEqual(with_picture_of_sky(wider, sky, 46, "here").backdrop.width.at(46), (95.0,), "as it was set by hand")

    def test_a_wall_in_the_sky_that_looks_like_the_ground_is_no_colour_of_it(self):
        light = self.picture_of_a_sky(2.0)
        y = np.mgrid[0:720, 0:1280][0]
        stone = np.array([0.48, 0.5, 0.45])
        light[y > 420] = stone
        light[:120, 500:900] = stone
        cover = keyed_cover(sky_key(self.demo, light, 46), light, 46)
        self.assertGreater(float(cover[20:100, 20:480].mean()), 0.95)
        self.assertLess(float(cover[10:110, 510:890].mean()), 0.05)

    def test_the_old_sky_is_found_and_only_it_changes(self):
        cover = frame(self.shot, 46, layer="matte", mattes=(self.key.id,)).pixels
        self.assertGreater(cover[10:80, :100].mean(), 0.95)
        before, after = (frame(s, 46).pixels for s in (self.demo, self.shot))
        untouched = cv2.dilate(cover, np.ones((9, 9))) == 0
        np.testing.assert_array_equal(before[untouched], after[untouched])
        self.assertGreater(float(np.abs(before[10:80, :100].astype(int) - after[10:80, :100]).mean()), 40)
        self.assertFalse(self.key.hides)

    def test_white_walls_that_the_camera_saw_near_stay(self):
        """By solved points: those of the domes, which are as white as clouds, and of paving, which a key by colour alone takes along."""
        for index in (20, 46, 92):
            around = around_at(self.demo, index, 1280, 720, 1.0)
            x, y = np.round(around.pixels).astype(int).T
            inside = (x >= 0) & (x < 1280) & (y >= 0) & (y < 720)
            covered = []
            for far in (False, True):
                key = msgspec.structs.replace(self.key, far=far)
                shot = msgspec.structs.replace(self.demo, mattes=(*self.demo.mattes, key))
                cover = frame(shot, index, layer="matte", mattes=(key.id,)).pixels
                covered.append(float(cover[y[inside], x[inside]].mean()))
                self.assertGreater(cover[4:60, 4:100].mean(), 0.97)
                if far:
                    self.assertEqual(float(cover[300:].max()), 0.0, "under the horizon")
            self.assertGreater(covered[0], 0.04)
            self.assertLess(covered[1], 0.01)

    def test_what_other_frames_show_elsewhere_is_near_also_without_points(self):
        """A strip of the left dome on which no point was tracked, as white as clouds, between its dark slit and the sky."""
        cover = frame(self.shot, 20, layer="matte", mattes=(self.key.id,)).pixels
        self.assertLess(float(cover[166:230, 97:110].max()), 0.05)
        self.assertGreater(float(cover[40:100, 20:110].min()), 0.9)

    def test_at_the_ends_of_a_shot_what_the_nearest_frames_tell_is_carried_along(self):
        """The left part of the left dome, as white as clouds, in a frame with no frame a quarter of a second before it."""
        for index in (2, 3):
            cover = frame(self.shot, index, layer="matte", mattes=(self.key.id,)).pixels
            self.assertLess(float(cover[170:230, 60:75].mean()), 0.05)
            self.assertGreater(float(cover[20:90, 20:110].min()), 0.9)

    def test_what_is_near_lies_where_the_solved_points_by_it_do(self):
        where = carried_to(self.demo, 0, 6, 1280, 720)
        around, there = around_at(self.demo, 0, 1280, 720, 1.0), camera_at(self.demo, 6)
        camera, checked = camera_at(self.demo, 0), 0
        for pixel, depth in list(zip(around.pixels, around.depths))[::25]:
            x, y = np.round(pixel).astype(int)
            if 8 <= x < 1272 and 8 <= y < 712:
                point = camera.centre + camera.rays(pixel[None])[0] * depth / (camera.rays(pixel[None])[0] @ camera.R[2])
                checked += np.linalg.norm(where[y, x] - there.project(point[None])[0][0]) < 2.5
        self.assertGreater(checked, 10)

    def test_what_is_far_lies_where_the_camera_has_turned_it(self):
        where = turned_to(self.demo, 20, 46, 640, 360)
        camera, there = camera_at(self.demo, 20), camera_at(self.demo, 46)
        for x, y in ((13.0, 7.0), (301.0, 55.0), (611.0, 130.0)):
            ray = camera.rays(np.array([[2 * x + 0.5, 2 * y + 0.5]]))[0]
            pixel, _ = there.project(there.centre + 1e7 * ray)
            np.testing.assert_allclose(2 * where[int(y), int(x)] + 0.5, pixel, atol=0.05)

    def test_the_grain_of_the_plate_stays(self):
        fine = lambda p: float(np.std(p - cv2.GaussianBlur(p, (0, 0), 2)))
        part = np.s_[20:70, 20:100, 1]
        before = light_of(frame(self.demo, 46).pixels, "srgb")[part]
        still = msgspec.structs.replace(self.shot.backdrop, kind="clear", heading=constant(180.0))
        found = {
            g: light_of(frame(msgspec.structs.replace(self.shot, backdrop=msgspec.structs.replace(still, grain=constant(g))), 46).pixels, "srgb")[
                part
            ]
            for g in (0.0, 1.0)
        }
        self.assertLess(fine(found[0.0]), 0.5 * fine(before))
        share = fine(found[1.0]) / fine(before) / np.sqrt(found[0.0].mean() / before.mean())  # less light has less noise, by its root
        self.assertTrue(0.7 < share < 1.3, share)

    def test_it_is_seen_nowhere_without_a_matte_and_off_it_costs_nothing(self):
        for backdrop in (msgspec.structs.replace(self.shot.backdrop, mattes=()), msgspec.structs.replace(self.shot.backdrop, on=False)):
            shot = msgspec.structs.replace(self.shot, backdrop=backdrop)
            np.testing.assert_array_equal(frame(shot, 46).pixels, frame(self.demo, 46).pixels)

    def test_colours_are_found_anew_for_the_same_key(self):
        again = with_new_sky(self.shot, OldSky(sky_key(self.demo, self.light, 46)))
        self.assertEqual([m.id for m in again.mattes], [m.id for m in self.shot.mattes])

    def test_a_camera_that_looks_down_has_no_sky(self):
        turned = [with_ground(self.demo, msgspec.structs.replace(self.demo.ground, turned=(0.0, pitch, 0.0))) for pitch in (70.0, -70.0)]
        rise = lambda shot: camera_at(shot, 46).rays(np.array([640.0, 360.0]))[2]
        down = min(turned, key=rise)
        self.assertLess(rise(down), -0.5)
        with self.assertRaises(UserError):
            sky_key(down, self.light, 46)

    def test_as_the_document_writes_it(self):
        tree = json.loads(example("docs/shot-file.md", "sky"))
        shot = by_hand(self.demo, tree)
        before, after = (frame(s, 46, "draft").pixels.astype(int) for s in (self.demo, shot))
        self.assertGreater(np.abs(before - after)[10:60, 20:120].mean(), 40)
        np.testing.assert_array_equal(before[20:130, 760:960], after[20:130, 760:960])  # the dome, which an outline keeps

    def test_it_is_kept_in_the_file(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "sky.lode"
            picture = Path(folder) / "sky.png"
            shot = msgspec.structs.replace(self.shot, backdrop=msgspec.structs.replace(self.shot.backdrop, picture=str(picture)))
            files.write(shot, path)
            self.assertEqual(files.read(path).backdrop, shot.backdrop)
            with zipfile.ZipFile(path) as file:
                tree = json.loads(file.read("shot.json"))
            self.assertEqual(tree["backdrop"]["picture"], "sky.png")


if __name__ == "__main__":
    unittest.main()
