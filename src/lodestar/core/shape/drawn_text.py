"""Letters in drawings (SVG), turned into paths as a drawing is opened: what is kept in a shot then looks the same on each machine.

Source of the format: W3C, Scalable Vector Graphics (SVG) 1.1, chapter 10: chunks of text, their anchors, and where positions go on.
"""

import functools
import io
import re
import xml.etree.ElementTree as ET
from typing import NamedTuple

import numpy as np
import svgelements as se

from .fonts import SHIPPED, Face, face_of, system_faces
from .outlines import cap_height, glyph_outline
from .setting import letters_of

SVG = "{http://www.w3.org/2000/svg}"
NUMBER, MISSING = "data-run", "data-asks-for"
MOST_LETTERS = 2_000
TRUE = 2  # how fine the curves are, as of `extrude.Form`
BOLD, REGULAR = 700, 400  # of `font-weight`, as words and as OpenType counts
ANCHORS = {"middle": 0.5, "end": 1.0}
OF_TEXT = ("x", "y", "dx", "dy", "rotate", "textLength", "lengthAdjust")  # attributes that a path has not
UNREADABLE = (ET.ParseError, ValueError, TypeError, IndexError, AttributeError, ArithmeticError, KeyError, RecursionError)

for _prefix, _space in (("", SVG[1:-1]), ("xlink", "http://www.w3.org/1999/xlink")):
    ET.register_namespace(_prefix, _space)


class _Run(NamedTuple):
    """Letters of one style. element: whose look they have; x, y: where they begin, None to go on; dx, dy: by which they are moved."""

    element: ET.Element
    words: str
    face: Face
    size: float
    anchor: str
    x: float | None
    y: float | None
    dx: float
    dy: float


def with_text_as_paths(source: str) -> str:
    """The source of a drawing with paths in place of its text; as it is where it has none, or cannot be read. Text whose face is not on this machine
    is set in the first shipped one, which `asked_faces` tells."""
    if "<text" not in source and ":text" not in source:
        return source
    try:
        root = ET.fromstring(source)
        texts = [e for e in root.iter() if e.tag in ("text", f"{SVG}text")]
        if not texts or sum(len("".join(e.itertext())) for e in texts) > MOST_LETTERS:
            return source
        styles = _styles(root, texts)
        parents = {child: parent for parent in root.iter() for child in parent}
        for text in texts:
            group = _outlined(text, styles)
            group.tail = text.tail
            parents[text][list(parents[text]).index(text)] = group
        return ET.tostring(root, encoding="unicode")
    except UNREADABLE:  # what is wrong with it is told where it becomes a solid
        return source


@functools.lru_cache(maxsize=64)
def asked_faces(source: str) -> tuple[str, ...]:
    """Families that the text of a drawing asked for when it was opened, and which were not there."""
    return tuple(dict.fromkeys(re.findall(rf'{MISSING}="([^"]*)"', source)))


def _styles(root: ET.Element, texts: list[ET.Element]) -> dict[str, se.Text]:
    """The style of each text and each part of one, by its number, with what it takes over from those around it and from classes."""
    parts = [part for text in texts for part in text.iter()]
    for number, part in enumerate(parts):
        part.set(NUMBER, str(number))
        if not (part.text or "").strip():
            part.text = " "
    found: dict[str, se.Text] = {}
    for shape in se.SVG.parse(io.StringIO(ET.tostring(root, encoding="unicode")), reify=False).elements():
        if isinstance(shape, se.Text):
            found.setdefault(str(shape.values.get(NUMBER)), shape)
    return found


