"""The letters of a title at a frame: how they are set, their solids, and where movers take each of them."""

import contextlib
import unicodedata
from collections.abc import Iterator
from typing import NamedTuple

import msgspec
import numpy as np

from ..basics.errors import UserError
from ..basics.geometry import F64, turn_matrix
from ..shape.extrude import MOST_HEIGHT, Edge, Form, Mesh, solid
from ..shape.fonts import SHIPPED, Face, face_of, faces_with
from ..shape.outlines import has_letter
from ..shape.setting import Piece, Setting, Style, piece_box, pieces_of
from ..shot.objects import Extruded, Layer, Mover, Rgb, Title
from ..shot.objects import Style as TextStyle

LEAST = 1e-4  # metres; nothing is thinner
IN_PLACE = np.eye(4)
STEPS = 50  # in which a bevel that changes letter by letter is made


class Part(NamedTuple):
    """One solid of an object: place (4, 4) in the axes that `Kind.stretch` takes. colour: code values of sRGB, None for the object's own."""

    mesh: Mesh
    place: F64 = IN_PLACE
    colour: Rgb | None = None
    opacity: float = 1.0


def shifted(x: float, y: float, z: float) -> F64:
    """(4, 4) of a shift."""
    m = np.eye(4)
    m[:3, 3] = x, y, z
    return m


# how an object's outlines become solids ----------------------------------------------------------------------------------------


def form_of(item: Extruded, frame: float) -> Form:
    """The form of an object's own solid, in its heights, in steps that cannot be seen, by which solids are kept."""
    height = max(item.height.at(frame)[0], LEAST)  # type: ignore[attr-defined]
    share = lambda value, i=0: round(max(value.at(frame)[i], 0.0) / height, 5)
    depth = round(max(item.depth.at(frame)[0], LEAST) / height, 5)  # type: ignore[attr-defined]
    wide, deep = share(item.bevel), share(item.bevel_height)  # type: ignore[attr-defined]
    most = MOST_HEIGHT * depth
    front = Edge(item.profile, wide if deep > 0 else min(wide, most), min(deep or wide, most))
    back = Edge() if item.back == "none" else front if item.back == "same" else front._replace(profile=item.back)
    panel = (share(item.panel), round(item.panel.at(frame)[1] / height, 5))
    shape = Form(depth, front, back, rounding=share(item.rounding), wall=share(item.wall))
    return shape._replace(panel=panel) if panel[0] > 0 else shape


def layer_form(form: Form, layer: Layer, frame: float) -> Form:
    """The form of a layer, in heights."""
    depth = round(form.depth * max(layer.depth.at(frame)[0], 1e-3), 5)
    most = MOST_HEIGHT * depth
    edge = lambda e: e._replace(height=min(e.height, most), width=e.width if e.height <= most else min(e.width, most))
    return form._replace(
        depth=depth,
        front=edge(form.front),
        back=edge(form.back),
        wall=round(layer.wall.at(frame)[0], 5) or form.wall,
        grow=round(layer.grow.at(frame)[0], 5),
    )


def layers_at(item: Extruded, frame: float) -> Iterator[tuple[Form, F64, Rgb | None, float]]:
    """The solids that outlines are made into: form, place (4, 4) in heights, colour and opacity; the object's own one first."""
    form = form_of(item, frame)
    yield form, IN_PLACE, None, 1.0
    for layer in item.layers:
        if layer.on and layer.opacity.at(frame)[0] > 0:
            m = np.diag([layer.size.at(frame)[0]] * 3 + [1.0])
            middle = shifted(0.0, 0.0, 0.5)  # of capitals one high
            yield (
                layer_form(form, layer, frame),
                shifted(*layer.offset.at(frame)) @ middle @ m @ np.linalg.inv(middle),
                layer.colour,
                layer.opacity.at(frame)[0],
            )


# setting -----------------------------------------------------------------------------------------------------------------------


def title_face(title: Title) -> Face:
    """The title's face, or the first shipped one where it is missing: never fatal."""
    return _face(title.face, axes_of(title))


def _face(name: str, axes: tuple[tuple[str, float], ...] = ()) -> Face:
    try:
        return face_of(name, axes)
    except UserError:
        return face_of(next(iter(SHIPPED)))


