"""Whether a shot makes sense: what a file may hold, with limits, and the place in the document of what it may not.

A file can be of the right types and still be nonsense: keys out of order, a rate of nothing, arrays of other lengths than each
other. All that the program relies on is looked at here, once, when a file is opened.
"""

import itertools
import math
import re
from collections.abc import Iterator
from typing import Any

import msgspec
import numpy as np

from ..basics.colour import MATRICES, PRIMARIES, TRANSFERS
from ..basics.errors import ShotFileError
from ..basics.keyed import EASINGS, Key, Keyed
from ..matte.key import MOST_SAMPLES, Keyer
from ..matte.sources import Pictured
from ..matte.strokes import Brushed
from ..media.plates import PlateInfo
from ..solve.known import AXES
from ..solve.result import MOTIONS, ZOOMS, Solve
from ..track.tracks import Tracks
from .document import Shot
from .motion import LISTS
from .objects import ALIGNS, BACKS, ORDERS, PIVOTS, PROFILES, SURFACED, TEXTURES, UNITS, Extruded, GroundMesh, Object, Solid, Title, owned

# limits, each far above what anybody makes: they keep nonsense from being computed for hours
MOST_LETTERS, MOST_SVG, MOST_PATH = 5_000, 20_000_000, 4_096  # characters of a title's words, of a drawing, of a path
MOST_PLACES = 1000  # points of the path of a title
MOST_PACKED = 8_000_000  # bytes of a picture that is kept in the shot
MOST_TEXT, MOST_ITEMS, MOST_KEYS = 10_000, 10_000, 100_000  # characters of any other text, things in a list, keys of a value
MOST_SIDE, MOST_FRAMES, MOST_SMOOTH = 32_768, 10_000_000, 100  # px, frames of a clip, rounds of smoothing
MOST_SHARE = 1000.0  # of a feather, at one corner
MOST_NUMBERS = 300_000  # in an outline or a ground mesh
MOST_CHILDREN = 200  # layers or movers of an object
BIG = 1e9  # a number larger than this is no place, size or angle


class _Wrong(Exception):
    """where: place in the document; why: what is wrong there."""

    def __init__(self, where: str, why: str) -> None:
        super().__init__(f"{where} {why}")


def checked(shot: Shot, name: str) -> Shot:
    """The shot, when all of it makes sense. name: of its file. Raises ShotFileError that names the place of what does not."""
    try:
        for where, value in _walk(shot, ""):
            _check_plain(where, value)
        _check_range(shot)
        _one_of("solving.motion", shot.solving.motion, ("auto", *MOTIONS))
        _one_of("solving.zoom", shot.solving.zoom, ZOOMS)
        for k, span in enumerate(shot.ground.spans):
            _one_of(f"ground.spans[{k}].along", span.along, ("", *AXES))
        for kind in LISTS:
            for i, item in enumerate(getattr(shot, kind)):
                _check_keyed_like(f"{kind}[{i}]", item)
        for i, item in enumerate(shot.objects):
            _check_object(f"objects[{i}]", item)
            for name, own in owned(item).items():
                _need(len(own) <= MOST_CHILDREN, f"objects[{i}].{name}", f"has {len(own)} entries; {MOST_CHILDREN} are the most")
                for k, child in enumerate(own):
                    _check_keyed_like(f"objects[{i}].{name}[{k}]", child)
        _check_ids(shot)
        if shot.tracks is not None:
            _check_tracks(shot.tracks)
        if shot.solve is not None:
            _check_solve(shot.solve)
    except _Wrong as wrong:
        told = ShotFileError(
            f"{name} cannot be opened: {wrong}.",
            "The file was left as it is. Open an earlier copy, or mend that place: the file is a zip, shot.json its text.",
        )
        told.part = part_of_place(str(wrong))
        raise told from wrong
    return shot


