"""Objects stay where they are in the picture: after a new solve, a new ground, new tracks."""

import unittest

import msgspec
import numpy as np

from lodestar.core.basics.geometry import near_turn, turn_from_matrix, turn_matrix
from lodestar.core.basics.job import Job
from lodestar.core.basics.keyed import Key, Keyed, constant
from lodestar.core.edits.arrange import added, ground_through, reparented, with_pose
from lodestar.core.edits.placing import Spot, title_at
from lodestar.core.edits.settle import with_ground, with_solve, with_tracks
from lodestar.core.evaluate.cameras import camera_at, scene_frame
from lodestar.core.evaluate.objects import mesh_of, model_of
from lodestar.core.evaluate.pointing import Points, surface_under
from lodestar.core.light.lamps import light_of
from lodestar.core.scene.ground import Ground, PictureLine
from lodestar.core.scene.poses import moved
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot, rebased
from lodestar.core.shot.objects import Anchor, Title
from lodestar.core.solve.known import Span
from lodestar.core.track.tracks import make_tracks
from lodestar.core.work.solving import solve_shot
from tests.factory import make_shot
from tests.helpers import DEMO


def seen(shot, frames=range(0, 100, 9)) -> np.ndarray:
    """(f, n, 2) px at which the corners of all solids are in the picture."""
    rows = []
    for f in frames:
        camera = camera_at(shot, f)
        rows.append(np.concatenate([camera.project(moved(model_of(shot, o, f), mesh_of(o, f).vertices[::7].astype(float)))[0] for o in shot.objects]))
    return np.array(rows)


