"""Changes to the letters of a title: its words, what some of them have of their own, its layers, and how it arrives and leaves."""

from typing import Any, NamedTuple

import msgspec
import numpy as np

from ..basics.errors import UserError
from ..basics.geometry import F64, vector
from ..basics.keyed import Key, Keyed, constant
from ..evaluate.lettering import title_face
from ..evaluate.objects import pose_of
from ..scene.poses import moved
from ..shape.drawings import drawing_parts
from ..shape.face_files import OpenedFace, known_here, stored
from ..shape.outlines import axes_in
from ..shot.document import Shot
from ..shot.motion import with_things
from ..shot.objects import AXES_OF_FACES, Bend, Extruded, FaceAxis, Kern, Layer, Logo, Mover, Pull, Relief, Smear, Style, Title, Twist, Wave
from .arrange import find, new_id


class Passage(NamedTuple):
    """How letters arrive, and the other way round leave. leaving: what that is called then; does: what a mover does to a letter that is not there."""

    leaving: str
    does: dict[str, Any]


# by what they are called where letters arrive (our own choices)
PASSAGES = {
    "Rise from the ground": Passage("Sink into the ground", {"shift": constant(0.0, 0.0, -1.4)}),
    "Settle from above": Passage("Lift away", {"shift": constant(0.0, 0.0, 0.7), "turn": constant(0.0, -25.0, 0.0), "opacity": constant(0.0)}),
    "Unfold about the base line": Passage("Fold about the base line", {"turn": constant(0.0, -92.0, 0.0), "opacity": constant(0.0)}),
    "Grow": Passage("Shrink", {"size": constant(0.0), "about": "middle"}),
    "Type": Passage("Erase", {"opacity": constant(0.0), "soft": constant(0.0), "ease": False}),
    "Gather": Passage("Scatter", {"spacing": constant(1.2), "opacity": constant(0.0), "order": "from the ends"}),
    "Burn in": Passage("Burn out", {"opacity": constant(0.0), "tint": constant(1.0), "soft": constant(1.5), "order": "shuffled"}),
}
LENGTH = 20  # frames, or less where the title is there for less


def passage_label(kind: str, leaves: bool) -> str:
    """What one of PASSAGES is called where letters arrive by it, or leave."""
    return f"Leave: {PASSAGES[kind].leaving.lower()}" if leaves else f"Arrive: {kind.lower()}"


def retyped(shot: Shot, id_: str, text: str) -> Shot:
    """The title with other words; what some of its letters have of their own goes with them, and what is typed within has it too."""
    title = find(shot, id_)
    if not isinstance(title, Title) or title.text == text:
        return shot
    old, new = title.text, text
    same = next((k for k, (a, b) in enumerate(zip(old, new)) if a != b), min(len(old), len(new)))
    tail = next((k for k, (a, b) in enumerate(zip(reversed(old[same:]), reversed(new[same:]))) if a != b), min(len(old), len(new)) - same)
    shift, end, fresh = len(new) - len(old), len(old) - tail, len(new) - tail - 1  # letters from `same` up to `end` became those up to `fresh`
    first_now = lambda k: k if k < same else k + shift if k >= end else same
    last_now = lambda k: k if k < same else k + shift if k >= end else fresh

    def moved(style: Style) -> Style | None:
        first, last = first_now(style.first), last_now(style.last)
        return msgspec.structs.replace(style, first=first, last=last) if last >= first else None

    kept = tuple(s for s in (moved(style) for style in title.styles) if s is not None)
    kerns = tuple(k if k.letter < same else msgspec.structs.replace(k, letter=k.letter + shift) for k in title.kerns if not same <= k.letter < end)
    return with_things(shot, {id_: msgspec.structs.replace(title, text=text, styles=kept, kerns=kerns)})


def style_at(title: Title, letter: int) -> Style:
    """What a letter has of its own."""
    found = next((s for s in reversed(title.styles) if s.first <= letter <= s.last), None)
    return found or Style(first=letter, last=letter)


