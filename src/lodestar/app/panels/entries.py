"""A list of things that an object has several of, as layers and movers: one of them open, switched, ordered and added to."""

from collections.abc import Callable, Mapping, Sequence

import msgspec
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QMenu, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from .. import theme
from ..fields import Section, icon_button
from .panel import Panel

ROW_HEIGHT = 26


class EntryRow(QWidget):
    """A tick that switches the entry, its name, which opens it, and buttons. Dragged up or down it changes its place."""

    def __init__(self, name: str, spoken: str, moved: Callable[[int], None], opened: Callable[[], None], gone: Callable[[], None]) -> None:
        super().__init__()
        self.setObjectName("plain")
        self.setFixedHeight(ROW_HEIGHT)
        self.moved, self._from = moved, 0.0
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        self.on = QCheckBox()
        self.on.setObjectName(f"{name}-on")
        self.on.setAccessibleName(f"{spoken}, on or off")
        self.on.setToolTip(f"Whether {spoken} counts")
        self.title = QPushButton(spoken)
        self.title.setObjectName(f"{name}-open")
        self.title.setAccessibleName(f"{spoken}, open or close")
        self.title.setToolTip("Open or close its settings · drag it up or down to change its place")
        self.title.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)  # a long name is cut, the panel never grows
        self.title.clicked.connect(opened)
        self.title.installEventFilter(self)
        row.addWidget(self.on)
        row.addWidget(self.title, 1)
        for icon, what, tip, act in (
            ("chevron-up", "up", "Earlier in the list", lambda: moved(-1)),
            ("chevron-down", "down", "Later in the list", lambda: moved(1)),
            ("x", "remove", f"Take {spoken} away", gone),
        ):
            b = icon_button(icon, f"{name}-{what}", tip, act)
            b.setFixedSize(22, 22)
            b.setStyleSheet("padding: 0;")
            row.addWidget(b)

    def eventFilter(self, watched, event) -> bool:
        if event.type() == event.Type.MouseButtonPress:
            self._from = event.globalPosition().y()
        elif event.type() in (event.Type.MouseMove, event.Type.MouseButtonRelease):
            steps = round((event.globalPosition().y() - self._from) / ROW_HEIGHT)
            if event.type() == event.Type.MouseButtonRelease and steps:
                self.title.setDown(False)
                self.moved(steps)
                return True
            held = steps and event.buttons() & Qt.MouseButton.LeftButton
            self.title.setCursor(Qt.CursorShape.SizeVerCursor if held else Qt.CursorShape.ArrowCursor)
        return False

    def show_state(self, on: bool, held: bool) -> None:
        self.on.blockSignals(True)
        self.on.setChecked(on)
        self.on.blockSignals(False)
        tint = theme.ACCENT if held else theme.TEXT
        self.title.setStyleSheet(
            f"QPushButton {{ text-align: left; border: none; background: transparent; padding: 0 2px; color: {tint}; }} QPushButton:focus {{ text-decoration: underline; }}"
        )


class Entries:
    """The section with the list, and under it one with the settings of the open entry, by the kind of that.

    listed: the entries now, msgspec structs with `id`, `on` and `name`; adds: what can be added, by its name in the menu.
    """

    def __init__(
        self,
        panel: Panel,
        section: Section,
        chosen: Mapping[type, Section],
        noun: str,
        listed: Callable[[], Sequence[msgspec.Struct]],
        adds: Mapping[str, tuple[str, Callable[[], None]]],
        move: Callable[[str, int], None],
        remove: Callable[[str], None],
    ) -> None:
        self.panel, self.section, self.chosen, self.noun, self.listed = panel, section, chosen, noun, listed
        self._move, self._remove = move, remove
        self.open = ""
        self._ids: tuple = ()
        self._rows: list[EntryRow] = []
        self.list = QVBoxLayout()
        self.list.setContentsMargins(0, 0, 0, 0)
        self.list.setSpacing(0)
        holder = QWidget()
        holder.setObjectName("plain")
        holder.setLayout(self.list)
        section.add_wide(holder)
        named = f"{'an' if noun[0] in 'aeiou' else 'a'} {noun}"
        self.add = QPushButton(f"Add {named}…")
        self.add.setObjectName(f"add-{noun}")
        self.add.setAccessibleName(f"Add {named}")
        self.add.setToolTip(f"Choose which kind of {noun} is added")
        menu = QMenu(self.add)
        menu.setToolTipsVisible(True)
        for name, (tip, act) in adds.items():
            action = menu.addAction(name)
            action.setObjectName(f"add-{noun}-{name.lower().replace(' ', '-')}")
            action.setToolTip(tip)
            action.triggered.connect(lambda _, act=act: act())
        self.add.setMenu(menu)
        section.add_wide(self.add)

    def take(self, id_: str) -> None:
        """Open an entry, or close it again."""
        self.open = "" if self.open == id_ else id_
        self.panel.refresh()

    def held(self) -> msgspec.Struct | None:
        return next((one for one in self.listed() if one.id == self.open), None)  # type: ignore[attr-defined]

    def refresh(self) -> None:
        entries = self.listed()
        ids = tuple((one.id, one.name) for one in entries)  # type: ignore[attr-defined]
        if ids != self._ids:
            self._ids = ids
            while self.list.count():
                gone = self.list.takeAt(0).widget()
                gone.hide()
                gone.deleteLater()
            self._rows = [self._row(*names) for names in ids]
            for row in self._rows:
                self.list.addWidget(row)
        for one, row in zip(entries, self._rows):
            row.show_state(one.on, one.id == self.open)  # type: ignore[attr-defined]
        self.section.fact.setText(f"{len(entries)}" if entries else "none")
        held = self.held()
        for kind, chosen in self.chosen.items():
            chosen.setVisible(isinstance(held, kind) and not self.section.isHidden())
            chosen.fact.setText(getattr(held, "name", ""))

    def _row(self, id_: str, name: str) -> EntryRow:
        number = [i for i, _ in self._ids].index(id_)
        session = self.panel.session
        row = EntryRow(f"{self.noun}-{number}", name, lambda by: self._move(id_, by), lambda: self.take(id_), lambda: self._remove(id_))
        row.on.clicked.connect(lambda on: session.edit_item(f"Switch {name}", id_, on=on))
        return row
