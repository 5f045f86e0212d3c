"""The letters of a title at a frame: how they are set, their solids, and where movers take each of them."""

import contextlib
import functools
import unicodedata
from collections.abc import Callable, Iterator
from typing import NamedTuple

import numpy as np

from ..basics.errors import UserError
from ..basics.geometry import F64, turn_matrix
from ..basics.identity import Same
from ..shape.extrude import MOST_HEIGHT, Edge, Form, Mesh, solid
from ..shape.fonts import SHIPPED, Face, face_of, faces_with
from ..shape.outlines import axes_in, cap_height, has_feature, has_letter
from ..shape.setting import Piece, Setting, Style, letters_of, piece_box, pieces_of
from ..shot.objects import Extruded, Layer, Mover, Relief, Rgb, Title
from ..shot.objects import Style as TextStyle
from .deforming import LEAST, deformations
from .lines import Line, line_of

IN_PLACE = np.eye(4)
SMALL_CAPITALS, SMALL_SIZE = "smcp", 0.78  # of the capitals (common practice, no source)
AXIS_STEPS = 250  # of an axis of a variable face
STEPS = 50  # in which a bevel that changes letter by letter is made


class Part(NamedTuple):
    """One solid of an object: place (4, 4) in the axes that `Kind.stretch` takes. colour: code values of sRGB, None for the object's own.
    number: its row in what `Kind.places` gives, by which it is found at other times. look: whose surface it has, None for the object's own. later:
    the same triangles at another frame, where their corners move."""

    mesh: Mesh
    place: F64 = IN_PLACE
    colour: Rgb | None = None
    opacity: float = 1.0
    number: int = 0
    look: Relief | None = None
    later: Callable[[float], Mesh] | None = None


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
    curve = lambda profile: item.curve if profile == "drawn" else ()
    front = Edge(item.profile, wide if deep > 0 else min(wide, most), min(deep or wide, most), curve(item.profile))
    back = Edge() if item.back == "none" else front if item.back == "same" else front._replace(profile=item.back, curve=curve(item.back))
    panel = (share(item.panel), round(item.panel.at(frame)[1] / height, 5))
    shape = Form(depth, front, back, rounding=share(item.rounding), wall=share(item.wall))
    return shape._replace(panel=panel) if panel[0] > 0 else shape


def deepened(form: Form, factor: float) -> Form:
    """A form of another depth; its edges stay as they are, as far as the depth lets them."""
    depth = round(form.depth * max(factor, 1e-3), 5)
    most = MOST_HEIGHT * depth
    edge = lambda e: e._replace(height=min(e.height, most), width=e.width if e.height <= most else min(e.width, most))
    return form._replace(depth=depth, front=edge(form.front), back=edge(form.back))


def layer_form(form: Form, layer: Layer, frame: float) -> Form:
    """The form of a layer, in heights."""
    return deepened(form, layer.depth.at(frame)[0])._replace(
        wall=round(layer.wall.at(frame)[0], 5) or form.wall,
        grow=round(layer.grow.at(frame)[0], 5),
    )


def layers_at(item: Extruded, frame: float, fine: int = 0) -> Iterator[tuple[Form, F64, Rgb | None, float]]:
    """The solids that outlines are made into: form, place (4, 4) in heights, colour and opacity; the object's own one first. fine: as of `Form`."""
    form = form_of(item, frame)._replace(fine=fine)
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


def title_face(title: Title, frame: float = 0.0) -> Face:
    """The title's face at a frame, or the first shipped one where it is missing: never fatal."""
    return _face(title.face, axes_of(title, frame))


def _face(name: str, axes: tuple[tuple[str, float], ...] = ()) -> Face:
    try:
        return face_of(name, axes)
    except UserError:
        return face_of(next(iter(SHIPPED)))


