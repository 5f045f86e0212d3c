"""The objects of a shot. Lengths in metres of the scene (or units, while no distance is known), angles in degrees.

An object's own axes: x right, y away from the reader, z up; a title's base line is z = 0. `pivot` is a point of these axes,
and `position` is where it lies in the scene, or in the parent's own axes.
"""

from typing import Annotated, ClassVar, Literal, Self

import msgspec
import numpy as np

from ..basics.keyed import Keyed, constant
from ..basics.rows import MediaPath, Row
from ..light.lamps import Rgb

Vector = tuple[float, float, float]


class Thing(msgspec.Struct, frozen=True, kw_only=True):
    """What every object has. turn: heading, pitch, roll; size: factor. tracks: those that it stands on, by which a new solve
    carries it. placed: frame at which it was placed while no camera was known; there it keeps its place and size in the picture when
    one arrives. span: first and last frame in which it is there, or None for the whole shot. lane: colour of its lane.

    space: what its position is measured in. mattes: ids of those that stand before it; None for all of them.

    drawn: seen in the picture, and throws a shadow. receives: shadows of drawn things fall on it. hides: what lies behind it
    is not seen, nor is it itself. reflects: share of drawn things that it mirrors. A thing that is not drawn stands in for
    something of the plate.
    """

    LENGTHS: ClassVar[tuple[str, ...]] = ()
    NOUN: ClassVar[str] = "Object"
    BODY: ClassVar[bool] = True  # whether there is anything of it to draw, to hide or to take shadows
    UNEVEN: ClassVar[bool] = False  # whether it is ground, which takes the place of the level one

    id: str
    label: str = ""
    space: Literal["scene"] = "scene"
    position: Annotated[
        Keyed, Row("Position", "m", 0.01, 2, tip="Where its pivot is, in the scene, or in the axes of its parent", names=("x", "y", "z"))
    ] = constant(0.0, 0.0, 0.0)
    turn: Annotated[Keyed, Row("Turn", "°", 0.5, 1, tip="Heading, pitch and roll", names=("heading", "pitch", "roll"))] = constant(0.0, 0.0, 0.0)
    size: Annotated[Keyed, Row("Size", "×", 0.005, 3, 0.001, tip="Size as a factor, which can be keyed")] = constant(1.0)
    pivot: Vector = (0.0, 0.0, 0.0)
    parent: str = ""
    tracks: tuple[int, ...] = ()
    placed: int | None = None
    span: tuple[int, int] | None = None
    visible: bool = True
    locked: bool = False
    lane: Rgb = (0.337, 0.357, 0.376)
    drawn: bool = True
    receives: bool = False
    hides: bool = False
    reflects: Annotated[
        Keyed,
        Row("Mirrors", "%", 0.5, 0, 0, 100, 100, tip="How much of what is seen it mirrors, as its flat upper side does; its roughness blurs that"),
    ] = constant(0.0)
    mattes: tuple[str, ...] | None = None

    @property
    def name(self) -> str:
        return self.label or self.NOUN

    def on_tracks(self, numbers: list[int]) -> Self:
        """The thing with its tracks numbered anew, in their order; -1 for one that is gone."""
        return msgspec.structs.replace(self, tracks=tuple(dict.fromkeys(n for n in numbers if n >= 0)))

    def shape_sized(self, factor: float) -> dict[str, object]:
        """Fields of its shape that are not keyed, when the scene is that many times as large."""
        return {}

    def shape_through(self, own: dict[int, np.ndarray]) -> Self:
        """The thing with its shape through the places (3,) of its tracks, in its own axes, where it is made from them."""
        return self


ROUGHNESS = Row("Roughness", "", 0.005, 2, 0, 1, tip="0 mirrors, 1 is matt")
METAL = Row("Metal", "", 0.005, 2, 0, 1, tip="1 reflects in its own colour, as bare metal does")
COAT = Row("Clear coat", "%", 0.5, 0, 0, 100, 100, tip="A polished clear coat over it")
CLEAR = Row("See-through", "%", 0.5, 0, 0, 100, 100, tip="How much of it is glass, in its own colour; roughness frosts it")
GLOW = Row("Glow", "×", 0.02, 2, 0, 1000, tip="Times its colour that it sends out by itself; it lights what is near")


