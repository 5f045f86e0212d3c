"""Finish: what makes the titles belong: the motion blur of the real camera move, then entries that are done to the picture in order."""

from collections.abc import Callable

import msgspec
from PyQt6.QtWidgets import QCheckBox, QMenu, QPushButton

from lodestar.core.edits.arrange import new_id
from lodestar.core.edits.focus import with_focus_at
from lodestar.core.finish.entries import KINDS, Edge, Finisher
from lodestar.core.shot.document import Exposure, Focus

from ..fields import Section, button, icon_button, quiet, tick
from .mattes import MatteChoice, Names
from .panel import Panel


class FinishPanel(Panel):
    step = "Finish"

    def fill(self) -> None:
        blur = self.section("Motion blur")
        self.value_rows(blur, lambda: "exposure", Exposure, parts=("shutter",))
        blur.add_wide(quiet("The letters blur with the camera's own move and with their keys, in final quality. Match it to the blur of the plate."))
        filmed = self.section("As the clip was filmed")
        self.value_rows(filmed, lambda: "exposure", Exposure, parts=("softness", "grain"))
        filmed.add_wide(quiet("The clip's own softness and grain are measured, and the letters get as much of them, in final quality."))
        focus = self.section("Depth of field")
        self.focused = tick(
            "Blur what is not in focus", "focus-on", "The letters blur by how far they are from what is sharp, in final quality", self._switch
        )
        focus.add_wide(self.focused)
        self.value_rows(focus, lambda: "focus", Focus)
        self.at_object = button(
            "Sharp at the chosen object", "focus-object", "Sets the distance to that of the chosen object in this frame", self._sharp
        )
        focus.add_wide(self.at_object)
        head = self.section("Done to the picture, in this order")
        self.count = head.fact
        self.add = QPushButton("Add…")
        self.add.setObjectName("add-finish")
        self.add.setAccessibleName("Add something that is done to the finished picture")
        self.add.setToolTip("Add something that is done to the finished picture, plate and titles alike")
        menu = QMenu(self.add)
        menu.setToolTipsVisible(True)
        for kind in KINDS:
            action = menu.addAction(kind.name)  # type: ignore[attr-defined]
            action.setToolTip(kind.tip)  # type: ignore[attr-defined]
            action.triggered.connect(lambda _, kind=kind: self._add(kind))
        self.add.setMenu(menu)
        head.add("", self.add)
        self._listed: tuple = ()
        self._sections: list[Section] = []
        self._own_updates = len(self._updates)

    def _switch(self, on: bool) -> None:
        self.session.edit_item("Depth of field, on or off", "focus", on=on)

    def _sharp(self) -> None:
        frame, how, chosen = self.session.frame, self.session.how, self.session.selected
        self.session.edit("Sharp at the chosen object", lambda s: with_focus_at(s, chosen, frame, how))

    def refresh(self) -> None:
        self.focused.setChecked(self.session.shot.focus.on)
        self.at_object.setEnabled(any(o.id == self.session.selected for o in self.session.shot.objects))
        entries = self.session.shot.finish
        listed = tuple((e.id, type(e)) for e in entries)
        if listed != self._listed:
            self._listed = listed
            self._list(entries)
        self.count.setText(f"{len(entries)}" if entries else "none")
        super().refresh()

    def _list(self, entries: tuple[Finisher, ...]) -> None:
        del self._updates[self._own_updates :]
        for section in self._sections:
            self.box.removeWidget(section)
            section.deleteLater()
        self._sections = [self._entry(entry, i) for i, entry in enumerate(entries)]

    def _entry(self, entry: Finisher, number: int) -> Section:
        section = Section(entry.name)
        self.box.insertWidget(self.box.count() - 1, section)
        id_, session = entry.id, self.session
        on = QCheckBox("On")
        on.setObjectName(f"finish-on-{number}")
        on.setToolTip(f"Whether {entry.name} is done to the picture")
        on.clicked.connect(lambda value: session.edit_item(f"Switch {entry.name}", id_, on=value))
        buttons = [
            icon_button(icon, f"finish-{what}-{number}", tip, act)
            for icon, what, tip, act in (
                ("chevron-up", "up", "Do it earlier", lambda: self._move(id_, -1)),
                ("chevron-down", "down", "Do it later", lambda: self._move(id_, 1)),
                ("x", "remove", "Take it away", lambda: self._remove(id_)),
            )
        ]
        section.add("", on, *buttons)
        self.value_rows(section, lambda: id_, type(entry), f"finish-{number}", entry.name.lower())
        put: Callable[[Names], None] = lambda names: session.edit_item(f"Choose where {entry.name} works", id_, mattes=names or ())
        choice = MatteChoice(
            session,
            f"finish-mattes-{number}",
            "no matte" if isinstance(entry, Edge) else "the whole picture",
            (),
            "Inside which mattes it works",
            lambda: self._part(id_),
            put,
        )
        section.add("Works on", choice)

        def update() -> None:
            now = next((e for e in session.shot.finish if e.id == id_), None)
            if now is not None:
                on.setChecked(now.on)
                choice.refresh()

        self.on_refresh(update)
        return section

    def _part(self, id_: str) -> Names:
        return next((e.mattes for e in self.session.shot.finish if e.id == id_), ())

    def _add(self, kind: type) -> None:
        # an edge is that of what passes in front, until something else is chosen
        entry = Edge(id=new_id(), mattes=tuple(m.id for m in self.session.shot.mattes if m.on and m.hides)) if kind is Edge else kind(id=new_id())
        self.session.edit(f"Add {entry.name}", lambda s: msgspec.structs.replace(s, finish=(*s.finish, entry)))

    def _remove(self, id_: str) -> None:
        self.session.edit("Take away a finish", lambda s: msgspec.structs.replace(s, finish=tuple(e for e in s.finish if e.id != id_)))

    def _move(self, id_: str, by: int) -> None:
        def move(shot):
            entries = list(shot.finish)
            at = next(i for i, e in enumerate(entries) if e.id == id_)
            to = min(max(at + by, 0), len(entries) - 1)
            if at == to:
                return shot
            entries.insert(to, entries.pop(at))
            return msgspec.structs.replace(shot, finish=tuple(entries))

        self.session.edit("Change the order of the finish", move)
