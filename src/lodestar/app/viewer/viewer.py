"""The viewer: the tool row, the picture and the scene, and the bar under them."""

from collections.abc import Callable

from PyQt6.QtCore import QEvent, QPointF, QSize, Qt
from PyQt6.QtWidgets import QButtonGroup, QCheckBox, QHBoxLayout, QLabel, QMenu, QSplitter, QToolButton, QVBoxLayout, QWidget

from lodestar.core.picture.matte_view import VIEWS as MATTE_VIEWS

from .. import theme
from ..measures import figure
from ..pictures import Pictures
from ..session import Gently, Session
from .canvas import PictureCanvas
from .scene import SceneCanvas
from .tools import SHOWN, TOOLS
from .tools.handles import MoveObject
from .tools.place import SNAPS, FileObject, PlaceObject

VIEWS = ("Picture", "Scene", "Both")
SNAP_WORDS = {"surface": "surface", "ground": "ground", "wall": "wall", "point": "a point", "far": "far away"}
TICKS = {
    "Track": ("marks", "tails", "rejected", "dim", "eyes"),
    "Solve": ("marks", "tails", "rejected", "dim"),
    "Ground": ("marks", "grid", "dim"),
    "Place": ("floor", "handles", "stand-ins"),
    "Light": ("floor", "handles", "stand-ins"),
    "Foreground": ("mattes", "stand-ins"),
}
TICK_NAMES = {
    "marks": ("Marks", "Draw the tracks over the picture"),
    "tails": ("Tails", "Draw where each mark was in the last ten frames"),
    "rejected": ("Rejected", "Draw rejected tracks as dim dashes"),
    "dim": ("Dim", "Darken the picture so that marks stand out"),
    "grid": ("Grid", "Draw the ground's grid over the picture"),
    "floor": ("Grid", "Draw the ground's grid over picture and titles"),
    "handles": ("Handles", "Draw footprint and handles of what is chosen"),
    "stand-ins": ("Stand-ins", "Draw what stands in for the place as wire over the picture"),
    "mattes": ("Mattes", "Draw the outlines of mattes over the picture"),
    "eyes": ("As tracked", "Show what the tracker is shown: contrast and blur, and what is kept out dark"),
}

QWIDGETSIZE_MAX = 16_777_215  # as Qt has it, which PyQt does not name


