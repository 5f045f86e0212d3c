"""The document: one shot as a tree of frozen values. Playhead, selection and zoom are not part of it.

Lengths in metres of the scene (or units, while no distance is known), angles in degrees, times in frames of the clip.
"""

import functools
import hashlib
from typing import Annotated, Any, NamedTuple, get_type_hints

import msgspec

from ..basics.keyed import Keyed, constant
from ..basics.rows import Row
from ..finish.backdrop import Backdrop
from ..finish.entries import Finisher
from ..light.lamps import Lamp, Rgb, Sky, Sun
from ..light.surroundings import Surroundings
from ..matte.sources import Outline, Source
from ..media.plates import PlateInfo
from ..scene.ground import Ground
from ..shape.face_files import StoredFace
from ..solve.result import Solve, SolveSettings
from ..track.follow import FollowSettings
from ..track.tracks import Tracks
from .objects import Object

VERSION = 4


class Lane(NamedTuple):
    """Beside a field of a shot: the step of work to which the lanes of its things belong, and whether a thing has one while it is not keyed."""

    step: str
    always: bool = False


IN_PICTURE, FOR_TRACKER = "in the picture", "for the tracker"  # marks of what shows in the finished picture, and in what the tracker sees


class ShadowLine(msgspec.Struct, frozen=True, kw_only=True):
    """A shadow that was drawn in the picture: foot and tip on the ground (3,), and how high the thing stands."""

    foot: tuple[float, float, float]
    tip: tuple[float, float, float]
    height: float


class Shadow(msgspec.Struct, frozen=True, kw_only=True):
    """How our shadows fall on the place. density: share of the computed shadow that shows; tint: what colour is left in a full
    shadow, linear. lines: shadows of the place that were drawn, from which the sun was read. mattes: ids of those that stand
    before the shadow; None for all of them."""

    density: Annotated[Keyed, Row("Density", "%", 0.5, 0, 0, 100, 100, tip="How much of the computed shadow shows")] = constant(1.0)
    tint: Rgb = (0.0, 0.0, 0.0)
    lines: tuple[ShadowLine, ...] = ()
    mattes: tuple[str, ...] | None = None

    name = "Shadow"


class Exposure(msgspec.Struct, frozen=True, kw_only=True):
    """How our things and their shadows are filmed. shutter: share of a frame's time in which the shutter is open, for motion blur. softness, grain: share
    of what the clip's edges and its flat places have of them, as measured (`picture.filmed`)."""

    shutter: Annotated[
        Keyed, Row("Shutter", "°", 1, 0, 0, 360, 360, tip="Shutter of the camera: 180° is open for half of each frame; 0 is no blur")
    ] = constant(0.5)
    softness: Annotated[
        Keyed,
        Row(
            "Softness",
            "%",
            1,
            0,
            0,
            300,
            100,
            tip="Of letters and shadows; 100 is as soft as the clip's own edges, as its lens, sensor and coding left them",
        ),
    ] = constant(0.0)
    grain: Annotated[Keyed, Row("Grain", "%", 1, 0, 0, 300, 100, tip="100 is as grainy as flat places of the clip, by their brightness")] = constant(
        0.0
    )

    name = "Exposure"


class Focus(msgspec.Struct, frozen=True, kw_only=True):
    """What is sharp. distance: from the camera along its view; stop: its f-number, by which the sensor's width and the focal length tell how wide
    the lens is open. In a scene without a known distance its units count as metres."""

    on: bool = False
    distance: Annotated[Keyed, Row("Distance", "m", 0.02, 2, 0.01, tip="How far away is sharp, along the view")] = constant(6.0)
    stop: Annotated[Keyed, Row("Stop", "f/", 0.05, 1, 0.5, 64, tip="F-number of the lens; a smaller one blurs more")] = constant(4.0)

    name = "Focus"


class Output(msgspec.Struct, frozen=True, kw_only=True):
    """Where the last delivery went, and how it was made."""

    path: str = ""
    quality: str = "final"
    sound: bool = True


class Marker(msgspec.Struct, frozen=True):
    """A frame to find again, and why."""

    frame: int
    text: str = ""


