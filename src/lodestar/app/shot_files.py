"""Where the shot is kept: opening, saving, the autosave and what it brings back, recent files."""

import os
import time
from pathlib import Path

import msgspec
from PyQt6.QtCore import QObject, QRunnable, QThreadPool, QTimer, pyqtSignal

from lodestar.core.basics.errors import ShotFileError, UserError
from lodestar.core.media.plates import PlateInfo, probe
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot, with_plate

AUTOSAVE_MS = 4000
DEMO = Path(__file__).resolve().parents[3] / "demo" / "open-night.lode"


def state_folder() -> Path:
    folder = Path(os.environ.get("XDG_STATE_HOME", "~/.local/state")).expanduser() / "bright-lodestar"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


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
    """Writes a shot, which is a value that nothing changes any more, beside the interface."""

    def __init__(self, shot: Shot, path: Path, written: _Written) -> None:
        super().__init__()
        self.shot, self.path, self.written = shot, path, written

    def run(self) -> None:
        written = self.written
        del self.written  # the pool drops this at its leisure on this thread, and no part of the window may go with it
        try:
            files.write(self.shot, self.path)
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
        self.saved_at = 0.0
        self._autosaved: Shot | None = None
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)
        self._written = _Written(self)
        self._written.ended.connect(self._autosave_ended)
        self._timer = QTimer(self, interval=AUTOSAVE_MS, singleShot=True)
        self._timer.timeout.connect(self.autosave)
        session.shot_changed.connect(self._ask_autosave)

    @property
    def unsaved(self) -> bool:
        return self.session.shot is not self.saved_shot

    def swap_path(self) -> Path:
        if self.path is not None:
            return self.path.with_name(f".{self.path.name}.swap")
        return state_folder() / "untitled.lode.swap"

    def start_shot(self, shot: Shot, path: Path | None) -> None:
        """Another shot takes the place of this one; its history begins anew."""
        self._timer.stop()
        self._pool.waitForDone()
        self.path, self.saved_shot, self.saved_at, self._autosaved = path, shot, time.time() if path else 0.0, None
        if path is not None:
            self.remember(path)
        self.session.start_shot(shot)

    def open(self, path: str | Path) -> bool:
        """Open a shot, or a clip as a new shot."""
        path = Path(path).absolute()
        try:
            if path.suffix.lower() == ".lode":
                self._begin_with(files.read(path), path)
            else:
                self.bring_in(path)
        except UserError as error:
            self.session.fail(error)
            return False
        return True

    def open_demo(self) -> bool:
        """The demo as an untitled copy: it is no recent file, so that nothing saves over it."""
        try:
            self._begin_with(files.read(DEMO), None)
        except UserError as error:
            self.session.fail(error)
            return False
        return True

    def _begin_with(self, shot: Shot, path: Path | None) -> None:
        self.start_shot(shot, path)
        if path is not None:
            self._offer_swap()
        if shot.plate and not Path(shot.plate.path).exists():
            self.session.tell(
                f"The clip {Path(shot.plate.path).name} is not in {Path(shot.plate.path).parent} any more.",
                "Say where it is now; the shot itself is whole.",
                "bad",
            )
        self.session.show_step("Place" if shot.objects else "Plate")

    def bring_in(self, path: Path) -> None:
        """A clip becomes the plate of the shot; raises PlateError."""
        session, info = self.session, probe(path)
        fresh = session.shot.plate is None
        session.edit(f"Open {path.name}", lambda s: msgspec.structs.replace(with_plate(s, info), name=path.stem if fresh else s.name))
        for what, hint in notes_on(info):
            session.tell(f"{path.name} {what}", hint, "doubtful")
        session.show_step("Plate")
        session.show_frame(0)
        session.frame_changed.emit(session.frame)

    def save(self, path: Path) -> bool:
        shot = self.session.shot
        try:
            files.write(shot, path)
        except UserError as error:
            self.session.tell(error.what, f"{error.hint} The shot is still open and unchanged.", "bad")
            return False
        self.drop_swap()
        self.path, self.saved_shot, self.saved_at = Path(path), shot, time.time()
        self.remember(self.path)
        self.session.shot_changed.emit()
        return True

    # the autosave ------------------------------------------------------------------------------------------------------------

    def _ask_autosave(self) -> None:
        # it runs on while edits go on: put off by each of them, it would never come
        if self.unsaved and not self._timer.isActive():
            self._timer.start()

    def autosave(self) -> None:
        """Write the swap file after edits, beside the interface; it goes when the shot is saved."""
        shot = self.session.shot
        if shot is not self._autosaved and self.unsaved:
            self._pool.start(_Write(shot, self.swap_path(), self._written))

    def _autosave_ended(self, shot: Shot, error: UserError | None) -> None:
        if error is not None:
            self.session.tell(f"The autosave failed: {error.what}", error.hint, "doubtful")
            return
        self._autosaved, self.saved_at = shot, time.time()
        self.session.view_changed.emit()

    def finish_autosave(self) -> None:
        """Wait until what is being written is on the disk."""
        self._pool.waitForDone()

    def drop_swap(self) -> None:
        self._timer.stop()
        self.finish_autosave()
        self.swap_path().unlink(missing_ok=True)

    def _offer_swap(self) -> None:
        swap = self.swap_path()
        if not swap.exists():
            return
        at = time.strftime("%H:%M", time.localtime(swap.stat().st_mtime))
        self.session.tell(
            f"Work on this shot from {at} was not saved.",
            "It was kept by the autosave.",
            "doubtful",
            ("Bring it back", self.recover),
            ("Throw it away", lambda: swap.unlink(missing_ok=True)),
        )

    def offer_untitled(self) -> None:
        """At the start without a file: offer what an unsaved shot left behind."""
        if self.path is None:
            self._offer_swap()

    def recover(self) -> None:
        """Take the autosaved shot, as the whole that it is."""
        try:
            swap = self.swap_path()
            shot = files.unpack(swap.read_bytes(), swap.name, swap.parent)
        except (ShotFileError, OSError) as error:
            self.session.tell("The autosave cannot be read.", str(error), "bad")
            return
        self.session.edit("Bring back unsaved work", lambda _: shot)

    # recent files ------------------------------------------------------------------------------------------------------------

    def recent(self) -> list[str]:
        return [p for p in self.session.settings.value("recent", [], list) or [] if Path(p).exists()]

    def remember(self, path: Path) -> None:
        if Path(path).resolve() != DEMO:
            self.session.settings.setValue("recent", [str(path), *[p for p in self.recent() if p != str(path)]][:10])

    def close(self) -> None:
        self._timer.stop()
        self.finish_autosave()
