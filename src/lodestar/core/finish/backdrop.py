"""The sky that is put in place of the plate's, infinitely far away."""

from typing import Annotated, Literal

import msgspec

from ..basics.geometry import F64, turn_matrix
from ..basics.keyed import Keyed, constant
from ..basics.rows import MediaPath, Row

KINDS = ("clear", "overcast", "dusk", "picture")

Rgb = tuple[float, float, float]


class Backdrop(msgspec.Struct, frozen=True, kw_only=True):
    """mattes: ids of those inside which it is seen, on or off; it is seen nowhere without one. kind: one of KINDS; picture: path of a still, a
    sequence or a movie, for 'picture'. heading, tilt, roll: degrees by which it is turned to the right, up and about the view;
    width: how many degrees of the horizon a picture covers, 360 for a full sphere. drift: degrees a second to the right. exposure: stops.
    own_light: luminance of the plate's own sky, white 1; 0 where it is not known. matched: the exposure by which it was made as bright as that.
    horizon: height in degrees under which it is not seen, and at which it ends: under 0 where the plate shows its sky over ground that falls away.
    haze: how much of it is lost in haze at the horizon, which halves with each `haze_height` degrees; haze_colour: linear light.
    grain: how much of the plate's own grain it has; soft: px of blur."""

    on: bool = False
    mattes: tuple[str, ...] = ()
    kind: Literal["clear", "overcast", "dusk", "picture"] = "clear"
    picture: Annotated[str, MediaPath] = ""
    heading: Annotated[Keyed, Row("Heading", "°", 0.5, 1, tip="Turns it to the right; or drag it in the picture")] = constant(0.0)
    tilt: Annotated[Keyed, Row("Tilt", "°", 0.2, 1, -90, 90, tip="Raises it")] = constant(0.0)
    roll: Annotated[Keyed, Row("Roll", "°", 0.2, 1, tip="Turns it about the middle of its view")] = constant(0.0)
    width: Annotated[Keyed, Row("Covers", "°", 1, 1, 5, 360, tip="How much of the horizon a picture covers; 360 is a full sphere")] = constant(360.0)
    drift: Annotated[Keyed, Row("Drift", "°/s", 0.01, 2, -30, 30, tip="How fast it drifts to the right, as clouds do")] = constant(0.0)
    exposure: Annotated[Keyed, Row("Exposure", "stops", 0.02, 2, -10, 10, tip="A stop more is twice the light")] = constant(0.0)
    own_light: float = 0.0
    matched: float = 0.0
    horizon: Annotated[
        Keyed, Row("Sky ends at", "°", 0.1, 1, -30, 30, tip="Height at which the plate's sky ends; under 0 where the ground falls away before it")
    ] = constant(0.0)
    haze: Annotated[
        Keyed,
        Row(
            "Haze",
            "%",
            0.5,
            0,
            0,
            100,
            100,
            tip="How much of it is lost in haze at the horizon, which has the colour of the farthest ground at first",
        ),
    ] = constant(0.0)
    haze_height: Annotated[Keyed, Row("Haze height", "°", 0.1, 1, 0.1, 90, tip="The haze halves with each of these")] = constant(4.0)
    haze_colour: Rgb = (0.55, 0.60, 0.66)
    grain: Annotated[Keyed, Row("Grain", "%", 1, 0, 0, 200, 100, tip="How much of the plate's own grain it has")] = constant(1.0)
    soft: Annotated[Keyed, Row("Softness", "px", 0.05, 2, 0, 30, tip="Blur, to be as soft as the plate")] = constant(0.6)

    name = "New sky"


def turn_of(backdrop: Backdrop, frame: float, seconds: float) -> F64:
    """(3, 3) from directions of the scene to those of the sky, in which y is the middle of the picture and z is up."""
    heading = backdrop.heading.at(frame)[0] + backdrop.drift.at(frame)[0] * seconds
    # to the right is clockwise from above
    return turn_matrix((-heading, backdrop.tilt.at(frame)[0], backdrop.roll.at(frame)[0])).T
