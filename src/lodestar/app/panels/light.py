"""Light: the sun and where it was read from, the sky, and the shadow on the ground."""

from collections.abc import Callable

import msgspec
import numpy as np
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QPainter
from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QVBoxLayout, QWidget

from lodestar.core.basics.colour import decode, encode
from lodestar.core.basics.geometry import vector
from lodestar.core.edits.lights import near_lamps, sky_of, sun_of, with_lamp, with_shadow_lines
from lodestar.core.evaluate.cameras import camera_at
from lodestar.core.light.lamps import Area, Sky, Spot, Sun
from lodestar.core.light.sun import from_shadows
from lodestar.core.matte.strokes import Brushed
from lodestar.core.shot.document import Shadow, Shot
from lodestar.core.shot.motion import without_thing
from lodestar.core.shot.objects import Card, Solid

from .. import theme
from ..commands import Command
from ..fields import Swatch, button, icon_button, quiet
from ..measures import figure, length
from ..needs import Needs, a_clip, no_work
from .entries import Entries
from .letters import combo
from .mattes import MatteChoice
from .panel import Panel
from .surroundings import SurroundingsSection

LAMP_TIPS = {"Area lamp": "A flat lamp that shines to one side", "Spot": "A small lamp that shines into a cone, or all round"}


class ShadowRow(QWidget):
    """One shadow that was drawn: its height, and by how many degrees it is off the sun that all agree on."""

    def __init__(self, panel: "LightPanel", number: int, height: float, off: float, unit: str) -> None:
        super().__init__()
        self.text, self.off = f"Shadow {number + 1}  ·  {length(height, unit)}", off
        self.setObjectName("plain")
        self.setFixedHeight(24)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addStretch(1)
        row.addWidget(icon_button("x", f"forget-shadow-{number}", "Forget this shadow", lambda: panel.forget(number)))

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setFont(theme.font(13))
        p.setPen(QColor(theme.TEXT))
        p.drawText(QRectF(0, 0, 150, 24), Qt.AlignmentFlag.AlignVCenter, self.text)
        p.fillRect(QRectF(150, 12, 52, 1), QColor(theme.LINE))
        p.fillRect(QRectF(150, 10, max(2.0, 52 * min(self.off / 2, 1)), 4), theme.error_colour(0.12 + 0.4 * self.off))
        p.setPen(QColor(theme.QUIET))
        p.drawText(QRectF(206, 0, 40, 24), Qt.AlignmentFlag.AlignVCenter, f"{figure(self.off, 1)}°")


