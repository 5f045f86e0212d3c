"""Cards, boxes, tubes, uneven ground, and solids of drawings."""

import time
import unittest

import cv2
import manifold3d as m3
import msgspec
import numpy as np
import svgelements as se
from scipy.spatial import Delaunay, cKDTree

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.keyed import constant
from lodestar.core.edits.letters import with_reliefs
from lodestar.core.evaluate.objects import items_of
from lodestar.core.shape.drawings import check_svg, drawing_outlines, drawing_parts, logo_mesh
from lodestar.core.shape.extrude import bevelled
from lodestar.core.shape.solids import box_mesh, card_mesh, ground_mesh, tube_mesh
from lodestar.core.shape.trace import traced
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Logo

HEAD = "<svg xmlns='http://www.w3.org/2000/svg' xmlns:xlink='http://www.w3.org/1999/xlink' viewBox='0 0 1000 1000'>"


def area(contours) -> float:
    """Of closed contours, holes counted off."""
    return abs(sum(0.5 * float(np.sum(c[:, 0] * np.roll(c[:, 1], -1) - np.roll(c[:, 0], -1) * c[:, 1])) for c in contours))


def volume(mesh) -> float:
    """Of a solid that manifold3d takes for closed; nan for one that it does not."""
    where, index = np.unique(mesh.vertices, axis=0, return_inverse=True)
    solid = m3.Manifold(m3.Mesh(np.ascontiguousarray(where, np.float32), np.ascontiguousarray(index.reshape(-1)[mesh.triangles], np.uint32)))
    return solid.volume() if solid.status() == m3.Error.NoError else float("nan")


def surface(mesh) -> float:
    a, b, c = (mesh.vertices[mesh.triangles[:, k]] for k in range(3))
    return float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum() / 2)


def path(d: str, more: str = "") -> str:
    return f"{HEAD}<path d='{d}' {more}/></svg>"


class PlainSolidsTest(unittest.TestCase):
    def test_box_and_tube_are_closed_and_of_their_size(self):
        for mesh, size in ((box_mesh(), 1.0), (tube_mesh(), np.pi / 4)):
            self.assertAlmostEqual(volume(mesh), size, delta=0.006)
            np.testing.assert_allclose([mesh.vertices[:, 2].min(), mesh.vertices[:, 2].max()], [0, 1], atol=1e-6)
        np.testing.assert_allclose(card_mesh().vertices.min(0), [-0.5, 0, 0])

    def test_ground_is_the_triangulation_that_scipy_makes(self):
        rng = np.random.default_rng(0)
        p = np.c_[rng.uniform(0, 10, (80, 2)), rng.uniform(0, 1, 80)]
        mesh = ground_mesh(tuple(p.ravel()), 100.0, 0, True)
        rows = lambda t: {tuple(sorted(r)) for r in np.asarray(t).tolist()}
        self.assertEqual(rows(mesh.triangles), rows(Delaunay(p[:, :2]).simplices))
        self.assertTrue((mesh.normals[:, 2] > 0).all())
        # Delaunay's own condition: no point lies inside the circle through a triangle's corners
        tree = cKDTree(p[:, :2])
        for t in mesh.triangles:
            a, b, c = p[t, :2]
            centre = a + np.linalg.solve(2 * np.array([b - a, c - a]), [(b - a) @ (b - a), (c - a) @ (c - a)])
            self.assertEqual(len(tree.query_ball_point(centre, np.linalg.norm(a - centre) - 1e-9)), 0)

    def test_long_edges_are_left_out_and_holes_closed_on_request(self):
        x, y = np.meshgrid(np.arange(9.0), np.arange(9.0))
        hole = (np.abs(x - 4) < 2) & (np.abs(y - 4) < 2)
        p = np.c_[x[~hole], y[~hole], 0 * x[~hole]]
        points = tuple(p.ravel())
        self.assertAlmostEqual(surface(ground_mesh(points, 1.5, 0, False)), 64 - 16, delta=2.1)
        self.assertAlmostEqual(surface(ground_mesh(points, 1.5, 0, True)), 64, places=4)
        far = tuple(np.concatenate([p, [[30, 4, 0], [31, 4, 0], [30, 5, 0]]]).ravel())
        self.assertAlmostEqual(surface(ground_mesh(far, 1.5, 0, True)), 64.5, places=4)

    def test_smoothing_takes_bumps_away(self):
        rng = np.random.default_rng(2)
        p = np.c_[rng.uniform(0, 10, (200, 2)), 0.2 * rng.standard_normal(200)]
        rough, smooth = (ground_mesh(tuple(p.ravel()), 50.0, n, True).vertices[:, 2].std() for n in (0, 6))
        self.assertLess(smooth, 0.5 * rough)

    def test_points_that_make_no_ground(self):
        for points, word in (((0.0,) * 6, "three"), (tuple(np.c_[np.arange(5.0), np.arange(5.0), np.zeros(5)].ravel()), "line")):
            with self.assertRaises(UserError) as told:
                ground_mesh(points, 1.0, 0, True)
            self.assertIn(word, told.exception.what + told.exception.hint)


