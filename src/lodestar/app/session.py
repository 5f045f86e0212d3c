"""What the window works on: the shot with its history and file, and the view state that is never saved."""

import logging
import os
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from PyQt6.QtCore import QObject, QSettings, QTimer, pyqtSignal
from PyQt6.QtWidgets import QFileDialog

from lodestar.core.basics.errors import ShotFileError, UserError
from lodestar.core.basics.job import Job
from lodestar.core.edits.settle import settled
from lodestar.core.media.plates import probe
from lodestar.core.scene.ground import proposal
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot, with_plate
from lodestar.core.shot.history import Edit, History
from lodestar.core.shot.motion import Chosen, change_keys, eased, keyed_things, whole_motion, without_keys
from lodestar.core.shot.objects import Object
from lodestar.core.work import delivery, solving, tracking

from .derived import keep_errors, with_errors
from .jobs import Jobs

AUTOSAVE_MS, DRAG_REFRESH_MS = 4000, 150
STEPS = ("Plate", "Track", "Solve", "Ground", "Place", "Light", "Foreground", "Finish", "Output")
log = logging.getLogger(__name__)


class Message(msgspec.Struct, frozen=True):
    """What happened, what to do, when; kind: 'note', 'doubtful' or 'bad'. actions: (label, function) buttons."""

    what: str
    hint: str = ""
    kind: str = "note"
    actions: tuple[tuple[str, Any], ...] = ()
    at: float = 0.0


def state_folder() -> Path:
    folder = Path(os.environ.get("XDG_STATE_HOME", "~/.local/state")).expanduser() / "bright-lodestar"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


class Gently(QTimer):
    """Calls a refresh when the session changes: at once, but while something is dragged in a view a few times a second, so that
    the picture under the hand gets the time."""

    def __init__(self, session: "Session", act: Callable[[], object], wait_ms: int = DRAG_REFRESH_MS) -> None:
        super().__init__(session, interval=wait_ms, singleShot=True)
        self.session = session
        self.timeout.connect(act)
        for signal in (session.shot_changed, session.view_changed):
            signal.connect(self.ask)

    def ask(self) -> None:
        if not self.session.dragging:
            self.stop()
            self.timeout.emit()
        elif not self.isActive():
            self.start()


