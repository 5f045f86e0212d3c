"""The first click of somebody new: wherever it falls on a demo clip or past water that moves, all of the title is seen."""

import json
import unittest

import msgspec
import numpy as np
from scipy.spatial import Delaunay

from lodestar.core.basics.job import Job
from lodestar.core.basics.keyed import constant
from lodestar.core.edits.arrange import added, dropped
from lodestar.core.edits.placing import Spot, title_at
from lodestar.core.edits.settle import with_ground
from lodestar.core.evaluate.cameras import camera_at, scene_frame
from lodestar.core.evaluate.ground import borne_ground, covered, hidden_share, trusted_points
from lodestar.core.evaluate.objects import mesh_of, model_of, pose_of
from lodestar.core.evaluate.pointing import HIDDEN, Points, ground_under, placed_whole, surface_under
from lodestar.core.media.plates import PlateInfo, probe
from lodestar.core.picture.frame import frame
from lodestar.core.picture.workshop import close_workshop
from lodestar.core.scene.ground import Ground, found_level, points_across_view, proposal
from lodestar.core.scene.poses import moved
from lodestar.core.shape.extrude import Mesh
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot, rebased, with_plate
from lodestar.core.shot.objects import Title
from lodestar.core.solve.camera import solve
from lodestar.core.solve.result import SolveSettings
from lodestar.core.track.tracks import make_tracks
from lodestar.core.work.solving import solve_shot
from lodestar.core.work.tracking import track_shot
from tests.helpers import DEMO, ROOT, SHOTS, Seeded, looked_down_on


def levelled(shot: Shot) -> Shot:
    """As after 'Level is right'."""
    found, _ = proposal(shot.solve)
    return with_ground(shot, msgspec.structs.replace(shot.ground, on_ground=found.on_ground, uprights=found.uprights))


def clicked(shot: Shot, index: int, pixel) -> tuple[Shot, Title] | None:
    """A title placed by a click, as the tool does it; None where there is no surface."""
    camera = camera_at(shot, index)
    points = Points(scene_frame(shot).points(shot.solve.xyz), None)
    pixel = np.array(pixel, float)
    patch = surface_under(shot, camera, pixel, points)
    if patch is None:
        return None

    make = lambda patch: title_at(Spot(shot, camera, patch, index))
    ground = ground_under(shot, camera, pixel, points.places)
    item, _ = placed_whole(shot, make, patch, ground, lambda made: hidden_share(added(shot, made), made, index), index)
    return added(shot, item), item


def corners(shot: Shot, item: Title, index: int) -> np.ndarray:
    return moved(model_of(shot, item, index), mesh_of(item, index).vertices.astype(float))


class ClickCase(unittest.TestCase):
    def ten_clicks(self, shot: Shot, seed: int) -> None:
        rng, done = np.random.default_rng(seed), 0
        width, height = shot.plate.width, shot.plate.height
        for _ in range(60):
            index = int(rng.choice(shot.solve.frames))
            placed = clicked(shot, index, (rng.uniform(0.02, 0.98) * width, rng.uniform(0.02, 0.98) * height))
            if placed is None:
                continue
            done += 1
            self.assertLessEqual(hidden_share(*placed, index), 0.03, f"click {done} in frame {index}")
            xy = camera_at(shot, index).project(corners(*placed, index))[0]
            seen = (xy >= 0).all() and (xy < [width, height]).all()
            self.assertTrue(seen, f"click {done} in frame {index}: {xy.min(0).round()} to {xy.max(0).round()} px")
            if done == 10:
                return
        self.fail(f"only {done} clicks of 60 met a surface")


