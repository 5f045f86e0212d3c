"""Letters against the font's own tables; solids against the rules of a closed surface."""

import unittest

import msgspec
import numpy as np
from fontTools.pens.boundsPen import BoundsPen
from fontTools.ttLib import TTFont
from scipy.spatial import cKDTree

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.keyed import Key, Keyed, constant
from lodestar.core.evaluate.cameras import camera_at
from lodestar.core.evaluate.objects import CHORD_ERROR, fineness
from lodestar.core.media.plates import PlateInfo
from lodestar.core.shape.extrude import bevelled, extrude, solid
from lodestar.core.shape.fonts import SHIPPED, all_faces, face_of
from lodestar.core.shape.outlines import cap_height
from lodestar.core.shape.setting import Setting, pieces_of, word_box
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Box, Title
from tests.helpers import word_contours, word_mesh


def volume(mesh) -> float:
    a, b, c = (mesh.vertices[mesh.triangles[:, k]].astype(float) for k in range(3))
    return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6)


def open_edges(mesh) -> int:
    """Edges that are not shared by exactly two triangles with opposite direction."""
    _, number = np.unique(np.round(mesh.vertices.astype(float), 5), axis=0, return_inverse=True)
    triangles = number.ravel()[mesh.triangles]
    whole = (triangles[:, 0] != triangles[:, 1]) & (triangles[:, 1] != triangles[:, 2]) & (triangles[:, 0] != triangles[:, 2])
    balance: dict = {}
    for a, b, c in triangles[whole]:
        for i, j in ((a, b), (b, c), (c, a)):
            key = (min(i, j), max(i, j))
            balance[key] = balance.get(key, 0) + (1 if i < j else -1)
    return sum(v != 0 for v in balance.values())


SPACING = 5e-5


def dense(ring):
    """The ring (n, 2) as points so near to each other that the nearest one tells how far the line is."""
    ends = np.concatenate([ring, ring[:1]])
    run = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(ends, axis=0), axis=1))])
    at = np.arange(0, run[-1], SPACING)
    return np.stack([np.interp(at, run, ends[:, k]) for k in (0, 1)], 1)


class OutlinesTest(unittest.TestCase):
    def test_advance_widths_and_boxes_are_the_fonts_own(self):
        # outside check: the font's hmtx table and glyph bounds, read by fontTools
        for face in SHIPPED:
            path = face_of(face)
            font = TTFont(path.path)
            glyphs, order = font.getGlyphSet(), font.getBestCmap()
            upem = font["head"].unitsPerEm
            cap = cap_height(path) * upem
            for letter in "HOgR8":
                name = order[ord(letter)]
                contours, width = word_contours(path, letter)
                self.assertAlmostEqual(width * cap, font["hmtx"][name][0], delta=0.01)
                pen = BoundsPen(glyphs)
                glyphs[name].draw(pen)
                points = np.concatenate(contours) * cap + [width * cap / 2, 0]
                # chords lie within 0.12 % of the em of their curves
                np.testing.assert_allclose([*points.min(0), *points.max(0)], pen.bounds, atol=0.0013 * upem)

    def test_kerning_lines_and_spacing(self):
        path = face_of("Inter Display Black")
        width = lambda text, spacing=0.0: word_contours(path, text, Setting(spacing))[1]
        self.assertLess(width("AV"), width("A") + width("V"))
        self.assertAlmostEqual(width("OOO", 0.1) - width("OOO"), 0.2 / cap_height(path), places=6)
        two, _ = word_contours(path, "H\nH")
        heights = sorted(c[:, 1].min() for c in two)
        self.assertAlmostEqual(heights[0], 0.0, places=3)
        self.assertGreater(heights[-1], 1.2)

    def test_lines_are_set_in_the_widest_one(self):
        path = face_of("Inter Display Black")
        left = lambda align, k: min(
            c[:, 0].min() for c in word_contours(path, "HHHH\nH", Setting(align=align))[0] if (c[:, 1].min() > 0.5) == (k == 0)
        )
        wide = word_contours(path, "HHHH")[1]
        one = word_contours(path, "H")[1]
        for align, place in (("left", 0.0), ("centre", (wide - one) / 2), ("right", wide - one)):
            self.assertAlmostEqual(left(align, 1) - left(align, 0), place, places=4)
            self.assertAlmostEqual(left(align, 0), left("centre", 0), places=6)

    def test_spaces_line_steps_and_width(self):
        """Advances are the face's own (hmtx by fontTools) and what is added to them."""
        path = face_of("Inter Display Black")
        width = lambda text, **more: word_contours(path, text, Setting(**more))[1]
        self.assertAlmostEqual(width("H H H", word_spacing=0.3) - width("H H H"), 0.6 / cap_height(path), places=6)
        self.assertAlmostEqual(width("HH", word_spacing=0.3), width("HH"), places=9)
        with TTFont(path.path) as font:
            advance = font["hmtx"][font.getBestCmap()[ord("H")]][0] / font["head"].unitsPerEm
        self.assertAlmostEqual(width("H"), advance / cap_height(path), places=6)
        self.assertAlmostEqual(width("H", width=0.7), 0.7 * width("H"), places=9)
        tops = lambda step: sorted(c[:, 1].max() for c in word_contours(path, "H\nH\nH", Setting(line_step=step))[0])
        np.testing.assert_allclose(np.diff(tops(1.5)), 1.5 / cap_height(path), atol=1e-6)
        low, high = word_box(path, "AB\nC", Setting(width=2.0, line_step=1.0))
        self.assertAlmostEqual(
            high[0] - low[0], 2 * (word_box(path, "AB\nC", Setting(line_step=1.0))[1][0] - word_box(path, "AB\nC")[0][0]), places=6
        )

    def test_faces(self):
        self.assertEqual(all_faces()[:5], list(SHIPPED))
        with self.assertRaises(UserError):
            face_of("No Such Face")