class SvgTest(unittest.TestCase):
    """Against the examples of the standard: W3C, SVG 1.1 (Second Edition), chapter 8; areas by the formulas of the shapes."""

    def test_the_arcs_of_the_standard(self):
        # 8.3.8, example arcs01: three quarters of a circle of radius 150, and the quarter beside it
        three, one = "M300,200 h-150 a150,150 0 1,0 150,-150 z", "M275,175 v-150 a150,150 0 0,0 -150,150 z"
        for d, share in ((three, 0.75), (one, 0.25)):
            contours, width = drawing_outlines(path(d))
            high = 300 if share > 0.5 else 150
            self.assertAlmostEqual(area(contours) * high**2, share * np.pi * 150**2, delta=0.002 * share * np.pi * 150**2)
            self.assertAlmostEqual(width, 1.0, places=3)

    def test_all_four_arcs_between_two_points(self):
        # 8.3.8: large-arc and sweep flags choose among four arcs of an ellipse; a small and a large one make the whole ellipse
        rx, ry = 100.0, 50.0
        ends = "M 125,75 A100,50 0 {},{} 225,125 Z"
        pieces = [area(drawing_outlines(path(ends.format(*flags)))[0]) * self.height_of(path(ends.format(*flags))) ** 2 for flags in ((0, 0), (1, 0))]
        self.assertAlmostEqual(sum(pieces), np.pi * rx * ry, delta=0.004 * np.pi * rx * ry)
        # 8.3.8, F.6.6: radii that are too small are scaled up until they reach
        stretched = drawing_outlines(path("M 0,0 A 1,1 0 0,1 100,0 Z"))
        self.assertAlmostEqual(stretched[1], 2.0, delta=0.01)

    def height_of(self, svg):
        """In px, by the box that svgelements works out."""
        box = se.Path(svg.split("d='")[1].split("'")[0]).bbox()
        return box[3] - box[1]

    def test_curves_against_opencv_filling_a_polygon(self):
        # 8.3.6 and 8.3.7: cubic01's first curve and quad01's curve with its smooth continuation, closed
        t = np.linspace(0, 1, 2001)[:, None]
        cubic = lambda a, b, c, d: (1 - t) ** 3 * a + 3 * (1 - t) ** 2 * t * b + 3 * (1 - t) * t * t * c + t**3 * d
        quad = lambda a, b, c: (1 - t) ** 2 * a + 2 * (1 - t) * t * b + t * t * c
        P = lambda *xy: np.array(xy, float)
        shapes = {
            "M100,200 C100,100 250,100 250,200 S400,300 400,200 z": np.concatenate(
                [cubic(P(100, 200), P(100, 100), P(250, 100), P(250, 200)), cubic(P(250, 200), P(250, 300), P(400, 300), P(400, 200))]
            ),
            "M200,300 Q400,50 600,300 T1000,300 z": np.concatenate(
                [quad(P(200, 300), P(400, 50), P(600, 300)), quad(P(600, 300), P(800, 550), P(1000, 300))]
            ),
        }
        for d, line in shapes.items():
            want = np.zeros((700, 1100), np.uint8)
            cv2.fillPoly(want, [np.round(line * 16).astype(np.int32)], 255, cv2.LINE_8, 4)
            contours, _ = drawing_outlines(path(d))
            low, high = line.min(0), line.max(0)
            back = [np.c_[c[:, 0] * (high - low)[1] + (low + high)[0] / 2, high[1] - c[:, 1] * (high - low)[1]] for c in contours]
            got = np.zeros_like(want)
            cv2.fillPoly(got, [np.round(c * 16).astype(np.int32) for c in back], 255, cv2.LINE_8, 4)
            self.assertGreater((got & want).astype(bool).sum() / (got | want).astype(bool).sum(), 0.99, d)

    def test_fill_rules_holes_shapes_and_transforms(self):
        # 11.3: a square in a square of the same turn is filled by 'nonzero' and a hole by 'evenodd'
        squares = "M0,0 h100 v100 h-100 z M25,25 h50 v50 h-50 z"
        self.assertAlmostEqual(area(drawing_outlines(path(squares))[0]), 1.0, places=6)
        self.assertAlmostEqual(area(drawing_outlines(path(squares, "fill-rule='evenodd'"))[0]), 0.75, places=6)
        circle = f"{HEAD}<g transform='translate(30 40) scale(2)'><circle cx='5' cy='5' r='20'/></g></svg>"
        self.assertAlmostEqual(area(drawing_outlines(circle)[0]), np.pi / 4, delta=0.002)
        both = f"{HEAD}<defs><rect id='r' width='50' height='100'/></defs><use href='#r'/><use xlink:href='#r' x='50'/></svg>"
        self.assertAlmostEqual(drawing_outlines(both)[1], 1.0, places=6)

    def test_the_solid_is_closed(self):
        mesh = logo_mesh(path("M0,0 h100 v100 h-100 z M25,25 v50 h50 v-50 z"), bevelled(0.2, 0.01))
        self.assertAlmostEqual(volume(mesh), 0.75 * 0.2, delta=0.006)