def part_of_place(place: str) -> str:
    """The part of a shot that a place in it belongs to: 'objects[0]' for 'objects[0].size.keys[1]'; empty where there is none that can be
    left out."""
    match = re.match(
        r"(objects|lamps|mattes|regions|finish|markers)\[\d+\]|(tracks|solve|solving|ground|shadow|exposure|focus|backdrop|surroundings|output|follow)\b",
        place,
    )
    return match.group(0) if match else ""


def _need(holds: bool, where: str, why: str) -> None:
    if not holds:
        raise _Wrong(where, why)


def _walk(value: Any, where: str) -> Iterator[tuple[str, Any]]:
    """All that is in a tree of structs and tuples, with its place."""
    if isinstance(value, msgspec.Struct):
        yield where, value
        for field in value.__struct_fields__:
            yield from _walk(getattr(value, field), f"{where}.{field}" if where else field)
    elif isinstance(value, tuple) and not hasattr(value, "_fields"):
        _need(len(value) <= MOST_NUMBERS, where, f"has {len(value):,} entries; {MOST_NUMBERS:,} are the most")
        for i, one in enumerate(value):
            yield from _walk(one, f"{where}[{i}]")
    else:
        yield where, value


def _check_plain(where: str, value: Any) -> None:
    match value:
        case float() | int() if not isinstance(value, bool):
            _need(math.isfinite(value) and abs(value) <= BIG, where, f"is {value:g}, which is no number to work with")
        case str():
            most = MOST_SVG if where.endswith(".svg") else MOST_PATH if where.endswith(("path", "picture", "movie")) else MOST_TEXT
            _need(len(value) <= most, where, f"has {len(value):,} characters; {most:,} are the most")
            _need(not any(0xD800 <= ord(c) <= 0xDFFF for c in value), where, "has half of a character (a lone surrogate)")
        case bytes():
            _need(len(value) <= MOST_PACKED, where, f"has {len(value):,} bytes; {MOST_PACKED:,} are the most")
        case Keyed():
            _check_keyed(where, value)
        case PlateInfo():
            _check_plate(where, value)


def _check_keyed(where: str, value: Keyed) -> None:
    _need(len(value.value) > 0, f"{where}.value", "is empty")
    _need(len(value.keys) <= MOST_KEYS, f"{where}.keys", f"has {len(value.keys):,} keys; {MOST_KEYS:,} are the most")
    before = -math.inf
    for i, key in enumerate(value.keys):
        _check_key(f"{where}.keys[{i}]", key, len(value.value))
        _need(key.frame > before, f"{where}.keys[{i}].frame", f"is {key.frame:g}, which does not come after the key before it")
        before = key.frame


def _check_key(where: str, key: Key, size: int) -> None:
    _need(len(key.value) == size, f"{where}.value", f"has {len(key.value)} numbers, not {size}")
    _need(key.easing in (*EASINGS, "hold", "free"), f"{where}.easing", f"is '{key.easing[:20]}', which is no easing")
    fine = list(key.only) == sorted(set(key.only)) and all(0 <= k < size for k in key.only)
    _need(fine, f"{where}.only", f"is not the rising numbers of some of the {size} parts of the value, from 0")


def _check_keyed_like(where: str, item: msgspec.Struct) -> None:
    """A value with a default has as many numbers as that."""
    defaults = item.__struct_defaults__
    for name, default in zip(item.__struct_fields__[len(item.__struct_fields__) - len(defaults) :], defaults):
        value = getattr(item, name)
        if isinstance(default, Keyed) and isinstance(value, Keyed):
            _need(len(value.value) == len(default.value), f"{where}.{name}.value", f"has {len(value.value)} numbers, not {len(default.value)}")


