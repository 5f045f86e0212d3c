"""Where objects stand and which is the parent of which: poses, pivots, parents, copies, rows, and stand-ins made from points."""

import unittest

import msgspec
import numpy as np
from scipy.spatial.transform import Rotation

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.geometry import turn_from_matrix, turn_matrix
from lodestar.core.basics.keyed import Key, Keyed, constant
from lodestar.core.edits import placing
from lodestar.core.edits.arrange import (
    PIVOTS,
    added,
    along_line,
    along_wall,
    corners_of,
    dropped,
    duplicated,
    facing_camera,
    find,
    ground_through,
    ground_under,
    mixed_depths,
    packed,
    pasted,
    pivots_of,
    place_of,
    post_card,
    removed,
    reparented,
    repivoted,
    stood,
    tube_along,
    turn_of,
    with_mesh_points,
)
from lodestar.core.edits.settle import with_solve
from lodestar.core.edits.sides import side_moved, to_the_ground
from lodestar.core.evaluate.cameras import camera_at, scene_frame
from lodestar.core.evaluate.kinds import kind_of
from lodestar.core.evaluate.objects import pose_of, problem_of
from lodestar.core.media.plates import PlateInfo
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens
from lodestar.core.scene.surfaces import Patch
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Anchor, Box, Card, Logo, Title, Tube, ancestors
from tests.helpers import DEMO

FRAMES = (0.0, 12.0, 30.0, 44.0)


def keyed(*pairs) -> Keyed:
    return Keyed(pairs[0][1], tuple(Key(float(f), tuple(map(float, v)), "linear") for f, v in pairs))


def some_shot() -> Shot:
    """A title on an anchor, both keyed at the same frames, and a box beside them."""
    anchor = Anchor(id="a", position=keyed((0, (1, 2, 0)), (44, (3, 2, 1))), turn=keyed((0, (20, 0, 0)), (44, (80, 0, 0))), size=constant(2.0))
    title = Title(
        id="t",
        parent="a",
        position=keyed((0, (0, 1, 0)), (44, (0, 2, 0))),
        turn=keyed((0, (5, -20, 3)), (44, (40, 10, 0))),
        size=keyed((0, (1,)), (44, (1.5,))),
    )
    return Shot(objects=(anchor, title, Box(id="b", position=constant(4, 0, 0), turn=constant(30, 0, 0), extent=constant(1, 2, 3))))


class RotationTest(unittest.TestCase):
    def test_turns_against_scipy(self):
        # heading about z, then pitch about the turned x, then roll about the turned y: intrinsic 'ZXY' of SciPy
        rng = np.random.default_rng(0)
        for heading, pitch, roll in rng.uniform([-180, -89, -180], [180, 89, 180], (200, 3)):
            ours, theirs = turn_matrix((heading, pitch, roll)), Rotation.from_euler("ZXY", (heading, pitch, roll), degrees=True).as_matrix()
            np.testing.assert_allclose(ours, theirs, atol=1e-12)
            back = Rotation.from_matrix(theirs).as_euler("ZXY", degrees=True)
            np.testing.assert_allclose(turn_from_matrix(ours), back, atol=1e-6)

    def test_a_turn_at_the_pole_still_says_where_it_points(self):
        for pitch in (90.0, -90.0):
            R = turn_matrix((35.0, pitch, 0.0))
            np.testing.assert_allclose(turn_matrix(turn_from_matrix(R)), R, atol=1e-7)


