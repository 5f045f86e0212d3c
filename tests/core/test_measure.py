"""Width and flicker of a matte's edge against discs whose edge is known by a formula."""

import unittest

import numpy as np
from scipy.special import erf

from lodestar.core.matte.measure import edge_points, measured, together

H, W = 160, 200


def disc(x: float, y: float, radius: float, sigma: float) -> np.ndarray:
    """A disc whose cover falls as the error function of its distance: an edge blurred by a normal distribution."""
    rows, columns = np.mgrid[0:H, 0:W]
    away = np.hypot(columns - x, rows - y) - radius
    return 0.5 - 0.5 * erf(away / (sigma * np.sqrt(2)))


class MeasureTest(unittest.TestCase):
    def test_points_lie_on_the_edge_and_look_outward(self):
        points, way = edge_points(disc(90.3, 70.8, 40.0, 1.0))
        to = points - [90.3, 70.8]
        np.testing.assert_allclose(np.linalg.norm(to, axis=1), 40.0, atol=0.06)
        self.assertGreater((way * to / 40.0).sum(1).min(), 0.99)

    def test_the_width_of_a_blurred_edge(self):
        """From 10 to 90 % a normal distribution takes 2.5631 of its standard deviation (the 90th percentile is 1.2816: statistical tables)."""
        for sigma in (0.8, 1.5, 2.5):
            found = measured([disc(90.3, 70.8, 40.0, sigma)])
            self.assertAlmostEqual(found.width_px, 2.5631 * sigma, delta=0.12)
            self.assertTrue(np.isnan(found.flicker_px))
            self.assertGreater(found.points, 200)

    def test_what_goes_with_the_picture_is_no_flicker_and_a_jump_is(self):
        """A disc that speeds up, as a foot does, and the picture in it with it."""
        at = {-1: (86.0, 72.5), 0: (90.3, 70.8), 1: (99.8, 66.1)}
        flows = [np.broadcast_to(np.array(at[t], np.float32) - np.array(at[0], np.float32), (H, W, 2)) for t in (-1, 1)]
        moving = [disc(*at[t], 40.0, 1.2) for t in (-1, 0, 1)]
        self.assertLess(measured(moving, flows).flicker_px, 0.05)
        self.assertGreater(measured(moving).flicker_px, 1.0, "without the motion")
        # the disc is larger by 0.8 px in the middle frame alone: all of its edge jumps out by that
        boiling = [disc(*at[t], 40.0 + 0.8 * (t == 0), 1.2) for t in (-1, 0, 1)]
        found = measured(boiling, flows)
        self.assertAlmostEqual(found.flicker_px, 0.8, delta=0.05)
        self.assertLess(found.flicker_p95_px, 1.0)
        both = together([measured(moving, flows), found, measured([np.zeros((H, W))])])
        self.assertAlmostEqual(both.flicker_px, (measured(moving, flows).flicker_px + found.flicker_px) / 2)

    def test_nothing_all_and_what_leaves_the_picture(self):
        for cover in (np.zeros((H, W)), np.ones((H, W)), disc(0.0, 0.0, 5.0, 1.0)):
            self.assertEqual(measured([cover] * 3).points, 0)
        gone = [disc(90, 70, 30, 1.0), disc(90, 70, 30, 1.0), np.zeros((H, W))]
        self.assertTrue(np.isnan(measured(gone).flicker_px))


if __name__ == "__main__":
    unittest.main()
