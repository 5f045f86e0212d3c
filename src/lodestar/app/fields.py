"""The controls of the settings: number fields that are dragged, typed and keyed, sections that fold, swatches, and rows."""

import functools
from collections.abc import Callable

from PyQt6.QtCore import QEvent, QObject, QPoint, QPointF, QRectF, QSettings, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFocusEvent, QPainter, QPen
from PyQt6.QtWidgets import (
    QCheckBox,
    QColorDialog,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QSizePolicy,
    QToolButton,
    QToolTip,
    QVBoxLayout,
    QWidget,
)

from lodestar.core.basics.errors import UserError

from . import theme
from .measures import figure, shown, typed

LABEL_WIDTH, KEY_WIDTH, NARROW = 100, 20, 60
QT_TIP_BELOW = 14  # px by which Qt puts a tip lower than it is told to, less a gap
EXAMPLES = {"m": "1 m + 20 cm", "ft": "4 ft + 8 in"}
TYPED = "0123456789.,-("


def give_back_keyboard(widget: QWidget) -> None:
    """What was typed is done: keys go to the picture again, so that Space plays and Delete deletes what is in hand."""
    viewer = getattr(widget.window(), "viewer", None)
    if viewer is not None:
        viewer.take_keyboard()
    else:
        widget.window().setFocus()


def tick(text: str, name: str, tip: str, act: Callable[[bool], object]) -> QCheckBox:
    """A check with its words."""
    box = QCheckBox(text)
    box.setObjectName(name)
    box.setToolTip(tip)
    box.clicked.connect(act)
    return box


class TipBelow:
    """Of a control that shows a value: its tip stands under it, so that it never covers what it is about."""

    def event(self, event) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(self, QWidget) and self.toolTip():
            # Qt puts a tip a little below and right of the place that it is given, and above it where the screen ends
            under = self.mapToGlobal(QPoint(event.pos().x(), self.height()))
            QToolTip.showText(under - QPoint(0, QT_TIP_BELOW), self.toolTip(), self)
            return True
        return super().event(event)  # type: ignore[misc]


class Choice(TipBelow, QComboBox):
    """A closed list, which the wheel passes by: a panel that is scrolled never changes what is under the pointer.

    It may be narrower than its longest entry, which the opened list shows whole.
    """

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.setMinimumContentsLength(6)

    def wheelEvent(self, event) -> None:
        event.ignore()


class Line(TipBelow, QLineEdit):
    """A line of text; Enter and Escape give the keyboard back to the picture."""

    def keyPressEvent(self, event) -> None:
        super().keyPressEvent(event)
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape):
            give_back_keyboard(self)


class Words(TipBelow, QPlainTextEdit):
    """Words of several lines; it is as high as they are. Enter begins a line; Escape gives the keyboard back to the picture.

    typed(text): by the hand, not when they are shown.
    """

    typed = pyqtSignal(str)
    MOST_LINES = 6

    def __init__(self) -> None:
        super().__init__()
        self.setTabChangesFocus(True)
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.document().setDocumentMargin(0)
        self.textChanged.connect(self._changed)
        self._shown = ""
        self._fit()

    def show_text(self, text: str) -> None:
        if text != self.toPlainText():
            self._shown = text
            self.setPlainText(text)
            self._fit()

    def _changed(self) -> None:
        self._fit()
        if self.toPlainText() != self._shown:
            self._shown = self.toPlainText()
            self.typed.emit(self._shown)

    def _fit(self) -> None:
        lines = min(max(self.document().blockCount(), 1), self.MOST_LINES)
        self.setFixedHeight(lines * self.fontMetrics().lineSpacing() + 10)

    def keyPressEvent(self, event) -> None:
        if event.key() == Qt.Key.Key_Escape:
            give_back_keyboard(self)
        else:
            super().keyPressEvent(event)


