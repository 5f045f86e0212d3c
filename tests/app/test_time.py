"""The time: lanes and their keys, curves, generated motions, markers, and what a drag in the picture does to keys."""

import unittest
from unittest import mock

import msgspec
import numpy as np
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QColor, QFontMetrics, QFontMetricsF
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from lodestar.app import theme
from lodestar.app.timeline.axis import GUTTER, LANE, RULER, TimeAxis
from lodestar.app.timeline.lanes import rows
from lodestar.core.basics.keyed import Key, Keyed, constant
from lodestar.core.edits.settle import with_ground
from lodestar.core.shot.motion import speed
from tests.app.window_case import SHIFT, WindowCase

CTRL, ALT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.AltModifier
FRAMES = (10.0, 40.0, 80.0)


class TimeCase(WindowCase):
    """The demo with a title that is keyed."""

    def setUp(self):
        super().setUp()
        self.open_demo()
        self.click("step-place")
        self.session.select("open-sky")
        at = self.item().position.at(0)
        keys = tuple(Key(f, (at[0] + dx, at[1], at[2])) for f, dx in zip(FRAMES, (-1.0, 0.0, 3.0), strict=True))
        self.session.edit_item("Key", "open-sky", position=Keyed(at, keys), size=Keyed((1.0,), (Key(20.0, (1.0,)), Key(60.0, (2.0,)))))
        self.settle()

    def item(self):
        return next(o for o in self.session.shot.objects if o.id == "open-sky")

    def frames(self, part="position"):
        return [k.frame for k in getattr(self.item(), part).keys]

    @property
    def lanes(self):
        return self.window.time.lanes

    def spot(self, frame: float, part: str = "position"):
        i = next(i for i, r in enumerate(rows(self.session)) if r.id == "open-sky" and r.part == part)
        return TimeAxis(self.session, self.window.time.width()).x(frame), i * LANE + 9

    def drag_lane(self, start, end, modifiers=Qt.KeyboardModifier.NoModifier):
        self.mouse(QEvent.Type.MouseButtonPress, start, modifiers=modifiers, widget=self.lanes)
        self.mouse(QEvent.Type.MouseMove, end, modifiers=modifiers, widget=self.lanes)
        self.mouse(QEvent.Type.MouseButtonRelease, end, modifiers=modifiers, widget=self.lanes)


