"""Light: the sun and where it was read from, the sky, and the shadow on the ground."""

import msgspec
import numpy as np
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QPainter
from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QVBoxLayout, QWidget

from lodestar.core.basics.colour import decode, encode
from lodestar.core.light.sun import from_shadows

from .. import theme
from ..fields import Swatch, icon_button, quiet
from ..viewer.tools.shadow import with_shadows
from .panel import Panel


class ShadowRow(QWidget):
    """One shadow that was drawn: its height, and by how many degrees it is off the sun that all agree on."""

    def __init__(self, panel: "LightPanel", number: int, height: float, off: float, unit: str) -> None:
        super().__init__()
        self.text, self.off = f"Shadow {number + 1}  ·  {height:.2f} {unit}", off
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
        p.drawText(QRectF(206, 0, 40, 24), Qt.AlignmentFlag.AlignVCenter, f"{self.off:.1f}°")


class LightPanel(Panel):
    step = "Light"

    def fill(self) -> None:
        self.found = self.section("Sun from shadows")
        self.none = quiet("Drag in the picture from the foot of something to the tip of its shadow, then click its top.")
        self.found.add_wide(self.none)
        self.shadow_list = QVBoxLayout()
        self.shadow_list.setContentsMargins(0, 0, 0, 0)
        holder = QWidget()
        holder.setObjectName("plain")
        holder.setLayout(self.shadow_list)
        self.found.add_wide(holder)
        sun = self.section("Sun")
        self.on = QCheckBox("The sun shines")
        self.on.setObjectName("sun-on")
        self.on.setToolTip("Off: sky light only, as under clouds")
        self.on.clicked.connect(lambda on: self.session.edit_part("Switch the sun", "light", on=on))
        sun.add("", self.on)
        self._number(sun, "Bearing", "bearing", "°", 0.5, 1, tip="Where the sun stands, clockwise from the scene's y axis", reset=210.0)
        self._number(sun, "Height", "height", "°", 0.2, 1, low=1, high=90, reset=40.0, tip="How high it stands over the horizon", name="sun-height")
        self._number(sun, "Strength", "strength", "", 0.01, 2, low=0, high=8, reset=1.2, tip="Light of the sun on a white surface that faces it")
        self._number(sun, "Softness", "softness", "°", 0.05, 2, low=0, high=30, reset=0.53, tip="Width of the sun; haze and thin cloud make it wider")
        self.colour = Swatch("sun-colour", "Colour of the sunlight")
        self.colour.picked.connect(lambda rgb: self._colour("colour", rgb))
        sun.add("Colour", self.colour)
        sky = self.section("Sky")
        self._number(
            sky, "Strength", "sky", "", 0.005, 2, low=0, high=4, reset=0.45, tip="Light of the whole sky on a white surface", name="sky-strength"
        )
        self.sky_colour = Swatch("sky-colour", "Colour of the sky's light")
        self.sky_colour.picked.connect(lambda rgb: self._colour("sky_colour", rgb))
        sky.add("Colour", self.sky_colour)
        shadow = self.section("Shadow on the ground")
        self._number(shadow, "Density", "density", "%", 0.5, 0, low=0, high=100, factor=100, reset=1.0, tip="How much of the computed shadow shows")
        self.tint = Swatch("shadow-tint", "What colour is left in a full shadow; black leaves it to the sky")
        self.tint.picked.connect(lambda rgb: self._colour("tint", rgb))
        shadow.add("Tint", self.tint)
        self._listed: object = None

    def _number(
        self, section, label: str, part: str, unit: str, step: float, decimals: int, tip: str, low=-1e9, high=1e9, reset=None, factor=1.0, name=""
    ) -> None:
        field = self.field(name or part, unit=unit, step=step, decimals=decimals, low=low, high=high, reset=reset, factor=factor, tip=tip)
        self.keyed(section, label, [field], lambda: "light", part, f"Change {section.header.text().lower()} {label.lower()}")

    def _colour(self, part: str, rgb) -> None:
        linear = tuple(float(v) for v in decode(np.array(rgb), "srgb"))
        self.session.edit_part("Choose colour", "light", **{part: linear})

    def forget(self, number: int) -> None:
        def change(shot):
            left = tuple(s for i, s in enumerate(shot.light.shadows) if i != number)
            return with_shadows(shot, left) if left else msgspec.structs.replace(shot, light=msgspec.structs.replace(shot.light, shadows=()))

        self.session.edit("Forget a shadow", change)

    def refresh(self) -> None:
        super().refresh()
        light = self.session.shot.light
        self.on.setChecked(light.on)
        for swatch, rgb in ((self.colour, light.colour), (self.sky_colour, light.sky_colour), (self.tint, light.tint)):
            swatch.show_colour(tuple(float(v) for v in encode(np.array(rgb), "srgb")))
        self.none.setVisible(not light.shadows)
        self.found.fact.setText(f"{len(light.shadows)} drawn" if light.shadows else "")
        if self._listed is light.shadows:
            return
        self._listed = light.shadows
        while self.shadow_list.count():
            self.shadow_list.takeAt(0).widget().deleteLater()
        if light.shadows:
            _, off = from_shadows(*(np.array([getattr(s, k) for s in light.shadows]) for k in ("foot", "tip", "height")))
            unit = self.session.unit
            for i, s in enumerate(light.shadows):
                self.shadow_list.addWidget(ShadowRow(self, i, s.height, float(off[i]), unit))
