"""The objects of a shot at a time: where each stands, its solid, its box, and what the renderer is given of it."""

import contextlib
import functools
import math
from collections.abc import Callable, Iterable
from typing import NamedTuple

import msgspec
import numpy as np

from ..basics.colour import decode
from ..basics.errors import UserError
from ..basics.identity import Same
from ..media.pictures import picture_problem
from ..media.tiles import unpacked, unpacked_maps
from ..projection.camera import Camera
from ..render.items import Finish, Item, Texture
from ..render.textures import ALONG, NAMES, RIPPLES, UPWARD
from ..scene.poses import pose_matrix, size_of
from ..shape.extrude import Mesh
from ..shape.solids import joined
from ..shot.document import Shot
from ..shot.objects import SURFACED, Extruded, Object, Relief, Solid, Surface, ancestors, is_there, owned
from .cameras import camera_at, seconds_at
from .kinds import EMPTY, kind_of, movie_frame
from .lettering import IN_PLACE, Part, shifted

GRAVITY = 9.81  # m/s^2


class Laid(NamedTuple):
    """What is laid over a thing, or parts of it. picture: (h, w, 4) uint8; maps, gives: as of `Texture`."""

    picture: np.ndarray | None
    maps: np.ndarray | None
    gives: tuple[bool, bool]


def pose_of(shot: Shot, item: Object, frame: float) -> np.ndarray:
    """(4, 4) read-only: from an object's own axes, in metres, to the scene, through all of its parents."""
    return _pose(_chain(shot, item), frame)


def _chain(shot: Shot, item: Object) -> tuple[Same, ...]:
    """The object and its parents, nearest first."""
    return (Same(item), *map(Same, ancestors(shot.objects, item)))


@functools.lru_cache(maxsize=128)
def _pose(chain: tuple[Same, ...], frame: float) -> np.ndarray:
    """Kept, since each picture and each painting of handles asks some twenty times for the same."""
    m = np.eye(4)
    for one in (same.of for same in chain):
        m = pose_matrix(one.position.at(frame), one.turn.at(frame), one.size.at(frame)[0], one.pivot) @ m
    m.flags.writeable = False
    return m


def model_of(shot: Shot, item: Object, frame: float) -> np.ndarray:
    """(4, 4) from the axes of the object's mesh (`mesh_of`) to the scene."""
    return pose_of(shot, item, frame) @ kind_of(item).stretch(item, frame)


def mesh_of(item: Object, frame: float) -> Mesh:
    """All solids of the object as one, in the axes that `model_of` takes; empty where it has none."""
    parts = kind_of(item).parts(item, frame)
    if len(parts) == 1 and parts[0].place is IN_PLACE:
        return parts[0].mesh
    key = tuple((id(part.mesh), part.place.tobytes()) for part in parts)
    kept = _joined.get(key)
    if kept is None:
        while len(_joined) >= MOST_JOINED:
            _joined.pop(next(iter(_joined)), None)
        # the parts are kept with it, so that no other mesh takes their names
        kept = _joined[key] = (parts, joined([(part.mesh, part.place) for part in parts]))
    return kept[1]


def at_rest(item: Object) -> Object:
    """The object's own solid, without its layers, with letters where and as they stand when nothing moves or deforms them."""
    found = {name: () for name in owned(item) if name in ("layers", "movers", "deforms")}
    return msgspec.structs.replace(item, **found) if found else item


def fineness(shot: Shot, thing: Object, frame: float) -> int:
    """How often the curves of a thing are made four times as true, so that none is seen as chords: by the largest that it is in the picture, at this
    frame or while it is there, so that its outline does not change as it comes nearer."""
    if not isinstance(thing, Extruded) or shot.plate is None:
        return 0
    off = CHORD_ERROR * max(_largest_px(shot, thing), _height_px(shot, thing, (frame,), _eyes_of([camera_at(shot, frame)])))
    return int(np.clip(np.ceil(np.log(max(off / UNSEEN_PX, 1e-9)) / np.log(4)), 0, FINEST))


_largest: tuple[Shot | None, dict[str, float]] = (None, {})  # of the last shot, px by the ids of its things


