"""The lights of a shot at a time."""

import numpy as np

from ..light.sun import direction
from ..render.gpu import Lamp
from ..shot.document import Shot


def lamp_at(shot: Shot, index: float) -> Lamp:
    light = shot.light
    strength, sky = light.strength.at(index)[0] if light.on else 0.0, light.sky.at(index)[0]
    return Lamp(direction(light.bearing.at(index)[0], light.height.at(index)[0]), strength * np.array(light.colour),
                sky * np.array(light.sky_colour), light.softness.at(index)[0])  # fmt: skip