class LanesTest(TimeCase):
    def test_a_key_of_one_value_is_dragged_as_one_step(self):
        self.drag_lane(self.spot(40), self.spot(55))
        self.assertEqual((self.frames(), self.frames("size")), ([10, 55, 80], [20, 60]))
        self.session.undo()
        self.assertEqual(self.frames(), list(FRAMES))

    def test_a_key_dragged_over_another_and_back_does_not_swallow_it(self):
        start = self.spot(40)
        self.mouse(QEvent.Type.MouseButtonPress, start, widget=self.lanes)
        for frame in (80, 60, 50):
            self.mouse(QEvent.Type.MouseMove, self.spot(frame), widget=self.lanes)
        self.mouse(QEvent.Type.MouseButtonRelease, self.spot(50), widget=self.lanes)
        self.assertEqual(self.frames(), [10, 50, 80])

    def test_a_result_that_lands_during_a_drag_stays(self):
        """A key is dragged while the ground is said anew, as a job would do: both are there afterwards, each one step of undo."""
        start = self.spot(40)
        self.mouse(QEvent.Type.MouseButtonPress, start, widget=self.lanes)
        self.mouse(QEvent.Type.MouseMove, self.spot(60), widget=self.lanes)
        said = msgspec.structs.replace(self.session.shot.ground, moved=(5.0, 0.0, 0.0))
        self.session.land("Ground", lambda s: with_ground(s, said))
        at = self.item().position.at(10)
        self.mouse(QEvent.Type.MouseMove, self.spot(55), widget=self.lanes)
        self.mouse(QEvent.Type.MouseButtonRelease, self.spot(55), widget=self.lanes)
        self.assertEqual(self.session.shot.ground, said)
        self.assertEqual((self.frames(), self.item().position.at(10)), ([10, 55, 80], at))
        self.session.undo()
        self.assertEqual((self.frames(), self.session.shot.ground), (list(FRAMES), said))
        self.session.undo()
        self.assertNotEqual(self.session.shot.ground, said)

    def test_keys_are_chosen_copied_moved_by_arrow_and_deleted(self):
        self.drag_lane(self.spot(10), self.spot(30), CTRL)
        self.assertEqual(self.frames(), [10, 30, 40, 80])
        # Shift drag over both rows takes what lies inside
        self.drag_lane((self.spot(35)[0], self.spot(35)[1] - 8), (self.spot(90, "size")[0], self.spot(90, "size")[1] + 8), SHIFT)
        self.assertLessEqual({("open-sky", "position", 40.0), ("open-sky", "position", 80.0), ("open-sky", "size", 60.0)}, self.session.keys)
        self.key(Qt.Key.Key_Right, widget=self.lanes)
        self.assertEqual((self.frames()[-2:], self.frames("size")), ([41, 81], [20, 61]))
        self.key(Qt.Key.Key_Delete, widget=self.lanes)
        self.assertEqual((self.frames(), self.frames("size")), ([10], [20]))

    def test_double_click_sets_a_key_of_that_value(self):
        before = self.item().position.at(60)
        QTest.mouseDClick(self.lanes, Qt.MouseButton.LeftButton, pos=QPointF(*self.spot(60)).toPoint())
        self.assertEqual(self.frames(), [10, 40, 60, 80])
        np.testing.assert_allclose(self.item().position.at(60), before, atol=1e-9)

    def test_the_lane_moves_all_keys_at_a_frame_and_alt_the_whole_object(self):
        self.session.edit_item("Span", "open-sky", span=(5, 70))
        self.settle()
        x, y = self.spot(30, "")
        self.drag_lane((x, y), (self.spot(38, "")[0], y), ALT)
        self.assertEqual((self.frames(), self.frames("size"), self.item().span), ([18, 48, 88], [28, 68], (13, 78)))
        self.drag_lane(self.spot(78.5, ""), self.spot(90, ""))
        self.assertEqual(self.item().span, (13, 90))

    def test_lanes_show_the_colour_of_their_object(self):
        self.session.edit_item("Colour", "open-sky", lane=(0.8, 0.1, 0.1))
        self.settle()
        image = self.lanes.grab().toImage()
        x, y = self.spot(65, "")
        self.assertGreater(image.pixelColor(int(x), int(y) - 3).red(), 180)

    def test_the_lane_in_hand_stands_out_and_none_where_nothing_is(self):
        def grounds() -> list[str]:
            image = self.lanes.grab().toImage()
            return [image.pixelColor(GUTTER - 6, i * LANE + 3).name() for i, row in enumerate(rows(self.session)) if not row.part]

        self.session.select("open-sky")
        self.assertEqual(grounds().count(QColor(theme.CHOSEN_ROW).name()), 1)
        self.session.select("")
        self.assertNotIn(QColor(theme.CHOSEN_ROW).name(), grounds())

    def test_a_click_on_a_name_goes_to_its_step(self):
        i = next(i for i, r in enumerate(rows(self.session)) if r.id == "visitor")
        QTest.mouseClick(self.lanes, Qt.MouseButton.LeftButton, pos=QPointF(30, i * LANE + 9).toPoint())
        self.settle()
        self.assertEqual((self.session.step, self.session.selected), ("Foreground", "visitor"))


