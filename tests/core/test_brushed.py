"""Painted subjects: the parts against references, a walker against the truth, and what is kept of them in a shot."""

import functools
import json
import sys
import unittest
import warnings
from concurrent.futures import ThreadPoolExecutor
from unittest import mock

import cv2
import msgspec
import numpy as np
from scipy.sparse import csr_array, diags_array
from scipy.sparse.csgraph import breadth_first_order, maximum_flow
from scipy.sparse.linalg import spsolve

from lodestar.core.basics.errors import Cancelled, ShotFileError, UserError
from lodestar.core.basics.job import Job
from lodestar.core.edits.lights import sun_of
from lodestar.core.evaluate.cameras import camera_at
from lodestar.core.evaluate.still import StillScene
from lodestar.core.light.sun import bearing_and_height, direction, from_shadow
from lodestar.core.matte import closed_form, cut
from lodestar.core.matte.background import APART, NODE_PX, Background, Predicted, _middle, differs, differs_in_shade, shade_of_ground
from lodestar.core.matte.closed_form import matted
from lodestar.core.matte.edge import soft_edge
from lodestar.core.matte.follow import Follower
from lodestar.core.matte.hair import hair_band, hair_widths
from lodestar.core.matte.shadow import light_by_shadow
from lodestar.core.matte.sources import View, coverage_of
from lodestar.core.matte.strokes import UNSURE, Brushed, Found, Stroke, drawn, laid_out, stored, with_found
from lodestar.core.media.plates import probe
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot, rebased, with_plate
from lodestar.core.work import matting
from lodestar.core.work.matting import light_of, standing
from lodestar.core.work.updating import steps_named
from tests.core.test_cli import ask, example
from tests.factory import known_solve, make_shot, seeded_tracks
from tests.helpers import DEMO, ROOT, FolderCase, Seeded, pymatting, texture, write_clip


def overlap(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.minimum(a, b).sum() / max(np.maximum(a, b).sum(), 1e-6))


def disc(width: int, height: int, x: float, y: float, radius: float) -> np.ndarray:
    """(height, width) float32: how much of each pixel a disc covers, by sixteen places in each."""
    ys, xs = np.mgrid[0 : 4 * height, 0 : 4 * width] / 4 - 0.375
    inside = ((xs - x) ** 2 + (ys - y) ** 2 < radius**2).astype(np.float32)
    return inside.reshape(height, 4, width, 4).mean((1, 3))


@functools.cache
def ball_frames() -> tuple[list[np.ndarray], list[np.ndarray]]:
    """A still camera; a red ball crosses a textured wall. Returns the pictures and the true mattes."""
    wall = np.repeat(np.floor(texture(180, 320) * 255)[..., None], 3, -1).astype(np.float32)
    ball = np.array([190.0, 60.0, 50.0], np.float32)
    truth = [disc(320, 180, 40 + 8 * i, 90 + 0.5 * i, 24) for i in range(24)]
    return [np.round(wall * (1 - a[..., None]) + ball * a[..., None]).astype(np.uint8) for a in truth], truth


BALL = (Stroke(10, (112.0, 95.0, 128.0, 95.0), 6.0), Stroke(10, (70.0, 40.0, 170.0, 40.0, 170.0, 150.0, 70.0, 150.0, 70.0, 40.0), 5.0, False))


def disc_before_a_wall():
    """A blurred disc over a textured wall that is known, as it is where other frames show it: picture, true alpha, background."""
    back = np.repeat((60 + 120 * texture(120, 160))[..., None], 3, -1)
    true = cv2.GaussianBlur(disc(160, 120, 80, 60, 30), (0, 0), 2.0)
    light = lambda codes: (codes / 255) ** 2.2
    mixed = light(back) * (1 - true[..., None]) + light(np.array([200.0, 70.0, 60.0])) * true[..., None]
    places = lambda xy: Predicted(
        back[xy[:, 1].astype(int), xy[:, 0].astype(int)].astype(np.float32), np.zeros(len(xy), np.float32), np.full(len(xy), 5.0, np.float32)
    )
    return np.round(mixed ** (1 / 2.2) * 255).astype(np.uint8), true, places


@functools.cache
def hairy_ball(x: float, y: float) -> np.ndarray:
    """(180, 320) float32 alpha of a ball with strands of hair round it, 6 to 22 px long."""
    rng, s = np.random.default_rng(7), 4
    big = np.zeros((180 * s, 320 * s), np.uint8)
    cv2.circle(big, (int((x + 0.5) * s), int((y + 0.5) * s)), 34 * s, 255, -1)
    for _ in range(260):
        around, long, bend = rng.uniform(0, 2 * np.pi), rng.uniform(6, 22), rng.uniform(-0.3, 0.3)
        t = np.linspace(0, 1, 8)
        r, a = 32 + long * t, around + bend * t
        line = np.round(np.stack([x + 0.5 + r * np.cos(a), y + 0.5 + r * np.sin(a)], 1) * s).astype(np.int32)
        cv2.polylines(big, [line], False, 255, int(rng.integers(2, 6)), cv2.LINE_AA)
    return cv2.GaussianBlur(cv2.resize(big, (320, 180), interpolation=cv2.INTER_AREA).astype(np.float32) / 255, (0, 0), 0.5)


def before_wall(true: np.ndarray, colour: tuple[float, float, float]) -> tuple[np.ndarray, np.ndarray]:
    """A picture of something of this alpha and colour before a textured wall, and the wall."""
    wall = np.repeat((40 + 150 * texture(180, 320))[..., None], 3, -1).astype(np.float32)
    rng, light = np.random.default_rng(2), lambda codes: (codes / 255) ** 2.2
    mixed = light(wall) * (1 - true[..., None]) + light(np.array(colour)) * true[..., None]
    return np.round(np.clip(mixed ** (1 / 2.2) * 255 + rng.normal(0, 2, mixed.shape), 0, 255)).astype(np.uint8), wall


def nothing_behind(xy: np.ndarray) -> Predicted:
    return Predicted(np.zeros((len(xy), 3), np.float32), np.zeros(len(xy), np.float32), np.zeros(len(xy), np.float32))