class LinesTest(unittest.TestCase):
    """Lines by their width against areas of squares, discs and corners; the rules are those of SVG 1.1, 11.4."""

    def covered(self, d: str, more: str, high: float) -> float:
        """Area in px of a drawing that is `high` px high with its lines."""
        return area(drawing_outlines(path(d, f"fill='none' stroke='#102030' {more}"))[0]) * high**2

    def test_ends(self):
        for cap, size in (("butt", 1000.0), ("square", 1100.0), ("round", 1000 + 25 * np.pi)):
            self.assertAlmostEqual(self.covered("M0,0 h100", f"stroke-width='10' stroke-linecap='{cap}'", 10), size, delta=0.5, msg=cap)

    def test_joins_and_their_limit(self):
        corner = {"miter": 25.0, "bevel": 12.5, "round": 25 * np.pi / 4}
        for join, size in corner.items():
            for d in ("M0,0 h100 v100", "M100,100 v-100 h-100"):  # either way round
                self.assertAlmostEqual(self.covered(d, f"stroke-width='10' stroke-linejoin='{join}'", 105), 1975 + size, delta=0.3, msg=join)
        # at 90 degrees a miter is 1 / sin 45 = 1.414 widths long
        for limit, size in ((1.42, 25.0), (1.41, 12.5)):
            self.assertAlmostEqual(self.covered("M0,0 h100 v100", f"stroke-width='10' stroke-miterlimit='{limit}'", 105), 1975 + size, delta=1e-2)

    def test_closed_lines_and_transforms(self):
        self.assertAlmostEqual(self.covered("M0,0 h100 v100 h-100 z", "stroke-width='10'", 110), 110**2 - 90**2, delta=0.01)
        ring = f"{HEAD}<g transform='scale(2)' style='stroke:black;stroke-width:5'><circle r='25' fill='none'/></g></svg>"
        self.assertAlmostEqual(area(drawing_outlines(ring)[0]) * 110**2, np.pi * (55**2 - 45**2), delta=4)
        self.assertAlmostEqual(volume(logo_mesh(ring, bevelled(0.2, 0.005))), area(drawing_outlines(ring)[0]) * 0.2, delta=0.003)

    def test_where_something_is_filled_lines_are_left_out(self):
        square = "<path d='M0,0 h100 v100 h-100 z'/>"
        plain, _ = drawing_outlines(f"{HEAD}{square}</svg>")
        lined, _ = drawing_outlines(f"{HEAD}{square}<path d='M0,0 h500' fill='none' stroke='red' stroke-width='9'/></svg>")
        np.testing.assert_array_equal(plain[0], lined[0])

    def test_lines_and_fills_together_as_the_standard_paints_them(self):
        """SVG 1.1, 11.1: the fill of a shape is painted first, then its stroke, which lies half over it."""
        text = f"{HEAD}<path d='M0,0 h100 v100 h-100 z' fill='#00ff00' stroke='#ff0000' stroke-width='10'/></svg>"
        whole, wide = drawing_outlines(text, True)
        self.assertAlmostEqual(wide, 1.0, places=6)
        self.assertAlmostEqual(area(whole) * 110**2, 110**2, delta=1)
        parts = {colour: area(own) * 110**2 for colour, own in drawing_parts(text, True)}
        self.assertAlmostEqual(parts["#00ff00"], 90**2, delta=1)
        self.assertAlmostEqual(parts["#ff0000"], 110**2 - 90**2, delta=1)
        self.assertEqual([colour for colour, _ in drawing_parts(text)], ["#00ff00"])
        heavy = text.replace("</svg>", f"<!--{'x' * 9000}--></svg>")  # worked out in a child process
        np.testing.assert_allclose(area(drawing_outlines(heavy, True)[0]), area(whole))


