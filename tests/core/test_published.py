"""The adjustment and the lens model on published photographs: see tests/data/published/README.md for where they are from."""

import unittest

import cv2
import numpy as np

from lodestar.core.basics.geometry import fit_similarity, rotation_from_vector
from lodestar.core.projection.pinhole import Lens
from lodestar.core.solve.adjust import Scene, adjust, project, seen
from tests.core.test_reference import reference_adjustment
from tests.helpers import ROOT

DATA = ROOT / "tests" / "data" / "published"
BOARD = (9, 6)


def corners() -> np.ndarray:
    """(pictures, corners, 2) px."""
    found = []
    for path in sorted(DATA.glob("left*.png")):
        picture = cv2.imread(str(path), cv2.IMREAD_GRAYSCALE)
        ok, xy = cv2.findChessboardCorners(picture, BOARD)
        assert ok, path
        found.append(cv2.cornerSubPix(picture, xy, (5, 5), (-1, -1), (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_COUNT, 30, 0.01)).reshape(-1, 2))
    return np.array(found, np.float64)


class ChessboardTest(unittest.TestCase):
    def test_the_published_lens_is_found_from_a_rough_start(self):
        file = cv2.FileStorage(str(DATA / "left_intrinsics.yml"), cv2.FILE_STORAGE_READ)
        M, distortion = file.getNode("camera_matrix").mat(), file.getNode("distortion_coefficients").mat()
        xy = corners()
        n, m = xy.shape[:2]
        board = np.c_[np.mgrid[0 : BOARD[0], 0 : BOARD[1]].T.reshape(-1, 2), np.zeros(m)] * 0.025
        rough = np.array([[700.0, 0, 319.5], [0, 700.0, 239.5], [0, 0, 1]])
        poses = [cv2.solvePnP(board, p, rough, None)[1:] for p in xy]
        R = np.array([rotation_from_vector(r.ravel()) for r, _ in poses])
        C = np.array([-Q.T @ t.ravel() for Q, (_, t) in zip(R, poses)])
        frame, point = (x.ravel() for x in np.meshgrid(np.arange(n), np.arange(m), indexing="ij"))
        s = seen(frame, point, xy.reshape(-1, 2), m)
        # the board's own corners are left free too: nothing but the pictures says where they are
        start = Scene(R, C, board, np.array([700.0, 0.0, 0.0]))
        done, _ = adjust(start, s, (319.5, 239.5), loss_px=0.5, rounds=100, tolerance=1e-10, centre_px=30.0)
        self.assertAlmostEqual(done.K[0] / M[0, 0], 1, delta=0.005)
        np.testing.assert_allclose(np.add((319.5, 239.5), done.extra[:2]), M[:2, 2], atol=3.0)
        # theirs has three more terms, so what is compared is what both do to the picture where corners were seen
        theirs = cv2.undistortPoints(xy.reshape(-1, 1, 2), M, distortion).reshape(-1, 2)
        own = Lens(done.K[0], done.K[0], 319.5 + done.extra[0], 239.5 + done.extra[1], done.K[1], done.K[2]).undistort(xy.reshape(-1, 2))
        to, off = np.c_[theirs, np.ones(n * m)], own
        fit = np.linalg.lstsq(to, off, rcond=None)[0]  # a turned and sized view of the same rays is the same lens
        self.assertLess(np.sqrt(((to @ fit - off) ** 2).sum(1).mean()) * M[0, 0], 0.25)
        # and the board comes out as it was made: even squares in a plane
        fit = fit_similarity(done.X, board)
        self.assertLess(np.linalg.norm(fit.points(done.X) - board, axis=1).max(), 0.025 * 0.02)
        miss = np.linalg.norm(project(done, frame, point, (319.5, 239.5))[0] - xy.reshape(-1, 2), axis=1)
        self.assertLess(np.median(miss), 0.2)


class Photographs:
    """Balbianello.out as the reference adjustment takes it: the format's cameras look along -z and its pictures have y up."""

    def __init__(self) -> None:
        lines = (DATA / "Balbianello.out").read_text().splitlines()
        cameras, points = (int(v) for v in lines[1].split())
        flip = np.diag([1.0, -1.0, -1.0])
        numbers = np.array([float(v) for line in lines[2 : 2 + 5 * cameras] for v in line.split()]).reshape(cameras, 15)
        self.f = numbers[:, 0]
        R = flip @ numbers[:, 3:12].reshape(-1, 3, 3)
        t = numbers[:, 12:] @ flip
        C, X, rows = -np.einsum("kji,kj->ki", R, t), [], []
        for k in range(points):
            at = 2 + 5 * cameras + 3 * k
            X.append([float(v) for v in lines[at].split()])
            views = lines[at + 2].split()
            rows += [(int(views[4 * j + 1]), k, float(views[4 * j + 3]), -float(views[4 * j + 4])) for j in range(int(views[0]))]
        frame, point, x, y = (np.array(v) for v in zip(*rows))
        self.lens, self.width, self.height = Lens(520.0, 520.0, 320.0, 240.0), 641, 481
        self.seen = seen(frame, point, np.c_[x + 320.0, y + 240.0], points)
        self.scene = Scene(R, C, np.array(X), np.array([520.0, -0.12, 0.0]))


class PhotographsTest(unittest.TestCase):
    def test_a_published_problem_ends_where_the_reference_does(self):
        t = Photographs()
        own, cost = adjust(t.scene, t.seen, (320.0, 240.0), loss_px=0, rounds=200, tolerance=1e-12)
        C, K = reference_adjustment(t, t.scene, t.seen)
        error = project(own, t.seen.frame, t.seen.point, (320.0, 240.0))[0] - t.seen.xy
        before = project(t.scene, t.seen.frame, t.seen.point, (320.0, 240.0))[0] - t.seen.xy
        self.assertLess((error**2).sum(), (before**2).sum())
        np.testing.assert_allclose(own.K, K, rtol=2e-3, atol=1e-3)
        fit = fit_similarity(own.C, C)
        size = np.linalg.norm(np.ptp(C, axis=0))
        self.assertLess(np.abs(fit.points(own.C) - C).max(), 1e-3 * size)
        # each photograph's own focal length, as published
        self.assertTrue(0.98 * t.f.min() < own.K[0] < 1.02 * t.f.max(), own.K[0])


if __name__ == "__main__":
    unittest.main()
