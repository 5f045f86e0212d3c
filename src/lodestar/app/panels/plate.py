"""Plate: the clip, its in and out, and what is known of the lens."""

from collections.abc import Callable
from pathlib import Path

import msgspec

from lodestar.core.media.plates import PlateInfo
from lodestar.core.shot.document import Shot

from ..fields import Choice, button, quiet
from ..measures import figure
from ..readings import rate_text
from .panel import Panel

TRANSFER_WORDS = {
    "rec709": "Rec.709",
    "srgb": "sRGB",
    "hlg": "HLG",
    "pq": "PQ",
    "linear": "Linear",
    "gamma22": "Gamma 2.2",
    "gamma28": "Gamma 2.8",
    "smpte240m": "SMPTE 240M",
    "log100": "Log 100:1",
    "log316": "Log 316:1",
    "st428": "SMPTE ST 428",
}
PRIMARY_WORDS = {
    "bt709": "Rec.709, sRGB",
    "bt2020": "BT.2020",
    "display-p3": "P3, D65",
    "dci-p3": "P3, DCI",
    "bt470bg": "BT.470 B, G",
    "smpte170m": "SMPTE 170M",
    "bt470m": "BT.470 M",
    "film": "Film",
}
MATRIX_WORDS = {"bt709": "BT.709", "bt2020": "BT.2020", "bt601": "BT.601", "smpte240m": "SMPTE 240M", "rgb": "none, RGB"}
RANGE_WORDS = {False: "limited", True: "full"}
UNTOLD_WORDS = {"transfer": "transfer", "primaries": "primaries", "matrix": "matrix"}


class PlatePanel(Panel):
    step = "Plate"

    def parts(self) -> tuple[Callable[[], None], ...]:
        return (self._fill_clip, self._fill_colour, self._fill_range)

    def _fill_clip(self) -> None:
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
        self.rows = {name: self.clip.add_fact(name) for name in ("File", "Size", "Rate", "Length", "Codec", "Sound")}
        self.find_clip = button(
            "Say where the clip is", "find-clip", "Choose the clip again; everything else stays", lambda: self.commands.run("find-clip")
        )
        self.clip.add_wide(self.find_clip)

    def _fill_colour(self) -> None:
        self.colour = self.section("Colour")
        self.colours: dict[str, Choice] = {}
        for part, label, names, tip in (
            ("transfer", "Transfer", TRANSFER_WORDS, "How light is coded in the clip; titles are lit in the same light"),
            ("primaries", "Primaries", PRIMARY_WORDS, "Which red, green and blue the clip speaks of"),
            ("matrix", "Matrix", MATRIX_WORDS, "How brightness and colour are kept apart in the clip"),
            ("full_range", "Range", RANGE_WORDS, "Whether black and white are the ends of the scale, or lie inside it"),
        ):
            combo = Choice()
            combo.setObjectName(f"colour-{part.replace('_', '-')}")
            combo.setAccessibleName(label)
            combo.setToolTip(tip)
            combo.setMinimumContentsLength(8)
            combo.setSizeAdjustPolicy(Choice.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            for value, words in names.items():
                combo.addItem(words, value)
            combo.activated.connect(lambda i, part=part, combo=combo: self._set_colour(part, combo.itemData(i)))
            self.colours[part] = combo
            self.colour.add(label, combo)
        self.untold = quiet()
        self.untold.setObjectName("colour-untold")
        self.colour.add_wide(self.untold)

    def _fill_range(self) -> None:
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

    def _set_colour(self, part: str, value: object) -> None:
        def change(shot: Shot) -> Shot:
            if shot.plate is None:
                return shot
            colour = msgspec.structs.replace(shot.plate.colour, **{part: value})
            untagged = tuple(u for u in shot.plate.untagged if u != part)
            return msgspec.structs.replace(shot, plate=msgspec.structs.replace(shot.plate, colour=colour, untagged=untagged))

        self.session.edit("Say how the clip's colours are read", change)

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
        for part in (self.clip, self.colour, self.range, self.lens):
            part.setVisible(plate is not None)
        self.open.setVisible(plate is None)
        self.demo.setVisible(plate is None)
        if plate is None:
            return
        missing = not Path(plate.path).exists()
        self.find_clip.setVisible(missing)
        name = Path(plate.path).name
        values = {
            "File": (name if len(name) < 24 else name[:21] + "…", "missing" if missing else ""),
            "Size": (f"{plate.width} × {plate.height}", ""),
            "Rate": (f"{rate_text(plate.rate)} fps", "varies" if plate.rate_varies else ""),
            "Length": (f"{plate.count}", f"frames · {figure(plate.seconds, 2)} s"),
            "Codec": (plate.codec, f"{plate.depth} bits"),
            "Sound": ("yes" if plate.has_sound else "none", ""),
        }
        for key, (value, note) in values.items():
            self.rows[key][0].setText(value)
            self.rows[key][1].setText(note)
        self._show_colour(plate)
        self.first.show_value(shot.first)
        self.last.show_value(shot.last)
        self.focal.show_value(shot.solving.focal_px, "found" if not shot.solving.focal_px else "")

    def _show_colour(self, plate: PlateInfo) -> None:
        for part, combo in self.colours.items():
            combo.setCurrentIndex(combo.findData(getattr(plate.colour, part)))
        for part in ("matrix", "full_range"):  # pictures have neither
            self.colours[part].setEnabled(plate.kind == "movie" and plate.colour.matrix != "rgb")
        self.colour.fact.setText(TRANSFER_WORDS[plate.transfer])
        untold = [UNTOLD_WORDS[u] for u in plate.untagged if u in UNTOLD_WORDS] if plate.kind == "movie" else []
        self.untold.setText(f"The file does not say: {', '.join(untold)}. The usual is taken." if untold else "")
        self.untold.setVisible(bool(untold))