def styled(shot: Shot, id_: str, first: int, last: int, **fields: Any) -> Shot:
    """The title with fields of `Style` changed for the letters from first to last, both counted; they keep what else they have."""
    title = find(shot, id_)
    if not isinstance(title, Title) or last < first:
        return shot
    changed = []
    # runs of letters within that have the same of their own are changed one by one, so that each keeps the rest of it
    begin = first
    for letter in range(first, last + 1):
        if letter == last or _without_place(style_at(title, letter + 1)) != _without_place(style_at(title, begin)):
            changed.append(msgspec.structs.replace(style_at(title, begin), first=begin, last=letter, **fields))
            begin = letter + 1
    return with_things(shot, {id_: msgspec.structs.replace(title, styles=_tidied((*_cut_out(title.styles, first, last), *changed)))})


def unstyled(shot: Shot, id_: str, first: int, last: int) -> Shot:
    """The title with nothing of their own for the letters from first to last."""
    title = find(shot, id_)
    if not isinstance(title, Title):
        return shot
    return with_things(shot, {id_: msgspec.structs.replace(title, styles=_cut_out(title.styles, first, last))})


def kerned(shot: Shot, id_: str, letter: int, by: float) -> Shot:
    """The title with so much extra room, in ems, after one of its letters."""
    title = find(shot, id_)
    if not isinstance(title, Title):
        return shot
    rest = tuple(k for k in title.kerns if k.letter != letter)
    kerns = tuple(sorted((*rest, Kern(letter=letter, by=by)), key=lambda k: k.letter)) if by else rest
    return with_things(shot, {id_: msgspec.structs.replace(title, kerns=kerns)})


def _without_place(style: Style) -> Style:
    return msgspec.structs.replace(style, first=0, last=0)


def _cut_out(styles: tuple[Style, ...], first: int, last: int) -> tuple[Style, ...]:
    """The styles less what they say of the letters from first to last."""
    found = []
    for style in styles:
        for a, b in ((style.first, min(style.last, first - 1)), (max(style.first, last + 1), style.last)):
            if a <= b:
                found.append(msgspec.structs.replace(style, first=a, last=b))
    return tuple(found)


def _tidied(styles: tuple[Style, ...]) -> tuple[Style, ...]:
    """In order, without those that say nothing, and neighbours that say the same as one."""
    found: list[Style] = []
    for style in sorted(styles, key=lambda s: s.first):
        if _without_place(style) == Style(first=0, last=0):
            continue
        if found and found[-1].last + 1 == style.first and _without_place(found[-1]) == _without_place(style):
            found[-1] = msgspec.structs.replace(found[-1], last=style.last)
        else:
            found.append(style)
    return tuple(found)


# layers and movers ---------------------------------------------------------------------------------------------------------------

LAYERS: dict[str, dict[str, Any]] = {
    "Darker back": {"label": "Darker back", "offset": constant(0.05, 0.35, -0.04), "colour": (0.13, 0.14, 0.16)},
    "Edge that stands out": {
        "label": "Edge",
        "offset": constant(0.0, 0.12, 0.0),
        "grow": constant(0.05),
        "depth": constant(0.4),
        "colour": (0.95, 0.72, 0.29),
    },
    "Outline": {"label": "Outline", "offset": constant(0.0, -0.2, 0.0), "wall": constant(0.02), "depth": constant(0.3), "colour": (0.95, 0.95, 0.93)},
}


def with_layer(shot: Shot, id_: str, kind: str) -> tuple[Shot, str]:
    """The object with one layer more, of a kind of LAYERS; with the layer's id."""
    item = find(shot, id_)
    if not isinstance(item, Extruded):
        raise UserError(f"{item.name} has no outlines that could stand there once more.", "Choose a title or a logo.")
    new = Layer(id=new_id(), **LAYERS[kind])
    return with_things(shot, {id_: msgspec.structs.replace(item, layers=(*item.layers, new))}), new.id


