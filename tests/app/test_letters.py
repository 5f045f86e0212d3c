"""Letters in the window: faces by looking, letters of their own, layers and movers, slanted ends of a lane."""

import tempfile
import unittest
from unittest import mock

import numpy as np
from fontTools.ttLib import TTCollection, TTFont
from PyQt6.QtCore import QEvent, QPoint, Qt
from PyQt6.QtGui import QInputMethodEvent, QTextCursor
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QMenu, QPushButton

from lodestar.app.derived import points_of
from lodestar.app.faces import picture_of
from lodestar.app.surfaces import SurfaceChooser
from lodestar.core.evaluate.lettering import piece_box, title_parts, title_pieces
from lodestar.core.evaluate.objects import pose_of
from lodestar.core.scene.poses import moved
from lodestar.core.shape.fonts import SHIPPED, SHIPPED_FOLDER, system_faces
from tests.app.test_hand import DemoCase

LEFT, CTRL = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier


class LettersCase(DemoCase):
    def setUp(self):
        super().setUp()
        self.click("step-place")
        self.session.select("open-sky")
        self.settle()

    def title(self):
        return next(o for o in self.session.shot.objects if o.id == "open-sky")

    def unfold(self, name: str) -> None:
        section = next(b for b in self.window.panel("Place").findChildren(QPushButton, f"section-{name}"))
        panel = self.window.panel("Place")
        panel.ensureWidgetVisible(section)
        body = section.parent().body
        if body.isHidden():
            QTest.mouseClick(section, LEFT)
        self.settle()

    def choose_from(self, button: str, action: str) -> None:
        """Take an entry of the menu of a button, as a click does."""
        menu = self.find(button).menu()
        assert isinstance(menu, QMenu)
        found = next(a for a in menu.actions() if a.text() == action)
        found.trigger()
        self.settle()


class ChooserTest(LettersCase):
    def open(self):
        self.click("choose-face")
        return next(w for w in QApplication.topLevelWidgets() if w.objectName() == "face-chooser")

    def test_faces_are_shown_in_the_users_own_words_and_searched(self):
        chooser = self.open()
        self.assertEqual(chooser.model.names[: len(SHIPPED)], list(SHIPPED))
        self.wait(lambda: len(chooser.model.pictures) >= 5)
        one, other = (chooser.model.pictures[name] for name in list(SHIPPED)[:2])
        self.assertIsNotNone(one)
        self.assertNotEqual(one, other)
        QTest.keyClicks(chooser.search, "slab zilla")
        self.assertEqual(chooser.model.names, ["Zilla Slab Bold"])
        chooser.search.clear()
        before = self.title().face
        QTest.keyClick(chooser.search, Qt.Key.Key_Down)  # it shows in the title at once
        self.settle()
        self.assertNotEqual(self.title().face, before)
        QTest.keyClick(chooser, Qt.Key.Key_Escape)
        self.settle()
        self.assertEqual(self.title().face, before)

    def test_what_is_kept_is_among_those_used_last_and_favourites_are_remembered(self):
        chooser = self.open()
        chooser.list.setCurrentIndex(chooser.model.index(2))
        name = chooser.model.names[2]
        chooser.switch_favourite(name)
        QTest.keyClick(chooser, Qt.Key.Key_Return)
        self.settle()
        self.assertEqual(self.title().face, name)
        chooser = self.open()
        for group in ("favourites", "used last"):
            chooser.group.setCurrentText(group)
            chooser.group.activated.emit(0)
            self.assertEqual(chooser.model.names, [name], group)
        chooser.close()

    def test_filters(self):
        chooser = self.open()
        chooser.weight.setCurrentText("heavy")
        chooser.fill()
        self.assertIn("Inter Display Black", chooser.model.names)
        self.assertNotIn("Allerta Stencil", chooser.model.names)
        chooser.weight.setCurrentText("any weight")
        chooser.width_.setCurrentText("narrow")
        chooser.fill()
        self.assertIn("Bebas Neue Bold", chooser.model.names)
        self.assertNotIn("Zilla Slab Bold", chooser.model.names)
        chooser.script.setCurrentText("Arabic")
        chooser.fill()
        self.assertTrue(all("Arabic" in system_faces()[n].scripts for n in chooser.model.names))
        chooser.close()

    def test_a_picture_holds_the_words(self):
        image = picture_of("Inter Display Black", "OO", 300, 60, "#FFFFFF")
        alpha = np.frombuffer(image.constBits().asstring(image.sizeInBytes()), np.uint8).reshape(60, 300, 4)[..., 3] > 128
        columns = np.flatnonzero(alpha.any(0))
        self.assertGreater(np.diff(columns).max(), 1)  # two letters, with room between them
        self.assertIsNone(picture_of("/nowhere/none.ttf", "OO", 300, 60, "#FFFFFF"))


