"""The adjustment beside pycolmap's (J. Schönberger and J.-M. Frahm, Structure-from-Motion Revisited, CVPR 2016), on the same tracks."""

import unittest

import numpy as np
import pycolmap

from lodestar.core.basics.geometry import fit_similarity, rotation_from_vector
from lodestar.core.solve.adjust import Scene, Seen, adjust, seen
from tests.helpers import Seeded


def start_scene(t: Seeded) -> tuple[Scene, Seen]:
    """A scene some way off the truth, and what was seen of it twice or more."""
    rng = np.random.default_rng(0)
    n = len(t.cameras)
    keep = np.isin(t.track, np.flatnonzero(np.bincount(t.track, minlength=len(t.points)) >= 2))
    names, point = np.unique(t.track[keep], return_inverse=True)
    R = rotation_from_vector(0.002 * rng.standard_normal((n, 3))) @ np.array([c.R for c in t.cameras])
    C = np.array([c.centre for c in t.cameras]) + 0.02 * rng.standard_normal((n, 3))
    X = t.points[names] + 0.05 * rng.standard_normal((len(names), 3))
    return Scene(R, C, X, np.array([1050.0, 0.0, 0.0])), seen(t.frame[keep], point, t.xy[keep], len(names))


def reference_adjustment(t: Seeded, scene: Scene, s: Seen) -> tuple[np.ndarray, np.ndarray]:
    """Camera centres (n, 3) and f, k1, k2 as pycolmap adjusts them. Its pixels begin at the corner of the first one."""
    pycolmap.logging.minloglevel = 2
    known = pycolmap.Reconstruction()
    f, k1, k2 = scene.K
    known.add_camera_with_trivial_rig(
        pycolmap.Camera(model="RADIAL", width=t.width, height=t.height, camera_id=1, params=[f, t.lens.cx + 0.5, t.lens.cy + 0.5, k1, k2])
    )
    rows = [np.flatnonzero(s.frame == i) for i in range(len(scene.R))]
    place = np.zeros(len(s.frame), int)
    for i, own in enumerate(rows):
        place[own] = np.arange(len(own))
        pose = pycolmap.Rigid3d(pycolmap.Rotation3d(scene.R[i]), -scene.R[i] @ scene.C[i])
        known.add_image_with_trivial_frame(pycolmap.Image(name=str(i), keypoints=s.xy[own] + 0.5, camera_id=1, image_id=i + 1), pose)
    for p in range(len(scene.X)):
        track = pycolmap.Track()
        for row in range(s.first[p], s.first[p + 1]):
            track.add_element(int(s.frame[row]) + 1, int(place[row]))
        known.add_point3D(scene.X[p], track, np.zeros(3, np.uint8))
    options = pycolmap.BundleAdjustmentOptions()
    options.print_summary = False
    pycolmap.bundle_adjustment(known, options)
    centres = np.array([known.images[i + 1].projection_center() for i in range(len(scene.R))])
    return centres, np.array(known.cameras[1].params)[[0, 3, 4]]


class ReferenceTest(unittest.TestCase):
    def test_as_accurate_as_the_reference_on_the_same_tracks(self):
        t = Seeded(seed=20, frames=30, tracks=260, sigma=0.3, moving=0, life=20)
        scene, s = start_scene(t)
        C, K = reference_adjustment(t, scene, s)
        done, _ = adjust(scene, s, (t.lens.cx, t.lens.cy), loss_px=0, rounds=60, tolerance=1e-10)
        true = np.array([c.centre for c in t.cameras])
        own, theirs = (np.sqrt(((fit_similarity(c, true).points(c) - true) ** 2).sum(1).mean()) for c in (done.C, C))
        self.assertLess(own, 1.02 * theirs)
        np.testing.assert_allclose(done.K, K, rtol=2e-3, atol=2e-4)


if __name__ == "__main__":
    unittest.main()