TEXTURES = ("none", "stone", "brushed", "wood", "weave", "worn", "brick", "picture", "gradient up", "gradient along")
SIZE_OF_TEXTURE = Row("Pattern size", "m", 0.005, 3, 0.001, tip="Size of the pattern, in the scene's units")
AMOUNT = Row("Pattern", "%", 0.5, 0, 0, 100, 100, tip="How much of its second colour shows")
RELIEF = Row("Relief", "%", 0.2, 1, 0, 50, 100, tip="How high the pattern stands, in % of its size")
TURN_OF_TEXTURE = Row("Pattern turn", "°", 0.5, 1, tip="Turns the pattern on its face, to the left")
OFFSET_OF_TEXTURE = Row("Pattern place", "m", 0.005, 3, tip="Where the pattern begins: to the right and up, in the scene's units", names=("x", "z"))


class Surface(msgspec.Struct, frozen=True, kw_only=True):
    """How a part of a solid looks, where that is not as its face: one of SURFACED. colour: code values 0..1, sRGB."""

    id: str
    part: str
    on: bool = True
    colour: Rgb = (0.5, 0.5, 0.5)
    roughness: Annotated[Keyed, ROUGHNESS] = constant(0.45)
    metal: Annotated[Keyed, METAL] = constant(0.0)
    coat: Annotated[Keyed, COAT] = constant(0.0)
    clear: Annotated[Keyed, CLEAR] = constant(0.0)
    glow: Annotated[Keyed, GLOW] = constant(0.0)
    texture: str = "none"
    second: Rgb = (0.25, 0.24, 0.22)
    texture_size: Annotated[Keyed, SIZE_OF_TEXTURE] = constant(0.3)
    texture_amount: Annotated[Keyed, AMOUNT] = constant(1.0)
    relief: Annotated[Keyed, RELIEF] = constant(0.02)
    texture_turn: Annotated[Keyed, TURN_OF_TEXTURE] = constant(0.0)
    texture_offset: Annotated[Keyed, OFFSET_OF_TEXTURE] = constant(0.0, 0.0)

    @property
    def name(self) -> str:
        return self.part.capitalize()


SURFACED = ("edges", "sides", "back")


