"""Faces that are opened from files and kept in shots."""

import subprocess
import sys
import unittest
from unittest import mock

import numpy as np
from fontTools.fontBuilder import FontBuilder
from fontTools.pens.ttGlyphPen import TTGlyphPen
from fontTools.ttLib import TTFont
from fontTools.ttLib.tables.TupleVariation import TupleVariation

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.keyed import Key, Keyed, constant
from lodestar.core.edits.letters import with_face_axis, with_face_of
from lodestar.core.evaluate.lettering import title_parts, title_problem
from lodestar.core.shape import fonts
from lodestar.core.shape.face_files import OpenedFace, opened, stored
from lodestar.core.shape.fonts import SHIPPED, SHIPPED_FOLDER
from lodestar.core.shape.outlines import glyph_outline
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot
from lodestar.core.shot.motion import keyed_things, with_value
from lodestar.core.shot.objects import Title
from tests.helpers import FolderCase

SLAB = SHIPPED_FOLDER / SHIPPED["Zilla Slab Bold"]


class FacesTest(FolderCase):
    def made(self, name, licence=0, flavor=None):
        """A file of the shipped slab with other licence bits, or packed for the web."""
        font = TTFont(SLAB)
        font["OS/2"].fsType = licence
        font.flavor = flavor
        path = self.folder / name
        font.save(path)
        return path

    def test_licences_as_the_specification_has_them(self):
        """OpenType 1.9, OS/2, fsType: 0 installable, 2 restricted, 4 preview and print, 8 editable, bit 9 bitmaps alone."""
        for licence, free in ((0, True), (2, False), (4, False), (8, True), (0x0108, True), (0x0200, False)):
            (face,) = opened(self.made("a.ttf", licence))
            self.assertEqual((face.free, stored(face) is not None), (free, free), licence)

    def test_faces_of_the_web_have_the_outlines_of_the_face(self):
        whole = fonts.Face(SLAB)
        for flavor in ("woff", "woff2"):
            (face,) = opened(self.made(f"a.{flavor}", 0, flavor))
            self.assertEqual(face.name, "Zilla Slab Bold")
            path = self.folder / "plain.ttf"
            path.write_bytes(face.data)
            for glyph in (20, 40):
                for ours, theirs in zip(glyph_outline(fonts.Face(path), glyph), glyph_outline(whole, glyph), strict=True):
                    np.testing.assert_allclose(ours, theirs, atol=1e-6)

    def test_what_is_no_face_is_said(self):
        for name, data in (("a.ttf", b"not a font"), ("b.otf", SLAB.read_bytes()[:900]), ("c.woff2", b"wOF2" + bytes(60))):
            path = self.folder / name
            path.write_bytes(data)
            with self.assertRaises(UserError):
                opened(path)

    def test_a_shot_takes_its_face_along_and_lets_go_of_it(self):
        (face,) = opened(self.made("own.ttf"))
        shot = with_face_of(Shot(objects=(Title(id="t", text="OWL"),)), "t", face, "own.ttf")
        name = shot.objects[0].face
        self.assertEqual([f.name for f in shot.faces], [name])
        self.assertTrue(name.startswith("Zilla Slab Bold ("))
        path = self.folder / "a.lode"
        files.write(shot, path)
        with mock.patch.dict(fonts._of_shots, clear=True):
            self.assertIn("not on this machine", title_problem(shot.objects[0], 0))
            again = files.read(path)
            self.assertEqual(title_problem(again.objects[0], 0), "")
            self.assertEqual(len(title_parts(again.objects[0], 0)), 3)
        # in another process, without the file
        (self.folder / "own.ttf").unlink()
        code = f"from lodestar.core.shot import files; from lodestar.core.evaluate.lettering import title_problem as p; from pathlib import Path; print(repr(p(files.read(Path({str(path)!r})).objects[0], 0)))"
        told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(told.stdout.strip(), "''")
        (other,) = opened(self.made("other.ttf", 4))
        shot = with_face_of(again, "t", other, "/fonts/other.ttf")
        self.assertEqual((shot.objects[0].face, shot.faces), ("/fonts/other.ttf#0", ()))

    def variable(self):
        """A face of one block, 200 to 600 wide by its weight, whose advance is 100 more."""
        build = FontBuilder(1000, isTTF=True)
        build.setupGlyphOrder([".notdef", "H"])
        build.setupCharacterMap({ord("H"): "H"})
        pen = TTGlyphPen(None)
        for k, corner in enumerate(((0, 0), (0, 700), (200, 700), (200, 0))):
            (pen.lineTo if k else pen.moveTo)(corner)
        pen.closePath()
        build.setupGlyf({".notdef": TTGlyphPen(None).glyph(), "H": pen.glyph()})
        build.setupHorizontalMetrics({".notdef": (300, 0), "H": (300, 0)})
        build.setupHorizontalHeader(ascent=800, descent=-200)
        build.setupNameTable({"familyName": "Block", "styleName": "Regular"})
        build.setupFvar([("wght", 100, 100, 900, "Weight")], [])
        wider = [(0, 0), (0, 0), (400, 0), (400, 0), (0, 0), (400, 0), (0, 0), (0, 0)]
        build.setupGvar({"H": [TupleVariation({"wght": (0, 1, 1)}, wider)]})
        build.setupOS2(sTypoAscender=800, fsType=0)
        build.setupPost()
        path = self.folder / "block.ttf"
        build.save(path)
        return path

    def test_an_axis_of_a_variable_face_is_keyed(self):
        (face,) = opened(self.variable())
        shot, id_ = with_face_axis(with_face_of(Shot(objects=(Title(id="t", text="H", bevel=constant(0.0)),)), "t", face, ""), "t", "Weight")
        self.assertEqual(keyed_things(shot)[id_].value, constant(100.0))
        keys = Keyed((100.0,), (Key(0.0, (100.0,), "linear"), Key(10.0, (900.0,), "linear")))
        title = with_value(shot, id_, "value", lambda old: keys).objects[0]
        wide = [float(np.ptp(title_parts(title, frame)[0].mesh.vertices[:, 0])) for frame in (0, 5, 10)]
        np.testing.assert_allclose(wide, np.array([200, 400, 600]) / 700, atol=2e-3)  # in heights of its capitals
        again = with_face_axis(shot, "t", "Weight")
        self.assertEqual((again[1], len(again[0].objects[0].face_axes)), (id_, 1))
        with self.assertRaises(UserError):
            with_face_axis(shot, "t", "Slant")
        with self.assertRaises(UserError):
            with_face_axis(Shot(objects=(Title(id="t"),)), "t", "Weight")

    def test_a_face_that_is_very_large_is_named(self):
        self.assertIsNone(stored(OpenedFace("Large", 0, True, bytes(7_000_000))))
        self.assertIsNotNone(stored(OpenedFace("Small", 0, True, bytes(7_000))))


if __name__ == "__main__":
    unittest.main()
