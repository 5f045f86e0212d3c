"""Words set in a face: which glyph stands where, by letter, word and line, and which of them touch and make one solid.

Source of the order of mixed directions: Unicode Standard Annex 9, by python-bidi; of the shapes: HarfBuzz.
"""

import functools
import unicodedata
from collections.abc import Iterator
from typing import NamedTuple

import manifold3d as m3
import numpy as np
import uharfbuzz as hb
from bidi import algorithm as bidi
from fontTools.unicodedata import script as script_of

from .fonts import Face
from .outlines import LINE_STEP, cap_height, font_of, glyph_outline, has_letter

LEAST_TOUCH = 1e-7  # of a cap height squared: letters whose outlines share more make one solid
COMMON = ("Zyyy", "Zinh", "Zzzz")  # scripts of what goes with any other
ALIGNS = ("left", "centre", "right", "both")


class Style(NamedTuple):
    """How some of the letters are set: face, size against the others, and how much they are raised, in cap heights."""

    face: Face
    size: float = 1.0
    raised: float = 0.0


class Setting(NamedTuple):
    """How words are set. spacing, word_spacing: extra advance after each letter, and after each space, in ems; line_step: from base line
    to base line, in ems; width: of the letters, against their own; align: one of ALIGNS, of lines in the widest one.

    features: of OpenType by their tags, with values. styles: (first letter, last letter, style), later ones win; kerns: (letter,
    extra advance after it in ems). fallbacks: faces that stand in for letters that the face lacks.
    """

    spacing: float = 0.0
    word_spacing: float = 0.0
    line_step: float = LINE_STEP
    width: float = 1.0
    align: str = "centre"
    features: tuple[tuple[str, int], ...] = ()
    styles: tuple[tuple[int, int, Style], ...] = ()
    kerns: tuple[tuple[int, float], ...] = ()
    fallbacks: tuple[Face, ...] = ()


PLAIN = Setting()


class Letter(NamedTuple):
    """A placed glyph: face and number; x, y of its origin and size of its em, in cap heights; advance, to the next one. letter: index in
    the text of the character that it begins with; line, word: which one of the text, in reading order. lacking: the face has no such glyph."""

    face: Face
    glyph: int
    x: float
    y: float
    em: float
    advance: float
    letter: int
    line: int
    word: int
    lacking: bool = False


class Joined(NamedTuple):
    """Glyphs that make one solid: (face, glyph, x, y, em) of each, against the origin of the first; width: of the letters against their own."""

    glyphs: tuple[tuple[Face, int, float, float, float], ...]
    width: float = 1.0

    def contours(self, fine: int = 0) -> list[np.ndarray]:
        return [(contour * em + (x, y)) * (self.width, 1.0) for face, glyph, x, y, em in self.glyphs for contour in glyph_outline(face, glyph, fine)]


class Piece(NamedTuple):
    """One solid of a setting: its outline, where it stands, in cap heights, and the letters that are in it."""

    joined: Joined
    x: float
    y: float
    letters: tuple[Letter, ...]


@functools.lru_cache(maxsize=256)
def letters_of(main: Face, text: str, setting: Setting = PLAIN) -> tuple[tuple[Letter, ...], float]:
    """The glyphs of a text in reading order, and the width of its widest line, in units of the cap height of the face `main`.

    The last base line is y = 0, and the widest line is centred on x = 0. `width` of the setting is counted in. Raises UserError
    where a face cannot be read.
    """
    lines, begin, word = [], 0, 0
    for number, line in enumerate(text.split("\n")):
        found, width = _line(main, line, begin, setting)
        counted = []
        for one in found:
            # a word is told from the next by space before its first letter, in reading order
            counted.append(
                one._replace(line=number, word=word + len(line[: one.letter - begin].split()) - (0 if _begins(line, one.letter - begin) else 1))
            )
        lines.append((counted, width))
        begin, word = begin + len(line) + 1, word + len(line.split())
    widest = max(width for _, width in lines)
    drop = setting.line_step / cap_height(main)
    placed: list[Letter] = []
    for number, (row, width) in enumerate(lines):
        if setting.align == "both" and number < len(lines) - 1:
            row, width = _stretched(row, text, width, widest), widest
        start = {"left": -widest / 2, "both": -widest / 2, "right": widest / 2 - width}.get(setting.align, -width / 2)
        placed += [
            one._replace(x=(one.x + start) * setting.width, y=one.y + (len(lines) - 1 - number) * drop, advance=one.advance * setting.width)
            for one in row
        ]
    return tuple(placed), widest * setting.width


def _begins(line: str, at: int) -> bool:
    """Whether a character begins a word, or is space before one."""
    return at == 0 or line[at - 1].isspace() or (at < len(line) and line[at].isspace())