class PoseTest(unittest.TestCase):
    def test_standing_lying_facing_and_dropping(self):
        shot = files.read(DEMO)
        for frame in (0, 60):
            lying = stood(shot, "open-sky", frame, "whole", -90.0)
            np.testing.assert_allclose(turn_of(lying, find(lying, "open-sky"), frame)[1], -90, atol=1e-6)
            foot = lambda one, at=frame: corners_of(one, find(one, "open-sky"), at)[:, 2].min()
            self.assertAlmostEqual(foot(lying), foot(shot), places=6)  # on its back, not sunk by half of its depth
            up = stood(lying, "open-sky", frame, "whole")
            self.assertAlmostEqual(foot(up), foot(shot), places=6)
            np.testing.assert_allclose(turn_of(up, find(up, "open-sky"), frame), (-7.0, 0, 0), atol=1e-6)
            faced = facing_camera(shot, "open-sky", frame, "whole")
            item = find(faced, "open-sky")
            to = place_of(faced, item, frame) - camera_at(faced, frame).centre
            ahead = turn_matrix(turn_of(faced, item, frame))[:, 1]
            np.testing.assert_allclose(ahead[:2], to[:2] / np.linalg.norm(to[:2]), atol=1e-6)
        raised = msgspec.structs.replace(
            shot, objects=(msgspec.structs.replace(shot.objects[0], position=constant(0, 0, 2), turn=constant(0, 30, 0)),)
        )
        low = dropped(raised, "open-sky", 0, "whole")
        self.assertAlmostEqual(corners_of(low, low.objects[0], 0)[:, 2].min(), 0.0, places=9)

    def test_along_the_wall_that_its_points_make(self):
        shot = files.read(DEMO)
        points = scene_frame(shot).points(shot.solve.xyz)
        # the low wall behind the terrace stands upright, 12.6 m from where the true scene begins; the gate title hangs before it
        high = (points[:, 2] > 0.15) & (points[:, 2] < 0.8)
        line = np.flatnonzero(high & (np.abs(points[:, 1] - np.median(points[high, 1])) < 0.6))
        tracks = tuple(int(i) for i in shot.solve.point_ids[line][:40])
        card = Card(id="w", position=constant(*points[line].mean(0)), turn=constant(33, 10, 5), tracks=tracks)
        turned = along_wall(added(shot, card), "w", 0, "whole")
        heading, pitch, roll = turn_of(turned, find(turned, "w"), 0)
        self.assertAlmostEqual(pitch, 0, places=6)
        self.assertAlmostEqual(roll, 0, places=6)
        to = camera_at(shot, 0).centre - points[line].mean(0)
        self.assertGreater(-turn_matrix((heading, 0, 0))[:, 1] @ to, 0, "its face is towards the camera")
        flat = msgspec.structs.replace(card, tracks=shot.ground.on_ground[:30])
        with self.assertRaises(UserError):
            along_wall(added(shot, flat), "w", 0, "whole")

    def test_a_pivot_is_chosen_without_the_object_moving(self):
        shot = some_shot()
        for name in PIVOTS:
            after = repivoted(shot, "t", pivots_of(find(shot, "t"), 0)[name])
            for frame in (0.0, 44.0):
                np.testing.assert_allclose(pose_of(after, find(after, "t"), frame), pose_of(shot, find(shot, "t"), frame), atol=1e-9, err_msg=name)
        middle = repivoted(shot, "b", pivots_of(find(shot, "b"), 0)["middle"])
        np.testing.assert_allclose(find(middle, "b").position.at(0), (4, 0, 1.5), atol=1e-9)
        np.testing.assert_allclose(pose_of(middle, find(middle, "b"), 9), pose_of(shot, find(shot, "b"), 9), atol=1e-12)


class ParentTest(unittest.TestCase):
    def test_it_is_kept_in_place_at_its_keys_when_hung_on_another(self):
        shot = some_shot()
        for parent in ("", "b"):
            after = reparented(shot, "t", parent)
            for frame in (0.0, 44.0):
                np.testing.assert_allclose(pose_of(after, find(after, "t"), frame), pose_of(shot, find(shot, "t"), frame), atol=1e-9)
        back = reparented(reparented(shot, "t", ""), "t", "a")
        np.testing.assert_allclose(find(back, "t").position.at(44), find(shot, "t").position.at(44), atol=1e-9)

    def test_rings_are_refused_and_end_where_a_file_has_one(self):
        shot = some_shot()
        for parent in ("t", "a"):
            with self.assertRaises(UserError):
                reparented(shot, "a", parent)
        ring = msgspec.structs.replace(shot, objects=(Anchor(id="x", parent="y"), Anchor(id="y", parent="x")))
        self.assertEqual([o.id for o in ancestors(ring.objects, ring.objects[0])], ["y", "x"])
        self.assertTrue(np.isfinite(pose_of(ring, ring.objects[0], 0)).all())

    def test_what_hung_on_something_deleted_stays(self):
        shot = some_shot()
        after = removed(shot, ["a"])
        self.assertEqual([o.id for o in after.objects], ["t", "b"])
        np.testing.assert_allclose(pose_of(after, find(after, "t"), 0), pose_of(shot, find(shot, "t"), 0), atol=1e-9)

    def test_sizes_of_nothing_or_less_are_told(self):
        for size in (0.0, -1.0):
            self.assertIn("size", problem_of(Title(id="t", size=constant(size)), 0).lower())
            self.assertTrue(problem_of(Box(id="b", extent=constant(1, size, 1)), 0))
        self.assertEqual(problem_of(Title(id="t"), 0), "")