class Solid(Thing, frozen=True, kw_only=True):
    """A thing with a surface. colour: code values 0..1, sRGB. opacity: of all of it, in picture and shadow. texture: one of TEXTURES, a pattern
    through the solid with a second colour, or 'picture', which is laid over it from its three sides: texture_picture, JPEG or PNG, or the movie at texture_movie,
    which plays from the thing's first frame on; relief_map: how high it stands, relief_map's white by `relief` over its black, and roughness_map, whose code
    values are the roughness: JPEG or PNG of one channel, which lie as the picture does. What stands in for a mirror of the place has ripples: how high they are in their size, how large,
    and how fast and where to they run (heading, degrees, 0 along its y axis); fresnel: how much less it mirrors where one looks down on it; fades: distance by which what it shows halves, 0 for none;
    mirror_tint: code values, by which what it shows is multiplied; mirror_inside: ids of the mattes inside which alone it mirrors, on or off, empty
    for everywhere."""

    SURFACE_LENGTHS: ClassVar[tuple[str, ...]] = ("texture_size", "texture_offset", "ripple_size", "flow", "fades")

    colour: Rgb = (0.89, 0.87, 0.82)
    opacity: Annotated[Keyed, Row("Opacity", "%", 0.5, 0, 0, 100, 100, tip="How much of what is behind it is covered; its shadow thins with it")] = (
        constant(1.0)
    )
    roughness: Annotated[Keyed, ROUGHNESS] = constant(0.45)
    metal: Annotated[Keyed, METAL] = constant(0.0)
    coat: Annotated[Keyed, COAT] = constant(0.0)
    clear: Annotated[Keyed, CLEAR] = constant(0.0)
    glow: Annotated[Keyed, GLOW] = constant(0.0)
    texture: str = "none"
    texture_picture: bytes = b""
    texture_movie: Annotated[str, MediaPath] = ""
    second: Rgb = (0.25, 0.24, 0.22)
    texture_size: Annotated[Keyed, SIZE_OF_TEXTURE] = constant(0.3)
    texture_amount: Annotated[Keyed, AMOUNT] = constant(1.0)
    relief: Annotated[Keyed, RELIEF] = constant(0.02)
    texture_turn: Annotated[Keyed, TURN_OF_TEXTURE] = constant(0.0)
    texture_offset: Annotated[Keyed, OFFSET_OF_TEXTURE] = constant(0.0, 0.0)
    relief_map: bytes = b""
    roughness_map: bytes = b""
    ripple: Annotated[Keyed, Row("Ripples", "%", 0.1, 1, 0, 50, 100, tip="How high its ripples are, in % of their size; 0 is still")] = constant(0.0)
    ripple_size: Annotated[Keyed, Row("Ripple size", "m", 0.01, 2, 0.001, tip="From ripple to ripple, in the scene's units")] = constant(0.5)
    flow: Annotated[Keyed, Row("Flow", "m/s", 0.01, 2, tip="How fast its ripples run")] = constant(0.2)
    flow_to: Annotated[Keyed, Row("Flows to", "°", 0.5, 1, tip="Where to its ripples run: heading, 0 along its own y axis")] = constant(0.0)
    fresnel: Annotated[
        Keyed, Row("Fresnel", "%", 0.5, 0, 0, 100, 100, tip="How much less it mirrors where one looks down on it than along it; 100 % as water")
    ] = constant(0.0)
    fades: Annotated[
        Keyed, Row("Fades over", "m", 0.02, 2, 0.0, tip="What it mirrors halves with each of these behind the mirror; 0 does not fade")
    ] = constant(0.0)
    mirror_tint: Rgb = (1.0, 1.0, 1.0)
    mirror_inside: tuple[str, ...] = ()


MIRROR_ROWS = ("fresnel", "ripple", "ripple_size", "flow", "flow_to", "fades")
DEPTH = Row("Depth", "m", 0.002, 3, 0.0001, tip="How deep the solid is")
BEVEL = Row("Bevel", "m", 0.0005, 4, 0.0, tip="How far its edges go inward; at most 45 % of the depth where they go as deep")
IN_HEIGHTS = "× height"

PROFILES = ("round", "flat", "step", "hollow", "drawn")
BACKS = ("same", "none", *PROFILES)
ALIGNS = ("left", "centre", "right", "both")
UNITS = ("letter", "word", "line")
ORDERS = ("reading", "reversed", "from the middle", "from the ends", "from a point", "shuffled")
PIVOTS = ("foot", "middle")


class Layer(msgspec.Struct, frozen=True, kw_only=True):
    """The same outlines as a solid once more, with a place, size, depth and colour of its own. Lengths are in heights of the letters, so that
    they go with their size. grow: by how much it is fatter (thinner below 0); wall: a wall along the outline, 0 for a full body."""

    id: str
    label: str = ""
    on: bool = True
    colour: Rgb = (0.16, 0.17, 0.19)
    offset: Annotated[Keyed, Row("Offset", IN_HEIGHTS, 0.005, 3, tip="Where it stands against the first one", names=("x", "y", "z"))] = constant(
        0.0, 0.35, 0.0
    )
    size: Annotated[Keyed, Row("Size", "×", 0.005, 3, 0.001, tip="Size about the middle of the words")] = constant(1.0)
    depth: Annotated[Keyed, Row("Depth", "×", 0.01, 2, 0.001, tip="Its depth, as a factor of the depth of the first one")] = constant(1.0)
    grow: Annotated[Keyed, Row("Grow", IN_HEIGHTS, 0.001, 3, -0.5, 0.5, tip="Fatter by this all round, as an edge that stands out behind")] = (
        constant(0.0)
    )
    wall: Annotated[Keyed, Row("Wall", IN_HEIGHTS, 0.001, 3, 0.0, 1.0, tip="Only a wall of this thickness along the outline; 0 is a full body")] = (
        constant(0.0)
    )
    opacity: Annotated[Keyed, Row("Opacity", "%", 0.5, 0, 0, 100, 100, tip="How much of what is behind it is covered")] = constant(1.0)

    @property
    def name(self) -> str:
        return self.label or "Layer"