def _largest_px(shot: Shot, thing: Object) -> float:
    """How high a thing becomes in the picture, at most, by a few frames of the solve."""
    global _largest
    of, known = _largest
    if of is not shot:
        known = {}
        _largest = shot, known
    if thing.id not in known:
        found = 0.0
        if shot.solve is not None:
            frames, eyes = _sampled_eyes(shot)
            there = np.array([is_there(thing, f) for f in frames])
            found = _height_px(shot, thing, frames[there], eyes[there]) if there.any() else 0.0
        known[thing.id] = found  # once it is known: other threads ask, too
    return known[thing.id]


_eyes: dict = {}


def _sampled_eyes(shot: Shot) -> tuple[np.ndarray, np.ndarray]:
    """Frames of the solve, and `_eyes_of` their cameras; kept for the last solve and ground."""
    name = (Same(shot.solve), shot.ground)
    kept = _eyes.get(name)
    if kept is None:
        frames = np.asarray(shot.solve.frames)[np.linspace(0, len(shot.solve.frames) - 1, SIZES_ASKED).round().astype(int)]  # type: ignore[union-attr]
        kept = frames, _eyes_of([camera_at(shot, float(f)) for f in frames])
        _eyes.clear()
        _eyes[name] = kept
    return kept


def _eyes_of(cameras: list[Camera]) -> np.ndarray:
    """(n, 5) of each: what gives the depth of a point, and its focal length, px."""
    return np.array([(*camera.R[2], camera.t[2], camera.lens.fy) for camera in cameras])


def _height_px(shot: Shot, thing: Object, frames: Iterable[float], eyes: np.ndarray) -> float:
    """How high a thing would be in the picture of one of the cameras where it is nearest to it."""
    chain, frames = (thing, *ancestors(shot.objects, thing)), list(frames)
    if not any(getattr(one, name).keys for one in chain for name in ("position", "turn", "size")) and not thing.height.keys:  # type: ignore[union-attr]
        frames = frames[:1]  # it stands still
    found = 0.0
    for k, frame in enumerate(frames):
        own = eyes if len(frames) == 1 else eyes[k : k + 1]
        pose, (low, high) = pose_of(shot, thing, frame), box_of(thing, frame)
        corners = np.where(np.indices((2, 2, 2)).reshape(3, -1).T, high, low) @ pose[:3, :3].T + pose[:3, 3]
        tall = thing.height.at(frame)[0] * float(np.linalg.norm(pose[:3, 2]))  # type: ignore[union-attr]
        depth = (own[:, :3] @ corners.T + own[:, 3:4]).min(1)
        found = max(found, float((own[:, 4] * tall / np.maximum(depth, max(0.1 * tall, 1e-9))).max()))
    return found


SIZES_ASKED = 9  # frames at which a thing is asked for how large it is
CHORD_ERROR = 0.0017  # heights: by which curves of letters are off, as they are made at first
UNSEEN_PX, FINEST = 0.3, 2
MOST_JOINED = 32
MAY_BE_NOTHING = ("bevel", "bevel_height", "rounding", "wall", "panel")
_joined: dict[tuple, tuple[list[Part], Mesh]] = {}


def box_of(item: Object, frame: float) -> tuple[np.ndarray, np.ndarray]:
    """Low and high corner (3,), read-only, of the object in its own axes, in metres. Quick, for handles: no solid is made for it."""
    return _box(Same(item), frame)


@functools.lru_cache(maxsize=128)
def _box(item: Same, frame: float) -> tuple[np.ndarray, np.ndarray]:
    low, high = kind_of(item.of).box(item.of, frame)
    low.flags.writeable = high.flags.writeable = False
    return low, high


def problem_of(item: Object, frame: float) -> str:
    """What keeps the object from being drawn as it should be; empty when nothing does."""
    for name in ("size", *(name for name in item.LENGTHS if name not in MAY_BE_NOTHING)):
        value = getattr(item, name)
        # one that is keyed may well grow out of nothing
        if not value.keys and min(value.value) <= 0:
            return f"Its {name} is {min(value.value):g}, so there is nothing to see. Give it more than 0."
    laid = item.texture_movie if isinstance(item, Solid) and item.texture == "picture" else ""
    if laid and (problem := picture_problem(laid)):
        return f"{problem} Its first picture is shown in its place."
    return kind_of(item).problem(item, frame)


