"""What takes long: each step runs as a job on a shot and gives back a change, taken while what it was made from is still there."""

import time
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

import msgspec
import numpy as np
from PyQt6.QtCore import QObject, QTimer

from lodestar.core.basics.apart import SECONDS, checked
from lodestar.core.basics.errors import UserError
from lodestar.core.basics.job import Job
from lodestar.core.basics.paths import text_of
from lodestar.core.edits.lights import with_shadow_lines
from lodestar.core.edits.settle import with_ground, with_solve, with_tracks
from lodestar.core.matte.strokes import INSIDE, UNSURE, Brushed, Found, Stroke, painted, with_found
from lodestar.core.media.pictures import picture_frame
from lodestar.core.scene.ground import points_across_view, proposal, says_level
from lodestar.core.shape.drawings import MOST_BYTES, check_svg, is_quick
from lodestar.core.shape.trace import traced
from lodestar.core.shot.document import ShadowLine, Shot, solving_reads, tracking_reads
from lodestar.core.shot.history import Edit
from lodestar.core.shot.motion import with_things
from lodestar.core.work import delivery, matting, solving, tracking
from lodestar.core.work.matting import due_mattes

from .derived import Worked, keep, pieces_of, work_out
from .measures import figure

FRAMES_MS = 250  # between looks at what was found meanwhile
GLIMPSE_MS = 25  # after which a first guess of a subject is looked for again
Reads = Callable[[Shot], dict[str, Any]]


class Made(NamedTuple):
    """What a job made: the change to the shot, and what is done once it is taken."""

    change: Edit
    then: Callable[[], None] = lambda: None


class _Along:
    """The picture goes along with work on the foreground, until somebody goes to another frame. begun: the frame that was shown before."""

    def __init__(self, session) -> None:
        self.session, self.history = session, session.history
        self.begun = self._last = session.frame

    def show(self, frame: int) -> None:
        session = self.session
        if session.frame == self._last and session.step == "Foreground" and session.history is self.history:
            self._last = frame
            session.show_frame(frame)