DEFORMS: dict[str, tuple[type[Smear | Pull | Wave | Twist | Bend], str]] = {
    "Smear": (Smear, "What lies round a point is dragged to another place"),
    "Pull": (Pull, "What lies round a point is drawn to it, or pushed away"),
    "Wave": (Wave, "A wave runs along the lines"),
    "Twist": (Twist, "Turned more and more from one end to the other"),
    "Bend": (Bend, "Laid on a cylinder"),
}


def with_deform(shot: Shot, id_: str, kind: str) -> tuple[Shot, str]:
    """The object with one deformation more, of a kind of DEFORMS; with the deformation's id."""
    item = find(shot, id_)
    if not isinstance(item, Extruded):
        raise UserError(f"{item.name} is no title or logo, so nothing deforms it.", "Choose a title or a logo.")
    new = DEFORMS[kind][0](id=new_id())
    return with_things(shot, {id_: msgspec.structs.replace(item, deforms=(*item.deforms, new))}), new.id


def with_face_of(shot: Shot, id_: str, face: OpenedFace, path: str) -> Shot:
    """The title set in a face of a file, which is kept in the shot where its licence lets it; else the file is named. Faces that no title is set in any
    more are let go."""
    title = find(shot, id_)
    if not isinstance(title, Title):
        raise UserError(f"{title.name} has no letters.", "Choose a title.")
    kept = stored(face)
    faces = shot.faces
    if kept is not None:
        known_here((kept,))
        faces = (*(f for f in faces if f.name != kept.name), kept)
    name = kept.name if kept is not None else f"{path}#{face.number}"
    shot = with_things(shot, {id_: msgspec.structs.replace(title, face=name)})
    asked = {name for o in shot.objects if isinstance(o, Title) for name in (o.face, *(s.face for s in o.styles))}
    return msgspec.structs.replace(shot, faces=tuple(f for f in faces if f.name in asked))


def with_face_axis(shot: Shot, id_: str, name: str) -> tuple[Shot, str]:
    """The title with one axis of its face more as a value that can be keyed, of AXES_OF_FACES; with its id. Raises UserError where the face has none."""
    title, tag = find(shot, id_), AXES_OF_FACES[name]
    if not isinstance(title, Title):
        raise UserError(f"{title.name} has no letters.", "Choose a title.")
    known = axes_in(title_face(title))
    if tag not in known:
        has = ", ".join(known) or "none, it is no variable face"
        raise UserError(f"The face {title.face} has no axis of {name.lower()}; its axes: {has}.", "Choose a variable face.")
    if any(axis.tag == tag for axis in title.face_axes):
        return shot, next(axis.id for axis in title.face_axes if axis.tag == tag)
    new = FaceAxis(id=new_id(), tag=tag, value=constant(known[tag][1]))
    return with_things(shot, {id_: msgspec.structs.replace(title, face_axes=(*title.face_axes, new))}), new.id


def with_reliefs(shot: Shot, id_: str) -> Shot:
    """The logo with each colour of its drawing as a solid of its own, in that colour, later ones a little before earlier ones; those that are
    there stay as they are. Raises UserError where the drawing has one colour only."""
    logo = find(shot, id_)
    if not isinstance(logo, Logo):
        return shot
    parts = drawing_parts(logo.svg, logo.lines)
    if len(parts) < 2:
        raise UserError("The drawing has one colour only, so it is one solid.", "Give its parts colours of their own where they shall differ.")
    known = {relief.fill: relief for relief in logo.reliefs}
    made = lambda fill, k: Relief(
        id=new_id(), fill=fill, colour=_rgb(fill) or logo.colour, forward=constant(round(0.02 * k, 3)), metal=logo.metal, roughness=logo.roughness
    )
    reliefs = tuple(known.get(fill) or made(fill, k) for k, (fill, _) in enumerate(parts))
    return with_things(shot, {id_: msgspec.structs.replace(logo, reliefs=reliefs)})


def _rgb(fill: str) -> tuple[float, float, float] | None:
    return (int(fill[1:3], 16) / 255, int(fill[3:5], 16) / 255, int(fill[5:7], 16) / 255) if len(fill) == 7 else None