class Basis:
    """The tracks, solve and ground that objects and light speak of: tracks by their numbers, places in the scene that they make."""

    __slots__ = ("ground", "solve", "tracks")

    def __init__(self, tracks: Tracks | None, solve: Solve | None, ground: Ground) -> None:
        self.tracks, self.solve, self.ground = tracks, solve, ground

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Basis)  # it repeats what the shot holds, so it never makes two shots differ

    __hash__ = None  # type: ignore[assignment]


class Shot(msgspec.Struct, frozen=True, kw_only=True):
    """Everything that is saved. first, last: in and out, both included. sensor_mm: width of the camera's sensor, by which a focal
    length in millimetres is told. faces: those of files that titles are set in, where their licence lets them be kept.

    Tracks, solve and ground are not replaced on their own: objects and light would then speak of others than the shot holds,
    which raises ValueError. `edits.settle` changes them, and carries along what speaks of them. basis: which ones those are; it
    is no part of a file.
    """

    version: int = VERSION
    name: str = "Untitled"
    plate: Annotated[PlateInfo | None, IN_PICTURE, FOR_TRACKER] = None
    first: int = 0
    last: int = 0
    follow: Annotated[FollowSettings, FOR_TRACKER] = FollowSettings()
    regions: Annotated[tuple[Outline, ...], FOR_TRACKER] = ()
    tracks: Tracks | None = None
    solving: SolveSettings = SolveSettings()
    sensor_mm: float = 36.0
    solve: Annotated[Solve | None, IN_PICTURE] = None
    ground: Annotated[Ground, IN_PICTURE] = Ground()
    objects: Annotated[tuple[Object, ...], IN_PICTURE, Lane("Place", True)] = ()
    lamps: Annotated[tuple[Lamp, ...], IN_PICTURE, Lane("Light")] = (Sun(), Sky())
    surroundings: Annotated[Surroundings, IN_PICTURE, Lane("Light")] = Surroundings()
    shadow: Annotated[Shadow, IN_PICTURE, Lane("Light")] = Shadow()
    mattes: Annotated[tuple[Source, ...], IN_PICTURE, Lane("Foreground", True)] = ()
    backdrop: Annotated[Backdrop, IN_PICTURE, Lane("Foreground")] = Backdrop()
    exposure: Annotated[Exposure, IN_PICTURE, Lane("Finish")] = Exposure()
    focus: Annotated[Focus, IN_PICTURE, Lane("Finish")] = Focus()
    finish: Annotated[tuple[Finisher, ...], IN_PICTURE, Lane("Finish")] = ()
    faces: tuple[StoredFace, ...] = ()
    output: Output = Output()
    markers: tuple[Marker, ...] = ()
    basis: Any = None

    def __post_init__(self) -> None:
        basis = self.basis
        if basis is None:
            msgspec.structs.force_setattr(self, "basis", Basis(self.tracks, self.solve, self.ground))
        elif (basis.tracks, basis.solve) != (self.tracks, self.solve) or basis.ground is not self.ground:
            raise ValueError("tracks, solve and ground of a shot change through edits.settle alone, which carries its objects along")

    @property
    def frames(self) -> range:
        return range(self.first, self.last + 1)


def rebased(shot: Shot, **fields: Any) -> Shot:
    """The shot with other tracks, solve or ground, and with whatever of objects and light goes with them among the fields.

    For `edits.settle`, and where nothing of the old ones stays.
    """
    return msgspec.structs.replace(shot, basis=None, **fields)


@functools.cache
def _marked(mark: str) -> tuple[str, ...]:
    hints = get_type_hints(Shot, include_extras=True)
    return tuple(name for name, hint in hints.items() if mark in getattr(hint, "__metadata__", ()))


LANES: dict[str, Lane] = {
    name: extra
    for name, hint in get_type_hints(Shot, include_extras=True).items()
    for extra in getattr(hint, "__metadata__", ())
    if isinstance(extra, Lane)
}


def shown_parts(shot: Shot, mark: str = IN_PICTURE) -> tuple:
    """The parts of the shot that show in its pictures, or in what the tracker sees; the same objects make the same picture."""
    return tuple(getattr(shot, name) for name in _marked(mark))


