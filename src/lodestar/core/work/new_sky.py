"""The plate's own sky, looked for in a few frames of the clip."""

from ..basics.errors import UserError
from ..basics.job import Job
from ..evaluate.old_sky import OldSky, far_ground, lowest_sky, sky_key, sky_luminance, with_sky_of
from ..picture.frame import light_frame
from ..shot.document import Shot


def find_sky(shot: Shot, frame: int, job: Job) -> OldSky:
    """The sky of the plate by its colours in this frame, and how far down it goes in others too: what is hidden in one may be seen in another.

    Raises UserError where there is no clip, or nothing of the frame lies over the horizon; PlateError.
    """
    plate = shot.plate
    if plate is None:
        raise UserError("There is no clip whose sky could be found.", "Open a clip first.")
    light = light_frame(plate, frame)
    key = sky_key(shot, light, frame)
    others = sorted({shot.first, (shot.first + shot.last) // 2, shot.last} - {frame})
    lights = {other: light_frame(plate, other) for other in others}
    for number, other in enumerate(others):
        job.step((number + 1) / (2 * len(others) + 1), f"frame {other}")
        key = with_sky_of(key, shot, lights[other], other)
    lowest = lowest_sky(shot, light, frame, key)
    for number, other in enumerate(others):
        job.step((len(others) + number + 1) / (2 * len(others) + 1), f"frame {other}")
        lowest = min(lowest, lowest_sky(shot, lights[other], other, key))
    return OldSky(key, lowest, sky_luminance(light, frame, key), far_ground(shot, light, frame, key, lowest))
