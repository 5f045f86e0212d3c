"""Set letters against HarfBuzz and the Unicode files; solids of profiles against formulas; what moves letter by letter."""

import unittest
from unittest import mock

import cv2
import msgspec
import numpy as np
import uharfbuzz as hb

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.keyed import Key, Keyed, constant
from lodestar.core.edits import letters
from lodestar.core.evaluate import lettering
from lodestar.core.evaluate.lettering import (
    features_of,
    moved_by,
    setting_of,
    title_box,
    title_face,
    title_parts,
    title_pieces,
    title_problem,
    words_of,
)
from lodestar.core.evaluate.objects import items_of, mesh_of, problem_of
from lodestar.core.picture.frame import QUALITIES, frame
from lodestar.core.render.engine import Quality
from lodestar.core.shape import extrude
from lodestar.core.shape.extrude import Contours, Edge, Form, bevelled, solid
from lodestar.core.shape.fontconfig import known_faces
from lodestar.core.shape.fonts import Face, face_of, faces_with
from lodestar.core.shape.outlines import cap_height, font_of, has_feature
from lodestar.core.shape.setting import Setting, _levels, letters_of, pieces_of
from lodestar.core.shot import files
from lodestar.core.shot.document import Exposure, Shot
from lodestar.core.shot.motion import field_of, keyed_things, with_value, without_thing
from lodestar.core.shot.objects import Box, Kern, Layer, Mover, Style, Title
from tests.core.test_shape import open_edges, volume
from tests.helpers import DEMO, ROOT

SQUARE = Contours((((0.0, 0.0), (2.0, 0.0), (2.0, 2.0), (0.0, 2.0)),))
BLACK = "Inter Display Black"


def circle(radius: float, sides: int = 720, turn: int = 1) -> tuple[tuple[float, float], ...]:
    angle = np.linspace(0, 2 * np.pi, sides, endpoint=False)[::turn]
    return tuple((float(radius * np.cos(a)), float(radius * np.sin(a))) for a in angle)


