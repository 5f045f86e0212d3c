"""What moves by itself is told from what stands, by tracks and by how the picture flows, and offered as regions."""

import unittest

import cv2
import numpy as np

from lodestar.core.basics.errors import Cancelled
from lodestar.core.basics.job import Job
from lodestar.core.media.plates import probe
from lodestar.core.shot.document import Shot
from lodestar.core.solve.camera import solve
from lodestar.core.solve.report import residuals, standing
from lodestar.core.solve.result import SolveSettings
from lodestar.core.track.moving import grid, moving_places, moving_regions, moving_tracks
from lodestar.core.track.tracks import make_tracks
from lodestar.core.work.tracking import suggest_regions
from tests.helpers import FolderCase, Seeded, texture, write_clip

WALL = 9.0  # m, where the textured wall of the drawn shots stands
SPOTS = np.random.default_rng(5).uniform(-0.35, 0.35, (20, 3))


def solved(t: Seeded, *more: tuple[np.ndarray, np.ndarray, np.ndarray]):
    """Tracks of a seeded shot, and more (frame, track, xy), with their solve."""
    frame, track, xy = (np.concatenate(x) for x in zip((t.frame, t.track, t.xy), *more, strict=True))
    tracks = make_tracks(frame, track, xy)
    return tracks, solve(tracks, 1280, 720, SolveSettings(), Job())


def way(i: int, up: float = 0.0) -> np.ndarray:
    return np.array([-1.5 + 0.08 * i, 1.0, up])


def cart(t: Seeded, first: int, last: int) -> list[tuple[np.ndarray, np.ndarray, np.ndarray]]:
    """20 tracks close together, numbered from 500, that go through the picture."""
    rows = []
    for i in range(first, last + 1):
        xy, _ = t.cameras[i].project(SPOTS + way(i, 0.6))
        inside = (xy > 5).all(1) & (xy < [1275, 715]).all(1)
        rows.append(
            (np.full(inside.sum(), i), 500 + np.flatnonzero(inside), xy[inside] + 0.2 * np.random.default_rng(i).standard_normal((inside.sum(), 2)))
        )
    return rows