def objects_at(shot: Shot, frame: float) -> list[Object]:
    """Those that are there at a frame and have something to draw, to catch or to hide."""
    return [o for o in shot.objects if is_there(o, frame) and o.BODY and (o.drawn or o.receives or o.hides or o.reflects.at(frame)[0] > 0)]


_items: tuple[tuple, dict[str, tuple[tuple[Same, ...], list[Item]]]] = ((), {})  # of the last frame and scene, by the ids of things


def items_of(shot: Shot, thing: Object, index: int) -> list[Item]:
    """What the renderer is given of an object that has a body: an item for each of its solids. Kept for the last frame, since while one thing is
    dragged the others stay as they are."""
    global _items
    scene, (of, known) = (Same(shot.plate), Same(shot.solve), Same(shot.ground), index), _items
    if of != scene:
        known = {}
        _items = scene, known
    chain = _chain(shot, thing)
    found = known.get(thing.id)
    if found is not None and found[0] == chain:
        return found[1]
    items = _items_of(shot, thing, index)
    if not getattr(thing, "texture_movie", "") and all(item.picture is None for item in items):  # a file may change
        known[thing.id] = chain, items
    return items


def _items_of(shot: Shot, thing: Object, index: int) -> list[Item]:
    kind = kind_of(thing)
    thing = kind.still(thing, index)
    assert isinstance(thing, Solid)
    chain = _chain(shot, thing)
    picture = kind.picture(thing, index) if thing.drawn else None
    laid = _laid_over(thing, index) if thing.drawn else None
    base = np.ones(3) if picture is not None and picture.paints else decode(np.array(thing.colour), "srgb")
    parts, low_high = kind.parts(thing, index, fineness(shot, thing, index)), kind.box(thing, index)
    thickness = float(np.sort(low_high[1] - low_high[0])[1]) * size_of(pose_of(shot, thing, index))
    opacity = float(np.clip(thing.opacity.at(index)[0], 0, 1))
    whole = Item(
        EMPTY,
        lambda share: _pose(chain, index + share) @ kind.stretch(thing, index + share),  # without the shot, which these may outlive
        (float(base[0]), float(base[1]), float(base[2])),
        float(np.clip(thing.roughness.at(index)[0], 0.03, 1)),
        float(np.clip(thing.metal.at(index)[0], 0, 1)),
        picture.pixels if picture is not None else None,
        thing.drawn,
        thing.receives,
        thing.hides,
        float(np.clip(thing.reflects.at(index)[0], 0, 1)),
        of=thing.id,
        thickness=thickness,
        opacity=opacity if thing.drawn else 1.0,
        coat=float(np.clip(thing.coat.at(index)[0], 0, 1)),
        clear=float(np.clip(thing.clear.at(index)[0], 0, 1)),
        glow=max(thing.glow.at(index)[0], 0.0),
        parts=_surfaces(thing, index, laid),
        texture=_texture(thing, index, laid) if thing.drawn else _ripples(shot, thing, index),
        scaled=kind.stretch(thing, index),
        fresnel=float(np.clip(thing.fresnel.at(index)[0], 0, 1)),
        fades=max(thing.fades.at(index)[0], 0.0) * size_of(pose_of(shot, thing, index)),
    )
    model = functools.cache(whole.model)  # of all of its parts alike
    if opacity <= 0 and thing.drawn:
        return []
    moving = kind.places(thing, index) is not None
    places = functools.cache(lambda share: model(share) @ kind.places(thing, index + share))  # of all parts at once
    return [_part_item(whole, part, model, places if moving else None, index) for part in parts]


def _surfaces(thing: Solid, index: int, laid: Laid | None) -> tuple[Finish, ...]:
    """How edges, sides and back look; none where all are as the face."""
    own = {s.part: s for s in getattr(thing, "surfaces", ()) if s.on}
    if not own:
        return ()
    return tuple(_finish(own.get(part, thing), index, laid) for part in SURFACED)


def _laid_over(thing: Solid, index: int) -> Laid | None:
    """None where nothing is."""
    if all(one.texture != "picture" for one in (thing, *getattr(thing, "surfaces", ()))):
        return None
    gives = bool(thing.relief_map), bool(thing.roughness_map)
    maps = unpacked_maps(thing.relief_map, thing.roughness_map) if any(gives) else None
    picture = _picture_over(thing, index)
    return None if picture is None and maps is None else Laid(picture, maps, gives)


