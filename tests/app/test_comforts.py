"""What a user finds at hand: what was done, help, context menus, names on lanes, shots that were open last, dropping, the keyboard."""

import subprocess
import sys
import unittest
from unittest import mock

from PyQt6.QtCore import QEvent, QMimeData, QPoint, QRect, QSize, Qt, QUrl
from PyQt6.QtGui import QContextMenuEvent, QDragEnterEvent, QDragLeaveEvent, QHelpEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QCheckBox, QDialog, QLabel, QMenu, QPushButton, QToolButton, QToolTip, QWidget

from lodestar.app import measures, theme
from lodestar.app.help import ABOUT, KEYS, PARTS, pages
from lodestar.app.session import STEPS
from lodestar.core.picture import workshop
from lodestar.core.render import pool
from tests.app.test_hand import DemoCase
from tests.app.window_case import WindowCase

LEFT = Qt.MouseButton.LeftButton


class StepsTakenTest(DemoCase):
    def test_a_click_goes_to_any_step_and_forward_again(self):
        shots = [self.session.shot]
        for name in ("a", "b", "c"):
            self.session.set(f"Rename {name}", name=name)
            shots.append(self.session.shot)
        self.window.commands.run("steps")
        dialog = self.window.findChild(QDialog, "steps-taken")
        words = lambda: [dialog.list.item(k).text() for k in range(dialog.list.count())]
        self.assertEqual(words(), ["As it was opened", "Rename a", "Rename b", "Rename c"])
        click = lambda row: QTest.mouseClick(dialog.list.viewport(), LEFT, pos=dialog.list.visualItemRect(dialog.list.item(row)).center())
        for row in (1, 3, 0, 2):
            click(row)
            self.assertIs(self.session.shot, shots[row])
            self.assertEqual(dialog.list.currentRow(), row)
        self.session.set("Rename d", name="d")  # it goes on from there
        self.assertEqual(words(), ["As it was opened", "Rename a", "Rename b", "Rename d"])
        dialog.close()


class HelpTest(DemoCase):
    def test_each_step_has_a_page_by_f1_and_links_lead_on(self):
        for step in STEPS:
            self.session.show_step(step)
            self.window.commands.run("help")
            shown = self.window.findChild(QDialog, "help")
            self.assertEqual(shown.list.currentItem().text(), step)
            self.assertIn(step, shown.text.toPlainText()[:40])
        shown.show_page("Solve")
        shown._follow(QUrl("../solve.md"))
        self.assertNotEqual(shown.list.currentItem().text(), "Solve")
        self.window.commands.run("shortcuts")
        self.assertIn("Ctrl+K", shown.text.toPlainText())
        shown.show_page(ABOUT)
        text = shown.text.toPlainText()
        self.assertTrue(all(name in text for name in PARTS))
        self.assertNotIn("not here", text)
        self.assertEqual(shown.list.item(shown.list.count() - 2).text(), KEYS)
        shown.close()

    def test_pages_name_commands_and_files_that_are_there(self):
        for path in pages().values():
            text = path.read_text()
            for target in [part.split(")")[0] for part in text.split("](")[1:]]:
                if not target.startswith(("http", "#")):
                    self.assertTrue((path.parent / target.split("#")[0]).exists(), f"{path.name}: {target}")


class ContextMenuTest(DemoCase):
    def menu(self, at) -> QMenu:
        point = QPoint(*(int(v) for v in at))
        QApplication.sendEvent(self.canvas, QContextMenuEvent(QContextMenuEvent.Reason.Mouse, point, self.canvas.mapToGlobal(point)))
        self.settle()
        found = self.window.findChildren(QMenu, "context-menu")
        self.assertTrue(found)
        return found[-1]

    def words(self, menu: QMenu) -> list[str]:
        return [a.text() for a in menu.actions() if a.text()]

    def test_over_a_title_and_beside_it(self):
        self.click("step-place")
        self.session.show_frame(46)
        self.session.select("")
        menu = self.menu(self.canvas.to_widget((760, 420)))  # on a letter
        self.assertEqual(self.session.selected, "open-sky")
        self.assertIn("Duplicate", self.words(menu))
        count = len(self.session.shot.objects)
        next(a for a in menu.actions() if a.text() == "Duplicate").trigger()
        self.assertEqual(len(self.session.shot.objects), count + 1)
        menu.close()
        self.settle()
        menu = self.menu(self.canvas.to_widget((640, 60)))  # the sky
        self.assertIn("Place a title", self.words(menu))
        menu.close()