class SettingTest(unittest.TestCase):
    # a character of each bidirectional class, for the Unicode test file
    SAMPLES = dict(zip(["L", "R", "AL", "EN", "ES", "ET", "AN", "CS", "NSM", "BN", "S", "WS", "ON"], "aאب1+%٠,\u0300\u00ad\t !"))

    def test_small_capitals_are_the_faces_own_or_made_from_its_capitals(self):
        made = Title(id="t", text="Owl at Five", face="Kaushan Script", small_capitals=True)
        self.assertFalse(has_feature(title_face(made), "smcp"))
        self.assertEqual(words_of(made), "OWL AT FIVE")
        letters, _ = letters_of(title_face(made), words_of(made), setting_of(made, 0))
        large, _ = letters_of(title_face(made), "OWL AT FIVE", setting_of(msgspec.structs.replace(made, small_capitals=False), 0))
        sizes = [a.em / b.em for a, b in zip(letters, large)]
        np.testing.assert_allclose([sizes[0], sizes[1], sizes[7], sizes[8]], [1, 0.78, 1, 0.78])
        own = msgspec.structs.replace(made, face="Inter Display Black")
        self.assertEqual(has_feature(title_face(own), "smcp"), ("smcp", 1) in features_of(own))

    def test_levels_of_mixed_directions(self):
        """Source: BidiTest.txt of the Unicode Character Database; 2,599 of its lines, see the file's head."""
        count = 0
        for line in (ROOT / "tests/data/unicode/bidi.txt").read_text().splitlines():
            if line.startswith("#"):
                continue
            classes, levels = line.split(";")
            found = _levels("".join(self.SAMPLES[c] for c in classes.split()))
            wanted = [None if level == "x" else int(level) for level in levels.split()]
            self.assertTrue(all(w in (None, f) for w, f in zip(wanted, found)), line)
            count += 1
        self.assertGreater(count, 2500)

    def directly(self, face: Face, text: str, script: str, direction: str) -> list[tuple[int, int, float]]:
        """Glyph, cluster and place of one run as HarfBuzz itself shapes it, in ems."""
        font = font_of(face)
        buffer = hb.Buffer()
        buffer.add_str(text)
        buffer.script, buffer.direction = script, direction
        hb.shape(font, buffer, {"kern": True})
        x, rows = 0, []
        for info, at in zip(buffer.glyph_infos, buffer.glyph_positions, strict=True):
            rows.append((info.codepoint, info.cluster, (x + at.x_offset) / font.face.upem))
            x += at.x_advance
        return rows

    def test_one_script_against_harfbuzz(self):
        for text, script, direction in (
            ("AVATAR Ty.", "Latn", "ltr"),
            ("Жизнь", "Cyrl", "ltr"),
            ("نجوم الليل", "Arab", "rtl"),
            ("तारों की", "Deva", "ltr"),
        ):
            faces = faces_with(text.replace(" ", "")) if script != "Latn" else (face_of(BLACK),)
            if len(faces) != 1:
                continue  # this machine has no face for it
            letters, _ = letters_of(faces[0], text)
            wanted = self.directly(faces[0], text, script, direction)
            self.assertEqual([(one.glyph, one.letter) for one in letters], [(g, c) for g, c, _ in wanted], text)
            places = np.array([one.x for one in letters]) * cap_height(faces[0])
            np.testing.assert_allclose(places - places[0], [x - wanted[0][2] for *_, x in wanted], atol=1e-6)

    def test_a_line_of_two_directions(self):
        faces = faces_with("אבגABC123")
        if not faces or "Hebrew" not in {s for f in known_faces("א") or [] for s in f.scripts}:
            self.skipTest("no face has Hebrew here")
        text = "ABC אבג 123"
        letters, _ = letters_of(face_of(BLACK), text, Setting(fallbacks=faces_with("אבג")))
        # Latin first, then the Hebrew word and the number from right to left, the number itself rightward
        self.assertEqual([text[one.letter] for one in letters], list("ABC 123 גבא"))
        self.assertTrue(np.all(np.diff([one.x for one in letters]) > 0))

    def test_features_kerns_and_styles(self):
        plain = letters_of(face_of(BLACK), "AVA")[0]
        loose = letters_of(face_of(BLACK), "AVA", Setting(features=(("kern", 0),)))[0]
        self.assertLess(plain[1].x - plain[0].x, loose[1].x - loose[0].x)
        kerned = letters_of(face_of(BLACK), "AVA", Setting(kerns=((0, 0.2),)))[0]
        self.assertAlmostEqual((kerned[1].x - kerned[0].x) - (plain[1].x - plain[0].x), 0.2 / cap_height(face_of(BLACK)), places=6)
        title = Title(id="t", text="BIG small", styles=(Style(first=4, last=8, size=0.5, raised=0.25, colour=(1.0, 0.0, 0.0)),))
        parts = title_parts(title, 0)
        self.assertEqual([part.colour for part in parts], [None] * 3 + [(1.0, 0.0, 0.0)] * 5)
        heights = [float(np.ptp(part.mesh.vertices[:, 2])) for part in parts]
        self.assertAlmostEqual(heights[0], 1.0, delta=0.01)
        self.assertAlmostEqual(heights[-1], 0.5 * letters_height("l"), delta=0.02)
        self.assertAlmostEqual(parts[-1].place[2, 3], 0.25, places=6)

    def test_full_lines_are_as_wide_as_the_widest(self):
        text = "ONE TWO\nA B C D E F G\nEND"
        both = letters_of(face_of(BLACK), text, Setting(align="both"))[0]
        ends = {k: (min(o.x for o in both if o.line == k), max(o.x + o.advance for o in both if o.line == k)) for k in range(3)}
        self.assertAlmostEqual(ends[0][1] - ends[0][0], ends[1][1] - ends[1][0], places=6)
        self.assertLess(ends[2][1] - ends[2][0], ends[0][1] - ends[0][0])

    def test_letters_that_touch_make_one_solid(self):
        close = Setting(spacing=-0.2)
        self.assertEqual(len(pieces_of(face_of(BLACK), "NIGHT", close)), 1)
        self.assertEqual(len(pieces_of(face_of(BLACK), "NIGHT", close, apart=True)), 5)
        self.assertEqual(len(pieces_of(face_of(BLACK), "NIGHT")), 5)
        joined, apart = (pieces_of(face_of(BLACK), "NIGHT", close, one) for one in (False, True))
        whole = volume(solid(joined[0].joined, bevelled(0.3, 0.0)))
        self.assertLess(whole, sum(volume(solid(p.joined, bevelled(0.3, 0.0))) for p in apart))
        # a mark goes with its letter, wherever letters go
        self.assertEqual(len(pieces_of(face_of(BLACK), "e\u0301x", apart=True)), 2)

    def test_what_a_face_lacks_is_named_and_replaced(self):
        told = title_problem(Title(id="t", text="A漢"), 0)
        self.assertTrue("stands in" in told or "cjk unified" in told, told)
        self.assertIn("No face on this machine has", title_problem(Title(id="t", text="A\U000f1234"), 0))
        gone = Title(id="t", text="AB", face="Nowhere Sans")
        self.assertIn("Nowhere Sans is not on this machine", title_problem(gone, 0))
        self.assertEqual(len(title_parts(gone, 0)), 2)
        self.assertEqual(gone.face, "Nowhere Sans")  # the wish is kept