class LightPanel(Panel):
    step = "Light"

    def parts(self) -> tuple[Callable[[], None], ...]:
        return (self._fill_found, self._fill_sun, self._fill_sky, self._fill_surroundings, self._lamps, self._fill_shadow)

    def _fill_found(self) -> None:
        self.found = self.section("Sun from shadows")
        self.none = quiet("Drag in the picture from the foot of something to the tip of its shadow, then click its top.")
        self.found.add_wide(self.none)
        self.shadow_list = QVBoxLayout()
        self.shadow_list.setContentsMargins(0, 0, 0, 0)
        holder = QWidget()
        holder.setObjectName("plain")
        holder.setLayout(self.shadow_list)
        self.found.add_wide(holder)
        self.by_subject = button(
            "Read a subject's shadow",
            "read-subject-shadow",
            "Find the shadow of what was painted at Foreground, and the sun by it",
            lambda: self.commands.run("read-subject-shadow"),
        )
        self.found.add_wide(self.by_subject)

    def _fill_sun(self) -> None:
        sun = self.section("Sun")
        self.on = QCheckBox("The sun shines")
        self.on.setObjectName("sun-on")
        self.on.setToolTip("Off: sky light only, as under clouds")
        self.on.clicked.connect(lambda on: self.session.edit_item("Switch the sun", self._sun(), on=on))
        sun.add("", self.on)
        self.value_rows(sun, self._sun, Sun, "sun", "sun")
        self.colour = Swatch("sun-colour", "Colour of the sunlight")
        self.colour.picked.connect(lambda rgb: self._colour(self._sun(), "colour", rgb))
        sun.add("Colour", self.colour)

    def _fill_sky(self) -> None:
        sky = self.section("Sky")
        self.sky_on = QCheckBox("The sky shines")
        self.sky_on.setObjectName("sky-light-on")
        self.sky_on.setToolTip("Even light of a whole sky; off where surroundings take its place")
        self.sky_on.clicked.connect(lambda on: self.session.edit_item("Switch the sky", self._sky(), on=on))
        sky.add("", self.sky_on)
        self.value_rows(sky, self._sky, Sky, "sky", "sky")
        self.sky_colour = Swatch("sky-colour", "Colour of the sky's light")
        self.sky_colour.picked.connect(lambda rgb: self._colour(self._sky(), "colour", rgb))
        sky.add("Colour", self.sky_colour)

    def _fill_surroundings(self) -> None:
        self.surroundings = SurroundingsSection(self)

    def _fill_shadow(self) -> None:
        shadow = self.section("Shadow on the ground")
        self.value_rows(shadow, lambda: "shadow", Shadow, step="shadow")
        self.tint = Swatch("shadow-tint", "What colour is left in a full shadow; black leaves it to the sky")
        self.tint.picked.connect(lambda rgb: self._colour("shadow", "tint", rgb))
        shadow.add("Tint", self.tint)
        self.before = MatteChoice(
            self.session,
            "shadow-behind",
            "all mattes",
            None,
            "Which mattes stand before the shadow on the ground",
            lambda: self.session.shot.shadow.mattes,
            lambda names: self.session.edit_item("Choose what stands before the shadow", "shadow", mattes=names),
        )
        shadow.add("Behind", self.before)
        self.on_refresh(self.before.refresh)
        self._listed: object = None

    def _lamps(self) -> None:
        lamps, area, spot = (self.section(name) for name in ("Lamps", "Chosen area lamp", "Chosen spot"))
        s = self.session
        adds = {kind: (f"{tip}; at the chosen object", lambda kind=kind: self.add_lamp(kind)) for kind, tip in LAMP_TIPS.items()}
        remove = lambda id_: s.edit("Take away a lamp", lambda shot: without_thing(shot, id_))
        self.lamps = Entries(self, lamps, {Area: area, Spot: spot}, "lamp", lambda: near_lamps(s.shot), adds, self._move_lamp, remove)
        for kind, section, name in ((Area, area, "area"), (Spot, spot, "spot")):
            self.value_rows(section, lambda: self.lamps.open, kind, name, "lamp")
        self.round = QCheckBox("Round")
        self.round.setObjectName("area-round")
        self.round.setToolTip("A round lamp in place of a square one")
        self.round.clicked.connect(lambda on: s.edit_item("Round lamp", self.lamps.open, round=on))
        area.add("", self.round)
        self.lamp_colours = []
        for section, name in ((area, "area"), (spot, "spot")):
            swatch = Swatch(f"{name}-colour", "Colour of this lamp")
            swatch.picked.connect(lambda rgb: self._colour(self.lamps.open, "colour", rgb))
            section.add("Colour", swatch)
            self.lamp_colours.append(swatch)
        self.follows = []
        for section, name in ((area, "area"), (spot, "spot")):
            choice = combo(
                f"{name}-follows", "Brightness of", "It grows brighter and darker with this: the picture on a card, what glows, another lamp", []
            )
            choice.activated.connect(lambda i: s.edit_item("What a lamp follows", self.lamps.open, follows=self._leaders()[i][1]))
            section.add("Brightness of", choice)
            self.follows.append(choice)

    def _leaders(self) -> list[tuple[str, str]]:
        """Names and ids of what the open lamp could follow; first nothing."""
        shot = self.session.shot
        shining = [o for o in shot.objects if isinstance(o, Card) or (isinstance(o, Solid) and (o.glow.keys or o.glow.value[0] > 0))]
        others = [lamp for lamp in shot.lamps if lamp.id != self.lamps.open]
        return [("itself", ""), *((one.name, one.id) for one in (*shining, *others))]

    def add_lamp(self, kind: str) -> None:
        s, new = self.session, [""]
        if s.shot.plate is None:
            return
        eye = camera_at(s.shot, s.frame).centre

        def edit(shot: Shot) -> Shot:
            result, new[0] = with_lamp(shot, kind, s.selected, eye, s.frame)
            return result

        s.edit(f"Add a lamp: {kind.lower()}", edit)
        self.lamps.open = new[0]
        s.use_tool("lamp")
        self.refresh()

    def _move_lamp(self, id_: str, by: int) -> None:
        def move(shot: Shot) -> Shot:
            near, rest = near_lamps(shot), [lamp for lamp in shot.lamps if not isinstance(lamp, Area | Spot)]
            at = next(k for k, lamp in enumerate(near) if lamp.id == id_)
            near.insert(min(max(at + by, 0), len(near) - 1), near.pop(at))
            return msgspec.structs.replace(shot, lamps=(*rest, *near))

        self.session.edit("Change the order of lamps", move)

    def own_commands(self) -> list[Command]:
        has = a_clip(self.session)
        painted = has & Needs((lambda: self._painted() is not None, "a subject that is painted at Foreground")) & no_work(self.session)
        return [
            Command("read-subject-shadow", "Object", "Read a subject's shadow", self.read_subject, "", painted, "Find its shadow, and the sun by it"),
            *self._lamp_commands(has),
        ]

    def _lamp_commands(self, has: Needs) -> list[Command]:
        add = lambda kind: lambda: (self.session.show_step("Light"), self.add_lamp(kind))
        return [
            Command(f"add-{kind.lower().replace(' ', '-')}", "Object", f"Add a lamp: {kind.lower()}", add(kind), "", has, tip)
            for kind, tip in LAMP_TIPS.items()
        ]

    def _painted(self) -> Brushed | None:
        """The subject whose shadow is read: the chosen matte, or else the first that is painted."""
        subjects = [m for m in self.session.shot.mattes if isinstance(m, Brushed) and m.strokes]
        return next((m for m in subjects if m.id == self.session.selected), subjects[0] if subjects else None)

    def read_subject(self) -> None:
        subject = self._painted()
        if subject is not None:
            self.session.show_step("Light")
            self.session.work.read_shadow(subject)

    def _sun(self) -> str:
        sun = sun_of(self.session.shot)
        return sun.id if sun is not None else ""

    def _sky(self) -> str:
        sky = sky_of(self.session.shot)
        return sky.id if sky is not None else ""

    def _colour(self, id_: str, part: str, rgb) -> None:
        linear = tuple(float(v) for v in decode(np.array(rgb), "srgb"))
        self.session.edit_item("Choose colour", id_, **{part: linear})

    def forget(self, number: int) -> None:
        self.session.edit("Forget a shadow", lambda s: with_shadow_lines(s, tuple(x for i, x in enumerate(s.shadow.lines) if i != number)))

    def refresh(self) -> None:
        super().refresh()
        shot = self.session.shot
        sun, sky, lines = sun_of(shot), sky_of(shot), shot.shadow.lines
        self.on.setChecked(sun is not None and sun.on)
        self.sky_on.setChecked(sky is not None and sky.on)
        self.surroundings.refresh()
        for swatch, thing, part in ((self.colour, sun, "colour"), (self.sky_colour, sky, "colour"), (self.tint, shot.shadow, "tint")):
            if thing is not None:
                swatch.show_colour(vector(encode(np.array(getattr(thing, part)), "srgb")))
        self.lamps.refresh()
        held = self.lamps.held()
        if isinstance(held, Area | Spot):
            for swatch in self.lamp_colours:
                swatch.show_colour(vector(encode(np.array(held.colour), "srgb")))
            self.round.setChecked(isinstance(held, Area) and held.round)
            leaders = self._leaders()
            for choice in self.follows:
                if [choice.itemText(i) for i in range(choice.count())] != [name for name, _ in leaders]:
                    choice.clear()
                    choice.addItems([name for name, _ in leaders])
                choice.setCurrentIndex(next((i for i, (_, id_) in enumerate(leaders) if id_ == held.follows), 0))
        self.none.setVisible(not lines)
        self.by_subject.setVisible(self._painted() is not None)
        self.by_subject.setEnabled(not self.session.jobs.busy)
        self.found.fact.setText(f"{len(lines)} drawn" if lines else "")
        if self._listed is lines:
            return
        self._listed = lines
        while self.shadow_list.count():
            self.shadow_list.takeAt(0).widget().deleteLater()
        if lines:
            _, off = from_shadows(*(np.array([getattr(s, k) for s in lines]) for k in ("foot", "tip", "height")))
            unit = self.session.unit
            for i, s in enumerate(lines):
                self.shadow_list.addWidget(ShadowRow(self, i, s.height, float(off[i]), unit))
