"""Letters in drawings, which become paths."""

import io
import unittest

import numpy as np
import svgelements as se
from fontTools.pens.boundsPen import BoundsPen
from fontTools.ttLib import TTFont

from lodestar.core.basics.errors import UserError
from lodestar.core.evaluate.objects import problem_of
from lodestar.core.shape.drawings import check_svg, drawing_outlines
from lodestar.core.shape.drawn_text import with_text_as_paths
from lodestar.core.shape.fonts import face_of
from lodestar.core.shot.objects import Logo
from tests.core.test_solids import HEAD


class DrawnTextTest(unittest.TestCase):
    """SVG 1.1, chapter 10. Widths are the advances of the font's own hmtx table, boxes those of its glyphs, both read by fontTools."""

    FACE = "Inter Display Black"

    def setUp(self):
        self.font = TTFont(face_of(self.FACE).path)
        self.upem = self.font["head"].unitsPerEm

    def box(self, letter):
        pen = BoundsPen(self.font.getGlyphSet())
        self.font.getGlyphSet()[self.font.getBestCmap()[ord(letter)]].draw(pen)
        return np.array(pen.bounds) / self.upem

    def advance(self, text):
        return sum(self.font["hmtx"][self.font.getBestCmap()[ord(c)]][0] for c in text) / self.upem

    def boxes(self, svg):
        """(n, 4) left, top, right, bottom of each path in the drawing's own px."""
        paths = [s for s in se.SVG.parse(io.StringIO(with_text_as_paths(svg)), reify=True).elements() if isinstance(s, se.Path)]
        return np.array([path.bbox() for path in paths]), [str(path.fill) for path in paths]

    def test_letters_stand_where_the_standard_says(self):
        low_x, low_y, high_x, high_y = self.box("H")
        for anchor, share in (("start", 0.0), ("middle", 0.5), ("end", 1.0)):
            svg = f"{HEAD}<g transform='translate(100 50)'><text x='300' y='200' font-family='{self.FACE}' font-size='80' text-anchor='{anchor}'>H</text></g></svg>"
            (found,), _ = self.boxes(svg)
            left = 400 - share * 80 * self.advance("H")
            np.testing.assert_allclose(found, [left + 80 * low_x, 250 - 80 * high_y, left + 80 * high_x, 250 - 80 * low_y], atol=0.05)

    def test_parts_go_on_where_the_last_one_ended_in_their_own_look(self):
        svg = (
            f"{HEAD}<style>.a{{font-size:50px;fill:#112233}}</style><text class='a' x='10' y='100' font-family='{self.FACE}'>HI"
            "<tspan fill='#ff0000' dx='7' dy='-20'>O</tspan> H</text></svg>"
        )
        found, fills = self.boxes(svg)
        self.assertEqual(fills, ["#112233", "#ff0000", "#112233"])
        pen = 10 + 50 * self.advance("HI") + 7
        np.testing.assert_allclose(found[1][[0, 3]], [pen + 50 * self.box("O")[0], 80 - 50 * self.box("O")[1]], atol=0.4)
        np.testing.assert_allclose(found[2][0], pen + 50 * (self.advance("O ") + self.box("H")[0]), atol=0.05)
        wide = drawing_outlines(check_svg(svg))[1]
        self.assertGreater(wide, 2.0)

    def test_a_face_that_is_not_here_is_told_and_one_that_is_needs_no_word(self):
        for family, told in (("Nowhere Sans", True), (self.FACE, False), ("sans-serif", False)):
            svg = check_svg(f"{HEAD}<text y='50' font-size='40' font-family='{family}'>Fell</text></svg>")
            self.assertNotIn("<text", svg)
            problem = problem_of(Logo(id="l", svg=svg), 0)
            self.assertEqual("Nowhere Sans" in problem, told, problem)

    def test_too_much_text_and_broken_drawings_are_left_as_they_are(self):
        for svg in (f"{HEAD}<text>{'x' * 3000}</text></svg>", f"{HEAD}<text>a</svg>", f"{HEAD}<path d='M0 0h1v1z'/></svg>"):
            self.assertEqual(with_text_as_paths(svg), svg)
        for svg in (
            f"{HEAD}<text font-size='nan'>a</text></svg>",
            f"{HEAD}<text x='1e999' y='zz' font-weight='+-'>a</text></svg>",
            f"{HEAD}<text> </text></svg>",
        ):
            try:
                check_svg(svg)
            except UserError as error:
                self.assertTrue(error.what)


if __name__ == "__main__":
    unittest.main()