def letters_height(text: str) -> float:
    low, high = title_box(Title(id="h", text=text), 0)
    return float(high[2] - low[2])


class FormTest(unittest.TestCase):
    def test_a_drawn_profile_goes_through_its_points(self):
        """Volume of a square of side 1 whose edge rises in a straight line is that of the flat one; PCHIP passes its points and runs past none."""
        flat, straight = Edge("flat", 0.1, 0.1), Edge("drawn", 0.1, 0.1, (0.5, 0.5))
        self.assertAlmostEqual(volume(solid(SQUARE, Form(0.3, straight, straight))), volume(solid(SQUARE, Form(0.3, flat, flat))), places=5)
        inset, rise, slope = extrude.drawn_profile((0.2, 0.7, 0.6, 0.7, 0.8, 0.3))
        np.testing.assert_allclose([rise[np.argmin(abs(inset - x))] for x in (0, 0.2, 0.6, 0.8, 1)], [0, 0.7, 0.7, 0.3, 1], atol=1e-9)
        self.assertTrue(rise.min() >= 0 and rise[inset <= 0.6].max() <= 0.7 + 1e-9)
        grooved = solid(SQUARE, Form(0.3, Edge("drawn", 0.1, 0.1, (0.2, 0.7, 0.6, 0.7, 0.8, 0.3)), flat))
        self.assertEqual(open_edges(grooved), 0)
        for bad in ((), (0.5, 9.0), (0.7, 0.2, 0.3, 0.8), (0.0, 0.0, 1.0, 1.0)):
            self.assertEqual(open_edges(solid(SQUARE, Form(0.3, Edge("drawn", 0.1, 0.1, bad), flat))), 0, bad)

    def test_volumes_of_profiles_on_a_square(self):
        """Each edge is a stack of frusta over squares; volumes by the prismatoid's formula."""
        d, w, h = 1.0, 0.3, 0.2
        frustum = lambda a, b, height: height / 3 * (a * a + a * b + b * b)
        flat = 4 * (d - 2 * h) + 2 * frustum(2.0, 2 - 2 * w, h)
        step = 4 * (d - 2 * h) + 2 * ((2 - w) ** 2 * h / 2 + (2 - 2 * w) ** 2 * h / 2)
        # there the wall stands where the ledge ends: lower half within w / 2, upper half within w
        for profile, wanted in (("flat", flat), ("step", step)):
            edge = Edge(profile, w, h)
            self.assertAlmostEqual(volume(solid(SQUARE, Form(d, edge, edge))), wanted, places=4, msg=profile)
        one = Edge("flat", w, h)
        self.assertAlmostEqual(volume(solid(SQUARE, Form(d, one, Edge()))), 4 * (d - h) + frustum(2.0, 2 - 2 * w, h), places=4)

    def test_volumes_of_a_disc_and_a_ring(self):
        """Solids of revolution: an edge that is a quarter of an ellipse takes off the area between it and its corner, turned round the axis at the
        centroid of that area (Pappus). Area and centroid of the spandrel of a quarter ellipse: (1 - pi / 4) w h, and w (10 - 3 pi) / (3 (4 - pi))
        from the corner's side... as in tables of plane areas (from memory), checked here by numeric integration."""
        d, w, h = 0.6, 0.12, 0.1
        z = (np.arange(20_000) + 0.5) / 20_000 * h
        for outer, inner in ((1.0, 0.0), (1.0, 0.5)):
            rim = lambda radius, sign, z=z: np.pi * (radius - sign * w * (1 - np.sqrt(1 - (z / h) ** 2))) ** 2
            edge_part = float((rim(outer, 1) - (rim(inner, -1) if inner else 0)).mean() * h)
            wanted = np.pi * (outer**2 - inner**2) * (d - 2 * h) + 2 * edge_part
            rings = (circle(outer), *((circle(inner, turn=-1),) if inner else ()))
            edge = Edge("round", w, h)
            self.assertAlmostEqual(volume(solid(Contours(rings), Form(d, edge, edge))) / wanted, 1, delta=0.004)

    def test_every_form_is_closed(self):
        for face, words in ((BLACK, "Ae8"), ("Kaushan Script", "eg&"), ("Zilla Slab Bold", "8gW")):
            for piece in pieces_of(face_of(face), words):
                for profile in extrude.PROFILES:
                    for form in (
                        Form(0.3, Edge(profile, 0.05, 0.05), Edge("flat", 0.02, 0.04)),
                        Form(0.3, Edge(profile, 0.3, 0.1), Edge(profile, 0.3, 0.1)),  # wider than any stroke
                        Form(0.3, Edge(profile, 0.02, 0.02), panel=(0.02, -0.03)),
                        Form(0.3, Edge(profile, 0.02, 0.02), panel=(0.02, 0.03)),
                        Form(0.3, Edge(profile, 0.01, 0.01), rounding=0.04),
                        Form(0.3, Edge(profile, 0.01, 0.01), wall=0.04),
                        Form(0.3, Edge(profile, 0.01, 0.01), grow=0.05),
                    ):
                        mesh = solid(piece.joined, form)
                        self.assertEqual(open_edges(mesh), 0, (face, form))
                        self.assertGreater(volume(mesh), 0.0, (face, form))

    def test_parts_and_normals(self):
        mesh = solid(SQUARE, Form(1.0, Edge("flat", 0.2, 0.2), Edge("flat", 0.2, 0.2)))
        a, b, c = (mesh.vertices[mesh.triangles[:, k]].astype(float) for k in range(3))
        face = np.cross(b - a, c - a)
        face /= np.linalg.norm(face, axis=1, keepdims=True)
        looks = {extrude.FACE: (0, -1, 0), extrude.BACK: (0, 1, 0)}
        for part, way in looks.items():
            np.testing.assert_allclose(face[mesh.parts == part], np.tile(way, ((mesh.parts == part).sum(), 1)), atol=1e-6)
        self.assertTrue(np.all(np.abs(face[mesh.parts == extrude.SIDE][:, 1]) < 1e-6))
        slope = face[mesh.parts == extrude.EDGE]
        np.testing.assert_allclose(np.abs(slope[:, 1]), np.sqrt(0.5), atol=1e-5)  # 45 degrees
        # shading normals look the way their triangles do
        agree = np.einsum("ij,ij->i", face, mesh.normals[mesh.triangles[:, 0]])
        self.assertGreater(agree.min(), 0.7)

    def test_a_wall_has_its_thickness_and_rounding_takes_off_corners(self):
        wall = volume(solid(SQUARE, Form(1.0, wall=0.25)))
        self.assertAlmostEqual(wall, 4 - 1.5**2, places=4)
        round_ = volume(solid(SQUARE, Form(1.0, rounding=0.5)))
        self.assertAlmostEqual(round_, 4 - (4 - np.pi) * 0.25, delta=0.02)
        self.assertAlmostEqual(volume(solid(SQUARE, Form(1.0, grow=0.5))), 9 - (4 - np.pi) * 0.25, delta=0.02)

    def test_a_dragged_depth_extrudes_nothing_anew(self):
        title = Title(
            id="t",
            text="OPEN",
            depth=Keyed((0.3,), (Key(0.0, (0.2,)), Key(50.0, (0.9,)))),
            spacing=Keyed((0.0,), (Key(0.0, (0.0,)), Key(50.0, (0.4,)))),
        )
        title_parts(title, 0)
        made = extrude._shell.cache_info().misses
        deep = [float(np.ptp(title_parts(title, f)[0].mesh.vertices[:, 1])) for f in (5, 20, 45)]
        self.assertEqual(extrude._shell.cache_info().misses, made)
        self.assertTrue(0.2 < deep[0] < deep[1] < deep[2] < 0.9, deep)