def _stretched(row: list[Letter], text: str, width: float, widest: float) -> list[Letter]:
    """A line with the room between its words widened, so that it is as wide as the widest one."""
    gaps = [k for k, one in enumerate(row) if text[one.letter].isspace()]
    if not gaps or width <= 0:
        return row
    extra, shift, found = (widest - width) / len(gaps), 0.0, []
    for k, one in enumerate(row):
        found.append(one._replace(x=one.x + shift))
        if k in gaps:
            shift += extra
    return found


def _line(main: Face, line: str, begin: int, setting: Setting) -> tuple[list[Letter], float]:
    """Glyphs of one line from left to right, beginning at x = 0 on y = 0, and its width, in cap heights. begin: of the line in the text."""
    unit = cap_height(main)
    kerns, space = dict(setting.kerns), setting.word_spacing / unit
    x, row, last = 0.0, [], 0.0
    for first, end, rightward, script, style in _runs(main, line, begin, setting):
        font = font_of(style.face)
        upem, own = font.face.upem, cap_height(style.face)
        # another face is set so that its capitals are as high; what only stands in for missing letters keeps the em
        em = style.size / (unit if style.face in setting.fallbacks else own)
        buffer = hb.Buffer()
        buffer.add_str(line, first, end - first)
        buffer.guess_segment_properties()
        if script:
            buffer.script, buffer.direction = script, "ltr" if rightward else "rtl"
        hb.shape(font, buffer, {"kern": True, **dict(setting.features)})
        # an empty line has no glyphs, for which the shaper gives None
        for info, at in zip(buffer.glyph_infos or (), buffer.glyph_positions or (), strict=True):
            letter = begin + info.cluster
            last = setting.spacing / unit + kerns.get(letter, 0.0) / unit
            advance = at.x_advance / upem * em + last + (space if line[info.cluster].isspace() else 0.0)
            place = (x + at.x_offset / upem * em, at.y_offset / upem * em + style.raised)
            row.append(Letter(style.face, info.codepoint, *place, em, advance, letter, 0, 0, info.codepoint == 0))
            x += advance
    return row, max(x - last, 0.0)


def _runs(main: Face, line: str, begin: int, setting: Setting) -> Iterator[tuple[int, int, bool, str, Style]]:
    """Pieces of a line that are shaped as one, from left to right: first and last + 1 character, whether it runs rightward, its script
    ('' where all of the line has one, which the shaper finds), and its style."""
    styles = [_style_at(main, line[k], begin + k, setting) for k in range(len(line))]
    plain = all(ord(c) < 0x250 for c in line)  # Latin alone: it runs rightward, and is shaped as a whole
    scripts = ["" for _ in line] if plain else _scripts(line)
    levels = [0 for _ in line] if plain else _levels(line)
    cut: list[tuple[int, int, int]] = []
    for k in range(len(line)):
        if cut and (styles[k], scripts[k], levels[k]) == (styles[k - 1], scripts[k - 1], levels[k - 1]):
            cut[-1] = (cut[-1][0], k + 1, levels[k])
        else:
            cut.append((k, k + 1, levels[k]))
    # rule L2: from the highest level down to the lowest odd one, runs at that level or above are reversed
    for level in range(max(levels, default=0), 0, -1):
        k = 0
        while k < len(cut):
            if cut[k][2] < level:
                k += 1
                continue
            end = next((j for j in range(k, len(cut)) if cut[j][2] < level), len(cut))
            cut[k:end] = cut[k:end][::-1]
            k = end
    for first, end, level in cut:
        yield first, end, level % 2 == 0, scripts[first], styles[first]


def _style_at(main: Face, character: str, index: int, setting: Setting) -> Style:
    style = next((s for first, last, s in reversed(setting.styles) if first <= index <= last), Style(main))
    if has_letter(style.face, character):
        return style
    other = next((face for face in setting.fallbacks if has_letter(face, character)), None)
    return style if other is None else style._replace(face=other)


def _scripts(line: str) -> list[str]:
    """The script of each character; what goes with any takes that of what stands before it, or else after it."""
    found = [script_of(c) for c in line]
    known = ""
    for k, script in enumerate(found):
        known = found[k] = known if script in COMMON else script
    after = ""
    for k in range(len(found) - 1, -1, -1):
        after = found[k] = found[k] or after
    return [script or "Latn" for script in found]


def _levels(line: str) -> list[int]:
    """The embedding level of each character, even for what runs rightward."""
    storage = bidi.get_empty_storage()
    storage["base_level"] = bidi.get_base_level(line)
    storage["base_dir"] = ("L", "R")[storage["base_level"]]
    bidi.get_embedding_levels(line, storage)
    for k, one in enumerate(storage["chars"]):
        one["place"] = k
    bidi.explicit_embed_and_overrides(storage)
    bidi.resolve_weak_types(storage)
    bidi.resolve_neutral_types(storage, False)
    bidi.resolve_implicit_levels(storage, False)
    levels = [storage["base_level"]] * len(line)
    for one in storage["chars"]:
        levels[one["place"]] = one["level"]
    # rule L1: tabs, and space before them or at the end, go with the line
    loose = True
    for k in range(len(line) - 1, -1, -1):
        kind = unicodedata.bidirectional(line[k])
        loose = kind == "S" or (loose and kind in ("WS", "BN"))
        if loose:
            levels[k] = storage["base_level"]
    return levels


