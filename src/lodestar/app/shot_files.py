"""Where the shot is kept: opening, saving, the autosave and what it brings back, recent files."""

import contextlib
import hashlib
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
from PyQt6.QtCore import QObject, QRunnable, Qt, QThreadPool, QTimer, pyqtSignal
from PyQt6.QtGui import QImage

from lodestar.core.basics.apart import SECONDS, checked
from lodestar.core.basics.errors import UserError
from lodestar.core.basics.faults import state_folder
from lodestar.core.basics.job import Job
from lodestar.core.basics.paths import clear_parts
from lodestar.core.media.plates import PlateInfo, probe
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot, found_again, with_plate
from lodestar.core.shot.swaps import Left, Swap, age_in_words, left_behind

from . import readings
from .derived import Worked, keep, work_out

AUTOSAVE_MS = 4000
MOST_CLIPS = 50  # whose places are remembered
SMALL = (256, 144)  # px of the picture of a shot in lists
DEMO = Path(__file__).resolve().parents[3] / "demo" / "open-night.lode"


def notes_on(info: PlateInfo) -> list[tuple[str, str]]:
    """What is worth knowing of a clip before work begins, and what is done about it; the weightiest last, which stays on show."""
    notes = []
    if info.has_alpha:
        notes.append(("has transparency.", "It is not used: a plate fills the picture."))
    if info.pixel_aspect[0] != info.pixel_aspect[1]:
        across, down = info.pixel_aspect
        notes.append((f"has pixels of {across}:{down}.", f"It is shown, tracked and delivered with square ones, {info.width} × {info.height}."))
    if info.rate_varies:
        notes.append(("has a frame rate that varies.", "Frames are taken one by one in their order; a movie shows each when the clip does."))
    if info.interlaced:
        notes.append(
            ("is interlaced: each frame holds two moments.", "Tracks and titles will shake by half a frame; deinterlace it first if you can.")
        )
    if "transfer" in info.untagged and info.kind == "movie" and info.depth > 8:
        notes.append(("does not say how its light is coded.", "It is taken for Rec.709. If it was filmed in HLG or PQ, say so under Plate, Colour."))
    return notes


class _Written(QObject):
    ended = pyqtSignal(object, object)  # the shot, and what kept it from being written or None


class _Write(QRunnable):
    """Keeps a shot, which is a value that nothing changes any more, beside the interface."""

    def __init__(self, shot: Shot, swap: Swap, written: _Written) -> None:
        super().__init__()
        self.shot, self.swap, self.written = shot, swap, written

    def run(self) -> None:
        written = self.written
        del self.written  # the pool drops this at its leisure on this thread, and no part of the window may go with it
        try:
            self.swap.write(self.shot)
        except UserError as error:
            written.ended.emit(self.shot, error)
        else:
            written.ended.emit(self.shot, None)