class LanesTest(DemoCase):
    def test_a_lane_is_renamed_in_its_place(self):
        lanes = self.window.time.lanes
        QTest.mouseDClick(lanes, LEFT, pos=QPoint(30, 9))
        editor = self.find("lane-name")
        editor.setText("First words")
        QTest.keyClick(editor, Qt.Key.Key_Return)
        self.assertEqual(self.session.shot.objects[0].name, "First words")
        self.session.select(self.session.shot.mattes[0].id)
        lanes.setFocus()
        QTest.keyClick(lanes, Qt.Key.Key_F2)
        editor = self.find("lane-name")
        editor.setText("Walker")
        QTest.keyClick(editor, Qt.Key.Key_Return)
        self.assertEqual(self.session.shot.mattes[0].name, "Walker")


class PreferencesTest(WindowCase):
    def test_they_hold_at_once_and_in_the_next_window(self):
        self.window.commands.run("preferences")
        dialog = self.window.findChild(QDialog, "preferences")
        before = pool.threads()
        try:
            for name, text in (("keep/seconds", "30"), ("memory/frames", "900"), ("cores", "1")):
                field = dialog.fields[name]
                field.begin_typing(text)
                QTest.keyClick(field.editor, Qt.Key.Key_Return)
            self.assertEqual(self.session.files._timer.interval(), 30_000)
            self.assertEqual((workshop.frames._most, pool.threads()), (900_000_000, 1))
            dialog.close()
            self.settle()
            other = self.open_window()
            self.assertEqual(other.session.files._timer.interval(), 30_000)
            self.close_window(other)
        finally:
            pool.set_threads(before)
            workshop.frames.set_most(workshop.KEPT_BYTES)

    def test_lengths_in_feet_and_a_decimal_comma_are_shown_typed_and_leave_the_document_in_metres(self):
        self.open_demo()
        self.session.show_step("Place")
        self.session.select(self.session.shot.objects[0].id)
        self.settle()
        field = self.find("title-height")
        metres = self.session.object().height.value[0]
        self.assertTrue(self.session.shot.ground.measured)
        self.window.commands.run("preferences")
        dialog = self.window.findChild(QDialog, "preferences")
        for name, choice in (("numbers/lengths", "feet"), ("numbers/sign", "1,5")):
            box = dialog.choices[name]
            while box.currentText() != choice:
                self.assertLess(box.currentIndex(), box.count() - 1)
                QTest.keyClick(box, Qt.Key.Key_Down)
                self.settle()
        try:
            # the international foot is 0.3048 m exactly (NIST Handbook 44, appendix C)
            self.assertEqual(field.text(), f"{metres / 0.3048:.{field.decimals}f}".replace(".", ","))
            field.begin_typing("2,5")
            QTest.keyClick(field.editor, Qt.Key.Key_Return)
            self.assertAlmostEqual(self.session.object().height.value[0], 2.5 * 0.3048)
            field.begin_typing("50 cm")
            QTest.keyClick(field.editor, Qt.Key.Key_Return)
            self.assertAlmostEqual(self.session.object().height.value[0], 0.5)
            self.session.show_step("Solve")
            self.settle()
            self.assertRegex(self.window.panel("Solve").rows["Average"][0].text(), r"^\d+,\d\d px$")
            self.assertRegex(self.window.panel("Solve").verdict.text(), r"\d,\d+ px")
            self.window.commands.run("undo")
            self.window.commands.run("undo")
            self.assertEqual(self.session.object().height.value[0], metres)
        finally:
            measures.use("1.5", "metres")

    def test_a_brighter_window_keeps_its_words_readable(self):
        # W3C, Web Content Accessibility Guidelines 2.1: 4.5 for words (success criterion 1.4.3), 7 for the better grade (1.4.6)
        self.assertAlmostEqual(theme.contrast("#000000", "#FFFFFF"), 21.0, places=6)
        self.assertAlmostEqual(theme.contrast("#777777", "#FFFFFF"), 4.48, places=2)
        panel = self.window.panel("Plate")
        seen = []
        try:
            for name in theme.BRIGHTNESS:
                theme.set_brightness(name)
                self.settle()
                self.assertGreater(theme.contrast(theme.TEXT, theme.PANEL), 7.0, name)
                self.assertGreater(theme.contrast(theme.QUIET, theme.PANEL), 4.5, name)
                seen.append((theme.BRIGHTNESS[name], panel.grab().toImage().pixelColor(4, panel.height() - 4).lightness()))
        finally:
            theme.set_brightness("usual")
        self.assertEqual([b for _, b in sorted(seen)], sorted({b for _, b in seen}))
        self.assertEqual(len({b for _, b in seen}), 4)
        large = {key: getattr(theme, key).upper() for key in theme._GROUNDS}  # as they are written in the module
        with mock.patch.multiple(theme, **large), mock.patch.object(theme, "_dress") as dressed:
            theme.set_brightness("usual")  # to dress a whole window takes half of a second
        dressed.assert_not_called()

    def test_a_tip_stands_under_what_it_is_about(self):
        self.window.commands.run("preferences")
        self.settle()
        field = self.window.findChild(QDialog, "preferences").fields["keep/seconds"]
        at = QPoint(20, 4)
        QApplication.sendEvent(field, QHelpEvent(QEvent.Type.ToolTip, at, field.mapToGlobal(at)))
        self.settle()
        self.assertIn("How long after an edit", QToolTip.text())
        tips = [w for w in QApplication.topLevelWidgets() if w.inherits("QTipLabel") and w.isVisible()]
        self.assertGreaterEqual(tips[0].geometry().top(), field.mapToGlobal(QPoint(0, field.height())).y())
        QToolTip.hideText()