class HairTest(unittest.TestCase):
    """What is painted as hair is solved in a band as wide as that, and the band goes along with the subject."""

    def test_strands_are_as_good_as_by_closed_form_matting(self):
        """The same band for both, before a wall that other frames show. Reference: pymatting's closed form."""
        true, away = hairy_ball(160, 90), np.hypot(*(np.mgrid[:180, :320] - np.array([90, 160])[:, None, None]))
        mask, hair = away < 38, np.abs(away - 44) < 15
        soft, off = cv2.GaussianBlur(mask.astype(np.float32), (0, 0), 1.2), lambda alpha: float(np.abs(alpha - true)[hair].mean())
        for colour in ((150, 90, 60), (60, 40, 28)):
            rgb, wall = before_wall(true, colour)
            places = lambda xy, wall=wall: Predicted(
                wall[xy[:, 1].astype(int), xy[:, 0].astype(int)], np.zeros(len(xy), np.float32), np.full(len(xy), 5.0, np.float32)
            )
            ours, narrow = off(soft_edge(rgb, soft, 3, places, hair)), off(soft_edge(rgb, soft, 3, places))
            theirs = off(pymatting().estimate_alpha_cf(rgb / 255.0, np.where(hair, 0.5, mask.astype(float))))
            self.assertLess(ours, theirs)
            self.assertLess(ours, 0.5 * narrow)
            # and where nothing tells what is behind
            self.assertLess(off(soft_edge(rgb, soft, 3, nothing_behind, hair)), theirs)

    def test_a_subject_that_is_all_hair_is_still_there(self):
        true = hairy_ball(160, 90)
        rgb, wall = before_wall(true, (150, 60, 40))
        mask = np.hypot(*(np.mgrid[:180, :320] - np.array([90, 160])[:, None, None])) < 38
        places = lambda xy: Predicted(
            wall[xy[:, 1].astype(int), xy[:, 0].astype(int)], np.zeros(len(xy), np.float32), np.full(len(xy), 5.0, np.float32)
        )
        found = soft_edge(rgb, cv2.GaussianBlur(mask.astype(np.float32), (0, 0), 1.2), 3, places, true > 0.02)
        self.assertGreater(float(found[mask].mean()), 0.5)

    def test_a_band_is_kept_by_the_border_and_goes_along_with_it(self):
        y, x = np.mgrid[:120, :200]
        mask = np.hypot(x - 70, y - 60) < 30
        painted = (np.abs(np.hypot(x - 70, y - 60) - 34) < 8) & (x > 70)
        widths = hair_widths(mask, painted)
        band = hair_band(mask, widths)
        self.assertGreater(float(band[painted].mean()), 0.97)
        self.assertLess(float(band[(x < 60)].mean()), 0.01, "where none was painted")
        moved, carried = (np.roll(a, (7, 40), (0, 1)) for a in (mask, widths))
        np.testing.assert_array_equal(hair_band(moved, carried)[7:, 40:], band[:-7, :-40])
        for nothing in (hair_band(mask, np.zeros_like(widths)), hair_widths(mask, painted & False) > 0, hair_widths(mask & False, painted) > 0):
            self.assertFalse(nothing.any())

    def test_hair_that_was_painted_on_one_frame_is_found_on_those_that_follow(self):
        truth = [hairy_ball(120 + 6 * i, 90) for i in range(5)]
        shown = [before_wall(true, (150, 60, 40))[0] for true in truth]
        follower = lambda: Follower(lambda frame: shown[frame], lambda frame, source: None, range(5), 320, 180)
        line = lambda r: tuple(float(v) for a in np.linspace(0, 2 * np.pi, 40) for v in (120 + r * np.cos(a), 90 + r * np.sin(a)))
        own = (Stroke(0, line(15), 8.0), Stroke(0, line(68), 5.0, False))
        off = {}
        for name, strokes in (("bare", own), ("hair", (*own, Stroke(0, line(46), 11.0, hair=True)))):
            source, one = Brushed(id="b", name="Ball", strokes=strokes), follower()
            found = [one.select(source, 0), *(one.step(source, frame, frame - 1) for frame in range(1, 5))]
            off[name] = [float(np.abs(laid_out(f, 320, 180) - true).sum() / true.sum()) for f, true in zip(found, truth)]
        for frame in (0, 2, 4):
            self.assertLess(off["hair"][frame], 0.75 * off["bare"][frame], (frame, off))