def axes_of(title: Title) -> tuple[tuple[str, float], ...]:
    """Places of a variable face on its axes: 'wght=650, wdth=80'. What cannot be read is left out."""
    found = []
    for word in title.axes.replace(",", " ").split():
        tag, _, value = word.partition("=")
        with contextlib.suppress(ValueError):
            if len(tag) == 4 and tag.isascii() and np.isfinite(float(value)):
                found.append((tag, float(value)))
    return tuple(found)


def words_of(title: Title) -> str:
    """What is set: the text, or its capitals, letter for letter; a space for what no face has a form for."""
    letter = lambda c: c if c == "\n" or unicodedata.category(c) not in ("Cc", "Cs") else " "
    capital = lambda c: c.upper() if title.capitals and len(c.upper()) == 1 else c
    return "".join(letter(capital(c)) for c in title.text)


def features_of(title: Title) -> tuple[tuple[str, int], ...]:
    """The OpenType features that are asked for: 'smcp, ss01, liga=0'. What cannot be read is left out."""
    found = []
    for word in title.features.replace(",", " ").split():
        tag, _, value = word.partition("=")
        if len(tag) == 4 and tag.isascii() and (not value or value.isdigit()):
            found.append((tag, min(int(value), 1000) if value else 1))
    return tuple(found)


def setting_of(title: Title, frame: float) -> Setting:
    """How a title is set at a frame, in steps that cannot be seen, by which settings are kept."""
    at = lambda value: round(value.at(frame)[0], 4)
    main = title_face(title)
    styles = tuple((s.first, s.last, Style(_face(s.face) if s.face else main, max(s.size, 1e-3), s.raised)) for s in title.styles)
    return Setting(
        at(title.spacing),
        at(title.word_spacing),
        at(title.line_spacing),
        max(at(title.letter_width), LEAST),
        title.align,
        features_of(title),
        styles,
        tuple((k.letter, k.by) for k in title.kerns),
        stand_ins(main, words_of(title)),
    )


def lacking(face: Face, text: str) -> str:
    """The characters of a text for which a face has no glyph, each once."""
    return "".join(dict.fromkeys(c for c in text if not has_letter(face, c)))


def stand_ins(face: Face, text: str) -> tuple[Face, ...]:
    """Faces that have the letters which a face lacks, as few as do."""
    return faces_with(lacking(face, text))


def title_problem(title: Title, frame: float) -> str:
    """What is not as it was wished: a face that is missing, letters that no face here has, or another face that stands in."""
    told = []
    for name in dict.fromkeys([title.face, *(s.face for s in title.styles if s.face)]):
        try:
            face_of(name)
        except UserError as error:
            told.append(f"{error.what} {next(iter(SHIPPED))} stands in for it.")
    main, words = title_face(title), words_of(title)
    without = lacking(main, words)
    if without:
        others = stand_ins(main, words)
        gone = "".join(c for c in without if not any(has_letter(face, c) for face in others))
        if others:
            names = ", ".join(face.path.stem for face in others)
            told.append(f"The face has no {' '.join(c for c in without if c not in gone)[:60]}; {names} stands in.")
        if gone:
            shown = " ".join(f"{c} ({unicodedata.name(c, hex(ord(c))).lower()})" for c in gone[:4])
            told.append(f"No face on this machine has {shown}.")
    return " ".join(told)


# solids ------------------------------------------------------------------------------------------------------------------------


class _Move:
    """Where movers take one solid: a turn, shift and size (4, 4) in its own axes, room at its left in cap heights, factors of depth and bevel,
    opacity, and the colours that it takes on."""

    def __init__(self) -> None:
        self.place, self.aside, self.depth, self.bevel, self.opacity = IN_PLACE, 0.0, 1.0, 1.0, 1.0
        self.tints: list[tuple[Rgb, float]] = []


