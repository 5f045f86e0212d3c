"""Up from upright lines of the plate, and what is proposed as the ground."""

import unittest

import cv2
import msgspec
import numpy as np
from scipy.spatial.transform import Rotation

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.job import Job
from lodestar.core.projection.camera import Camera
from lodestar.core.scene.ground import Ground, found_level, found_uprights, proposal, reference
from lodestar.core.solve.adjust import Scene
from lodestar.core.solve.camera import _own_frame, solve
from lodestar.core.solve.result import SolveSettings
from lodestar.core.solve.uprights import find_uprights, held_up, lines_in
from lodestar.core.track.tracks import make_tracks
from tests.helpers import Seeded


class FromAbove(Seeded):
    """The same flight, looking down steeply."""

    def _look(self, centre, target):
        return super()._look(centre + [0.0, 4.0, 7.0], np.array([target[0], 4.0, 0.0]))


class StraightDown(Seeded):
    """From a drone that turns round while it looks at what is under it."""

    def _look(self, centre, target):
        turn = np.deg2rad(60 * target[0])
        x, y = [np.cos(turn), np.sin(turn), 0.0], [np.sin(turn), -np.cos(turn), 0.0]
        R = np.array([x, y, [0.0, 0.0, -1.0]])
        return Camera(R, -R @ (centre + [0.0, 6.0, 9.0]), self.lens)


class FromBelow(Seeded):
    """Looking up at walls, with no ground in the picture."""

    def _look(self, centre, target):
        return super()._look(centre + [0.0, 9.0, -1.5], np.array([target[0], 6.0, 4.0]))