def _picture_over(thing: Solid, index: int) -> np.ndarray | None:
    with contextlib.suppress(UserError):  # told by `problem_of`; the picture of its first frame stands in for the movie
        if thing.texture_movie:
            return movie_frame(thing, thing.texture_movie, index)
    return unpacked(thing.texture_picture) if thing.texture_picture else None


def _finish(of: Solid | Surface | Relief, index: int, laid: Laid | None = None) -> Finish:
    red, green, blue = (float(v) for v in decode(np.array(of.colour), "srgb"))
    at = lambda name: float(np.clip(getattr(of, name).at(index)[0], 0, 1)) if hasattr(of, name) else 0.0
    rough, metal, coat = at("roughness"), at("metal"), at("coat")
    texture = None if isinstance(of, Relief) else _texture(of, index, laid)
    return Finish((red, green, blue), max(rough, 0.03), metal, coat, max(of.glow.at(index)[0], 0.0), texture, at("clear"))


def _texture(of: Solid | Surface, index: int, laid: Laid | None) -> Texture | None:
    """laid: of `_laid_over`, which the parts of a solid share."""
    over = laid if of.texture == "picture" else None
    if of.texture == "none" or (of.texture == "picture" and over is None):
        return None
    red, green, blue = (float(v) for v in decode(np.array(of.second), "srgb"))
    amount, relief = (float(np.clip(value.at(index)[0], 0, 1)) for value in (of.texture_amount, of.relief))
    size, begins = max(of.texture_size.at(index)[0], 1e-4), of.texture_offset.at(index)
    return Texture(
        NAMES.index(of.texture),
        size,
        (red, green, blue),
        amount,
        relief,
        (-begins[0] / size, 0.0, -begins[1] / size),
        turn=math.radians(of.texture_turn.at(index)[0]),
        **({} if over is None else over._asdict()),
    )


def _ripples(shot: Shot, thing: Solid, index: int) -> Texture | None:
    """Of what mirrors; they run on by the clock, and change about as fast as waves of their size do in deep water (phase speed, handbooks)."""
    high = float(np.clip(thing.ripple.at(index)[0], 0, 0.5))
    if high <= 0 or thing.reflects.at(index)[0] <= 0:
        return None
    size, seconds = max(thing.ripple_size.at(index)[0], 1e-3), seconds_at(shot, index)
    run, way = seconds * thing.flow.at(index)[0] / size, np.deg2rad(thing.flow_to.at(index)[0])
    changed = seconds * np.sqrt(GRAVITY / (2 * np.pi * size))
    return Texture(RIPPLES, size, (0.0, 0.0, 0.0), 0.0, high, (float(run * np.sin(way)), float(-run * np.cos(way)), float(changed)))


def _part_item(whole: Item, part: Part, model: Callable[[float], np.ndarray], places: Callable | None, index: int) -> Item:
    red, green, blue = whole.base if part.colour is None else (float(v) for v in decode(np.array(part.colour), "srgb"))
    if places is not None:
        how: Callable[[float], np.ndarray] = lambda share: places(share)[part.number]
    else:
        how = model if part.place is IN_PLACE else functools.partial(_placed, model, part.place)
    # a colour of its own is that of all its parts
    parts = whole.parts if part.colour is None else tuple(look._replace(base=(red, green, blue)) for look in whole.parts)
    if part.look is not None:
        own = _finish(part.look, index)._replace(base=(red, green, blue), coat=whole.coat)
        whole, parts = whole._replace(roughness=own.roughness, metal=own.metal, glow=own.glow), ()
    # letters are cut from places of their own, so that a pattern stays with a letter that moves; a gradient goes over all of them
    scaled = whole.scaled
    if scaled is not None and part.place is not IN_PLACE:
        graded = any(look.texture is not None and look.texture.kind in (UPWARD, ALONG) for look in whole.looks)
        scaled = scaled @ (part.place if graded else shifted(1.37 * part.number, 0.71 * part.number, 0.0))
    later = None if part.later is None else lambda share: part.later(index + share)  # type: ignore[misc]
    return whole._replace(
        scaled=scaled, mesh=part.mesh, model=how, base=(red, green, blue), opacity=whole.opacity * part.opacity, parts=parts, later=later
    )


def _placed(model: Callable[[float], np.ndarray], place: np.ndarray, share: float) -> np.ndarray:
    return model(share) @ place