class LongWork(QObject):
    def __init__(self, session) -> None:
        super().__init__(session)
        self.session = session
        self.selector = matting.Selector()
        self.glimpse: Brushed | None = None  # what is being found of a subject, as it looks so far
        self._follow: Job | None = None  # which follows a subject
        self._ahead: Job | None = None  # which looks at other frames while a stroke is painted,
        self._ahead_of: tuple[object, int] | None = None  # and the clip and the frame that it is for
        session.jobs.changed.connect(self._drop_glimpse)

    def run_job(self, name: str, step: str, function: Callable[[Job], Any], done: Callable[[Any], object]) -> None:
        session = self.session
        cancelled = lambda: session.tell(f"{name} was cancelled.", "The shot is as it was.")
        if not session.jobs.start(name, step, function, done, session.fail, cancelled):
            session.tell(f"{session.jobs.name} is still running.", "Wait for its end, or cancel it at the foot of the course.", "doubtful")

    def run_change(self, name: str, step: str, reads: Reads, function: Callable[[Job], Any], made: Callable[[Any], Made]) -> None:
        """Run a job that changes the shot. What it reads of the shot is compared by identity when it ends: where that changed
        meanwhile, its result is offered, not applied."""
        session = self.session
        history, before = session.history, reads(session.shot)

        def end(result: Any) -> None:
            change, then = made(result)
            now = reads(session.shot)
            changed = [part for part, value in before.items() if now[part] is not value and now[part] != value]
            if history is not session.history or "the clip" in changed:
                session.tell(f"{name} ended, but another clip is open now.", "Its result was dropped; run it again here.", "doubtful")
            elif changed:
                take = lambda: self._take(name, history, change, then)
                session.tell(
                    f"{name} ended, but {' and '.join(changed)} changed meanwhile.",
                    "Its result fits the shot as it was.",
                    "doubtful",
                    ("Take it all the same", take),
                    ("Drop it", lambda: None),
                )
            else:
                self._take(name, history, change, then)

        self.run_job(name, step, function, end)

    def _take(self, name: str, history: object, change: Edit, then: Callable[[], None]) -> None:
        if history is not self.session.history:
            self.session.tell(f"The result of {name} belongs to a shot that is not open any more.", "It was dropped.", "doubtful")
            return
        self.session.land(name, change)
        then()

    # track and solve -----------------------------------------------------------------------------------------------------------

    def track(self) -> None:
        shot = self.session.shot
        self.run_change(
            "Track", "Track", tracking_reads, lambda job: tracking.track_shot(shot, job), lambda result: Made(lambda s: with_tracks(s, result.tracks))
        )

    def solve(self) -> None:
        shot = self.session.shot
        self.run_change(
            "Solve", "Solve", solving_reads, lambda job: self._with_worked(solving.solve_shot(shot, job)), lambda done: self._solved(*done)
        )

    def track_and_solve(self) -> None:
        """Bring everything up to the solve up to date, as one job."""
        shot = self.session.shot

        def both(job: Job) -> tuple[Shot, Worked]:
            job.stage(0.0, 0.5)
            tracked = tracking.track_shot(shot, job)
            job.stage(0.5, 1.0)
            return self._with_worked(solving.solve_shot(tracked, job))

        reads = lambda s: {**tracking_reads(s), **solving_reads(s)}
        self.run_change("Track and solve", "Track", reads, both, lambda done: self._solved(*done))

    @staticmethod
    def _with_worked(solved: Shot) -> tuple[Shot, Worked]:
        """A solved shot and what takes long to work out of it, while its job runs anyway."""
        return solved, work_out(solved)

    def _solved(self, result: Shot, worked: Worked) -> Made:
        """The tracks that were solved and their solve, as one change: neither is ever taken without the other."""

        def change(shot: Shot) -> Shot:
            return with_solve(with_tracks(shot, result.tracks), result.solve)

        def then() -> None:
            keep(self.session.shot, worked)
            if result.solve is not None and result.solve.warning:
                look = (("Show the pieces", lambda: self.session.show_step("Track")),) if len(pieces_of(self.session.shot)) > 1 else ()
                self.session.tell(result.solve.warning, "", "doubtful", *look)
            else:
                self._propose_level()

        return Made(change, then)

    def _propose_level(self) -> None:
        """After a solve: what was found of the ground, to be kept with one click, or what to do where nothing was; silent where the user
        said it already."""
        solve = self.session.shot.solve
        if says_level(self.session.shot.ground):
            return
        across, show = len(points_across_view(solve)), lambda: self.session.show_step("Ground")
        down = (("It looks down", self.look_down),) if across else ()
        also = f" Few points lie on that ground, and {across} on a plane across the view." if across else ""
        holds = lambda: self.session.shot.solve is solve and not says_level(self.session.shot.ground)
        try:
            what, actions = f"The scene is {proposal(solve)[1]}.", (("Level is right", self.keep_level), ("Look at it", show))
            self.session.tell(what + also, "", "doubtful" if across else "note", *down, *actions, holds=holds)
        except UserError:
            if solve.motion != "free":  # a turn shows how the camera was held
                return
            what = "Nothing in the clip tells which way is up; the scene is level as the camera was held."
            hint = "Draw the horizon or what is upright, or choose points on the ground."
            self.session.tell(what + also, hint, "doubtful", *down, ("Show the ground", show), holds=holds)

    def keep_level(self) -> None:
        """What was found of the ground becomes what was said of it."""

        def keep(shot: Shot) -> Shot:
            if shot.solve is None:
                return shot
            found, _ = proposal(shot.solve)
            return with_ground(shot, msgspec.structs.replace(shot.ground, on_ground=found.on_ground, uprights=found.uprights))

        self.session.edit("Keep the level that was found", keep)

    def look_down(self) -> None:
        """The plane across the view becomes the ground."""

        def look(shot: Shot) -> Shot:
            if shot.solve is None:
                return shot
            below = tuple(int(i) for i in shot.solve.point_ids[points_across_view(shot.solve)])
            return with_ground(shot, msgspec.structs.replace(shot.ground, on_ground=below, uprights=()))

        self.session.edit("The camera looks down", look)

    # drawings ------------------------------------------------------------------------------------------------------------------

    def read_media(self, path: str | Path, read: Callable[[], Any], then: Callable[[Any], object]) -> None:
        """Give what is read of a file of pictures: as a job, since a file may be anything; at once where another job is running."""

        def work(job: Job) -> Any:
            began = time.monotonic()
            with checked(lambda: job.step((time.monotonic() - began) / SECONDS, Path(path).name)):
                return read()

        if not self.session.jobs.busy:
            self.run_job("Opening", self.session.step, work, then)
            return
        try:
            found = work(Job())
        except UserError as error:
            self.session.fail(error)
        else:
            then(found)

    def read_drawing(self, path: Path, then: Callable[[str], None]) -> None:
        """Give the source of a drawing (SVG), or of the outline of a cut-out picture, that can stand as a solid: at once, or as a job where
        it is a heavy one or a picture."""
        text = ""
        if path.suffix.lower() == ".svg":
            try:
                text = text_of(path, MOST_BYTES)
                if is_quick(text, True):
                    then(check_svg(text, lines=True))
                    return
            except UserError as error:
                self.session.fail(error)
                return

        def read(job: Job) -> str:
            drawing = text or traced(picture_frame(str(path), 0), lambda share: job.step(share, path.name))
            began = time.monotonic()
            return check_svg(drawing, lambda: job.step((time.monotonic() - began) / SECONDS, path.name), True)

        self.run_job("Read the drawing", "Place", read, then)

    # brushed mattes -------------------------------------------------------------------------------------------------------------

    def paint(self, id_: str, strokes: tuple[Stroke, ...]) -> None:
        """Add strokes of one frame to a brushed matte, or begin one, and find its subject on that frame: one step of undo."""
        session, shot, frame = self.session, self.session.shot, strokes[0].frame
        old = next((m for m in shot.mattes if m.id == id_), None)
        source = painted(old if isinstance(old, Brushed) else None, id_, len(shot.mattes) + 1, strokes)

        def made(found: Found | None) -> Made:
            def change(now: Shot) -> Shot:
                there = next((m for m in now.mattes if m.id == id_), None)
                new = painted(there if isinstance(there, Brushed) else None, id_, len(now.mattes) + 1, strokes)
                new = with_found(new, found) if found is not None else new
                return with_things(now, {id_: new}) if there is not None else msgspec.structs.replace(now, mattes=(*now.mattes, new))

            return Made(change, lambda: session.select(id_))

        seen = deque[Found](maxlen=1)

        def look() -> None:
            if seen and self.glimpse is not None:
                self.glimpse = with_found(source, seen.pop())
                session.view_changed.emit()
            if self.glimpse is not None:
                QTimer.singleShot(GLIMPSE_MS, look)

        def find(job: Job) -> Found | None:
            if source.at(frame) is None and not any(s.means == INSIDE for s in source.strokes if s.frame == frame):
                return None  # what is not of it alone finds nothing yet
            return self.selector.select(shot, source, frame, job, seen.append)

        self.glimpse = source
        self.run_change("Paint a subject", "Foreground", lambda s: {"the clip": s.plate}, find, made)
        look()

    def read_shadow(self, source: Brushed) -> None:
        """Set the sun by the shadow of a painted subject, beside the shadows that were drawn."""
        session, shot = self.session, self.session.shot

        def reads(s: Shot) -> dict[str, Any]:
            return {"the clip": s.plate, "the solve": s.solve, "the ground": s.ground}

        def made(line: ShadowLine) -> Made:
            words = (
                f"The shadow of {source.name} was found, and sets the sun.",
                "Compare it in the picture; where it is off, forget it under Sun from shadows.",
            )
            once = lambda s: with_shadow_lines(s, (*(other for other in s.shadow.lines if other != line), line))  # read again it is the same
            return Made(once, lambda: session.tell(*words))

        self.run_change("Sun from a shadow", "Light", reads, lambda job: matting.shadow_of_subject(shot, source, job), made)

    def look_ahead(self, frame: int) -> None:
        """While the first stroke on a frame is painted, read of other frames what its subject will be found by."""
        session, shot = self.session, self.session.shot
        if shot.plate is None or self._ahead_of == (shot.plate, frame):
            return
        # what cannot be read is told when the subject is looked for
        if session.jobs.start(
            "Look at other frames", "Foreground", lambda job: self.selector.look_ahead(shot, frame, job), lambda _: None, lambda _: None
        ):
            self._ahead, self._ahead_of = session.jobs.job, (shot.plate, frame)

    def stop_looking(self) -> None:
        """The stroke is ready: it shall not wait."""
        if self._ahead is not None and self.session.jobs.job is self._ahead:
            self.session.jobs.cancel()

    def _drop_glimpse(self) -> None:
        if self.glimpse is not None and not self.session.jobs.busy:
            self.glimpse = None
            self.session.view_changed.emit()

    @property
    def following(self) -> bool:
        """Whether a subject is being followed: the shot changes by itself, frame by frame."""
        return self._follow is not None and self.session.jobs.job is self._follow

    def follow_due(self) -> None:
        due = due_mattes(self.session.shot)
        if due:
            self.follow_matte(due[0].id)

    def next_unsure(self, id_: str) -> None:
        """Go to the next frame on which a painted subject should be looked at; after the last one to the first."""
        source, session = next((m for m in self.session.shot.mattes if m.id == id_), None), self.session
        frames = [f.frame for f in source.found if f.sure < UNSURE] if isinstance(source, Brushed) else []
        later = [f for f in frames if f > session.frame] or frames
        if later:
            session.show_frame(later[0])

    def follow_matte(self, id_: str) -> None:
        """Follow a painted subject through the shot. Frames are taken as they come, and stay when it is cancelled. The picture goes along, until somebody
        goes to another frame."""
        session, shot = self.session, self.session.shot
        source = next((m for m in shot.mattes if m.id == id_), None)
        if not isinstance(source, Brushed):
            return
        history, group, queue, all_found = session.history, object(), deque[Found](), dict[int, Found]()
        along = _Along(session)

        def take(mark: str = "") -> None:
            if not queue and not mark:
                return
            while queue:
                found = queue.popleft()
                all_found[found.frame] = found
            now = next((m for m in session.shot.mattes if m.id == id_), None)
            if history is not session.history or not isinstance(now, Brushed) or now.strokes != source.strokes or not all_found:
                return

            def change(before: Shot) -> Shot:
                old = next(m for m in before.mattes if m.id == id_)
                assert isinstance(old, Brushed)
                kept = {f.frame: f for f in old.found} | all_found
                found = tuple(kept[frame] for frame in sorted(kept))
                return with_things(before, {id_: msgspec.structs.replace(old, found=found, source=mark or old.source)})

            session.edit(f"Follow {source.name}", change, group)
            along.show(next(reversed(all_found)))
            session.files.autosave(when_idle=True)  # each frame cost half a second: no more than the last ones may be lost

        def finish(mark: str = "") -> None:
            poll.stop()
            take(mark)
            along.show(along.begun)
            session.history.close_group()  # what comes next is no part of it

        def work(job: Job) -> str:
            for found in matting.followed(shot, source, job):
                queue.append(found)
            return matting.brushed_inputs(shot, source)

        poll = QTimer(self, interval=FRAMES_MS)
        poll.timeout.connect(take)

        def end(mark: str) -> None:
            finish(mark)
            unsure = [f.frame for f in all_found.values() if f.sure < UNSURE]
            if unsure:
                session.tell(
                    f"{source.name} is unsure on {len(unsure)} of {len(all_found)} frames.",
                    "Look at them, and paint there what is wrong.",
                    "doubtful",
                    ("Next unsure frame", lambda: self.next_unsure(id_)),
                    holds=lambda: any(m.id == id_ for m in session.shot.mattes),
                )

        def stopped() -> None:
            finish()
            session.tell(f"Following {source.name} was cancelled.", f"The {len(all_found)} frames that were found stay.")

        def failed(error: UserError) -> None:
            finish()
            session.fail(error)

        if session.jobs.start(f"Follow {source.name}", "Foreground", work, end, failed, stopped):
            self._follow = session.jobs.job
            poll.start()
        else:
            session.tell(f"{session.jobs.name} is still running.", "Wait for its end, or cancel it at the foot of the course.", "doubtful")

    # changes to the tracks -------------------------------------------------------------------------------------------------------

    def _change_tracks(self, label: str, change: Callable[[Job], Shot], told: Callable[[Shot], str]) -> None:
        """A job that changes the tracks alone."""
        before = self.session.shot.tracks

        def made(result: Shot) -> Made:
            def then() -> None:
                old = before.count if before is not None else 0
                new = frozenset(range(old, result.tracks.count)) if result.tracks is self.session.shot.tracks else frozenset()
                if new:
                    self.session.select(self.session.selected, new)
                if told(result):
                    self.session.tell(told(result))

            return Made(lambda shot: with_tracks(shot, result.tracks), then)

        self.run_change(label, "Track", lambda s: {part: tracking_reads(s)[part] for part in ("the clip", "the tracks")}, change, made)

    def more_tracks(self, corners: np.ndarray) -> None:
        """Add every track that begins inside a closed line (n, 2) px of this frame."""
        shot, frame, least = self.session.shot, self.session.frame, self.session.least_frames
        old = shot.tracks.count if shot.tracks is not None else 0
        self._change_tracks(
            "More tracks here",
            lambda job: tracking.add_tracks(shot, frame, corners, least, job),
            lambda result: f"{result.tracks.count - old} tracks of {least} frames or more were added there.",
        )

    def place_track(self, number: int | None, xy: np.ndarray) -> None:
        """Place a track at xy (2,) px of this frame, or correct track `number` there; then follow it."""
        shot, frame = self.session.shot, self.session.frame
        label = "Place a track" if number is None else f"Correct track {number}"
        self._change_tracks(label, lambda job: tracking.place_track(shot, number, frame, xy, tracking.SEARCH_PX, job), lambda result: "")

    def join_found(self) -> None:
        """Find tracks that are one point seen twice, and join them."""
        shot, count = self.session.shot, [0]

        def join(job: Job) -> Shot:
            job.step(0.0, "comparing tracks")
            joined, count[0] = tracking.join_same(shot)
            return joined

        self._change_tracks("Join what is one point", join, lambda result: f"{count[0]} tracks were another one seen again, and are joined with it.")

    def suggest_regions(self) -> None:
        """Offer regions round what moves by itself."""
        shot, session = self.session.shot, self.session

        def made(found: tuple) -> Made:
            def then() -> None:
                if not found:
                    session.tell(
                        "Nothing large moves by itself: the tracks fit the solved camera all over the picture, and so does its flow.",
                        "Draw a region by hand if you see something.",
                    )
                    return
                session.select(found[0].id)
                session.tell(
                    "One thing moves by itself." if len(found) == 1 else f"{len(found)} things move by themselves.",
                    "Switch a region on to take it; draw it over, or delete it. Then track again.",
                )

            return Made(lambda s: msgspec.structs.replace(s, regions=(*s.regions, *found)) if found else s, then)

        self.run_change(
            "Suggest regions",
            "Track",
            lambda s: {part: solving_reads(s)[part] for part in ("the clip", "the solve")},
            lambda job: tracking.suggest_regions(shot, job),
            made,
        )

    def deliver(self, path: Path, **how: Any) -> None:
        session, shot = self.session, self.session.shot
        began = time.monotonic()

        def done(count: int) -> None:
            session.edit_part("Write output", "output", path=str(path))
            session.tell(f"{path.name} is written: {count} frames in {figure(time.monotonic() - began, 0)} s.", str(path.parent))

        self.run_job("Write output", "Output", lambda job: delivery.deliver(shot, path, job, **how), done)