@functools.lru_cache(maxsize=256)
def pieces_of(main: Face, text: str, setting: Setting = PLAIN, apart: bool = False) -> tuple[Piece, ...]:
    """The solids of a text, in reading order: each letter one, but those that touch make one together, unless they stand `apart`."""
    letters = [one for one in letters_of(main, text, setting)[0] if glyph_outline(one.face, one.glyph)]
    groups: list[list[int]] = [[k] for k in range(len(letters))]
    boxes = np.array([_box(one, setting.width) for one in letters]).reshape(-1, 4)
    begins = np.array([one.letter for one in letters])
    owner = list(range(len(letters)))
    for a in range(1, len(letters)):
        same = begins[:a] == begins[a]  # a letter and its marks
        if not apart:
            same |= (boxes[:a, :2] < boxes[a, 2:]).all(1) & (boxes[:a, 2:] > boxes[a, :2]).all(1)
        for b in np.flatnonzero(same):
            if owner[a] != owner[b] and (begins[a] == begins[b] or _touch(letters[a], letters[b], setting.width)):
                low, high = sorted((owner[a], owner[b]))
                groups[low] += groups[high]
                for k in groups[high]:
                    owner[k] = low
                groups[high] = []
    found = []
    for group in groups:
        if group:
            found.append(_piece([letters[k] for k in sorted(group)], setting.width))
    return tuple(sorted(found, key=lambda piece: piece.letters[0].letter))


def _piece(letters: list[Letter], width: float) -> Piece:
    x, y = letters[0].x, letters[0].y
    # places of one letter against another are rounded, so that the same pair is one solid wherever it stands
    glyphs = tuple((one.face, one.glyph, round((one.x - x) / width, 6), round(one.y - y, 6), one.em) for one in letters)
    return Piece(Joined(glyphs, width), x, y, tuple(letters))


def _box(one: Letter, width: float) -> tuple[float, float, float, float]:
    low, high = glyph_box(one.face, one.glyph)
    return one.x + low[0] * one.em * width, one.y + low[1] * one.em, one.x + high[0] * one.em * width, one.y + high[1] * one.em


@functools.lru_cache(maxsize=2048)
def glyph_box(face: Face, glyph: int) -> tuple[tuple[float, float], tuple[float, float]]:
    """Low and high corner of a glyph, in ems; a point where there is nothing to see."""
    outline = glyph_outline(face, glyph)
    if not outline:
        return (0.0, 0.0), (0.0, 0.0)
    points = np.concatenate(outline)
    (x0, y0), (x1, y1) = points.min(0), points.max(0)
    return (float(x0), float(y0)), (float(x1), float(y1))


@functools.lru_cache(maxsize=1024)
def piece_box(piece: Piece) -> tuple[tuple[float, float], tuple[float, float]]:
    """Low and high corner of a solid's outline, from its own origin, in cap heights."""
    boxes = np.array([_box(one, piece.joined.width) for one in piece.letters])
    (x0, y0), (x1, y1) = boxes[:, :2].min(0) - (piece.x, piece.y), boxes[:, 2:].max(0) - (piece.x, piece.y)
    return (float(x0), float(y0)), (float(x1), float(y1))


def _touch(a: Letter, b: Letter, width: float) -> bool:
    joined = _piece([a, b], width).joined
    return _overlap(joined._replace(glyphs=joined.glyphs[:1]), joined._replace(glyphs=joined.glyphs[1:])) > LEAST_TOUCH


@functools.lru_cache(maxsize=2048)
def _overlap(a: Joined, b: Joined) -> float:
    """Area that two outlines share, in cap heights squared."""
    one, other = (m3.CrossSection(j.contours(), m3.FillRule.NonZero) for j in (a, b))
    return float((one ^ other).area())


@functools.lru_cache(maxsize=256)
def word_box(main: Face, text: str, setting: Setting = PLAIN) -> tuple[tuple[float, float], tuple[float, float]]:
    """Low and high corner of the words, in units of the cap height; a unit square where there is nothing to see."""
    letters = [one for one in letters_of(main, text, setting)[0] if glyph_outline(one.face, one.glyph)]
    if not letters:
        return (-0.5, 0.0), (0.5, 1.0)
    boxes = np.array([_box(one, setting.width) for one in letters])
    (x0, y0), (x1, y1) = boxes[:, :2].min(0), boxes[:, 2:].max(0)
    return (float(x0), float(y0)), (float(x1), float(y1))
