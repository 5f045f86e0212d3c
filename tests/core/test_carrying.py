"""Outlines that lie on a plane of the scene and go with the solved camera."""

import json
import unittest

import msgspec
import numpy as np

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.keyed import Keyed
from lodestar.core.edits.settle import with_solve, with_tracks
from lodestar.core.evaluate.cameras import camera_at
from lodestar.core.evaluate.carrying import outline_at, plane_of, tracks_under
from lodestar.core.matte.outline import coverage
from lodestar.core.matte.sources import Outline
from lodestar.core.picture.frame import frame
from lodestar.core.picture.workshop import close_workshop
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens
from lodestar.core.shot import files
from lodestar.core.track.edit import deleted
from tests.factory import make_shot
from tests.helpers import DEMO, SHOTS


class CarryingTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.addClassCleanup(close_workshop)
        cls.shot = files.read(DEMO)
        # a part of the paving, which is level and at 0
        cls.corners = np.array([[-1.6, -1.4, 0], [0.4, -1.6, 0], [1.0, 0.2, 0], [-0.4, 0.8, 0], [-1.8, 0.2, 0]])
        drawn = camera_at(cls.shot, 46).project(cls.corners)[0]
        cls.outline = Outline(id="o", name="o", shape=Keyed(()).with_key(46, tuple(drawn.ravel()), "linear"))
        cls.carried = msgspec.structs.replace(cls.outline, carried=tracks_under(cls.shot, cls.outline, 46))

    def test_one_key_lasts_through_the_shot(self):
        for index in (0, 20, 46, 75, 99):
            true = camera_at(self.shot, index).project(self.corners)[0]
            self.assertLess(np.abs(outline_at(self.shot, self.carried, index) - true).max(), 1.0, index)
            a, b = coverage(outline_at(self.shot, self.carried, index), 1280, 720), coverage(true, 1280, 720)
            self.assertGreater(np.minimum(a, b).sum() / np.maximum(a, b).sum(), 0.98)
        still = outline_at(self.shot, self.outline, 99)
        self.assertGreater(np.abs(still - camera_at(self.shot, 99).project(self.corners)[0]).max(), 40)

    def test_keys_change_it_on_its_plane(self):
        grown = 1.5 * (self.corners - self.corners.mean(0)) + self.corners.mean(0)
        later = camera_at(self.shot, 80).project(grown)[0]
        shape = self.carried.shape.with_key(80, tuple(later.ravel()), "linear")
        both = msgspec.structs.replace(self.carried, shape=shape)
        for index, share in ((46, 0.0), (63, 0.5), (80, 1.0), (99, 1.0)):
            true = camera_at(self.shot, index).project(self.corners + share * (grown - self.corners))[0]
            self.assertLess(np.abs(outline_at(self.shot, both, index) - true).max(), 1.2, index)

    def test_the_matte_in_the_picture_is_carried(self):
        matte = msgspec.structs.replace(self.carried, feather=Keyed((0.0,)))
        shot = msgspec.structs.replace(self.shot, mattes=(matte,))
        cover = frame(shot, 80, layer="matte").pixels
        true = coverage(camera_at(self.shot, 80).project(self.corners)[0], 1280, 720)
        self.assertGreater(np.minimum(cover, true).sum() / np.maximum(cover, true).sum(), 0.98)

    def test_points_in_a_small_place_make_an_upright_plane_that_faces_the_camera(self):
        few = msgspec.structs.replace(self.carried, carried=self.carried.carried[:2])
        _, normal = plane_of(self.shot, few)
        self.assertEqual(normal[2], 0)
        self.assertGreater(normal @ (camera_at(self.shot, 46).centre * [1, 1, 0]), 0)

    def test_a_thin_post_is_carried_as_what_stands_in_front_not_by_the_ground_behind_it(self):
        tree = json.loads((SHOTS / "terrace.camera.json").read_text())
        lens = Lens(**{k: tree["lens"][k] for k in ("fx", "fy", "cx", "cy", "k1", "k2")})
        true = [Camera(np.array(f["R"]), np.array(f["t"]), lens) for f in tree["frames"]]

        def seen(index):
            side = 0.12 * true[index].R[0]
            foot, top = np.array([-3.6, 4.7, 0.0]), np.array([-3.6, 4.7, 1.05])  # as demo/scenery.py has it
            return np.array([true[index].project(p)[0] for p in (foot - side, top - side, top + side, foot + side)])

        outline = Outline(id="p", name="p", shape=Keyed(()).with_key(46, tuple(seen(46).ravel()), "linear"))
        carried = msgspec.structs.replace(outline, carried=tracks_under(self.shot, outline, 46))
        for index in (10, 30, 60, 75):
            self.assertLess(np.abs(outline_at(self.shot, carried, index) - seen(index)).max(), 3.0, index)
        self.assertGreater(np.abs(outline_at(self.shot, outline, 10) - seen(10)).max(), 40)

    def test_between_its_keys_a_steadied_outline_goes_with_the_hand_that_shakes(self):
        """Somebody who walks evenly over the terrace, keyed in every twelfth frame: the corners of a flat figure through the demo's cameras."""
        figure = np.array([[-0.25, 0.0], [-0.2, 1.7], [0.2, 1.7], [0.25, 0.0]])
        camera = lambda index: camera_at(self.shot, index)

        def seen(index):
            foot = np.array([-1.0 + 0.02 * index, 0.4, 0.0])
            to = (camera(46).centre - foot) * [1, 1, 0]
            across = np.cross([0.0, 0.0, 1.0], to / np.linalg.norm(to))
            return camera(index).project(foot + figure[:, :1] * across + figure[:, 1:] * [0.0, 0.0, 1.0])[0]

        shape = Keyed(())
        for index in range(0, 97, 12):
            shape = shape.with_key(index, tuple(seen(index).ravel()), "linear")
        drawn = Outline(id="w", name="w", shape=shape)
        steady = msgspec.structs.replace(drawn, steady=True)
        off = {name: np.concatenate([outline_at(self.shot, o, i) - seen(i) for i in range(96)]) for name, o in (("drawn", drawn), ("steady", steady))}
        rms = {name: float(np.sqrt((d**2).mean())) for name, d in off.items()}
        self.assertGreater(rms["drawn"], 4.0)
        self.assertLess(rms["steady"], 0.25 * rms["drawn"])
        for index in (0, 36, 96):
            np.testing.assert_allclose(outline_at(self.shot, steady, index), seen(index), atol=1e-6)
        # with its foot out of the picture it is taken for far away, where the camera's turns alone count
        high = msgspec.structs.replace(steady, shape=Keyed(()).with_key(10, (600.0, 500.0, 600.0, 900.0, 700.0, 900.0, 700.0, 500.0), "linear"))
        moved = outline_at(self.shot, high, 30) - np.array(high.shape.at(10)).reshape(-1, 2)
        self.assertGreater(np.abs(moved).max(), 1.0)
        self.assertLess(np.ptp(moved, axis=0).max(), 12.0, "all of it alike")
        unsolved = msgspec.structs.replace(make_shot(3, frames=6), objects=())
        unsolved = with_solve(unsolved, None)
        np.testing.assert_array_equal(outline_at(unsolved, steady, 5), np.array(steady.shape.at(5)).reshape(-1, 2))

    def test_what_cannot_be_carried_is_said_and_what_lost_its_tracks_stays_as_keyed(self):
        sky = Outline(id="s", name="s", shape=Keyed((600.0, 5.0, 640.0, 5.0, 640.0, 20.0)))
        with self.assertRaises(UserError):
            tracks_under(self.shot, sky, 46)
        lost = msgspec.structs.replace(self.carried, carried=(999_999,))
        np.testing.assert_array_equal(outline_at(self.shot, lost, 99), np.array(lost.shape.at(99)).reshape(-1, 2))

    def test_tracks_that_get_other_numbers_carry_on(self):
        shot = msgspec.structs.replace(self.shot, mattes=(self.carried,))
        gone = [t for t in range(40) if t not in self.carried.carried]
        after = with_tracks(shot, deleted(shot.tracks, np.array(gone)))
        (moved,) = after.mattes
        self.assertLess(np.abs(outline_at(after, moved, 90) - outline_at(shot, self.carried, 90)).max(), 0.5)


if __name__ == "__main__":
    unittest.main()
