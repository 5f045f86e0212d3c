"""Place: the titles, their letters, body, surface and stand."""

import msgspec
from PyQt6.QtWidgets import QCheckBox, QComboBox, QLineEdit

from lodestar.core.shape.fonts import SHIPPED, all_faces, faces_are_known
from lodestar.core.shot.document import Title
from lodestar.core.shot.keyed import EASINGS, constant

from ..fields import Swatch, button
from ..viewer.tools.titles import remove_title
from ..viewer.tools.tool import new_id
from .panel import Panel


class PlacePanel(Panel):
    step = "Place"

    def fill(self) -> None:
        self.new = button("Place a title", "new-title", "Point at a surface in the picture and click", lambda: self.session.use_tool("title"), True)
        self.head.addWidget(self.new)
        letters = self.section("Letters")
        self.words = QLineEdit()
        self.words.setObjectName("words")
        self.words.setAccessibleName("Words of the title")
        self.words.setToolTip("What the letters say; \\n begins a new line")
        self.words.textEdited.connect(self._words)
        letters.add("Words", self.words)
        self.face = QComboBox()
        self.face.setObjectName("face")
        self.face.setAccessibleName("Face")
        self.face.setToolTip("The face of the letters: two shipped ones, then the system's")
        self.face.addItems(list(SHIPPED))
        self.face.setMinimumContentsLength(8)
        self.face.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.face.activated.connect(lambda i: self._set("Choose face", face=self.face.itemText(i)))
        self._all_faces = False
        letters.add("Face", self.face)
        self._number(letters, "Height", "height", "m", 0.005, 3, low=0.001, reset=1.0, tip="Height of the capitals")
        self._number(letters, "Spacing", "spacing", "%", 0.1, 1, factor=100, reset=0.0, tip="Extra room between letters, in % of the em")
        body = self.section("Body")
        self._number(body, "Depth", "depth", "m", 0.002, 3, low=0.0001, reset=0.3, tip="How deep the letters are")
        self._number(body, "Bevel", "bevel", "m", 0.0005, 4, low=0.0, reset=0.02, tip="How wide their edges are rounded; at most 45 % of the depth")
        surface = self.section("Surface")
        self.colour = Swatch("title-colour", "Colour of the letters")
        self.colour.picked.connect(lambda rgb: self._set("Choose colour", colour=rgb))
        surface.add("Colour", self.colour)
        self._number(surface, "Roughness", "roughness", "", 0.005, 2, low=0, high=1, reset=0.45, tip="0 mirrors, 1 is matt")
        self._number(surface, "Metal", "metal", "", 0.005, 2, low=0, high=1, reset=0.0, tip="1 reflects in its own colour, as bare metal does")
        stands = self.section("Stands")
        self._vector(stands, "Position", "position", ("x", "y", "z"), "m", 0.01, 2, "Middle of the base line in the scene")
        self._vector(stands, "Turn", "turn", ("heading", "pitch", "roll"), "°", 0.5, 1, "Heading, pitch and roll")
        self._number(stands, "Size", "size", "×", 0.005, 3, low=0.001, reset=1.0, tip="Size as a factor, which can be keyed")
        self.stand = button("Stand up", "stand-up", "Upright on its base line", lambda: self._turn(0.0))
        self.lie = button("Lie down", "lie-down", "Flat on the ground, to be read from above", lambda: self._turn(-90.0))
        stands.add("Pose", self.stand, self.lie)
        self.drop = button("Drop to the ground", "drop", "Base line onto the ground", self._drop)
        stands.add("", self.drop)
        when = self.section("Span and keys")
        self.first = self.field("span-first", step=0.2, decimals=0, low=0, tip="First frame in which it is there")
        self.last = self.field("span-last", step=0.2, decimals=0, low=0, tip="Last frame in which it is there")
        when.add("From, to", self.first, self.last)
        self.first.changed.connect(lambda v, g: self._span(0, round(v), g))
        self.last.changed.connect(lambda v, g: self._span(1, round(v), g))
        self.keying = QCheckBox("Drags set keys")
        self.keying.setObjectName("keying")
        self.keying.setToolTip("On: what is dragged or typed is keyed at this frame. Off: the whole motion moves")
        self.keying.toggled.connect(self.session.set_keying)
        when.add("Keying", self.keying)
        self.easing = QComboBox()
        self.easing.setObjectName("easing")
        self.easing.setAccessibleName("Easing after the key here")
        self.easing.setToolTip("How the position goes on from the key at this frame to the next")
        self.easing.addItems(["hold", *EASINGS])
        self.easing.activated.connect(lambda i: self._ease(self.easing.itemText(i)))
        when.add("Easing", self.easing)
        self.visible = QCheckBox("Visible")
        self.visible.setObjectName("visible")
        self.visible.setToolTip("Whether the title is in the picture")
        self.visible.clicked.connect(lambda on: self._set("Show or hide", visible=on))
        self.locked = QCheckBox("Locked")
        self.locked.setObjectName("locked")
        self.locked.setToolTip("Locked titles cannot be dragged in the picture")
        self.locked.clicked.connect(lambda on: self._set("Lock", locked=on))
        when.add("", self.visible, self.locked)
        self.copy = button("Duplicate", "duplicate", "A second one beside it", self._duplicate)
        self.delete = button("Delete", "delete-title", "Take this title away", lambda: remove_title(self.session, self.session.title().id))
        when.add("", self.copy, self.delete)
        self.parts = (letters, body, surface, stands, when)

    def _number(
        self, section, label: str, part: str, unit: str, step: float, decimals: int, tip: str, low=-1e9, high=1e9, reset=None, factor=1.0
    ) -> None:
        field = self.field(part, unit=unit, step=step, decimals=decimals, low=low, high=high, reset=reset, factor=factor, tip=tip)
        self.keyed(
            section, label, [field], lambda: self._part(part), lambda value, group: self._set(f"Change {label.lower()}", group, **{part: value})
        )

    def _vector(self, section, label: str, part: str, names, unit: str, step: float, decimals: int, tip: str) -> None:
        fields = [self.field(f"{part}-{n}", step=step, decimals=decimals, reset=0.0, tip=f"{tip}: {n}, in {unit}") for n in names]
        self.keyed(
            section, label, fields, lambda: self._part(part), lambda value, group: self._set(f"Change {label.lower()}", group, **{part: value})
        )

    def _part(self, part: str):
        title = self.session.title()
        return getattr(title, part) if title is not None else None

    def _set(self, label: str, group: object = None, **fields) -> None:
        title = self.session.title()
        if title is not None:
            self.session.edit_item(label, "titles", title.id, group, **fields)

    def _words(self, text: str) -> None:
        self._set("Type", ("words", self.session.selected), text=text.replace("\\n", "\n"))

    def _turn(self, pitch: float) -> None:
        title = self.session.title()
        if title is not None:
            heading = title.turn.at(self.session.frame)[0]
            self._set("Stand up or lie down", turn=title.turn.changed(self.session.frame, (heading, pitch, 0.0), self.session.keying))

    def _drop(self) -> None:
        title = self.session.title()
        if title is not None:
            x, y, _ = title.position.at(self.session.frame)
            self._set("Drop to the ground", position=title.position.changed(self.session.frame, (x, y, 0.0), self.session.keying))

    def _span(self, end: int, frame: int, group: object) -> None:
        title, plate = self.session.title(), self.session.shot.plate
        if title is None or plate is None:
            return
        span = list(title.span or (0, plate.count - 1))
        span[end] = min(max(frame, 0), plate.count - 1)
        if span[0] > span[1]:
            span[1 - end] = span[end]
        self._set("Change span", group, span=(span[0], span[1]))

    def _ease(self, easing: str) -> None:
        title = self.session.title()
        if title is not None:
            self._set("Set easing", position=title.position.with_easing(self.session.frame, easing))

    def _duplicate(self) -> None:
        title = self.session.title()
        x, y, z = title.position.at(self.session.frame)
        copy: Title = msgspec.structs.replace(title, id=new_id(), position=constant(x, y + 1.5 * title.height.at(self.session.frame)[0], z))
        self.session.edit("Duplicate title", lambda s: msgspec.structs.replace(s, titles=(*s.titles, copy)))
        self.session.select(copy.id)

    def refresh(self) -> None:
        super().refresh()
        title = self.session.title()
        shot = self.session.shot
        for part in self.parts:
            part.setVisible(title is not None)
        self.new.setEnabled(shot.plate is not None)
        self.new.setProperty("role", "main" if title is None else "")
        self.new.style().unpolish(self.new)
        self.new.style().polish(self.new)
        self.title.setText(title.name if title is not None else "Place")
        if title is None:
            if shot.titles:
                self.help.setText("Click a title in the picture or its lane to change it.")
                self.help.show()
            return
        if not self._all_faces and faces_are_known():
            self._all_faces = True
            self.face.clear()
            self.face.addItems(all_faces())
        text = title.text.replace("\n", "\\n")
        if self.words.text() != text:
            self.words.setText(text)
        self.face.setCurrentText(title.face)
        self.colour.show_colour(title.colour)
        span = title.span or (0, shot.plate.count - 1 if shot.plate else 0)
        self.first.show_value(span[0])
        self.last.show_value(span[1])
        self.keying.setChecked(self.session.keying)
        self.visible.setChecked(title.visible)
        self.locked.setChecked(title.locked)
        here = next((k for k in title.position.keys if k.frame == self.session.frame), None)
        self.easing.setEnabled(here is not None)
        if here is not None:
            self.easing.setCurrentText(here.easing)