class MoverTest(unittest.TestCase):
    def share(self, rank: float, **more) -> float:
        mover = Mover(id="m", **more)
        return float(lettering._shares(np.array(mover.reach.at(0)), np.array(mover.soft.at(0)), np.array([rank]), mover.ease)[0])

    def test_its_range_sweeps_from_none_to_all(self):
        for rank in (0.0, 0.3, 1.0):
            for soft in (0.0, 0.5, 2.0):
                self.assertEqual(self.share(rank, reach=constant(0.0), soft=constant(soft)), 0.0)
                self.assertEqual(self.share(rank, reach=constant(1.0), soft=constant(soft)), 1.0)
        half = dict(reach=constant(0.5), soft=constant(0.5), ease=False)
        # at half of its way the range ends at 0.75 of the words, and begins to let go at 0.25
        self.assertAlmostEqual(self.share(0.5, **half), 0.5)
        self.assertEqual((self.share(0.2, **half), self.share(0.8, **half)), (1.0, 0.0))

    def moves(self, title: Title, at: float = 0.0):
        pieces, setting = title_pieces(title, at)
        return pieces, moved_by(title, pieces, setting, at)

    def test_orders(self):
        ranks = {}
        for order in ("reading", "reversed", "from the middle", "from the ends", "shuffled"):
            title = Title(
                id="t",
                text="ABCDE",
                movers=(Mover(id="m", order=order, ease=False, reach=constant(0.5), soft=constant(1.0), shift=constant(0, 0, 1)),),
            )
            ranks[order] = list(self.moves(title)[1].place[:, 2, 3])
        self.assertEqual(ranks["reading"], ranks["reversed"][::-1])
        self.assertEqual(sorted(ranks["shuffled"]), sorted(ranks["reading"]))
        self.assertEqual(int(np.argmax(ranks["from the middle"])), 2)
        self.assertEqual(int(np.argmin(ranks["from the ends"])), 2)
        self.assertTrue(np.all(np.diff(ranks["reading"]) < 0))  # the first letters first

    def test_words_and_lines_move_as_one(self):
        for by, groups in (("word", [0, 0, 1, 1, 2, 2]), ("line", [0, 0, 0, 0, 1, 1])):
            title = Title(
                id="t", text="AB CD\nEF", movers=(Mover(id="m", by=by, ease=False, reach=constant(0.5), soft=constant(1.0), turn=constant(0, 0, 90)),)
            )
            pieces, moves = self.moves(title)
            for k in range(1, len(groups)):
                same = np.allclose(moves.place[k, :3, :3], moves.place[k - 1, :3, :3])
                self.assertEqual(same, groups[k] == groups[k - 1], (by, k))

    def test_each_further_letter_comes_later(self):
        sweep = Keyed((0.0,), (Key(0.0, (0.0,), "linear"), Key(10.0, (1.0,))))
        title = Title(
            id="t", text="ABCD", movers=(Mover(id="m", reach=sweep, late=constant(5.0), soft=constant(0.0), ease=False, opacity=constant(0.0)),)
        )
        gone = [list(self.moves(title, f)[1].opacity) for f in (11.0, 18.0, 40.0)]
        self.assertEqual(gone[0][0], 0.0)
        self.assertEqual(gone[0][3], 1.0)
        self.assertLess(sum(gone[1]), sum(gone[0]))
        self.assertEqual(gone[2], [0.0] * 4)
        self.assertEqual(len(title_parts(title, 40)), 0)  # nothing is drawn of what is not there

    def test_spacing_opens_about_the_middle(self):
        title = Title(id="t", text="HHH", movers=(Mover(id="m", spacing=constant(0.5), soft=constant(0.0)),))
        pieces, moves = self.moves(title)
        np.testing.assert_allclose(moves.aside, [-0.5, 0.0, 0.5], atol=1e-9)

    def test_what_it_turns_about(self):
        for about, fixed in (("foot", 0.0), ("middle", 0.5)):
            title = Title(id="t", text="H", movers=(Mover(id="m", about=about, turn=constant(0.0, 0.0, 180.0)),))
            (piece,), moves = self.moves(title)
            low, high = lettering.piece_box(piece)
            middle = np.array([(low[0] + high[0]) / 2, 0.0, fixed, 1.0])
            np.testing.assert_allclose(moves.place[0] @ middle, middle, atol=1e-9)

    def test_letters_that_move_are_blurred_on_their_own_way(self):
        """The items' models at other times of the exposure are those that the title has then."""
        sweep = Keyed((0.0,), (Key(0.0, (0.0,), "linear"), Key(10.0, (1.0,))))
        title = Title(id="t", text="AB", movers=(Mover(id="m", reach=sweep, shift=constant(0, 0, 2), turn=constant(40, 20, 10), soft=constant(2.0)),))
        shot = Shot(objects=(title,))
        for share in (-0.25, 0.25):
            moved = [i.model(share) for i in items_of(shot, title, 5)]
            then = [part.place for part in title_parts(title, 5 + share)]
            np.testing.assert_allclose(moved, then, atol=1e-9)
        self.assertFalse(np.allclose(moved[0], items_of(shot, title, 5)[0].model(0.0)))

    def test_movers_and_layers_are_keyed_things_of_their_own(self):
        title = Title(id="t", movers=(Mover(id="m"),), layers=(Layer(id="l"),))
        shot = Shot(objects=(title,))
        self.assertEqual([field_of(shot, i) for i in ("t", "m", "l", "x")], ["objects"] * 3 + [""])
        self.assertLess(list(keyed_things(shot)).index("t"), list(keyed_things(shot)).index("m"))
        keyed = with_value(shot, "m", "reach", lambda v: v.with_key(3, (0.5,)))
        self.assertEqual(keyed.objects[0].movers[0].reach.keys[0].value, (0.5,))
        self.assertEqual(without_thing(keyed, "l").objects[0].layers, ())
        self.assertEqual(without_thing(keyed, "l").objects[0].movers, keyed.objects[0].movers)