class TraceTest(unittest.TestCase):
    """Outlines of cut-out pictures against the shapes that were drawn, whose area and edges are known."""

    def cut_out(self, inside, soft: bool) -> np.ndarray:
        """(300, 300, 4): where inside(x, y) holds, with edges by 8 x 8 parts of a px, or hard ones."""
        y, x = (np.mgrid[0:2400, 0:2400] + 0.5) / 8 - 0.5
        alpha = cv2.resize(inside(x, y).astype(np.float32), (300, 300), interpolation=cv2.INTER_AREA)
        picture = np.full((300, 300, 4), (200, 120, 40, 0), np.uint8)
        picture[..., 3] = np.round(255 * (alpha if soft else alpha > 0.5))
        return picture

    def test_a_ring_to_a_tenth_of_a_pixel(self):
        ring = lambda x, y: (np.hypot(x - 150.4, y - 149.6) < 100.3) & (np.hypot(x - 150.4, y - 149.6) > 60.2)
        for soft, off, share in ((True, 0.1, 0.002), (False, 0.5, 0.006)):  # a hard edge is known to half a px
            text = traced(self.cut_out(ring, soft))
            self.assertIn("#c87828", text)
            contours, _ = drawing_outlines(text)
            size = np.pi * (100.3**2 - 60.2**2)
            self.assertAlmostEqual(area(contours) * 200.6**2, size, delta=share * size)
            self.assertEqual(len(contours), 2)
            path = se.Path(text.split(' d="')[1].split('"')[0])
            radii = np.array([np.hypot(s.end.x - 3 - 150.4, s.end.y - 3 - 149.6) for s in path])
            outer = radii[radii > 80]
            self.assertLess(np.abs(outer - 100.3).max(), off)
            self.assertLess(len(outer), 200)

    def test_corners_stay_corners_and_edges_straight(self):
        c, s = np.cos(0.4), np.sin(0.4)
        turned = lambda x, y: (np.abs(c * (x - 150) + s * (y - 150)) < 90) & (np.abs(c * (y - 150) - s * (x - 150)) < 40)
        text = traced(self.cut_out(turned, True))
        points = np.array([(s.end.x - 3, s.end.y - 3) for s in se.Path(text.split(' d="')[1].split('"')[0])])
        for u, v in ((90, 40), (90, -40), (-90, 40), (-90, -40)):
            corner = np.array([150 + c * u - s * v, 150 + s * u + c * v])
            self.assertLess(np.linalg.norm(points - corner, axis=1).min(), 1.0)
        self.assertLess(len(points), 40)

    def test_what_has_no_outline(self):
        blank = np.zeros((50, 60, 4), np.uint8)
        full, speck = blank + 255, blank.copy()
        speck[20, 20] = 255
        leaves = np.zeros((1000, 1000, 4), np.uint8)
        leaves[..., 3] = 255 * (cv2.GaussianBlur(np.random.default_rng(1).random((1000, 1000)).astype(np.float32), (0, 0), 2) > 0.5)
        for picture, words in ((blank, "opaque"), (full, "see-through"), (speck, "too small"), (leaves, "px long")):
            with self.assertRaises(UserError) as told:
                traced(picture)
            self.assertIn(words, told.exception.what)