def title_parts(title: Title, frame: float) -> list[Part]:
    """The solids of a title at a frame, in cap heights. Raises UserError where no face can be read."""
    pieces, setting = title_pieces(title, frame)
    moves = moved_by(title, pieces, setting, frame)
    places = [_on_line(title, piece, move.aside, pieces, setting, frame) @ move.place for piece, move in zip(pieces, moves)]
    parts = []
    for form, layer, colour, opacity in layers_at(title, frame):
        for piece, move, place in zip(pieces, moves, places):
            if opacity * move.opacity <= 0 or abs(np.linalg.det(place[:3, :3])) < 1e-9:
                continue
            style = _style_of(title, piece)
            own = msgspec.structs.replace(style, depth=style.depth * move.depth) if move.depth != 1 else style
            m = place if own.depth == 1 else place @ np.diag([1.0, own.depth, 1.0, 1.0])
            tint = colour or style.colour
            for towards, share in move.tints:
                tint = tuple(a + share * (b - a) for a, b in zip(tint or title.colour, towards))  # type: ignore[assignment]
            parts.append(Part(solid(piece.joined, _bevelled(form, move.bevel)), layer @ m, tint, opacity * move.opacity))
    return parts


def title_pieces(title: Title, frame: float) -> tuple[tuple[Piece, ...], Setting]:
    """The outlines of a title that each make one solid, in reading order, and how they are set. Raises UserError."""
    setting = setting_of(title, frame)
    apart = any(m.on and m.by == "letter" for m in title.movers)
    return pieces_of(title_face(title), words_of(title), setting, apart), setting


def title_box(title: Title, frame: float) -> tuple[F64, F64]:
    """Low and high corner (2,) of the words of a title, in cap heights, where they stand without movers."""
    try:
        pieces, setting = title_pieces(title, frame)
    except UserError:
        pieces = ()
    if not pieces:
        return np.array([-0.5, 0.0]), np.array([0.5, 1.0])
    corners = []
    for piece in pieces:
        low, high = piece_box(piece)
        m = _on_line(title, piece, 0.0, pieces, setting, frame)
        corners += [m @ [x, 0.0, y, 1.0] for x in (low[0], high[0]) for y in (low[1], high[1])]
    found = np.array(corners)[:, [0, 2]]
    return found.min(0), found.max(0)


def _style_of(title: Title, piece: Piece) -> TextStyle:
    """What a solid has of its own, by its first letter."""
    letter = piece.letters[0].letter
    return next((s for s in reversed(title.styles) if s.first <= letter <= s.last), _OWN)


_OWN = TextStyle(first=0, last=0)


def _bevelled(form: Form, factor: float) -> Form:
    if factor == 1:
        return form
    share = max(round(factor * STEPS) / STEPS, 0.0)
    most = MOST_HEIGHT * form.depth
    edge = lambda e: e._replace(width=round(e.width * share, 5), height=round(min(e.height * share, most), 5))
    return form._replace(front=edge(form.front), back=edge(form.back))


def _on_line(title: Title, piece: Piece, aside: float, pieces: tuple[Piece, ...], setting: Setting, frame: float) -> F64:
    """(4, 4) from the axes of a solid to where it stands: on the base line, or on the circle that this is bent to."""
    degrees = title.bend.at(frame)[0]
    if abs(degrees) < 1e-3:
        return shifted(piece.x + aside, 0.0, piece.y)
    length = max(max(p.letters[-1].x + p.letters[-1].advance for p in pieces) - min(p.x for p in pieces), 1e-6)
    radius = length / np.deg2rad(degrees)
    low, high = piece_box(piece)
    half = (low[0] + high[0]) / 2
    angle = (piece.x + aside + half) / radius
    c, s = np.cos(angle), np.sin(angle)
    turn = np.array([[c, 0, s, 0], [0, 1, 0, 0], [-s, 0, c, 0], [0, 0, 0, 1.0]])
    return shifted(0.0, 0.0, -radius) @ turn @ shifted(-half, 0.0, radius + piece.y)


# movers ------------------------------------------------------------------------------------------------------------------------


def moved_by(title: Title, pieces: tuple[Piece, ...], setting: Setting, frame: float) -> list[_Move]:
    """What the movers of a title do to each of its solids."""
    moves = [_Move() for _ in pieces]
    for mover in title.movers:
        if mover.on and pieces:
            _move(moves, pieces, mover, setting, frame)
    return moves