def with_mover(shot: Shot, id_: str, mover: Mover) -> Shot:
    """The title with one mover more."""
    title = find(shot, id_)
    if not isinstance(title, Title):
        raise UserError(f"{title.name} has no letters that could move one by one.", "Choose a title.")
    return with_things(shot, {id_: msgspec.structs.replace(title, movers=(*title.movers, mover))})


def with_passage(shot: Shot, id_: str, kind: str, leaves: bool = False) -> tuple[Shot, str]:
    """The title arriving, or leaving, in a way of PASSAGES, in place of how it did before; with the id of the mover that does it."""
    title = find(shot, id_)
    if not isinstance(title, Title):
        raise UserError(f"{title.name} has no letters that could move one by one.", "Choose a title.")
    first, last = title.span or (shot.first, shot.last)
    length = min(LENGTH, max((last - first) // 2, 1))
    a, b = (last - length, last) if leaves else (first, first + length)
    role = "leave" if leaves else "arrive"
    leaving, does = PASSAGES[kind]
    order = does.get("order", "reading")
    # the first letters come first: those in hand last are let go of first
    turned = {"reading": "reversed", "from the ends": "from the middle"}.get(order, order)
    reach = Keyed((0.0,), (Key(float(a), (0.0 if leaves else 1.0,), "linear"), Key(float(b), (1.0 if leaves else 0.0,), "linear")))
    called = f"{leaving if leaves else kind} ({role}s)"
    mover = Mover(id=new_id(), label=called, role=role, reach=reach, **{**does, "order": order if leaves else turned})  # type: ignore[arg-type]
    rest = tuple(m for m in title.movers if m.role != role)
    return with_things(shot, {id_: msgspec.structs.replace(title, movers=(*rest, mover))}), mover.id


def moved_child(shot: Shot, id_: str, field: str, child: str, by: int) -> Shot:
    """The object with one of its layers or movers earlier (by < 0) or later among them."""
    item = find(shot, id_)
    own = list(getattr(item, field))
    at = next((k for k, one in enumerate(own) if one.id == child), None)
    if at is None:
        return shot
    to = min(max(at + by, 0), len(own) - 1)
    own.insert(to, own.pop(at))
    return with_things(shot, {id_: msgspec.structs.replace(item, **{field: tuple(own)})})


def with_path(shot: Shot, id_: str, frame: float, places: F64, normal: F64) -> Shot:
    """The title with its words on a path through places (n, 3) of the scene, on a surface with this normal (3,) there."""
    title = find(shot, id_)
    if not isinstance(title, Title) or len(places) < 2:
        return shot
    back = np.linalg.inv(pose_of(shot, title, frame))
    own = back[:3, :3] @ normal
    return with_things(shot, {id_: msgspec.structs.replace(title, path=_plain(moved(back, places)), path_normal=vector(own / np.linalg.norm(own)))})


def with_path_point(shot: Shot, id_: str, frame: float, number: int, to: F64) -> Shot:
    """One point of a title's path elsewhere, (3,) in the scene."""
    title = find(shot, id_)
    if not isinstance(title, Title) or 3 * number >= len(title.path):
        return shot
    points = np.array(title.path).reshape(-1, 3)
    points[number] = moved(np.linalg.inv(pose_of(shot, title, frame)), to)
    return with_things(shot, {id_: msgspec.structs.replace(title, path=_plain(points))})


def without_path_point(shot: Shot, id_: str, number: int) -> Shot:
    """A title's path without one of its points; two are left at least."""
    title = find(shot, id_)
    if not isinstance(title, Title) or len(title.path) <= 6:
        return shot
    points = np.delete(np.array(title.path).reshape(-1, 3), number, 0)
    return with_things(shot, {id_: msgspec.structs.replace(title, path=_plain(points))})


def _plain(points: F64) -> tuple[float, ...]:
    return tuple(float(round(v, 5)) for v in points.ravel())
