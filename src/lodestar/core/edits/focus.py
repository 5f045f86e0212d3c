"""What is sharp: the distance is set by pointing at things."""

import msgspec
import numpy as np

from ..basics.errors import UserError
from ..basics.keyed import How
from ..evaluate.cameras import camera_at
from ..evaluate.objects import box_of, pose_of
from ..scene.poses import moved
from ..shot.document import Shot


def with_focus_at(shot: Shot, id_: str, frame: int, how: How) -> Shot:
    """The shot with the object of this id in focus at a frame. Raises UserError where it is behind the camera or not there."""
    item = next((o for o in shot.objects if o.id == id_), None)
    if item is None or not item.BODY:
        raise UserError("No object is chosen that could be in focus.", "Choose one in the picture first.")
    middle = moved(pose_of(shot, item, frame), np.mean(box_of(item, frame), axis=0))
    camera = camera_at(shot, frame)
    away = float(camera.R[2] @ middle + camera.t[2])
    if away <= 0:
        raise UserError(f"{item.name} is behind the camera in this frame.", "Go to a frame that shows it.")
    focus = shot.focus
    return msgspec.structs.replace(
        shot, focus=msgspec.structs.replace(focus, on=True, distance=focus.distance.changed(frame, (round(away, 3),), how))
    )
