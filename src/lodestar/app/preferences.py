"""What a user sets once for all shots: how often work is kept, what memory and cores pictures take, how numbers and the window look."""

import os

from PyQt6.QtCore import QSettings, Qt
from PyQt6.QtWidgets import QApplication, QDialog, QVBoxLayout, QWidget

from lodestar.core.picture import workshop
from lodestar.core.render import pool

from . import measures, theme
from .fields import Choice, NumberField, Section, quiet
from .session import Session

# name of each in the settings: what it is called, unit, decimals, lowest, highest, usual, and its tip
VALUES: dict[str, tuple[str, str, int, float, float, float, str]] = {
    "keep/seconds": ("Keep work after", "s", 0, 1, 600, 4, "How long after an edit the work is kept aside, so that a crash loses no more than that"),
    "memory/frames": (
        "Frame memory",
        "MB",
        0,
        100,
        64_000,
        500,
        "How much memory decoded frames of clips may take; more makes scrubbing quicker",
    ),
    "memory/pictures": (
        "Picture memory",
        "MB",
        0,
        100,
        64_000,
        500,
        "How much memory finished pictures may take; more are then played without being made anew",
    ),
    "cores": ("Cores that draw", "", 0, 1, 256, 0, "How many cores draw pictures; fewer leave more for other programs"),
}

# name of each in the settings: what it is called, its tip, and what can be chosen, the usual first
CHOICES: dict[str, tuple[str, str, tuple[str, ...]]] = {
    "numbers/lengths": (
        "Lengths in",
        "What lengths are shown and typed in; a unit that is typed with a number always holds",
        tuple(measures.LENGTHS),
    ),
    "numbers/sign": ("Decimal sign", "Between a number and its decimals; both are understood when they are typed", tuple(measures.SIGNS)),
    "look/brightness": ("Window", "How bright the window is round the picture", tuple(theme.BRIGHTNESS)),
}


def choice_of(name: str) -> str:
    """A preference as it is set, or as usual."""
    known = CHOICES[name][2]
    found = str(QSettings("bright-lodestar", "window").value(name, ""))
    return found if found in known else known[0]


def value_of(name: str) -> float:
    """A preference as it is set, or as usual."""
    usual = VALUES[name][5] or float(os.cpu_count() or 1)
    try:
        found = float(QSettings("bright-lodestar", "window").value(name, usual))
    except (TypeError, ValueError):
        return usual
    return min(max(found, VALUES[name][3]), VALUES[name][4])


def apply(session: Session, pictures) -> None:
    """Do as the preferences say, from here on."""
    session.files.keep_after(value_of("keep/seconds"))
    workshop.frames.set_most(int(value_of("memory/frames") * 1e6))
    pictures.most_bytes = int(value_of("memory/pictures") * 1e6)
    if int(value_of("cores")) != pool.threads():
        pool.set_threads(int(value_of("cores")))
    theme.set_brightness(choice_of("look/brightness"))
    if measures.use(choice_of("numbers/sign"), choice_of("numbers/lengths")):
        session.view_changed.emit()
        for part in QApplication.allWidgets():  # numbers are painted by each for itself
            part.update()


class Preferences(QDialog):
    """Each holds from the moment it is changed; Delete in a field puts the usual back."""

    def __init__(self, session: Session, pictures, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("preferences")
        self.setWindowTitle("Preferences")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setFixedWidth(340)
        box = QVBoxLayout(self)
        section = Section("For all shots")
        box.addWidget(section)
        self.fields: dict[str, NumberField] = {}
        for name, (label, unit, decimals, low, high, usual, tip) in VALUES.items():
            field = NumberField(name.replace("/", "-"), unit, 1.0, decimals, low, high, usual or float(os.cpu_count() or 1), 1.0, tip)
            field.wrong.connect(session.fail)
            field.show_value(value_of(name))

            def changed(value: float, _: object, name=name) -> None:
                QSettings("bright-lodestar", "window").setValue(name, value)
                apply(session, pictures)

            field.changed.connect(changed)
            section.add(label, field)
            self.fields[name] = field
        self.choices: dict[str, Choice] = {}
        for name, (label, tip, known) in CHOICES.items():
            choice = Choice()
            choice.setObjectName(name.replace("/", "-"))
            choice.setAccessibleName(label)
            choice.setToolTip(tip)
            choice.addItems(known)
            choice.setCurrentText(choice_of(name))

            def chosen(text: str, name=name) -> None:
                QSettings("bright-lodestar", "window").setValue(name, text)
                apply(session, pictures)

            choice.textActivated.connect(chosen)
            section.add(label, choice)
            self.choices[name] = choice
        section.add_wide(quiet("They hold at once, and are remembered."))