class LayersTest(unittest.TestCase):
    def test_layers_share_words_and_motion(self):
        layer = Layer(id="l", offset=constant(0.0, 0.5, 0.0), depth=constant(2.0), colour=(0.1, 0.2, 0.3), opacity=constant(0.5))
        title = Title(id="t", text="AB", layers=(layer,), movers=(Mover(id="m", shift=constant(0, 0, 1), soft=constant(0.0)),))
        parts = title_parts(title, 0)
        self.assertEqual(len(parts), 4)
        own, again = parts[0], parts[2]
        self.assertEqual((again.colour, again.opacity), ((0.1, 0.2, 0.3), 0.5))
        np.testing.assert_allclose(again.place[:3, 3] - own.place[:3, 3], [0, 0.5, 0], atol=1e-9)
        self.assertAlmostEqual(np.ptp(again.mesh.vertices[:, 1]) / np.ptp(own.mesh.vertices[:, 1]), 2.0, places=4)
        items = items_of(Shot(objects=(title,)), title, 0)
        self.assertEqual([round(i.opacity, 3) for i in items], [1, 1, 0.5, 0.5])

    def test_a_bent_line_lies_on_its_circle(self):
        title = Title(id="t", text="HHHHHHHHH", bend=constant(180.0))
        pieces, setting = title_pieces(title, 0)
        feet = []
        for piece, part in zip(pieces, title_parts(title, 0)):
            low, high = lettering.piece_box(piece)
            feet.append((part.place @ [(low[0] + high[0]) / 2, 0, 0, 1.0])[[0, 2]])
        feet = np.array(feet)
        # a circle through three of them goes through all
        A = np.c_[2 * feet, np.ones(len(feet))]
        centre = np.linalg.lstsq(A, (feet**2).sum(1), rcond=None)[0]
        radius = np.linalg.norm(feet - centre[:2], axis=1)
        self.assertLess(np.ptp(radius), 1e-6)
        self.assertLess(centre[1], 0)  # it bulges upward
        self.assertAlmostEqual(feet[:, 1].max(), 0.0, places=6)


