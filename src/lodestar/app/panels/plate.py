"""Plate: the clip, its in and out, and what is known of the lens."""

from pathlib import Path

import msgspec

from ..fields import button
from ..readings import rate_text
from .panel import Panel


class PlatePanel(Panel):
    step = "Plate"

    def fill(self) -> None:
        self.open = button(
            "Open a clip", "open-clip", "Choose a movie, or a picture of a numbered sequence", lambda: self.commands.run("open-clip"), True
        )
        self.demo = button(
            "Open the demo", "open-demo", "The Fellgate open night, tracked, solved and titled", lambda: self.commands.run("open-demo")
        )
        self.box.addWidget(self.open)
        self.box.addSpacing(6)
        self.box.addWidget(self.demo)
        self.clip = self.section("Clip")
        self.rows = {name: self.clip.add_fact(name) for name in ("File", "Size", "Rate", "Length", "Colour", "Sound")}
        self.find = button(
            "Say where the clip is", "find-clip", "Choose the clip again; everything else stays", lambda: self.commands.run("find-clip")
        )
        self.clip.add_wide(self.find)
        self.range = self.section("In and out")
        self.first = self.field("first-frame", step=0.2, decimals=0, low=0, tip="First frame that is used")
        self.last = self.field("last-frame", step=0.2, decimals=0, low=0, tip="Last frame that is used")
        self.range.add("From, to", self.first, self.last)
        self.first.changed.connect(lambda v, g: self._range(first=round(v), group=g))
        self.last.changed.connect(lambda v, g: self._range(last=round(v), group=g))
        self.lens = self.section("Lens")
        self.focal = self.field(
            "known-focal", unit="px", step=1, decimals=0, low=0, reset=0, tip="Focal length in pixels, if it is known; 0 lets the solve find it"
        )
        self.lens.add("Focal length", self.focal)
        self.focal.changed.connect(lambda v, g: self.session.edit_part("Set focal length", "solving", g, focal_px=v))

    def _range(self, group=None, first: int | None = None, last: int | None = None) -> None:
        shot = self.session.shot
        if shot.plate is None:
            return
        a = min(max(shot.first if first is None else first, 0), shot.plate.count - 1)
        b = min(max(shot.last if last is None else last, 0), shot.plate.count - 1)
        a, b = (min(a, b), b) if first is not None else (a, max(a, b))
        self.session.edit("Set in and out", lambda s: msgspec.structs.replace(s, first=a, last=b), group)

    def refresh(self) -> None:
        super().refresh()
        shot = self.session.shot
        plate = shot.plate
        for part in (self.clip, self.range, self.lens):
            part.setVisible(plate is not None)
        self.open.setVisible(plate is None)
        self.demo.setVisible(plate is None)
        if plate is None:
            return
        missing = not Path(plate.path).exists()
        self.find.setVisible(missing)
        name = Path(plate.path).name
        values = {"File": (name if len(name) < 24 else name[:21] + "…", "missing" if missing else ""), "Size": (f"{plate.width} × {plate.height}", ""),
                  "Rate": (f"{rate_text(plate.rate)} fps", "varies" if plate.rate_varies else ""),
                  "Length": (f"{plate.count}", f"frames · {plate.seconds:.2f} s"),
                  "Colour": ({"rec709": "Rec.709", "srgb": "sRGB", "linear": "linear"}[plate.transfer], plate.codec),
                  "Sound": ("yes" if plate.has_sound else "none", "")}  # fmt: skip
        for key, (value, note) in values.items():
            self.rows[key][0].setText(value)
            self.rows[key][1].setText(note)
        self.first.show_value(shot.first)
        self.last.show_value(shot.last)
        self.focal.show_value(shot.solving.focal_px, "found" if not shot.solving.focal_px else "")
