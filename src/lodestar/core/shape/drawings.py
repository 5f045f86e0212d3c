"""Drawings (SVG) to flat outlines: shapes with a fill, and lines by their width; nothing that a file names is fetched or run."""

import io
import re
import threading
import xml.etree.ElementTree as ET
from collections import OrderedDict
from collections.abc import Callable
from typing import NamedTuple

import manifold3d as m3
import numpy as np
import svgelements as se

from ..basics.apart import apart, checked
from ..basics.errors import UserError
from .drawn_text import with_text_as_paths
from .extrude import Form, Mesh, solid

MOST_BYTES, MOST_SHAPES, MOST_POINTS = 4_000_000, 4000, 200_000
HEAVY = 8_000  # characters, with those of what `use` repeats, from which a drawing is worked out in a child process: some 0.3 s
CHORDS = 0.0003  # largest distance of a chord from its curve, in heights of the drawing
MOST_KNOWN = 16
WITH_LINES, WITHOUT = b"1", b"0"
REFUSED = re.compile(r"<!\s*(DOCTYPE|ENTITY)", re.IGNORECASE)


def check_svg(text: str, check: Callable[[], object] = lambda: None, lines: bool = False) -> str:
    """The drawing's source, with its text as paths, if it can stand as a solid; `check` may raise meanwhile. Raises UserError with the reason for all
    others."""
    if len(text) <= MOST_BYTES and not REFUSED.search(text):
        text = with_text_as_paths(text)
    _found(text, lines, check)
    return text


def is_quick(text: str, lines: bool = False) -> bool:
    """Whether a drawing is at hand at once: light, or worked out already."""
    return (text, lines) in _known or (len(text) < HEAVY and "text" not in text)


def drawing_outlines(text: str, lines: bool = False) -> tuple[tuple[np.ndarray, ...], float]:
    """Closed contours (n, 2) of the drawing and its width, one unit high, y up, standing on y = 0 and centred on x = 0.

    The union of all filled shapes by their own fill rules, and with `lines` of all lines by their widths; without, of lines only where nothing is filled. Scripts, links and pictures are left out; text became paths as the drawing was
    opened (`drawn_text`). A heavy one is worked out
    in a child process, once: crossing lines by the thousand keep a processor for minutes. Raises UserError with the reason.
    Source of the format: W3C, Scalable Vector Graphics (SVG) 1.1, chapters 8 and 9.
    """
    found = _found(text, lines)
    return found.contours, found.wide


def drawing_parts(text: str, lines: bool = False) -> tuple[tuple[str, tuple[np.ndarray, ...]], ...]:
    """What is seen of each colour in the drawing, in the order in which they are painted: colour as '#rrggbb' ('' for paint that is no plain
    colour), and closed contours in the same place and size as those of `drawing_outlines`. Raises UserError with the reason."""
    return _found(text, lines).parts


class Outlines(NamedTuple):
    """contours (n, 2) of all of a drawing and its width; parts: the same by colour, as they are seen."""

    contours: tuple[np.ndarray, ...]
    wide: float
    parts: tuple[tuple[str, tuple[np.ndarray, ...]], ...]


_known: OrderedDict[tuple[str, bool], Outlines | UserError] = OrderedDict()
_lock = threading.Lock()


def _found(text: str, lines: bool, check: Callable[[], object] = lambda: None) -> Outlines:
    """What is known of a drawing; that it cannot be used is known too, and not found out again for each picture."""
    with _lock:
        known = _known.get((text, lines))
    if known is None:
        try:
            known = _worked_out(text, lines, check)
        except UserError as error:
            known = error
        with _lock:
            _known[text, lines] = known
            while len(_known) > MOST_KNOWN:
                _known.popitem(last=False)
    if isinstance(known, UserError):
        raise type(known)(known.what, known.hint)
    return known


