"""Picking colours in the picture, of which a matte is keyed."""

import msgspec
import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter

from lodestar.core.basics.colour import encode, in_working
from lodestar.core.basics.errors import PlateError
from lodestar.core.edits.arrange import new_id
from lodestar.core.matte.key import MOST_SAMPLES, Keyer, oklab, sample_at
from lodestar.core.picture.composite import light_of
from lodestar.core.picture.frame import plate_frame

from .. import drawing
from .tool import Tool


class PickColour(Tool):
    """A click adds the colour under it to the key in hand, or begins a new key; with Shift the nearest sample is taken away."""

    name, label, icon, tip = "key", "Key colour", "pipette", "Click a colour; a matte of all that is like it is made"

    def hint(self) -> str:
        if self.current() is None:
            return "Click a colour of what stands in front, or of the sky; a matte of all that is like it is made"
        return "Click more of its colours · Shift takes the nearest one away"

    def current(self) -> Keyer | None:
        found = next((m for m in self.session.shot.mattes if m.id == self.session.selected), None)
        return found if isinstance(found, Keyer) and found.by == "colour" else None

    def sample(self, at: QPointF) -> tuple[float, float, float] | None:
        """Linear light, Rec.709, under a place of the view; None beside the picture."""
        plate, (x, y) = self.session.shot.plate, self.canvas.to_plate(at)
        if plate is None or not (-0.5 <= x < plate.width - 0.5 and -0.5 <= y < plate.height - 0.5):
            return None
        try:
            codes = plate_frame(plate, self.session.frame)
        except PlateError as error:
            self.session.fail(error)
            return None
        i, j = max(int(y) - 3, 0), max(int(x) - 3, 0)
        light = light_of(np.ascontiguousarray(codes[i : i + 8, j : j + 8]), plate.transfer)
        return sample_at(in_working(light, plate.colour.primaries), x - j, y - i)

    def press(self, event) -> None:
        if event.button() != Qt.MouseButton.LeftButton or (sample := self.sample(event.position())) is None:
            return
        current = self.current()
        if current is None:
            number = 1 + sum(isinstance(m, Keyer) for m in self.session.shot.mattes)
            key = Keyer(id=new_id(), name=f"Key {number}", samples=(sample,))
            self.session.edit("Key a colour", lambda s: msgspec.structs.replace(s, mattes=(*s.mattes, key)))
            self.session.select(key.id)
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            if current.samples:
                away = np.linalg.norm(oklab(np.array(current.samples)) - oklab(np.array(sample)), axis=1)
                rest = tuple(s for k, s in enumerate(current.samples) if k != int(away.argmin()))
                self.session.edit_item("Take a colour away", current.id, samples=rest)
        elif len(current.samples) >= MOST_SAMPLES:
            self.refuse(f"A key holds {MOST_SAMPLES} colours.", "Take some away, or raise its tolerance.")
        else:
            self.session.edit_item("Add a colour to the key", current.id, samples=(*current.samples, sample))

    def paint(self, p: QPainter) -> None:
        """The colours of the key beside the pointer, so that one sees what was picked."""
        current = self.current()
        if self.pointer is None or current is None:
            return
        p.setPen(Qt.PenStyle.NoPen)
        for k, sample in enumerate(current.samples):
            r, g, b = np.clip(encode(np.array(sample), "srgb"), 0, 1)
            p.setBrush(QColor.fromRgbF(float(r), float(g), float(b)))
            p.drawRect(QRectF(self.pointer.x() + 14 + 9 * (k % 8), self.pointer.y() + 14 + 9 * (k // 8), 8, 8))
        drawing.tag(p, self.pointer + QPointF(14, 40), [f"{len(current.samples)} colours"] if len(current.samples) != 1 else ["1 colour"])