class NoticeTest(WindowCase):
    def test_a_long_job_that_ends_behind_other_windows_is_told_by_the_desktop(self):
        told = []
        with (
            mock.patch("lodestar.app.window.QProcess.startDetached", lambda program, words: told.append((program, words))),
            mock.patch("lodestar.app.window.Window.isActiveWindow", lambda self: False),
        ):
            self.session.jobs.start("Track", "Track", lambda job: 1, lambda result: None, lambda error: None)
            self.wait_idle()
            self.assertEqual(told, [], "a short one is not worth it")
            self.session.jobs.start("Track", "Track", lambda job: 1, lambda result: None, lambda error: None)
            self.session.jobs._began -= 60
            self.wait_idle()
        self.assertEqual(told[0][0], "notify-send")
        self.assertIn("Track is done.", told[0][1])


class RecentTest(DemoCase):
    def test_shots_that_were_open_last_are_offered_with_pictures(self):
        self.wait_picture()
        path = self.folder / "night.lode"
        self.session.files.save(path)
        self.window.shot.new_shot()
        self.settle()
        button = self.find("recent-0")
        self.assertEqual(button.text(), "night")
        self.assertGreater(button.icon().actualSize(button.iconSize()).width(), 100)
        self.click("recent-0")
        self.wait_idle()
        self.assertEqual(self.session.files.path, path)


class DropTest(WindowCase):
    def test_where_a_file_may_be_let_go_is_shown(self):
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile("/nowhere/a.mp4")])
        mark = self.window.drop_mark
        where = (QPoint(400, 300), Qt.DropAction.CopyAction, data, LEFT, Qt.KeyboardModifier.NoModifier)
        QApplication.sendEvent(self.window, QDragEnterEvent(*where))
        self.assertTrue(mark.isVisible())
        QApplication.sendEvent(self.window, QDragLeaveEvent())
        self.assertFalse(mark.isVisible())