class CopiesTest(unittest.TestCase):
    def test_duplicates_take_along_what_hangs_on_them(self):
        shot = some_shot()
        after, ids = duplicated(shot, ["a"], 0)
        self.assertEqual(len(after.objects), 5)
        child = next(o for o in after.objects if o.parent == ids[0])
        self.assertEqual(child.text, find(shot, "t").text)
        away = np.linalg.norm(place_of(after, find(after, ids[0]), 0) - place_of(shot, find(shot, "a"), 0))
        self.assertGreater(away, 0.1)

    def test_pasting_in_the_same_shot_and_in_another(self):
        shot = some_shot()
        shot = msgspec.structs.replace(shot, objects=tuple(msgspec.structs.replace(o, tracks=(4, 7)) for o in shot.objects))
        text = packed(shot, ["t"])
        other, ids = pasted(Shot(), text, False)
        self.assertEqual((find(other, ids[0]).tracks, find(other, ids[0]).parent), ((), ""))
        np.testing.assert_allclose(pose_of(other, find(other, ids[0]), 0), pose_of(shot, find(shot, "t"), 0), atol=1e-9)
        same, ids = pasted(shot, packed(shot, ["a"]), True)
        self.assertEqual(find(same, ids[0]).tracks, (4, 7))
        self.assertEqual(len({o.id for o in same.objects}), 5)
        for text in ("", "hello", "[1]", '[{"type": "title"}]', "[" * 100_000):
            with self.assertRaises(UserError):
                pasted(shot, text, True)

    def test_a_row_and_a_path(self):
        shot = Shot(objects=tuple(Anchor(id=str(i), position=constant(*p)) for i, p in enumerate([(0, 0, 0), (9, 9, 9), (6, 3, 0)])))
        row = along_line(shot, ["0", "1", "2"], 0, "whole")
        np.testing.assert_allclose([find(row, i).position.at(0) for i in "012"], [(0, 0, 0), (3, 1.5, 0), (6, 3, 0)])
        path = np.array([[0, 0, 0], [4, 0, 0], [4, 4, 0.0]])
        along = along_line(shot, ["0", "1", "2"], 0, "whole", path)
        np.testing.assert_allclose([find(along, i).position.at(0) for i in "012"], [(0, 0, 0), (4, 0, 0), (4, 4, 0)], atol=1e-9)
        self.assertEqual([round(find(along, i).turn.at(0)[0]) for i in "02"], [0, 90])
        for ids, line in ((["0"], None), (["0", "1"], np.zeros((2, 3)))):
            with self.assertRaises(UserError):
                along_line(shot, ids, 0, "whole", line)