class OldShotTest(unittest.TestCase):
    def test_a_shot_that_uses_nothing_new_looks_the_same(self):
        """Against the picture of it from when letters began to light each other; until then it was as before letters were solids of their own."""
        before = cv2.imread(str(ROOT / "tests/data/published/demo46.png"))[..., ::-1].astype(int)
        shot = files.read(DEMO)
        clean = msgspec.structs.replace(shot, exposure=Exposure(shutter=shot.exposure.shutter))  # letters had no grain then
        with mock.patch.dict(QUALITIES, final=Quality(0.06, 64)):  # as it was made then; less is left of noise since
            now = frame(clean, 46).pixels[330:530, 400:980].astype(int)
            cover = frame(clean, 46, layer="layers").pixels[330:530, 400:980, 3]
        off = np.abs(now - before).max(-1)
        # how much of a px is covered at an edge is told by more rays since, and the light beside it by fewer
        edge = cv2.dilate(cv2.morphologyEx(cover, cv2.MORPH_GRADIENT, np.ones((3, 3))), np.ones((5, 5))) > 0.1
        self.assertLess(edge.mean(), 0.3)
        self.assertLess(abs((now - before)[edge].mean()), 0.5)
        self.assertLess(off[edge].max(), 60)
        # elsewhere, light that was dotted by few samples is even since
        self.assertLess((off > 2)[~edge].mean(), 0.004)
        self.assertLess(off[~edge].max(), 40)


