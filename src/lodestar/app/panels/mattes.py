"""Choosing the mattes that stand before something, or inside which something works."""

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QMenu, QPushButton, QStyle, QStyleOptionButton, QStylePainter

from .. import theme
from ..session import Session

Names = tuple[str, ...] | None


class MatteChoice(QPushButton):
    """A button that says which mattes are meant, with a menu of all of them. get, put: ids of the mattes; `without` is what stands
    for the first entry of the menu: None for all mattes, or an empty tuple for none of them."""

    def __init__(
        self, session: Session, name: str, first: str, without: Names, tip: str, get: Callable[[], Names], put: Callable[[Names], None]
    ) -> None:
        super().__init__()
        self.session, self.first, self.without, self.get, self.put = session, first, without, get, put
        self.setObjectName(name)
        self.setAccessibleName(tip)
        self.setToolTip(tip)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(self.sizePolicy().Policy.Expanding, self.sizePolicy().Policy.Fixed)
        self.setProperty("role", "field")
        menu = QMenu(self)
        menu.aboutToShow.connect(self._fill)
        self.setMenu(menu)

    def paintEvent(self, event) -> None:
        # Style sheets do not keep the padding of a text at the left of a button with a menu, so the text is drawn here.
        option, painter = QStyleOptionButton(), QStylePainter(self)
        self.initStyleOption(option)
        text, option.text = option.text, ""
        painter.drawControl(QStyle.ControlElement.CE_PushButton, option)
        painter.setPen(QColor(theme.TEXT if self.isEnabled() else theme.OFF))
        room = self.rect().adjusted(8, 0, -24, 0)
        text = self.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, room.width())
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, text)

    def refresh(self) -> None:
        names, mattes = self.get(), self.session.shot.mattes
        meant = [m.name for m in mattes if names is not None and m.id in names]
        text = self.first if names == self.without else "none" if not meant else meant[0] if len(meant) == 1 else f"{len(meant)} of {len(mattes)}"
        self.setText(text)
        self.setEnabled(bool(mattes))

    def _fill(self) -> None:
        menu, names = self.menu(), self.get()
        menu.clear()
        action = menu.addAction(self.first)
        action.setCheckable(True)
        action.setChecked(names == self.without)
        action.triggered.connect(lambda: self.put(self.without))
        menu.addSeparator()
        for matte in self.session.shot.mattes:
            action = menu.addAction(matte.name)
            action.setCheckable(True)
            action.setChecked(names is None or matte.id in names)
            action.triggered.connect(lambda on, id_=matte.id: self._switch(id_, on))

    def _switch(self, id_: str, on: bool) -> None:
        names, known = self.get(), [m.id for m in self.session.shot.mattes]
        held = set(known if names is None else names)
        held = held | {id_} if on else held - {id_}
        # all of them by hand is not the same as all that come later too
        self.put(tuple(i for i in known if i in held))