class Mover(msgspec.Struct, frozen=True, kw_only=True):
    """Moves the letters of a title, one by one, by word or by line. What it does to one is a share of what is said here: the share that its
    range has of it. Lengths are in heights of the letters.

    reach: how much of the words the range covers, from none (0) to all (1), in `order`; soft: how much of them is under way at once; late:
    frames by which each further one comes later; ease: whether the soft end begins and ends gently. about: what letters turn and
    size about. role: 'arrive' and 'leave' are drawn as the slanted ends of the lane.
    """

    id: str
    label: str = ""
    on: bool = True
    role: Literal["", "arrive", "leave"] = ""
    by: str = "letter"
    order: str = "reading"
    seed: int = 1
    point: Vector = (0.0, 0.0, 0.0)
    ease: bool = True
    about: str = "foot"
    reach: Annotated[Keyed, Row("Reach", "%", 0.5, 0, 0, 100, 100, tip="How much of the words it has hold of: 0 none, 100 all")] = constant(1.0)
    soft: Annotated[Keyed, Row("Soft end", "%", 0.5, 0, 0, 400, 100, tip="How much of the words is under way at once")] = constant(0.5)
    late: Annotated[Keyed, Row("Later by", "frames", 0.05, 1, -100, 100, tip="Frames by which each further one comes later")] = constant(0.0)
    shift: Annotated[Keyed, Row("Shift", IN_HEIGHTS, 0.01, 2, tip="To the right, away and up", names=("x", "y", "z"))] = constant(0.0, 0.0, 0.0)
    turn: Annotated[Keyed, Row("Turn", "°", 0.5, 1, tip="Heading, pitch and roll of each", names=("heading", "pitch", "roll"))] = constant(
        0.0, 0.0, 0.0
    )
    size: Annotated[Keyed, Row("Size", "×", 0.005, 3, 0.0, tip="Size of each, as a factor")] = constant(1.0)
    spacing: Annotated[Keyed, Row("Spacing", "%", 0.1, 1, factor=100, tip="Extra room after each, in % of the height")] = constant(0.0)
    depth: Annotated[Keyed, Row("Depth", "×", 0.005, 3, 0.001, tip="Depth of each, as a factor")] = constant(1.0)
    bevel: Annotated[Keyed, Row("Bevel", "×", 0.01, 2, 0.0, tip="Bevel of each, as a factor")] = constant(1.0)
    opacity: Annotated[Keyed, Row("Opacity", "%", 0.5, 0, 0, 100, 100, tip="How much of what is behind each is covered")] = constant(1.0)
    tint: Annotated[Keyed, Row("Tint", "%", 0.5, 0, 0, 100, 100, tip="How much of its colour each takes on")] = constant(0.0)
    colour: Rgb = (0.95, 0.72, 0.29)

    @property
    def name(self) -> str:
        return self.label or "Mover"


class Style(msgspec.Struct, frozen=True, kw_only=True):
    """How some of the letters differ: those from the first to the last, both counted, of the text. face: empty for that of the title; size and
    depth as factors; raised: in heights of the letters; colour: None for that of the title."""

    first: int
    last: int
    face: str = ""
    size: float = 1.0
    depth: float = 1.0
    raised: float = 0.0
    colour: Rgb | None = None