class NewClipTest(ClickCase):
    """The fell from the air, tracked and solved as by somebody new."""

    @classmethod
    def setUpClass(cls):
        shot = msgspec.structs.replace(with_plate(Shot(), probe(SHOTS / "ridge.mp4")), last=49)
        cls.shot = solve_shot(track_shot(shot, Job()), Job())

    def off(self, shot: Shot) -> float:
        """Degrees between the up of a shot and the true one."""
        frames = json.loads((SHOTS / "ridge.camera.json").read_text())["frames"]
        both = [(camera_at(shot, int(f)).R[:, 2], np.array(frames[int(f)]["R"])[:, 2]) for f in shot.solve.frames]
        return float(np.median([np.rad2deg(np.arccos(np.clip(own @ true, -1, 1))) for own, true in both]))

    def test_it_is_level_on_a_slope(self):
        ground, words = proposal(self.shot.solve)
        self.assertLess(self.off(self.shot), 1.0)
        self.assertLess(self.off(with_ground(self.shot, ground)), 1.0)
        # the fell slopes by four degrees: its plane alone would lean the scene
        self.assertIn("slopes", words)
        bare = msgspec.structs.replace(self.shot.solve, uprights=np.zeros((0, 5)))
        lean = np.rad2deg(np.arccos(np.clip(found_level(bare)[1] @ found_level(self.shot.solve)[1], -1, 1)))
        self.assertGreater(lean, 2.0)

    def test_all_of_a_title_is_seen(self):
        self.ten_clicks(levelled(self.shot), 0)


class FirstClickTest(ClickCase):
    def test_on_the_demo(self):
        demo = msgspec.structs.replace(files.read(DEMO), objects=(), mattes=())
        self.ten_clicks(demo, 1)

    def test_what_was_moved_to_be_seen_faces_the_camera_from_where_it_stands(self):
        demo = msgspec.structs.replace(files.read(DEMO), objects=(), mattes=())
        shot, item = clicked(demo, 46, (30, 560))
        camera, at = camera_at(shot, 46), np.array(item.position.value)
        self.assertGreater(camera.project(at)[0][0], 150)  # it was moved
        front, towards = -pose_of(shot, item, 46)[:2, 1], (camera.centre - at)[:2]
        self.assertGreater(front @ towards / np.linalg.norm(front) / np.linalg.norm(towards), np.cos(np.deg2rad(0.2)))

    def test_on_the_trial_shots(self):
        for seed, name in enumerate(("lake", "river", "drone")):
            with self.subTest(name):
                shot = files.read(ROOT / "tests" / "data" / "trials" / f"{name}.lode")
                self.assertEqual(shot.solve.motion, "free")
                self.ten_clicks(levelled(shot), seed)

    def test_past_water_that_moves(self):
        """Tracks on water end up below the ground that was levelled, or above it: half of all tracks, drifting."""
        for seed in (3, 4):
            s = Seeded(seed, frames=60, tracks=500, life=30, moving=0.0, drift=(0.8, 0.5))
            tracks = make_tracks(s.frame, s.track, s.xy)
            shot = with_plate(Shot(), PlateInfo("none.mp4", 1280, 720, 60, (25, 1)))
            shot = rebased(shot, tracks=tracks, solve=solve(tracks, 1280, 720, SolveSettings(), Job()))
            self.ten_clicks(levelled(shot), seed)