def _check_plate(where: str, plate: PlateInfo) -> None:
    _need(plate.rate[0] > 0 and plate.rate[1] > 0, f"{where}.rate", f"is {plate.rate[0]}/{plate.rate[1]}, which is no frame rate")
    for side in ("width", "height"):
        _need(1 <= getattr(plate, side) <= MOST_SIDE, f"{where}.{side}", f"is {getattr(plate, side)}; it is 1 to {MOST_SIDE:,} px")
    _need(1 <= plate.count <= MOST_FRAMES, f"{where}.count", f"is {plate.count}; it is 1 to {MOST_FRAMES:,} frames")
    _need(plate.kind in ("movie", "sequence"), f"{where}.kind", f"is '{plate.kind[:20]}', which is no kind of clip")
    for part, known in (("primaries", PRIMARIES), ("transfer", TRANSFERS), ("matrix", MATRICES)):
        _need(getattr(plate.colour, part) in known, f"{where}.colour.{part}", f"is '{getattr(plate.colour, part)[:20]}', which is not known")
    _need(min(plate.pixel_aspect) > 0, f"{where}.pixel_aspect", "is not above 0")
    _need(plate.turn_deg in (0, 90, 180, 270), f"{where}.turn_deg", f"is {plate.turn_deg}; it is a number of quarter turns")


def _check_range(shot: Shot) -> None:
    last = shot.plate.count - 1 if shot.plate is not None else shot.last
    _need(0.1 <= shot.sensor_mm <= 1000, "sensor_mm", f"is {shot.sensor_mm:g}; a sensor is 0.1 to 1,000 mm wide")
    _need(0 <= shot.first <= shot.last, "first", f"is {shot.first}, and last is {shot.last}")
    _need(shot.last <= max(last, 0), "last", f"is {shot.last}; the clip ends at {last}")
    for kind in (*LISTS, "markers"):
        _need(len(getattr(shot, kind)) <= MOST_ITEMS, kind, f"has {len(getattr(shot, kind)):,} entries; {MOST_ITEMS:,} are the most")
    for kind in ("mattes", "regions"):
        for i, outline in enumerate(getattr(shot, kind)):
            if isinstance(outline, Brushed):
                _check_brushed(f"{kind}[{i}]", outline, shot.plate)
                continue
            if isinstance(outline, Keyer):
                _need(len(outline.samples) <= MOST_SAMPLES, f"{kind}[{i}].samples", f"are {len(outline.samples)}; {MOST_SAMPLES} are the most")
                continue
            if isinstance(outline, Pictured):
                continue
            _need(len(outline.shape.value) % 2 == 0, f"{kind}[{i}].shape.value", "has an odd number of numbers; it is pairs of x and y")
            most = len(outline.shape.value) // 2 - 2 * len(outline.handled)
            own = outline.handled
            fine = most >= 0 and list(own) == sorted(set(own)) and all(0 <= k < most for k in own)
            _need(fine, f"{kind}[{i}].handled", "is not the rising numbers of corners whose handles follow in the shape")
            for j, key in enumerate(outline.shape.keys):
                fine = all(a % 2 == 0 and b == a + 1 for a, b in itertools.zip_longest(key.only[::2], key.only[1::2], fillvalue=-1))
                _need(fine, f"{kind}[{i}].shape.keys[{j}].only", "does not go by pairs of x and y")
            _need(all(0 <= share <= MOST_SHARE for share in outline.feathers), f"{kind}[{i}].feathers", f"holds one outside 0 to {MOST_SHARE:g}")


def _check_brushed(where: str, source: Brushed, plate: PlateInfo | None) -> None:
    for i, stroke in enumerate(source.strokes):
        at = f"{where}.strokes[{i}]"
        _need(len(stroke.line) >= 2 and len(stroke.line) % 2 == 0, f"{at}.line", "is no list of pairs of x and y")
        _need(0 < stroke.radius <= MOST_SIDE, f"{at}.radius", f"is {stroke.radius:g}; it is above 0 and up to {MOST_SIDE:,} px")
        _need(0 <= stroke.frame <= MOST_FRAMES, f"{at}.frame", f"is {stroke.frame}, which no clip has")
    before = -1
    for i, found in enumerate(source.found):
        at = f"{where}.found[{i}]"
        _need(found.frame > before, f"{at}.frame", f"is {found.frame}, which does not come after the one before it")
        before = found.frame
        _array(f"{at}.alpha", found.alpha, "u", None, None)
        rows, columns = found.alpha.shape
        _need(found.alpha.dtype.itemsize == 1, f"{at}.alpha", f"holds {found.alpha.dtype}, not uint8")
        wide, high = (plate.width, plate.height) if plate is not None else (MOST_SIDE, MOST_SIDE)
        _need(found.left >= 0 and found.top >= 0 and found.left + columns <= wide and found.top + rows <= high, at, "lies outside the picture")
        _need(0 <= found.sure <= 1, f"{at}.sure", f"is {found.sure:g}; it is 0 to 1")