class NumberField(TipBelow, QWidget):
    """A number with its unit. Drag sideways (Shift finer, Ctrl coarser), click to type arithmetic with units, arrows to step,
    Delete or a double click on the label to reset.

    changed(value, group): group is the same during one drag, so that it is one step of undo, and None for a typed value. let_go: a
    drag ended.
    """

    changed = pyqtSignal(float, object)
    let_go = pyqtSignal()
    wrong = pyqtSignal(object)

    def __init__(
        self,
        name: str,
        unit: str = "",
        step: float = 0.01,
        decimals: int = 2,
        low: float = -1e9,
        high: float = 1e9,
        reset: float | None = None,
        factor: float = 1.0,
        tip: str = "",
    ) -> None:
        super().__init__()
        self.unit, self.step, self.decimals, self.low, self.high, self.reset, self.factor = unit, step, decimals, low, high, reset, factor
        self.value = 0.0
        self.note = ""
        self._press: QPointF | None = None
        self._base = 0.0
        self._group: object = None
        self.setObjectName(name)
        self.setAccessibleName(name.replace("-", " "))
        self.tip = tip
        self.setToolTip(tip)  # the rest follows when it is shown, in the units of then
        self.setFixedHeight(24)
        self.setMinimumWidth(40)
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    @functools.cached_property
    def editor(self) -> QLineEdit:
        """Where a value is typed; most fields are never typed in."""
        editor = QLineEdit(self)
        editor.hide()
        editor.editingFinished.connect(self._typed)
        editor.installEventFilter(self)
        return editor

    def show_value(self, value: float, note: str = "") -> None:
        """Show a value in document units; `factor` turns it into what is shown."""
        shown = value * self.factor
        if (shown, note) != (self.value, self.note):
            self.value, self.note = shown, note
            self.update()

    def text(self, decimals: int | None = None) -> str:
        """As it is shown, in the user's unit."""
        return figure(self.value / shown(self.unit)[1], self.decimals if decimals is None else decimals)

    def _offer(self, shown: float, group: object) -> None:
        shown = min(max(shown, self.low), self.high)
        self.value = shown
        self.update()
        self.changed.emit(shown / self.factor, group)

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(QColor(theme.FIELD))
        p.drawRoundedRect(QRectF(self.rect()), 4, 4)
        if self.low > -1e8 and self.high < 1e8:  # a closed range shows its level
            share = (self.value - self.low) / (self.high - self.low)
            p.setBrush(QColor(theme.QUIET))
            p.drawRect(QRectF(2, self.height() - 2, (self.width() - 4) * min(max(share, 0), 1), 2))
        if self.hasFocus() or self._group is not None:
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.setPen(QPen(QColor(theme.ACCENT), 1))
            p.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 4, 4)
        p.setFont(theme.font(13))
        p.setPen(QColor(theme.TEXT if self.isEnabled() else theme.OFF))
        margin = 8 if self.width() > NARROW else 5
        inner = QRectF(margin, 0, self.width() - 2 * margin, self.height())
        # a digit that is cut off would tell another number: decimals go first
        text = next((t for d in range(self.decimals, -1, -1) if p.fontMetrics().horizontalAdvance(t := self.text(d)) <= inner.width()), self.text(0))
        p.drawText(inner, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, text)
        p.setPen(QColor(theme.QUIET))
        p.setFont(theme.font(12))
        p.drawText(
            inner, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, self.note or ("" if self.width() <= NARROW else shown(self.unit)[0])
        )

    def mousePressEvent(self, event) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._press, self._base, self._group = event.position(), self.value, None

    def mouseMoveEvent(self, event) -> None:
        if self._press is None:
            return
        moved = event.position().x() - self._press.x()
        if self._group is None and abs(moved) < 3:
            return
        if self._group is None:
            self._group = object()
        fine = {Qt.KeyboardModifier.ShiftModifier: 0.1, Qt.KeyboardModifier.ControlModifier: 10.0}.get(event.modifiers(), 1.0)
        self._offer(self._base + moved * self.step * fine, self._group)

    def mouseReleaseEvent(self, event) -> None:
        if self._press is not None and self._group is None:
            self.begin_typing()
        dragged, self._press, self._group = self._group is not None, None, None
        if dragged:
            self.let_go.emit()
        self.update()

    def begin_typing(self, text: str | None = None) -> None:
        self.editor.setGeometry(self.rect())
        # a narrow field shows all digits while they are typed
        self.editor.setStyleSheet("padding: 0 1px; font-size: 12px;" if self.width() <= NARROW else "")
        self.editor.setText(self.text() if text is None else text)
        self.editor.show()
        self.editor.setFocus()
        if text is None:
            self.editor.selectAll()

    def _typed(self) -> None:
        if self.editor.isHidden():
            return
        text = self.editor.text()
        self.editor.hide()
        if text == self.text():
            return
        try:
            self._offer(typed(text, self.unit), None)
        except UserError as error:
            self.wrong.emit(error)

    def eventFilter(self, watched, event) -> bool:
        if event.type() == event.Type.KeyPress and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            # taken here: it would go on to the field, for which it begins typing anew
            self._typed()
            give_back_keyboard(self)
            return True
        if event.type() == event.Type.KeyPress and event.key() == Qt.Key.Key_Escape:
            self.editor.setText(self.text())
            self.editor.hide()
            give_back_keyboard(self)
            return True
        return super().eventFilter(watched, event)

    def event(self, event) -> bool:
        kind = event.type()
        if kind == QEvent.Type.ToolTip and self.tip:
            name = shown(self.unit)[0]
            unit = f", in {name}" if name and self.width() <= NARROW else ""
            self.setToolTip(f"{self.tip}{unit}\nDrag, type ({EXAMPLES.get(name, EXAMPLES['m'])}), or use the arrow keys; Delete resets.")
        # a digit or a point begins typing here, whatever it is a shortcut for elsewhere
        if kind == QEvent.Type.ShortcutOverride and event.text() and event.text() in TYPED:
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event) -> None:
        steps = {Qt.Key.Key_Up: 1, Qt.Key.Key_Right: 1, Qt.Key.Key_Down: -1, Qt.Key.Key_Left: -1}
        if event.key() in steps:
            coarse = 10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
            self._offer(self.value + steps[event.key()] * coarse * self.step, ("arrows", self.objectName()))
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_F2):
            self.begin_typing()
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.put_back()
        elif event.text() and event.text() in TYPED:
            self.begin_typing(event.text())
        else:
            super().keyPressEvent(event)

    def put_back(self) -> None:
        if self.reset is not None:
            self._offer(self.reset * self.factor, None)


