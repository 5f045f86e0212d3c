"""What the window works on: the shot with its history and file, and the view state that is never saved."""

import logging
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
from PyQt6.QtCore import QObject, QSettings, Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import QApplication, QFileDialog, QLineEdit

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.keyed import How, Keyed
from lodestar.core.edits.arrange import removed
from lodestar.core.edits.settle import with_ground
from lodestar.core.media.pictures import picture_size
from lodestar.core.shot.document import Shot
from lodestar.core.shot.history import Edit, History
from lodestar.core.shot.motion import Chosen, change_keys, eased, keyed_things, whole_motion, with_fields, with_value, without_keys, without_thing
from lodestar.core.shot.objects import Object

from .jobs import Jobs
from .long_work import LongWork
from .shot_files import ShotFiles

DRAG_REFRESH_MS = 150
STEPS = ("Plate", "Track", "Solve", "Ground", "Place", "Light", "Foreground", "Finish", "Output")
log = logging.getLogger(__name__)


PICTURES = "Pictures and movies (*.png *.jpg *.jpeg *.tif *.tiff *.mp4 *.mov *.mkv *.webm);;All files (*)"


class Message(msgspec.Struct, frozen=True):
    """What happened, what to do, when; kind: 'note', 'doubtful' or 'bad'. actions: (label, function) buttons. holds: whether its cause
    is still there."""

    what: str
    hint: str = ""
    kind: str = "note"
    actions: tuple[tuple[str, Any], ...] = ()
    at: float = 0.0
    holds: Callable[[], bool] = lambda: True


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
    """The interface thread alone edits the shot, through `edit`. Views listen to `shot_changed` and `view_changed`.

    files: where the shot is kept (`shot_files.ShotFiles`); work: what takes long (`long_work.LongWork`).
    """

    shot_changed = pyqtSignal()
    view_changed = pyqtSignal()
    frame_changed = pyqtSignal(int)
    told = pyqtSignal(object)
    autosaved = pyqtSignal()
    worked_out = pyqtSignal()  # what takes long to derive from the tracks and the solve is known
    tool_asked = pyqtSignal(str)  # a tool that places something, by its name

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.history = History(Shot())
        self.frame = 0
        self.step = "Plate"
        self.tool = ""
        self.dragging = False  # a button is held down in a view
        self.playing = False
        self.selected = ""  # id of an object, a matte or a region
        self.others: frozenset[str] = frozenset()  # objects that are chosen with it
        self.tracks: frozenset[int] = frozenset()
        self.keys: Chosen = frozenset()  # keys in hand
        self.letters: tuple[int, int] | None = None  # from, to: letters of the title in hand that are chosen in the picture
        self._begin_afresh()
        self.messages: list[Message] = []
        self.jobs = Jobs(self)
        self.settings = QSettings("bright-lodestar", "window")
        self.files = ShotFiles(self)
        self.work = LongWork(self)

    def _begin_afresh(self) -> None:
        """How one works on a shot, as it is at the beginning."""
        self.keying = False  # an edit keys what has no keys yet
        self.shifting = False  # an edit shifts the whole motion
        self.snap = "surface"  # what a thing that is placed snaps to
        self.far_distance = 50.0
        self.time_shown: tuple[float, float] | None = None  # the part of the clip that the time shows; None for all of it
        self.loop: tuple[int, int] | None = None  # first and last frame that are played over and over; None for in to out
        self.least_frames = 12  # that a track has to live when more are asked for in one place

    @property
    def shot(self) -> Shot:
        return self.history.shot

    # edits -----------------------------------------------------------------------------------------------------------------

    def edit(self, label: str, change: Edit, group: object = None) -> None:
        """Apply an edit; edits in a row with the same group are one step of undo. A UserError is told, nothing changes."""
        before = self.history.shot
        try:
            self.history.apply(label, change, group)
        except UserError as error:
            self.fail(error)
            return
        if self.history.shot is not before:
            self._after_edit()

    def land(self, label: str, change: Edit) -> None:
        """Apply what a job made; a drag that goes on stays on top of it. A UserError is told, nothing changes."""
        try:
            self.history.land(label, change)
        except UserError as error:
            self.fail(error)
            return
        self._after_edit()

    def start_shot(self, shot: Shot) -> None:
        """Another shot takes the place of this one; its history begins anew, and nothing of how one worked on the old one is left."""
        self.history = History(shot)
        self.selected = shot.objects[0].id if len(shot.objects) == 1 else ""
        self.others, self.tracks, self.keys, self.tool, self.frame = frozenset(), frozenset(), frozenset(), "", shot.first
        self.letters = None
        self._begin_afresh()
        self.shot_changed.emit()
        self.view_changed.emit()
        self.frame_changed.emit(self.frame)

    def set(self, label: str, group: object = None, /, **fields: Any) -> None:
        self.edit(label, lambda shot: msgspec.structs.replace(shot, **fields), group)

    def edit_part(self, label: str, part: str, group: object = None, /, **fields: Any) -> None:
        """Change fields of one part of the shot, for example 'light'."""
        self.edit(label, lambda s: msgspec.structs.replace(s, **{part: msgspec.structs.replace(getattr(s, part), **fields)}), group)

    def edit_ground(self, label: str, group: object = None, /, **fields: Any) -> None:
        """Change what is said of the ground; objects stay where they are in the picture."""
        self.edit(label, lambda s: with_ground(s, msgspec.structs.replace(s.ground, **fields)), group)

    def edit_value(self, label: str, id_: str, part: str, change: Callable[[Keyed], Keyed], group: object = None) -> None:
        """Change one keyed value of the thing with this id."""
        # of one value at one frame: steps of another are a step of undo of their own
        self.edit(label, lambda s: with_value(s, id_, part, change), group and (group, id_, part, self.frame))

    def edit_item(self, label: str, id_: str, group: object = None, /, **fields: Any) -> None:
        """Change fields of the thing with this id: an object, lamp, matte, region or finish entry."""
        self.edit(label, lambda s: with_fields(s, id_, **fields), group and (group, id_))

    def undo(self) -> None:
        if self.history.undo() is not None:
            self._after_edit()

    def redo(self) -> None:
        if self.history.redo() is not None:
            self._after_edit()

    def go_to_step(self, number: int) -> None:
        """Undo or do again until so many steps are done."""
        history, before = self.history, self.history.shot
        while len(history.labels()[0]) > number and history.undo() is not None:
            pass
        while len(history.labels()[0]) < number and history.redo() is not None:
            pass
        if history.shot is not before:
            self._after_edit()

    def _after_edit(self) -> None:
        shot = self.shot
        ids = keyed_things(shot).keys()
        self.others &= ids
        self.keys = self._present(self.keys)
        if self.selected not in ids:
            self.selected = next(iter(self.others), "")
        last = max(shot.plate.count - 1, 0) if shot.plate else 0
        self.frame = min(max(self.frame, 0), last)
        self.loop = self.loop if self.loop is not None and self.loop[1] <= last else None
        self.shot_changed.emit()

    # view state --------------------------------------------------------------------------------------------------------------

    def show_frame(self, frame: int) -> None:
        count = self.shot.plate.count if self.shot.plate else 1
        frame = min(max(int(frame), 0), count - 1)
        if frame != self.frame:
            self.frame = frame
            self.frame_changed.emit(frame)

    def show_time(self, part: tuple[float, float] | None) -> None:
        """The part of the clip that the time shows, in frames from edge to edge; None for all of it."""
        if part != self.time_shown:
            self.time_shown = part
            self.view_changed.emit()

    def play_only(self, part: tuple[int, int] | None) -> None:
        """First and last frame that are played over and over; None for all from in to out. It is no part of the shot."""
        if part != self.loop:
            self.loop = part
            self.view_changed.emit()

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

    def choose_letters(self, letters: tuple[int, int] | None) -> None:
        if letters != self.letters:
            self.letters = letters
            self.view_changed.emit()

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
        """Change the values with keys in hand: a function of the value and the frames of its keys. Without keys in hand it is the one
        value of the object that moves; where several do, nothing is guessed."""
        chosen, item = self.keys_or_all(), self.object()
        names = sorted({part.replace("_", " ").capitalize() for _, part, _ in chosen})
        if not self.keys and len(names) > 1 and item is not None:
            self.tell(
                f"{item.name} moves in {' and '.join(names)}.",
                f"Choose the keys that '{label}' is for: a click on one, Shift and drag for more.",
                "doubtful",
            )
        elif chosen:
            self.edit(f"{label}: {' and '.join(names)}", lambda shot: change_keys(shot, chosen, change))

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

    def ask_picture(self, title: str, kind: str, then: Callable[[str, int, int], object]) -> None:
        """Give a picture, sequence or movie of the user's choice, with its width and height; one that cannot be read is told of."""
        path = self.ask_file(title, kind, PICTURES)
        if path:
            self.work.read_media(path, lambda: picture_size(path), lambda size: then(path, *size))

    def set_playing(self, on: bool) -> None:
        if on != self.playing:
            self.playing = on
            self.view_changed.emit()

    def set_dragging(self, on: bool) -> None:
        """A view says that a drag begins or ends; what waited for its end is brought up to date."""
        if on != self.dragging:
            self.dragging = on
            if not on:
                self.view_changed.emit()

    def set_keying(self, on: bool) -> None:
        self.keying, self.shifting = on, self.shifting and not on
        self.view_changed.emit()

    def set_shifting(self, on: bool) -> None:
        self.shifting, self.keying = on, self.keying and not on
        self.view_changed.emit()

    @property
    def how(self) -> How:
        """What an edit of a keyed value does now; Alt, held in a drag or while a number is typed, shifts the whole motion."""
        at_work = QApplication.mouseButtons() != Qt.MouseButton.NoButton or isinstance(QApplication.focusWidget(), QLineEdit)
        if self.shifting or (at_work and QApplication.keyboardModifiers() & Qt.KeyboardModifier.AltModifier):
            return "whole"
        return "key" if self.keying else "here"

    def object(self) -> Object | None:
        """The selected object."""
        return next((o for o in self.shot.objects if o.id == self.selected), None)

    def delete_chosen(self) -> None:
        """What is in hand goes: objects, or an outline, lamp or finish that is chosen."""
        objects, id_ = self.chosen_objects(), self.selected
        if objects:
            self.edit("Delete", lambda shot: removed(shot, objects))
        elif id_:
            self.edit("Delete", lambda shot: without_thing(shot, id_))

    # messages ----------------------------------------------------------------------------------------------------------------

    def tell(self, what: str, hint: str = "", kind: str = "note", *actions: tuple[str, Callable], holds: Callable[[], bool] = lambda: True) -> None:
        message = Message(what, hint, kind, actions, time.time(), holds)
        self.messages.append(message)
        log.info("%s %s", what, hint)
        self.told.emit(message)

    def fail(self, error: UserError) -> None:
        self.tell(error.what, error.hint, "bad")

    def close(self) -> None:
        self.jobs.close()
        self.work.selector.close()
        self.files.close()
