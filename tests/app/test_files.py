"""The shot's file in the window: saving, what the autosave keeps and brings back, two windows, faults, missing clips."""

import os
import shutil
import subprocess
import sys
import threading
import time
import unittest
import weakref
from unittest import mock

import msgspec
import numpy as np
from PyQt6.QtCore import QEvent, QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QPushButton

from lodestar.app import derived, errors
from lodestar.app.unsaved import UnsavedWork
from lodestar.core.basics.errors import PlateError
from lodestar.core.edits.settle import with_solve
from lodestar.core.media import plates
from lodestar.core.media.plates import probe
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot
from lodestar.core.shot.swaps import left_behind
from lodestar.core.solve.report import residuals
from tests.app.window_case import WindowCase, read_anew
from tests.helpers import DEMO, ROOT, SHOTS, numbered, write_clip


class FileTest(WindowCase):
    def keep(self, text: str, files_=None) -> None:
        """Type a title, and let the autosave keep it."""
        files_ = files_ or self.session.files
        files_.session.edit_item("Type", "open-sky", text=text)
        files_.autosave()
        files_.finish_autosave()
        self.settle()

    def crash(self) -> None:
        """The window goes as when its process is killed: the system lets go of the lock on its swap, nothing else is done."""
        self.session.files.swap._file.close()

    def left(self) -> list[str]:
        return [one.shot().objects[0].text for one in left_behind(self.session.files.swaps)]

    def test_a_file_is_read_beside_the_interface_and_what_is_done_meanwhile_is_asked_about(self):
        for kept in (False, True):
            asked = []
            self.session.files.start_shot(Shot(), None)
            with mock.patch.object(self.session.files, "may_leave", lambda asked=asked: asked.append(1) or False):
                self.session.files.open(DEMO)
                self.assertEqual((self.session.jobs.name, self.session.shot.plate), ("Opening", None))
                if kept:
                    self.session.set("Rename", name="meanwhile")
                self.wait_idle()
            self.assertEqual((len(asked), self.session.shot.plate is None), (int(kept), kept))
        torn = self.folder / "torn.lode"
        torn.write_bytes(DEMO.read_bytes()[:400_000])
        self.session.files.open(torn)
        self.wait_idle()
        self.assertIn("torn.lode", self.told())
        self.assertEqual(self.session.shot.name, "meanwhile")

    def test_what_a_long_clip_takes_time_for_is_worked_out_beside_the_interface(self):
        shot = read_anew(DEMO)  # of the one that the tests share all is known
        begin, go = threading.Event(), derived.work_out

        def held(shot):
            begin.wait(60)
            return go(shot)

        panel = self.window.panel("Solve")
        with mock.patch("lodestar.app.derived.work_out", held):
            self.session.files.start_shot(shot, None)
            self.session.show_step("Solve")
            self.settle()
            self.assertIn("being worked out", panel.verdict.text())
            self.assertEqual(panel.rows["Average"][0].text(), "·")
            self.assertIsNone(derived.covariances_of(shot))
            begin.set()
            self.wait(lambda: "being worked out" not in panel.verdict.text())
        self.assertRegex(panel.rows["Average"][0].text(), r"\d px$")
        known = derived.errors_of(shot)
        np.testing.assert_allclose(known, residuals(shot.solve, shot.tracks), equal_nan=True)
        # another solve and back again, as by undo: nothing is worked out anew
        self.session.edit("Forget", lambda s: with_solve(s, None))
        self.settle()
        self.session.undo()
        self.assertIs(derived.errors_of(self.session.shot), known)

    def test_autosave_and_recovery(self):
        self.open_demo()
        self.keep("KEPT")
        self.assertEqual(self.left(), [], "a living window's work is on offer")
        self.crash()
        other = self.open_window()
        other.session.files.offer_left()
        self.assertIn("not saved", other.session.messages[-1].what)
        label, bring_back = other.session.messages[-1].actions[0]
        bring_back()
        self.assertEqual(other.session.shot.objects[0].text, "KEPT")
        self.assertEqual(self.left(), ["KEPT"], "it is gone before it was saved or thrown away")
        other.session.files.save(self.folder / "now.lode")
        self.assertEqual(self.left(), [])
        self.close_window(other)

    def test_what_is_kept_goes_when_it_is_saved_or_undone(self):
        self.open_demo()
        self.session.files.save(self.folder / "mine.lode")
        self.keep("NEW")
        swap = self.session.files.swap.path
        self.assertTrue(swap.exists())
        self.session.files.save(self.session.files.path)
        self.assertFalse(swap.exists())
        self.keep("NEWER")
        self.assertTrue(swap.exists())
        self.session.undo()
        self.settle()
        self.assertFalse(swap.exists(), "work that was undone is on offer")

    def test_the_foot_of_the_course_tells_how_the_work_is_kept(self):
        self.open_demo()
        self.assertEqual(self.session.files.standing, ("Not saved", 0.0))
        self.keep("KEPT")
        how, since = self.session.files.standing
        self.assertEqual((how, abs(since - time.time()) < 30), ("Autosaved", True))
        self.session.undo()
        self.assertEqual(self.session.files.standing, ("Not saved", 0.0), "the autosave was taken for a save")
        mine = self.folder / "mine.lode"
        self.session.files.save(mine)
        os.utime(mine, (1_000_000_000, 1_000_000_000))
        self.session.files.open(mine)
        self.wait_idle()
        self.assertEqual(self.session.files.standing, ("Saved", 1_000_000_000.0), "not when it was opened")

    def test_recovery_takes_the_shot_as_it_was_kept(self):
        self.open_demo()
        self.session.edit_ground("Turn the scene", turned=(40.0, 3.0, 0.0), sized=1.5)
        kept = self.session.shot.objects
        self.session.files.autosave()
        self.session.files.finish_autosave()
        self.crash()
        other = self.open_window()
        self.open_demo(other)  # the ground of before: objects must not be carried a second time
        other.session.files.recover(other.session.files.left()[0])
        self.assertEqual(other.session.shot.objects, kept)
        self.close_window(other)

    def test_two_windows_without_a_name_both_come_back(self):
        first, second = self.window, self.open_window()
        for window, text in ((first, "ONE"), (second, "TWO")):
            self.open_demo(window)
            self.keep(text, window.session.files)
            window.session.files.swap._file.close()
        third = self.open_window()
        third.session.files.offer_left()
        self.assertIn("1 more", third.session.messages[-1].hint)
        self.assertEqual(sorted(self.left()), ["ONE", "TWO"])
        third.session.messages[-1].actions[1][1]()  # throw the newest away
        self.assertEqual(self.left(), ["ONE"])
        third.commands.refresh()
        with mock.patch.object(UnsavedWork, "exec", lambda dialog: self.look(dialog)):
            third.commands.run("unsaved")
        self.assertEqual((third.session.shot.objects[0].text, third.session.files.path), ("ONE", None))
        self.assertEqual(self.left(), ["ONE"], "what was only looked at is gone")
        for window in (second, third):
            self.close_window(window)

    def look(self, dialog: UnsavedWork) -> None:
        self.assertEqual(dialog.list.count(), 1)
        QTest.mouseClick(dialog.findChild(QPushButton, "unsaved-look"), Qt.MouseButton.LeftButton)

    def test_work_older_than_its_file_says_so(self):
        self.open_demo()
        path = self.folder / "mine.lode"
        self.session.files.save(path)
        self.keep("OLD")
        self.crash()
        os.utime(path, (time.time() + 60, time.time() + 60))
        other = self.open_window()
        other.shot.open_path(path)
        self.wait(lambda: not other.session.jobs.busy)
        self.assertIn("mine.lode was saved after that", other.session.messages[-1].hint)
        self.close_window(other)

    def test_a_shot_that_is_open_elsewhere_opens_as_a_copy(self):
        path = self.folder / "mine.lode"
        self.open_demo()
        self.session.files.save(path)
        other = self.open_window()
        other.shot.open_path(path)
        self.wait(lambda: not other.session.jobs.busy)
        self.assertIn("open in another window", other.session.messages[-1].what)
        self.assertIsNone(other.session.files.path)
        other.session.edit_item("Type", "open-sky", text="THEIRS")
        self.assertFalse(other.session.files.save(path))
        self.assertEqual(files.read(path).objects[0].text, self.session.shot.objects[0].text)
        self.close_window(other)
        self.assertFalse(self.session.files.swap.is_open_elsewhere(path))

    def test_a_file_that_something_else_changed_is_not_written_over(self):
        path = self.folder / "mine.lode"
        self.open_demo()
        self.session.files.save(path)
        theirs = msgspec.structs.replace(self.session.shot, objects=())
        files.write(theirs, path)
        self.session.edit_item("Type", "open-sky", text="MINE")
        self.assertFalse(self.window.shot.save())
        message = self.session.messages[-1]
        self.assertIn("0 objects in it", message.what)
        self.assertEqual(files.read(path).objects, ())
        told = len(self.session.messages)
        self.window.shot.look_at_disk()
        self.assertEqual(len(self.session.messages), told, "one change is told twice")
        dict(message.actions)["Write over it"]()
        self.assertEqual(files.read(path).objects[0].text, "MINE")
        files.write(theirs, path)
        QApplication.sendEvent(self.window, QEvent(QEvent.Type.ActivationChange))
        self.assertIn("changed by something else", self.session.messages[-1].what)
        dict(self.session.messages[-1].actions)["Take what is there"]()
        self.wait_idle()
        self.assertEqual(self.session.shot.objects, ())

    def test_a_read_only_file_is_asked_about(self):
        path = self.folder / "mine.lode"
        self.open_demo()
        self.session.files.save(path)
        path.chmod(0o444)
        self.session.edit_item("Type", "open-sky", text="MINE")
        with mock.patch("lodestar.app.shot_commands.ask", return_value="Stay here"):
            self.assertFalse(self.window.shot.save())
        self.assertNotEqual(files.read(path).objects[0].text, "MINE")
        with mock.patch("lodestar.app.shot_commands.ask", return_value="Write over it"):
            self.assertTrue(self.window.shot.save())
        self.assertEqual((files.read(path).objects[0].text, path.stat().st_mode & 0o777), ("MINE", 0o444))

    def test_without_a_folder_for_it_nothing_is_kept_and_all_else_works(self):
        with mock.patch("lodestar.app.shot_files.state_folder", return_value=None):
            other = self.open_window()
        self.open_demo(other)
        other.session.edit_item("Type", "open-sky", text="HERE")
        other.session.files.autosave()
        self.assertEqual(other.session.files.left(), [])
        self.assertTrue(other.session.files.save(self.folder / "a.lode"))
        self.close_window(other)

    def test_a_fault_is_told_kept_and_reported(self):
        self.open_demo()
        self.session.edit_item("Type", "open-sky", text="BEFORE THE FAULT")
        teller = errors.FaultTeller(self.session)
        hooks = sys.excepthook, threading.excepthook
        try:
            errors.catch_faults(teller.happened.emit)
            with self.assertLogs(level="CRITICAL"):
                thread = threading.Thread(target=lambda: 1 // 0)
                thread.start()
                thread.join()
            self.wait(lambda: self.session.messages and "ZeroDivisionError" in self.session.messages[-1].what)
        finally:
            sys.excepthook, threading.excepthook = hooks
        self.session.files.finish_autosave()
        self.assertTrue(self.session.files.swap.path.exists())
        report = next((self.folder / "state" / "bright-lodestar").glob("report-*.txt")).read_text()
        for said in ("ZeroDivisionError", "numpy: ", "Embree"):
            self.assertIn(said, report)

    def test_a_fault_while_painting_leaves_no_painter_behind(self):
        self.open_demo()
        told, painters, hooks = [], [], (sys.excepthook, threading.excepthook)

        def fail(painter, canvas) -> None:
            painters.append(weakref.ref(painter))
            raise ValueError("x")

        try:
            errors.catch_faults(lambda kind, _: told.append(kind))
            with mock.patch("lodestar.app.viewer.overlays.paint", fail), self.assertLogs(level="CRITICAL"):
                self.window.canvas.update()
                self.wait(lambda: told)
        finally:
            sys.excepthook, threading.excepthook = hooks
        self.assertEqual(told[0], "ValueError")
        self.assertEqual([painter() for painter in painters], [None] * len(painters), "nothing is painted any more, and then it crashes")

    def test_an_autosave_comes_while_edits_go_on(self):
        self.open_demo()
        timer, swap = self.session.files._timer, self.session.files.swap.path
        timer.setInterval(100_000)
        self.session.edit_item("Type", "open-sky", text="ONE")
        self.wait(lambda: timer.remainingTime() < 99_990)
        left = timer.remainingTime()
        self.session.edit_item("Type", "open-sky", text="TWO")
        self.assertLessEqual(timer.remainingTime(), left, "an edit puts the autosave off")
        timer.timeout.emit()
        self.session.files.finish_autosave()
        self.assertTrue(swap.exists())

    def test_work_is_kept_when_the_program_is_told_to_go(self):
        """A program of its own that edits its shot and is then terminated, long before its autosave is due."""
        child = """
import os, signal
from PyQt6.QtCore import QTimer
from lodestar.app import main, window
begin = window.Window.__init__
def begun(self, session):
    begin(self, session)
    def act():
        session.set("Rename", name="KEPT AT THE END")
        os.kill(os.getpid(), signal.SIGTERM)
    QTimer.singleShot(0, act)
window.Window.__init__ = begun
raise SystemExit(main.run(None))
"""
        env = {**os.environ, "PYTHONPATH": str(ROOT / "src"), "QT_QPA_PLATFORM": "offscreen"}
        done = subprocess.run([sys.executable, "-c", child], env=env, timeout=60, capture_output=True, text=True)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual([left.shot().name for left in left_behind(self.session.files.swaps)], ["KEPT AT THE END"])

    def test_the_demo_is_no_recent_file_that_saving_writes_over(self):
        for way in (self.open_demo, lambda: self.window.shot.open_path(DEMO)):
            way()
            self.wait_idle()
            self.assertNotIn(str(DEMO), self.session.files.recent())
        self.open_demo()
        self.assertIsNone(self.session.files.path)

    def test_a_missing_clip_is_asked_for_and_can_be_found(self):
        shot = files.read(DEMO)
        gone = msgspec.structs.replace(shot, plate=msgspec.structs.replace(shot.plate, path=str(self.folder / "gone.mp4")))
        files.write(gone, self.folder / "a.lode")
        self.window.shot.open_path(self.folder / "a.lode")
        self.wait_idle()
        self.assertIn("gone.mp4", self.told())
        self.click("step-plate")
        with mock.patch("PyQt6.QtWidgets.QFileDialog.getOpenFileName", return_value=(str(SHOTS / "terrace.mp4"), "")):
            self.click("find-clip")
        self.wait_idle()
        self.assertEqual(self.session.shot.objects, shot.objects)
        self.wait_picture()
        with mock.patch("PyQt6.QtWidgets.QFileDialog.getOpenFileName", return_value=(str(SHOTS / "lookout.mp4"), "")):
            self.window.shot.find_clip()
        self.wait_idle()
        self.assertIn("another size or length", self.told())

    def test_a_shot_that_was_moved_alone_is_offered_its_clip_from_where_it_was(self):
        for folder in ("one", "other"):
            (self.folder / folder).mkdir()
        clip = self.folder / "one" / "take.mp4"
        shutil.copy(SHOTS / "terrace.mp4", clip)
        shot = files.read(DEMO)
        files.write(msgspec.structs.replace(shot, plate=probe(clip)), self.folder / "one" / "a.lode")
        self.window.shot.open_path(self.folder / "one" / "a.lode")
        self.wait_idle()
        shutil.move(self.folder / "one" / "a.lode", self.folder / "other" / "a.lode")
        self.window.shot.open_path(self.folder / "other" / "a.lode")
        self.wait_idle()
        self.assertIn(f"take.mp4 is not in {self.folder / 'other'}", self.told())
        button = next(b for b in self.window.strip.findChildren(QPushButton) if b.text().startswith("Take it from"))
        self.assertIn(str(clip.parent), button.text())
        button.click()
        self.wait_idle()
        self.assertEqual((self.session.shot.plate.path, self.session.shot.objects), (str(clip), shot.objects))
        self.assertFalse(self.window.strip.isVisible())

    def test_bad_files_are_told_and_nothing_is_lost(self):
        self.open_demo()
        before = self.session.shot
        self.session.files.saved_shot = before
        for name, data in (("cut.lode", DEMO.read_bytes()[:9000]), ("text.mp4", b"no movie"), ("empty.mp4", b"")):
            path = self.folder / name
            path.write_bytes(data)
            self.window.shot.open_path(path)
            self.wait_idle()
            self.assertIn(name, self.told())
            self.assertIs(self.session.shot, before)
        self.assertFalse(self.session.files.save(self.folder / "nowhere" / "a.lode"))
        self.assertIn("does not exist", self.told())

    def test_a_clip_that_the_decoder_dies_of_is_named_and_the_window_lives(self):
        self.open_demo()
        before, clip = self.session.shot, write_clip(self.folder / "killer.mp4", numbered(3))
        self.session.files.saved_shot = before
        with mock.patch.object(plates, "MOVIE", "tests.core.test_media:Stillborn"):
            self.window.shot.open_path(clip)
            self.wait_idle()
        self.assertIn("killer.mp4", self.told())
        self.assertIs(self.session.shot, before)
        with self.assertRaises(PlateError):
            probe(clip)
        os.utime(clip, (1, 1))  # another file now
        self.assertEqual(probe(clip).count, 3)

    def test_of_a_clip_that_the_decoder_dies_of_at_a_frame_the_others_are_shown(self):
        clip = write_clip(self.folder / "fragile.mp4", numbered(12))
        with mock.patch.object(plates, "MOVIE", "tests.core.test_media:Fragile"):
            self.window.shot.open_path(clip)
            self.wait_idle()
            self.session.show_frame(5)
            self.wait(lambda: "Frame 5 of fragile.mp4" in self.told())
            self.session.show_frame(7)
            self.wait(lambda: self.canvas.shown is not None and self.canvas.shown.index == 7)

    def test_a_clip_is_dropped_on_the_window(self):
        clip = write_clip(self.folder / "clip.mp4", numbered(12))
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(clip))])
        event = QDropEvent(QPointF(400, 300), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
        self.window.dropEvent(event)
        self.wait_idle()
        self.assertEqual(self.session.shot.plate.count, 12)
        self.wait(lambda: self.canvas.image is not None)

    def test_unsaved_work_is_asked_about(self):
        self.open_demo()
        self.session.edit_item("Type", "open-sky", text="NEW")
        with mock.patch("lodestar.app.shot_commands.ask", return_value="Stay here") as asked:
            self.window.shot.new_shot()
            self.assertIsNotNone(self.session.shot.plate)
            asked.return_value = "Do not save"
            self.window.shot.new_shot()
        self.assertIsNone(self.session.shot.plate)
        self.assertTrue(self.find("invitation"))


class MonkeyTest(unittest.TestCase):
    def test_a_hand_that_does_anything_finds_no_fault_and_all_is_undone(self):
        """In a process of its own: what waits for an answer gets none there. How busy the window was is told by the tool, not judged here."""
        code = "import sys, monkey; found = monkey.monkey(120, 7, monkey.DEMO); sys.exit(found['FAULT'] + found['NOT UNDONE'])"
        env = {**os.environ, "PYTHONPATH": os.pathsep.join(map(str, (ROOT / "src", ROOT, ROOT / "tools")))}
        done = subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True, timeout=200)
        self.assertEqual(done.returncode, 0, done.stdout[-3000:] + done.stderr[-3000:])
        self.assertIn("longest event of the window", done.stdout)