def _check_object(where: str, item: Object) -> None:
    if "text" in item.__struct_fields__:
        letters = len(item.text)  # type: ignore[union-attr]
        _need(letters <= MOST_LETTERS, f"{where}.text", f"has {letters:,} letters; {MOST_LETTERS:,} are the most")
    if isinstance(item, Title):
        _one_of(f"{where}.align", item.align, ALIGNS)
        _need(len(item.path) % 3 == 0, f"{where}.path", f"has {len(item.path)} numbers, which are no triples of x, y, z")
        _need(len(item.path) <= 3 * MOST_PLACES, f"{where}.path", f"has {len(item.path) // 3:,} points; {MOST_PLACES:,} are the most")
        for k, mover in enumerate(item.movers):
            for name, known in (("by", UNITS), ("order", ORDERS), ("about", PIVOTS)):
                _one_of(f"{where}.movers[{k}].{name}", getattr(mover, name), known)
    if isinstance(item, Extruded):
        _one_of(f"{where}.profile", item.profile, PROFILES)
        _one_of(f"{where}.back", item.back, BACKS)
        _need(len(item.curve) % 2 == 0 and len(item.curve) <= 200, f"{where}.curve", f"has {len(item.curve)} numbers; it is up to 100 pairs")
        for k, surface in enumerate(item.surfaces):
            _one_of(f"{where}.surfaces[{k}].part", surface.part, SURFACED)
            _one_of(f"{where}.surfaces[{k}].texture", surface.texture, TEXTURES)
    if isinstance(item, Solid):
        _one_of(f"{where}.texture", item.texture, TEXTURES)
    if item.span is not None:
        _need(item.span[0] <= item.span[1], f"{where}.span", f"ends at {item.span[1]}, before it begins at {item.span[0]}")
    if isinstance(item, GroundMesh):
        _need(len(item.points) % 3 == 0, f"{where}.points", f"has {len(item.points)} numbers, which are no triples of x, y, z")
        _need(0 <= item.smooth <= MOST_SMOOTH, f"{where}.smooth", f"is {item.smooth}; it is 0 to {MOST_SMOOTH}")


def _one_of(where: str, value: str, known: tuple[str, ...]) -> None:
    _need(value in known, where, f"is '{value[:20]}'; it is {', '.join(known)}")


def _check_ids(shot: Shot) -> None:
    seen: dict[str, str] = {}

    def check(where: str, id_: str) -> None:
        _need(id_ not in seen, f"{where}.id", f"is '{id_[:20]}', as is that of {seen.get(id_)}")
        seen[id_] = where

    for kind in LISTS:
        for i, item in enumerate(getattr(shot, kind)):
            check(f"{kind}[{i}]", item.id)
            for name, own in owned(item).items() if kind == "objects" else ():
                for k, child in enumerate(own):
                    check(f"{kind}[{i}].{name}[{k}]", child.id)


# arrays -----------------------------------------------------------------------------------------------------------------------