def _worked_out(text: str, lines: bool, check: Callable[[], object]) -> Outlines:
    if len(text) > MOST_BYTES:
        raise UserError(f"The drawing has {len(text) / 1e6:.1f} MB; {MOST_BYTES / 1e6:.0f} MB are the most.", "Simplify its paths and save it again.")
    if REFUSED.search(text):
        raise UserError("The drawing declares entities or a document type, which can hide harmful things.", "Save it as plain SVG without them.")
    try:
        root = ET.fromstring(text)
    except (ET.ParseError, UnicodeEncodeError, RecursionError) as error:
        raise UserError(f"The drawing is not SVG that can be read ({str(error)[:80]}).", "Save it again as plain SVG.") from error
    if _expanded(root, lambda element: 1) > MOST_SHAPES:
        raise UserError(f"The drawing repeats its parts into more than {MOST_SHAPES} shapes.", "Simplify it and save it again.")
    letters = _expanded(root, lambda element: 1 + sum(len(value) for value in element.attrib.values()))
    if max(letters, len(text)) < HEAVY:
        found = outlines_of(text, lines)
    else:
        with checked(check):
            arrays = apart("lodestar.core.shape.drawings:outlines_apart", (WITH_LINES if lines else WITHOUT) + text.encode(), "The drawing")
        every = np.split(arrays["points"], arrays["ends"][:-1])
        # the contours of all come first, then those of each part
        cuts = np.cumsum([0, *arrays["counts"]])
        groups = [tuple(every[a:b]) for a, b in zip(cuts, cuts[1:])]
        found = Outlines(groups[0], float(arrays["wide"]), tuple(zip((str(c) for c in arrays["colours"]), groups[1:])))
    for contour in (*found.contours, *(c for _, own in found.parts for c in own)):
        contour.flags.writeable = False
    return found


def outlines_apart(data: bytes) -> dict[str, np.ndarray]:
    """`outlines_of`, for a child process; the first byte says whether with lines."""
    found = outlines_of(data[1:].decode(), data[:1] == WITH_LINES)
    groups = [found.contours, *(own for _, own in found.parts)]
    every = [c for group in groups for c in group]
    return {
        "points": np.concatenate(every),
        "ends": np.cumsum([len(c) for c in every]),
        "counts": np.array([len(group) for group in groups]),
        "colours": np.array([colour for colour, _ in found.parts], "U7"),
        "wide": np.array(found.wide),
    }


def outlines_of(text: str, lines: bool = False) -> Outlines:
    """The outlines of a drawing that was looked over already. lines: whether lines are taken by their width, over the fill of their shape."""
    try:
        shapes = [s for s in se.SVG.parse(io.StringIO(text), reify=True).elements() if isinstance(s, se.Shape) and not _is_hidden(s)]
        painted = [(_colour(s, "fill"), section) for s in shapes if _has_paint(s, "fill") and (section := _section(s)) is not None]
        if lines or not painted:
            both = [(s, paint) for s in shapes for paint in ("fill", "stroke") if _has_paint(s, paint)]
            made = ((_colour(s, paint), _section(s) if paint == "fill" else stroked(s)) for s, paint in both)
            painted = [(colour, section) for colour, section in made if section is not None]
    except (ValueError, TypeError, IndexError, AttributeError, ArithmeticError, KeyError, RecursionError, MemoryError) as error:
        raise UserError("The drawing has a shape that cannot be read.", "Save it again as plain SVG with paths only.") from error
    whole = m3.CrossSection.batch_boolean([section for _, section in painted], m3.OpType.Add) if painted else m3.CrossSection()
    contours = [np.asarray(p, float) for p in whole.to_polygons()]
    if not contours:
        raise UserError("The drawing has no filled shape and no line with a width, so it has no body.", "Give its shapes a fill, and save it again.")
    points = np.concatenate(contours)
    if len(points) > MOST_POINTS:
        raise UserError(f"The drawing has {len(points)} corners; {MOST_POINTS} are the most.", "Simplify its paths and save it again.")
    low, high = points.min(0), points.max(0)
    height = high[1] - low[1]
    if not height >= 1e-9 or not high[0] - low[0] >= 1e-9:
        raise UserError("The drawing is a line without width.", "Give its shapes an area.")
    shift = np.array([(low[0] + high[0]) / 2, low[1]])
    placed = lambda section: tuple((np.asarray(p, float) - shift) / height for p in section.to_polygons())
    seen = tuple((colour, own) for colour, section in _seen(painted) if (own := placed(section)))
    return Outlines(tuple((c - shift) / height for c in contours), float((high[0] - low[0]) / height), seen)


def _seen(painted: list[tuple[str, m3.CrossSection]]) -> list[tuple[str, m3.CrossSection]]:
    """What is seen of each colour where later shapes lie over earlier ones; colours in the order in which they are first painted."""
    found: dict[str, list[m3.CrossSection]] = {colour: [] for colour, _ in painted}
    if len(found) == 1:
        return [(painted[0][0], m3.CrossSection.batch_boolean([section for _, section in painted], m3.OpType.Add))]
    over = m3.CrossSection()
    for colour, section in reversed(painted):
        found[colour].append(section - over)
        over = over + section
    return [(colour, m3.CrossSection.batch_boolean(own, m3.OpType.Add)) for colour, own in found.items()]