class EditsTest(unittest.TestCase):
    def title(self, **fields) -> Shot:
        return Shot(objects=(Title(id="t", text="OPEN SKY", **fields),), last=99)

    def test_styles_are_merged_and_cut(self):
        shot = letters.styled(self.title(), "t", 5, 7, size=0.5)
        shot = letters.styled(shot, "t", 6, 6, colour=(1.0, 0.0, 0.0))
        sizes = [letters.style_at(shot.objects[0], k).size for k in range(8)]
        self.assertEqual(sizes, [1] * 5 + [0.5] * 3)
        self.assertEqual([letters.style_at(shot.objects[0], k).colour is not None for k in range(8)], [False] * 6 + [True, False])
        shot = letters.unstyled(shot, "t", 6, 7)
        self.assertEqual([(s.first, s.last, s.size) for s in shot.objects[0].styles], [(5, 5, 0.5)])
        back = letters.styled(shot, "t", 5, 5, size=1.0)
        self.assertEqual(back.objects[0].styles, ())

    def test_what_letters_have_goes_with_them_as_one_types(self):
        styled = (Style(first=5, last=7, size=0.5),)
        for text, wanted in (
            ("NOW OPEN SKY", (9, 11)),  # before them
            ("OPEN SKY TONIGHT", (5, 7)),  # after them
            ("OPEN SKIY", (5, 8)),  # within
            ("OPEN SK", (5, 6)),
            ("OPEN Y", (5, 5)),
            ("OPEN ", None),
            ("SKY", (0, 2)),
            ("OPEN SEA", (5, 7)),  # typed over
        ):
            shot = letters.retyped(self.title(styles=styled, kerns=(Kern(letter=6, by=0.1),)), "t", text)
            found = shot.objects[0].styles
            self.assertEqual((found[0].first, found[0].last) if found else None, wanted, text)
            self.assertEqual(shot.objects[0].text, text)
        kept = letters.retyped(self.title(kerns=(Kern(letter=6, by=0.1),)), "t", "NOW OPEN SKY").objects[0].kerns
        self.assertEqual([k.letter for k in kept], [10])

    def test_a_title_arrives_and_leaves(self):
        shot, arrives = letters.with_passage(self.title(), "t", "Type")
        shot, leaves = letters.with_passage(shot, "t", "Grow", leaves=True)
        title = shot.objects[0]
        self.assertEqual([m.label for m in title.movers], ["Type (arrives)", "Shrink (leaves)"])
        said = [letters.passage_label("Burn in", leaves) for leaves in (False, True)]
        self.assertEqual(said, ["Arrive: burn in", "Leave: burn out"])
        count = lambda f: len(title_parts(title, f))
        self.assertEqual([count(0), count(30), count(99)], [0, 7, 0])
        self.assertTrue(0 < count(10) < 7)
        # the first letters first
        there = [k for k, part in enumerate(title_parts(title, 10))]
        self.assertAlmostEqual(title_parts(title, 10)[0].place[0, 3], title_parts(title, 30)[0].place[0, 3], places=6)
        self.assertEqual(there, list(range(len(there))))
        again, other = letters.with_passage(shot, "t", "Settle from above")
        self.assertEqual([m.role for m in again.objects[0].movers], ["leave", "arrive"])
        for kind in letters.PASSAGES:
            one = letters.with_passage(self.title(), "t", kind)[0].objects[0]
            moved, still = title_parts(one, 5), title_parts(one, 50)
            plain = title_parts(self.title().objects[0], 50)
            self.assertTrue(all(np.array_equal(a.place, b.place) for a, b in zip(still, plain)), kind)
            same = len(moved) == len(plain) and all(np.allclose(a.place, b.place) and a.opacity == b.opacity for a, b in zip(moved, plain))
            self.assertFalse(same, kind)

    def test_layers_by_kind_and_their_order(self):
        shot, first = letters.with_layer(self.title(), "t", "Darker back")
        shot, second = letters.with_layer(shot, "t", "Outline")
        self.assertEqual([x.id for x in letters.moved_child(shot, "t", "layers", second, -1).objects[0].layers], [second, first])
        with self.assertRaises(UserError):
            letters.with_layer(Shot(objects=(Box(id="b"),)), "b", "Outline")