class Session(QObject):
    """The interface thread alone edits the shot, through `edit`. Views listen to `shot_changed` and `view_changed`."""

    shot_changed = pyqtSignal()
    view_changed = pyqtSignal()
    frame_changed = pyqtSignal(int)
    told = pyqtSignal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.history = History(Shot())
        self.path: Path | None = None
        self.saved_shot: Shot = self.history.shot
        self.saved_at = 0.0
        self.frame = 0
        self.step = "Plate"
        self.tool = ""
        self.keying = False
        self.dragging = False  # a button is held down in a view
        self.selected = ""  # id of an object, a matte or a region
        self.others: frozenset[str] = frozenset()  # objects that are chosen with it
        self.snap = "surface"  # what a thing that is placed snaps to
        self.far_distance = 50.0
        self.least_frames = 12  # that a track has to live when more are asked for in one place
        self.tracks: frozenset[int] = frozenset()
        self.keys: Chosen = frozenset()  # keys in hand
        self.messages: list[Message] = []
        self.jobs = Jobs(self)
        self.settings = QSettings("bright-lodestar", "window")
        self._autosave = QTimer(self, interval=AUTOSAVE_MS, singleShot=True)
        self._autosave.timeout.connect(self.autosave)
        self._autosaved: Shot | None = None

    @property
    def shot(self) -> Shot:
        return self.history.shot

    # edits -----------------------------------------------------------------------------------------------------------------

    def edit(self, label: str, change: Edit, group: object = None) -> None:
        """Apply an edit; edits in a row with the same group are one step of undo. A UserError is told, nothing changes."""
        before = self.history.shot
        try:
            # whatever changes tracks, solve or ground, objects stay where they are in the picture
            self.history.apply(label, lambda shot: settled(shot, change(shot)), group)
        except UserError as error:
            self.fail(error)
            return
        if self.history.shot is not before:
            self._after_edit()

    def set(self, label: str, group: object = None, /, **fields: Any) -> None:
        self.edit(label, lambda shot: msgspec.structs.replace(shot, **fields), group)

    def edit_part(self, label: str, part: str, group: object = None, /, **fields: Any) -> None:
        """Change fields of one part of the shot, for example 'light'."""
        self.edit(label, lambda s: msgspec.structs.replace(s, **{part: msgspec.structs.replace(getattr(s, part), **fields)}), group)

    def edit_item(self, label: str, kind: str, id_: str, group: object = None, /, **fields: Any) -> None:
        """Change fields of the object, matte or region with this id; kind: 'objects', 'mattes' or 'regions'."""

        def change(shot: Shot) -> Shot:
            items = tuple(msgspec.structs.replace(x, **fields) if x.id == id_ else x for x in getattr(shot, kind))
            return msgspec.structs.replace(shot, **{kind: items})

        self.edit(label, change, group)

    def undo(self) -> None:
        if self.history.undo() is not None:
            self._after_edit()

    def redo(self) -> None:
        if self.history.redo() is not None:
            self._after_edit()

    def _after_edit(self) -> None:
        shot = self.shot
        ids = {x.id for x in (*shot.objects, *shot.mattes, *shot.regions)}
        self.others &= ids
        self.keys = self._present(self.keys)
        if self.selected not in ids:
            self.selected = next(iter(self.others), "")
        self.frame = min(max(self.frame, 0), max(shot.plate.count - 1, 0) if shot.plate else 0)
        self._autosave.start()
        self.shot_changed.emit()

    # view state --------------------------------------------------------------------------------------------------------------

    def show_frame(self, frame: int) -> None:
        count = self.shot.plate.count if self.shot.plate else 1
        frame = min(max(int(frame), 0), count - 1)
        if frame != self.frame:
            self.frame = frame
            self.frame_changed.emit(frame)

    def show_step(self, step: str) -> None:
        if step != self.step:
            self.step, self.tool = step, ""
            self.view_changed.emit()

    def use_tool(self, tool: str) -> None:
        if tool != self.tool:
            self.tool = tool
            self.view_changed.emit()

    def select(self, id_: str = "", tracks: frozenset[int] | None = None, others: frozenset[str] = frozenset()) -> None:
        chosen = self.tracks if tracks is None else tracks
        if (id_, chosen, others) != (self.selected, self.tracks, self.others):
            self.selected, self.tracks, self.others = id_, chosen, others
            self.view_changed.emit()

    def choose_object(self, id_: str, add: bool = False) -> None:
        """Take an object in hand, or with `add` one more, or let that one go again."""
        if not add:
            self.select(id_)
        elif id_ and id_ in self.chosen_objects():
            rest = [o for o in self.chosen_objects() if o != id_]
            self.select(rest[0] if rest else "", others=frozenset(rest[1:]))
        elif id_:
            self.select(id_, others=frozenset(self.chosen_objects()))

    def chosen_objects(self) -> list[str]:
        """Ids of the objects in hand, in the order of the shot."""
        one = self.object()
        names = {*self.others, one.id} if one is not None else set(self.others)
        return [o.id for o in self.shot.objects if o.id in names]

    # keys in hand ------------------------------------------------------------------------------------------------------------

    def _present(self, keys: Chosen) -> Chosen:
        things = keyed_things(self.shot)
        return frozenset(k for k in keys if (value := getattr(things.get(k[0]), k[1], None)) is not None and value.has_key(k[2]))

    def choose_keys(self, keys: Chosen) -> None:
        keys = self._present(keys)
        if keys != self.keys:
            self.keys = keys
            self.view_changed.emit()

    def keys_or_all(self) -> Chosen:
        """The keys in hand, or all of the object in hand."""
        item = self.object()
        return self.keys or (whole_motion(self.shot, item.id) if item is not None else frozenset())

    def change_keys(self, label: str, change: Callable) -> None:
        """Change each value with keys in hand, or all values of the object: a function of the value and the frames of its keys."""
        chosen = self.keys_or_all()
        if chosen:
            self.edit(label, lambda shot: change_keys(shot, chosen, change))

    def delete_keys(self) -> None:
        if self.keys:
            self.change_keys("Delete keys", without_keys)

    def ease_keys(self, easing: str) -> None:
        self.change_keys("Choose easing", lambda value, frames: eased(value, frames, easing))

    @property
    def unit(self) -> str:
        """What a length of the scene is called."""
        return "m" if self.shot.ground.measured else "units"

    def ask_file(self, title: str, kind: str, filter_: str) -> str:
        """A file of the user's choice, from the folder that was used last for this kind; empty when none was chosen."""
        path, _ = QFileDialog.getOpenFileName(None, title, str(self.settings.value(f"folder/{kind}", str(Path.home()))), filter_)
        if path:
            self.settings.setValue(f"folder/{kind}", str(Path(path).parent))
        return path

    def set_dragging(self, on: bool) -> None:
        """A view says that a drag begins or ends; what waited for its end is brought up to date."""
        if on != self.dragging:
            self.dragging = on
            if not on:
                self.view_changed.emit()

    def set_keying(self, on: bool) -> None:
        self.keying = on
        self.view_changed.emit()

    def object(self) -> Object | None:
        """The selected object, or the only one there is."""
        objects = self.shot.objects
        found = next((o for o in objects if o.id == self.selected), None)
        return found or (objects[0] if len(objects) == 1 else None)

    # messages ----------------------------------------------------------------------------------------------------------------

    def tell(self, what: str, hint: str = "", kind: str = "note", *actions: tuple[str, Callable]) -> None:
        message = Message(what, hint, kind, actions, time.time())
        self.messages.append(message)
        log.info("%s %s", what, hint)
        self.told.emit(message)

    def fail(self, error: UserError) -> None:
        self.tell(error.what, error.hint, "bad")

    # files -------------------------------------------------------------------------------------------------------------------

    @property
    def unsaved(self) -> bool:
        return self.shot is not self.saved_shot

    def swap_path(self) -> Path:
        if self.path is not None:
            return self.path.with_name(f".{self.path.name}.swap")
        return state_folder() / "untitled.lode.swap"

    def start_shot(self, shot: Shot, path: Path | None) -> None:
        """Another shot takes the place of this one; its history begins anew."""
        self.history = History(shot)
        self.path, self.saved_shot, self.saved_at = path, shot, time.time() if path else 0.0
        self._autosaved = None
        self.selected, self.others, self.tracks, self.tool, self.frame = "", frozenset(), frozenset(), "", shot.first
        self.keys = frozenset()
        self._autosave.stop()
        if path is not None:
            self.remember(path)
        self.shot_changed.emit()
        self.view_changed.emit()
        self.frame_changed.emit(self.frame)

    def open(self, path: str | Path) -> bool:
        """Open a shot, or a clip as a new shot."""
        path = Path(path).absolute()
        try:
            if path.suffix.lower() == ".lode":
                self.start_shot(files.read(path), path)
                self._offer_swap()
                shot = self.shot
                if shot.plate and not Path(shot.plate.path).exists():
                    self.tell(f"The clip {Path(shot.plate.path).name} is not in {Path(shot.plate.path).parent} any more.",
                              "Say where it is now; the shot itself is whole.", "bad")  # fmt: skip
                self.show_step("Place" if shot.objects else "Plate")
            else:
                self.bring_in(path)
        except UserError as error:
            self.fail(error)
            return False
        return True

    def bring_in(self, path: Path) -> None:
        """A clip becomes the plate of the shot; raises PlateError."""
        info = probe(path)
        fresh = self.shot.plate is None
        self.edit(f"Open {path.name}", lambda s: msgspec.structs.replace(with_plate(s, info), name=path.stem if fresh else s.name))
        if info.rate_varies:
            self.tell(
                f"The frame rate of {path.name} varies.",
                "Frames are taken one by one in their order; the delivery runs at the average rate.",
                "doubtful",
            )
        self.show_step("Plate")
        self.show_frame(0)
        self.frame_changed.emit(self.frame)

    def save(self, path: Path) -> bool:
        try:
            files.write(self.shot, path)
        except UserError as error:
            self.tell(error.what, f"{error.hint} The shot is still open and unchanged.", "bad")
            return False
        self.swap_path().unlink(missing_ok=True)
        self.path, self.saved_shot, self.saved_at = Path(path), self.shot, time.time()
        self.remember(self.path)
        self.shot_changed.emit()
        return True

    def autosave(self) -> None:
        """Write the swap file beside the shot, after edits; it goes when the shot is saved."""
        if self.shot is self._autosaved or not self.unsaved:
            return
        try:
            files.write(self.shot, self.swap_path())
        except UserError as error:
            self.tell(f"The autosave failed: {error.what}", error.hint, "doubtful")
            return
        self._autosaved, self.saved_at = self.shot, time.time()
        self.view_changed.emit()

    def _offer_swap(self) -> None:
        swap = self.swap_path()
        if not swap.exists():
            return
        at = time.strftime("%H:%M", time.localtime(swap.stat().st_mtime))
        self.tell(f"Work on this shot from {at} was not saved.", "It was kept by the autosave.", "doubtful",
                  ("Bring it back", self.recover), ("Throw it away", lambda: swap.unlink(missing_ok=True)))  # fmt: skip

    def offer_untitled(self) -> None:
        """At the start without a file: offer what an unsaved shot left behind."""
        if self.path is None and self.swap_path().exists():
            self._offer_swap()

    def recover(self) -> None:
        try:
            swap = self.swap_path()
            shot = files.unpack(swap.read_bytes(), swap.name, swap.parent)
        except (ShotFileError, OSError) as error:
            self.tell("The autosave cannot be read.", str(error), "bad")
            return
        self.edit("Bring back unsaved work", lambda _: shot)

    def recent(self) -> list[str]:
        return [p for p in self.settings.value("recent", [], list) or [] if Path(p).exists()]

    def remember(self, path: Path) -> None:
        self.settings.setValue("recent", [str(path), *[p for p in self.recent() if p != str(path)]][:10])

    # long work ----------------------------------------------------------------------------------------------------------------

    def run_job(self, name: str, step: str, function: Callable[[Job], Any], done: Callable[[Any], None]) -> None:
        if not self.jobs.start(name, step, function, done, self.fail, lambda: self.tell(f"{name} was cancelled.", "The shot is as it was.")):
            self.tell(f"{self.jobs.name} is still running.", "Wait for its end, or cancel it at the foot of the course.", "doubtful")

    def track(self) -> None:
        shot = self.shot
        self.run_job("Track", "Track", lambda job: tracking.track_shot(shot, job), lambda result: self._take("Track", shot, "tracks", result))

    def solve(self) -> None:
        shot = self.shot
        self.run_job("Solve", "Solve", lambda job: with_errors(solving.solve_shot(shot, job)), lambda done: self._take("Solve", shot, "solve", *done))

    def track_and_solve(self) -> None:
        """Bring everything up to the solve up to date, as one job."""
        shot = self.shot

        def both(job: Job) -> tuple[Shot, np.ndarray]:
            job.stage(0.0, 0.5)
            tracked = tracking.track_shot(shot, job)
            job.stage(0.5, 1.0)
            return with_errors(solving.solve_shot(tracked, job))

        self.run_job("Track and solve", "Track", both, lambda done: self._take("Track and solve", shot, "both", *done))

    def _take(self, label: str, before: Shot, what: str, result: Shot, errors: np.ndarray | None = None) -> None:
        """Take what a job made, with the errors of its solve. If what it read was edited meanwhile, it is taken all the same and
        shows as stale."""
        fields = {"tracks": {"tracks": result.tracks}, "solve": {"solve": result.solve}}.get(what, {"tracks": result.tracks, "solve": result.solve})
        if before.plate is not self.shot.plate and before.plate != self.shot.plate:
            self.tell(f"{label} ended, but the clip was changed meanwhile.", "The result was dropped; run it again on the new clip.", "doubtful")
            return
        if errors is not None:
            keep_errors(result, errors)
        self.set(label, **fields)
        if result.solve is None or what == "tracks":
            return
        if result.solve.warning:
            self.tell(result.solve.warning, "", "doubtful")
        else:
            self._propose_level()

    def _propose_level(self) -> None:
        """After a solve: what was found of the ground, to be kept with one click; silent where the user said it already."""
        said = self.shot.ground
        if said.on_ground or said.uprights or said.horizon or said.turned != (0.0, 0.0, 0.0):
            return
        try:
            words = proposal(self.shot.solve)[1]
        except UserError:
            return
        self.tell(f"The scene is {words}.", "", "note", ("Level is right", self.keep_level), ("Look at it", lambda: self.show_step("Ground")))

    def keep_level(self) -> None:
        """What was found of the ground becomes what was said of it."""

        def keep(shot: Shot) -> Shot:
            if shot.solve is None:
                return shot
            found, _ = proposal(shot.solve)
            return msgspec.structs.replace(shot, ground=msgspec.structs.replace(shot.ground, on_ground=found.on_ground, uprights=found.uprights))

        self.edit("Keep the level that was found", keep)

    def _change_tracks(self, label: str, change: Callable[[Job], Shot], told: Callable[[Shot], str]) -> None:
        """A job that changes the tracks alone; its result is dropped when they were changed meanwhile."""
        before = self.shot

        def take(result: Shot) -> None:
            if self.shot.tracks is not before.tracks or self.shot.plate is not before.plate:
                self.tell(f"{label} ended, but the tracks were changed meanwhile.", "The result was dropped; ask again.", "doubtful")
                return
            old = before.tracks.count if before.tracks is not None else 0
            self.set(label, tracks=result.tracks)
            new = frozenset(range(old, result.tracks.count))
            if new:
                self.select(self.selected, new)
            if told(result):
                self.tell(told(result))

        self.run_job(label, "Track", change, take)

    def more_tracks(self, corners) -> None:
        """Add every track that begins inside a closed line (n, 2) px of this frame."""
        shot, frame, least = self.shot, self.frame, self.least_frames
        old = shot.tracks.count if shot.tracks is not None else 0
        self._change_tracks("More tracks here", lambda job: tracking.add_tracks(shot, frame, corners, least, job),
                            lambda result: f"{result.tracks.count - old} tracks of {least} frames or more were added there.")  # fmt: skip

    def place_track(self, number: int | None, xy) -> None:
        """Place a track at xy (2,) px of this frame, or correct track `number` there; then follow it."""
        shot, frame = self.shot, self.frame
        label = "Place a track" if number is None else f"Correct track {number}"
        self._change_tracks(label, lambda job: tracking.place_track(shot, number, frame, xy, tracking.SEARCH_PX, job), lambda result: "")

    def join_found(self) -> None:
        """Find tracks that are one point seen twice, and join them."""
        shot, count = self.shot, [0]

        def join(job: Job) -> Shot:
            job.step(0.0, "comparing tracks")
            joined, count[0] = tracking.join_same(shot)
            return joined

        self._change_tracks("Join what is one point", join, lambda result: f"{count[0]} tracks were another one seen again, and are joined with it.")

    def suggest_regions(self) -> None:
        """Offer regions round what moves by itself."""
        before = self.shot

        def take(found: tuple) -> None:
            if self.shot.plate is not before.plate or self.shot.solve is not before.solve:
                self.tell("What moves was looked for in another solve.", "The result was dropped; ask again.", "doubtful")
                return
            if not found:
                self.tell("Nothing large moves by itself: the tracks fit the solved camera all over the picture, and so does its flow.",
                          "Draw a region by hand if you see something.")  # fmt: skip
                return
            self.edit("Suggest regions", lambda s: msgspec.structs.replace(s, regions=(*s.regions, *found)))
            self.select(found[0].id)
            self.tell("One thing moves by itself." if len(found) == 1 else f"{len(found)} things move by themselves.",
                      "Switch a region on to take it; draw it over, or delete it. Then track again.")  # fmt: skip

        self.run_job("Suggest regions", "Track", lambda job: tracking.suggest_regions(before, job), take)

    def deliver(self, path: Path, **how: Any) -> None:
        shot = self.shot
        began = time.monotonic()

        def done(count: int) -> None:
            self.edit_part("Write output", "output", path=str(path))
            self.tell(f"{path.name} is written: {count} frames in {time.monotonic() - began:.0f} s.", str(path.parent))

        self.run_job("Write output", "Output", lambda job: delivery.deliver(shot, path, job, **how), done)

    def close(self) -> None:
        self.jobs.close()
        self._autosave.stop()
