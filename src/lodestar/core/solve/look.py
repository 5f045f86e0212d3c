"""A first look at how a camera moves: whether it stands still, turns on one spot, or moves."""

from typing import NamedTuple

import numpy as np

from ..basics.errors import SolveError
from ..basics.job import Job
from .adjust import Scene
from .constants import SOLVER
from .lensing import Lensing
from .result import Solve, SolveSettings
from .standing import still_parts, way_px
from .turning import keyframe_step, solve_turning, turning_votes
from .views import Table


class FirstLook(NamedTuple):
    """What a first look says of a camera: its motion, and why; the turning solve by which that was said, if one was made, and what it leaves in the middle, px."""

    motion: str
    why: str
    turned: Scene | None = None
    left_px: float = np.inf


def first_look(table: Table, lens: Lensing, settings: SolveSettings, refined: Solve | None, job: Job, zooms: bool) -> FirstLook:
    """refined: a solve that is gone on from. Raises SolveError where the camera was asked for as a moving one, and stands still."""
    asked = settings.motion
    if asked != "still" and not zooms:
        way = way_px(table)
        still = way < SOLVER.still_px * max(1.0, table.width / 1280)
        if still and asked == "free":
            raise SolveError(
                f"The camera stands still: half of the tracks move less than {way:.1f} px over the whole range.",
                "Let the program find out how the camera moves, or say that it stands still.",
            )
        if still:
            return FirstLook("still", f"half of the tracks move less than {max(way, 0.1):.1f} px over all frames")
        if asked == "auto" and (share := still_parts(table)) > SOLVER.still_parts:
            return FirstLook("still", f"what is seen for long stands still in {share:.0%} of the picture")
    motion = refined.motion if refined is not None and asked == "auto" else asked
    if motion == "still" and zooms:
        motion = "turning"  # by as little as may be
    if refined is not None or motion == "still":
        return FirstLook(motion, "refined from the solve before" if refined is not None else f"{motion}, as you asked")
    every = keyframe_step(table.frames)
    turned = solve_turning(table, lens, every, job, zooms)
    share, left_px = turning_votes(table, turned, every)
    if asked != "auto":
        return FirstLook(motion, f"{asked}, as you asked", turned, left_px)
    if share <= 0.5:
        return FirstLook("free", f"turning alone leaves {left_px:.1f} px, and fits {share:.0%} of the frame pairs", turned, left_px)
    # two frames' noise along two axes make a median distance of 1.67 sigma
    nearly = left_px > SOLVER.nearly_turning_noises * max(table.noise_px, 0.1)
    carried = "nearly turning, the lens was carried round a little: " if nearly else ""
    return FirstLook("turning", f"{carried}turning alone explains {share:.0%} of the frame pairs, to {left_px:.2f} px", turned, left_px)