class SomeLettersTest(LettersCase):
    def take(self, first: int, count: int) -> None:
        words = self.find("words")
        cursor = words.textCursor()
        cursor.setPosition(first)
        cursor.setPosition(first + count, QTextCursor.MoveMode.KeepAnchor)
        words.setTextCursor(cursor)
        self.settle()

    def test_letters_that_are_chosen_have_a_size_and_colour_of_their_own(self):
        self.unfold("some-letters")
        self.assertFalse(self.find("letters-size").isEnabled())
        self.take(5, 3)
        self.assertIn("SKY", self.find("which-letters").text())
        field = self.find("letters-size")
        field.begin_typing("60")
        QTest.keyClick(field.editor, Qt.Key.Key_Return)
        self.settle()
        self.assertEqual([(s.first, s.last, s.size) for s in self.title().styles], [(5, 7, 0.6)])
        self.assertEqual({round(float(np.ptp(p.mesh.vertices[:, 2])), 1) for p in title_parts(self.title(), 0)[4:]}, {0.6})
        words = self.find("words")
        words.setFocus()
        words.moveCursor(QTextCursor.MoveOperation.Start)
        QTest.keyClicks(words, "AN ")
        self.assertEqual([(s.first, s.last) for s in self.title().styles], [(8, 10)])
        self.take(8, 3)
        self.click("letters-plain")
        self.assertEqual(self.title().styles, ())

    def test_a_pair_is_kerned_at_the_caret(self):
        self.unfold("some-letters")
        words = self.find("words")
        cursor = words.textCursor()
        cursor.setPosition(6)
        words.setTextCursor(cursor)
        self.settle()
        kern = self.find("kern")
        kern.begin_typing("-5")
        QTest.keyClick(kern.editor, Qt.Key.Key_Return)
        self.assertEqual([(k.letter, round(k.by, 3)) for k in self.title().kerns], [(5, -0.05)])


