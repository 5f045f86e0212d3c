"""The reading of each step: how it stands, in one figure or sentence."""

from pathlib import Path
from typing import NamedTuple

from lodestar.core.edits.lights import sun_of
from lodestar.core.evaluate.cameras import ground_problem
from lodestar.core.evaluate.ground import TOLD_SHARE
from lodestar.core.evaluate.objects import problem_of
from lodestar.core.matte.sources import Outline
from lodestar.core.matte.strokes import UNSURE, Brushed
from lodestar.core.scene.ground import level_is_told, points_across_view, says_level
from lodestar.core.shot.document import Shot, solve_is_stale, tracks_are_stale
from lodestar.core.shot.objects import Title
from lodestar.core.solve.report import WORDS
from lodestar.core.work.matting import due_mattes

from .derived import hidden_of, report_of
from .measures import figure, length, sentence

MOTION_WORDS = {"free": "moves", "turning": "turns", "still": "stands still"}
EMPTY, STALE, WORKING, GOOD, DOUBTFUL, BAD = "empty", "stale", "working", "good", "doubtful", "bad"


class Reading(NamedTuple):
    """first and second line; mend: label and command of the link that brings the step up to date, if there is one; hover:
    what more is told under the pointer."""

    state: str
    first: str
    second: str = ""
    mend: tuple[str, str] | None = None
    hover: str = ""


def plural(n: int, word: str) -> str:
    return f"{n} {word}{'' if n == 1 else 's'}"


def rate_text(rate: tuple[int, int]) -> str:
    fps = rate[0] / rate[1]
    return figure(fps, 0) if abs(fps - round(fps)) < 1e-6 else figure(fps, 3)


def plate(shot: Shot) -> Reading:
    p = shot.plate
    if p is None:
        return Reading(EMPTY, "nothing yet")
    count = shot.last - shot.first + 1
    range_ = "" if count == p.count else f" of {p.count}"
    varies = " · rate varies" if p.rate_varies else ""
    return Reading(DOUBTFUL if p.rate_varies else GOOD, f"{p.width} × {p.height} · {rate_text(p.rate)} fps", f"{count}{range_} frames{varies}")


def track(shot: Shot) -> Reading:
    t = shot.tracks
    if t is None:
        return Reading(EMPTY, "nothing yet")
    kept = int((~t.rejected).sum())
    if tracks_are_stale(shot):
        return Reading(STALE, "stale · settings are newer", "", ("Bring up to date", "track"))
    away = t.count - kept
    return Reading(
        GOOD if kept > 100 else DOUBTFUL,
        plural(kept, "track"),
        f"{away} rejected" if away else f"{figure(len(t.frame) / max(t.count, 1), 0)} frames each",
    )


def solve(shot: Shot) -> Reading:
    s = shot.solve
    if s is None:
        return Reading(EMPTY, "nothing yet")
    if solve_is_stale(shot):
        return Reading(STALE, "stale · tracks are newer", "", ("Bring up to date", "solve"))
    worst = int(s.frames[s.frame_error.argmax()])
    fps = shot.plate.fps if shot.plate else 25
    second = f"worst {figure(s.frame_error.max(), 2)} px at {figure(worst / fps, 1)} s"
    told = report_of(shot) if shot.tracks is not None else None
    if told is None:
        # common practice, no source: under 1 px is usable
        state = GOOD if s.mean_px < 0.6 else DOUBTFUL if s.mean_px < 1 else BAD
        return Reading(state, f"{figure(s.mean_px, 2)} px · {WORDS[state]}", second)
    hover = f"{sentence(told.verdict)} {sentence(told.action)}\nWorst in time: frame {worst}, {figure(s.frame_error.max(), 2)} px. Worst in the picture: {told.worst_place}."
    return Reading(told.state, f"{figure(s.mean_px, 2)} px · {told.word}", second, hover=hover)


def ground(shot: Shot) -> Reading:
    s, g = shot.solve, shot.ground
    if s is None:
        return Reading(EMPTY, "nothing yet")
    problem = ground_problem(shot)
    if problem:
        return Reading(BAD, "not level", problem)
    unit = "1 unit = 1 m" if g.measured else "no distance yet"
    if s.motion != "free":
        return Reading(GOOD, f"level · camera {'still' if s.motion == 'still' else 'turns'}", f"eye at {length(g.eye_height, 'm', 'g')}")
    ways = (
        [plural(len(g.on_ground), "point")] * bool(g.on_ground)
        + [plural(len(g.uprights), "upright")] * bool(g.uprights)
        + ["horizon"] * bool(g.horizon)
    )
    by_hand = g.turned != (0.0, 0.0, 0.0)
    if not says_level(g) and not level_is_told(s):
        return Reading(DOUBTFUL, "level unsure", "as the camera was held")
    if not says_level(g) and len(points_across_view(s)):
        return Reading(DOUBTFUL, "level unsure", "few points on it")
    return Reading(GOOD, f"level · {unit}", f"from {', '.join(ways)}" if ways else "turned by hand" if by_hand else "found by itself")