class MotionTest(TimeCase):
    def test_commands_make_motions_that_stay_editable(self):
        self.session.choose_keys(frozenset(("open-sky", "position", f) for f in FRAMES))
        self.window.commands.run("constant-speed")
        fast = speed(self.item().position, np.arange(11.0, 79.0), 25.0)
        self.assertLess(np.ptp(fast) / fast.mean(), 1e-6)
        self.assertEqual(self.frames("size"), [20, 60])
        self.window.commands.run("loop-there-and-back")
        self.assertGreater(self.frames()[-1], 80)
        self.session.undo()
        self.window.commands.run("bounce")
        self.assertEqual(self.item().position.at(200), self.item().position.at(80))
        self.assertGreater(len(self.frames()), 5)
        self.session.undo()
        self.window.commands.run("overshoot")
        target = self.item().position.at(500)[0]
        self.assertGreater(max(self.item().position.at(f)[0] for f in range(100)), target + 0.1)

    def test_a_lamp_and_what_glows_flicker_together(self):
        self.window.commands.run("add-spot")
        lamp = self.session.shot.lamps[-1].id
        keyed = lambda value: Keyed((value,), (Key(0.0, (value,)), Key(90.0, (value,))))
        self.session.edit_item("Keys", lamp, strength=keyed(4.0))
        self.session.edit_item("Keys", "open-sky", glow=keyed(1.5))
        self.session.choose_keys(frozenset((id_, part, f) for id_, part in ((lamp, "strength"), ("open-sky", "glow")) for f in (0.0, 90.0)))
        self.window.commands.run("flicker")
        strength, glow = self.session.shot.lamps[-1].strength, self.item().glow
        shares = [strength.at(f)[0] / 4 for f in range(95)]
        np.testing.assert_allclose([glow.at(f)[0] / 1.5 for f in range(95)], shares)
        self.assertLess(min(shares), 0.7)
        self.assertEqual(shares[-1], 1.0)
        self.session.undo()
        self.assertEqual(len(self.item().glow.keys), 2)
        self.session.choose_keys(frozenset(("open-sky", "position", f) for f in FRAMES))
        self.window.commands.run("flicker")
        self.assertIn("Only a single number can flicker", self.told())

    def test_too_few_keys_are_told(self):
        self.session.choose_keys(frozenset({("open-sky", "size", 20.0)}))
        self.session.edit_item("One key", "open-sky", size=Keyed((1.0,), (Key(20.0, (1.0,)),)))
        self.window.commands.run("bounce")
        self.assertIn("at least 2 keys", self.told())

    def test_keys_here_and_from_key_to_key(self):
        self.session.show_frame(25)
        self.key(Qt.Key.Key_K)
        self.assertEqual(self.frames(), [10, 25, 40, 80])
        self.window.commands.run("next-key")
        self.assertEqual(self.session.frame, 40)
        for _ in range(3):
            self.window.commands.run("previous-key")
        self.assertEqual(self.session.frame, 10)
        self.session.choose_keys(frozenset({("open-sky", "position", 25.0)}))
        self.session.show_frame(70)
        self.window.commands.run("copy-keys")
        self.assertEqual(self.frames(), [10, 25, 40, 70, 80])


class CurvesTest(TimeCase):
    def setUp(self):
        super().setUp()
        self.click("show-curves")
        self.curves = self.window.time.curves
        self.session.choose_keys(frozenset({("open-sky", "position", 40.0)}))
        self.settle()

    def spot_of(self, kind, frame):
        return next(at for k, f, c, at in self.curves.spots() if (k, f) == (kind, frame) and (kind != "key" or c == 0))

    def drag_curve(self, start, by, modifiers=Qt.KeyboardModifier.NoModifier):
        end = start + QPointF(*by)
        for kind, at in ((QEvent.Type.MouseButtonPress, start), (QEvent.Type.MouseMove, end), (QEvent.Type.MouseButtonRelease, end)):
            self.mouse(kind, (at.x(), at.y()), modifiers=modifiers, widget=self.curves)

    def test_a_handle_shapes_the_easing_by_value_and_time(self):
        before = self.item().position.at(60)[0]
        self.drag_curve(self.spot_of("out", 40.0), (10, -40))
        key = self.item().position.keys[1]
        self.assertEqual(key.easing, "free")
        self.assertGreater(key.handles[0], 0.42)
        self.assertGreater(self.item().position.at(60)[0], before + 0.2)
        # the handle is where it was let go
        moved = self.spot_of("out", 40.0)
        self.assertEqual(self.curves.easing.currentText(), "free")
        self.drag_curve(moved, (0, 40))
        self.assertAlmostEqual(self.item().position.keys[1].handles[1], 0.0, delta=0.05)

    def test_a_key_is_dragged_in_value_alone_with_shift(self):
        self.drag_curve(self.spot_of("key", 40.0), (3, -20), SHIFT)
        key = self.item().position.keys[1]
        self.assertEqual(key.frame, 40.0)
        self.assertGreater(key.value[0], self.session.shot.objects[0].position.keys[0].value[0] + 1.05)

    def test_the_easing_is_chosen_by_name_and_keyboard(self):
        self.curves.easing.setFocus()
        for _ in range(2):
            QTest.keyClick(self.curves.easing, Qt.Key.Key_Up)  # smooth, linear, hold
            self.settle()
        self.assertEqual(self.item().position.keys[1].easing, "hold")
        self.assertEqual(self.item().position.at(79.9), self.item().position.at(40))

    def test_nothing_keyed_says_what_to_do(self):
        self.session.select("gate-3")
        self.settle()
        self.assertEqual(self.curves.parts(), {})
        self.assertFalse(self.curves.easing.isVisible())

    def test_its_height_is_dragged_and_remembered(self):
        time = self.window.time
        height = time.height()
        self.mouse(QEvent.Type.MouseButtonPress, (300, 1), widget=time)
        self.mouse(QEvent.Type.MouseMove, (300, 1 - 40), widget=time)
        self.mouse(QEvent.Type.MouseButtonRelease, (300, 1 - 40), widget=time)
        self.assertEqual(time.height(), height + 40)
        self.close_window(self.window)
        self.window = self.open_window()
        self.assertTrue(self.window.time.on_curves)
        self.assertEqual(self.window.time.height(), height + 40)


