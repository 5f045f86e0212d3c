"""Our layers in a frame, and what passes in front of them."""

import functools
from collections.abc import Callable
from typing import NamedTuple

import msgspec
import numpy as np

from ..basics.colour import decode, in_primaries, in_working
from ..evaluate.cameras import camera_at
from ..evaluate.carrying import outline_at
from ..evaluate.ground import ground_items, on_ground
from ..evaluate.lights import lights_at
from ..evaluate.objects import items_of, objects_at
from ..matte.key import Keyer
from ..matte.sources import Source, View, matte_of
from ..media.pictures import picture_frame
from ..projection.camera import Camera
from ..render.engine import Layers, Quality
from ..render.items import Item
from ..shot.document import Shot
from ..shot.objects import Object, Solid
from .around import around_frame
from .clean import clean_light
from .composite import shade_of
from .edges import box, smooth
from .plate import Size, plate_light
from .workshop import Workshop

FAINT = 1e-6  # share that a mirror sends back where it is to be there and yet shows nothing
FREE, ROUND_PX = 0.02, 60.0  # share of a px that nothing passes in front of; px of the plate round what does, whose light stands for it


class Ours(NamedTuple):
    """colour (h, w, 4): our things, premultiplied linear light. shade (h, w, 3): factor on the plate's light. before_things,
    before_shadow (h, w): what passes in front of the one and of the other, and is still to be cut out. cover, front (h, w): how much of a px our
    things cover, and what of it passes in front, cut out or not. All over the part that begins at (top, left)."""

    colour: np.ndarray
    shade: np.ndarray
    before_things: np.ndarray
    before_shadow: np.ndarray
    cover: np.ndarray
    front: np.ndarray
    top: int
    left: int


def matte(shot: Shot, workshop: Workshop, index: int, size: Size, names: tuple[str, ...] | None = None) -> np.ndarray:
    """(height, width) float32 of the mattes with these ids, where they are on; of all that are on for None."""
    return _matte(shot, workshop, index, size, tuple(m for m in shot.mattes if m.on and (names is None or m.id in names)))


def matte_named(shot: Shot, workshop: Workshop, index: int, size: Size, names: tuple[str, ...]) -> np.ndarray:
    """As `matte`, of those that are off too."""
    return _matte(shot, workshop, index, size, tuple(msgspec.structs.replace(m, on=True) for m in shot.mattes if m.id in names))


def _matte(shot: Shot, workshop: Workshop, index: int, size: Size, sources: tuple[Source, ...]) -> np.ndarray:
    plate = shot.plate
    assert plate is not None
    light = lambda: in_working(plate_light(shot, workshop, index, size), plate.colour.primaries)
    corners = lambda outline: outline_at(shot, outline, index)
    solved = shot.solve is not None and index in shot.solve.frames
    clean = (lambda: clean_light(shot, workshop, index, size)) if solved else None
    around = (lambda: around_frame(shot, workshop, index, size)) if solved else None
    view = View(index, size.width, size.height, size.scale, light, shot.mattes, corners, picture_frame, clean, around)
    refers = lambda m: m.within or m.without or (isinstance(m, Keyer) and m.by == "difference")
    referred = shot.mattes if any(refers(m) for m in sources) else ()
    scene = (shot.solve, shot.ground, shot.backdrop.horizon)
    return workshop.last(f"matte {[m.id for m in sources]}", (plate, sources, referred, scene, index, size), lambda: matte_of(sources, view))


def ours(shot: Shot, workshop: Workshop, index: int, size: Size, quality: Quality, check: Callable[[], None]) -> Ours | None:
    """What our things are in the picture of a frame; None where nothing of them is seen."""
    # a frame without a solved camera shows the plate alone
    things = objects_at(shot, index) if shot.solve is None or index in shot.solve.frames else []
    if not any(thing.drawn for thing in things):
        return None
    items = {thing.id: items_of(shot, thing, index) for thing in things}
    whole = _render(shot, workshop, index, size, quality, things, items, check)
    if whole is None:
        return None
    assert shot.plate is not None
    render = lambda some: _render(shot, workshop, index, size, quality, things, some, check)
    whole = _in_plate(_limited(shot, workshop, index, size, things, items, whole, render), shot.plate.colour.primaries)
    shadow = shot.shadow
    density = float(np.clip(shadow.density.at(index)[0], 0, 1))
    shade = shade_of(whole.light_with, whole.light_without, density, np.array(shadow.tint, np.float32))
    part = _part(whole)
    cut = lambda names: np.ascontiguousarray(matte(shot, workshop, index, size, names)[part])
    groups = _by_mattes(shot, [t for t in things if t.drawn])
    colour = whole.colour
    before_things = front = cut(next(iter(groups)))
    if len(groups) > 1:
        colour, front = _each_cut(shot, workshop, index, size, quality, things, items, groups, whole, cut, check)
        before_things = np.zeros_like(before_things)
    return Ours(colour, shade, before_things, cut(_on(shot, shadow.mattes)), whole.colour[..., 3], front, whole.top, whole.left)