class Wall:
    """Pictures of a textured wall through the cameras of a seeded shot; somebody in front of it whose clothes have hardly any texture."""

    def __init__(self, t: Seeded) -> None:
        self.t, self.paint = t, cv2.GaussianBlur(70 + 100 * texture(1400, 2400), (0, 0), 2.0)
        pixels = np.stack(np.meshgrid(np.arange(1280.0), np.arange(720.0)), -1).reshape(-1, 2)
        self.rays = np.c_[t.lens.undistort(pixels), np.ones(len(pixels))]

    def middle(self, i: int) -> tuple[int, int]:
        return 150 + 22 * i, 400 - 2 * i

    def picture(self, i: int, somebody: bool) -> np.ndarray:
        camera = self.t.cameras[i]
        way = self.rays @ camera.R
        hit = camera.centre + way * ((WALL - camera.centre[1]) / way[:, 1:2])
        at = ((hit[:, [0, 2]] + [12, 6]) * 100).astype(np.float32).reshape(720, 1280, 2)  # 1 cm a texel
        luma = cv2.remap(self.paint, at, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
        if somebody:
            body = np.zeros_like(luma)
            cv2.ellipse(body, self.middle(i), (60, 150), 0, 0, 360, 255, -1, cv2.LINE_AA)
            shade = np.full((720, 1280), 70, np.float32)
            x, y = self.middle(i)
            shade[y - 200 : y + 200, max(0, x - 100) : x + 100] += 25 * self.paint[:400, max(0, 100 - x) : min(200, 1380 - x)] / 255
            luma = luma + (shade - luma) * (body / 255.0)
        return luma.astype(np.uint8)


class TracksTest(unittest.TestCase):
    def test_what_moves_by_itself_is_told_from_what_stands(self):
        t = Seeded(seed=7, moving=0, tracks=500)
        rows = cart(t, 0, 59)
        tracks, s = solved(t, *rows)
        number = np.unique(np.concatenate([t.track, *(r[1] for r in rows)]))
        moves = moving_tracks(tracks, residuals(s, tracks), 1280)
        self.assertGreater(moves[number >= 500].mean(), 0.9)
        self.assertLess(moves[number < 500].mean(), 0.02)
        region = moving_regions(tracks, residuals(s, tracks), 1280, 720)[0]
        for f, corners in region.items():
            self.assertLess(np.linalg.norm(corners.mean(0) - t.cameras[f].project(way(f, 0.6))[0]), 60)

    def test_noise_is_not_taken_for_motion(self):
        t = Seeded(seed=7, moving=0, tracks=500, sigma=0.9)
        tracks, s = solved(t)
        self.assertEqual(moving_regions(tracks, residuals(s, tracks), 1280, 720), [])

    def test_a_suggested_region_lies_close_round_what_moves(self):
        """Two bands of tracks one above the other, the lower one moving: the outline holds it and leaves the upper one alone."""
        rng = np.random.default_rng(4)
        spots = np.stack(np.meshgrid(np.linspace(30, 1250, 20), np.linspace(20, 320, 6)), -1).reshape(-1, 2) + rng.uniform(-15, 15, (120, 2))
        xy = np.concatenate([spots + [0, 380], spots])
        frame, track = np.repeat(np.arange(24), 240), np.tile(np.arange(240), 24)
        tracks = make_tracks(frame, track, np.tile(xy, (24, 1)))
        (region,) = moving_regions(tracks, np.where(tracks.track < 120, 5.0, 0.2), 1280, 720)
        for corners in region.values():
            inside = np.array([cv2.pointPolygonTest(corners.astype(np.float32).reshape(-1, 1, 2), tuple(map(float, p)), False) > 0 for p in xy])
            self.assertGreater(inside[:120].mean(), 0.98)
            self.assertEqual(inside[120:].sum(), 0)


class StandingTest(unittest.TestCase):
    def test_what_stands_lies_on_its_line(self):
        t = Seeded(seed=3, moving=0)
        tracks, s = solved(t)
        seen, depth = t.cameras[20].project(t.points)
        after, _ = t.cameras[23].project(t.points)
        good = (depth > 1) & (seen > 4).all(1) & (seen < [1275, 715]).all(1)
        line = standing(s, 20, 23, seen[good])
        off = np.linalg.norm(line - after[good][:, None], axis=-1).min(1)
        self.assertEqual(line.shape[2], 2)
        dense = [
            np.linalg.norm(np.array([np.interp(np.linspace(0, 11, 1200), np.arange(12), c) for c in x.T]).T - p, axis=1).min()
            for x, p in zip(line, after[good], strict=True)
        ]
        self.assertLess(np.percentile(dense, 95), 0.6)
        self.assertGreater(np.median(off), np.median(dense))
        # at the end that is infinitely far only the turn counts
        far = t.cameras[23].R @ t.cameras[20].R.T @ np.c_[t.lens.undistort(seen[good]), np.ones(good.sum())].T
        self.assertLess(np.linalg.norm(line[:, 0] - t.lens.distort((far[:2] / far[2]).T), axis=1).max(), 2.0)

    def test_to_a_camera_that_turns_it_is_a_place(self):
        t = Seeded(seed=4, turning=True, moving=0)
        _, s = solved(t)
        line = standing(s, 10, 14, grid(1280, 720))
        np.testing.assert_allclose(line[:, 0], line[:, -1], atol=1e-6)


class FlowTest(FolderCase):
    def test_somebody_without_texture_is_found_and_a_standing_wall_is_not(self):
        t = Seeded(seed=7, moving=0, tracks=500, frames=32)
        tracks, s = solved(t)
        wall, xy = Wall(t), grid(1280, 720)
        line = standing(s, 12, 14, xy)
        places = moving_places(wall.picture(12, True), wall.picture(14, True), line)
        off = (places - wall.middle(12)) / [60, 150]
        self.assertGreater(len(places), 60)
        self.assertGreater((np.linalg.norm(off, axis=1) < 1.5).mean(), 0.95, "and nothing else is")
        self.assertEqual(len(moving_places(wall.picture(12, False), wall.picture(14, False), line)), 0)
        # with the wrong camera the wall would move
        self.assertGreater(len(moving_places(wall.picture(12, False), wall.picture(14, False), standing(s, 12, 20, xy))), 1000)
        self.assertEqual(len(moving_places(np.full((720, 1280), 90, np.uint8), np.full((720, 1280), 90, np.uint8), line)), 0)

        # and the same from a clip, as a region that is offered
        for somebody in (True, False):
            path = self.folder / f"wall-{somebody}.mkv"
            write_clip(path, [np.repeat(wall.picture(i, somebody)[..., None], 3, 2) for i in range(32)])
            shot = Shot(plate=probe(path), first=0, last=31, tracks=tracks, solve=s)
            found = suggest_regions(shot, Job())
            self.assertEqual([r.on for r in found], [False] * somebody)
            for frame in (4, 16, 24) if somebody else ():
                corners = np.array(found[0].shape.at(frame)).reshape(-1, 2)
                self.assertLess(np.linalg.norm(corners.mean(0) - wall.middle(frame)), 60)

        class Stops(Job):
            def step(self, done: float, text: str = "") -> None:
                if done > 0.3:
                    raise Cancelled

        with self.assertRaises(Cancelled):
            suggest_regions(shot, Stops())

    def test_a_region_waits_outside_the_picture_before_and_after(self):
        t = Seeded(seed=7, moving=0, tracks=500)
        tracks, s = solved(t, *cart(t, 20, 43))
        write_clip(self.folder / "plain.mkv", [np.full((720, 1280, 3), 90, np.uint8)] * 60)
        first = suggest_regions(Shot(plate=probe(self.folder / "plain.mkv"), first=0, last=59, tracks=tracks, solve=s), Job())[0]
        self.assertFalse(first.on)
        for frame, there in ((8, False), (30, True), (55, False)):
            corners = np.array(first.shape.at(frame)).reshape(-1, 2)
            middle, _ = t.cameras[frame].project(way(frame, 0.6))
            self.assertEqual(bool(np.linalg.norm(corners.mean(0) - middle) < 60), there, frame)


if __name__ == "__main__":
    unittest.main()