def axes_of(title: Title, frame: float = 0.0) -> tuple[tuple[str, float], ...]:
    """Places of a variable face on its axes: 'wght=650, wdth=80', and those that are keyed, in steps that cannot be seen, by which glyphs are kept.
    What cannot be read is left out."""
    found = []
    for word in title.axes.replace(",", " ").split():
        tag, _, value = word.partition("=")
        with contextlib.suppress(ValueError):
            if len(tag) == 4 and tag.isascii() and np.isfinite(float(value)):
                found.append((tag, float(value)))
    if title.face_axes:
        known = axes_in(_face(title.face))
        for axis in title.face_axes:
            if axis.on and axis.tag in known:
                low, _, high = known[axis.tag]
                step = max((high - low) / AXIS_STEPS, 1e-6)
                place = min(max(axis.value.at(frame)[0], low), high)
                found = [one for one in found if one[0] != axis.tag] + [(axis.tag, float(low + round((place - low) / step) * step))]
    return tuple(found)


def words_of(title: Title) -> str:
    """What is set: the text, or its capitals, letter for letter; a space for what no face has a form for. Where a face has no small capitals of its own,
    capitals stand for them, which `setting_of` makes small."""
    return _written(title.text, title.capitals or (title.small_capitals and not has_feature(title_face(title), SMALL_CAPITALS)))


@functools.lru_cache(maxsize=256)
def _written(text: str, large: bool) -> str:
    letter = lambda c: c if c == "\n" or unicodedata.category(c) not in ("Cc", "Cs") else " "
    capital = lambda c: c.upper() if large and len(c.upper()) == 1 else c
    return "".join(letter(capital(c)) for c in text)


def features_of(title: Title) -> tuple[tuple[str, int], ...]:
    """The OpenType features that are asked for: 'smcp, ss01, liga=0'. What cannot be read is left out."""
    found = []
    for word in title.features.replace(",", " ").split():
        tag, _, value = word.partition("=")
        if len(tag) == 4 and tag.isascii() and (not value or value.isdigit()):
            found.append((tag, min(int(value), 1000) if value else 1))
    if title.small_capitals and not title.capitals and has_feature(title_face(title), SMALL_CAPITALS):
        found.append((SMALL_CAPITALS, 1))
    return tuple(found)


def _small(title: Title, styles: tuple[tuple[int, int, Style], ...], main: Face) -> tuple[tuple[int, int, Style], ...]:
    """Styles of the runs of small letters that are set as small capitals out of large ones: each as its letters are, and smaller."""
    if not title.small_capitals or title.capitals or has_feature(main, SMALL_CAPITALS):
        return ()
    found: list[tuple[int, int, Style]] = []
    for k, c in enumerate(title.text):
        if not c.islower() or len(c.upper()) != 1:
            continue
        style = next((s for first, last, s in reversed(styles) if first <= k <= last), Style(main))
        style = style._replace(size=style.size * SMALL_SIZE)
        if found and found[-1][1] == k - 1 and found[-1][2] == style:
            found[-1] = found[-1][0], k, style
        else:
            found.append((k, k, style))
    return tuple(found)


def setting_of(title: Title, frame: float) -> Setting:
    """How a title is set at a frame, in steps that cannot be seen, by which settings are kept."""
    at = lambda value: round(value.at(frame)[0], 4)
    main = title_face(title, frame)
    styles = tuple((s.first, s.last, Style(_face(s.face) if s.face else main, max(s.size, 1e-3), s.raised)) for s in title.styles)
    return Setting(
        at(title.spacing),
        at(title.word_spacing),
        at(title.line_spacing),
        max(at(title.letter_width), LEAST),
        title.align,
        features_of(title),
        (*styles, *_small(title, styles, main)),
        tuple((k.letter, k.by) for k in title.kerns),
        stand_ins(main, words_of(title)),
    )


@functools.lru_cache(maxsize=256)
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


class Moves(NamedTuple):
    """Where movers take n solids: turns, shifts and sizes place (n, 4, 4) in their own axes, room at their left aside (n,) in cap heights,
    factors of depth and bevel and opacity (n,), and the colours that each takes on with their shares."""

    place: F64
    aside: F64
    depth: F64
    bevel: F64
    opacity: F64
    tints: list[list[tuple[Rgb, float]]]