class SolidTest(unittest.TestCase):
    def test_a_square_with_a_bevel_has_the_volume_that_it_should(self):
        square = np.array([[0, 0], [2, 0], [2, 2], [0, 2]], float)
        self.assertAlmostEqual(volume(extrude([square], 1.0, 0.0)), 4.0, places=5)
        r, steps = 0.2, 5
        # each bevel is a stack of frusta of nested squares, as many as there are steps
        angle = np.linspace(0, np.pi / 2, steps + 1)
        side, rise = 2 - 2 * r * (1 - np.cos(angle)), r * np.sin(angle)
        frusta = sum((rise[k + 1] - rise[k]) / 3 * (side[k] ** 2 + side[k] * side[k + 1] + side[k + 1] ** 2) for k in range(steps))
        self.assertAlmostEqual(volume(extrude([square], 1.0, r)), 4 * (1 - 2 * r) + 2 * frusta, delta=0.01)

    def test_letters_are_closed_also_where_strokes_vanish(self):
        for face in SHIPPED:
            for bevel in (0.0, 0.02, 0.08, 0.3):
                mesh = word_mesh(face, "Ag&8é", 0.4, bevel)
                self.assertEqual(open_edges(mesh), 0, (face, bevel))
                self.assertGreater(volume(mesh), 0.2)

    def test_normals_point_outward_and_the_title_stands_on_its_base_line(self):
        mesh = word_mesh("Inter Display Black", "HEH", 0.3, 0.03)
        a, b, c = (mesh.vertices[mesh.triangles[:, k]] for k in range(3))
        face = np.cross(b - a, c - a)
        agree = np.einsum("ij,ij->i", face, mesh.normals[mesh.triangles[:, 0]])
        self.assertGreater((agree >= -1e-7).mean(), 0.999)
        low, high = mesh.vertices.min(0), mesh.vertices.max(0)
        np.testing.assert_allclose([low[2], high[2], low[1], high[1]], [0, 1, -0.15, 0.15], atol=1e-3)
        self.assertAlmostEqual(low[0], -high[0], delta=0.05)

    def test_what_is_seen_large_has_truer_curves_and_is_closed_too(self):
        (piece,) = pieces_of(face_of("Inter Display Black"), "S")
        true = cKDTree(np.concatenate([dense(c) for c in piece.joined.contours(5)]))
        number = {}
        for fine in (0, 1, 2):
            mesh = solid(piece.joined, bevelled(0.3, 0.03)._replace(fine=fine))
            self.assertEqual(open_edges(mesh), 0)
            number[fine] = len(mesh.triangles)
            # the middles of chords, against the curve itself: chords a thousand times truer, filled with points
            off = max(float(true.query((c + np.roll(c, -1, 0)) / 2)[0].max()) for c in piece.joined.contours(fine))
            self.assertLess(off, CHORD_ERROR / 4**fine + SPACING)
            self.assertGreater(off, CHORD_ERROR / 4**fine / 8, "they are no truer than they need be")
        self.assertLess(number[0] * 1.4, number[1])
        self.assertLess(number[1] * 1.4, number[2])

    def test_how_fine_letters_are_follows_their_size_in_the_picture(self):
        """By the pinhole's rule a title of height h at distance d is f h / d px high."""
        shot = Shot(plate=PlateInfo("", 1920, 1080, 20, (25, 1)), objects=(Title(id="t", text="O", height=constant(1.0), depth=constant(0.01)),))
        focal = camera_at(shot, 0).lens.fy

        def at(px):
            (title,) = shot.objects
            here = msgspec.structs.replace(title, height=constant(px / focal * 6.0))  # the camera stands 6 from it
            return fineness(msgspec.structs.replace(shot, objects=(here,)), here, 0)

        self.assertEqual([at(px) for px in (60, 160, 190, 600, 800, 5000)], [0, 0, 1, 1, 2, 2])
        keyed = msgspec.structs.replace(shot.objects[0], height=Keyed((0.1,), (Key(0, (0.1,)), Key(10, (9.0,)))))
        self.assertEqual(fineness(msgspec.structs.replace(shot, objects=(keyed,)), keyed, 0), 0)
        self.assertEqual(fineness(msgspec.structs.replace(shot, objects=(keyed,)), keyed, 10), 2)
        self.assertEqual(fineness(shot, Box(id="b"), 0), 0)

    def test_nothing_to_see_makes_an_empty_mesh(self):
        self.assertEqual(len(word_mesh("Zilla Slab Bold", "   ", 0.3, 0.02).triangles), 0)