def light_pass(shot: Shot, workshop: Workshop, index: int, size: Size, quality: Quality, what: str, check: Callable[[], None]) -> np.ndarray:
    """What goes into the picture, told apart, at the size of the picture; linear light in the primaries of Rec.709.

    what: 'with' or 'without' (h, w, 3): the light on what receives it, with our things there and without them, of which the plate
    is multiplied by the ratio; 0 where none is received or nothing of ours changes it. 'reflection' (h, w, 4): our things as
    mirrors show them, premultiplied, without what passes in front. 'depth' (h, w): of what is seen of ours, along the view,
    in the scene's units; infinite where nothing is.
    """
    deep = {"reflection": (4,), "depth": ()}.get(what, (3,))
    result = np.full((size.height, size.width, *deep), np.inf if what == "depth" else 0.0, np.float32)
    things = objects_at(shot, index) if shot.solve is None or index in shot.solve.frames else []
    if not any(thing.drawn for thing in things):
        return result
    items = {thing.id: items_of(shot, thing, index) for thing in things}
    render = lambda some: _render(shot, workshop, index, size, quality, things, some, check)
    if what in ("with", "without"):
        whole = render(items)
        if whole is not None:
            result[_part(whole)] = whole.light_with if what == "with" else whole.light_without
        return result
    direct = render({name: [item._replace(mirrored=False) for item in own] for name, own in items.items()})
    if what == "depth":
        if direct is not None:
            result[_part(direct)] = direct.depth()
        return result
    whole = render(items)
    if whole is not None:
        result[_part(whole)] = _limited(shot, workshop, index, size, things, items, whole, render).colour
    if direct is not None:
        result[_part(direct)] -= direct.colour
    return np.maximum(result, 0) * (1 - matte(shot, workshop, index, size)[..., None])


def _limited(
    shot: Shot,
    workshop: Workshop,
    index: int,
    size: Size,
    things: list[Object],
    items: dict[str, list[Item]],
    whole: Layers,
    render: Callable[[dict[str, list[Item]]], Layers | None],
) -> Layers:
    """The layers with what mirrors show in the tint of each, inside the mattes of each: those that have neither cost nothing.

    What one mirror shows is the picture in which it alone mirrors, less the one in which none does; the light that a mirror sends back
    is so little changed by it that the light on the place stays as it is.
    """
    mirrors = [t for t in things if isinstance(t, Solid) and any(item.reflects > 0 and not item.drawn for item in items[t.id])]
    known = {m.id for m in shot.mattes}
    ways = {t.id: (tuple(name for name in t.mirror_inside if name in known), t.mirror_tint) for t in mirrors}
    if all(way == ((), (1.0, 1.0, 1.0)) for way in ways.values()):
        return whole

    def dim(kept: object) -> dict[str, list[Item]]:
        """The items, where mirrors of another way than this one are there and yet show nothing."""
        faint = {name for name, way in ways.items() if way != kept}
        return {name: [item._replace(reflects=FAINT) for item in own] if name in faint else own for name, own in items.items()}

    def placed(layers: Layers | None) -> np.ndarray:
        own = np.zeros((size.height, size.width, 4), np.float32)
        if layers is not None:
            own[_part(layers)] = layers.colour
        return own[_part(whole)]

    without = placed(render(dim(None)))
    colour = without.copy()
    for way in dict.fromkeys(ways.values()):
        inside, tint = way
        cover = matte_named(shot, workshop, index, size, inside)[_part(whole)] if inside else np.ones(colour.shape[:2], np.float32)
        shown = placed(render(dim(way))) - without
        shown[..., :3] *= decode(np.array(tint), "srgb").astype(np.float32)
        colour += shown * cover[..., None]
    return whole._replace(colour=np.ascontiguousarray(np.maximum(colour, 0)))