class ListsTest(LettersCase):
    def test_layers_are_added_opened_changed_ordered_and_taken_away(self):
        self.unfold("layers")
        self.choose_from("add-layer", "Darker back")
        self.choose_from("add-layer", "Outline")
        self.assertEqual([x.name for x in self.title().layers], ["Darker back", "Outline"])
        self.assertEqual(self.find("section-chosen-layer").text(), "Chosen layer")
        field = self.find("layer-depth")
        field.begin_typing("2")
        QTest.keyClick(field.editor, Qt.Key.Key_Return)
        self.assertEqual(self.title().layers[1].depth.value, (2.0,))
        self.click("layer-1-up")
        self.assertEqual([x.name for x in self.title().layers], ["Outline", "Darker back"])
        self.click("layer-0-on")
        self.assertFalse(self.title().layers[0].on)
        self.click("layer-0-remove")
        self.assertEqual([x.name for x in self.title().layers], ["Darker back"])
        for _ in range(6):
            self.session.undo()
        self.assertEqual(self.title().layers, ())

    def test_an_entry_is_dragged_to_its_place(self):
        self.unfold("layers")
        for kind in ("Darker back", "Outline", "Edge that stands out"):
            self.choose_from("add-layer", kind)
        row = self.find("layer-0-open")
        at = row.rect().center()
        QTest.mousePress(row, LEFT, pos=at)
        self.mouse(QEvent.Type.MouseMove, (at.x(), at.y() + 30), widget=row)
        QTest.mouseRelease(row, LEFT, pos=at + QPoint(0, 30))
        self.assertEqual([x.name for x in self.title().layers], ["Outline", "Darker back", "Edge"])

    def test_words_are_laid_on_a_path_that_is_drawn_dragged_and_taken_away(self):
        self.unfold("lines")
        before = self.title()
        self.click("path-draw")
        self.assertEqual(self.session.tool, "words-path")
        round_ = np.linspace(0, 2 * np.pi, 41)
        self.drag(np.stack([300 + 110 * round_, 600 + 60 * np.sin(round_)], 1))
        laid = self.title()
        self.assertGreater(len(laid.path), 3 * 3)
        self.assertLess(len(laid.path), 3 * 14, "few points, which can be dragged")
        own = np.array(laid.path).reshape(-1, 3)
        np.testing.assert_allclose(moved(pose_of(self.session.shot, laid, self.session.frame), own)[:, 2], 0, atol=0.02)
        self.wait_picture("final")
        seen = self.pixels().copy()
        tool = self.canvas.tool
        at = tool._points_on_widget(laid)[1]
        self.drag([at, at + [0, -15], at + [0, -30]], plate=False)
        np.testing.assert_allclose(tool._points_on_widget(self.title())[1], at + [0, -30], atol=1)
        self.assertEqual(self.title().path[6:], laid.path[6:])
        self.key(Qt.Key.Key_Delete)
        self.assertEqual(len(self.title().path), len(laid.path) - 3)
        self.click("path-lying")
        self.wait_picture("final")
        self.assertGreater(int((np.abs(self.pixels().astype(int) - seen).max(-1) > 40).sum()), 2000)
        self.click("path-forget")
        self.assertEqual(self.title().path, ())
        # point after point, on points of the scene; one alone is no path
        self.click("path-draw")
        points = points_of(self.session.shot)
        camera = self.canvas.camera()
        xy, depth = camera.project(points)
        near = np.flatnonzero((depth > 0) & (xy[:, 0] > 300) & (xy[:, 0] < 900) & (xy[:, 1] > 480) & (xy[:, 1] < 700))
        first, last = near[np.argmin(xy[near, 0])], near[np.argmax(xy[near, 0])]
        self.click_at(xy[first], CTRL)
        self.key(Qt.Key.Key_Return)
        self.assertIn("two points", self.told())
        self.click_at(xy[last], CTRL)
        self.key(Qt.Key.Key_Return)
        ends = moved(pose_of(self.session.shot, self.title(), self.session.frame), np.array(self.title().path).reshape(-1, 3))
        np.testing.assert_allclose(ends, points[[first, last]], atol=1e-4)
        while self.title() != before:
            self.assertTrue(self.session.history.undo_label)
            self.session.undo()

    def test_a_smear_is_dragged_in_the_picture_and_keyed(self):
        self.unfold("deform")
        self.choose_from("add-deformation", "Smear")
        smear = self.title().deforms[0]
        self.wait_picture("final")
        before = self.pixels().copy()
        self.click("smear-drag")
        self.assertEqual(self.session.tool, "deform")
        tool = self.canvas.tool
        m, camera = tool._to_scene(self.title()), self.canvas.camera()
        xy = camera.project(m[:3, :3] @ np.array(smear.to.value) + m[:3, 3])[0]
        self.drag([xy, xy + [30, -20], xy + [60, -40]])
        moved = self.title().deforms[0]
        self.assertEqual(moved.point, smear.point)
        way = np.array(moved.to.value) - smear.to.value
        self.assertGreater(np.linalg.norm(way), 0.2)
        self.assertAlmostEqual(float(way[1]), 0, delta=0.02, msg="in the plane of the letters")
        self.wait_picture("final")
        self.assertGreater(int((np.abs(self.pixels().astype(int) - before).max(-1) > 40).sum()), 150)
        self.click("key-smear-to-x")
        self.assertTrue(self.title().deforms[0].to.has_key(self.session.frame))
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(self.title().deforms[0].to, smear.to)

    def test_a_face_of_a_file_is_opened_kept_and_undone(self):
        before = self.title().face
        with mock.patch.object(self.session, "ask_file", lambda *of: str(SHIPPED_FOLDER / SHIPPED["Zilla Slab Bold"])):
            self.click("face-file")
            self.wait(lambda: self.title().face != before)
        self.assertTrue(self.title().face.startswith("Zilla Slab Bold ("))
        self.assertEqual(self.find("face").currentText(), self.title().face)
        self.assertEqual(len(self.session.shot.faces), 1)
        self.session.undo()
        self.assertEqual((self.title().face, self.session.shot.faces), (before, ()))
        # a collection asks which of its faces is meant; nothing is done where none is
        both = TTCollection()
        both.fonts = [TTFont(SHIPPED_FOLDER / SHIPPED[name]) for name in ("Zilla Slab Bold", "Bebas Neue Bold")]
        both.save(self.folder / "both.ttc")
        for sure in (False, True):
            with (
                mock.patch.object(self.session, "ask_file", lambda *of: str(self.folder / "both.ttc")),
                mock.patch("lodestar.app.panels.letters.QInputDialog.getItem", return_value=("BebasNeueBold", sure)) as asked,
            ):
                self.click("face-file")
                self.wait_idle()
            self.assertEqual(asked.call_args.args[3], ["Zilla Slab Bold", "BebasNeueBold"])
            self.assertEqual(self.title().face != before, sure)
        self.assertTrue(self.title().face.startswith("BebasNeueBold ("))
        self.assertEqual(self.session.shot.faces[0].number, 1)
        self.wait_picture("final")

    def test_a_surface_is_chosen_by_looking_and_ones_own_is_kept(self):
        with tempfile.TemporaryDirectory() as folder, mock.patch.dict("os.environ", {"XDG_DATA_HOME": folder}):
            self.session.edit_item("Red", "open-sky", colour=(0.9, 0.1, 0.1))
            self.click("choose-surface")
            chooser = self.window.findChild(SurfaceChooser)
            self.wait(lambda: len(chooser.model.pictures) >= 8)
            self.assertTrue(all(image is not None for image in chooser.model.pictures.values()))
            chooser.keep_as("My red")
            self.assertEqual(chooser.model.names[0], "My red")
            at = chooser.model.index(chooser.model.names.index("Concrete"))
            QTest.mouseClick(chooser.list.viewport(), LEFT, pos=chooser.list.visualRect(at).center())
            self.settle()
            self.assertEqual(self.title().texture, "stone")
            chooser.list.scrollToTop()
            QTest.mouseClick(chooser.list.viewport(), LEFT, pos=chooser.list.visualRect(chooser.model.index(0)).center())
            self.settle()
            self.assertEqual((self.title().texture, self.title().colour), ("none", (0.9, 0.1, 0.1)))
            chooser.close()
            self.session.undo()
            self.assertEqual(self.title().texture, "stone")

    def test_a_profile_is_drawn(self):
        self.unfold("edges")
        choice = self.find("profile")
        choice.activated.emit(choice.findText("drawn"))
        self.settle()
        curve = self.find("profile-curve")
        first = curve.at(np.array([0.3, 0.6]))
        to = curve.at(np.array([0.5, 0.2]))
        self.mouse(QEvent.Type.MouseButtonPress, (first.x(), first.y()), widget=curve)
        self.mouse(QEvent.Type.MouseMove, (to.x(), to.y()), widget=curve)
        self.mouse(QEvent.Type.MouseButtonRelease, (to.x(), to.y()), Qt.MouseButton.NoButton, widget=curve)
        np.testing.assert_allclose(self.title().curve, (0.5, 0.2), atol=0.02)
        more = curve.at(np.array([0.8, 0.9]))
        self.mouse(QEvent.Type.MouseButtonDblClick, (more.x(), more.y()), widget=curve)
        self.assertEqual(len(self.title().curve), 4)
        self.key(Qt.Key.Key_Up, widget=curve)
        self.key(Qt.Key.Key_Delete, widget=curve)
        np.testing.assert_allclose(self.title().curve, (0.5, 0.2), atol=0.02)
        self.assertEqual(self.title().profile, "drawn")

    def test_an_axis_is_chosen_for_a_twist(self):
        self.unfold("deform")
        self.choose_from("add-deformation", "Twist")
        self.find("twist-axis").activated.emit(2)
        self.assertEqual(self.title().deforms[0].axis, "up")

    def test_movers_have_keys_like_any_value(self):
        self.unfold("movers")
        self.choose_from("add-mover", "Mover")
        mover = self.title().movers[0]
        self.session.show_frame(20)
        self.click("key-mover-reach")
        self.session.show_frame(40)
        field = self.find("mover-reach")
        field.begin_typing("0")
        QTest.keyClick(field.editor, Qt.Key.Key_Return)
        self.assertEqual([(k.frame, k.value) for k in self.title().movers[0].reach.keys], [(20, (1.0,)), (40, (0.0,))])
        lanes = self.window.time.lanes
        from lodestar.app.timeline.lanes import rows

        names = [row.name for row in rows(self.session)]
        self.assertIn("reach · Mover", names)
        y = names.index("reach · Mover") * 18 + 9
        QTest.mouseClick(lanes, LEFT, pos=QPoint(round(self.window.time.axis().x(40)), y))
        self.assertEqual(self.session.keys, frozenset({(mover.id, "reach", 40.0)}))
        self.assertEqual(self.session.selected, "open-sky")
        self.window.commands.run("curves")
        self.settle()
        self.assertIn((mover.id, "reach"), self.window.time.curves.parts())
        self.assertEqual(self.window.time.curves.value(), self.title().movers[0].reach)

    def test_the_length_of_an_arrival_is_dragged_on_the_lane(self):
        self.window.commands.run("arrive-type")
        self.settle()
        mover = self.title().movers[0]
        self.assertEqual([k.frame for k in mover.reach.keys], [0.0, 20.0])
        lanes, axis = self.window.time.lanes, self.window.time.axis()
        self.mouse(QEvent.Type.MouseButtonPress, (axis.x(20), 9), widget=lanes)
        self.mouse(QEvent.Type.MouseMove, (axis.x(27), 9), widget=lanes)
        self.mouse(QEvent.Type.MouseMove, (axis.x(33), 9), widget=lanes)
        self.mouse(QEvent.Type.MouseButtonRelease, (axis.x(33), 9), Qt.MouseButton.NoButton, widget=lanes)
        self.assertEqual([k.frame for k in self.title().movers[0].reach.keys], [0.0, 33.0])
        self.session.undo()
        self.assertEqual([k.frame for k in self.title().movers[0].reach.keys], [0.0, 20.0])