class KeyboardTest(DemoCase):
    def test_every_command_is_reached_by_menu_and_finder_and_every_control_has_a_name(self):
        listed = {a.objectName() for menu in self.window.commands.menus.values() for a in _all_actions(menu)}
        missing = [c for c in self.window.commands.all if f"do-{c}" not in listed]
        self.assertEqual(missing, [])
        keys = [c.keys for c in self.window.commands.all.values() if c.keys]
        self.assertEqual(len(keys), len(set(keys)), "two commands share a shortcut")
        from PyQt6.QtWidgets import QAbstractButton, QComboBox, QLineEdit

        self.session.select("open-sky")
        for step in STEPS:
            self.session.show_step(step)
            self.settle()
            for widget in self.window.panel(step).findChildren((QAbstractButton, QComboBox, QLineEdit)):
                if widget.isVisible():
                    self.assertTrue(widget.accessibleName() or getattr(widget, "text", str)(), f"{step}: {widget.objectName()} has no name")

    def test_all_controls_of_a_panel_are_reached_by_tab(self):
        self.click("step-place")
        self.session.select("open-sky")
        self.settle()
        panel, seen = self.window.panel("Place"), set()
        self.find("words").setFocus()
        for _ in range(400):
            widget = QApplication.focusWidget()
            if widget in seen or widget is None:
                break
            seen.add(widget)
            self.window.focusNextPrevChild(True)
        names = {w.objectName() for w in seen}
        for name in ("face", "title-height", "key-title-height", "title-colour", "stand-up", "position-x", "duplicate"):
            self.assertIn(name, names)
        self.assertTrue(panel.isVisible())

    def test_a_head_is_folded_by_a_click_anywhere_before_its_fact(self):
        self.session.select("open-sky")
        self.settle()
        section = self.window.panel("Place").findChild(QPushButton, "section-movers").parentWidget()
        self.assertTrue(section.body.isHidden())
        right = section.fact.x() - 6
        self.assertGreater(right, section.width() / 2)
        hit = section.childAt(QPoint(right, section.header.geometry().center().y()))
        QTest.mouseClick(hit, Qt.MouseButton.LeftButton)
        self.assertFalse(section.body.isHidden())

    def test_a_click_on_a_button_leaves_keys_to_the_picture(self):
        self.window.activateWindow()
        self.session.select("open-sky")
        self.settle()
        panel = self.window.panel("Place")
        for name in ("section-lines", "stand-up"):
            b = panel.findChild(QPushButton, name)
            panel.ensureWidgetVisible(b)
            self.find("words").setFocus()
            # as the system sends it, not to the button alone
            QTest.mouseClick(self.window.windowHandle(), Qt.MouseButton.LeftButton, pos=b.mapTo(self.window, b.rect().center()))
            self.settle()
            self.assertTrue(self.canvas.hasFocus(), name)
        before = self.session.object().position
        QTest.keyClick(self.window.windowHandle(), Qt.Key.Key_Right)
        self.assertNotEqual(self.session.object().position, before, "arrows wander from button to button")

    def test_what_is_disabled_or_left_gives_the_keyboard_to_the_picture(self):
        self.window.activateWindow()
        self.click("step-track")
        chooses = self.find("choose-by-rule")
        chooses.setFocus()
        self.click("step-output")
        self.assertTrue(self.canvas.hasFocus(), "the first head of the panel seemed to be chosen")
        self.click("step-track")
        chooses.setFocus()
        chooses.setEnabled(False)
        self.assertTrue(self.canvas.hasFocus())
        chooses.setEnabled(True)
        chooses.setFocus()
        chooses.parentWidget().hide()  # as a section goes by undo
        self.assertTrue(self.canvas.hasFocus())
        chooses.parentWidget().show()
        chooses.setFocus()
        QTest.keyClick(chooses, Qt.Key.Key_Tab)
        self.assertTrue(self.window.panel("Track").isAncestorOf(QApplication.focusWidget()), "Tab goes on in the panel")
        self.canvas.setFocus()
        self.click("view-scene")
        self.assertTrue(self.window.viewer.scene.hasFocus(), "the keyboard went to the ruler")
        self.find("choose-by-rule").setFocus()
        self.click("step-output")
        self.assertTrue(self.window.viewer.scene.hasFocus())
        self.click("view-picture")
        self.assertTrue(self.canvas.hasFocus())

    def test_where_the_keyboard_is_can_be_seen_at_every_stop(self):
        self.session.select("open-sky")
        self.window.commands.run("arrive-settle-from-above")
        self.window.activateWindow()
        blind = []
        for step in STEPS:
            self.session.show_step(step)
            self.settle()
            for stop in self.window.findChildren(QWidget):
                if not (stop.isVisible() and stop.isEnabled() and stop.focusPolicy() & Qt.FocusPolicy.TabFocus) or stop.objectName().startswith(
                    "qt_"
                ):
                    continue
                if step != STEPS[0] and not self.window.panel(step).isAncestorOf(stop):
                    continue  # seen already
                place = QRect(stop.mapTo(self.window, QPoint(0, 0)), stop.size())
                if not self.window.rect().contains(place):
                    continue  # below what is on show; of the same kinds
                if (held := QApplication.focusWidget()) is not None:
                    held.clearFocus()
                QApplication.processEvents()
                before = self.window.grab(place).toImage()
                stop.setFocus(Qt.FocusReason.TabFocusReason)
                QApplication.processEvents()
                if self.window.grab(place).toImage() == before:
                    blind.append(f"{step}: {type(stop).__name__} {stop.objectName()}")
        self.assertEqual(blind, [])


