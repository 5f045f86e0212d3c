"""Bringing a shot up to date: every step of work that is missing or stale, in the order of work, each a function from shot to shot."""

from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

from ..basics.errors import UserError
from ..basics.job import Job
from ..shot.document import Shot, solve_is_stale, tracks_are_stale
from .matting import due_mattes, follow_due
from .solving import solve_shot
from .tracking import track_shot


class Step(NamedTuple):
    """is_due: whether a shot needs it done."""

    name: str
    is_due: Callable[[Shot], bool]
    run: Callable[[Shot, Job], Shot]


STEPS = (
    Step("track", lambda shot: shot.tracks is None or tracks_are_stale(shot), track_shot),
    Step("solve", lambda shot: shot.solve is None or solve_is_stale(shot), solve_shot),
    Step("mattes", lambda shot: bool(due_mattes(shot)), follow_due),
)


def steps_named(names: Iterable[str]) -> list[Step]:
    """The steps of these names, in the order of work. Raises UserError for a name that is none."""
    names = list(names)
    known = [step.name for step in STEPS]
    for name in names:
        if name not in known:
            raise UserError(f"'{name[:40]}' is no step that can be brought up to date.", f"There are: {', '.join(known)}.")
    return [step for step in STEPS if step.name in names]


def brought_up_to_date(shot: Shot, job: Job, steps: Iterable[Step] = STEPS) -> Iterator[tuple[Step, Shot]]:
    """Run the steps that are due; after each, it and the shot so far. A step may make a later one due.

    Raises what the step raises; what came before was given out already and stays good.
    """
    for step in steps:
        if step.is_due(shot):
            job.begin()
            shot = step.run(shot, job)
            yield step, shot