AXES_OF_FACES = {"Weight": "wght", "Width": "wdth", "Slant": "slnt", "Italic": "ital", "Optical size": "opsz"}  # registered by OpenType 1.9


class FaceAxis(msgspec.Struct, frozen=True, kw_only=True):
    """A place of a variable face on one of its axes, which can be keyed. tag: of the axis, as 'wght'."""

    id: str
    tag: str
    on: bool = True
    value: Annotated[Keyed, Row("Place", "", 1, 1, -10000, 10000, tip="Where the face stands on this axis; weight 400 is regular, 700 bold")] = (
        constant(400.0)
    )

    @property
    def name(self) -> str:
        return next((name for name, tag in AXES_OF_FACES.items() if tag == self.tag), self.tag)


class Kern(msgspec.Struct, frozen=True, kw_only=True):
    """Extra room after one letter of the text, in ems."""

    letter: int
    by: float = 0.0


AXES = ("across", "away", "up")
POINT = Row("Point", IN_HEIGHTS, 0.01, 2, tip="Where it takes hold, in the object's own axes", names=("x", "y", "z"))
REACH = Row("Radius", IN_HEIGHTS, 0.01, 2, 0.001, tip="What lies farther from the point stays as it is")
SOFT = Row("Soft", "%", 0.5, 0, 0, 100, 100, tip="Share of the radius over which its hold fades")


class Deforming(msgspec.Struct, frozen=True, kw_only=True):
    """Takes the places of a title or logo elsewhere. Lengths and places are in heights of the letters, in the object's own axes."""

    id: str
    label: str = ""
    on: bool = True

    @property
    def name(self) -> str:
        return self.label or type(self).__name__


class Smear(Deforming, frozen=True, kw_only=True, tag="smear"):
    """What lies round a point goes with it to another place."""

    point: Annotated[Keyed, POINT] = constant(0.0, 0.0, 0.5)
    to: Annotated[Keyed, Row("To", IN_HEIGHTS, 0.01, 2, tip="Where the point goes to", names=("x", "y", "z"))] = constant(0.5, 0.0, 0.5)
    radius: Annotated[Keyed, REACH] = constant(0.8)
    soft: Annotated[Keyed, SOFT] = constant(1.0)


class Pull(Deforming, frozen=True, kw_only=True, tag="pull"):
    """What lies round a point goes towards it, or away from it below 0."""

    point: Annotated[Keyed, POINT] = constant(0.0, 0.0, 0.5)
    amount: Annotated[Keyed, Row("Pull", "%", 0.5, 0, -400, 100, 100, tip="Share of the way to the point; below 0 it pushes away")] = constant(0.5)
    radius: Annotated[Keyed, REACH] = constant(0.8)
    soft: Annotated[Keyed, SOFT] = constant(1.0)


class Wave(Deforming, frozen=True, kw_only=True, tag="wave"):
    """A wave that runs along the lines."""

    swing: Annotated[Keyed, Row("Swing", IN_HEIGHTS, 0.005, 2, tip="How far it goes to each side", names=("x", "y", "z"))] = constant(0.0, 0.0, 0.1)
    length: Annotated[Keyed, Row("Length", IN_HEIGHTS, 0.01, 2, 0.02, tip="From crest to crest")] = constant(2.0)
    phase: Annotated[Keyed, Row("Phase", "turns", 0.01, 2, tip="By so many lengths it has run on; keyed, it runs")] = constant(0.0)


class Twist(Deforming, frozen=True, kw_only=True, tag="twist"):
    """Turns about an axis through the middle of the object, more and more from one end to the other. axis: one of AXES."""

    axis: Literal["across", "away", "up"] = "across"
    angle: Annotated[Keyed, Row("Angle", "°", 0.5, 1, -3600, 3600, tip="From one end to the other")] = constant(90.0)