def _in_plate(layers: Layers, primaries: str) -> Layers:
    """Layers in the primaries of the plate, over whose light they come."""
    if primaries == "bt709":
        return layers
    colour = np.concatenate([in_primaries(layers.colour[..., :3], primaries), layers.colour[..., 3:]], -1)
    return layers._replace(
        colour=np.ascontiguousarray(colour),
        light_with=np.ascontiguousarray(in_primaries(layers.light_with, primaries)),
        light_without=np.ascontiguousarray(in_primaries(layers.light_without, primaries)),
    )


def _part(layers: Layers) -> tuple[slice, slice]:
    h, w = layers.colour.shape[:2]
    return slice(layers.top, layers.top + h), slice(layers.left, layers.left + w)


def _on(shot: Shot, names: tuple[str, ...] | None) -> tuple[str, ...]:
    """Ids of those mattes that are on and meant: None means all that hide."""
    return tuple(m.id for m in shot.mattes if m.on and (m.hides if names is None else m.id in names))


def _by_mattes(shot: Shot, drawn: list[Object]) -> dict[tuple[str, ...], list[Object]]:
    """Drawn objects by the mattes that stand before them."""
    groups: dict[tuple[str, ...], list[Object]] = {}
    for thing in drawn:
        groups.setdefault(_on(shot, thing.mattes), []).append(thing)
    return groups


def _render(
    shot: Shot,
    workshop: Workshop,
    index: int,
    size: Size,
    quality: Quality,
    things: list[Object],
    items: dict[str, list[Item]],
    check: Callable[[], None],
) -> Layers | None:
    @functools.cache
    def camera(share: float) -> Camera:
        return camera_at(shot, index + share).scaled(size.scale)

    solid = on_ground([item for own in items.values() for item in own])
    lights = lights_at(shot, index)
    ground = ground_items(shot, things, solid, camera(0.0).centre, lights)
    plate = lambda: _place_light(shot, workshop, index, size)
    return workshop.engine.render([*solid, *ground], lights, camera, size[:2], quality, check, plate)


def _place_light(shot: Shot, workshop: Workshop, index: int, size: Size) -> np.ndarray:
    """(h, w, 3) linear light of the frame that was filmed, for what mirrors it or is seen through: without what passes in front of our things, in place
    of which there is the mean of what is around it."""
    light, cover = plate_light(shot, workshop, index, size), matte(shot, workshop, index, size, _on(shot, None))
    assert shot.plate is not None
    if cover.any():
        x0, y0, x1, y1 = box(cover, int(np.ceil(ROUND_PX * size.scale)))
        here = slice(y0, y1), slice(x0, x1)
        around, known = smooth(light[here], cover[here] < FREE, size.scale)
        light = light.copy()
        light[here] = np.where((known & (cover[here] >= FREE))[..., None], around, light[here])
    return in_working(light, shot.plate.colour.primaries)


def _each_cut(
    shot: Shot,
    workshop: Workshop,
    index: int,
    size: Size,
    quality: Quality,
    things: list[Object],
    items: dict[str, list[Item]],
    groups: dict[tuple[str, ...], list[Object]],
    whole: Layers,
    cut: Callable,
    check: Callable[[], None],
) -> tuple[np.ndarray, np.ndarray]:
    """(h, w, 4) our things with what passes in front taken out, where objects stand behind different mattes; and (h, w) what that is.

    Which group is seen in a pixel is told by a picture for each in which all others only hide. Where one alone is seen, its
    colour is that of the whole picture, with the shadows of all; on the seams, one pixel wide, each has that of its own picture.
    """
    cover, most, hidden = (np.zeros(whole.colour.shape[:2], np.float32) for _ in range(3))
    seams = np.zeros_like(whole.colour)
    for names, group in groups.items():
        ids = {thing.id for thing in group}
        # a picture with holes would hide as a whole card: it is left out
        alone = {
            i: [item if i in ids or not item.drawn else item.only_hiding() for item in own if i in ids or item.picture is None]
            for i, own in items.items()
        }
        part = _render(shot, workshop, index, size, quality, things, alone, check)
        if part is None:
            continue
        own = np.zeros((size.height, size.width, 4), np.float32)
        own[_part(part)] = _in_plate(part, shot.plate.colour.primaries).colour  # type: ignore[union-attr]
        own, before = own[_part(whole)], cut(names)
        alpha = own[..., 3]
        hidden = np.where(alpha > most, before, hidden)
        most, cover = np.maximum(alpha, most), cover + alpha
        seams += own * (1 - before[..., None])
    alone_there = (most >= 0.999 * cover)[..., None]
    return np.ascontiguousarray(np.where(alone_there, whole.colour * (1 - hidden[..., None]), seams)), hidden