def _array(where: str, value: np.ndarray, kinds: str, *shape: int | None) -> None:
    """An array of numbers of these kinds (NumPy's letters), finite, and of this shape, in which None is any length."""
    fits = value.ndim == len(shape) and all(want is None or have == want for have, want in zip(value.shape, shape))
    wanted = " × ".join("n" if n is None else str(n) for n in shape)
    _need(fits, where, f"has the shape {' × '.join(map(str, value.shape)) or 'of one number'}, not {wanted}")
    _need(value.dtype.kind in kinds, where, f"holds {value.dtype}, which is another kind of number")
    _need(value.dtype.kind != "f" or bool(np.isfinite(value).all()), where, "holds numbers that are not finite")


def _check_tracks(tracks: Tracks) -> None:
    n = len(tracks.frame)
    _array("tracks.frame", tracks.frame, "iu", None)
    _array("tracks.track", tracks.track, "iu", n)
    _array("tracks.xy", tracks.xy, "f", n, 2)
    _array("tracks.rejected", tracks.rejected, "b", None)
    _array("tracks.keys", tracks.keys, "f", None, 4)
    if n:
        _need(
            int(tracks.track.min()) >= 0 and int(tracks.track.max()) < tracks.count,
            "tracks.track",
            f"names tracks beyond the {tracks.count} there are",
        )
        _need(bool((np.diff(tracks.track.astype(np.int64)) >= 0).all()), "tracks.track", "is not in order")
        _need(int(tracks.frame.min()) >= 0 and int(tracks.frame.max()) < MOST_FRAMES, "tracks.frame", "names frames that no clip has")
    if len(tracks.keys):
        _need(bool(((tracks.keys[:, 0] >= 0) & (tracks.keys[:, 0] < max(tracks.count, 1))).all()), "tracks.keys", "names tracks that are not there")


def _check_solve(solve: Solve) -> None:
    k, m = len(solve.frames), len(solve.point_ids)
    _one_of("solve.motion", solve.motion, MOTIONS)
    _one_of("solve.lens.model", solve.lens.model, ("brown",))
    _array("solve.frames", solve.frames, "iu", None)
    _need(k > 0, "solve.frames", "is empty")
    _need(bool((np.diff(solve.frames.astype(np.int64)) > 0).all()) and int(solve.frames[0]) >= 0, "solve.frames", "is not in order")
    _array("solve.R", solve.R, "f", k, 3, 3)
    _array("solve.t", solve.t, "f", k, 3)
    _array("solve.frame_error", solve.frame_error, "f", k)
    _array("solve.point_ids", solve.point_ids, "iu", None)
    _array("solve.xyz", solve.xyz, "f", m, 3)
    _array("solve.point_error", solve.point_error, "f", m)
    _need(m == 0 or int(solve.point_ids.min()) >= 0 and int(solve.point_ids.max()) <= BIG, "solve.point_ids", "names tracks that cannot be")
    _array("solve.colours", solve.colours, "u", m if len(solve.colours) else 0, 3)
    _array("solve.uprights", solve.uprights, "f", None, 5)
    _array("solve.zoom", solve.zoom, "f", k if len(solve.zoom) else 0)
    _need(not len(solve.zoom) or float(solve.zoom.min()) > 0, "solve.zoom", "has a factor that is not above 0")
    _need(solve.lens.fx > 0, "solve.lens.fx", f"is {solve.lens.fx:g}; a focal length is above 0")
    turned = np.abs(np.einsum("kij,klj->kil", solve.R, solve.R) - np.eye(3)).max()
    _need(float(turned) < 1e-3, "solve.R", "holds matrices that are no rotations")
    if solve.covariance_sample is not None:
        q = len(solve.covariance_sample.lens)
        _array("solve.covariance_sample.lens", solve.covariance_sample.lens, "f", q, 5)
        _need(
            solve.covariance_sample.cameras.ndim == 3 and solve.covariance_sample.cameras.shape[2] in (6, 7),
            "solve.covariance_sample.cameras",
            "has another shape than it must have",
        )
        _array("solve.covariance_sample.cameras", solve.covariance_sample.cameras, "f", q, k, solve.covariance_sample.cameras.shape[2])