class Bend(Deforming, frozen=True, kw_only=True, tag="bend"):
    """Lays the object on a cylinder about an axis: 'up', its ends go away; 'away', they go down; 'across', its top leans away."""

    axis: Literal["across", "away", "up"] = "up"
    angle: Annotated[Keyed, Row("Angle", "°", 0.5, 1, -720, 720, tip="Of the arc that the object becomes")] = constant(90.0)


class Extruded(Solid, frozen=True, kw_only=True):
    """A solid of flat outlines. profile: of its front edges, one of PROFILES; back: one of BACKS. curve: of a drawn profile, pairs of inset and rise,
    0 to 1, from the side to the face. bevel: how far edges go inward, bevel_height
    how deep, 0 for as deep as they go inward. rounding: radius of corners; wall: only a wall along the outline, 0 for a full body.
    panel: margin of a face within the face, and by how much that is raised (sunk below 0). layers: the same again; deforms: what takes its places elsewhere, one after the other."""

    profile: str = "round"
    curve: tuple[float, ...] = (0.3, 0.6)
    back: str = "same"
    bevel_height: Annotated[Keyed, Row("Edge height", "m", 0.0005, 4, 0.0, tip="How deep its edges go; 0 is as deep as they go inward")] = constant(
        0.0
    )
    rounding: Annotated[Keyed, Row("Rounding", "m", 0.0005, 4, 0.0, tip="Radius by which the corners of its outline are rounded")] = constant(0.0)
    wall: Annotated[Keyed, Row("Wall", "m", 0.0005, 4, 0.0, tip="Only a wall of this thickness along the outline; 0 is a full body")] = constant(0.0)
    panel: Annotated[Keyed, Row("Panel", "m", 0.0005, 4, tip="A face within the face", names=("margin", "rise"))] = constant(0.0, 0.0)
    layers: tuple[Layer, ...] = ()
    deforms: tuple[Smear | Pull | Wave | Twist | Bend, ...] = ()
    surfaces: tuple[Surface, ...] = ()


class Title(Extruded, frozen=True, kw_only=True, tag="title"):
    """Solid letters, centred on x = 0. height is that of the capitals; align: one of ALIGNS, of its lines in the widest one.

    number: what stands for a pattern in braces in the text, as {#,##0.0}.
    features: of OpenType by their tags, as 'smcp, ss01, liga=0'; axes: of a variable face, as 'wght=650'; face_axes: those that are keyed. capitals: all letters as capitals; small_capitals: small letters as small capitals. bend: degrees of the circle on
    which the base line lies, over its whole length, upward bulge above 0; its letters stand on it. path: x, y, z of points, in own axes and
    metres, through which the base line goes smoothly in place of that; path_normal: of the surface that it lies on; lying: whether the letters
    lie on that surface along the path, or stand on it. styles, kerns: what some
    letters have of their own; movers: what moves letter by letter, one after the other.
    """

    LENGTHS = ("height", "depth", "bevel", "bevel_height", "rounding", "wall", "panel")
    NOUN = "Title"

    text: str = "OPEN SKY"
    face: str = "Inter Display Black"
    height: Annotated[Keyed, Row("Height", "m", 0.005, 3, 0.001, tip="Height of the capitals")] = constant(1.0)
    spacing: Annotated[Keyed, Row("Spacing", "%", 0.1, 1, factor=100, tip="Extra room between letters, in % of the em")] = constant(0.0)
    depth: Annotated[Keyed, DEPTH] = constant(0.3)
    bevel: Annotated[Keyed, BEVEL] = constant(0.02)
    align: str = "centre"
    word_spacing: Annotated[Keyed, Row("Word spacing", "%", 0.1, 1, factor=100, tip="Extra room between words, in % of the em")] = constant(0.0)
    line_spacing: Annotated[Keyed, Row("Line spacing", "%", 0.2, 1, -500, 1000, 100, tip="From base line to base line, in % of the em")] = constant(
        1.15
    )
    letter_width: Annotated[Keyed, Row("Width", "%", 0.2, 1, 1, 1000, 100, tip="Width of the letters, their height kept")] = constant(1.0)
    bend: Annotated[Keyed, Row("Bend", "°", 0.5, 1, -360, 360, tip="Lays the base line on a circle: so many degrees of it, upward above 0")] = (
        constant(0.0)
    )
    path: tuple[float, ...] = ()
    path_normal: tuple[float, float, float] = (0.0, 0.0, 1.0)
    lying: bool = False
    along: Annotated[Keyed, Row("Along the path", "%", 0.2, 1, -200, 200, 100, tip="How far the words are along their path, from its middle")] = (
        constant(0.0)
    )
    number: Annotated[
        Keyed, Row("Number", "", 1, 2, tip="Stands in the words where these have a pattern in braces: {#,##0} or {0.00}; keyed, it counts")
    ] = constant(0.0)
    features: str = ""
    axes: str = ""
    capitals: bool = False
    small_capitals: bool = False
    styles: tuple[Style, ...] = ()
    kerns: tuple[Kern, ...] = ()
    movers: tuple[Mover, ...] = ()
    face_axes: tuple[FaceAxis, ...] = ()

    def shape_sized(self, factor: float) -> dict[str, object]:
        return {"path": tuple(x * factor for x in self.path)}

    @property
    def name(self) -> str:
        return self.label or " ".join(self.text.split()) or self.NOUN