class StandInTest(unittest.TestCase):
    """On the demo: what is made from solved points lies where the true scene has it."""

    @classmethod
    def setUpClass(cls):
        cls.shot = files.read(DEMO)
        cls.points = scene_frame(cls.shot).points(cls.shot.solve.xyz)
        cls.ids = cls.shot.solve.point_ids

    def test_ground_mesh_through_points_follows_them_and_is_edited(self):
        rows = np.flatnonzero(np.abs(self.points[:, 2]) < 0.03)[:60]
        tracks = [int(i) for i in self.ids[rows]]
        mesh = ground_through(self.shot, tracks)
        self.assertEqual((mesh.drawn, mesh.receives, mesh.tracks), (False, True, tuple(sorted(tracks, key=self.ids.tolist().index))))
        shot = added(self.shot, mesh)
        middle = self.points[rows].mean(0)
        self.assertAlmostEqual(ground_under(shot, middle, 0), 0.0, delta=0.05)
        fewer = with_mesh_points(shot, mesh, tracks[:10], False)
        self.assertEqual(len(fewer.points), 3 * (len(tracks) - 10))
        again = with_mesh_points(added(self.shot, fewer), fewer, tracks[:10], True)
        self.assertEqual(set(again.tracks), set(tracks))
        with self.assertRaises(UserError):
            with_mesh_points(shot, mesh, tracks[:-2], False)

    def test_post_card_and_tube_stand_along_their_points(self):
        shot = self.shot
        foot, top = np.array([0.3, 0.2, 0.0]), np.array([0.35, 0.2, 1.1])
        xyz = scene_frame(shot).inverse().points(np.array([foot + s * (top - foot) for s in (0.1, 0.4, 0.7, 1.0)]))
        solve = msgspec.structs.replace(shot.solve, xyz=np.concatenate([xyz, shot.solve.xyz[4:]]))
        shot = with_solve(shot, solve)
        tracks = [int(i) for i in self.ids[:4]]
        tube, card = tube_along(shot, tracks), post_card(shot, tracks, 20)
        for item, length in ((tube, np.linalg.norm(top - foot)), (card, np.linalg.norm(top - foot))):
            axis = turn_matrix(item.turn.value)[:, 2]
            np.testing.assert_allclose(axis, (top - foot) / np.linalg.norm(top - foot), atol=1e-3)
            self.assertAlmostEqual(getattr(item, "length", getattr(item, "height", None)).value[0], length, places=3)
            self.assertTrue(item.hides and not item.drawn)
            self.assertAlmostEqual(item.position.value[2], 0.0, places=3)  # down to the ground
        self.assertEqual(mixed_depths(shot, tracks, 20), "")
        behind = scene_frame(shot).inverse().points(np.array([[0.3, 0.2, 0.5]]) + 0.6 * (np.array([0.3, 0.2, 0.5]) - camera_at(shot, 20).centre))
        mixed = with_solve(shot, msgspec.structs.replace(solve, xyz=np.concatenate([xyz[:3], behind, shot.solve.xyz[4:]])))
        self.assertIn("what is behind", mixed_depths(mixed, tracks, 20))
        to = camera_at(shot, 20).centre - np.array(card.position.value)
        self.assertGreater(-turn_matrix(card.turn.value)[:, 1] @ to, 0)

    def test_too_few_points_or_points_in_a_line_are_told(self):
        some = [int(i) for i in self.ids]
        for make, tracks in ((ground_through, some[:2]), (tube_along, some[:1]), (lambda s, t: post_card(s, t, 0), []), (ground_through, [99999])):
            with self.assertRaises(UserError):
                make(self.shot, tracks)
        xyz = scene_frame(self.shot).inverse().points(np.c_[np.linspace(0, 4, 8), np.linspace(0, 8, 8), np.zeros(8)])
        line = with_solve(self.shot, msgspec.structs.replace(self.shot.solve, xyz=np.concatenate([xyz, self.shot.solve.xyz[8:]])))
        with self.assertRaises(UserError) as told:
            ground_through(line, some[:8])
        self.assertIn("line", told.exception.what)
        turning = with_solve(self.shot, msgspec.structs.replace(self.shot.solve, motion="turning"))
        with self.assertRaises(UserError):
            ground_through(turning, some[:8])

    def test_a_bad_drawing_is_a_problem_of_its_object(self):
        self.assertTrue(problem_of(Logo(id="l", svg="<svg/>"), 0))