class LookingDownTest(unittest.TestCase):
    """Ground that a camera looks straight down on is hardly told from a wall: it is offered, and things lie on it."""

    @classmethod
    def setUpClass(cls):
        cls.demo = files.read(DEMO)
        cls.shot = looked_down_on(cls.demo)
        rows = points_across_view(cls.shot.solve)
        cls.down = with_ground(cls.shot, Ground(on_ground=tuple(int(i) for i in cls.shot.solve.point_ids[rows])))

    def test_the_plane_across_the_view_is_found_where_the_ground_holds_few_points(self):
        rows = points_across_view(self.shot.solve)
        self.assertGreater(len(rows), 190)
        self.assertGreater(np.mean(rows < 300), 0.95)
        for shot in (self.demo, files.read(ROOT / "tests" / "data" / "trials" / "drone.lode")):
            self.assertEqual(len(points_across_view(shot.solve)), 0)

    def test_up_is_where_the_camera_is(self):
        points, camera = scene_frame(self.down).points(self.down.solve.xyz), camera_at(self.down, 10)
        self.assertLess(np.abs(points[:300, 2]).max(), 0.2)
        self.assertGreater(points[300:, 2].min(), 0.5)
        self.assertGreater(camera.centre[2], points[300:, 2].max())
        self.assertLess(camera.R[2, 2], -0.99)  # it looks down

    def test_a_title_lies_flat_and_is_read_as_the_picture_stands(self):
        for pixel in ((640, 380), (200, 500), (1000, 150)):
            placed = clicked(self.down, 10, pixel)
            pose, camera = pose_of(*placed, 10), camera_at(self.down, 10)
            at = pose[:3, 3]
            foot, right, above = (camera.project(at + 0.1 * way)[0] for way in (np.zeros(3), pose[:3, 0], pose[:3, 2]))
            self.assertLess(abs(right[1] - foot[1]), 0.05 * (right[0] - foot[0]))
            self.assertLess(abs(above[0] - foot[0]), 0.05 * (foot[1] - above[1]))
            low = moved(model_of(*placed, 10), mesh_of(placed[1], 10).vertices.astype(float))[:, 2].min()
            self.assertLess(abs(low - at[2] + placed[1].depth.value[0] / 2), 1e-3)  # its back lies on the street
            xy = camera.project(corners(*placed, 10))[0]
            self.assertTrue((xy >= 0).all() and (xy < [self.down.plate.width, self.down.plate.height]).all())


class GroundTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.addClassCleanup(close_workshop)
        cls.shot = msgspec.structs.replace(files.read(DEMO), mattes=())
        cls.title = cls.shot.objects[0]

    def sunk(self, by: float, title=None):
        title = title or self.title
        x, y, _ = title.position.value
        item = msgspec.structs.replace(title, position=constant(x, y, -by))
        return msgspec.structs.replace(self.shot, objects=(item,)), item

    def test_a_sunk_title_is_told_and_dropping_mends_it(self):
        self.assertEqual(hidden_share(self.shot, self.title, 46), 0.0)
        half, item = self.sunk(0.5 * self.title.height.value[0])
        self.assertGreater(hidden_share(half, item, 46), 0.25)
        up = dropped(half, item.id, 46, "whole")
        self.assertEqual(hidden_share(up, up.objects[0], 46), 0.0)

    def test_what_is_told_is_what_the_picture_shows(self):
        """Pixels of the letters that are lost, against the same letters before ground that does not hide."""
        half, _ = self.sunk(0.5 * self.title.height.value[0])
        open_ = with_ground(half, msgspec.structs.replace(half.ground, hides=False))
        seen, all_ = (frame(s, 46, layer="layers", samples=2).pixels[..., 3].sum() for s in (half, open_))
        self.assertTrue(0.35 < seen / all_ < 0.65, seen / all_)

    def test_ground_hides_only_where_points_bear_it_out(self):
        ground = borne_ground(self.shot)
        points = scene_frame(self.shot).points(self.shot.solve.xyz)
        on = np.isin(self.shot.solve.point_ids, self.shot.ground.on_ground) & trusted_points(self.shot)
        self.assertGreater(covered(ground, points[on][:, :2]).mean(), 0.85)
        self.assertFalse(covered(ground, np.array([[80.0, 80.0], [-60.0, 5.0]])).any())
        # far off, where nothing is known, a title may stand lower and is seen
        far = msgspec.structs.replace(self.title, position=constant(30.0, 60.0, -5.0))
        shot, item = msgspec.structs.replace(self.shot, objects=(far,)), far
        self.assertEqual(hidden_share(shot, item, 46), 0.0)

    def test_places_on_a_triangulation_with_gaps_are_those_of_its_triangles(self):
        """Against the search through a triangulation of scipy (Qhull)."""
        rng = np.random.default_rng(2)
        points = np.c_[rng.uniform(-20, 20, (300, 2)), np.zeros(300)]
        whole = Delaunay(points[:, :2])
        kept = rng.random(len(whole.simplices)) < 0.6
        places = rng.normal(0, [9, 4], (3000, 2))
        simplex = whole.find_simplex(places)
        ground = Mesh(points.astype(np.float32), points.astype(np.float32), whole.simplices[kept])
        np.testing.assert_array_equal(covered(ground, places), (simplex >= 0) & kept[simplex])
        self.assertEqual(len(covered(ground, places[:0])), 0)

    def test_points_that_move_bear_no_ground_out(self):
        """Tracks on water may come to lie at the height of the ground: their errors tell that they do not stand."""
        solve = self.shot.solve
        points = scene_frame(self.shot).points(solve.xyz)
        right = points[:, 0] > 1.0
        error = np.where(right, 6.0, 1.0) * np.median(solve.point_error)
        ground = with_ground(rebased(self.shot, solve=msgspec.structs.replace(solve, point_error=error)), Ground(turned=(0.0, 0.0, 1e-9)))
        places = lambda shot, x: scene_frame(shot).points(scene_frame(self.shot).back(np.array([[x, -0.5, 0.0]])))[:, :2]
        self.assertTrue(covered(borne_ground(ground), places(ground, -0.5))[0])
        self.assertFalse(covered(borne_ground(ground), places(ground, 3.0))[0])
        self.assertTrue(covered(borne_ground(self.shot), places(self.shot, 3.0))[0])

    def test_what_lies_flat_is_no_wall_and_nothing_stands_for_one(self):
        camera = camera_at(self.shot, 46)
        real = scene_frame(self.shot).points(self.shot.solve.xyz)
        wall = lambda *pixel: surface_under(self.shot, camera, np.array(pixel, float), Points(real, None), "wall")
        self.assertIsNone(wall(640, 650))
        self.assertAlmostEqual(abs(float(wall(480, 330).normal[1])), 1.0, delta=0.02)  # the terrace's low wall, which faces the camera

    def test_a_surface_under_the_ground_gives_way_to_the_ground_and_says_so(self):
        camera = camera_at(self.shot, 46)
        at = np.array(self.title.position.value)
        pixel = camera.project(at)[0]
        real = scene_frame(self.shot).points(self.shot.solve.xyz)
        # the same rays, met 0.8 m under the ground, as tracks on moving water are
        through = camera.centre + (real - camera.centre) * ((camera.centre[2] + 0.8) / np.maximum(camera.centre[2] - real[:, 2:], 0.2))
        below = np.where((np.abs(real[:, 2:]) < 0.1), through, real)
        patch = surface_under(self.shot, camera, pixel, Points(below, None))
        self.assertAlmostEqual(float(patch.centre[2]), 0.0, delta=1e-6)
        self.assertEqual(patch.note, HIDDEN)
        self.assertEqual(surface_under(self.shot, camera, pixel, Points(real, None)).note, "")

    def test_points_with_large_errors_make_no_surface_where_others_do(self):
        camera, pixel = camera_at(self.shot, 46), camera_at(self.shot, 46).project(np.array(self.title.position.value))[0]
        real = scene_frame(self.shot).points(self.shot.solve.xyz)
        rng = np.random.default_rng(0)
        wrong = rng.random(len(real)) < 0.6
        moved = np.where(wrong[:, None], real - [0, 0, 0.35], real)
        error = np.where(wrong, 5.0, 1.0) * np.median(self.shot.solve.point_error)
        shot = rebased(self.shot, solve=msgspec.structs.replace(self.shot.solve, point_error=error))
        patch = surface_under(shot, camera, pixel, Points(moved, None))
        self.assertFalse(wrong[patch.rows].any())
        self.assertLess(abs(float(patch.centre[2])), 0.05)
        self.assertLess(np.abs(model_of(self.shot, self.title, 46)[:3, 3] - patch.centre).max(), 0.1)


if __name__ == "__main__":
    unittest.main()
