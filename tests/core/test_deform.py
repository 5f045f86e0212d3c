"""What deforms titles and logos: against closed forms, and that solids stay closed."""

import unittest

import msgspec
import numpy as np

from lodestar.core.basics.keyed import Key, Keyed, constant
from lodestar.core.evaluate.kinds import kind_of
from lodestar.core.evaluate.objects import items_of
from lodestar.core.light.lamps import SunLight
from lodestar.core.light.sun import direction
from lodestar.core.render.items import Item
from lodestar.core.shape.deform import Bent, Pulled, Smeared, Twisted, Waved, deformed, finer
from lodestar.core.shape.extrude import Contours, bevelled, solid
from lodestar.core.shape.solids import box_mesh
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Bend, Mover, Smear, Title, Twist, Wave
from tests.core.test_rays import GROUND, SKY, looking, placed, whole

WIDE = np.diag([4.0, 0.6, 1.0, 1.0])  # of a box round the z axis, from z = 0
MIDDLE = (0.0, 0.0, 0.5)


def volume(mesh) -> float:
    a, b, c = np.moveaxis(mesh.vertices.astype(float)[mesh.triangles], 1, 0)
    return float(np.einsum("ij,ij->", a, np.cross(b, c))) / 6


def open_edges(mesh) -> int:
    """Edges that do not belong to two triangles, corners at one place taken as one."""
    corner = np.unique(np.round(mesh.vertices.astype(float), 5), axis=0, return_inverse=True)[1].ravel()[mesh.triangles]
    corner = corner[(corner != np.roll(corner, 1, 1)).all(1)]
    edges = np.sort(np.stack([corner, np.roll(corner, -1, 1)], 2).reshape(-1, 2), 1)
    return int((np.unique(edges, axis=0, return_counts=True)[1] != 2).sum())