class CarryCase(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.shot = files.read(DEMO)
        keyed = msgspec.structs.replace(
            cls.shot.objects[1],
            position=Keyed(
                (0.0, 0.0, 0.0),
                tuple(Key(float(f), tuple(float(v) for v in np.add(cls.shot.objects[1].position.value, (0.1 * f / 9, 0, 0)))) for f in (0, 90)),
            ),
        )
        cls.shot = msgspec.structs.replace(cls.shot, objects=(cls.shot.objects[0], keyed))


class FirstSolveTest(unittest.TestCase):
    def test_what_was_placed_before_the_solve_keeps_its_place_and_size_in_the_picture_of_its_frame(self):
        solved, frame = make_shot(3), 12
        empty = rebased(solved, solve=None, objects=())
        camera = camera_at(empty, frame)
        pixels = {"low": (700.0, 560.0), "side": (350.0, 500.0)}  # below the horizon of both cameras
        for name, pixel in pixels.items():
            patch = surface_under(empty, camera, np.array(pixel), Points(np.zeros((0, 3)), None))
            title = msgspec.structs.replace(title_at(Spot(empty, camera, patch, frame), "GATE"), id=name)
            empty = added(empty, title)
        far = added(empty, msgspec.structs.replace(empty.objects[0], id="sky", position=constant(3.0, 400.0, 90.0)))
        after = with_solve(far, solved.solve)
        for item in far.objects:
            same = next(o for o in after.objects if o.id == item.id)
            self.assertIsNone(same.placed)
            old, new = (
                camera_at(s, frame).project(moved(model_of(s, o, frame), mesh_of(o, frame).vertices.astype(float)))[0]
                for s, o in ((far, item), (after, same))
            )
            foot = [camera_at(s, frame).project(np.array(o.position.at(frame)))[0] for s, o in ((far, item), (after, same))]
            self.assertLess(np.linalg.norm(foot[1] - foot[0]), 0.01, item.id)
            self.assertAlmostEqual(np.ptp(new[:, 1]) / np.ptp(old[:, 1]), 1, delta=0.12, msg=item.id)  # seen more or less from above
            self.assertAlmostEqual(same.turn.at(0)[1], 0, delta=1e-6)
            if item.id != "sky":
                self.assertAlmostEqual(same.position.at(0)[2], 0, delta=1e-6)


class SolveTest(CarryCase):
    def test_an_anchored_title_moves_less_than_a_px_when_solved_with_other_settings(self):
        before = seen(self.shot)
        for settings in ({"k1": False, "k2": False, "distortion": (-0.05, 0.005)}, {"focal_px": 985.0}):
            shot = msgspec.structs.replace(self.shot, solving=msgspec.structs.replace(self.shot.solving, **settings))
            again = solve_shot(shot, Job())
            self.assertFalse(np.array_equal(again.solve.t, self.shot.solve.t))
            off = np.linalg.norm(seen(again) - before, axis=2)
            self.assertLess(np.median(off), 1.0, settings)
            self.assertLess(np.percentile(off, 95), 3.0, settings)

    def test_a_solve_in_another_frame_of_reference_and_size_changes_nothing(self):
        solve, said = self.shot.solve, Ground(on_ground=self.shot.ground.on_ground)  # no distance is said: the size may change
        shot = with_ground(self.shot, said)
        R, s, shift = turn_matrix((70, 12, -30)), 3.7, np.array([4.0, -2, 9])
        xyz = (s * solve.xyz @ R.T + shift).astype(solve.xyz.dtype)
        turned = solve.R @ R.T
        t = s * solve.t - np.einsum("kij,j->ki", turned, shift)
        other = msgspec.structs.replace(solve, xyz=xyz, R=turned, t=t)
        after = with_solve(shot, other)
        np.testing.assert_allclose(seen(after), seen(shot), atol=0.02)

    def test_ground_mesh_refits_itself_to_where_its_tracks_are(self):
        mesh = ground_through(self.shot, self.shot.ground.on_ground[:12])
        shot = added(self.shot, mesh)
        rng = np.random.default_rng(1)
        moved_points = self.shot.solve.xyz + 0.01 * rng.standard_normal(self.shot.solve.xyz.shape)
        # a solve that differs in its cameras too, or it would be the same one
        solve = msgspec.structs.replace(self.shot.solve, xyz=moved_points, R=self.shot.solve.R @ turn_matrix((1e-5, 0, 0)))
        after = with_solve(shot, solve)
        own = moved(model_of(after, after.objects[-1], 0), np.array(after.objects[-1].points).reshape(-1, 3))
        place = dict(zip(solve.point_ids.tolist(), scene_frame(after).points(solve.xyz), strict=True))
        np.testing.assert_allclose(own, [place[t] for t in mesh.tracks], atol=1e-6)


class GroundTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.shot = make_shot(seed=5, frames=100, titles=2)

    def test_another_ground_leaves_the_picture_as_it_was(self):
        before, lamps = seen(self.shot), self.shot.lamps
        ids = self.shot.ground.on_ground
        line = PictureLine(10, (300.0, 300.0), (310.0, 500.0))
        for ground in (
            Ground(),
            Ground(turned=(40.0, 10.0, 5.0), moved=(3.0, 1.0, 2.0), sized=2.5),
            Ground(uprights=(line, line)),
            Ground(on_ground=ids[:9], origin=ids[3], spans=(Span(ids[0], ids[20], 11.0, "y"),)),
        ):
            after = with_ground(self.shot, ground)
            np.testing.assert_allclose(seen(after), before, atol=0.01)
            # the sun is still where it was beside the cameras
            old, new = (camera_at(s, 0).R @ light_of(s.lamps[0], 0).direction for s in (self.shot, after))
            np.testing.assert_allclose(old, new, atol=1e-6)
        self.assertEqual(lamps, self.shot.lamps)

    def test_what_hangs_on_an_anchor_is_carried_once(self):
        anchor = Anchor(id="a", position=constant(1, 2, 0), turn=constant(30, 0, 0), size=constant(2))
        title = Title(id="t", parent="a", position=constant(0.5, 0, 0.2))
        shot = msgspec.structs.replace(self.shot, objects=(anchor, title))
        after = with_ground(shot, Ground(turned=(15.0, 5.0, 0.0), sized=0.4))
        frames = range(0, 100, 30)
        one = lambda s: seen(msgspec.structs.replace(s, objects=(s.objects[0], s.objects[1])), frames)
        np.testing.assert_allclose(one(after), one(shot), atol=0.01)


class TurnsTest(unittest.TestCase):
    """Keyed turns keep their whole turns and the way round: a spin is a spin after any change of what it stands in."""

    @classmethod
    def setUpClass(cls):
        cls.shot = make_shot(frames=100)

    def spinning(self, *headings):
        keys = tuple(Key(50.0 * i, (float(h), 0.0, 0.0), "linear") for i, h in enumerate(headings))
        return msgspec.structs.replace(self.shot, objects=(msgspec.structs.replace(self.shot.objects[0], turn=Keyed((0.0, 0.0, 0.0), keys)),))

    def headings(self, shot):
        return np.array([k.value[0] for k in shot.objects[0].turn.keys])

    def test_a_spin_stays_after_a_change_of_the_ground(self):
        for way in ((0, 720), (170, 190), (0, -1080, 360)):
            shot = self.spinning(*way)
            for ground in (Ground(turned=(40.0, 0.0, 0.0)), Ground(turned=(-170.0, 6.0, 3.0))):
                after = with_ground(shot, ground)
                np.testing.assert_allclose(np.diff(self.headings(after)), np.diff(way), atol=8.0)
                np.testing.assert_allclose(seen(after, range(0, 100, 50)), seen(shot, range(0, 100, 50)), atol=0.01)

    def test_a_spin_stays_on_another_parent(self):
        shot = self.spinning(0, 720)
        anchor = Anchor(id="a", position=constant(1, 2, 0), turn=constant(100, 0, 0))
        after = reparented(added(shot, anchor), shot.objects[0].id, "a")
        np.testing.assert_allclose(self.headings(after), [-100, 620], atol=1e-6)

    def test_a_dragged_turn_goes_on_from_where_it_is(self):
        item = msgspec.structs.replace(self.shot.objects[0], turn=constant(350.0, 0.0, 0.0))
        self.assertAlmostEqual(with_pose(self.shot, item, 0, "whole", R=turn_matrix((10.0, 0, 0))).turn.value[0], 370.0, places=6)

    def test_the_sun_goes_the_same_way_round(self):
        sun = msgspec.structs.replace(self.shot.lamps[0], bearing=Keyed((0.0,), (Key(0.0, (350.0,)), Key(99.0, (370.0,)))))
        after = with_ground(msgspec.structs.replace(self.shot, lamps=(sun, *self.shot.lamps[1:])), Ground(turned=(40.0, 0.0, 0.0)))
        first, last = (k.value[0] for k in after.lamps[0].bearing.keys)
        self.assertAlmostEqual(last - first, 20.0, places=6)
        self.assertTrue(0 <= first < 360)

    def test_a_sun_that_nobody_set_is_not_told_as_set_after_the_ground_was_found(self):
        fresh, turned = msgspec.structs.replace(self.shot, objects=(), lamps=Shot().lamps), Ground(turned=(40.0, 10.0, 5.0))
        self.assertEqual(with_ground(fresh, turned).lamps, fresh.lamps)
        # one that lights something, and one that was set, stay where they are beside the cameras
        lit = msgspec.structs.replace(fresh, objects=self.shot.objects)
        self.assertNotEqual(with_ground(lit, turned).lamps[0].bearing, fresh.lamps[0].bearing)
        of_hand = (msgspec.structs.replace(fresh.lamps[0], bearing=constant(120.0)), *fresh.lamps[1:])
        self.assertNotEqual(with_ground(msgspec.structs.replace(fresh, lamps=of_hand), turned).lamps[0].bearing, of_hand[0].bearing)

    def test_two_ways_to_write_a_turn_and_straight_up(self):
        rng = np.random.default_rng(0)
        for turn in (*rng.uniform(-400, 400, (50, 3)), (30.0, 90.0, 20.0), (200.0, -90.0, 100.0)):
            near = near_turn(turn_from_matrix(turn_matrix(turn)), tuple(turn))
            np.testing.assert_allclose(near, turn, atol=1e-4)


class RefusalTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.shot = make_shot(frames=12)

    def test_a_shot_refuses_tracks_solve_and_ground_on_their_own(self):
        for fields in ({"tracks": None}, {"solve": None}, {"ground": Ground()}):
            with self.assertRaisesRegex(ValueError, "settle"):
                msgspec.structs.replace(self.shot, **fields)
        self.assertIs(msgspec.structs.replace(self.shot, name="x").solve, self.shot.solve)


class TracksTest(CarryCase):
    def test_new_tracks_are_known_again_by_where_they_run(self):
        tracks, rng = self.shot.tracks, np.random.default_rng(0)
        number = rng.permutation(tracks.count)
        lost = set(self.shot.objects[0].tracks[:2])
        keep = ~np.isin(tracks.track, list(lost))
        xy = tracks.xy[keep] + 0.05 * rng.standard_normal((int(keep.sum()), 2))
        fresh = make_tracks(tracks.frame[keep], number[tracks.track[keep]], xy.astype(np.float32))
        after = with_tracks(self.shot, fresh)
        mean = lambda t, n: t.xy[t.track == n].mean(0)
        for old, new in zip([t for t in self.shot.objects[0].tracks if t not in lost], after.objects[0].tracks, strict=True):
            np.testing.assert_allclose(mean(fresh, new), mean(tracks, old), atol=0.2)
        self.assertEqual(len(after.objects[0].tracks), len(self.shot.objects[0].tracks) - 2)
        self.assertGreater(len(after.ground.on_ground), 0.8 * len(self.shot.ground.on_ground))
        self.assertEqual(len(after.ground.spans), 1)

    def test_new_tracks_and_their_solve_in_one_edit_leave_titles_where_they_are(self):
        """As 'Track and solve' does: all tracks have other numbers, and the cameras are nearly the same."""
        tracks, solve, rng = self.shot.tracks, self.shot.solve, np.random.default_rng(2)
        number = rng.permutation(tracks.count)
        fresh = make_tracks(tracks.frame, number[tracks.track], tracks.xy + 0.01 * rng.standard_normal(tracks.xy.shape))
        other = msgspec.structs.replace(solve, point_ids=number[solve.point_ids].astype(np.int32), R=solve.R @ turn_matrix((1e-6, 0, 0)))
        after = with_solve(with_tracks(self.shot, fresh), other)
        np.testing.assert_allclose(seen(after), seen(self.shot), atol=0.2)

    def test_points_keep_their_colours_and_errors_when_tracks_are_numbered_anew(self):
        tracks, solve = self.shot.tracks, self.shot.solve
        number = np.random.default_rng(3).permutation(tracks.count)
        lost = int(solve.point_ids[5])
        keep = tracks.track != lost
        after = with_tracks(self.shot, make_tracks(tracks.frame[keep], number[tracks.track[keep]], tracks.xy[keep]))
        self.assertEqual(len(after.solve.point_ids), len(solve.point_ids) - 1)
        for name in ("xyz", "point_error", "colours"):
            np.testing.assert_array_equal(getattr(after.solve, name), np.delete(getattr(solve, name), 5, axis=0), name)

    def test_edits_of_the_tracks_keep_their_numbers(self):
        rejected = self.shot.tracks.rejected.copy()
        rejected[:20] = True
        edited = msgspec.structs.replace(self.shot.tracks, rejected=rejected)
        after = with_tracks(self.shot, edited)
        self.assertIs(after.objects[0], self.shot.objects[0])
        self.assertIs(after.ground, self.shot.ground)


if __name__ == "__main__":
    unittest.main()