class Viewer(QWidget):
    def __init__(self, session: Session, pictures: Pictures) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("viewer")
        self.canvas, self.scene = PictureCanvas(session, pictures), SceneCanvas(session, pictures)
        self.more: QToolButton | None = None
        self._tools = {step: {t.name: t(self.canvas) for t in tools} for step, tools in TOOLS.items()}
        self._default = {"Foreground": "matte", "Light": "shadow", "Place": "move"}
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(0)
        box.addWidget(self._tool_row())
        session.tool_asked.connect(self.take)
        self.split = QSplitter(Qt.Orientation.Horizontal if session.settings.value("beside", "0") == "1" else Qt.Orientation.Vertical)
        self.split.addWidget(self.canvas)
        self.split.addWidget(self.scene)
        self.split.setSizes([400, 190])
        self.split.setHandleWidth(5)
        box.addWidget(self.split, 1)
        box.addWidget(self._bar())
        self.hint = QLabel(self.canvas)
        self.hint.setObjectName("hint")
        self.hint.setProperty("role", "hint")
        self.hint.move(8, 8)
        self.hint.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.scene.missed.connect(self._tell_where)
        self._gently = Gently(session, self.refresh)
        session.frame_changed.connect(lambda _: self._refresh_bar())
        self.canvas.picture_changed.connect(self._refresh_bar)
        self.canvas.picture_changed.connect(self._fit_hint)
        self._step = ""
        self.show_view(session.settings.value("view", "Picture"))
        self.refresh()

    def _tool_row(self) -> QWidget:
        row = self.tool_row = FittedRow(self._show_words)
        row.setFixedHeight(36)
        self.row = QHBoxLayout(row)
        self.row.setContentsMargins(8, 0, 8, 0)
        self.row.setSpacing(2)
        self.views = QButtonGroup(self)
        for name in VIEWS:
            b = QToolButton(text=name, checkable=True)
            b.setObjectName(f"view-{name.lower()}")
            b.setProperty("role", "segment")
            b.setToolTip({"Picture": "Through the camera", "Scene": "From outside", "Both": "Picture above, scene below"}[name])
            b.clicked.connect(lambda _, n=name: self.show_view(n))
            self.views.addButton(b)
            self.row.addWidget(b)
        self.row.addSpacing(12)
        self.tool_place = QHBoxLayout()
        self.tool_place.setSpacing(4)
        self.row.addLayout(self.tool_place)
        self.row.addStretch(1)
        self.before_after = QToolButton(text="Before–after", checkable=True)
        self.before_after.setObjectName("before-after")
        self.before_after.setIcon(theme.icon("columns-2", theme.READING))
        self.before_after.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.before_after.setToolTip("A line to drag between the plate and the picture as it is now")
        self.before_after.toggled.connect(self.canvas.set_before_after)
        self.row.addWidget(self.before_after)
        return row

    def _show_words(self, whole: bool) -> None:
        """Words beside the icons of tools, or icons alone, whose tooltips have the words."""
        style = Qt.ToolButtonStyle.ToolButtonTextBesideIcon if whole else Qt.ToolButtonStyle.ToolButtonIconOnly
        for b in self.tool_row.findChildren(QToolButton):
            if b.property("role") != "segment":
                b.setToolButtonStyle(style)

    def _bar(self) -> QWidget:
        bar = self.bar = FittedRow(lambda whole: self._refresh_bar())
        bar.setFixedHeight(28)
        layout = QHBoxLayout(bar)
        layout.setContentsMargins(12, 0, 12, 0)
        layout.setSpacing(12)
        self.zoom = QToolButton()
        self.zoom.setObjectName("zoom")
        self.zoom.setToolTip("Zoom of the picture; a click changes between fit and 100 %")
        self.zoom.clicked.connect(lambda: self.canvas.set_zoom(1.0 if not self.canvas.zoom else 0.0))
        self.quality = QToolButton(checkable=True, checked=True)
        self.quality.setObjectName("quality")
        self.quality.setProperty("role", "plain")
        self.quality.setToolTip("Whether a picture that stands still is made in final quality, or stays a draft")
        self.quality.toggled.connect(self._set_refine)
        layout.addWidget(self.zoom)
        layout.addWidget(self.quality)
        self.tick_place = QHBoxLayout()
        self.tick_place.setSpacing(12)
        layout.addLayout(self.tick_place)
        layout.addStretch(1)
        self.state = QLabel()
        self.state.setObjectName("frame-state")
        self.state.setProperty("role", "quiet")
        layout.addWidget(self.state)
        return bar

    def _set_refine(self, on: bool) -> None:
        self.canvas.refine = on
        self.canvas.refresh()
        self._refresh_bar()

    def turn_split(self) -> None:
        """The scene beside the picture, or again below it."""
        beside = self.split.orientation() == Qt.Orientation.Vertical
        self.split.setOrientation(Qt.Orientation.Horizontal if beside else Qt.Orientation.Vertical)
        self.split.setSizes([500, 500] if beside else [400, 190])
        self.session.settings.setValue("beside", "1" if beside else "0")
        self.show_view("Both")

    def show_view(self, name: str) -> None:
        name = name if name in VIEWS else "Picture"
        self.session.settings.setValue("view", name)
        for b in self.views.buttons():
            b.setChecked(b.text() == name)
        held = self.canvas.hasFocus() or self.scene.hasFocus()
        self.canvas.setVisible(name != "Scene")
        self.scene.setVisible(name != "Picture")
        for part in (self.zoom, self.quality):  # of the picture
            part.setVisible(name != "Scene")
        self.view = name
        if held:  # Qt would give the keyboard to whatever comes next
            self.take_keyboard()

    def take_keyboard(self) -> None:
        """Keys go to the picture, or to the scene where it is shown alone."""
        (self.scene if self.view == "Scene" else self.canvas).setFocus()

    def refresh(self) -> None:
        session = self.session
        step = session.step
        if step != self._step:
            self._step = step
            self._fill_tools(step)
            self._fill_ticks(step)
        tools = self._tools.get(step, {})
        if tools and session.tool not in tools:
            wanted = self._default.get(step, next(iter(tools)))
            session.tool = "title" if step == "Place" and not session.shot.objects and session.shot.solve is not None else wanted
        tool = tools.get(session.tool)
        self.canvas.tool = tool
        self.canvas.updateMicroFocus()
        for b in self._tool_buttons:
            b.setChecked(b.property("tool") == session.tool)
            b.setEnabled(session.shot.plate is not None)
        if self.more is not None:
            hidden = tool is not None and session.tool not in SHOWN[step]
            self.more.setText(tool.label if hidden else "More")
            self.more.setIcon(theme.icon(tool.icon if hidden else "plus", theme.READING))
            self.more.setChecked(hidden)
            self.more.setEnabled(session.shot.plate is not None)
            self.snaps.setText(f"On {SNAP_WORDS[session.snap]}")
            self.snaps.setVisible(isinstance(tool, PlaceObject))
        hint = tool.hint() if tool is not None and session.shot.plate is not None else ""
        self.hint.setText(hint)
        self._fit_hint()
        self.hint.setVisible(bool(hint))
        self.canvas.setCursor(Qt.CursorShape.ArrowCursor if session.tool in ("", "move", "marks", "turn-scene") else Qt.CursorShape.CrossCursor)
        self._refresh_bar()
        self.canvas.update()

    def _fit_hint(self) -> None:
        """In lines that the picture's view is wide enough for."""
        self.hint.setWordWrap(False)  # its size is then that of one line, once the width of the words before is forgotten
        self.hint.setMinimumWidth(0)
        self.hint.setMaximumWidth(QWIDGETSIZE_MAX)
        one_line, room = self.hint.sizeHint().width(), max(self.canvas.width() - 16, 60)
        self.hint.setWordWrap(one_line > room)
        self.hint.setFixedWidth(min(one_line, room))
        self.hint.adjustSize()

    def _fill_tools(self, step: str) -> None:
        _clear(self.tool_place)
        self._tool_buttons = []
        tools, self.more = self._tools.get(step, {}), None
        for name, tool in tools.items():
            if step in SHOWN and name not in SHOWN[step]:
                continue
            b = QToolButton(text=tool.label, checkable=True)
            b.setObjectName(f"tool-{name}")
            b.setProperty("tool", name)
            b.setIcon(theme.icon(tool.icon, theme.READING))
            b.setIconSize(QSize(16, 16))
            b.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
            b.setToolTip(tool.tip)
            b.clicked.connect(lambda _, n=name: self.session.use_tool(n) or self.refresh())
            self.tool_place.addWidget(b)
            self._tool_buttons.append(b)
        self.tool_row.begin()
        if step in SHOWN:
            self.more = _menu_button("more-tools", "Everything else that can be placed, drawn and arranged")
            self.more.setCheckable(True)
            for name, tool in tools.items():
                if name not in SHOWN[step]:
                    action = self.more.menu().addAction(theme.icon(tool.icon, theme.READING), tool.label)
                    action.setToolTip(tool.tip)
                    action.setObjectName(f"more-{name}")
                    action.triggered.connect(lambda _, n=name: self.take(n))
            self.more.menu().aboutToHide.connect(self.refresh)
            self.tool_place.addWidget(self.more)
            self.snaps = _menu_button("snap", "What a thing that is placed snaps to")
            self.snaps.setIcon(theme.icon("magnet", theme.READING))
            for name, what in SNAPS.items():
                action = self.snaps.menu().addAction(f"On {SNAP_WORDS[name]}: {what}")
                action.setObjectName(f"snap-{name}")
                action.triggered.connect(lambda _, n=name: self._snap(n))
            self.tool_place.addWidget(self.snaps)

    def _tell_where(self) -> None:
        """A click in the scene met nothing, with a tool in hand that works in the picture: that is said, not swallowed."""
        tool = self.canvas.tool
        if tool is None or isinstance(tool, MoveObject) or self.session.shot.plate is None:
            return
        show = () if self.view == "Both" else (("Show the picture", lambda: self.show_view("Picture")),)
        self.session.tell(f"{tool.label} works in the picture.", "Here a click chooses objects and points.", "note", *show)

    def take(self, name: str) -> None:
        """Take a tool of this step in hand; one that is made from a file asks for it first."""
        tool = self._tools[self.session.step][name]
        if not isinstance(tool, PlaceObject) or tool.can_begin():
            self.session.use_tool(name)
        self.refresh()

    def place_file(self, name: str, path: str, at: QPointF) -> None:
        """Place a file with the tool for its kind, at a place of the picture, as a click there does."""
        self.session.use_tool(name)
        self.refresh()
        tool = self._tools["Place"][name]
        assert isinstance(tool, FileObject)
        tool.path, tool.pointer = path, at
        tool.place()

    def _snap(self, name: str) -> None:
        self.session.snap = name
        self.refresh()

    def _fill_ticks(self, step: str) -> None:
        _clear(self.tick_place)
        for key in TICKS.get(step, ()):
            name, tip = TICK_NAMES[key]
            box = QCheckBox(name)
            box.setObjectName(f"show-{key}")
            box.setToolTip(tip)
            box.setChecked(self.canvas.drawn[key])
            box.setProperty("role", "tick")
            box.toggled.connect(lambda on, k=key: self._tick(k, on))
            self.tick_place.addWidget(box)
        if step == "Foreground":
            self.matte_views = _menu_button("matte-view", "How mattes are shown: the chosen one, or all of them together")
            for name in ("picture", *MATTE_VIEWS):
                action = self.matte_views.menu().addAction(name.capitalize())
                action.setObjectName(f"matte-view-{name.replace(' ', '-')}")
                action.triggered.connect(lambda _, name=name: self.show_matte(name))
            self.matte_views.setText(f"View: {self.canvas.matte_view}")
            self.tick_place.addWidget(self.matte_views)

    def show_matte(self, view: str) -> None:
        """Show mattes in one of the ways to judge them, or the picture again."""
        self.canvas.matte_view = view
        self.matte_views.setText(f"View: {view}")
        self.canvas.refresh()

    def _tick(self, key: str, on: bool) -> None:
        self.canvas.drawn[key] = on
        self.canvas.refresh() if key == "eyes" else self.canvas.update()

    def _refresh_bar(self) -> None:
        self.zoom.setText(f"{self.canvas.scale * self.canvas.devicePixelRatioF():.0%}" + (" fit" if not self.canvas.zoom else ""))
        whole = self.bar.whole
        for layout in (self.bar.layout(), self.tick_place):
            layout.setSpacing(12 if whole else 3)
        quality = "final when still" if self.canvas.refine else "draft"
        self.quality.setText(f"Quality: {quality}" if whole else quality.split()[0].capitalize())
        session = self.session
        solve = session.shot.solve
        text = [f"Frame {session.frame}"]
        if solve is not None and session.step in ("Solve", "Track", "Ground", "Place"):
            at = (solve.frames == session.frame).nonzero()[0]
            text.append(f"{figure(solve.frame_error[at[0]], 2)} px" if len(at) else "no camera here")
        shown = self.canvas.shown
        if shown is not None and shown.shot.objects:
            # one that is under the hand is called a draft too, so that the row stays as it is
            text.append("final" if shown.quality == "final" else "draft")
        self.state.setText(" · ".join(text if whole else text[-1:]))
        self.state.setToolTip(" · ".join(text))


