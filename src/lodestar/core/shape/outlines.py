"""Glyphs of a face to flat outlines, curves cut into chords."""

import functools
import unicodedata

import numpy as np
import uharfbuzz as hb

from ..basics.errors import UserError
from ..basics.paths import bytes_of
from .fonts import Face

MOST_FONT = 100_000_000  # bytes of a font file; those of Han scripts have 20 million
CHORD = 0.0012  # largest distance of a chord from its curve, in ems
USUAL_LANGUAGE = 0xFFFF  # of a script, as HarfBuzz counts
LINE_STEP = 1.15  # from base line to base line, in ems (common practice, no source)


@functools.lru_cache(maxsize=32)
def font_of(face: Face) -> hb.Font:
    """A face as the shaper reads it. Raises UserError."""
    try:
        # its bytes, not the file: one that is mapped and then cut short by somebody ends the program
        font = hb.Font(hb.Face(hb.Blob(bytes_of(face.path, MOST_FONT)), face.number))
        if face.axes:
            font.set_variations(dict(face.axes))
        return font
    except (hb.HarfBuzzError, OSError, ValueError) as error:
        raise UserError(f"{face.path.name} cannot be read as a font.", "Choose another face.") from error


@functools.lru_cache(maxsize=256)
def has_letter(face: Face, character: str) -> bool:
    """Whether a face has a glyph for a character, or none is needed."""
    return character.isspace() or unicodedata.category(character) in ("Cf", "Cc") or bool(font_of(face).get_nominal_glyph(ord(character)))


@functools.lru_cache(maxsize=256)
def has_feature(face: Face, tag: str) -> bool:
    """Whether a face can put other glyphs in the place of some by an OpenType feature, in any of its scripts."""
    inner = font_of(face).face
    scripts = inner.get_table_script_tags("GSUB")
    return any(tag in inner.get_language_feature_tags("GSUB", number, USUAL_LANGUAGE) for number in range(len(scripts)))


@functools.lru_cache(maxsize=64)
def axes_in(face: Face) -> dict[str, tuple[float, float, float]]:
    """The axes of a variable face by their tags: least, usual and greatest place; none of a face that is not variable."""
    inner = font_of(face._replace(axes=())).face
    return {a.tag: (a.min_value, a.default_value, a.max_value) for a in inner.axis_infos} if inner.has_var_data else {}


@functools.lru_cache(maxsize=256)
def cap_height(face: Face) -> float:
    """Height of a capital H over the base line, in ems."""
    font = font_of(face)
    extents = font.get_glyph_extents(font.get_nominal_glyph(ord("H")) or 0)
    return (extents.y_bearing if extents and extents.y_bearing > 0 else 0.7 * font.face.upem) / font.face.upem


class _Chords:
    """Collects a glyph's contours as closed polygons, in font units."""

    def __init__(self, upem: int, fine: int) -> None:
        self.contours: list[list[tuple[float, float]]] = []
        self.tolerance = CHORD * upem / 4**fine

    def move_to(self, x, y, _):
        self.contours.append([(x, y)])

    def line_to(self, x, y, _):
        self.contours[-1].append((x, y))

    def quadratic_to(self, cx, cy, x, y, _):
        x0, y0 = self.contours[-1][-1]
        # twice a third of the way to the control point makes the same curve a cubic
        self.cubic_to(x0 + 2 / 3 * (cx - x0), y0 + 2 / 3 * (cy - y0), x + 2 / 3 * (cx - x), y + 2 / 3 * (cy - y), x, y, _)

    def cubic_to(self, ax, ay, bx, by, x, y, _):
        p = np.array([self.contours[-1][-1], (ax, ay), (bx, by), (x, y)])
        bend = max(np.hypot(*(p[0] - 2 * p[1] + p[2])), np.hypot(*(p[1] - 2 * p[2] + p[3])))
        # error of n chords of a cubic is at most 3/4 of its second difference over n^2 (Wang's bound)
        n = max(1, int(np.ceil(np.sqrt(0.75 * bend / self.tolerance))))
        u = (np.arange(1, n + 1) / n)[:, None]
        points = (1 - u) ** 3 * p[0] + 3 * u * (1 - u) ** 2 * p[1] + 3 * u * u * (1 - u) * p[2] + u**3 * p[3]
        self.contours[-1].extend(map(tuple, points))

    def close(self, _):
        pass


@functools.lru_cache(maxsize=1)
def _pen() -> hb.DrawFuncs:
    pen = hb.DrawFuncs()
    pen.set_move_to_func(lambda x, y, d: d.move_to(x, y, d))
    pen.set_line_to_func(lambda x, y, d: d.line_to(x, y, d))
    pen.set_quadratic_to_func(lambda cx, cy, x, y, d: d.quadratic_to(cx, cy, x, y, d))
    pen.set_cubic_to_func(lambda ax, ay, bx, by, x, y, d: d.cubic_to(ax, ay, bx, by, x, y, d))
    pen.set_close_path_func(lambda d: d.close(d))
    return pen


@functools.lru_cache(maxsize=2048)
def glyph_outline(face: Face, glyph: int, fine: int = 0) -> tuple[np.ndarray, ...]:
    """Closed contours (n, 2) of a glyph by its number, in ems; none where there is nothing to see. fine: as of `extrude.Form`. Raises UserError."""
    font = font_of(face)
    upem = font.face.upem
    chords = _Chords(upem, fine)
    font.draw_glyph(glyph, _pen(), chords)
    contours = tuple(np.array(c, float) / upem for c in chords.contours if len(c) > 2)
    for contour in contours:
        contour.flags.writeable = False
    return contours