class DeformTest(unittest.TestCase):
    def test_solids_stay_closed_and_twist_and_bend_keep_their_volume(self):
        """Both have a Jacobian of 1, or of 1 in the mean over a body that is as deep on both sides (A. Barr, SIGGRAPH 1984)."""
        ring = [[(-0.5, 0), (0.5, 0), (0.5, 1), (-0.5, 1)], [(-0.2, 0.3), (-0.2, 0.7), (0.2, 0.7), (0.2, 0.3)]]
        mesh = solid(Contours(tuple(tuple(map(tuple, c)) for c in ring)), bevelled(0.3, 0.03))
        for one in (
            Twisted(0, 120.0, MIDDLE, 1.0),
            Twisted(2, 200.0, MIDDLE, 1.0),
            Bent(0, 1, 140.0, MIDDLE, 1.0),
            Bent(2, 1, 60.0, (0.0, 0.0, 0.0), 1.0),
            Waved((0.0, 0.0, 0.2), 0.7, 0.1),
        ):
            found = deformed(mesh, np.eye(4), (one,))
            self.assertEqual(open_edges(found), 0, one)
            self.assertAlmostEqual(volume(found) / volume(mesh), 1, delta=0.01, msg=str(one))
        for one in (Smeared((0.3, 0.0, 0.8), (0.6, 0.0, 0.5), 0.7, 1.0), Pulled((0.0, 0.0, 0.5), -2.0, 0.8, 1.0)):
            found = deformed(mesh, np.eye(4), (one,))
            self.assertEqual(open_edges(found), 0, one)
            self.assertGreater(volume(found), 0.5 * volume(mesh))

    def test_places_against_formulas(self):
        ends = np.array([[-2.0, 0.1, 0.9], [2.0, 0.1, 0.9], [0.0, 0.0, 0.5]])
        half = np.sqrt(0.5)
        # a turn of 45 degrees backward at one end and forward at the other, about the x axis through the middle
        np.testing.assert_allclose(
            Twisted(0, 90.0, MIDDLE, 4.0)(ends),
            [[-2, half * (0.1 + 0.4), 0.5 + half * (0.4 - 0.1)], [2, half * (0.1 - 0.4), 0.5 + half * (0.4 + 0.1)], [0, 0, 0.5]],
            atol=1e-12,
        )
        # a half circle: its ends stand across the diameter 2 r = 2 * 4 / pi, turned by 90 degrees, and as far away as r
        r = 4 / np.pi
        np.testing.assert_allclose(Bent(0, 1, 180.0, MIDDLE, 4.0)(ends[:2]), [[-(r - 0.1), r, 0.9], [r - 0.1, r, 0.9]], atol=1e-12)
        np.testing.assert_allclose(Waved((0.0, 0.0, 0.3), 4.0, 0.0)(np.array([[1.0, 0, 0], [2.0, 0, 0]])), [[1, 0, 0.3], [2, 0, 0]], atol=1e-12)
        smear = Smeared((0.0, 0.0, 0.5), (1.0, 0.0, 0.4), 0.6, 1.0)
        np.testing.assert_allclose(smear(np.array([[0.0, 0.0, 0.5], [0.0, 0.7, 0.5]])), [[1, 0, 0.9], [0, 0.7, 0.5]], atol=1e-9)
        np.testing.assert_allclose(Pulled((0.0, 0.0, 0.0), 0.5, 1.0, 0.1)(np.array([[0.2, 0, 0]])), [[0.1, 0, 0]], atol=1e-9)

    def test_a_smear_folds_nothing_over(self):
        """Nowhere does the determinant of its Jacobian, by small differences, come down to 0."""
        grid = np.stack(np.meshgrid(np.linspace(-1, 3, 81), [0.0], np.linspace(-1, 2, 61), indexing="ij"), -1).reshape(-1, 3)
        smear = Smeared((0.0, 0.0, 0.5), (1.8, 0.0, 0.6), 0.5, 0.6)
        columns = [(smear(grid + step) - smear(grid - step)) / 2e-6 for step in 1e-6 * np.eye(3)]
        self.assertGreater(float(np.linalg.det(np.stack(columns, 2)).min()), 0)

    def test_normals_are_those_of_the_surface(self):
        bent = deformed(box_mesh(), WIDE, (Bent(0, 1, 120.0, MIDDLE, 4.0),))
        there = bent._replace(vertices=bent.vertices @ WIDE[:3, :3].T.astype(np.float32))
        a, b, c = np.moveaxis(there.vertices.astype(float)[there.triangles], 1, 0)
        across = np.cross(b - a, c - a)
        across /= np.linalg.norm(across, axis=1, keepdims=True)
        given = there.normals[there.triangles].mean(1) @ np.linalg.inv(WIDE[:3, :3])
        given /= np.linalg.norm(given, axis=1, keepdims=True)
        self.assertGreater(float((across * given).sum(1).min()), 0.995)

    def test_meshes_are_finer_only_where_it_bends_and_letters_out_of_reach_stay_the_same(self):
        box = box_mesh()
        self.assertEqual(len(finer(box, WIDE, (Twisted(0, 1.0, MIDDLE, 4.0),)).triangles), len(box.triangles))
        near = finer(box, WIDE, (Smeared((2.0, 0.0, 0.5), (0.1, 0.0, 0.0), 0.5, 1.0),))
        middle = (near.vertices[near.triangles] @ WIDE[:3, :3].T).mean(1)
        self.assertGreater((middle[:, 0] > 1).sum(), 10 * (middle[:, 0] < 0).sum())
        title = Title(id="t", text="OWL", deforms=(Smear(id="s", point=constant(-1.2, 0.0, 0.5), to=constant(-1.6, 0.0, 0.9), radius=constant(0.4)),))
        plain = msgspec.structs.replace(title, deforms=())
        same = [a.mesh is b.mesh for a, b in zip(kind_of(title).parts(title, 0), kind_of(plain).parts(plain, 0))]
        self.assertEqual(same, [False, True, True])

    def test_it_is_keyed_written_and_read(self):
        title = Title(id="n", text="OPEN SKY")
        shot = Shot(objects=(title,))
        runs = Wave(id="w", phase=Keyed((0.0,), (Key(0.0, (0.0,), "linear"), Key(40.0, (1.0,), "linear"))))
        deforms = (Twist(id="t", axis="up", angle=constant(30.0)), Bend(id="b", axis="away"), runs)
        changed = msgspec.structs.replace(shot, objects=(msgspec.structs.replace(title, deforms=deforms),))
        again = msgspec.json.decode(msgspec.json.encode(changed.objects[0]), type=Title)
        self.assertEqual(again.deforms, deforms)
        places = [np.concatenate([item.mesh.vertices for item in items_of(changed, again, frame)]) for frame in (0, 10, 40)]
        self.assertGreater(float(np.abs(places[0] - places[1]).max()), 0.05)
        np.testing.assert_allclose(places[0], places[2], atol=1e-4)  # one whole wave later

    def test_what_is_keyed_has_its_form_at_each_time_of_the_exposure(self):
        runs = Keyed((0.0,), (Key(0.0, (0.0,), "linear"), Key(10.0, (1.0,), "linear")))
        title = Title(id="t", text="OWL", deforms=(Wave(id="w", swing=constant(0.0, 0.0, 0.3), phase=runs),))
        shot = Shot(objects=(title,))
        for share in (-0.25, 0.0, 0.25):
            then = [part.mesh.vertices for part in kind_of(title).parts(title, 5 + share)]
            for item, vertices in zip(items_of(shot, title, 5), then, strict=True):
                np.testing.assert_allclose(item.later(share).vertices, vertices, atol=1e-6)
        self.assertFalse(np.allclose(items_of(shot, title, 5)[0].mesh.vertices, then[0], atol=0.01))
        still = msgspec.structs.replace(title, deforms=(Wave(id="w"),))
        self.assertEqual({item.later for item in items_of(shot, still, 5)}, {None})
        # a letter that a mover takes along a wave that stands changes its form on its way
        shift = Keyed((0.0, 0.0, 0.0), (Key(0.0, (0.0, 0.0, 0.0), "linear"), Key(10.0, (2.0, 0.0, 0.0), "linear")))
        driven = msgspec.structs.replace(still, movers=(Mover(id="m", shift=shift, reach=constant(1.0)),))
        item, then = items_of(shot, driven, 5)[0], kind_of(driven).parts(driven, 5.25)[0]
        np.testing.assert_allclose(item.later(0.25).vertices, then.mesh.vertices, atol=1e-6)

    def test_corners_that_move_are_seen_as_a_solid_that_moves(self):
        """The same picture of a box by its corners and by its place: colour, shadow and blur."""
        mesh, by = box_mesh(), 1.2
        shifted = lambda share: mesh._replace(vertices=mesh.vertices + np.float32([by * share, 0, 0]))
        lights = [SunLight(direction(200.0, 40.0), np.ones(3), 0.5), SKY]
        camera = looking((0.5, -5.0, 3.0), (0.0, 0.0, 0.3), 90.0, (96, 64))
        by_place = Item(mesh, lambda share: placed(by * share)(0), (0.8, 0.5, 0.3), 0.5, 0.0)
        by_corners = Item(mesh, placed(), (0.8, 0.5, 0.3), 0.5, 0.0, later=shifted)
        pictures = [whole([one, GROUND], lights, camera, (96, 64), 256, shutter=0.9) for one in (by_place, by_corners)]
        for a, b in zip(*pictures):
            self.assertLess(float(np.abs(a - b).mean()), 1e-3)
            self.assertLess(float(np.abs(a - b).max()), 0.08)
        still = whole([by_corners, GROUND], lights, camera, (96, 64), 64)[0]
        self.assertGreater(float(np.abs(still - pictures[0][0]).mean()), 0.02)


if __name__ == "__main__":
    unittest.main()