def _outlined(text: ET.Element, styles: dict[str, se.Text]) -> ET.Element:
    """A group of paths in place of a text."""
    runs = _runs(text, styles)  # which marks what asks for a face that is not here
    group = ET.Element(f"{SVG}g", _kept(text))
    chunks: list[list[_Run]] = []
    for run in runs:
        if run.x is not None or not chunks:
            chunks.append([])
        chunks[-1].append(run)
    y = 0.0
    for chunk in chunks:
        x = (chunk[0].x or 0.0) - ANCHORS.get(chunk[0].anchor, 0.0) * sum(_width(run) + run.dx for run in chunk)
        for run in chunk:
            x, y = x + run.dx, (y if run.y is None else run.y) + run.dy
            path = ET.SubElement(group, f"{SVG}path", _kept(run.element) if run.element is not text else {})
            path.set("d", _path(run, x, y))
            x += _width(run)
    return group


def _kept(element: ET.Element) -> dict[str, str]:
    return {name: value for name, value in element.attrib.items() if name not in (*OF_TEXT, NUMBER)}


def _runs(text: ET.Element, styles: dict[str, se.Text]) -> list[_Run]:
    found: list[_Run] = []

    def add(element: ET.Element, words: str | None, begins: bool) -> None:
        style = styles.get(element.get(NUMBER, ""))
        spaced = re.sub(r"\s+", " ", words or "")
        if not found or found[-1].words.endswith(" "):
            spaced = spaced.lstrip()
        if style is None or not (spaced.strip() or (spaced and found)):
            return
        size = float(style.font_size or 16.0)
        face, asked = _face(str(style.font_family or ""), str(style.values.get("font-weight", "")), str(style.values.get("font-style", "")))
        if asked:
            element.set(MISSING, asked)
        at = lambda name: _length(element.get(name), size) if begins else None
        anchor = str(style.values.get("text-anchor", "start"))
        found.append(_Run(element, spaced, face, size, anchor, at("x"), at("y"), at("dx") or 0.0, at("dy") or 0.0))

    def walk(element: ET.Element) -> None:
        add(element, element.text, True)
        for child in element:
            if child.tag in ("tspan", f"{SVG}tspan"):
                walk(child)
            add(element, child.tail, False)

    walk(text)
    if found:
        found[-1] = found[-1]._replace(words=found[-1].words.rstrip())
    return found


def _length(value: str | None, size: float) -> float | None:
    match = re.match(r"\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)\s*(em|px)?", value or "")
    return None if match is None else float(match.group(1)) * (size if match.group(2) == "em" else 1.0)


@functools.lru_cache(maxsize=64)
def _face(families: str, weight: str, style: str) -> tuple[Face, str]:
    """The face of this machine that is meant, and the family that is not here, where none of them is."""
    heavy = float({"bold": BOLD, "normal": REGULAR, "": REGULAR}.get(weight, weight) if weight.replace(".", "").isalnum() else REGULAR)
    leans = style in ("italic", "oblique")
    named = [name.strip().strip("'\"") for name in families.split(",")]
    for name in filter(None, named):
        own = [f for f in system_faces().values() if f.family.casefold() == name.casefold()]
        if own:
            lean = lambda f: ("Italic" in f.style or "Oblique" in f.style) != leans
            best = min(own, key=lambda f: (lean(f), abs(f.width - 100), abs(f.weight - heavy), f.name))
            return face_of(best.name), ""
        if name in SHIPPED:
            return face_of(name), ""
    return face_of(next(iter(SHIPPED))), named[0] if named[0] not in ("", "sans-serif", "serif", "monospace") else ""


@functools.lru_cache(maxsize=256)
def _wide(face: Face, words: str) -> float:
    """How far a text goes on, in ems, its last space too."""
    return letters_of(face, words)[1] * cap_height(face)


def _width(run: _Run) -> float:
    return _wide(run.face, run.words) * run.size


def _path(run: _Run, x: float, y: float) -> str:
    letters, wide = letters_of(run.face, run.words)
    unit = run.size * cap_height(run.face)
    found = []
    for one in letters:
        for contour in glyph_outline(one.face, one.glyph, TRUE):
            points = (contour * one.em + (one.x + wide / 2, one.y)) * unit * (1, -1) + (x, y)
            found.append("M" + " L".join(f"{a:.7g} {b:.7g}" for a, b in np.asarray(points)) + " Z")
    return " ".join(found)