class PlacingTest(unittest.TestCase):
    """New objects on a patch 10 from the camera."""

    def spot(self, normal, centre=(0.0, 10.0, 0.0), hangs=True, wide=1280, high=720, f=900.0):
        camera = Camera(np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]]), np.zeros(3), Lens(f, f, (wide - 1) / 2, (high - 1) / 2))
        patch = Patch(np.array(centre), np.array(normal, float), np.zeros(0, int), 0.0, 0.0)
        shot = Shot(plate=PlateInfo("none.mp4", wide, high, 60, (25, 1)))
        return placing.Spot(shot, camera, patch, 0, hangs)

    def test_a_title_stands_upright_on_the_ground_and_faces_the_camera(self):
        title = placing.title_at(self.spot((0, 0, 1), (0.0, 10.0, 0.05)))
        self.assertEqual(title.height.value, (1.3,))  # 720 px at 900 px of focal length are 8 at a distance of 10, and a sixth of that
        self.assertEqual(title.position.value, (0.0, 10.0, 0.0))
        self.assertEqual(title.turn.value[1:], (0, 0))

    def test_a_title_is_as_high_in_the_picture_whatever_the_lens_and_fits_an_upright_one(self):
        for wide, high, f in ((1280, 720, 400.0), (1280, 720, 4000.0), (720, 1280, 900.0)):
            title = placing.title_at(self.spot((0, 0, 1), (0.0, 10.0, 0.0), wide=wide, high=high, f=f))
            self.assertAlmostEqual(title.height.value[0] / 10 * f / 720, 1 / 6, delta=0.01)

    def test_the_back_of_what_hangs_lies_on_the_wall(self):
        title = placing.title_at(self.spot((0, -1, 0), (0.0, 10.0, 2.0)))
        self.assertAlmostEqual(title.position.value[1] + title.depth.value[0] / 2, 10.0)
        far = placing.title_at(self.spot((0, -1, 0), (0.0, 10.0, 2.0), hangs=False))
        self.assertEqual(far.position.value[1], 10.0)

    def test_a_check_pattern_lies_a_hair_over_the_ground(self):
        card = placing.check_pattern_at(self.spot((0, 0, 1)))
        self.assertEqual(card.turn.value[1], -90.0)
        self.assertTrue(0 < card.position.value[2] < 0.01 * card.width.value[0])


class SidesTest(unittest.TestCase):
    def test_a_side_moves_and_the_side_across_stays(self):
        turn = constant(30.0, -12.0, 8.0)
        for item in (
            Card(id="k", width=constant(2.0), twist=constant(25.0)),
            Box(id="k", extent=constant(1.0, 2.0, 3.0), pivot=(0.2, 0.1, 1.5)),
            Tube(id="k", length=constant(2.0)),
        ):
            item = msgspec.structs.replace(item, position=constant(1.0, 2.0, 0.5), turn=turn, size=constant(1.7))
            shot = Shot(objects=(item,))
            for name, side in kind_of(item).sides(item, 0).items():
                new = side_moved(shot, item, 0, "here", name, 0.4)
                m, n = pose_of(shot, item, 0), pose_of(Shot(objects=(new,)), new, 0)
                for other, old in kind_of(item).sides(item, 0).items():
                    if abs(old.along @ side.along) < 0.5:
                        continue
                    by = 0.4 * (m[:3, :3] @ old.along) / 1.7 if other == name else 0.0
                    now = n[:3, :3] @ kind_of(new).sides(new, 0)[other].at + n[:3, 3]
                    np.testing.assert_allclose(now, m[:3, :3] @ old.at + m[:3, 3] + by, atol=1e-9, err_msg=f"{item.NOUN} {name} {other}")

    def test_a_side_pushed_through_the_other_leaves_a_sliver_and_a_keyed_length_gets_a_key(self):
        item = Tube(id="k", length=keyed((0, (2,)), (20, (4,))))
        thin = side_moved(Shot(objects=(item,)), item, 20, "here", "top", -9.0)
        self.assertGreater(thin.length.at(20)[0], 0)
        self.assertEqual(thin.length.at(0), (2.0,))

    def test_a_foot_reaches_the_ground_along_its_axis(self):
        item = Tube(id="k", position=constant(0.0, 0.0, 1.0), turn=constant(0.0, 30.0, 0.0), length=constant(2.0))
        shot = Shot(objects=(item,))
        by = to_the_ground(shot, item, 0)
        self.assertAlmostEqual(by, 1.0 / np.cos(np.deg2rad(30)), places=9)
        new = side_moved(shot, item, 0, "here", "foot", by)
        self.assertAlmostEqual(place_of(shot, new, 0)[2], 0.0, places=9)
        self.assertIsNone(to_the_ground(shot, msgspec.structs.replace(item, turn=constant(0.0, 90.0, 0.0)), 0))


if __name__ == "__main__":
    unittest.main()