class RulerTest(TimeCase):
    def names(self, count: int) -> int:
        """Parts of names of times: columns of the ruler's upper part with light in them."""
        self.session.edit("Another length", lambda s: msgspec.structs.replace(s, plate=msgspec.structs.replace(s.plate, count=count)))
        self.session.show_frame(0)
        self.settle()
        image = self.window.time.ruler.grab().toImage()
        columns = range(TimeAxis(self.session, image.width()).left + 50, image.width())
        return sum(any(image.pixelColor(x, y).lightness() > 120 for y in range(4, 13)) for x in columns)

    def test_a_clip_of_any_length_has_times_named(self):
        """Of a minute and of an hour none were, since seconds had no room."""
        for count in (100, 1_500, 90_000):
            self.assertGreater(self.names(count), 15, count)

    def test_the_number_of_the_frame_is_never_cut(self):
        player = self.window.time.player
        metrics = QFontMetricsF(theme.font(12))
        for frame, count in ((46, 100), (900, 1_500), (89_999, 90_000)):
            self.session.frame = frame
            words = player.words(QFontMetrics(theme.font(12)), count)
            self.assertTrue(words.startswith(str(frame)))
            self.assertLessEqual(metrics.horizontalAdvance(words), player.width() - 31)
        self.session.frame = 0
        self.assertEqual(player.words(QFontMetrics(theme.font(12)), 100), "0 / 100")

    def test_the_strip_shows_the_worst_of_the_frames_that_share_a_pixel(self):
        ruler, solve = self.window.time.ruler, self.session.shot.solve
        error = np.full(len(solve.frames), 0.05)
        error[37] = 0.8
        long = msgspec.structs.replace(self.session.shot.plate, count=6000)
        self.session.edit("Longer", lambda s: msgspec.structs.replace(s, plate=long))
        axis = TimeAxis(self.session, ruler.width())
        self.assertLess(axis.room, 0.2)
        shot = mock.Mock(solve=mock.Mock(frames=solve.frames, frame_error=error), tracks=None)
        image = ruler._draw_bars(axis, shot, RULER + 4.0, ruler.height() - 1.0).toImage()
        tall = {x for x in range(image.width()) if image.pixelColor(x, RULER + 8).alpha() > 200}
        self.assertEqual(tall, {int(axis.x(37))})


class MarkersTest(TimeCase):
    def test_set_name_drag_visit_and_take_away(self):
        ruler = self.window.time.ruler
        x = lambda f: TimeAxis(self.session, ruler.width()).x(f)
        for frame in (30, 60):
            self.session.show_frame(frame)
            self.key(Qt.Key.Key_M)
        QTest.mouseDClick(ruler, Qt.MouseButton.LeftButton, pos=QPointF(x(30), RULER + 4).toPoint())
        QTest.keyClicks(ruler.editor, "gate opens")
        QTest.keyClick(ruler.editor, Qt.Key.Key_Return)
        self.assertEqual([(m.frame, m.text) for m in self.session.shot.markers], [(30, "gate opens"), (60, "")])
        for kind, f in (
            (QEvent.Type.MouseButtonPress, 30),
            (QEvent.Type.MouseMove, 60),
            (QEvent.Type.MouseMove, 36),
            (QEvent.Type.MouseButtonRelease, 36),
        ):
            self.mouse(kind, (x(f), RULER + 4), widget=ruler)
        self.assertEqual([(m.frame, m.text) for m in self.session.shot.markers], [(36, "gate opens"), (60, "")])
        self.window.commands.run("next-marker")
        self.assertEqual(self.session.frame, 60)
        self.key(Qt.Key.Key_M)
        self.assertEqual(len(self.session.shot.markers), 1)
        self.session.undo()
        self.assertEqual(len(self.session.shot.markers), 2)


