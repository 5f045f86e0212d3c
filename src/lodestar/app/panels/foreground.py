"""Foreground: what passes in front of the titles: outlines that are drawn, subjects that are painted and followed, and keys."""

from collections.abc import Callable
from pathlib import Path
from typing import Literal

import msgspec
import numpy as np
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.keyed import constant
from lodestar.core.edits.arrange import new_id
from lodestar.core.evaluate.carrying import outline_at, tracks_under
from lodestar.core.matte.key import Keyer
from lodestar.core.matte.matte import Matte
from lodestar.core.matte.measure import Edge
from lodestar.core.matte.sources import CHANNELS, Channel, Outline, Pictured
from lodestar.core.matte.strokes import UNSURE, Brushed
from lodestar.core.media.pictures import picture_frame
from lodestar.core.work.matting import is_due
from lodestar.core.work.measuring import measure_edge

from ..commands import Command
from ..fields import Choice, Line, button, quiet, set_main, tick
from ..measures import figure
from ..needs import Needs, a_clip
from ..readings import plural
from .mattes import MatteChoice, Names
from .new_sky import NewSky
from .panel import Panel
from .track import outline_row

STILL_PX = 0.5  # by which an edge may jump without being seen to boil (common practice, no source)
DIFFERS = (0.035, 0.03, 6.0)  # tolerance, fade and specks of a new key of what moves (tried on the demo)


