"""Foreground: the outlines of what passes in front of the titles."""

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from lodestar.core.matte.sources import Outline

from ..fields import Line, button, quiet
from .panel import Panel
from .track import outline_row


class ForegroundPanel(Panel):
    step = "Foreground"

    def fill(self) -> None:
        self.list = self.section("Outlines")
        self.rows = QVBoxLayout()
        self.rows.setContentsMargins(0, 0, 0, 0)
        holder = QWidget()
        holder.setObjectName("plain")
        holder.setLayout(self.rows)
        self.list.add_wide(holder)
        self.list.add_wide(button("Draw an outline", "draw-matte", "Click corner after corner round what passes in front", self._draw, True))
        self.one = self.section("Chosen outline")
        self.name = Line()
        self.name.setObjectName("matte-name")
        self.name.setAccessibleName("Name of the outline")
        self.name.setToolTip("What this outline is called in its lane")
        self.name.textEdited.connect(lambda text: self._set("Rename", ("name", self.session.selected), name=text))
        self.one.add("Name", self.name)
        self.value_rows(self.one, lambda: self.session.selected, Outline)
        self.keys = quiet()
        self.one.add_wide(self.keys)
        self.unkey = button("Take away the key here", "unkey-matte", "The shape at this frame follows its neighbours again", self._unkey)
        self.one.add_wide(self.unkey)
        self._listed: tuple | None = None

    def _current(self):
        return next((m for m in self.session.shot.mattes if m.id == self.session.selected), None)

    def _part(self, part: str):
        current = self._current()
        return getattr(current, part) if current is not None else None

    def _set(self, step: str, group: object = None, /, **fields) -> None:
        self.session.edit_item(step, self.session.selected, group, **fields)

    def _draw(self) -> None:
        self.session.select("")
        self.session.use_tool("matte")

    def _unkey(self) -> None:
        current = self._current()
        if current is not None:
            self._set("Take away a key", shape=current.shape.without_key(self.session.frame))

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
        self.one.setVisible(current is not None)
        if current is None:
            return
        if self.name.text() != current.name:
            self.name.setText(current.name)
        frames = [int(k.frame) for k in current.shape.keys]
        here = current.shape.has_key(self.session.frame)
        self.keys.setText(
            f"Drawn at {len(frames)} frames, {frames[0]} to {frames[-1]}. "
            + ("Drawn here." if here else "Between drawn frames here: drag it to draw it.")
            if frames
            else ""
        )
        self.unkey.setEnabled(here and len(frames) > 1)