class ColoursTest(unittest.TestCase):
    EMBLEM = (
        f"{HEAD}<rect width='100' height='100' fill='#204060'/><circle cx='50' cy='50' r='30' fill='gold'/>"
        "<rect x='40' y='40' width='20' height='20' fill='#204060'/></svg>"
    )

    def test_what_is_seen_of_each_colour_tiles_the_whole(self):
        """Later shapes lie over earlier ones (SVG 1.1, 3.3: the painters model); areas by elementary geometry."""
        parts = dict(drawing_parts(self.EMBLEM))
        self.assertEqual(list(parts), ["#204060", "#ffd700"])
        disc = np.pi * 0.09 - 0.04
        self.assertAlmostEqual(area(parts["#ffd700"]), disc, delta=0.001)
        self.assertAlmostEqual(area(parts["#204060"]), 1 - disc, delta=0.001)
        self.assertAlmostEqual(sum(map(area, parts.values())), area(drawing_outlines(self.EMBLEM)[0]), places=5)

    def test_a_heavy_drawing_has_the_same_colours_from_the_child_process(self):
        heavy = self.EMBLEM.replace("</svg>", "<!--" + "x" * 9000 + "--></svg>")
        for (a, one), (b, other) in zip(drawing_parts(self.EMBLEM), drawing_parts(heavy), strict=True):
            self.assertEqual(a, b)
            self.assertAlmostEqual(area(one), area(other), places=6)

    def test_reliefs_have_depth_colour_and_place_of_their_own(self):
        shot = with_reliefs(Shot(objects=(Logo(id="l", svg=self.EMBLEM, height=constant(2.0)),)), "l")
        blue, gold = shot.objects[0].reliefs
        self.assertEqual((blue.fill, gold.fill), ("#204060", "#ffd700"))
        raised = msgspec.structs.replace(gold, depth=constant(2.0), forward=constant(0.1), metal=constant(1.0), glow=constant(0.5))
        logo = msgspec.structs.replace(shot.objects[0], reliefs=(blue, raised))
        low, high = items_of(Shot(objects=(logo,)), logo, 0)
        self.assertEqual((low.metal, high.metal, high.glow), (0.0, 1.0, 0.5))
        deep = [float(np.ptp(i.mesh.vertices[:, 1])) for i in (low, high)]
        self.assertAlmostEqual(deep[1] / deep[0], 2.0, places=3)
        self.assertAlmostEqual(float(high.model(0.0)[1, 3] - low.model(0.0)[1, 3]), -0.2, places=6)
        for item in (low, high):
            self.assertGreater(volume(item.mesh), 0)
        again = with_reliefs(Shot(objects=(logo,)), "l").objects[0].reliefs
        self.assertEqual(again, logo.reliefs, "what was changed stays")
        with self.assertRaises(UserError):
            with_reliefs(Shot(objects=(Logo(id="l", svg=path("M0,0 h10 v10 z")),)), "l")


class HostileSvgTest(unittest.TestCase):
    def refused(self, text: str) -> str:
        began = time.process_time()
        with self.assertRaises(UserError) as told:
            check_svg(text)
        # of the processor, not of the clock: a busy machine takes longer, not more
        self.assertLess(time.process_time() - began, 5.0, "it must not hang")
        return told.exception.what

    def test_what_has_no_body_or_is_no_drawing(self):
        for text in (
            "",
            "hello",
            "<svg",
            f"{HEAD}</svg>",
            path("M0,0 h100", "fill='none'"),
            path("M0,0 h100", "fill='none' stroke='black' stroke-width='0'"),
            path("M0,0 h100 h-100 z"),
            f"{HEAD}<text> </text></svg>",
            path("M0,0 L nan,4 z"),
            "<html><body/></html>",
        ):
            self.refused(text)

    def test_entity_bombs_and_document_types(self):
        bomb = "<!DOCTYPE svg [<!ENTITY a 'aaaaaaaaaa'><!ENTITY b '&a;&a;&a;&a;&a;&a;'>]>" + path("M0,0 h9 v9 z")
        self.assertIn("entities", self.refused(bomb))
        outside = "<!DOCTYPE svg [<!ENTITY x SYSTEM 'file:///etc/passwd'>]>" + path("M0,0 h9 v9 z")
        self.refused(outside)

    def test_scripts_links_and_pictures_are_left_out(self):
        square = "<path d='M0,0 h100 v100 h-100 z'/>"
        for extra in (
            "<script>fetch('http://203.0.113.7/')</script>",
            "<image href='http://203.0.113.7/a.png' width='9' height='900'/>",
            "<use href='http://203.0.113.7/a.svg#x'/>",
            "<a href='javascript:alert(1)'><path d='M0,0 h1 v1 z' onload='x()'/></a>",
            "<foreignObject width='900' height='900'><p/></foreignObject>",
            "<style>@import url(http://203.0.113.7/a.css);</style>",
        ):
            contours, width = drawing_outlines(f"{HEAD}{extra}{square}</svg>")
            self.assertAlmostEqual(area(contours), 1.0, places=6, msg=extra)
            self.assertAlmostEqual(width, 1.0, places=6)

    def test_drawings_that_repeat_themselves(self):
        layers = "".join(f"<g id='g{i}'>" + f"<use href='#g{i + 1}'/>" * 10 + "</g>" for i in range(12))
        self.assertIn("repeats", self.refused(f"{HEAD}<g id='g12'><rect width='1' height='1'/></g>{layers}</svg>"))
        ring = f"{HEAD}<g id='a'><use href='#b'/></g><g id='b'><use href='#a'/></g></svg>"
        self.refused(ring)
        deep = HEAD + "<g>" * 3000 + "<rect width='1' height='1'/>" + "</g>" * 3000 + "</svg>"
        self.refused(deep)
        self.assertIn("MB", self.refused(path("M0,0 " + "h1 v1 " * 1_000_000)))


if __name__ == "__main__":
    unittest.main()