def _colour(shape: se.Shape, paint: str) -> str:
    """The colour of a shape's 'fill' or 'stroke' as '#rrggbb'; black where it says nothing, as the standard has it for a fill."""
    if str(shape.values.get(paint, "")).startswith("url"):
        return ""
    found = getattr(shape, paint)
    return "#000000" if found is None or found.value is None else f"#{found.red:02x}{found.green:02x}{found.blue:02x}"


def _expanded(root: ET.Element, weight: Callable[[ET.Element], int]) -> int:
    """The weight of all elements once all `use` are followed; rings and depths over a hundred count as too many."""
    by_id = {e.get("id"): e for e in root.iter() if e.get("id")}
    known: dict[int, int] = {}

    def count(element: ET.Element, depth: int) -> int:
        if depth > 100:
            return MOST_SHAPES + 1
        if id(element) in known:
            return known[id(element)]
        known[id(element)] = MOST_SHAPES + 1  # a ring meets itself here
        total = weight(element) + sum(count(child, depth + 1) for child in element)
        if element.tag.endswith("}use") or element.tag == "use":
            link = element.get("href") or element.get("{http://www.w3.org/1999/xlink}href") or ""
            if link.startswith("#") and link[1:] in by_id:
                total += count(by_id[link[1:]], depth + 1)
        known[id(element)] = total
        return total

    return count(root, 0)


def _is_hidden(shape: se.Shape) -> bool:
    return str(shape.values.get("display", "")) == "none" or str(shape.values.get("visibility", "")) == "hidden"


def _has_paint(shape: se.Shape, paint: str) -> bool:
    """Whether a shape has a 'fill' or a 'stroke'; where nothing is said there is a fill and no stroke."""
    found = getattr(shape, paint)
    # paint from a gradient has no colour of its own here, but an area all the same
    says = str(shape.values.get(paint, "")).startswith("url")
    return says or (paint == "fill" if found is None else found.value is not None)


def _lines(shape: se.Shape) -> list[tuple[np.ndarray, bool]]:
    """The lines of a shape, curves as chords: (n, 2) points, y up, and whether they are closed."""
    path = abs(se.Path(shape))
    box = path.bbox()
    if box is None:
        return []
    size = max(box[2] - box[0], box[3] - box[1])
    lines: list[tuple[np.ndarray, bool]] = []
    points: list[tuple[float, float]] = []
    closed = False
    for segment in path:
        if isinstance(segment, se.Move):
            lines.append((np.array(points), closed))
            points, closed = [(segment.end.x, -segment.end.y)], False
        elif isinstance(segment, se.Close | se.Line):
            closed = isinstance(segment, se.Close)
            if segment.end is not None:
                points.append((segment.end.x, -segment.end.y))
        else:
            count = _steps(segment, size)
            points += [(x, -y) for x, y in _along(segment, np.linspace(0, 1, count + 1)[1:])]
    lines.append((np.array(points), closed))
    return [(line, closed) for line, closed in lines if len(line) > 1 and np.isfinite(line).all()]


def _section(shape: se.Shape) -> m3.CrossSection | None:
    rule = m3.FillRule.EvenOdd if str(shape.values.get("fill-rule", "")).strip() == "evenodd" else m3.FillRule.NonZero
    rings = [line for line, _ in _lines(shape) if len(line) > 2]
    return m3.CrossSection(rings, rule) if rings else None


ARC = 24  # chords of half a circle, of round joins and ends


def stroked(shape: se.Shape) -> m3.CrossSection | None:
    """What the line of a shape covers by its width, joins and ends; dashes are drawn through. None for a line without width or length.

    Source: W3C, SVG 1.1, 11.4 Stroke properties (stroke-width, stroke-linecap, stroke-linejoin, stroke-miterlimit).
    """
    says = lambda name, usual: str(shape.values.get(name) or usual).strip()
    half = float(shape.implicit_stroke_width or 0.0) / 2
    join, cap, limit = says("stroke-linejoin", "miter"), says("stroke-linecap", "butt"), float(says("stroke-miterlimit", "4"))
    parts: list[np.ndarray] = []
    for line, closed in _lines(shape) if half > 0 else ():
        step = np.linalg.norm(np.diff(line, axis=0), axis=1)
        line = line[np.concatenate([[True], step > 1e-9 * half])]
        if closed and len(line) > 2 and np.linalg.norm(line[0] - line[-1]) <= 1e-9 * half:
            line = line[:-1]
        if len(line) < 2:
            continue
        ends = np.concatenate([line, line[:1]]) if closed else line
        way = np.diff(ends, axis=0)
        way /= np.linalg.norm(way, axis=1, keepdims=True)
        side = half * np.stack([-way[:, 1], way[:, 0]], 1)
        a, b = ends[:-1].copy(), ends[1:].copy()
        if cap == "square" and not closed:
            a[0] -= half * way[0]
            b[-1] += half * way[-1]
        parts += list(np.stack([a + side, a - side, b - side, b + side], 1))
        for k in range(len(way)) if closed else range(1, len(way)):
            parts.append(_join(ends[k], side[k - 1], side[k], half, join, limit))
        if cap == "round" and not closed:
            parts += [_fan(ends[0], side[0], np.pi), _fan(ends[-1], -side[-1], np.pi)]
    parts = [p if _turns_left(p) else p[::-1] for p in parts if len(p) > 2]
    return m3.CrossSection(parts, m3.FillRule.NonZero) if parts else None