class ForegroundPanel(Panel):
    step = "Foreground"

    def own_commands(self) -> list[Command]:
        brushed = Needs((lambda: isinstance(self._current(), Brushed), "a chosen matte that is painted"))
        work, has = self.session.work, a_clip(self.session)
        here = lambda act: lambda: (self.session.show_step("Foreground"), act())
        return [
            Command("follow-matte", "Object", "Follow the painted subject", lambda: work.follow_matte(self.session.selected), enabled=brushed),
            Command("follow-due", "Object", "Follow what is not followed yet", work.follow_due),
            Command(
                "measure-edge",
                "Object",
                "Measure the edge of the matte",
                self._measure,
                enabled=Needs((lambda: self._current() is not None, "a chosen matte")),
            ),
            Command("next-unsure", "Go", "Next unsure frame of the matte", lambda: work.next_unsure(self.session.selected), enabled=brushed),
            *[
                Command(name, "Object", f"New matte: {label[0].lower()}{label[1:]}", here(act), "", has, tip)
                for name, label, tip, act in self._makers()
            ],
            Command("replace-sky", "Object", "Replace the sky, on or off", here(lambda: self.sky.switch(not self.session.shot.backdrop.on)), "", has),
            Command("find-sky", "Object", "Find the old sky here", here(lambda: self.sky.find()), "", has),
        ]

    def _makers(self) -> tuple[tuple[str, str, str, Callable[[], object]], ...]:
        """Name, label, tip and act of each way to make a matte."""
        clean = "A matte of all that differs from the clean plate, which other frames tell through the solved camera"
        return (
            ("paint-matte", "Paint a subject", "Paint over somebody who passes; they are found in all frames", lambda: self._begin("brush")),
            ("draw-matte", "Draw an outline", "Click corner after corner round what passes in front", lambda: self._begin("matte")),
            ("key-colour", "Key a colour", "Click a colour in the picture; all that is like it becomes a matte", lambda: self._begin("key")),
            ("key-brightness", "Key brightness", "A matte of all that is bright, or dark", lambda: self._key_by("brightness")),
            ("key-difference", "Key what moves", clean, lambda: self._key_by("difference")),
            ("picture-matte", "A picture or movie…", "A matte that was made elsewhere: its alpha, its brightness or a channel", self._add_picture),
        )

    def parts(self) -> tuple[Callable[[], None], ...]:
        return (self._fill_list, self._fill_chosen, self._fill_keys, self._fill_pictured, self._fill_line, self._fill_use, self._fill_sky)

    def _fill_list(self) -> None:
        self.list = self.section("Mattes")
        self.rows = QVBoxLayout()
        self.rows.setContentsMargins(0, 0, 0, 0)
        holder = QWidget()
        holder.setObjectName("plain")
        holder.setLayout(self.rows)
        self.list.add_wide(holder)
        makers = [button(label, name, tip, act) for name, label, tip, act in self._makers()]
        self.paint = makers[0]
        for pair in zip(makers[::2], makers[1::2], strict=True):
            self.list.add_buttons(*pair)
        self._listed: tuple | None = None

    def _fill_chosen(self) -> None:
        self.one = self.section("Chosen matte")
        self.name = Line()
        self.name.setObjectName("matte-name")
        self.name.setAccessibleName("Name of the matte")
        self.name.setToolTip("What this matte is called in its lane")
        self.name.textEdited.connect(lambda text: self._set("Rename", ("name", self.session.selected), name=text))
        self.one.add("Name", self.name)
        self.keys = quiet()
        self.one.add_wide(self.keys)
        self.unkey = button("Take away the key here", "unkey-matte", "The shape at this frame follows its neighbours again", self._unkey)
        self.one.add_wide(self.unkey)
        self.carry = tick(
            "Carried by the camera",
            "carry-matte",
            "It lies on the surface under it and goes with it; only what truly changes is drawn again",
            self._carry,
        )
        self.steady = tick(
            "Steadied by the camera",
            "steady-matte",
            "Between its keys it goes with the camera, as what stands where its lowest corner is: a hand that shakes needs no keys",
            lambda on: self._set("Steadied by the camera, on or off", steady=on),
        )
        self.apart = tick(
            "Key each corner apart",
            "apart-matte",
            "A drag keys only the corners that it moves here; the others go on between keys of their own",
            lambda on: self._set("Key each corner apart, on or off", apart=on),
        )
        self.follow = button(
            "Follow through the shot",
            "follow",
            "Find the subject in all frames, from those that are painted",
            lambda: self.commands.run("follow-matte"),
            True,
        )
        self.unsure = button("Next unsure frame", "next-unsure", "Go to where it should be looked at", lambda: self.commands.run("next-unsure"))
        self.forget = button("Take away the strokes here", "unpaint-matte", "This frame is found from its neighbours again", self._unpaint)
        self.kept = tick(
            "Keep as it is",
            "keep-matte",
            "It is not found anew, whatever changes in tracks, camera or in and out",
            lambda on: self._set("Keep the matte", kept=on),
        )
        for widget in (self.follow, self.unsure, self.forget):
            self.one.add_wide(widget)
        self.one.add("", self.kept)
        self.one.add("", self.carry)
        self.one.add("", self.steady)
        self.one.add("", self.apart)

    def _fill_keys(self) -> None:
        self.by_colour, self.by_brightness = self.section("Key of a colour"), self.section("Key of brightness")
        for section, parts in ((self.by_colour, ("tolerance", "fade", "specks")), (self.by_brightness, ("dark", "bright", "fade", "specks"))):
            self.value_rows(section, self._chosen, Keyer, f"key-{parts[0]}", "key", parts)
        self.far = tick(
            "Only what is far away",
            "key-far",
            "Leaves out what the solved camera saw near, and all under the horizon: for a sky before which white walls stand",
            lambda on: self._set("Only what is far away", far=on),
        )
        self.by_colour.add("", self.far)

    def _fill_pictured(self) -> None:
        self.pictured = self.section("Picture of the matte")
        self.file = button("Choose another…", "matte-picture", "Another picture, sequence or movie in its place", self._choose_picture)
        self.pictured.add_wide(self.file)
        self.channel = Choice()
        self.channel.setObjectName("matte-channel")
        self.channel.setAccessibleName("Channel of the picture")
        self.channel.setToolTip("What of the picture is the matte")
        self.channel.addItems([name.capitalize() for name in CHANNELS])
        self.channel.activated.connect(lambda number: self._set("Choose a channel", channel=CHANNELS[number]))
        self.pictured.add("Channel", self.channel)

    def _fill_line(self) -> None:
        self.line = self.section("Line")
        self.closed = tick("Closed", "matte-closed", "What it surrounds; off for an open line with a width, as a rope or a rail", self._close)
        self.line.add("", self.closed)
        self.sharp = tick(
            "Sharp corners", "matte-sharp", "All corners sharp, or all smooth; a double click on a corner turns that one alone", self._sharpen
        )
        self.line.add("", self.sharp)
        self.wide = self.section("Width of the line")
        self.value_rows(self.wide, self._chosen, Outline, "outline", "outline", ("width",))
        self.feather = self.section("Feather of the line")
        self.value_rows(self.feather, self._chosen, Outline, parts=("feather", "inward"))
        self.evenly = button(
            "The same all round", "matte-evenly", "All corners have the whole feather again", lambda: self._set("Even feather", feathers=())
        )
        self.feather.add_wide(self.evenly)

    def _fill_use(self) -> None:
        self.edge = self.section("Edge and use")
        self.value_rows(self.edge, self._chosen, Matte, "matte", "matte")
        self.hides = tick(
            "Hides titles",
            "matte-hides",
            "Off for one that only says where the sky, a finish or another matte works",
            lambda on: self._set("Hides titles, on or off", hides=on),
        )
        self.edge.add("", self.hides)
        self.choices = [
            self._choice("within", "Only inside", "everywhere", "Inside which other mattes alone it holds"),
            self._choice("without", "Not inside", "nowhere", "Inside which other mattes it does not hold"),
        ]
        tip = "How wide its edge is, and by how much it jumps from frame to frame, over the range"
        self.edge.add_wide(button("Measure the edge", "measure-edge", tip, lambda: self.commands.run("measure-edge")))

    def _fill_sky(self) -> None:
        self.sky = NewSky(self)

    def _measure(self) -> None:
        current, shot = self._current(), self.session.shot
        if current is None:
            return

        def told(edge: Edge) -> None:
            wide = f"The edge of {current.name} is {figure(edge.width_px, 1)} px wide"
            if not np.isfinite(edge.flicker_px):
                self.session.tell(f"{wide}.", "There is no frame beside it, by which its flicker could be told.")
                return
            jumps = f"and flickers by {figure(edge.flicker_px, 2)} px (95 %: {figure(edge.flicker_p95_px, 2)} px)"
            still = edge.flicker_p95_px < STILL_PX
            self.session.tell(
                f"{wide} {jumps}.", "" if still else "Where it boils, soften it, or paint and key it there.", "note" if still else "doubtful"
            )

        self.session.work.run_job("Measure the edge", "Foreground", lambda job: measure_edge(shot, current.id, job), told)

    def _chosen(self) -> str:
        return self.session.selected

    def _choice(self, part: str, label: str, first: str, tip: str) -> MatteChoice:
        get: Callable[[], Names] = lambda: getattr(self._current(), part, ())
        put: Callable[[Names], None] = lambda names: self._set(
            f"Choose where the matte holds: {label.lower()}", **{part: tuple(n for n in names or () if n != self.session.selected)}
        )
        choice = MatteChoice(self.session, f"matte-{part}", first, (), tip, get, put)
        self.edge.add(label, choice)
        return choice

    def _key_by(self, by: Literal["brightness", "difference"]) -> None:
        shot = self.session.shot
        if by == "difference" and shot.solve is None:
            self.session.tell(
                "What moves is told from the clean plate, and that through the solved camera.", "Solve the shot first, at Solve.", "note"
            )
            return
        number = 1 + sum(isinstance(m, Keyer) for m in shot.mattes)
        key = Keyer(id=new_id(), name=f"Key {number}", by=by)
        if by == "difference":
            key = msgspec.structs.replace(key, tolerance=constant(DIFFERS[0]), fade=constant(DIFFERS[1]), specks=constant(DIFFERS[2]))
        self.session.edit(
            f"Key {'brightness' if by == 'brightness' else 'what moves'}", lambda s: msgspec.structs.replace(s, mattes=(*s.mattes, key))
        )
        self.session.select(key.id)

    def _add_picture(self) -> None:
        def add(path: str, *_: int) -> None:
            # a picture without alpha is all there: then its brightness is meant
            channel: Channel = "alpha" if picture_frame(path, 0)[..., 3].min() < 255 else "brightness"
            matte = Pictured(id=new_id(), name=Path(path).stem[:40], picture=path, channel=channel, first=self.session.shot.first)
            self.session.edit("Add a matte of a picture", lambda s: msgspec.structs.replace(s, mattes=(*s.mattes, matte)))
            self.session.select(matte.id)

        self.session.ask_picture("Choose a matte", "matte", add)

    def _choose_picture(self) -> None:
        id_ = self.session.selected
        take = lambda path, *_: self.session.edit_item("Choose the picture of a matte", id_, picture=path)
        self.session.ask_picture("Choose a matte", "matte", take)

    def _current(self):
        return next((m for m in self.session.shot.mattes if m.id == self.session.selected), None)

    def _set(self, step: str, group: object = None, /, **fields) -> None:
        self.session.edit_item(step, self.session.selected, group, **fields)

    def _begin(self, tool: str) -> None:
        self.session.select("")
        self.session.use_tool(tool)

    def _close(self, on: bool) -> None:
        current = self._current()
        if isinstance(current, Outline) and on and current.count < 3:
            self.session.tell("A closed outline needs three corners, this one has two.", "Add one with a double click on the line.", "doubtful")
            self.refresh()
            return
        self._set("Close the outline, or open it", closed=on)

    def _sharpen(self, on: bool) -> None:
        current = self._current()
        if isinstance(current, Outline):
            self._set("Sharp or smooth corners", sharp=tuple(k for k in range(current.count) if k not in current.handled) if on else ())

    def _unkey(self) -> None:
        current = self._current()
        if current is not None:
            self._set("Take away a key", shape=current.shape.without_key(self.session.frame))

    def _carry(self, on: bool) -> None:
        current = self._current()
        if not isinstance(current, Outline):
            return
        try:
            tracks = tracks_under(self.session.shot, current, self.session.frame) if on else ()
        except UserError as error:
            self.session.fail(error)
            self.refresh()
            return
        # where it is seen now it stays: with a key here
        shape = (
            current.shape
            if current.shape.has_key(self.session.frame)
            else current.shape.with_key(
                self.session.frame, tuple(float(v) for v in outline_at(self.session.shot, current, self.session.frame).ravel()), "linear"
            )
        )
        self._set("Carried by the camera, on or off", carried=tracks, shape=shape)

    def _unpaint(self) -> None:
        current, frame = self._current(), self.session.frame
        if isinstance(current, Brushed):
            self._set("Take away strokes", strokes=tuple(s for s in current.strokes if s.frame != frame))

    def refresh(self) -> None:
        super().refresh()
        mattes, current = self.session.shot.mattes, self._current()
        state = (mattes, self.session.selected)
        if self._listed is None or self._listed[0] is not mattes or self._listed[1] != state[1]:
            self._listed = state
            while self.rows.count():
                self.rows.takeAt(0).widget().deleteLater()
            for matte in mattes:
                self.rows.addWidget(outline_row(self.session, "mattes", matte))
        self.list.fact.setText(str(len(mattes)) if mattes else "none")
        set_main(self.paint, not mattes)
        self.one.setVisible(current is not None)
        brushed = isinstance(current, Brushed)
        for widget in (self.follow, self.unsure, self.forget, self.kept):
            widget.setVisible(brushed)
        drawn, key = isinstance(current, Outline), current if isinstance(current, Keyer) else None
        self.unkey.setVisible(drawn)
        self.carry.setVisible(drawn and self.session.shot.solve is not None)
        self.carry.setChecked(drawn and bool(current.carried))
        self.steady.setVisible(drawn and self.session.shot.solve is not None)
        self.steady.setEnabled(drawn and not current.carried)
        self.steady.setChecked(drawn and current.steady)
        self.apart.setVisible(drawn)
        self.apart.setChecked(drawn and current.apart)
        for section in (self.line, self.feather):
            section.setVisible(drawn)
        self.wide.setVisible(drawn and not current.closed)
        if isinstance(current, Outline):
            self.closed.setChecked(current.closed)
            self.sharp.setChecked(len(current.sharp) + len(current.handled) == current.count)
            self.evenly.setVisible(bool(current.feathers))
        pictured = current if isinstance(current, Pictured) else None
        self.pictured.setVisible(pictured is not None)
        if pictured is not None:
            self.file.setText(Path(pictured.picture).name or "Choose a picture…")
            self.channel.setCurrentIndex(CHANNELS.index(pictured.channel))
        self.by_colour.setVisible(key is not None and key.by != "brightness")
        self.by_colour.header.setText("Key of a colour" if key is None or key.by == "colour" else "Key of what moves")
        self.by_brightness.setVisible(key is not None and key.by == "brightness")
        self.far.setVisible(key is not None and key.by == "colour" and self.session.shot.solve is not None)
        self.far.setChecked(key is not None and key.far)
        self.edge.setVisible(current is not None)
        self.sky.refresh()
        if current is None:
            return
        self.hides.setChecked(current.hides)
        for choice in self.choices:
            choice.refresh()
        if self.name.text() != current.name:
            self.name.setText(current.name)
        if isinstance(current, Brushed):
            self._tell_brushed(current)
        elif isinstance(current, Outline):
            self._tell_drawn(current)
        elif isinstance(current, Pictured):
            self.keys.setText(f"Its first picture lies at frame {current.first}.")
        else:
            told = {"colour": f"{plural(len(current.samples), 'colour')} picked.", "brightness": "By lightness; white is 100 %."}
            self.keys.setText(told.get(current.by, "What the clean plate does not show: who passes, and their shadow."))

    def _tell_brushed(self, current: Brushed) -> None:
        shot, painted = self.session.shot, current.selected_frames
        unsure = sum(f.sure < UNSURE for f in current.found)
        there = sum(f.frame in shot.frames for f in current.found)
        here = current.at(self.session.frame)
        sure = "" if here is None else f" Here: expected to fit to {here.sure:.0%}."
        stale = " Strokes, camera or range changed since." if there == len(shot.frames) and is_due(shot, current) else ""
        self.keys.setText(
            f"Painted on {plural(len(painted), 'frame')}. Found on {there} of {len(shot.frames)}"
            + (f", {unsure} unsure" if unsure else "")
            + f".{sure}{stale}"
        )
        self.follow.setEnabled(not self.session.jobs.busy and bool(painted))
        self.unsure.setEnabled(bool(unsure))
        self.forget.setEnabled(self.session.frame in painted)
        self.kept.setChecked(current.kept)

    def _tell_drawn(self, current: Outline) -> None:
        frames = [int(k.frame) for k in current.shape.keys]
        here = len(current.keyed_at(self.session.frame))
        self.keys.setText(
            (f"Drawn at frame {frames[0]}. " if len(frames) == 1 else f"Drawn at {len(frames)} frames, {frames[0]} to {frames[-1]}. ")
            + (f"Carried on the plane of {plural(len(current.carried), 'point')}. " if current.carried else "")
            + (
                "Between drawn frames here: drag it to draw it."
                if not here
                else "Drawn here."
                if here == current.count
                else f"{here} of its {current.count} corners are drawn here."
            )
            if frames
            else ""
        )
        self.unkey.setEnabled(bool(here) and len(frames) > 1)