def _move(moves: list[_Move], pieces: tuple[Piece, ...], mover: Mover, setting: Setting, frame: float) -> None:
    units = units_of(pieces, mover.by)
    ranks = ranks_of(mover, pieces, units)
    late, room = mover.late.at(frame)[0], np.zeros(len(pieces))
    for k, (piece, unit) in enumerate(zip(pieces, units)):
        share, when = share_of(mover, ranks[unit], frame - late * ranks[unit] * (len(ranks) - 1))
        if share == 0:
            continue
        move, at = moves[k], lambda value, when=when: value.at(when)
        low, high = piece_box(piece)
        # what moves by word or line turns about the middle of that
        same = [p for p, u in zip(pieces, units) if u == unit]
        left, right = (piece.x + low[0], piece.x + high[0]) if mover.by == "letter" else _ends(same)
        about = np.array([(left + right) / 2 - piece.x, 0.0, 0.5 if mover.about == "middle" else 0.0])
        size = 1 + (at(mover.size)[0] - 1) * share
        turn = np.eye(4)
        turn[:3, :3] = turn_matrix(tuple(v * share for v in at(mover.turn))) * size
        move.place = shifted(*(np.array(at(mover.shift)) * share)) @ shifted(*about) @ turn @ shifted(*-about) @ move.place
        move.depth *= 1 + (at(mover.depth)[0] - 1) * share
        move.bevel *= 1 + (at(mover.bevel)[0] - 1) * share
        move.opacity *= 1 + (at(mover.opacity)[0] - 1) * share
        tint = at(mover.tint)[0] * share
        if tint > 0:
            move.tints.append((mover.colour, tint))
        room[k] = at(mover.spacing)[0] * share
    if room.any():
        lines = np.array([piece.letters[0].line for piece in pieces])
        for line in np.unique(lines):
            rows = np.flatnonzero(lines == line)
            rows = rows[np.argsort([pieces[r].x for r in rows])]
            before = np.cumsum(room[rows]) - room[rows]
            keep = {"left": 0.0, "both": 0.0, "right": 1.0}.get(setting.align, 0.5)
            for r, shift in zip(rows, before - keep * (room[rows].sum() - room[rows[-1]])):
                moves[r].aside += float(shift)


def _ends(pieces: list[Piece]) -> tuple[float, float]:
    boxes = [(piece.x, piece_box(piece)) for piece in pieces]
    return min(x + low[0] for x, (low, _) in boxes), max(x + high[0] for x, (_, high) in boxes)


def units_of(pieces: tuple[Piece, ...], by: str) -> list[int]:
    """For each solid the number of the letter, word or line that it is moved with."""
    names = [piece.letters[0].line if by == "line" else piece.letters[0].word if by == "word" else k for k, piece in enumerate(pieces)]
    number = {name: k for k, name in enumerate(dict.fromkeys(names))}
    return [number[name] for name in names]


def ranks_of(mover: Mover, pieces: tuple[Piece, ...], units: list[int]) -> F64:
    """(n,) from 0 to 1: when the range of a mover comes to each unit."""
    count = max(units) + 1
    place = np.arange(count) / max(count - 1, 1)
    match mover.order:
        case "reversed":
            return 1 - place
        case "from the middle":
            return np.abs(2 * place - 1)
        case "from the ends":
            return 1 - np.abs(2 * place - 1)
        case "shuffled":
            return np.random.default_rng(mover.seed).permutation(count) / max(count - 1, 1)
        case "from a point":
            away = np.zeros(count)
            for k in range(count):
                same = [p for p, unit in zip(pieces, units) if unit == k]
                left, right = _ends(same)
                away[k] = np.hypot((left + right) / 2 - mover.point[0], same[0].y + 0.5 - mover.point[2])
            return (away - away.min()) / max(float(np.ptp(away)), 1e-9)
    return place


def share_of(mover: Mover, rank: float, when: float) -> tuple[float, float]:
    """How much of a mover a unit has that comes at `rank`, 0 to 1, at a time of its own; and that time."""
    reach, soft = mover.reach.at(when)[0], mover.soft.at(when)[0]
    if soft < 1e-6:
        return float(reach >= 1 or reach > rank), when
    share = float(np.clip((reach * (1 + soft) - rank) / soft, 0.0, 1.0))
    return (share * share * (3 - 2 * share) if mover.ease else share), when