class HeldTest(unittest.TestCase):
    """Up from nothing but how the camera turned."""

    def off(self, yaw, pitch, roll=0.4, seed=0):
        """Degrees from up that is told, and that the mean of the cameras' own is; angles in degrees, pitch below the horizon."""
        rng, n = np.random.default_rng(seed), 50
        rolls = np.repeat(rng.normal(0, roll, 10), n // 10)  # a hand rolls slowly
        turns = [Rotation.from_euler("ZXZ", (a, -90 - pitch, r), degrees=True) for a, r in zip(np.linspace(0, yaw, n), rolls, strict=True)]
        R = np.array([t.inv().as_matrix() for t in turns])
        own = -R[:, 1].mean(0)
        angles = [float(np.rad2deg(np.arccos(np.clip(u[2] / np.linalg.norm(u), -1, 1)))) for u in (held_up(R), own)]
        return angles

    def test_a_turn_tells_how_far_the_camera_looks_down(self):
        for yaw, pitch, most in ((40, 5, 1.0), (90, 30, 1.0), (120, 85, 2.0), (60, -20, 1.0)):
            off = [self.off(yaw, pitch, seed=s) for s in range(5)]
            self.assertLess(np.max(off, 0)[0], most, (yaw, pitch))
            self.assertGreater(np.min(off, 0)[1], abs(pitch) * 0.8, "the mean leans as the camera does")

    def test_a_drone_that_looks_straight_down_finds_the_ground_under_it(self):
        true = StraightDown(seed=2, frames=30, tracks=1500, moving=0)  # over flat ground the lens has to be known
        found = solve(make_tracks(true.frame, true.track, true.xy), 1280, 720, SolveSettings(focal_px=1000.0), Job())
        self.assertEqual(found.motion, "free")
        up = found.R[15].T @ true.cameras[15].R[:, 2]
        self.assertLess(np.rad2deg(np.arccos(np.clip(reference(found, Ground()).R[2] @ up, -1, 1))), 0.3)
        self.assertLess(np.rad2deg(np.arccos(np.clip(up[2], -1, 1))), 1.0, "its own frame of reference is level")

    def test_the_own_frame_of_a_full_circle_and_of_a_look_straight_down_is_a_turn(self):
        for pitch in (0, 90):
            turns = [Rotation.from_euler("ZX", (a, -90 - pitch), degrees=True) for a in range(0, 360, 90)]
            R = np.round([t.inv().as_matrix() for t in turns])  # so that nothing is left of what points all ways
            framed = _own_frame(Scene(R, np.zeros((4, 3)), np.zeros((0, 3)), np.array([1000.0, 0, 0])), list(range(4)), True).R
            np.testing.assert_allclose(framed @ framed.transpose(0, 2, 1), np.broadcast_to(np.eye(3), (4, 3, 3)), atol=1e-9)
            np.testing.assert_allclose(framed[:, :, 2], R[:, :, 2], atol=1e-6, err_msg="up stays up")

    def test_without_a_turn_it_is_the_mean_of_the_cameras(self):
        told, own = self.off(0, 12)
        self.assertAlmostEqual(told, own, delta=0.5)
        self.assertAlmostEqual(own, 12, delta=0.5)


class PlaneTest(unittest.TestCase):
    """Up from points below a camera that is held level, or aslant."""

    @classmethod
    def setUpClass(cls):
        true = Seeded(seed=2, frames=30, tracks=300, moving=0)
        cls.solve = solve(make_tracks(true.frame, true.track, true.xy), 1280, 720, SolveSettings(), Job())

    def over(self, lean_deg, share, count=400):
        """The solve over a plane that leans sideways, which so many of the points lie on, among others at any height."""
        rng, lean = np.random.default_rng(4), np.deg2rad(lean_deg)
        right, up = self.solve.R[:, 0].mean(0), np.array([0.0, 0.0, 1.0])
        right = (right - right @ up * up) / np.linalg.norm(right - right @ up * up)
        normal, along = np.cos(lean) * up + np.sin(lean) * right, np.cos(lean) * right - np.sin(lean) * up
        away = rng.uniform(0, 8, (count, 1))
        places = rng.uniform(-3, 3, (count, 1)) * along + away * np.cross(up, right) - 3.5 * up
        places += np.where(rng.random((count, 1)) < share, 0.002 * rng.standard_normal((count, 1)), rng.uniform(0, 1.5, (count, 1))) * normal
        return msgspec.structs.replace(self.solve, xyz=places, point_ids=np.arange(count, dtype=np.int32)), normal

    def off(self, solved, up):
        return float(np.rad2deg(np.arccos(np.clip(found_level(solved)[1] @ up, -1, 1))))

    def test_a_hillside_is_no_ground_where_the_camera_was_level(self):
        """Seen in a clip of a real drone before a mountain: titles leaned by 21 degrees."""
        hill, normal = self.over(21, 0.12)
        self.assertGreater(self.off(hill, normal), 15)
        self.assertLess(self.off(hill, np.array([0.0, 0.0, 1.0])), 15)
        sideways = np.rad2deg(np.arcsin(found_level(hill)[1] @ hill.R[:, 0].mean(0)))
        self.assertLess(abs(sideways), 4)
        before = msgspec.structs.replace(hill, held=False)
        self.assertLess(self.off(before, normal), 2, "a shot from before keeps its ground, and its titles their places")

    def test_a_floor_that_nearly_all_points_lie_on_is_the_ground_however_the_camera_was_held(self):
        for lean in (0, 8, 15):
            floor, normal = self.over(lean, 0.8)
            self.assertLess(self.off(floor, normal), 0.5, lean)

    def test_where_no_plane_stands_out_up_is_as_the_camera_was_held(self):
        scattered, _ = self.over(0, 0.0)
        self.assertEqual(self.off(scattered, np.array([0.0, 0.0, 1.0])), 0)
        with self.assertRaisesRegex(UserError, "No level ground was found"):
            proposal(scattered)


class LinesTest(unittest.TestCase):
    """Posts of known places, seen by a camera that was solved from its tracks."""

    @classmethod
    def setUpClass(cls):
        cls.true = Seeded(seed=2, frames=30, tracks=300, moving=0)
        cls.solve = solve(make_tracks(cls.true.frame, cls.true.track, cls.true.xy), 1280, 720, SolveSettings(), Job())
        cls.up = np.mean([cls.solve.R[i].T @ cls.true.cameras[f].R[:, 2] for i, f in enumerate(cls.solve.frames)], 0)
        cls.up /= np.linalg.norm(cls.up)

    def lines(self, posts, clutter, seed=0, noise=0.7):
        """Ends of posts at (n, 2) places as each of a few frames shows them, and `clutter` lines of any lean."""
        rng = np.random.default_rng(seed)
        found = {}
        for frame in self.solve.frames[::6]:
            camera = self.true.cameras[int(frame)]
            foot, top = (camera.project(np.c_[posts, np.full(len(posts), z)])[0] for z in (0.0, 1.3))
            middle, lean = rng.uniform([0, 0], [1280, 720], (clutter, 2)), rng.uniform(-0.6, 0.6, clutter)
            d = np.c_[np.sin(lean), np.cos(lean)] * rng.uniform(15, 40, (clutter, 1))
            found[int(frame)] = np.concatenate([np.c_[foot, top], np.c_[middle - d, middle + d]]) + noise * rng.standard_normal(
                (len(posts) + clutter, 4)
            )
        return found

    def bound(self, posts, noise) -> float:
        """Degrees by which the best of all estimates would be off, from the posts alone: the trace of the inverse information."""
        told = np.zeros((3, 3))
        for frame in self.solve.frames[::6]:
            camera = self.true.cameras[int(frame)]
            ends = [camera.project(np.c_[posts, np.full(len(posts), z)])[0] for z in (0.0, 1.3)]
            n = np.cross(camera.rays(ends[0]), camera.rays(ends[1]))
            n /= np.linalg.norm(n, axis=1, keepdims=True)
            told += (n * (np.linalg.norm(ends[1] - ends[0], axis=1) ** 2 / (2 * noise**2))[:, None]).T @ n
        return float(np.rad2deg(np.sqrt(np.trace(np.linalg.inv(told[:2, :2])))))

    def test_up_is_where_the_posts_point(self):
        posts = np.random.default_rng(5).uniform([-6, 2], [6, 12], (12, 2))
        for noise in (0.2, 0.7):
            off = []
            for seed in range(6):
                tilted = msgspec.structs.replace(self.solve, uprights=find_uprights(self.solve, self.lines(posts, 40, seed, noise)))
                self.assertGreater(len(tilted.uprights), 8)
                up = reference(tilted, Ground(uprights=found_uprights(tilted))).R[2]
                off.append(np.rad2deg(np.arccos(np.clip(up @ self.up, -1, 1))))
            self.assertLess(float(np.sqrt(np.mean(np.square(off)))), 2 * self.bound(posts, noise))
            self.assertLess(float(np.median(off)), 0.3)

    def test_lines_that_agree_on_what_no_ground_is_level_by_are_not_believed(self):
        """As edges of clouds: they run together far from up, over ground that nearly all points lie on."""
        rng, found = np.random.default_rng(1), {}
        for frame in self.solve.frames[::6]:
            low = np.c_[rng.uniform(-8, 8, 12), rng.uniform(10, 20, 12), rng.uniform(2, 5, 12)]
            ends = [self.true.cameras[int(frame)].project(p)[0] for p in (low, low + [0, 1.7, 1.0])]
            found[int(frame)] = np.concatenate(ends, 1)
        lines = find_uprights(self.solve, found)
        self.assertGreater(len(lines), 20, "they agree")
        told = msgspec.structs.replace(self.solve, uprights=lines)
        off = np.rad2deg(np.arccos(np.clip(reference(told, Ground()).R[2] @ self.up, -1, 1)))
        self.assertLess(off, 0.5)
        ground, words = proposal(told)
        self.assertEqual((ground.uprights, words), ((), "level by the largest plane below the camera"))

    def test_lines_that_agree_far_away_from_up_do_not_outvote_posts(self):
        """Edges of clouds and shadows that run together by chance; more of their length agrees, since they were found more precisely."""
        posts = np.random.default_rng(5).uniform([-6, 2], [6, 12], (12, 2))
        found, rng = self.lines(posts, 40), np.random.default_rng(1)
        length = sum(np.linalg.norm(ends[:12, 2:] - ends[:12, :2], axis=1).sum() for ends in found.values()) * 0.85
        wrong = {}
        for frame in found:
            low = np.c_[rng.uniform(-8, 8, 30), rng.uniform(10, 20, 30), rng.uniform(2, 5, 30)]
            ends = [self.true.cameras[frame].project(p)[0] for p in (low, low + [0, 1.7, 1.0])]
            wrong[frame] = np.concatenate(ends, 1)
        size = length / sum(np.linalg.norm(ends[:, 2:] - ends[:, :2], axis=1).sum() for ends in wrong.values())
        for frame, ends in wrong.items():
            middle = (ends[:, :2] + ends[:, 2:]) / 2
            half = (ends[:, 2:] - ends[:, :2]) / 2 * size
            found[frame] = np.concatenate([found[frame], np.concatenate([middle - half, middle + half], 1)])
        for hint in (None, self.up):
            told = msgspec.structs.replace(self.solve, uprights=find_uprights(self.solve, found, hint))
            up = reference(told, Ground(uprights=found_uprights(told))).R[2]
            self.assertLess(np.rad2deg(np.arccos(np.clip(up @ self.up, -1, 1))), 1.0, "nobody holds a camera so far off level")
        leaning = self.up + np.sin(np.deg2rad(2.0)) * np.cross(self.up, self.solve.R[:, 2].mean(0))  # ground is not level to a degree
        told = msgspec.structs.replace(self.solve, uprights=find_uprights(self.solve, found, leaning / np.linalg.norm(leaning)))
        self.assertGreater(len(told.uprights), 20)
        up = reference(told, Ground(uprights=found_uprights(told))).R[2]
        self.assertLess(np.rad2deg(np.arccos(np.clip(up @ self.up, -1, 1))), 1.0, "half of what the ground is off")

    def test_where_two_directions_are_as_likely_nobody_knows(self):
        """Lines that run together 15 degrees before up, and as many 15 degrees behind it."""
        rng, found = np.random.default_rng(1), {}
        ahead = np.cross(self.solve.R[:, 0].mean(0), [0.0, 0.0, -1.0])
        for frame in self.solve.frames[::6]:
            camera, both = self.solve.camera(int(frame)), []
            for lean in (15, -15):
                up = np.cos(np.deg2rad(lean)) * np.array([0.0, 0.0, 1.0]) + np.sin(np.deg2rad(lean)) * ahead
                low = camera.centre + 10 * camera.rays(rng.uniform([100, 200], [1180, 500], (30, 2)))
                both.append(np.concatenate([camera.project(p)[0] for p in (low, low + 0.6 * up)], 1))
            found[int(frame)] = np.concatenate(both)
        self.assertEqual(len(find_uprights(self.solve, found)), 0)
        one = {frame: ends[:30] for frame, ends in found.items()}
        self.assertGreater(len(find_uprights(self.solve, one)), 20, "each of them alone is believed")

    def test_they_are_believed_where_the_camera_is_far_off_level(self):
        """Over ground that is level by them alone, and before walls with no ground in the picture."""
        for kind, tilt, low, high, heights in ((FromAbove, -40, [-4, 1], [4, 8], (0.0, 1.3)), (FromBelow, 25, [-4, 6], [4, 9], (2.0, 4.0))):
            true = kind(seed=2, frames=30, tracks=600, moving=0)
            tilted = solve(make_tracks(true.frame, true.track, true.xy), 1280, 720, SolveSettings(), Job())
            up = tilted.R[15].T @ true.cameras[15].R[:, 2]
            self.assertGreater(true.cameras[15].R[2, 2] * np.sign(tilt), np.sin(np.deg2rad(abs(tilt))))
            posts, found = np.random.default_rng(5).uniform(low, high, (14, 2)), {}
            for frame in tilted.frames[::6]:
                ends = [true.cameras[int(frame)].project(np.c_[posts, np.full(len(posts), z)])[0] for z in heights]
                found[int(frame)] = np.concatenate(ends, 1)
            told = msgspec.structs.replace(tilted, uprights=find_uprights(tilted, found))
            self.assertGreater(len(told.uprights), 20)
            self.assertLess(np.rad2deg(np.arccos(np.clip(reference(told, Ground()).R[2] @ up, -1, 1))), 0.5, kind.__name__)

    def test_too_little_tells_nothing(self):
        clutter = find_uprights(self.solve, self.lines(np.zeros((0, 2)), 60))
        self.assertEqual(clutter.shape, (0, 5))
        in_one_place = find_uprights(self.solve, self.lines(np.array([[0.0, 6.0], [0.05, 6.0]]), 4))
        self.assertEqual(len(in_one_place), 0)
        self.assertEqual(len(find_uprights(self.solve, {})), 0)
        with self.assertRaises(UserError):
            nothing = msgspec.structs.replace(self.solve, point_ids=self.solve.point_ids[:2], xyz=self.solve.xyz[:2])
            proposal(nothing)

    def test_a_line_is_found_where_it_was_drawn_at_any_size_of_picture(self):
        for width in (640, 1280, 2560):
            picture = np.full((width * 9 // 16, width, 3), 90, np.uint8)
            k = width / 640
            cv2.rectangle(picture, (int(300 * k), int(80 * k)), (int(340 * k), int(280 * k)), (220, 220, 220), -1)
            lines = lines_in(picture)
            self.assertEqual(len(lines), 2, width)
            np.testing.assert_allclose(np.sort(lines[:, 0]), [300 * k - 0.5, int(340 * k) + 0.5], atol=0.6 * max(k, 1))
        self.assertEqual(lines_in(np.full((90, 160, 3), 40, np.uint8)).shape, (0, 4))


if __name__ == "__main__":
    unittest.main()
