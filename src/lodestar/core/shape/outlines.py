"""Words to flat outlines, in units of the letter height: shaped by HarfBuzz, curves cut into chords."""

import functools
from pathlib import Path
from typing import NamedTuple

import numpy as np
import uharfbuzz as hb

from ..basics.errors import UserError
from ..basics.paths import bytes_of

MOST_FONT = 100_000_000  # bytes of a font file; those of Han scripts have 20 million
CHORD = 0.0012  # largest distance of a chord from its curve, in ems
LINE_STEP = 1.15  # from base line to base line, in ems (common practice, no source)


@functools.lru_cache(maxsize=32)
def _font(path: Path) -> hb.Font:
    try:
        # its bytes, not the file: one that is mapped and then cut short by somebody ends the program
        return hb.Font(hb.Face(hb.Blob(bytes_of(path, MOST_FONT))))
    except (hb.HarfBuzzError, OSError, ValueError) as error:
        raise UserError(f"{path.name} cannot be read as a font.", "Choose another face.") from error


def cap_height(path: Path) -> float:
    """Height of a capital H over the base line, in ems."""
    font = _font(path)
    extents = font.get_glyph_extents(font.get_nominal_glyph(ord("H")) or 0)
    return (extents.y_bearing if extents and extents.y_bearing > 0 else 0.7 * font.face.upem) / font.face.upem


class _Chords:
    """Collects a glyph's contours as closed polygons, in font units."""

    def __init__(self, upem: int) -> None:
        self.contours: list[list[tuple[float, float]]] = []
        self.tolerance = CHORD * upem

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


class Setting(NamedTuple):
    """How words are set. spacing, word_spacing: extra advance after each letter, and after each space, in ems; line_step: from base line
    to base line, in ems; width: of the letters, against their own; align: 'left', 'centre' or 'right', of lines in the widest one."""

    spacing: float = 0.0
    word_spacing: float = 0.0
    line_step: float = LINE_STEP
    width: float = 1.0
    align: str = "centre"


PLAIN = Setting()


@functools.lru_cache(maxsize=64)
def word_box(path: Path, text: str, setting: Setting = PLAIN) -> tuple[tuple[float, float], tuple[float, float]]:
    """Low and high corner of the words, in units of the cap height; a unit square where there is nothing to see."""
    contours, _ = word_outlines(path, text, setting)
    if not contours:
        return (-0.5, 0.0), (0.5, 1.0)
    points = np.concatenate(contours)
    (x0, y0), (x1, y1) = points.min(0), points.max(0)
    return (float(x0), float(y0)), (float(x1), float(y1))


def word_outlines(path: Path, text: str, setting: Setting = PLAIN) -> tuple[list[np.ndarray], float]:
    """Closed contours [(n, 2)] and the width of the widest line, in units of the cap height.

    The text's last base line is y = 0, and its widest line is centred on x = 0.
    """
    font = _font(path)
    upem, unit = font.face.upem, cap_height(path) * font.face.upem
    lines = [_line(font, line, setting) for line in text.split("\n")]
    widest = max(width for _, width in lines)
    contours: list[np.ndarray] = []
    for number, (row, width) in enumerate(lines):
        start = {"left": -widest / 2, "right": widest / 2 - width}.get(setting.align, -width / 2)
        drop = (len(lines) - 1 - number) * setting.line_step * upem
        contours += [(c + (start, drop)) / unit for c in row]
    if setting.width != 1.0:
        contours = [c * (setting.width, 1.0) for c in contours]
    return contours, widest / unit * setting.width


def _line(font: hb.Font, line: str, setting: Setting) -> tuple[list[np.ndarray], float]:
    """Contours and width of one line, in font units; it begins at x = 0."""
    upem = font.face.upem
    buffer = hb.Buffer()
    buffer.add_str(line)
    buffer.guess_segment_properties()
    hb.shape(font, buffer, {"kern": True})
    space = font.get_nominal_glyph(ord(" "))
    x, row = 0.0, []
    # an empty line has no glyphs, for which the shaper gives None
    for info, at in zip(buffer.glyph_infos or (), buffer.glyph_positions or (), strict=True):
        chords = _Chords(upem)
        font.draw_glyph(info.codepoint, _pen(), chords)
        offset = (x + at.x_offset, at.y_offset)
        row += [np.array(c, float) + offset for c in chords.contours if len(c) > 2]
        x += at.x_advance + setting.spacing * upem + (setting.word_spacing * upem if info.codepoint == space else 0.0)
    return row, max(x - setting.spacing * upem, 0.0)