def place(shot: Shot) -> Reading:
    if not shot.objects:
        return Reading(EMPTY, "nothing yet")
    for item in shot.objects:
        if problem := problem_of(item, shot.first):
            return Reading(BAD, f"{item.name} cannot be drawn", problem, hover=problem)
    for item in shot.objects:
        if item.visible and hidden_of(shot, item, shot.first) > TOLD_SHARE:
            return Reading(DOUBTFUL, f"{item.name} is partly hidden", "under the ground")
    titles, hidden = sum(isinstance(o, Title) for o in shot.objects), sum(not o.visible for o in shot.objects)
    unseen = sum(not o.drawn for o in shot.objects if not isinstance(o, Title))
    rest = len(shot.objects) - titles - unseen
    counts = ((titles, "title"), (rest, "other" if titles else "object"), (unseen, "stand-in"))
    said = [plural(count, what) for count, what in counts if count]
    return Reading(GOOD, " · ".join(said), f"{hidden} hidden" if hidden else shot.objects[0].name)


def light(shot: Shot) -> Reading:
    if not shot.objects:
        return Reading(EMPTY, "nothing yet")
    sun, lines, around = sun_of(shot), shot.shadow.lines, shot.surroundings
    lit_by = {"sky": "the new sky", "picture": Path(around.picture).stem or "a picture"}.get(around.kind, around.kind)
    if sun is None or not sun.on:
        return Reading(GOOD, f"lit by {lit_by}" if around.on else "sky light only", "from all around" if around.on else "")
    first = f"sun {figure(sun.bearing.at(shot.first)[0], 0)}° / {figure(sun.height.at(shot.first)[0], 0)}°"
    if around.on:
        return Reading(GOOD, first, f"and {lit_by}")
    if lines:
        return Reading(GOOD, first, f"from {plural(len(lines), 'shadow')}")
    if sun.usual:
        return Reading(
            DOUBTFUL, first, "not the place's yet", hover="Nobody said where the sun stands: drag along a shadow at Light, or set it by hand."
        )
    return Reading(GOOD, first, "set by hand")


def foreground(shot: Shot) -> Reading:
    if not shot.mattes:
        return Reading(EMPTY, "nothing yet")
    count, painted = len(shot.frames), [m for m in shot.mattes if isinstance(m, Brushed)]
    if due_mattes(shot) and any(m.found for m in painted):
        return Reading(STALE, "a subject is to be followed", "", ("Bring up to date", "follow-due"))
    keys = sum(len(m.shape.keys) for m in shot.mattes if isinstance(m, Outline))
    second = plural(keys, "drawn frame") if keys else shot.mattes[0].name
    if painted:
        found = min(sum(f.frame in shot.frames for f in m.found) for m in painted)
        unsure = sum(f.sure < UNSURE for m in painted for f in m.found)
        second = f"{found} of {count}" + (f" · {unsure} unsure" if unsure else "")
        return Reading(DOUBTFUL if unsure or found < count else GOOD, plural(len(shot.mattes), "matte"), second)
    return Reading(GOOD, plural(len(shot.mattes), "matte"), second)


def finish(shot: Shot) -> Reading:
    shutter, entries = shot.exposure.shutter.at(shot.first)[0], [e for e in shot.finish if e.on]
    if not shot.objects and not entries:
        return Reading(EMPTY, "nothing yet")
    blur = f"motion blur {figure(shutter * 360, 0)}°" if shutter > 0 else "no motion blur"
    grain = ["the clip's grain"] * (shot.exposure.grain.at(shot.first)[0] > 0)
    return Reading(GOOD, blur, " · ".join([*grain, *(e.name.lower() for e in entries)]))


def output(shot: Shot) -> Reading:
    if not shot.output.path:
        return Reading(EMPTY, "nothing written")
    return Reading(GOOD, "written", shot.output.path.rsplit("/", 1)[-1])


READINGS = {
    "Plate": plate,
    "Track": track,
    "Solve": solve,
    "Ground": ground,
    "Place": place,
    "Light": light,
    "Foreground": foreground,
    "Finish": finish,
    "Output": output,
}