class ShotFiles(QObject):
    """The file of the session's shot. path: None while it is untitled."""

    def __init__(self, session) -> None:
        super().__init__(session)
        self.session = session
        self.path: Path | None = None
        self.saved_shot: Shot = session.shot
        self.saved_at = 0.0  # or read, here
        self._autosaved_at = 0.0
        self._stamp: tuple = ()  # of the file as it was read or written here
        self._autosaved: Shot | None = None
        self._taken: list[Left] = []  # what was left behind and is in this shot now
        self.may_leave: Callable[[], bool] = lambda: True  # asks what to do with unsaved work; set by who can ask
        state = state_folder()
        self.swap = Swap(state / "swaps" if state is not None else None)
        self.swaps = self.swap.folder
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)
        self._written = _Written(self)
        self._written.ended.connect(self._autosave_ended)
        self._timer = QTimer(self, interval=AUTOSAVE_MS, singleShot=True)
        self._timer.timeout.connect(lambda: self.autosave())
        session.shot_changed.connect(self._ask_autosave)

    @property
    def unsaved(self) -> bool:
        return self.session.shot is not self.saved_shot

    @property
    def standing(self) -> tuple[str, float]:
        """How the work is kept, and since when, in seconds of the epoch; 0 where it is not."""
        if self.unsaved and self._autosaved is not None:
            return "Autosaved", self._autosaved_at
        return ("Saved", self._stamp[1] / 1e9) if self._stamp else ("Not saved", 0.0)

    def start_shot(self, shot: Shot, path: Path | None) -> None:
        """Another shot takes the place of this one; its history begins anew. What of the old one was not saved was asked about before."""
        self.drop_swap()
        self.path, self.saved_shot, self.saved_at, self._autosaved = path, shot, time.time() if path else 0.0, None
        self._taken = []
        self._stamp = _stamp(path)
        self.swap.claim(path, shot.name)
        if path is not None:
            self.remember(path)
        if shot.plate is not None and Path(shot.plate.path).exists():
            self._remember_clip(Path(shot.plate.path))
        self.session.start_shot(shot)

    def open(self, path: str | Path, without: tuple[str, ...] = ()) -> None:
        """Open a shot, or a clip as a new shot, as a job: a file may be large, or anything. without: parts of the shot that are left out,
        since they make no sense. It has no file then, so that nothing is saved over the one that has them; and the demo has none."""
        path, before = Path(path).absolute(), self.session.shot
        is_shot = path.suffix.lower() == ".lode"

        def read(job: Job) -> tuple[Shot | PlateInfo, Worked | None]:
            began = time.monotonic()
            with checked(lambda: job.step((time.monotonic() - began) / SECONDS, path.name)):
                if not is_shot:
                    return probe(path), None
                shot = files.read(path, without)
                worked = work_out(shot) if shot.solve is not None and shot.tracks is not None else None
                readings.place(shot)  # what its objects are made of is worked out here, which takes its time for a heavy drawing
                return shot, worked

        def begun(found: tuple[Shot | PlateInfo, Worked | None]) -> None:
            what, worked = found
            if self.session.shot is not before and not self.may_leave():  # something was done meanwhile
                return
            if isinstance(what, PlateInfo):
                self._begin_with_clip(path, what)
                return
            if worked is not None:
                keep(what, worked)
            self._begin_with(what, None if without or path.resolve() == DEMO else path)

        if self.session.jobs.busy:
            try:
                begun(read(Job()))
            except UserError as error:
                self._refused(error, path, without)
        else:
            cancelled = lambda: self.session.tell(f"{path.name} was not opened.", "It was cancelled; the shot is as it was.")
            self.session.jobs.start("Opening", "Plate", read, begun, lambda error: self._refused(error, path, without), cancelled)

    def _refused(self, error: UserError, path: Path, without: tuple[str, ...]) -> None:
        """A file that could not be opened; without the part that makes no sense it may be."""
        part = getattr(error, "part", "")
        offer = ((f"Open without {part}", lambda: self.open(path, (*without, part))),) if part else ()
        self.session.tell(error.what, error.hint, "bad", *offer)

    def _begin_with(self, shot: Shot, path: Path | None) -> None:
        elsewhere = path is not None and self.swap.is_open_elsewhere(path)
        self.start_shot(shot, None if elsewhere else path)
        if path is not None:
            for folder in {path.parent, Path(shot.output.path).parent if shot.output.path else path.parent}:
                clear_parts(folder)
            self.offer_left(path)
        if elsewhere:
            assert path is not None
            self.session.tell(
                f"{path.name} is open in another window.", "This is a copy of it without a file; save it under another name to keep it.", "doubtful"
            )
        if shot.plate and not Path(shot.plate.path).exists():
            clip = Path(shot.plate.path)
            # a shot that was moved alone looks beside itself: the clip may be where it was
            again = next((Path(p) for p in self._clips() if Path(p).name == clip.name and Path(p).exists()), None)
            offer = ((f"Take it from {again.parent}", lambda: self.find_clip(again)),) if again is not None else ()
            self.session.tell(
                f"The clip {clip.name} is not in {clip.parent} any more.",
                "Say where it is now; the shot itself is whole.",
                "bad",
                *offer,
                holds=lambda: self.session.shot.plate is not None and not Path(self.session.shot.plate.path).exists(),
            )
        self.session.show_step("Place" if shot.objects else "Plate")

    def find_clip(self, path: Path) -> None:
        """The clip of this shot, in another place; another one is not taken."""

        def take(info: PlateInfo) -> None:
            old = self.session.shot.plate
            again = found_again(old, info) if old is not None else info
            if again is None:
                self.session.tell(
                    f"{path.name} has another size or length than the clip of this shot.",
                    "It was not taken. Choose the right one, or open it as a new clip.",
                    "bad",
                )
                return
            self.session.edit("Say where the clip is", lambda s: with_plate(s, again))
            self._remember_clip(path)

        self.session.work.read_media(path, lambda: probe(path), take)

    def _clips(self) -> list[str]:
        """Where clips were: a shot's file tells only where its clip lies from itself, so that both can go to another machine."""
        return self.session.settings.value("clips", [], list) or []

    def _remember_clip(self, path: Path) -> None:
        self.session.settings.setValue("clips", [str(path), *[p for p in self._clips() if p != str(path)]][:MOST_CLIPS])

    def _begin_with_clip(self, path: Path, info: PlateInfo) -> None:
        """A new shot of a clip."""
        self.start_shot(Shot(), None)
        self.session.edit(f"Open {path.name}", lambda s: msgspec.structs.replace(with_plate(s, info), name=path.stem))
        self._show_clip(path, info)

    def replace_clip(self, path: Path) -> None:
        """Another clip under the shot that is open; says what it keeps."""
        self.session.work.read_media(path, lambda: probe(path), lambda info: self._replaced(path, info))

    def _replaced(self, path: Path, info: PlateInfo) -> None:
        session, old = self.session, self.session.shot
        session.edit(f"Replace the clip by {path.name}", lambda s: with_plate(s, info))
        if session.shot.solve is old.solve and session.shot.tracks is old.tracks:
            session.tell(f"{path.name} is the clip of this shot now.", "It has the same size and length, so tracks, camera and titles were kept.")
        else:
            session.tell(
                f"{path.name} is the clip of this shot now.",
                "It has another size or length: tracks and camera were dropped; titles, light and finish were kept. Undo brings the old one back.",
                "doubtful",
            )
        self._show_clip(path, info)

    def _show_clip(self, path: Path, info: PlateInfo) -> None:
        session = self.session
        self._remember_clip(path)
        for what, hint in notes_on(info):
            session.tell(f"{path.name} {what}", hint, "doubtful")
        session.show_step("Plate")
        session.show_frame(0)
        session.frame_changed.emit(session.frame)

    def save(self, path: Path) -> bool:
        shot, path = self.session.shot, Path(path)
        if self.swap.is_open_elsewhere(path):
            self.session.tell(f"{path.name} is open in another window, whose work would be lost.", "Save under another name.", "bad")
            return False
        try:
            files.write(shot, path)
        except UserError as error:
            self.session.tell(error.what, f"{error.hint} The shot is still open and unchanged.", "bad")
            return False
        self.path, self.saved_shot, self.saved_at, self._stamp = path, shot, time.time(), _stamp(path)
        self.drop_swap()
        for left in self._taken:
            left.throw_away()
        self._taken = []
        self.swap.claim(path, shot.name)
        self.remember(self.path)
        self.keep_picture(self.pictured())
        self.session.shot_changed.emit()
        return True

    def changed_on_disk(self) -> bool:
        """Whether something else wrote the shot's file since it was read or written here."""
        now = _stamp(self.path)
        return bool(now) and now != self._stamp

    # the autosave ------------------------------------------------------------------------------------------------------------

    def _ask_autosave(self) -> None:
        if not self.unsaved:  # all was undone: there is nothing to offer any more
            if self._autosaved is not None:
                self.drop_swap()
        elif not self._timer.isActive():  # it runs on while edits go on: put off by each of them, it would never come
            self._timer.start()

    def autosave(self, when_idle: bool = False) -> None:
        """Keep unsaved work, beside the interface; what is kept goes when the shot is saved. when_idle: not while the last one is still written."""
        shot = self.session.shot
        idle = self._pool.activeThreadCount() == 0
        if shot is not self._autosaved and self.unsaved and self.swaps is not None and (idle or not when_idle):
            self.swap.claim(self.path, shot.name)  # a clip that was opened gave the shot its name
            self._pool.start(_Write(shot, self.swap, self._written))

    def _autosave_ended(self, shot: Shot, error: UserError | None) -> None:
        if error is not None:
            self.session.tell(f"The autosave failed: {error.what}", error.hint, "doubtful")
            return
        self._autosaved, self._autosaved_at = shot, time.time()
        self._ask_autosave()
        self.session.autosaved.emit()

    def finish_autosave(self) -> None:
        """Wait until what is being written is on the disk."""
        self._pool.waitForDone()

    def drop_swap(self) -> None:
        self._timer.stop()
        self.finish_autosave()
        self.swap.drop()
        self._autosaved = None

    # what was left behind ------------------------------------------------------------------------------------------------------

    def left(self) -> list[Left]:
        """Unsaved work of windows that are gone, the newest first."""
        return [left for left in left_behind(self.swaps) if left.file not in {one.file for one in self._taken}]

    def offer_left(self, path: Path | None = None) -> None:
        """Offer what windows that are gone left behind: of this shot, or without a path the newest of all."""
        found = [left for left in self.left() if path is None or left.path == path]
        if not found:
            return
        newest, others = found[0], len(self.left()) - 1
        older = f"{newest.path.name} was saved after that. " if newest.is_older_than_file and newest.path is not None else ""
        more = f" {others} more under Shot, Unsaved work." if others else ""
        self.session.tell(
            f"Work on {newest.note.name or 'an untitled shot'} from {age_in_words(newest.at)} was not saved.",
            f"{older}It was kept by the autosave.{more}",
            "doubtful",
            ("Bring it back", lambda: self.recover(newest)),
            ("Throw it away", newest.throw_away),
            holds=lambda: newest.file.exists() and newest not in self._taken,
        )

    def recover(self, left: Left) -> None:
        """Take what was left behind, as the whole that it is: as an edit of its own shot where that is open or can be opened, so that
        undo shows the saved one; else as a shot without a file."""
        try:
            shot = left.shot()
        except UserError as error:
            self.session.tell("The autosave cannot be read.", str(error), "bad")
            return
        if left.path is None or left.path != self.path:
            if not self.may_leave():
                return
            if left.path is None or not left.path.exists():
                self.start_shot(Shot(), None)
            elif not self.open(left.path):
                return
        self.session.edit("Bring back unsaved work", lambda _: shot)
        self.session.show_step("Place" if shot.objects else "Plate")
        self._taken.append(left)

    def look_at(self, left: Left) -> None:
        """Open what was left behind as a shot without a file; it stays on offer."""
        try:
            shot = left.shot()
            if self.may_leave():
                self.start_shot(shot, None)
        except UserError as error:
            self.session.tell("The autosave cannot be read.", str(error), "bad")
            return
        self.session.show_step("Place" if self.session.shot.objects else "Plate")

    # recent files ------------------------------------------------------------------------------------------------------------

    def recent(self) -> list[str]:
        return [p for p in self.session.settings.value("recent", [], list) or [] if Path(p).exists()]

    def remember(self, path: Path) -> None:
        if Path(path).resolve() != DEMO:
            self.session.settings.setValue("recent", [str(path), *[p for p in self.recent() if p != str(path)]][:10])

    pictured: Callable[[], QImage | None] = staticmethod(lambda: None)  # what the view shows now

    def keep_after(self, seconds: float) -> None:
        """How long after an edit the work is kept aside."""
        self._timer.setInterval(round(seconds * 1000))

    def keep_picture(self, image: QImage | None) -> None:
        """A small picture of the shot that is open, by which it is found again."""
        if self.path is not None and image is not None and not image.isNull() and (place := picture_place(self.path)) is not None:
            with contextlib.suppress(OSError):
                place.parent.mkdir(parents=True, exist_ok=True)
            image.scaled(*SMALL, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation).save(str(place))

    def close(self) -> None:
        self._timer.stop()
        self.finish_autosave()
        self.swap.close()


def picture_place(path: str | Path) -> Path | None:
    """Where the small picture of a shot is kept."""
    folder = state_folder()
    return folder / "pictures" / f"{hashlib.sha1(str(path).encode('utf-8', 'surrogateescape')).hexdigest()[:20]}.png" if folder else None


def _stamp(path: Path | None) -> tuple:
    """By what a file is known to be as it was; empty where there is none."""
    try:
        found = path.stat() if path is not None else None
    except OSError:
        return ()
    return (found.st_ino, found.st_mtime_ns, found.st_size) if found is not None else ()