def title_parts(title: Title, frame: float, fine: int = 0) -> list[Part]:
    """The solids of a title at a frame, in cap heights. fine: as of `Form`. Raises UserError where no face can be read."""
    pieces, setting = title_pieces(title, frame)
    moves, places = _moved_places(Same(title), Same(pieces), setting, frame)
    there = np.abs(np.linalg.det(places[:, :3, :3])) > 1e-9
    parts = []
    for n, (form, layer, colour, opacity) in enumerate(layers_at(title, frame, fine)):
        whole = layer @ places
        for k in np.flatnonzero(there & (opacity * moves.opacity > 0)):
            piece = pieces[k]
            tint = colour or _style_of(title, piece).colour
            for towards, share in moves.tints[k]:
                tint = tuple(a + share * (b - a) for a, b in zip(tint or title.colour, towards))  # type: ignore[assignment]
            mesh = solid(piece.joined, _bevelled(form, float(moves.bevel[k])))
            parts.append(Part(mesh, whole[k], tint, float(opacity * moves.opacity[k]), n * len(pieces) + int(k)))
    return parts


def title_places(title: Title, frame: float) -> F64:
    """(m, 4, 4) where the solids of a title are at a time, also those that `title_parts` leaves out; a part's `number` is its row."""
    pieces, setting = title_pieces(title, frame)
    places = _moved_places(Same(title), Same(pieces), setting, frame)[1]
    return np.concatenate([layer @ places for _, layer, _, _ in layers_at(title, frame)])


def letters_move(title: Title) -> bool:
    """Whether anything within the title moves by itself."""
    keyed = (title.spacing, title.word_spacing, title.line_spacing, title.letter_width, title.bend, title.along)
    layers = [value for layer in title.layers for value in (layer.offset, layer.size)]
    return bool(title.movers) or any(value.keys for value in (*keyed, *layers))


@functools.lru_cache(maxsize=16)
def _moved_places(of: Same, set_: Same, setting: Setting, frame: float) -> tuple[Moves, F64]:
    """What movers do to the pieces of a title, and (n, 4, 4) from the axes of each solid to those of the title; asked for more than once a picture."""
    title, pieces = of.of, set_.of
    moves = moved_by(title, pieces, setting, frame)
    places = _placed_on(line_of(title, pieces, frame), pieces, moves.aside) @ moves.place
    deep = moves.depth * np.array([_style_of(title, piece).depth for piece in pieces])
    places[:, :, 1] *= deep[:, None]
    return moves, places


def title_pieces(title: Title, frame: float) -> tuple[tuple[Piece, ...], Setting]:
    """The outlines of a title that each make one solid, in reading order, and how they are set. Raises UserError."""
    setting = setting_of(title, frame)
    apart = any(m.on and m.by == "letter" for m in title.movers)
    return pieces_of(title_face(title, frame), words_of(title), setting, apart), setting


def carets(title: Title, frame: float) -> F64:
    """(n + 1, 2) where a caret stands before each letter of a text of n, and after the last: x and base line, in cap heights, on a straight line.

    Before a letter that runs leftward it stands at its right. Raises UserError.
    """
    setting, words = setting_of(title, frame), words_of(title)
    found = np.full((len(words) + 1, 2), np.nan)
    placed, widest = letters_of(title_face(title, frame), words, setting)
    drop = setting.line_step / cap_height(title_face(title, frame))
    lines = words.split("\n")
    begin = 0
    for number, line in enumerate(lines):
        own = [one for one in placed if one.line == number]
        y = (len(lines) - 1 - number) * drop
        if not own:
            found[begin : begin + len(line) + 1] = {"left": -widest / 2, "both": -widest / 2, "right": widest / 2}.get(setting.align, 0.0), y
        else:
            leftward = {one.letter: k + 1 < len(own) and own[k + 1].letter < one.letter for k, one in enumerate(own)}
            for one in own:
                found[one.letter] = one.x + (one.advance if leftward[one.letter] else 0.0), y
            last = max(own, key=lambda one: one.letter)
            found[begin + len(line)] = last.x + (0.0 if leftward[last.letter] else last.advance), y
            for k in range(begin + len(line) - 1, begin - 1, -1):  # a letter that shares a glyph with the one before it
                if np.isnan(found[k, 0]):
                    found[k] = found[k + 1]
        begin += len(line) + 1
    return found