class KeyButton(QWidget):
    """The pill beside a field: hollow, can be keyed; full, keyed at this frame; half, keyed elsewhere. A click sets or takes the key."""

    clicked = pyqtSignal()

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setObjectName(f"key-{name}")
        self.setAccessibleName(f"Key {name.replace('-', ' ')} at this frame")
        self.setToolTip("Set or take away a key at this frame")
        self.setFixedSize(KEY_WIDTH, 24)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.state = 0

    def show_state(self, state: int) -> None:
        if state != self.state:
            self.state = state
            self.update()

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        tint = QColor(theme.ACCENT if self.hasFocus() else theme.TEXT if self.state else theme.QUIET)
        p.setPen(QPen(tint, 1))
        p.setBrush(tint if self.state == 2 else Qt.BrushStyle.NoBrush)
        p.drawRoundedRect(QRectF(11.5, 6.5, 5, 11), 2.5, 2.5)
        if self.state == 1:
            p.fillRect(QRectF(12, 12, 4, 5), tint)

    def mousePressEvent(self, event) -> None:
        self.clicked.emit()

    def keyPressEvent(self, event) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Space):
            self.clicked.emit()
        else:
            super().keyPressEvent(event)


class Swatch(TipBelow, QPushButton):
    """A colour (code values 0..1) that opens the colour dialog; the change shows while it is open."""

    picked = pyqtSignal(tuple)

    def __init__(self, name: str, tip: str) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setAccessibleName(name.replace("-", " "))
        self.setToolTip(tip)
        self.setFixedHeight(24)
        self.rgb = (1.0, 1.0, 1.0)
        self.clicked.connect(self._choose)

    def show_colour(self, rgb: tuple[float, float, float]) -> None:
        self.rgb = rgb
        self.update()

    def _colour(self) -> QColor:
        return QColor.fromRgbF(*(min(max(c, 0), 1) for c in self.rgb))

    def _choose(self) -> None:
        chosen = QColorDialog.getColor(self._colour(), self.window(), "Colour", QColorDialog.ColorDialogOption.DontUseNativeDialog)
        if chosen.isValid():
            self.picked.emit((chosen.redF(), chosen.greenF(), chosen.blueF()))

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(QPen(QColor(theme.ACCENT), 1) if self.hasFocus() else Qt.PenStyle.NoPen)
        p.setBrush(QColor(theme.FIELD))
        p.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 4, 4)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(self._colour())
        p.drawRoundedRect(QRectF(8, 5, 14, 14), 3, 3)
        p.setPen(QColor(theme.TEXT))
        p.setFont(theme.font(13))
        p.drawText(QRectF(30, 0, self.width() - 34, self.height()), Qt.AlignmentFlag.AlignVCenter, self._colour().name()[1:].upper())