class FlyTest(LettersCase):
    def test_a_hole_is_chosen_by_a_click_and_flown_through_at_another_frame(self):
        from lodestar.core.edits.fly import hole_at
        from lodestar.core.evaluate.cameras import camera_at
        from lodestar.core.evaluate.objects import pose_of
        from lodestar.core.scene.poses import moved

        self.session.show_frame(60)
        title = self.title()
        first, height = title_pieces(title, 60)[0][0], title.height.at(60)[0]
        low, high = piece_box(first)
        hole = hole_at(title, height * np.array([first.x + (low[0] + high[0]) / 2, 0.0, 0.5]), 60)
        self.assertIsNotNone(hole)
        self.window.commands.run("place")
        self.session.use_tool("fly")
        self.settle()
        shot = self.session.shot
        self.click_at(camera_at(shot, 60).project(moved(pose_of(shot, title, 60), hole.middle))[0])
        self.assertIsNotNone(self.canvas.tool.hole)
        self.session.show_frame(30)
        self.key(Qt.Key.Key_Return)
        flown = self.title()
        middle = moved(pose_of(self.session.shot, flown, 30), hole.middle)
        np.testing.assert_allclose(middle, camera_at(self.session.shot, 30).centre, atol=1e-4)
        self.session.undo()
        self.assertEqual(self.title(), title)
        self.session.use_tool("fly")
        self.settle()
        self.click_at((640, 40))
        self.assertIn("no hole", self.told())