def caret_ends(title: Title, frame: float, low: float = -0.12, high: float = 1.12) -> F64:
    """(n + 1, 2, 3) foot and top of the caret before each letter and after the last, on the front of the letters where the line and what
    deforms them take these, in cap heights of the title's own axes. Raises UserError."""
    flat, (pieces, _) = carets(title, frame), title_pieces(title, frame)
    front = -title.depth.at(frame)[0] / 2 / max(title.height.at(frame)[0], LEAST)
    own = np.array([[0.0, front, low, 1.0], [0.0, front, high, 1.0]])
    places = line_of(title, pieces, frame).places(flat[:, 0], flat[:, 1])
    ends = np.einsum("nij,kj->nki", places, own)[..., :3].reshape(-1, 3)
    for deformation in deformations(title, title_box(title, frame), frame):
        ends = deformation(ends)
    return ends.reshape(-1, 2, 3)


def title_box(title: Title, frame: float) -> tuple[F64, F64]:
    """Low and high corner (3,) of the words of a title, in cap heights, where they stand without movers and deformations."""
    deep = max(title.depth.at(frame)[0], LEAST) / 2 / max(title.height.at(frame)[0], LEAST)
    try:
        pieces, setting = title_pieces(title, frame)
    except UserError:
        pieces = ()
    if not pieces:
        return np.array([-0.5, -deep, 0.0]), np.array([0.5, deep, 1.0])
    low, high = _box_on(Same(pieces), line_of(title, pieces, frame), round(deep, 6))
    return low.copy(), high.copy()


@functools.lru_cache(maxsize=64)
def _box_on(of: Same, line: Line, deep: float) -> tuple[F64, F64]:
    pieces = of.of
    boxes = _boxes(Same(pieces))
    places = _placed_on(line, pieces, np.zeros(len(pieces)))
    one = np.ones(len(boxes))
    corners = [places @ np.stack([boxes[:, a], y * one, boxes[:, b], one], 1)[..., None] for a in (0, 2) for b in (1, 3) for y in (-deep, deep)]
    found = np.concatenate(corners)[:, :3, 0]
    return found.min(0), found.max(0)


@functools.lru_cache(maxsize=64)
def _boxes(of: Same) -> F64:
    """(n, 4) low and high corner of the outline of each piece, from its own origin."""
    return np.array([[*low, *high] for low, high in (piece_box(piece) for piece in of.of)]).reshape(-1, 4)


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


def _placed_on(line: Line, pieces: tuple[Piece, ...], aside: F64) -> F64:
    """(n, 4, 4) from the axes of each solid to where it stands: its middle on the line, so that it stays a solid of its own."""
    x, y = np.array([piece.x for piece in pieces]) + aside, np.array([piece.y for piece in pieces])
    half = _boxes(Same(pieces))[:, [0, 2]].mean(1)
    places = line.places(x + half, y)
    places[:, :3, 3] -= places[:, :3, 0] * half[:, None]
    return places


# movers ------------------------------------------------------------------------------------------------------------------------


def moved_by(title: Title, pieces: tuple[Piece, ...], setting: Setting, frame: float) -> Moves:
    """What the movers of a title do to each of its solids."""
    n = len(pieces)
    moves = Moves(np.tile(np.eye(4), (n, 1, 1)), np.zeros(n), np.ones(n), np.ones(n), np.ones(n), [[] for _ in pieces])
    for mover in title.movers:
        if mover.on and pieces:
            moves = _moved(moves, pieces, mover, setting, frame)
    return moves


