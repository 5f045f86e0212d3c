"""What all panels share: a head with the step's reading, sections, and number rows bound to keyed values."""

from collections.abc import Callable, Sequence
from typing import Self

import msgspec
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QFrame, QHBoxLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from lodestar.core.basics.keyed import Keyed
from lodestar.core.basics.rows import defaults_of, rows_of
from lodestar.core.shot.motion import keyed_thing

from .. import theme
from ..commands import Command
from ..fields import KeyButton, NumberField, Section, give_back_keyboard
from ..readings import READINGS
from ..session import Session

EMPTY_HELP = {
    "Plate": ("A shot begins with a clip, filmed from the hand or from a drone.", "Drop one here, or choose it."),
    "Track": ("Features of the picture are followed through the clip.", "Cover what moves by itself first, if it is large."),
    "Solve": ("From the tracks follows where the camera was in each frame,", "and how its lens bends the picture."),
    "Ground": ("The ground is found by itself once the camera is solved;", "points that you choose make it exact."),
    "Place": ("Titles stand on surfaces of the scene.", "Point at one in the picture and click."),
    "Light": ("The sun is read from shadows in the picture,", "as soon as a title stands there to be lit."),
    "Foreground": ("Whoever walks past a title must hide it: paint a stroke over them.", "Draw an outline round a wall or a post."),
    "Finish": ("Motion blur follows the real move of the camera.", ""),
    "Output": ("A movie, or numbered pictures, of the range between in and out.", ""),
}