def _join(corner: np.ndarray, before: np.ndarray, after: np.ndarray, half: float, join: str, limit: float) -> np.ndarray:
    """What fills the outer side of a corner between two pieces of line; before, after: (2,) to their left side."""
    turn = float(np.arctan2(before[0] * after[1] - before[1] * after[0], before @ after))
    before, after = (before, after) if turn < 0 else (-before, -after)  # the outer side is the one that the corner turns away from
    if join == "round":
        return _fan(corner, before, turn)
    wide = np.cos(turn / 2)  # the miter is 1 / wide line widths long
    if join in ("miter", "miter-clip", "arcs") and wide * limit >= 1:
        return np.array([corner, corner + before, corner + (before + after) / (2 * wide**2), corner + after])
    return np.array([corner, corner + before, corner + after])


def _fan(middle: np.ndarray, first: np.ndarray, turn: float) -> np.ndarray:
    """A part of a disc: from a radius (2,) on, over an angle in radians."""
    angle = np.linspace(0, turn, max(2, int(np.ceil(ARC * abs(turn) / np.pi)) + 1))[:, None]
    return np.concatenate([middle[None], middle + np.cos(angle) * first + np.sin(angle) * np.array([-first[1], first[0]])])


def _turns_left(ring: np.ndarray) -> bool:
    x, y = ring.T
    return float((x * np.roll(y, -1) - y * np.roll(x, -1)).sum()) > 0


def _steps(segment: se.PathSegment, size: float) -> int:
    """Chords for a curve: its bend over an even cut into eight tells how many keep within the tolerance."""
    p = _along(segment, np.linspace(0, 1, 9))
    bend = float(np.linalg.norm(p[:-2] - 2 * p[1:-1] + p[2:], axis=1).max()) / 8
    return int(np.clip(np.ceil(8 * np.sqrt(bend / (CHORDS * max(size, 1e-12)))), 4, 200))


def _along(segment: se.PathSegment, t: np.ndarray) -> np.ndarray:
    """(n, 2) points of a curve. The polynomials as rows: point by point, a drawing of 0.4 MB took 11 s."""
    t = t[:, None]
    corner = lambda point: np.array([[point.x, point.y]])
    match segment:
        case se.CubicBezier():
            a, b, c, d = (corner(p) for p in (segment.start, segment.control1, segment.control2, segment.end))
            return (1 - t) ** 3 * a + 3 * (1 - t) ** 2 * t * b + 3 * (1 - t) * t**2 * c + t**3 * d
        case se.QuadraticBezier():
            a, b, c = (corner(p) for p in (segment.start, segment.control, segment.end))
            return (1 - t) ** 2 * a + 2 * (1 - t) * t * b + t**2 * c
    return np.array([(q.x, q.y) for q in (segment.point(u) for u in t[:, 0])])


class Drawing(NamedTuple):
    """The outline of a drawing one unit high, by its source, or of what is seen of one of its colours."""

    text: str
    colour: str | None = None
    lines: bool = False

    def contours(self, fine: int = 0) -> list[np.ndarray]:
        """As fine at all times: they are worked out once, and true to 0.0003 of the size of each shape."""
        if self.colour is None:
            return list(drawing_outlines(self.text, self.lines)[0])
        return [c for colour, own in drawing_parts(self.text, self.lines) if colour == self.colour for c in own]


def logo_mesh(text: str, form: Form, colour: str | None = None, lines: bool = False) -> Mesh:
    """The solid of a drawing one unit high, or of one of its colours; its form in heights. Raises UserError."""
    return solid(Drawing(text, colour, lines), form)
