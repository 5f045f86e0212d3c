"""Numbers in the words of a title, that count."""

import unittest

import msgspec
import numpy as np

from lodestar.core.basics.keyed import Key, Keyed, constant
from lodestar.core.evaluate.counting import counted, in_pattern, numbers_in
from lodestar.core.evaluate.objects import box_of, items_of, mesh_of
from lodestar.core.picture.frame import frame
from lodestar.core.picture.workshop import close_workshop
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Kern, Style, Title
from tests.factory import make_shot
from tests.helpers import FolderCase


class PatternTest(unittest.TestCase):
    def test_as_unicode_writes_them(self):
        """Patterns and results of Unicode's LDML, UTS 35 part 3, Number Format Patterns, its table of 1234.567 (from memory), and rows of the same rules."""
        for value, parts, known in (
            (1234.567, ("#,##0", "##", ""), None),
            (1234.567, ("#,##0", "", "##"), "1,234.57"),
            (1234.567, ("#,##0", "", ""), "1,235"),
            (1234.567, ("#0", "", "###"), "1234.567"),
            (1234.567, ("0", "00", ""), "1234.57"),
            (1234.5, ("00000", "000", ""), "01234.500"),
            (0.4, ("#", "0", ""), ".4"),
            (0.0, ("#,##0", "", ""), "0"),
            (-1234567.0, ("#,##0", "", ""), "-1,234,567"),
            (2.5, ("0", "", ""), "2"),
            (3.5, ("0", "", ""), "4"),
            (-0.2, ("0", "", ""), "0"),
        ):
            if known is not None:
                self.assertEqual(in_pattern(value, *parts), known, (value, parts))

    def test_nonsense_is_a_number_all_the_same(self):
        for value in (float("nan"), float("inf"), -1e300):
            self.assertRegex(in_pattern(value, "#,##0", "", ""), r"^-?[\d,]+$")

    def test_only_patterns_are_numbers(self):
        self.assertTrue(numbers_in("No. {00}") and numbers_in("{#,##0.0##} m"))
        self.assertFalse(numbers_in("{}") or numbers_in("{a}") or numbers_in("# 1") or numbers_in("{#,}"))


class CountedTest(FolderCase):
    @classmethod
    def setUpClass(cls):
        cls.addClassCleanup(close_workshop)
        number = Keyed((0.0,), (Key(0.0, (5.0,), "linear"), Key(50.0, (1205.0,), "linear")))
        cls.title = Title(id="t", text="UP {#,##0} m", number=number)

    def test_it_counts_with_its_keys(self):
        self.assertEqual([counted(self.title, f).text for f in (0, 25, 50)], ["UP 5 m", "UP 605 m", "UP 1,205 m"])
        wide = [np.ptp([end[0] for end in box_of(self.title, f)]) for f in (0, 25, 50)]
        self.assertTrue(wide[0] < wide[1] < wide[2])
        self.assertEqual(counted(Title(id="p", text="PLAIN"), 3).text, "PLAIN")

    def test_styles_and_kerning_stay_with_their_letters(self):
        text = self.title.text
        at = text.index("m")
        item = msgspec.structs.replace(
            self.title,
            styles=tuple(Style(first=a, last=b) for a, b in ((0, 1), (3, 9), (at, at))),
            kerns=(Kern(letter=0, by=0.1), Kern(letter=at - 1, by=0.2)),
        )
        shown = counted(item, 50)
        self.assertEqual([shown.text[s.first : s.last + 1] for s in shown.styles], ["UP", "1,205", "m"])
        self.assertEqual([shown.text[k.letter] for k in shown.kerns], ["U", " "])

    def test_within_an_exposure_it_stays(self):
        """Letters that move are asked for their places at times between frames: there must be as many of them."""
        moving = msgspec.structs.replace(self.title, spacing=Keyed((0.0,), (Key(0.0, (0.0,)), Key(50.0, (0.4,)))))
        for index in (3, 4, 5):
            items = items_of(Shot(), moving, index)
            for share in (-0.9, -0.5, 0.0, 0.5, 0.9):
                for item in items:
                    self.assertTrue(np.isfinite(item.model(share)).all())

    def test_other_numbers_make_other_solids_and_other_pictures(self):
        self.assertNotEqual(len(mesh_of(self.title, 0).triangles), len(mesh_of(self.title, 50).triangles))
        shot = make_shot(clip=self.folder / "clip.mp4")
        number = msgspec.structs.replace(shot.objects[0], text="{000}", number=constant(7.0))
        plain = msgspec.structs.replace(number, text="007", number=constant(0.0))
        a, b = (frame(msgspec.structs.replace(shot, objects=(t,)), 20, "draft").pixels for t in (number, plain))
        np.testing.assert_array_equal(a, b)


if __name__ == "__main__":
    unittest.main()