class KeyingTest(TimeCase):
    def drag_title(self, held=Qt.KeyboardModifier.NoModifier):
        tool = self.canvas.tool
        start = tool._on_widget(tool.handles(self.item())["x"])
        self.mouse(QEvent.Type.MouseButtonPress, start, modifiers=held)
        self.mouse(QEvent.Type.MouseMove, start + [30, 0], modifiers=held)
        words = tool.state(self.item())
        self.mouse(QEvent.Type.MouseButtonRelease, start + [30, 0], Qt.MouseButton.NoButton, modifiers=held)
        return words

    def test_a_drag_of_what_has_keys_sets_a_key_here_or_shifts_it_all_when_asked(self):
        self.session.show_frame(50)
        before = self.item().position
        self.assertIn("sets a key at frame 50", self.drag_title())
        self.assertEqual(self.frames(), [10, 40, 50, 80])
        self.assertEqual((self.item().position.at(10), self.item().position.at(80)), (before.at(10), before.at(80)))
        self.session.undo()
        for ask in (lambda: self.window.commands.run("shifting"), lambda: None):
            ask()
            before = self.item().position
            shifting = self.session.shifting
            with (
                mock.patch.object(QApplication, "mouseButtons", return_value=Qt.MouseButton.LeftButton),
                mock.patch.object(
                    QApplication, "keyboardModifiers", return_value=Qt.KeyboardModifier.NoModifier if shifting else Qt.KeyboardModifier.AltModifier
                ),
            ):
                words = self.drag_title(Qt.KeyboardModifier.NoModifier if shifting else Qt.KeyboardModifier.AltModifier)
            self.assertIn("whole motion", words)
            self.assertEqual(self.frames(), list(FRAMES))
            moved = np.subtract(self.item().position.at(10), before.at(10))
            np.testing.assert_allclose(moved, np.subtract(self.item().position.at(80), before.at(80)), atol=1e-9)
            self.assertGreater(np.linalg.norm(moved), 0.05)
            self.session.set_shifting(False)

    def test_a_command_names_the_curve_it_changes_and_guesses_none(self):
        before = self.session.shot
        self.session.choose_keys(frozenset())
        self.window.commands.run("constant-speed")  # position and size both move
        self.assertIs(self.session.shot, before)
        self.assertIn("moves in Position and Size", self.session.messages[-1].what)
        self.session.choose_keys(frozenset(("open-sky", "position", f) for f in FRAMES))
        self.window.commands.run("constant-speed")
        self.assertEqual(self.session.history.undo_label, "Constant speed: Position")
        self.assertEqual(self.item().size, before.objects[0].size if before.objects[0].id == "open-sky" else self.item().size)
        self.assertNotEqual(self.item().position, next(o for o in before.objects if o.id == "open-sky").position)
        self.session.choose_keys(frozenset())
        self.session.edit_item("Size stands still", "open-sky", size=constant(1.0))
        self.window.commands.run("ease-linear")
        self.assertEqual(self.session.history.undo_label, "Choose easing: Position")

    def test_a_number_typed_on_a_key_changes_that_key(self):
        """A bounce in: size 0.01 at frame 0, 1 at frame 25, by two clicks on the pill and two numbers."""
        self.session.edit_item("Begin anew", "open-sky", size=constant(1.0))
        size = self.find("size")
        for frame, number in ((0, "0.01"), (25, "1"), (0, "0.02")):
            self.session.show_frame(frame)
            self.settle()
            if not self.item().size.keys:
                self.click("key-size")
            size.setFocus()
            for digit in number:
                QTest.keyClick(size if size.editor.isHidden() else size.editor, digit)
            QTest.keyClick(size.editor, Qt.Key.Key_Return)
        self.assertEqual([(k.frame, k.value) for k in self.item().size.keys], [(0.0, (0.02,)), (25.0, (1.0,))])

    def test_handles_are_not_painted_while_the_shot_plays(self):
        self.session.select("open-sky")
        self.settle()
        arrows: list[int] = []
        # a mock would keep the painter, which must go with its paint
        with mock.patch("lodestar.app.viewer.tools.handles.grips.paint_arrow", lambda *_: arrows.append(1)):
            painted = lambda: (arrows.clear(), self.canvas.grab(), bool(arrows))[-1]
            self.assertTrue(painted())
            for playing in (True, False):
                self.key(Qt.Key.Key_Space)
                self.settle()
                self.assertEqual((self.session.playing, painted()), (playing, not playing))

    def test_playing_fills_the_store_of_frames(self):
        self.session.select("")
        self.session.set("Range", first=20, last=29)
        self.session.show_frame(20)
        self.key(Qt.Key.Key_Space)
        self.wait(lambda: len(set(self.window.pictures.kept_frames(self.canvas.request())) & set(range(20, 30))) >= 8, 30)
        self.key(Qt.Key.Key_Space)
        self.assertFalse(self.window.time.player.playing)


if __name__ == "__main__":
    unittest.main()