class BadInputTest(unittest.TestCase):
    def test_words_and_numbers_that_make_no_letters(self):
        for text in ("", "   ", "\n\n", "\x00\x07", "\ud800", "a\u0301\u0301\u0301", "\u200f\u200e", "A" * 5000):
            title = Title(id="t", text=text)
            self.assertIsInstance(title_parts(title, 0), list)
            mesh_of(title, 0)
            problem_of(title, 0)
        for fields in (
            {"depth": constant(0.0)},
            {"depth": constant(1e6)},
            {"height": constant(0.0)},
            {"bevel": constant(100.0)},
            {"rounding": constant(50.0)},
            {"wall": constant(50.0)},
            {"panel": constant(50.0, -50.0)},
            {"bend": constant(1e6)},
            {"size": constant(0.0)},
            {"features": "=,===,toolong=1,liga=99999999999,ßßßß"},
            {"axes": "wght=nan, wdth=, =3, opsz=1e999"},
            {"styles": (Style(first=5, last=2), Style(first=-3, last=99999, size=0.0))},
            {"kerns": (Kern(letter=999),)},
            {"movers": (Mover(id="m", size=constant(0.0), soft=constant(0.0)),)},
        ):
            title = msgspec.structs.replace(Title(id="t", text="ABe"), **fields)
            for part in title_parts(title, 0):
                self.assertTrue(np.isfinite(part.mesh.vertices).all(), fields)
                self.assertTrue(np.isfinite(part.place).all(), fields)
            problem_of(title, 0)

    def test_a_face_whose_tables_are_scrambled(self):
        import tempfile
        from pathlib import Path

        good = face_of("Zilla Slab Bold").path.read_bytes()
        rng = np.random.default_rng(5)
        with tempfile.TemporaryDirectory() as folder:
            for k in range(20):
                data = np.frombuffer(good, np.uint8).copy()
                data[rng.integers(0, len(data), 3000)] = rng.integers(0, 256, 3000)
                path = Path(folder) / f"{k}.ttf"
                path.write_bytes(data[: len(data) // (1 + k % 3)].tobytes())
                title = Title(id="t", text="Ag", face=str(path))
                mesh_of(title, 0)
                problem_of(title, 0)


if __name__ == "__main__":
    unittest.main()