def _moved(moves: Moves, pieces: tuple[Piece, ...], mover: Mover, setting: Setting, frame: float) -> Moves:
    units, ranks = _order(pieces, mover.by, mover.order, mover.seed, mover.point)
    late = mover.late.at(frame)[0]
    when = frame - late * ranks * (len(ranks) - 1)
    # without a delay all units have the same values
    at = lambda value: value.over(when if late else when[:1])
    reach, soft = at(mover.reach)[:, 0], at(mover.soft)[:, 0]
    share = _shares(reach, soft, ranks, mover.ease)[units, None]
    of_unit = lambda value: (found := at(value))[units if len(found) > 1 else np.zeros(len(units), int)]
    boxes, x = _boxes(Same(pieces)), np.array([piece.x for piece in pieces])
    # what moves by word or line turns about the middle of that
    left, right = np.full(len(ranks), np.inf), np.full(len(ranks), -np.inf)
    np.minimum.at(left, units, x + boxes[:, 0])
    np.maximum.at(right, units, x + boxes[:, 2])
    about = np.zeros((len(pieces), 3))
    about[:, 0] = (left + right)[units] / 2 - x
    about[:, 2] = 0.5 if mover.about == "middle" else 0.0
    m = np.tile(np.eye(4), (len(pieces), 1, 1))
    m[:, :3, :3] = turn_matrix(of_unit(mover.turn) * share) * (1 + (of_unit(mover.size) - 1) * share)[..., None]
    m[:, :3, 3] = of_unit(mover.shift) * share + about - (m[:, :3, :3] @ about[..., None])[..., 0]
    times = lambda value: 1 + (of_unit(value)[:, 0] - 1) * share[:, 0]
    tint = of_unit(mover.tint)[:, 0] * share[:, 0]
    for k in np.flatnonzero(tint > 0):
        moves.tints[k].append((mover.colour, float(tint[k])))
    return Moves(
        m @ moves.place,
        moves.aside + _aside(pieces, of_unit(mover.spacing)[:, 0] * share[:, 0], setting.align),
        moves.depth * times(mover.depth),
        moves.bevel * times(mover.bevel),
        moves.opacity * times(mover.opacity),
        moves.tints,
    )


def _aside(pieces: tuple[Piece, ...], room: F64, align: str) -> F64:
    """(n,) by how much each solid moves to the right where so much room is made after each, line by line as they are aligned."""
    aside = np.zeros(len(pieces))
    if not room.any():
        return aside
    lines, x = np.array([piece.letters[0].line for piece in pieces]), np.array([piece.x for piece in pieces])
    keep = {"left": 0.0, "both": 0.0, "right": 1.0}.get(align, 0.5)
    for line in np.unique(lines):
        rows = np.flatnonzero(lines == line)
        rows = rows[np.argsort(x[rows])]
        aside[rows] = np.cumsum(room[rows]) - room[rows] - keep * (room[rows].sum() - room[rows[-1]])
    return aside


@functools.lru_cache(maxsize=64)
def _order(pieces: tuple[Piece, ...], by: str, order: str, seed: int, point: tuple[float, float, float]) -> tuple[np.ndarray, F64]:
    """For each solid the number of its unit (n,), and for each unit its rank."""
    units = units_of(pieces, by)
    return np.array(units), ranks_of(order, seed, point, pieces, units)


def units_of(pieces: tuple[Piece, ...], by: str) -> list[int]:
    """For each solid the number of the letter, word or line that it is moved with."""
    names = [piece.letters[0].line if by == "line" else piece.letters[0].word if by == "word" else k for k, piece in enumerate(pieces)]
    number = {name: k for k, name in enumerate(dict.fromkeys(names))}
    return [number[name] for name in names]


def ranks_of(order: str, seed: int, point: tuple[float, float, float], pieces: tuple[Piece, ...], units: list[int]) -> F64:
    """(n,) from 0 to 1: when the range of a mover comes to each unit."""
    count = max(units) + 1
    place = np.arange(count) / max(count - 1, 1)
    match order:
        case "reversed":
            return 1 - place
        case "from the middle":
            return np.abs(2 * place - 1)
        case "from the ends":
            return 1 - np.abs(2 * place - 1)
        case "shuffled":
            return np.random.default_rng(seed).permutation(count) / max(count - 1, 1)
        case "from a point":
            boxes, number = _boxes(Same(pieces)), np.array(units)
            middle = np.array([[p.x, p.y + 0.5] for p in pieces]) + np.c_[(boxes[:, 0] + boxes[:, 2]) / 2, np.zeros(len(pieces))]
            away = np.array([np.linalg.norm(middle[number == k].mean(0) - (point[0], point[2])) for k in range(count)])
            return (away - away.min()) / max(float(np.ptp(away)), 1e-9)
    return place


def _shares(reach: F64, soft: F64, ranks: F64, ease: bool) -> F64:
    """(n,) how much of a mover each unit has, by its rank, 0 to 1; reach, soft (n,) or (1,)."""
    hard = (reach >= 1) | (reach > ranks)
    t = np.clip((reach * (1 + soft) - ranks) / np.maximum(soft, 1e-6), 0.0, 1.0)
    return np.where(soft < 1e-6, hard, t * t * (3 - 2 * t) if ease else t)