class PartsTest(unittest.TestCase):
    def test_the_middle_of_what_is_valid_against_numpy(self):
        rng = np.random.default_rng(0)
        values, valid = rng.uniform(0, 255, (7, 40, 3)).astype(np.float32), rng.random((7, 40)) < 0.7
        colour, _, support = _middle(values, valid)
        np.testing.assert_array_equal(support, valid.sum(0))
        for i in range(40):
            if valid[:, i].any():
                np.testing.assert_allclose(colour[i], np.median(values[valid[:, i], i], 0), rtol=1e-6)

    def test_the_cut_against_a_maximum_flow(self):
        """The minimum of a two-label energy is a minimum cut (D. Greig, B. Porteous, A. Seheult, J. R. Stat. Soc. B 51, 1989): SciPy's."""
        rng = np.random.default_rng(3)
        high, wide = 14, 18
        yes = np.zeros((high, wide))
        yes[4:10, 5:13] = 1
        evidence = (np.where(yes > 0, 1.0, -1.0) + rng.normal(0, 1.3, yes.shape)).astype(np.float32)
        across, down = (rng.uniform(0.5, 2.0, yes.shape).astype(np.float32) for _ in range(2))
        across[:, -1], down[-1] = 0, 0
        u = cut._relaxed(evidence, across, down, np.full(yes.shape, 0.5, np.float32), np.zeros_like(evidence), np.zeros_like(evidence), 3000)
        ours = u > 0.5

        def energy(mask: np.ndarray) -> float:
            steps = (across[:, :-1] * (mask[:, 1:] != mask[:, :-1])).sum() + (down[:-1] * (mask[1:] != mask[:-1])).sum()
            return float(steps - evidence[mask].sum())

        number = np.arange(high * wide).reshape(yes.shape)
        source, sink, scale, edges = high * wide, high * wide + 1, 10_000, []
        for (y, x), e in np.ndenumerate(evidence):
            edges.append((source, number[y, x], max(e, 0)) if e > 0 else (number[y, x], sink, -e))
            if x < wide - 1:
                edges += [(number[y, x], number[y, x + 1], across[y, x]), (number[y, x + 1], number[y, x], across[y, x])]
            if y < high - 1:
                edges += [(number[y, x], number[y + 1, x], down[y, x]), (number[y + 1, x], number[y, x], down[y, x])]
        a, b, c = (np.array(v) for v in zip(*edges))
        graph = csr_array(((c * scale).astype(np.int32), (a, b)), shape=(high * wide + 2,) * 2)
        rest = graph - maximum_flow(graph, source, sink).flow
        rest.data = np.maximum(rest.data, 0)
        rest.eliminate_zeros()
        best = np.isin(number, breadth_first_order(rest, source, return_predecessors=False))
        self.assertAlmostEqual(energy(ours), energy(best), delta=0.01 * abs(energy(best)))
        self.assertGreater((ours == best).mean(), 0.99)

    def test_a_soft_edge_is_as_good_as_closed_form_matting(self):
        """A blurred disc over a textured wall, the same band for both. Reference: pymatting's closed form (A. Levin, D. Lischinski, Y. Weiss,
        A Closed-Form Solution to Natural Image Matting, IEEE TPAMI 30, 2008)."""
        rgb, true, places = disc_before_a_wall()
        soft = cv2.GaussianBlur((true > 0.5).astype(np.float32), (0, 0), 1.2)
        ours = soft_edge(rgb, soft, 6, places)
        away = cut.signed_distance(true > 0.5)
        trimap = np.where(away > 6, 1.0, np.where(away < -6, 0.0, 0.5))
        theirs = pymatting().estimate_alpha_cf(rgb / 255.0, trimap)
        off = lambda alpha: float(np.abs(alpha - true)[trimap == 0.5].mean())
        self.assertLess(off(ours), off(theirs))
        self.assertLess(off(ours), 0.03)

    def test_a_border_that_is_off_by_two_px_costs_the_soft_edge_little(self):
        """A mask comes from a smaller picture: the band is laid a second time, round what was found first."""
        rgb, true, places = disc_before_a_wall()
        off = {}
        for shrink in (0, 2):
            mask = cv2.erode((true > 0.5).astype(np.uint8), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * shrink + 1, 2 * shrink + 1)))
            off[shrink] = float(np.abs(soft_edge(rgb, cv2.GaussianBlur(mask.astype(np.float32), (0, 0), 1.2), 6, places) - true).sum())
        self.assertLess(off[2], 1.2 * off[0])  # 3 times as much when looked at once

    def test_noise_leaves_the_rim_of_a_soft_edge_even_and_its_corners_where_they_are(self):
        """A card with a straight rim, and a px of it that is half covered, in a picture with the noise of a bright exposure: by how much its alpha goes
        up and down along a row of px of the rim; and how much of its corner is still there. A band of hair is left as it was found."""
        true, rng = np.zeros((90, 120), np.float32), np.random.default_rng(3)
        true[30:70, 30:90], true[29, 30:90] = 1.0, 0.5
        light = lambda codes: (codes / 255) ** 2.2
        mixed = light(np.full(3, 130.0)) * (1 - true[..., None]) + light(np.array([200.0, 90.0, 60.0])) * true[..., None]
        rgb = np.clip(mixed ** (1 / 2.2) * 255 + rng.normal(0, 12, (90, 120, 3)), 0, 255).astype(np.uint8)
        known = lambda xy: Predicted(np.full((len(xy), 3), 130.0, np.float32), np.zeros(len(xy), np.float32), np.full(len(xy), 5.0, np.float32))
        soft = cv2.GaussianBlur((true > 0.4).astype(np.float32), (0, 0), 1.2)
        found, as_hair = (soft_edge(rgb, soft, 3, known, hair) for hair in (None, np.ones_like(soft, bool)))
        self.assertLess(found[29, 36:84].std(), 0.08)  # 0.11 without
        self.assertAlmostEqual(float(found[29, 36:84].mean()), 0.5, delta=0.1)
        self.assertGreater(float(found[30:33, 30:33].mean()), 0.95)
        self.assertGreater(as_hair[29, 36:84].std(), 0.1)

    def test_the_energy_of_the_soft_edge_is_that_of_closed_form_matting(self):
        """Rows of the Laplacian against pymatting's, whole; and its minimum against a direct solver (SciPy's)."""
        rng = np.random.default_rng(4)
        light, band = rng.random((14, 18, 3)).astype(np.float32), np.zeros((14, 18), bool)
        band[3:11, 4:13] = True
        theirs = pymatting().cf_laplacian(light.astype(float), epsilon=3e-4, radius=1).tocsr()
        at = np.flatnonzero(band)
        number = np.full(band.shape, -1, np.int32)
        number.ravel()[at] = np.arange(len(at))
        ours, _ = closed_form._laplacian(light, number, len(at), np.full(band.shape, 3e-4, np.float32))
        for k, (y, x) in enumerate(zip(*np.divmod(at, 18))):
            row = np.zeros(band.shape)
            row[y - 2 : y + 3, x - 2 : x + 3] = ours[k].reshape(5, 5)
            np.testing.assert_allclose(row.ravel(), theirs[at[k]].toarray()[0], atol=1e-4)  # single precision of the colours
        wanted, trust = rng.random(band.shape), np.full(band.shape, 0.05)
        matrix = theirs[at][:, at] + diags_array(np.full(len(at), 0.05))
        right = 0.05 * wanted[band] - theirs[at][:, np.flatnonzero(~band)] @ wanted[~band]
        np.testing.assert_allclose(
            matted(light, wanted, trust, band, np.full(band.shape, 3e-4))[band], np.clip(spsolve(matrix.tocsc(), right), 0, 1), atol=2e-3
        )

    def test_a_shadow_is_told_from_what_is_as_dark_but_of_another_colour(self):
        rng = np.random.default_rng(2)
        back = (70 + 110 * texture(60, 80))[..., None] * np.array([1.0, 1.0, 0.95])
        shade = np.array([0.62, 0.66, 0.72])
        seen = back + rng.normal(0, 1.5, back.shape)
        seen[:, 40:] *= shade
        seen[20:40, 60:76] = back[20:40, 60:76] * [0.78, 0.62, 0.45] + rng.normal(0, 1.5, (20, 16, 3))  # a shoe in it
        picture, spread = np.clip(seen, 0, 255).astype(np.uint8), np.zeros((60, 80), np.float32)
        where = np.zeros((60, 80), bool)
        where[:, 30:58] = True
        found = shade_of_ground(picture, back, where)
        np.testing.assert_allclose(found, shade, atol=0.02)
        odds = differs_in_shade(picture, back, spread, found)
        self.assertLess(max(odds[:, 3:36].max(), odds[:, 45:57].max()), 0)  # but for the very line of a shadow that is not soft at all
        self.assertGreater(np.median(odds[22:38, 62:74]), 1)
        self.assertIsNone(shade_of_ground(picture, back, where & (np.arange(80) < 39)))

    def test_the_shadow_of_what_stands_there_falls_where_the_sun_throws_it(self):
        shot = files.read(DEMO)
        camera, sun = camera_at(shot, 46), sun_of(shot)
        light = direction(sun.bearing.at(46)[0], sun.height.at(46)[0])
        foot = np.array([-1.0, -1.0, 0.0])
        heights = np.linspace(0, 1.7, 200)
        post = foot + heights[:, None] * [0, 0, 1]
        read = light_of(shot)(46)
        to = standing(shot)(46, camera.project(post)[0]).shadow(read)
        tip = camera.project(foot + [0, 0, 1.7] - 1.7 * light / light[2])[0]
        self.assertLess(np.linalg.norm(to - tip, axis=1).min(), 2.5)
        self.assertLess(np.linalg.norm(to[0] - camera.project(foot)[0]), 2.5)
        unread = msgspec.structs.replace(shot, shadow=msgspec.structs.replace(shot.shadow, lines=()))
        self.assertIsNone(light_of(unread)(46))

    def test_the_sun_that_nobody_read_is_told_by_the_shadow_of_what_stands_there(self):
        shot = files.read(DEMO)
        camera, size = camera_at(shot, 46), (360, 640)
        to_small = lambda xy: (xy + 0.5) / 2 - 0.5

        def seen(places):
            x, y = np.round(to_small(camera.project(places)[0])).astype(int).T
            mask = np.zeros(size, bool)
            mask[y, x] = True
            return cv2.morphologyEx(mask.astype(np.uint8), cv2.MORPH_CLOSE, np.ones((3, 3), np.uint8)) > 0

        wide, high = np.meshgrid(np.linspace(-0.25, 0.25, 60), np.linspace(0, 1.7, 200))
        aside = np.cross(camera.R[2], [0, 0, 1.0])
        body = np.array([-1.0, -1.0, 0.0]) + wide.reshape(-1, 1) * aside / np.linalg.norm(aside) + high.reshape(-1, 1) * [0, 0, 1]
        subject = seen(body)
        at = np.argwhere(subject)[:, ::-1].astype(float)
        upright = standing(shot)(46, (at + 0.5) * 2 - 0.5)
        for bearing, height in ((240, 25), (120, 25), (330, 45)):
            light = direction(bearing, height)
            dark = seen(body - body[:, 2:] / light[2] * light) & ~subject
            dark[20:40, 300:340] = True  # something else that is darker than it was
            found = bearing_and_height(light_by_shadow(upright, subject, dark, to_small))
            self.assertLess(abs(found[0] - bearing), 8)
            self.assertLess(abs(found[1] - height), 5)
        # no shadow at all, and a dark patch that is none of it
        self.assertIsNone(light_by_shadow(upright, subject, np.zeros(size, bool), to_small))
        patch = cv2.dilate(subject.astype(np.uint8), np.ones((61, 61), np.uint8)) > 0
        self.assertIsNone(light_by_shadow(upright, subject, patch & ~subject, to_small))

    def test_what_the_subject_passed_is_left_behind(self):
        mask, flow = np.zeros((60, 120), bool), np.zeros((60, 120, 2), np.float32)
        mask[10:50, 20:40] = mask[20:40, 80:86] = mask[20:30, 48:52] = True
        flow[:, :60] = [3.0, 0.0]
        left = cut.left_behind(mask, flow)
        self.assertTrue(left[30, 83], "it stands still, far from what goes on")
        self.assertEqual(int(left.sum()), 20 * 6)
        self.assertFalse(cut.left_behind(mask, 0 * flow).any(), "all of it stands")
        self.assertFalse(cut.left_behind(mask, np.full_like(flow, 3.0)).any(), "all of it goes on")
        leaves = mask.copy()
        leaves[10:50, 90:110] = True
        self.assertFalse(cut.left_behind(leaves, flow).any(), "none of its parts is most of it")

    def test_shadows_fall_on_level_ground_sooner_than_on_what_stands_on_it(self):
        shot = files.read(DEMO)
        heights = StillScene(shot).heights(46)
        # the paving before the camera is level; the wall behind it and the domes stand higher than a fifth of the eye's height
        self.assertLess(float(np.abs(heights[36:44, 20:60]).max()), 0.06)
        self.assertGreater(float(heights[5:12, 20:60].min()), 0.2)
        self.assertIsNone(StillScene(with_plate(Shot(), shot.plate)).heights(46))
        ground = np.full((90, 160, 3), 120, np.uint8)
        dark = ground.copy()
        dark[30:60, 60:100] = 84
        known = np.full((90, 160), 4.0, np.float32)
        for high, is_shadow in ((0.0, True), (1.0, False)):
            over = lambda frame, high=high: np.full((7, 11), high, np.float32)
            follower = Follower(lambda frame: dark, lambda frame, source: None, range(1), 160, 90, heights=over)
            shaded = follower._differs(0, np.s_[0:90, 0:160], dark, ground.astype(np.float32), 0 * known, known)[1]
            self.assertEqual(bool(shaded[35:55, 65:95].max() < 0), is_shadow)
            self.assertLess(float(shaded[:20].max()), 0)

    def test_a_piece_that_is_painted_out_goes_as_a_whole(self):
        mask, outside = np.zeros((40, 60), bool), np.zeros((40, 60), bool)
        mask[5:15, 5:15] = mask[20:30, 30:50] = True
        outside[25, 10:30] = True  # ends at the border of the second
        np.testing.assert_array_equal(cut.painted_out(mask, outside), np.where(np.arange(40)[:, None] < 18, False, mask))
        self.assertFalse(cut.painted_out(mask, outside & False).any())

    def test_points_on_a_branch_before_the_lens_do_not_say_how_deep_the_place_behind_it_is(self):
        """Half of them are tracked in later frames only; behind it lies what would lie there without it."""
        place = Seeded(3, 40, sigma=0.0, moving=0.0)
        eye = place.cameras[20]
        ways = eye.rays(np.stack([np.linspace(300, 900, 30), np.linspace(500, 200, 30)], 1))
        branch = eye.centre + 2.2 * ways / (ways @ eye.R[2])[:, None]
        rows, points = [(place.frame, place.track, place.xy)], len(place.points)
        for frame, camera in enumerate(place.cameras):
            ids = np.arange(0 if frame > 26 else 1, 30, 1 if frame > 26 else 2)
            rows.append((np.full(len(ids), frame), points + ids, camera.project(branch[ids])[0]))
        bare = make_shot(3, 40, titles=0, sigma=0.0, moving=0.0)
        place.frame, place.track, place.xy = (np.concatenate(part) for part in zip(*rows, strict=True))
        place.points = np.concatenate([place.points, branch])
        tracks = seeded_tracks(place)
        scene = StillScene(rebased(bare, tracks=tracks, solve=known_solve(place, tracks), ground=bare.ground))
        behind, mask = StillScene(bare).warp(20, 34), np.zeros((360, 640), np.uint8)
        off = lambda: float(np.abs(scene.warp(20, 34) - behind)[10:34, 16:60].max())
        self.assertGreater(off(), 500)
        cv2.polylines(mask, [np.rint(eye.project(branch)[0] / 2).astype(np.int32)], False, 1, 5)
        self.assertTrue(scene.leave_out(20, mask > 0))
        self.assertLess(off(), 25, "a few points of the place that are as near go with them")
        self.assertFalse(scene.leave_out(20, mask > 0))
        # the same frame painted otherwise: the last answer counts
        self.assertTrue(scene.leave_out(20, np.zeros((360, 640), bool)))
        self.assertGreater(off(), 500)

    def test_a_large_subject_that_stays_is_not_taken_for_its_own_background(self):
        """It covers a place in all frames but the first few; where it was not found yet, what has its colours is left out."""
        wall, red = np.full((60, 80, 3), 100, np.uint8), np.uint8([200, 50, 50])

        def read(frame: int) -> np.ndarray:
            shown = wall.copy()
            shown[:, : 40 if frame > 8 else 0] = red
            return shown

        ys, xs = np.mgrid[0:76:NODE_PX, 0:96:NODE_PX].astype(np.float32)
        background = Background(read, lambda frame, source: np.dstack([xs, ys]), range(60), (60, 80))
        place = np.float32([[20.0, 30.0]])
        np.testing.assert_allclose(background.at(24, place).colour, [red], atol=1)
        background.like = lambda values: np.abs(values.astype(int) - red).sum(1) < 60
        found = background.at(24, place)
        np.testing.assert_allclose(found.colour, [[100, 100, 100]], atol=1)
        self.assertLess(found.support[0], 3)
        # where all may be of it, what a closer look clears counts if many frames show the same
        background.surely_like, background.like = background.like, lambda values: np.ones(len(values), bool)
        found = background.at(24, np.float32([[20.0, 30.0], [60.0, 30.0]]))
        self.assertEqual(found.support[0], 0)
        self.assertGreater(found.support[1], 3)
        np.testing.assert_allclose(found.colour[1], [100, 100, 100], atol=1)
        covered = np.zeros((60, 80), np.float32)
        covered[:, :20] = 1
        for frame in range(0, 60, 6):  # where it was found, that alone says what is of the subject
            background.hide(frame, covered)
        np.testing.assert_allclose(background.at(24, np.float32([[33.0, 30.0]])).colour, [red], atol=1)

    def test_what_was_uncovered_just_now_is_told_by_near_frames(self):
        """A wide subject goes to the left; the frames far before and after one show other things where it was last."""
        wall, red = (60 + 120 * texture(60, 160)).astype(np.uint8)[..., None].repeat(3, -1), np.uint8([200, 50, 50])

        looked_into = set()

        def read(frame: int) -> np.ndarray:
            looked_into.add(frame)
            shown = wall.copy()
            shown[:, max(150 - 2 * frame, 0) : max(267 - 2 * frame, 0)] = red
            return shown

        ys, xs = np.mgrid[0:76:NODE_PX, 0:176:NODE_PX].astype(np.float32)
        background = Background(read, lambda frame, source: np.dstack([xs, ys]), range(67), (60, 160))
        background.like = lambda values: np.abs(values.astype(int) - red).sum(1) < 60
        place = np.float32([[155.0, 30.0]])  # free from frame 56 on
        self.assertEqual(background._predicted(57, place, APART, background.like).support[0], 0)
        found = background.at(57, place)
        self.assertEqual(found.support[0], 2)
        np.testing.assert_allclose(found.colour, wall[30, 155][None], atol=1)
        self.assertEqual(looked_into, background.sources_of(57))  # whoever hides a subject there hides it in all of them
        # nothing is taken of near frames that do not agree
        background.reader = lambda frame: np.where(read(frame) == red, red, read(frame) // (1 + (frame == 60)))
        self.assertEqual(background.at(57, place).support[0], 0)

    def test_what_differs_little_is_told_where_all_round_it_differs_less(self):
        rng = np.random.default_rng(3)
        back, known = np.full((160, 200, 3), 60.0, np.float32), np.full((160, 200), 4.0, np.float32)
        told = []
        for noise in (0.5, 3.0):
            seen = back + rng.normal(0, noise, back.shape)
            seen[60:90, 80:110] += [4, 3, 4]
            plain, _ = differs(np.clip(np.rint(seen), 0, 255).astype(np.uint8), back, 0 * known, known)
            told.append(float(np.median(plain[65:85, 85:105])))
            self.assertLess(float(np.median(plain[:40])), -0.5)
        self.assertGreater(told[0], 1.5)
        self.assertLess(told[1], 0.8)

    def test_dark_cloth_before_a_dark_grille_is_told_where_it_is_expected(self):
        """Evenly as dark as the middle of what a grille is from px to px: some px beside each would explain it."""
        rng = np.random.default_rng(4)
        grille = np.where(np.indices((160, 160)).sum(0) % 4 < 2, 18.0, 48.0)[..., None] * np.ones(3)
        back, known = grille.astype(np.float32), np.full((160, 160), 6, np.float32)
        shifted = cv2.warpAffine(back, np.array([[1, 0, 0.15], [0, 1, 0.1]]), (160, 160), borderMode=cv2.BORDER_REFLECT)
        seen = shifted + rng.normal(0, 1.5, back.shape)
        cloth = np.s_[60:100, 60:100]
        seen[cloth] = 28 + rng.normal(0, 1.5, seen[cloth].shape)
        seen, near = np.clip(np.rint(seen), 0, 255).astype(np.uint8), np.zeros((160, 160), bool)
        near[40:120, 40:120] = True
        inner, beside = np.s_[64:96, 64:96], np.s_[42:56, 42:118]
        found = {
            "expected": differs(seen, back, 0 * known, known, near)[0],
            "anywhere": differs(seen, back, 0 * known, known)[0],
            "by few frames": differs(seen, back, 0 * known, np.full_like(known, 2), near)[0],
            "by frames that disagree": differs(seen, back, known * 0 + 12, known, near)[0],
        }
        self.assertGreater(found["expected"][inner].mean(), 2)
        for what, plain in found.items():
            self.assertLess(plain[beside].mean(), -0.5, what)
            if what != "expected":
                self.assertLess(plain[inner].mean(), -0.5, what)

    def test_a_piece_of_which_nothing_is_known_stays_and_one_that_is_background_goes(self):
        mask = np.zeros((60, 80), bool)
        mask[5:25, 5:25] = mask[35:55, 5:25] = mask[5:25, 50:70] = True
        evidence = np.zeros((60, 80), np.float32)
        evidence[30:, :30], evidence[:30, 40:] = -0.1, 0.1
        kept = cut.pieces(mask, mask, evidence)
        self.assertEqual((kept[10, 10], kept[40, 10], kept[10, 60]), (True, False, True))

    def test_what_comes_in_apart_from_a_subject_is_of_it_by_its_colours_and_size(self):
        mask = np.zeros((60, 80), bool)
        for y, x, size in ((5, 5, 8), (5, 30, 8), (5, 55, 8), (30, 5, 20), (50, 70, 4)):
            mask[y : y + size, x : x + size] = True
        differs_, alike = np.full((60, 80), 4.0, np.float32), np.full((60, 80), 2.0, np.float32)
        differs_[:20, 25:45], alike[:20, 50:] = 1.0, -1.0
        kept = cut.own_pieces(mask, differs_, alike, 100.0)
        told = [bool(kept[place]) for place in ((8, 8), (8, 33), (8, 58), (40, 12), (51, 71))]
        self.assertEqual(told, [True, False, False, False, False])  # nearly background; of another colour; too large; a speck

    def test_what_is_in_one_frame_alone_goes_and_an_edge_that_moves_evenly_stays(self):
        wall, ball = (texture(180, 320) * 255)[..., None] * np.ones(3), 120 + 110 * texture(180, 320, 5)[..., None] * np.array([1.0, 0.5, 0.4])
        true = [disc(320, 180, 150.3 + 5.7 * k, 90 - 1.6 * k, 30) for k in range(3)]
        moved = [cv2.warpAffine(ball, np.array([[1, 0, 5.7 * k], [0, 1, -1.6 * k]]), (320, 180)) for k in range(3)]
        shown = [np.round(wall * (1 - a[..., None]) + b * a[..., None]).astype(np.uint8) for a, b in zip(true, moved, strict=True)]
        follower = Follower(lambda frame: shown[frame], lambda frame, source: None, range(3), 320, 180)
        torn = true[1].copy()
        torn[70:82, 150:162] = 0
        torn[40:48, 100:120] = 0.8  # of the wall
        before, after = (stored(k, true[k], 1.0, False) for k in (0, 2))
        for alpha in (true[1], torn):
            found = laid_out(follower.calmed(before, stored(1, alpha, 1.0, False), after), 320, 180)
            self.assertGreater(overlap(found, true[1]), 0.993)
            self.assertLess(int((np.abs(found - true[1]) > 0.1).sum()), 8)
        painted = stored(1, torn, 1.0, True)
        self.assertIs(follower.calmed(before, painted, after), painted)
        self.assertLess(overlap(laid_out(painted, 320, 180), true[1]), 0.93)

    def test_strokes_are_drawn_with_their_width_and_later_ones_over_earlier_ones(self):
        strokes = (Stroke(3, (20.0, 50.0, 80.0, 50.0), 10.0), Stroke(3, (50.0, 50.0), 5.0, False), Stroke(4, (0.0, 0.0), 50.0))
        picture = drawn(strokes, 3, 100, 100)
        self.assertEqual((picture[50, 30], picture[50, 50], picture[58, 30], picture[64, 30], picture[50, 91]), (1, 2, 1, 0, 0))

    def test_what_is_stored_comes_back(self):
        alpha = cv2.GaussianBlur(disc(200, 100, 60, 40, 20), (0, 0), 2)
        found = stored(7, alpha, 0.9, False)
        self.assertLess(found.alpha.size, 6000)
        np.testing.assert_allclose(laid_out(found, 200, 100), alpha, atol=0.5 / 255 + 1e-6)
        source = Brushed(id="a", name="A", found=(found,))
        np.testing.assert_array_equal(coverage_of(source, View(7, 200, 100)), laid_out(found, 200, 100))
        half = coverage_of(source, View(7, 100, 50, 0.5))
        self.assertAlmostEqual(float(half.sum()) * 4, float(alpha.sum()), delta=0.01 * alpha.sum())
        self.assertEqual(coverage_of(source, View(8, 200, 100)).sum(), 0)
        self.assertEqual(coverage_of(msgspec.structs.replace(source, inverted=True), View(8, 200, 100)).min(), 1)


class WalkerTest(unittest.TestCase):
    def test_the_visitor_is_found_and_followed_from_strokes_on_one_frame(self):
        """Against the true shape of the visitor in the demo's scenery, blurred by the true shutter."""
        for folder in (str(ROOT / "demo"), str(ROOT / "tools")):
            sys.path.insert(0, folder)
            self.addCleanup(sys.path.remove, folder)
        import make_shot
        import scenery
        import trial_mattes

        cameras = make_shot.true_cameras("terrace")

        def truth(frame: int) -> np.ndarray:
            total = np.zeros((720, 1280), np.float32)
            for shift in (-0.2, 0.0, 0.2):
                mask = np.zeros((720, 1280), np.uint8)
                for solid in scenery.visitor((frame + 0.5 + shift) / 25):
                    a, b, radius = np.array(solid[2:5]), np.array(solid[5:8]), solid[8]
                    for share in np.linspace(0, 1, 24):
                        xy, depth = cameras[frame].project(a + share * (b - a))
                        size = int(round(radius * cameras[frame].lens.fx / float(depth) * 16))
                        cv2.circle(mask, tuple(np.round(xy * 16).astype(int)), size, 255, -1, cv2.LINE_AA, 4)
                total += mask / 765
            return total

        shot = msgspec.structs.replace(files.read(DEMO), first=44, last=58)
        around = (300, 230, 290, 330, 285, 450, 290, 575), (420, 230, 430, 330, 420, 450, 425, 575, 300, 590), (357, 480, 357, 540)
        along = (352, 240, 350, 260, 352, 290, 350, 330, 350, 380), (340, 400, 332, 470, 330, 545), (372, 400, 378, 450, 380, 545)
        strokes = *(Stroke(46, s, 8.0) for s in along), *(Stroke(46, s, 8.0, False) for s in around)
        source, found = Brushed(id="v", name="V", strokes=strokes), {}
        for one in matting.followed(shot, source, Job()):
            found[one.frame] = one
        self.assertEqual(sorted(found), list(shot.frames))
        self.assertTrue(found[46].selected and found[46].sure == 1.0)
        fits = np.array([overlap(laid_out(found[f], 1280, 720), truth(f)) for f in shot.frames])
        self.assertGreater(fits.mean(), 0.86)
        self.assertGreater(fits.min(), 0.82)
        self.assertLess(sum(f.alpha.size for f in found.values()) / len(found), 120_000)
        expected = np.array([found[f].sure for f in shot.frames if f != 46])
        self.assertLess(float(np.abs(expected - fits[np.array(shot.frames) != 46]).mean()), 0.09)
        # strokes along the middle alone: what lies far from them is taken for the rest
        seen, chosen = [], matting.Selector()
        self.addCleanup(chosen.close)
        alone = chosen.select(shot, Brushed(id="w", name="W", strokes=strokes[:3]), 46, Job(), seen.append)
        self.assertGreater(overlap(laid_out(seen[0], 1280, 720), truth(46)), 0.5)
        self.assertGreater(overlap(laid_out(alone, 1280, 720), truth(46)), 0.75)
        # one stroke: the wall behind him has colours of his, but stays where he goes on; and his shadow falls where the sun says
        alone = chosen.select(shot, Brushed(id="w", name="W", strokes=strokes[:1]), 46, Job(), seen.append)
        self.assertGreater(overlap(laid_out(alone, 1280, 720), truth(46)), 0.85)
        # where nobody read the sun from shadows of the place, his own tells it
        follower = chosen._follower_of(shot)
        with mock.patch.object(follower, "light", lambda frame: None):
            follower.select(source, 46)
            follower.find_sun(source, 46)
        read = light_of(shot)(46)
        self.assertLess(np.rad2deg(np.arccos(follower._sun @ read)), 5)
        line = matting.shadow_of_subject(shot, source, Job())
        self.assertLess(np.rad2deg(np.arccos(from_shadow(line.foot, line.tip, line.height) @ read)), 5)
        high = camera_at(shot, 46).project(np.add(line.foot, [0, 0, line.height]))[0]
        self.assertLess(np.linalg.norm(high - [352, 232]), 12, "it ends where his head does")
        # the frame beside the painted one tells what of it belongs to him, too: 0.91, and 0.86 where it is not asked
        strokes = trial_mattes.painted(truth(25), 25)
        source, shot = Brushed(id="u", name="U", strokes=strokes), msgspec.structs.replace(shot, first=25, last=26)
        painted = next(iter(matting.followed(shot, source, Job())))
        self.assertGreater(overlap(laid_out(painted, 1280, 720), truth(25)), 0.9)
        # somebody who is nowhere near: what differs from the background without strokes is not taken with it
        self.assertEqual(laid_out(found[50], 1280, 720)[:, 700:].sum(), 0)


class Late:
    """As a pool of threads, but what is given to it is done when the first result is asked for that needs it."""

    def __init__(self, *of: object) -> None:
        self.jobs: list[functools.partial] = []

    def __enter__(self) -> "Late":
        return self

    def __exit__(self, *of: object) -> None: ...

    def submit(self, job, *of) -> mock.Mock:
        done = functools.cache(lambda: job(*of))
        before = tuple(self.jobs)
        self.jobs.append(done)
        return mock.Mock(result=lambda: ([b() for b in before], done())[1], done=lambda: False)


class BallTest(FolderCase):
    def setUp(self):
        super().setUp()
        pictures, self.truth = ball_frames()
        self.clip = write_clip(self.folder / "ball.mp4", pictures)
        self.shot = with_plate(Shot(), probe(self.clip))
        self.source = Brushed(id="b", name="Ball", strokes=BALL)

    def fits(self, source: Brushed) -> list[float]:
        return [overlap(laid_out(f, 320, 180), self.truth[f.frame]) for f in source.found]

    def test_without_a_solve_colour_and_flow_alone_find_it(self):
        shot = msgspec.structs.replace(self.shot, mattes=(self.source,))
        self.assertTrue(matting.is_due(shot, self.source))
        done = matting.follow_due(shot, Job()).mattes[0]
        self.assertEqual([f.frame for f in done.found], list(range(24)))
        self.assertGreater(min(self.fits(done)), 0.8)
        self.assertFalse(matting.is_due(msgspec.structs.replace(shot, mattes=(done,)), done))
        more = msgspec.structs.replace(done, strokes=(*done.strokes, Stroke(3, (64.0, 92.0), 4.0)))
        self.assertTrue(matting.is_due(shot, more))
        self.assertFalse(matting.is_due(shot, msgspec.structs.replace(more, kept=True)))
        self.assertEqual(matting.follow_due(msgspec.structs.replace(shot, mattes=(done,)), Job()).mattes[0], done)

    def test_soft_edges_made_beside_the_next_frame_are_those_made_before_it(self):
        """At once, whenever a thread comes to it, and as late as may be."""
        nodes = np.dstack(np.meshgrid(*(NODE_PX * np.arange(n) for n in (21, 13)))).astype(np.float32)
        frames, found = range(11, 17), []
        for kind in (None, ThreadPoolExecutor, Late):
            one = Follower(lambda frame: ball_frames()[0][frame], lambda frame, source: nodes, range(24), 320, 180)
            painted, rough = one.select(self.source, 10), one.rough

            def looked_at(source, frame, before, one=one, rough=rough):
                self.assertTrue(before == 10 or not one.background.may_show(before) or before in one.background.hidden, f"{frame} may need it")
                return rough(source, frame, before)

            one.rough = looked_at
            if kind is None:
                plain = [painted, *(one.step(self.source, frame, frame - 1) for frame in frames)]
                found.append([*(one.calmed(*three) for three in zip(plain, plain[1:], plain[2:])), plain[-1]])
            else:
                with mock.patch.object(matting, "ThreadPoolExecutor", kind):
                    found.append(list(matting._edged_beside(one, self.source, painted, frames, lambda frame: None)))
        for of in found[1:]:
            self.assertEqual([f.frame for f in of], list(frames))
            for a, b in zip(found[0], of, strict=True):
                np.testing.assert_array_equal(a.alpha, b.alpha)

    def test_the_background_of_a_frame_is_not_predicted_again_for_the_next_stroke(self):
        chosen, asked, whole = matting.Selector(), [], Background.plain_at
        self.addCleanup(chosen.close)
        with mock.patch.object(Background, "plain_at", lambda *of: (asked.append(len(of[2])), whole(*of))[1]):
            chosen.select(self.shot, msgspec.structs.replace(self.source, strokes=BALL[:1]), 10, Job())
            self.assertEqual(asked.count(320 * 180), 2)  # with and without what has the subject's colours
            chosen.select(self.shot, self.source, 10, Job())
            self.assertEqual(asked.count(320 * 180), 2)

    def test_a_stroke_that_is_painted_over_leaves_nothing(self):
        line = BALL[0].line
        over = msgspec.structs.replace(self.source, strokes=(Stroke(10, line, 6.0), Stroke(10, line, 9.0, False)))
        with warnings.catch_warnings(action="error"):
            self.assertEqual(laid_out(matting.select_here(self.shot, over, 10), 320, 180).max(), 0)

    def test_a_shadow_that_cannot_be_read_is_told(self):
        source = Brushed(id="b", name="Ball", strokes=BALL)
        for strokes, words in ((BALL[:1], "outside"), (BALL, "Solve the shot"), ((), "outside")):
            with self.assertRaises(UserError) as raised:
                matting.shadow_of_subject(self.shot, msgspec.structs.replace(source, strokes=strokes), Job())
            self.assertIn(words, str(raised.exception))

    def test_strokes_on_another_frame_hold_there(self):
        wrong = with_found(self.source, stored(0, np.zeros((180, 320), np.float32), 1.0, False))
        added = msgspec.structs.replace(wrong, strokes=(*BALL, Stroke(15, (250.0, 20.0, 270.0, 20.0), 8.0)))
        found = {f.frame: f for f in matting.followed(msgspec.structs.replace(self.shot, first=9, last=16), added, Job())}
        self.assertGreater(laid_out(found[15], 320, 180)[20, 255:265].mean(), 0.8)
        self.assertTrue(found[15].selected and not found[14].selected)

    def test_it_is_cancelled_between_frames_and_nothing_painted_is_told(self):
        job, seen = Job(), []
        with self.assertRaises(Cancelled):
            for found in matting.followed(self.shot, self.source, job):
                seen.append(found)
                if len(seen) == 3:
                    job.cancel()
        self.assertEqual(len(seen), 3)
        for strokes in ((), (BALL[1],), (Stroke(900, (1.0, 1.0)),)):
            with self.assertRaises(UserError):
                next(matting.followed(self.shot, msgspec.structs.replace(self.source, strokes=strokes), Job()))
        with self.assertRaises(UserError):
            matting.select_here(self.shot, self.source, 4)

    def test_all_and_nothing_and_a_line_that_crosses_itself(self):
        for line, radius in (((0.0, 0.0, 319.0, 179.0), 400.0), ((5.0, 5.0), 0.6), ((100.0, 80.0, 140.0, 110.0, 100.0, 110.0, 140.0, 80.0), 4.0)):
            source = Brushed(id="x", name="X", strokes=(Stroke(10, line, radius),))
            found = list(matting.followed(msgspec.structs.replace(self.shot, first=9, last=12), source, Job()))
            self.assertEqual(sorted(f.frame for f in found), [9, 10, 11, 12])
            self.assertTrue(all(np.isfinite(f.sure) for f in found))

    def test_it_is_kept_in_the_shot_and_nonsense_is_refused(self):
        found = tuple(stored(i, self.truth[i], 0.5 + 0.02 * i, i == 10) for i in range(24))
        source = msgspec.structs.replace(self.source, found=found, source="abc")
        path = self.folder / "a.lode"
        files.write(msgspec.structs.replace(self.shot, mattes=(source,)), path)
        before = path.stat().st_size
        back = files.read(path).mattes[0]
        self.assertEqual((back.strokes, back.source, len(back.found)), (source.strokes, "abc", 24))
        for a, b in zip(back.found, found):
            np.testing.assert_array_equal(a.alpha, b.alpha)
        self.assertLess(before, 24 * 4000)
        self.assertEqual(sum(f.sure < UNSURE for f in back.found), sum(f.sure < UNSURE for f in found))
        for bad, word in (
            ({"found": (found[3], found[1])}, "found[1].frame"),
            ({"found": (Found(0, 300, 0, np.zeros((10, 40), np.uint8)),)}, "outside the picture"),
            ({"found": (Found(0, 0, 0, np.zeros((10, 40), np.float32)),)}, "found[0].alpha"),
            ({"strokes": (Stroke(1, (1.0, 2.0, 3.0)),)}, "strokes[0].line"),
            ({"strokes": (Stroke(1, (1.0, 2.0), -3.0),)}, "strokes[0].radius"),
        ):
            files.write(msgspec.structs.replace(self.shot, mattes=(msgspec.structs.replace(source, **bad),)), path)
            with self.assertRaises(ShotFileError) as told:
                files.read(path)
            self.assertIn(word, told.exception.what)
            self.assertEqual(told.exception.part, "mattes[0]")
            self.assertEqual(files.read(path, ("mattes[0]",)).mattes, ())

    def test_commands_compute_and_write_it(self):
        """Strokes as docs/shot-file.md shows them, brought up to date and written without a window."""
        tree = json.loads(example("docs/shot-file.md", "mattes"))
        mattes = msgspec.convert(tree, tuple[Brushed, ...])
        files.write(msgspec.structs.replace(self.shot, mattes=mattes), self.folder / "a.lode")
        done = ask("update", self.folder / "a.lode", "--only", "mattes")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("mattes", done.stderr)
        for args, status in (((), 0), (("--matte", "Ball"), 0), (("--matte", "Nobody"), 2)):
            done = ask("render", self.folder / "a.lode", "--pass", "matte", *args, "-o", self.folder / "m.%04d.png", "--range", "4:4")
            self.assertEqual(done.returncode, status, done.stderr)
            if status == 0:
                written = cv2.imread(str(self.folder / "m.0004.png"), cv2.IMREAD_GRAYSCALE) / 255
                self.assertGreater(overlap(written, self.truth[4]), 0.8)
        self.assertIn("It has: Ball", done.stderr)
        self.assertEqual([s.name for s in steps_named(["mattes", "track"])], ["track", "mattes"])


if __name__ == "__main__":
    unittest.main()