class WidthTest(DemoCase):
    def test_no_panel_is_wider_than_its_place(self):
        self.session.select("open-sky")
        self.window.commands.run("arrive-settle-from-above")
        self.window.commands.run("leave-burn-in")
        for step in STEPS:
            self.session.show_step(step)
            self.settle()
            panel = self.window.panel(step)
            self.assertLessEqual(panel.widget().width(), panel.viewport().width(), step)

    def test_in_the_smallest_window_no_word_is_cut(self):
        viewer = self.window.viewer
        for size, words in ((self.window.minimumSize(), False), (QSize(1280, 800), True)):
            self.window.resize(size)
            for step in STEPS:
                self.session.show_step(step)
                self.settle()
                parts = [*viewer.tool_row.findChildren(QToolButton), *viewer.bar.findChildren((QToolButton, QCheckBox, QLabel))]
                for part in parts:
                    if part.isVisible():
                        self.assertGreaterEqual(part.width(), part.sizeHint().width(), f"{step}: {part.objectName()} at {size.width()}")
            self.session.show_step("Place")
            self.settle()
            self.assertEqual(self.find("tool-title").toolButtonStyle() == Qt.ToolButtonStyle.ToolButtonTextBesideIcon, words)
            self.assertEqual("Frame" in viewer.state.text(), words)


def _all_actions(menu: QMenu):
    for action in menu.actions():
        if action.menu() is not None:
            yield from _all_actions(action.menu())
        else:
            yield action


class MenusTest(WindowCase):
    def test_kinds_of_a_command_share_a_menu_and_lines_divide(self):
        menu = self.window.commands.menus["Time"]
        inner = {a.text(): a.menu() for a in menu.actions() if a.menu() is not None}
        self.assertEqual([a.text() for a in inner["Easing"].actions()], ["Hold", "Linear", "Smooth", "Free"])
        self.assertTrue(any(a.isSeparator() for a in self.window.commands.menus["Shot"].actions()))


class StartTest(unittest.TestCase):
    def test_what_a_start_does_not_need_is_not_loaded(self):
        """These bring a quarter of a second of libraries, and are used for logos that are traced, lines, uneven ground and solving."""
        later = ("scipy.interpolate", "scipy.optimize", "scipy.signal", "scipy.stats")
        code = f"import sys, lodestar.app.main, lodestar.app.window; print(*[name for name in {later} if name in sys.modules])"
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=120)
        self.assertEqual((done.stdout.strip(), done.returncode), ("", 0), done.stderr)


if __name__ == "__main__":
    unittest.main()
