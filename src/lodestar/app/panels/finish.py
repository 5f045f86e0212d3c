"""Finish: what makes the titles belong. For now the motion blur of the real camera move."""

from ..fields import quiet
from .panel import Panel


class FinishPanel(Panel):
    step = "Finish"

    def fill(self) -> None:
        blur = self.section("Motion blur")
        shutter = self.field("shutter", unit="°", step=1, decimals=0, low=0, high=360, factor=360, reset=0.5,
                             tip="Shutter of the camera: 180° is open for half of each frame; 0 is no blur")  # fmt: skip
        self.keyed(blur, "Shutter", [shutter], lambda: "finish", "shutter", "Change shutter")
        blur.add_wide(quiet("The letters blur with the camera's own move and with their keys, in final quality. Match it to the blur of the plate."))