class Section(QWidget):
    """A header that folds its rows, with one quiet fact at the right that still tells their state."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self.setObjectName("plain")
        self.key = f"folded/{title}"
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 2, 0, 5)
        box.setSpacing(4)
        line = QFrame()
        line.setFixedHeight(1)
        line.setProperty("role", "rule")
        box.addWidget(line)
        self.header = QPushButton()
        self.header.setObjectName(f"section-{title.lower().replace(' ', '-')}")
        self.header.setAccessibleName(f"{title}, fold or unfold")
        self.header.setToolTip(f"Fold or unfold {title}")
        self.header.setText(title)
        self.header.setProperty("role", "section")
        self.header.clicked.connect(self.fold)
        self.fact = QLabel()
        self.fact.setProperty("role", "quiet")
        self.fact.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        top = QHBoxLayout()
        top.setContentsMargins(0, 4, 4, 0)
        top.addWidget(self.header, 1)  # as wide as there is room: a hand does not aim at the word
        top.addWidget(self.fact)
        box.addLayout(top)
        self.body = QWidget()
        self.body.setObjectName("plain")
        self.rows = QVBoxLayout(self.body)
        self.rows.setContentsMargins(0, 0, 0, 0)
        self.rows.setSpacing(4)
        box.addWidget(self.body)
        self.body.setVisible(QSettings("bright-lodestar", "window").value(self.key, "0") != "1")

    def fold_at_first(self) -> None:
        """Rarely used: it is folded until somebody unfolds it."""
        self.body.setVisible(QSettings("bright-lodestar", "window").value(self.key, "1") != "1")

    def fold(self) -> None:
        self.body.setVisible(self.body.isHidden())
        QSettings("bright-lodestar", "window").setValue(self.key, "1" if self.body.isHidden() else "0")

    def add(self, label: str, *widgets: QWidget, key: KeyButton | None = None) -> QLabel:
        """A row: label, one field or several sharing its width, and the key."""
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        text = _Label(label, widgets)
        text.setProperty("role", "label")
        text.setFixedWidth(LABEL_WIDTH)
        if label:
            row.addWidget(text)
        else:
            row.addSpacing(LABEL_WIDTH)  # where its fields are hidden, the row takes no room
        fields = QHBoxLayout()
        fields.setSpacing(4)
        for widget in widgets:
            fields.addWidget(widget)
        row.addLayout(fields, 1)
        if key is not None:
            row.addWidget(key)
        elif not all(isinstance(widget, QCheckBox) for widget in widgets):  # the words of a check may run on
            row.addSpacing(KEY_WIDTH)
        self.rows.addLayout(row)
        return text

    def add_fact(self, label: str) -> tuple[QLabel, QLabel]:
        """A read-only row: label, value and a quiet note."""
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        name, value, note = QLabel(label), QLabel(), QLabel()
        name.setProperty("role", "label")
        name.setFixedWidth(LABEL_WIDTH)
        value.setMinimumWidth(68)
        note.setProperty("role", "quiet")
        note.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)  # a long note is cut, the panel never grows
        row.addWidget(name)
        row.addWidget(value)
        row.addWidget(note, 1)
        self.rows.addLayout(row)
        return value, note

    def add_buttons(self, *buttons: QWidget) -> None:
        """Buttons that say for themselves what they do, over the whole width."""
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        for b in buttons:
            row.addWidget(b, 1)
        self.rows.addLayout(row)

    def add_wide(self, widget: QWidget) -> None:
        self.rows.addWidget(widget)


class _Label(QLabel):
    """A label whose double click resets its number fields."""

    def __init__(self, text: str, fields: tuple[QWidget, ...]) -> None:
        super().__init__(text)
        self.fields = fields

    def mouseDoubleClickEvent(self, event) -> None:
        for field in self.fields:
            if isinstance(field, NumberField):
                field.put_back()


def quiet(text: str = "") -> QLabel:
    label = QLabel(text)
    label.setProperty("role", "quiet")
    label.setWordWrap(True)
    label.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
    return label


def icon_button(icon: str, name: str, tip: str, act: Callable[[], object]) -> QToolButton:
    b = QToolButton()
    b.setObjectName(name)
    b.setAccessibleName(tip)
    b.setIcon(theme.icon(icon, theme.READING))
    b.setToolTip(tip)
    b.clicked.connect(lambda: act())
    return b


def link(text: str, name: str, tip: str, act: Callable[[], object]) -> QPushButton:
    """Words that do something when they are clicked."""
    b = button(text, name, tip, act)
    b.setProperty("role", "link")
    b.setCursor(Qt.CursorShape.PointingHandCursor)
    return b


def button(text: str, name: str, tip: str, act: Callable[[], object], main: bool = False) -> QPushButton:
    b = QPushButton(text)
    b.setObjectName(name)
    b.setAccessibleName(text)
    b.setToolTip(tip)
    if main:
        b.setProperty("role", "main")
    b.clicked.connect(lambda: act())
    return b


def set_main(b: QPushButton, on: bool) -> None:
    """Whether a button is the next thing to do."""
    role = "main" if on else ""
    if b.property("role") != role:
        b.setProperty("role", role)
        b.style().unpolish(b)
        b.style().polish(b)


class FocusFrame(QWidget):
    """A line round the view that Tab brought the keyboard to; after a click one knows where it is."""

    def __init__(self, window: QWidget, *views: QWidget) -> None:
        super().__init__(window)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setAttribute(Qt.WidgetAttribute.WA_NoSystemBackground)
        self.hide()
        self.views = views
        for view in views:
            view.installEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(watched, QWidget) and watched in self.views and event is not None:
            if isinstance(event, QFocusEvent):
                tabbed = event.reason() in (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason)
                self.setVisible(event.gotFocus() and tabbed)
            if self.isVisible() and watched.hasFocus() and event.type() in (QEvent.Type.FocusIn, QEvent.Type.Resize, QEvent.Type.Move):
                self.setGeometry(watched.visibleRegion().boundingRect().translated(watched.mapTo(self.parentWidget(), QPoint(0, 0))))
                self.raise_()
        return super().eventFilter(watched, event)

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setPen(QPen(QColor(theme.ACCENT), 1))
        p.drawRect(self.rect().adjusted(0, 0, -1, -1))
