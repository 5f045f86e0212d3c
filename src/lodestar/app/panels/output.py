"""Output: write the finished movie or pictures."""

from pathlib import Path

from PyQt6.QtWidgets import QCheckBox

from lodestar.core.picture.frame import DELIVERED

from ..fields import Choice, button, quiet
from .mattes import MatteChoice, Names
from .panel import Panel

KINDS = {"Movie (H.264)": ".mp4", "Pictures (PNG)": ".png", "Pictures (EXR, linear)": ".exr"}
LAYERS = {"Finished picture": "picture", "Titles alone": "layers", "Shadow": "shadow", "Matte": "matte", "Clean plate": "clean"}


class OutputPanel(Panel):
    step = "Output"

    def fill(self) -> None:
        what = self.section("What")
        self.kind, self.layer, self.quality = Choice(), Choice(), Choice()
        for box, name, items, tip in (
            (self.kind, "output-kind", KINDS, "A movie plays anywhere; pictures keep every detail"),
            (self.layer, "output-layer", LAYERS, "The finished picture, or one part of it for another program"),
            (self.quality, "output-quality", {q: q for q in DELIVERED}, "Final: antialiased, soft shadows, motion blur; draft: one pass"),
        ):
            box.setObjectName(name)
            box.setAccessibleName(name.replace("-", " "))
            box.setToolTip(tip)
            box.addItems(items)
            box.setSizeAdjustPolicy(Choice.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(8)
        self.quality.setCurrentText("final")
        what.add("File", self.kind)
        what.add("Picture", self.layer)
        what.add("Quality", self.quality)
        self._mattes: Names = None  # a choice of this window, as the layer is
        self.mattes = MatteChoice(
            self.session, "output-mattes", "all that are on", None, "Which mattes are written", lambda: self._mattes, self._choose_mattes
        )
        self.matte_row = [self.mattes, *filter(None, [what.add("Mattes", self.mattes)])]
        self.layer.activated.connect(lambda _: self.refresh())
        self.sound = QCheckBox("With the clip's sound")
        self.sound.setObjectName("output-sound")
        self.sound.setToolTip("Sound of the range between in and out")
        self.sound.setChecked(True)
        what.add("Sound", self.sound)
        self.go = button(
            "Write…", "write-output", "Choose a name and begin; the window stays free meanwhile", lambda: self.commands.run("write-output"), True
        )
        self.box.addSpacing(4)
        self.box.addWidget(self.go)
        self.note = quiet()
        self.box.addSpacing(6)
        self.box.addWidget(self.note)

    def how(self) -> dict:
        """Arguments of the delivery as they are chosen."""
        layer, known = LAYERS[self.layer.currentText()], {m.id for m in self.session.shot.mattes}
        how = {"quality": self.quality.currentText(), "layer": layer, "sound": self.sound.isChecked()}
        named = None if self._mattes is None else tuple(name for name in self._mattes if name in known)
        return how | {"mattes": named} if layer == "matte" else how

    def _choose_mattes(self, names: Names) -> None:
        self._mattes = names
        self.refresh()

    def suffix(self) -> str:
        return KINDS[self.kind.currentText()]

    def refresh(self) -> None:
        super().refresh()
        shot = self.session.shot
        for part in self.matte_row:
            part.setVisible(LAYERS[self.layer.currentText()] == "matte")
        self.mattes.refresh()
        self.go.setEnabled(shot.plate is not None and not self.session.jobs.busy)
        movie = self.suffix() == ".mp4"
        self.sound.setEnabled(movie and bool(shot.plate and shot.plate.has_sound))
        last = Path(shot.output.path)
        count = len(shot.frames) if shot.plate else 0
        self.note.setText(
            f"{count} frames, {shot.first} to {shot.last}." + (f" Written last: {last.name}" if shot.output.path else "") if shot.plate else ""
        )