class Panel(QScrollArea):
    """The settings of one step. Subclasses fill `self.box` and override `refresh`.

    It is made empty, so that the window is there at once. What it holds is made part by part while nobody waits (`fill_on`), or at
    once as it is first needed (`filled`).
    """

    step = ""

    def __init__(self, session: Session, commands, parent: QWidget) -> None:
        super().__init__(parent)
        self.session, self.commands = session, commands
        # what a command does may need what the panel holds, also before anybody turned to it
        commands.add(*[c._replace(act=lambda c=c: (self.filled(), c.act())) for c in self.own_commands()])
        self.setObjectName("panel")
        self.setWidgetResizable(True)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # what it holds is reached, and scrolled to
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFixedWidth(theme.SETTINGS_WIDTH)
        inside = QWidget()
        inside.setObjectName("plain")
        self.box = QVBoxLayout(inside)
        self.box.setContentsMargins(16, 8, 12, 12)
        self.box.setSpacing(0)
        self.setWidget(inside)  # before it is filled: what is moved to another parent is dressed again, with all that it holds
        self._updates: list[Callable[[], None]] = []
        self.title, self.fact = QLabel(self.step), QLabel()
        self.title.setProperty("role", "title")
        self.fact.setProperty("role", "quiet")
        self.fact.setWordWrap(True)
        head = QHBoxLayout()
        words = QVBoxLayout()
        words.setSpacing(0)
        words.addWidget(self.title)
        words.addWidget(self.fact)
        head.addLayout(words, 1)
        self.head = head
        self.box.addLayout(head)
        self.help = QLabel("\n".join(line for line in EMPTY_HELP[self.step] if line))
        self.help.setWordWrap(True)
        self.help.setProperty("role", "label")
        self.help.setContentsMargins(0, 12, 0, 8)
        self.box.addWidget(self.help)
        self._to_fill = [*self.parts(), lambda: self.box.addStretch(1)]

    def own_commands(self) -> list[Command]:
        """What can be done in this step by menu, key and finder."""
        return []

    def parts(self) -> tuple[Callable[[], None], ...]:
        """What makes the contents, from the top down; each takes a small part of a tenth of a second."""
        return (self.fill,)

    def fill(self) -> None: ...

    def fill_on(self) -> bool:
        """Make one more part of the contents; False if there was none left."""
        if not self._to_fill:
            return False
        self._to_fill.pop(0)()
        return True

    @property
    def is_filled(self) -> bool:
        return not self._to_fill

    def filled(self) -> Self:
        """The panel with all that it holds, which may not be made yet."""
        while self.fill_on():
            pass
        return self

    def focusNextPrevChild(self, forward: bool) -> bool:
        """Tab goes on. What was disabled or hidden while it had the keyboard, as a button by the work that it began, leaves it to the picture: Qt would go on
        to whatever comes next."""
        now = QApplication.focusWidget()
        if now is not None and self.isAncestorOf(now) and not (now.isEnabled() and now.isVisibleTo(self)):
            give_back_keyboard(now)
            return True
        return super().focusNextPrevChild(forward)

    def refresh(self) -> None:
        reading = READINGS[self.step](self.session.shot)
        self.fact.setText(reading.first)
        tint = {"good": theme.QUIET, "doubtful": theme.DOUBTFUL, "bad": theme.BAD}.get(reading.state, theme.QUIET)
        style = f"color: {tint}; font-size: 12px;"
        if style != self.fact.styleSheet():  # a label is dressed anew each time
            self.fact.setStyleSheet(style)
        self.help.setVisible(reading.state == "empty")
        for update in self._updates:
            update()

    def section(self, title: str) -> Section:
        section = Section(title)
        self.box.addWidget(section)
        return section

    def on_refresh(self, update: Callable[[], None]) -> None:
        self._updates.append(update)

    def field(
        self,
        name: str,
        *,
        unit: str = "",
        step: float = 0.01,
        decimals: int = 2,
        low: float = -1e9,
        high: float = 1e9,
        reset: float | None = None,
        factor: float = 1.0,
        tip: str = "",
    ) -> NumberField:
        field = NumberField(name, unit, step, decimals, low, high, reset, factor, tip)
        field.wrong.connect(self.session.fail)
        field.let_go.connect(lambda: self.session.history.close_group())  # of the shot that is open then
        return field

    def value_row(
        self, section: Section, thing: Callable[[], str], kind: type[msgspec.Struct], part: str, name: str = "", step: str = ""
    ) -> list[NumberField]:
        """The row of one keyed value, as the struct `kind` says beside its field; name: of its fields, its own when empty."""
        row = dict(rows_of(kind))[part]
        name = name or part.replace("_", "-")
        fields = []
        for i, component in enumerate(row.names or ("",)):
            tip = f"{row.tip}: {component}" + (f", in {row.unit}" if row.unit != "m" else "") if component else row.tip
            field = self.field(
                f"{name}-{component}" if component else name,
                unit="" if component and row.unit != "m" else row.unit,
                step=row.step,
                decimals=row.decimals,
                low=row.low,
                high=row.high,
                factor=row.factor,
                tip=tip,
                reset=defaults_of(kind)[part].value[i],
            )
            fields.append(field)
            if row.unit == "m":
                self.on_refresh(lambda field=field: self._unit(field))
        self.keyed(section, row.label, fields, thing, part, step or f"Change {row.label.lower()}")
        return fields

    def value_rows(
        self, section: Section, thing: Callable[[], str], kind: type[msgspec.Struct], name: str = "", step: str = "", parts: Sequence[str] = ()
    ) -> None:
        """The rows of all keyed values of a struct, or of some of them."""
        for part, row in rows_of(kind):
            if not parts or part in parts:
                self.value_row(section, thing, kind, part, f"{name}-{part}" if name else "", f"Change {step} {row.label.lower()}" if step else "")

    def _unit(self, field: NumberField) -> None:
        field.unit = "m" if self.session.unit == "m" else ""

    def keyed(self, section: Section, label: str, fields: list[NumberField], thing: Callable[[], str], part: str, step: str) -> None:
        """A row bound to a keyed value: one field for each of its numbers, and the key. thing: the id of what it belongs to now
        (`motion.keyed_things`), part: the name of the value there, step: what a change is called in the history."""
        key = KeyButton(fields[0].objectName())
        section.add(label, *fields, key=key)
        session = self.session

        def get() -> Keyed | None:
            return getattr(keyed_thing(session.shot, thing()), part, None)

        def update() -> None:
            value = get()
            for f in (*fields, key):
                f.setEnabled(value is not None)
            if value is None:
                return
            for i, f in enumerate(fields):
                f.show_value(value.at(session.frame)[i], "whole motion" if value.keys and session.shifting and len(fields) == 1 else "")
            key.show_state(2 if value.has_key(session.frame) else 1 if value.keys else 0)

        def change(i: int, number: float, group: object) -> None:
            frame, how = session.frame, session.how

            def put(value: Keyed) -> Keyed:
                now = list(value.at(frame))
                now[i] = number
                return value.changed(frame, tuple(now), how)

            session.edit_value(step, thing(), part, put, group)

        def toggle() -> None:
            frame = session.frame
            session.edit_value(step, thing(), part, lambda v: v.without_key(frame) if v.has_key(frame) else v.with_key(frame, v.at(frame)))

        for i, f in enumerate(fields):
            f.changed.connect(lambda number, group, i=i: change(i, number, group))
        key.clicked.connect(toggle)
        self.on_refresh(update)
