"""Sensor widths by the name of their format, so that a focal length in millimetres can be told in pixels.

An open list ships with the program (widths are common practice, no source; makers differ by some tenths of a millimetre); a
file of the same form in the user's configuration folder adds to it, or replaces what has the same name.
"""

import json
import os
from pathlib import Path

import msgspec

from ..basics.errors import UserError

SHIPPED = Path(__file__).resolve().parents[2] / "sensors.json"


class Sensor(msgspec.Struct, frozen=True):
    """width_mm: of the part that makes the picture."""

    name: str
    width_mm: float


def own_list() -> Path:
    """Where a user's own sensors are kept."""
    return Path(os.environ.get("XDG_CONFIG_HOME", "~/.config")).expanduser() / "bright-lodestar" / "sensors.json"


def sensors() -> list[Sensor]:
    """The shipped and the user's own, by falling width. Raises UserError when the user's file cannot be understood."""
    found = {s.name: s for s in msgspec.json.decode(SHIPPED.read_bytes(), type=list[Sensor])}
    path = own_list()
    if path.exists():
        try:
            mine = msgspec.json.decode(path.read_bytes(), type=list[Sensor])
        except (msgspec.MsgspecError, OSError) as error:
            raise UserError(
                f"The list of sensors {path} cannot be understood ({error}); the shipped one is used.",
                'Write it as [{"name": "Mine", "width_mm": 22.3}], or delete it.',
            ) from error
        found |= {s.name: s for s in mine if s.width_mm > 0}
    return sorted(found.values(), key=lambda s: -s.width_mm)


def remember(sensor: Sensor) -> None:
    """Add a sensor to the user's own list, or change its width. Raises UserError when the folder cannot be written."""
    path = own_list()
    try:
        mine = msgspec.json.decode(path.read_bytes(), type=list[Sensor]) if path.exists() else []
        mine = [s for s in mine if s.name != sensor.name] + [sensor]
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(json.dumps(msgspec.to_builtins(mine), indent=1))
    except (OSError, msgspec.MsgspecError) as error:
        raise UserError(f"The list of sensors {path} cannot be written ({error}).", "Look whether the folder may be written to.") from error


def focal_px(focal_mm: float, sensor_mm: float, width_px: int) -> float:
    """Focal length in pixels of the picture that the sensor's width is shown in."""
    return focal_mm / sensor_mm * width_px