class Relief(msgspec.Struct, frozen=True, kw_only=True):
    """One colour of a drawing as a solid of its own. fill: the colour as the drawing has it, '#rrggbb'; colour: what it has here. depth: a factor;
    forward: how far it stands before the others, in heights of the drawing."""

    id: str
    fill: str
    on: bool = True
    colour: Rgb = (0.5, 0.5, 0.5)
    depth: Annotated[Keyed, Row("Depth", "×", 0.01, 2, 0.001, tip="Its depth, as a factor of the depth of the logo")] = constant(1.0)
    forward: Annotated[Keyed, Row("Forward", IN_HEIGHTS, 0.002, 3, tip="How far it stands before the others")] = constant(0.0)
    metal: Annotated[Keyed, METAL] = constant(0.0)
    roughness: Annotated[Keyed, ROUGHNESS] = constant(0.45)
    glow: Annotated[Keyed, GLOW] = constant(0.0)

    @property
    def name(self) -> str:
        return f"Colour {self.fill or 'of a gradient'}"


class Logo(Extruded, frozen=True, kw_only=True, tag="logo"):
    """A solid of a drawing. svg: its source, kept in the shot; lines: whether its lines are taken by their width, also where something is filled; height: of the whole drawing, which stands on z = 0. reliefs: its colours, each
    as a solid; without any the drawing is one solid in one colour."""

    LENGTHS = ("height", "depth", "bevel", "bevel_height", "rounding", "wall", "panel")
    NOUN = "Logo"

    svg: str
    lines: bool = False
    reliefs: tuple[Relief, ...] = ()
    height: Annotated[Keyed, Row("Height", "m", 0.005, 3, 0.001, tip="Height of the whole drawing")] = constant(1.0)
    depth: Annotated[Keyed, DEPTH] = constant(0.1)
    bevel: Annotated[Keyed, BEVEL] = constant(0.01)


class Card(Solid, frozen=True, kw_only=True, tag="card"):
    """A flat card that stands on z = 0, seen from both sides. pattern: 'plain', 'grid' or 'picture'.

    picture: path to a picture, a movie or one picture of a numbered sequence, which plays from the card's first frame on.
    twist: turn about its own z axis, as on a post that leans.
    """

    LENGTHS = ("width", "height")
    NOUN = "Card"

    width: Annotated[Keyed, Row("Width", "m", 0.005, 3, 0.001, tip="Width of the card")] = constant(1.0)
    height: Annotated[Keyed, Row("Height", "m", 0.005, 3, 0.001, tip="Height of the card")] = constant(1.0)
    pattern: str = "plain"
    picture: Annotated[str, MediaPath] = ""
    twist: Annotated[Keyed, Row("About its axis", "°", 0.5, 1, tip="Turn about its own long axis, as on a post that leans")] = constant(0.0)