class FittedRow(QWidget):
    """A row that is told to say less when it is too narrow for all it says: fit(whole) does that."""

    def __init__(self, fit: Callable[[bool], None]) -> None:
        super().__init__()
        self.fit = fit
        self.whole, self.wanted = True, 0

    def begin(self) -> None:
        """Other parts came: how wide they are is not known."""
        if not self.whole:
            self.whole = True
            self.fit(True)

    def event(self, event: QEvent | None) -> bool:
        done = super().event(event)
        if event is not None and event.type() in (QEvent.Type.Resize, QEvent.Type.LayoutRequest) and (layout := self.layout()) is not None:
            if self.whole:
                self.wanted = layout.sizeHint().width()
            if self.whole != (whole := self.wanted <= self.width()):
                self.whole = whole
                self.fit(whole)
        return done


def _menu_button(name: str, tip: str) -> QToolButton:
    b = QToolButton()
    b.setProperty("role", "menu")
    b.setObjectName(name)
    b.setToolTip(tip)
    b.setIconSize(QSize(16, 16))
    b.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
    b.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
    menu = QMenu(b)
    menu.setToolTipsVisible(True)
    b.setMenu(menu)
    return b


def _clear(layout) -> None:
    while layout.count():
        item = layout.takeAt(0)
        if item.widget() is not None:
            item.widget().hide()
            item.widget().deleteLater()
