"""The edge of a matte, measured over the range of a shot."""

import functools

import cv2
import numpy as np

from ..basics.errors import UserError
from ..basics.job import Job
from ..matte.measure import Edge, measured, together
from ..picture.frame import frame
from ..picture.workshop import own_workshop
from ..shot.document import Shot

FRAMES = 12  # that are looked at, evenly over the range, each with the one before and the one after


def measure_edge(shot: Shot, id_: str, job: Job) -> Edge:
    """Width and flicker of the edge of the matte with this id, as it is in the picture, on or off. Raises UserError where it has no edge in any of the
    frames. The picture's own motion is found by dense inverse search. Source: T. Kroeger et al., Fast Optical Flow using Dense Inverse Search, 2016
    (OpenCV)."""
    found = []
    middles = np.unique(np.linspace(shot.first + 1, max(shot.last - 1, shot.first + 1), FRAMES).astype(int))
    plate = shot.plate
    assert plate is not None
    motion = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    with own_workshop() as workshop:
        clip = workshop.plate(plate)
        for number, at in enumerate(middles):
            check = functools.partial(job.step, number / len(middles), f"frame {at}")
            near = [int(index) for index in (at - 1, at, at + 1) if shot.first <= index <= shot.last]
            covers = [frame(shot, index, layer="matte", mattes=(id_,), check=check).pixels for index in near]
            check()
            # the decoder keeps its pictures only for a while
            grey = [clip.luma(index).copy() for index in near]
            flows = [motion.calc(grey[1], grey[k], np.zeros((*grey[1].shape, 2), np.float32)) for k in (0, 2)] if len(near) == 3 else []
            found.append(measured(covers, flows))
    edge = together(found)
    if not edge.points:
        raise UserError(
            "This matte has no edge inside the picture in any of the frames that were looked at.", "Go to where it is seen, and look at it."
        )
    return edge
