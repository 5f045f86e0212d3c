"""What a user sets once for all shots: how often work is kept, how much memory pictures take, how many cores draw."""

import os

from PyQt6.QtCore import QSettings, Qt
from PyQt6.QtWidgets import QDialog, QVBoxLayout, QWidget

from lodestar.core.picture import workshop
from lodestar.core.render import pool

from .fields import NumberField, Section, quiet
from .session import Session

# name of each in the settings: what it is called, unit, decimals, lowest, highest, usual, and its tip
VALUES: dict[str, tuple[str, str, int, float, float, float, str]] = {
    "keep/seconds": ("Keep work after", "s", 0, 1, 600, 4, "How long after an edit the work is kept aside, so that a crash loses no more than that"),
    "memory/frames": (
        "Frames in memory",
        "MB",
        0,
        100,
        64_000,
        500,
        "How much memory decoded frames of clips may take; more makes scrubbing quicker",
    ),
    "memory/pictures": (
        "Pictures in memory",
        "MB",
        0,
        100,
        64_000,
        500,
        "How much memory finished pictures may take; more are then played without being made anew",
    ),
    "cores": ("Cores that draw", "", 0, 1, 256, 0, "How many cores draw pictures; fewer leave more for other programs"),
}


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
        section.add_wide(quiet("They hold at once, and are remembered."))