def with_plate(shot: Shot, info: PlateInfo) -> Shot:
    """The shot with another clip; a clip of the same size and length keeps everything that was made on the old one."""
    old = shot.plate
    same = old is not None and (old.width, old.height, old.count) == (info.width, info.height, info.count)
    if same:
        return msgspec.structs.replace(shot, plate=info)
    # shots of earlier versions, whose titles were clean, stay as they were
    exposure = msgspec.structs.replace(shot.exposure, softness=constant(1.0), grain=constant(1.0)) if old is None else shot.exposure
    return rebased(shot, plate=info, first=0, last=info.count - 1, tracks=None, solve=None, ground=Ground(), exposure=exposure)


def found_again(old: PlateInfo, info: PlateInfo) -> PlateInfo | None:
    """A clip that was looked for and found, as the shot uses it; None where it is another one, by its size or length.

    Shots of earlier versions left pictures of a clip on their side as they lay, and go on so.
    """
    if (old.width, old.height, old.count) == (info.width, info.height, info.count):
        return info
    lies = old.turn_deg == 0 and info.turn_deg % 180 and (old.width, old.height, old.count) == (info.height, info.width, info.count)
    return msgspec.structs.replace(info, width=old.width, height=old.height, turn_deg=0) if lies else None


def with_marker(shot: Shot, marker: Marker) -> Shot:
    """The shot with a marker, in place of one at the same frame."""
    rest = [m for m in shot.markers if m.frame != marker.frame]
    return msgspec.structs.replace(shot, markers=tuple(sorted((*rest, marker), key=lambda m: m.frame)))


def without_marker(shot: Shot, frame: int) -> Shot:
    return msgspec.structs.replace(shot, markers=tuple(m for m in shot.markers if m.frame != frame))


def _digest(*parts: object) -> str:
    return hashlib.sha1(b"|".join(p if isinstance(p, bytes) else msgspec.json.encode(p) for p in parts)).hexdigest()[:16]


def tracking_inputs(shot: Shot) -> str:
    """Digest of all that tracking depends on; tracks with another `source` are stale."""
    plate = shot.plate
    clip = (plate.width, plate.height, plate.count) if plate else None
    return _digest(clip, shot.first, shot.last, shot.follow, [r for r in shot.regions if r.on])


def solving_inputs(shot: Shot) -> str:
    """Digest of all that the solve depends on; a solve with another `source` is stale."""
    tracks = shot.tracks
    by_hand = [tracks.keys.tobytes()] if tracks is not None and len(tracks.keys) else []
    spans = [shot.ground.spans] if shot.solving.hold else []
    return _digest(shot.solving, tracks.source if tracks else "", tracks.rejected.tobytes() if tracks else b"", *by_hand, *spans)


def _clip(shot: Shot) -> tuple:
    """What tracks and solve depend on of the clip; not how its colours are read."""
    plate = shot.plate
    return (plate.path, plate.width, plate.height, plate.count) if plate is not None else ()


def tracking_reads(shot: Shot) -> dict[str, Any]:
    """What of the shot tracking reads, by its name in a sentence: a result made from others does not fit."""
    return {
        "the clip": _clip(shot),
        "in and out": (shot.first, shot.last),
        "the settings of the tracker": shot.follow,
        "the regions": [r for r in shot.regions if r.on],
        "the tracks": shot.tracks,
    }


def solving_reads(shot: Shot) -> dict[str, Any]:
    """What of the shot a solve reads, by its name in a sentence."""
    return {
        "the clip": _clip(shot),
        "the tracks": shot.tracks,
        "the settings of the solve": shot.solving,
        "the solve": shot.solve,
        "what is known of the place": shot.ground.spans if shot.solving.hold else (),
    }


def tracks_are_stale(shot: Shot) -> bool:
    return shot.tracks is not None and shot.tracks.source != tracking_inputs(shot)


def solve_is_stale(shot: Shot) -> bool:
    return shot.solve is not None and shot.solve.source != solving_inputs(shot)