class TypingTest(LettersCase):
    def setUp(self):
        super().setUp()
        self.session.show_frame(46)
        self.session.select("")

    def at(self, index: int, high: float = 0.5):
        """Widget place of a caret of the title, at a share of its height."""
        tool = self.window.viewer._tools["Place"]["type"]
        self.session.select("open-sky")
        foot, top = tool._ends(self.title())[index]
        return foot + high * (top - foot)

    def begin(self, index: int):
        at = self.at(index) + [2.0, 0.0]
        self.session.select("")
        point = QPoint(*(int(v) for v in at))
        QTest.mouseDClick(self.canvas, LEFT, pos=point)
        self.settle()
        self.assertEqual(self.session.tool, "type")
        return self.canvas.tool

    def test_a_double_click_puts_the_caret_and_letters_go_there(self):
        tool = self.begin(3)
        self.assertEqual(tool.caret, 3)
        for c in "ed ":
            QTest.keyClick(self.canvas, c)
        self.assertEqual(self.title().text, "OPEed N SKY")
        self.assertFalse(self.window.time.player.playing, "Space is a letter here")
        QTest.keyClick(self.canvas, Qt.Key.Key_Backspace)
        self.assertEqual(self.title().text, "OPEedN SKY")
        self.settle()
        self.assertEqual(self.find("words").toPlainText(), "OPEedN SKY")
        self.session.undo()
        self.session.undo()
        self.assertEqual(self.title().text, "OPEN SKY", "a word is one step of undo")
        QTest.keyClick(self.canvas, Qt.Key.Key_Escape)
        self.settle()
        self.assertEqual(self.session.tool, "move")

    def test_what_an_input_method_composes_comes_whole(self):
        enabled = lambda: self.canvas.inputMethodQuery(Qt.InputMethodQuery.ImEnabled)
        self.assertFalse(enabled(), "keys are shortcuts while nobody types")
        tool = self.begin(4)
        self.assertTrue(enabled())
        foot, top = tool._ends(self.title())[4]
        beside = self.canvas.inputMethodQuery(Qt.InputMethodQuery.ImCursorRectangle)
        self.assertAlmostEqual(beside.top(), top[1], delta=1)
        self.assertAlmostEqual(beside.height(), foot[1] - top[1], delta=1)
        half = QInputMethodEvent("´", [])  # a dead key, not yet a letter
        QApplication.sendEvent(self.canvas, half)
        self.assertEqual(self.title().text, "OPEN SKY")
        for text in ("é", "星"):
            event = QInputMethodEvent()
            event.setCommitString(text)
            QApplication.sendEvent(self.canvas, event)
        self.assertEqual(self.title().text, "OPENé星 SKY")
        self.assertEqual(tool.caret, 6)

    def test_arrows_and_shift_choose_and_what_is_typed_takes_its_place(self):
        tool = self.begin(4)
        QTest.keyClick(self.canvas, Qt.Key.Key_Home)
        self.assertEqual(tool.caret, 0)
        for _ in range(4):
            QTest.keyClick(self.canvas, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
        QTest.keyClick(self.canvas, "H")
        QTest.keyClick(self.canvas, "I")
        self.assertEqual(self.title().text, "HI SKY")
        QTest.keyClick(self.canvas, Qt.Key.Key_Return)
        self.assertEqual(self.title().text, "HI\n SKY")
        QTest.keyClick(self.canvas, Qt.Key.Key_Up)
        self.assertLessEqual(tool.caret, 2)
        QTest.keyClick(self.canvas, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
        QTest.keyClick(self.canvas, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
        QTest.keyClick(self.canvas, Qt.Key.Key_Delete)
        self.assertEqual(self.title().text, "")
        QTest.keyClick(self.canvas, Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(self.title().text, "HI\n SKY")

    def test_letters_are_chosen_by_dragging_over_them(self):
        tool = self.begin(2)
        a, b = self.at(1) + [3.0, 0.0], self.at(4) - [3.0, 0.0]
        self.drag([a, (a + b) / 2, b], plate=False)
        self.assertEqual(tool._range(), (1, 4))
        self.assertEqual(self.window.panel("Place")._range(), (1, 3), "the settings are those of the letters that are chosen in the picture")
        QTest.keyClick(self.canvas, Qt.Key.Key_Delete)
        self.assertEqual(self.title().text, "O SKY")


class EdgesTest(LettersCase):
    def test_profiles_and_opacity_show_in_the_picture(self):
        self.unfold("edges")
        self.wait_picture("final")
        before = self.pixels().copy()
        profile = self.find("profile")
        profile.setCurrentText("step")
        profile.activated.emit(profile.currentIndex())
        self.assertEqual(self.title().profile, "step")
        self.wait_picture("final")
        self.assertGreater((np.abs(self.pixels().astype(int) - before).max(-1) > 8).sum(), 60)
        self.session.edit_value("Opacity", "open-sky", "opacity", lambda v: v.changed(0, (0.0,)))
        self.wait_picture("final")
        gone = self.pixels().copy()
        self.session.edit_item("Hide", "open-sky", visible=False)
        self.wait_picture("final")
        self.assertLess((np.abs(self.pixels().astype(int) - gone).max(-1) > 2).mean(), 0.002)


if __name__ == "__main__":
    unittest.main()
