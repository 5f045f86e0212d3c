"""What is done to keys, motions and markers: the commands of the menu Time."""

from lodestar.core.shot import motion
from lodestar.core.shot.document import Marker, with_marker, without_marker

from ..commands import Command
from ..needs import Needs, a_clip, chosen_keys, keys
from ..session import Session
from .curves import EASINGS
from .lanes import key_frames, move_keys, set_keys
from .time import Time


class TimeCommands:
    def __init__(self, session: Session, time: Time) -> None:
        self.session, self.time = session, time

    def commands(self) -> list[Command]:
        s = self.session
        has, keyed = a_clip(s), keys(s)
        loop = lambda how: lambda: s.change_keys("Loop", lambda value, frames: motion.looped(value, frames, float(s.shot.last), how))
        return [
            Command(
                "key",
                "Time",
                "Set key here",
                self._key_here,
                "K",
                Needs((lambda: s.object() is not None or bool(s.keys), "a chosen object, or chosen keys")),
                "of the values whose keys are chosen, or of the position",
            ),
            Command("keying", "Time", "Drags set keys, on or off", lambda: s.set_keying(not s.keying), "Ctrl+Alt+K"),
            Command(
                "shifting",
                "Time",
                "Edits shift the whole motion, on or off",
                lambda: s.set_shifting(not s.shifting),
                "Ctrl+Alt+L",
                tip="in place of keys at this frame; Alt does it while it is held",
            ),
            Command("copy-keys", "Time", "Copy chosen keys to here", self._copy_keys, "Ctrl+Shift+K", chosen_keys(s)),
            Command("delete-keys", "Time", "Delete chosen keys", s.delete_keys, "", chosen_keys(s)),
            Command("next-key", "Time", "Next key", lambda: self._next_of(key_frames(s), 1), "Shift+.", keyed),
            Command("previous-key", "Time", "Previous key", lambda: self._next_of(key_frames(s), -1), "Shift+,", keyed),
            *[
                Command(
                    f"ease-{e}", "Time", f"Easing: {e}", lambda e=e: s.ease_keys(e), "", keyed, "from the chosen keys on, or from all of the object"
                )
                for e in EASINGS
            ],
            Command(
                "constant-speed",
                "Time",
                "Constant speed",
                lambda: s.change_keys("Constant speed", motion.constant_speed),
                "",
                keyed,
                "straight from key to key at one speed, as a camera's own move looks",
            ),
            *[
                Command(f"loop-{how.replace(' ', '-')}", "Time", f"Loop: {how}", loop(how), "", keyed, "as keys, up to the out point")
                for how in motion.LOOPS
            ],
            Command(
                "bounce",
                "Time",
                "Bounce at the end",
                lambda: s.change_keys("Bounce", motion.bounced),
                "",
                keyed,
                "the last step falls and bounces, as keys",
            ),
            Command(
                "overshoot",
                "Time",
                "Overshoot at the end",
                lambda: s.change_keys("Overshoot", motion.overshot),
                "",
                keyed,
                "the last step runs past and swings in, as keys",
            ),
            Command(
                "flicker",
                "Time",
                "Flicker between keys",
                lambda: s.change_keys("Flicker", motion.flickered),
                "",
                keyed,
                "falls and comes back as a bad tube does, as keys; the same frames of a lamp and a glow flicker together",
            ),
            Command("play-from", "Time", "Play from here on", lambda: self._play_only(s.frame, None), "", has, "over and over; in and out stay"),
            Command("play-to", "Time", "Play up to here", lambda: self._play_only(None, s.frame), "", has, "over and over; in and out stay"),
            Command(
                "play-all",
                "Time",
                "Play all from in to out",
                lambda: s.play_only(None),
                "",
                Needs((lambda: s.loop is not None, "a part that plays over and over")),
            ),
            Command("zoom-time-in", "Time", "Zoom into the time", lambda: self._zoom(2.0), "Ctrl+Alt+=", has),
            Command(
                "zoom-time-out",
                "Time",
                "Zoom out of the time",
                lambda: self._zoom(0.5),
                "Ctrl+Alt+-",
                Needs((lambda: s.time_shown is not None, "a time that is zoomed")),
            ),
            Command(
                "show-all-time",
                "Time",
                "Show all of the time",
                lambda: s.show_time(None),
                "Ctrl+Alt+0",
                Needs((lambda: s.time_shown is not None, "a time that is zoomed")),
            ),
            Command("curves", "Time", "Curves or lanes", lambda: self.time.show_curves(not self.time.on_curves), "Ctrl+L"),
            Command("marker", "Time", "Marker here", self._marker, "M", has, "again: takes it away"),
            Command(
                "name-marker",
                "Time",
                "Name the marker here",
                lambda: self.time.ruler.name_marker(s.frame),
                "Shift+M",
                Needs((lambda: any(m.frame == s.frame for m in s.shot.markers), "a marker at this frame")),
            ),
            Command(
                "next-marker",
                "Time",
                "Next marker",
                lambda: self._next_of([m.frame for m in s.shot.markers], 1),
                "Ctrl+.",
                Needs((lambda: bool(s.shot.markers), "a marker")),
            ),
            Command(
                "previous-marker",
                "Time",
                "Previous marker",
                lambda: self._next_of([m.frame for m in s.shot.markers], -1),
                "Ctrl+,",
                Needs((lambda: bool(s.shot.markers), "a marker")),
            ),
        ]

    def _play_only(self, first: int | None, last: int | None) -> None:
        old = self.session.loop or (self.session.shot.first, self.session.shot.last)
        a, b = old[0] if first is None else first, old[1] if last is None else last
        # the end that was not said gives way
        self.session.play_only((a, b) if a <= b else (a, self.session.shot.last) if last is None else (self.session.shot.first, b))

    def _zoom(self, factor: float) -> None:
        self.time.zoom(self.time.axis().x(self.session.frame), factor)

    def _key_here(self) -> None:
        s, item = self.session, self.session.object()
        parts = sorted({(id_, part) for id_, part, _ in s.keys}) or ([(item.id, "position")] if item is not None else [])
        set_keys(s, parts, float(s.frame))

    def _copy_keys(self) -> None:
        s = self.session
        move_keys(s, s.keys, s.frame - min(frame for *_, frame in s.keys), True, None)

    def _next_of(self, frames: list[float], way: int) -> None:
        """The next of some frames after the present one, or with way -1 the one before."""
        found = [f for f in frames if (f - self.session.frame) * way > 0.5]
        if found:
            self.session.show_frame(round(min(found) if way > 0 else max(found)))

    def _marker(self) -> None:
        s = self.session
        there = any(m.frame == s.frame for m in s.shot.markers)
        s.edit(
            "Delete marker" if there else "Set marker", lambda shot: without_marker(shot, s.frame) if there else with_marker(shot, Marker(s.frame))
        )