class Anchor(Thing, frozen=True, kw_only=True, tag="anchor"):
    """A place in the scene that carries others."""

    NOUN = "Anchor"
    BODY = False


class Box(Solid, frozen=True, kw_only=True, tag="box"):
    """A box that stands on z = 0, round the z axis. extent: across, away, up."""

    LENGTHS = ("extent",)
    NOUN = "Box"

    extent: Annotated[Keyed, Row("Sides", "m", 0.01, 2, 0.001, tip="Length of its sides", names=("across", "away", "up"))] = constant(1.0, 1.0, 1.0)


class Tube(Solid, frozen=True, kw_only=True, tag="tube"):
    """A round post along z from 0 to length."""

    LENGTHS = ("length", "thickness")
    NOUN = "Tube"

    length: Annotated[Keyed, Row("Length", "m", 0.01, 3, 0.001, tip="How long the post is")] = constant(1.0)
    thickness: Annotated[Keyed, Row("Thickness", "m", 0.002, 3, 0.001, tip="How thick the post is")] = constant(0.1)


class GroundMesh(Solid, frozen=True, kw_only=True, tag="ground-mesh"):
    """Uneven ground through points: x, y, z of each in own axes, one for each of `tracks`, joined by triangles from above.

    edge: no triangle has a longer side; smooth: rounds in which each point moves towards the mean of its neighbours; fill:
    whether holes inside are closed all the same.
    """

    LENGTHS = ("edge",)
    NOUN = "Ground mesh"
    UNEVEN = True

    points: tuple[float, ...] = ()
    edge: Annotated[Keyed, Row("Longest edge", "m", 0.02, 2, 0.01, tip="Triangles with a longer side are left out")] = constant(2.0)
    smooth: int = 0
    fill: bool = True

    def on_tracks(self, numbers: list[int]) -> Self:
        return msgspec.structs.replace(self, tracks=tuple(numbers))  # a point without a track stays as it is

    def shape_sized(self, factor: float) -> dict[str, object]:
        return {"points": tuple(x * factor for x in self.points)}

    def shape_through(self, own: dict[int, np.ndarray]) -> Self:
        points = np.array(self.points).reshape(-1, 3)
        for row, track in enumerate(self.tracks):
            if track in own:
                points[row] = own[track]
        return msgspec.structs.replace(self, points=tuple(float(v) for v in points.ravel()))


Object = Title | Logo | Card | Anchor | Box | Tube | GroundMesh


def owned(item: msgspec.Struct) -> dict[str, tuple[Layer | Mover | Deforming | FaceAxis | Surface | Relief, ...]]:
    """Fields of an object that hold things with ids of their own, which have keyed values too."""
    return {name: found for name in ("layers", "movers", "deforms", "face_axes", "surfaces", "reliefs") if (found := getattr(item, name, ()))}


def keyed_parts(item: msgspec.Struct) -> dict[str, Keyed]:
    """The values of an object or outline that can be keyed, by the names of their fields."""
    return {name: value for name in item.__struct_fields__ if isinstance(value := getattr(item, name), Keyed)}


def is_there(item: Thing, frame: float) -> bool:
    return item.visible and (item.span is None or item.span[0] <= frame <= item.span[1])


def ancestors(objects: tuple[Object, ...], item: Thing) -> list[Object]:
    """The parents of an object, nearest first; a ring of parents ends where it would begin anew."""
    by_id = {o.id: o for o in objects}
    found: list[Object] = []
    while item.parent in by_id and by_id[item.parent] not in found and len(found) < len(by_id):
        item = by_id[item.parent]
        found.append(item)
    return found
