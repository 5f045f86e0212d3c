"""Solve: how well the camera holds, where in the picture it does not, the lens, and how to mend it."""

from collections.abc import Callable

import msgspec
import numpy as np
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QPainter
from PyQt6.QtWidgets import QCheckBox, QWidget

from lodestar.core.basics.errors import UserError
from lodestar.core.shot.document import Shot, solve_is_stale, tracks_are_stale
from lodestar.core.solve.known import says_of_itself
from lodestar.core.solve.sensors import Sensor, focal_px, remember, sensors

from .. import theme
from ..commands import Command
from ..derived import mean_errors, report_of
from ..fields import Choice, button, quiet
from ..measures import figure, sentence
from ..needs import a_clip, no_work
from ..readings import MOTION_WORDS
from ..viewer.tools.marks import reject_tracks
from .panel import Panel

MOTIONS = {"auto": "Find out", "free": "Moves freely", "turning": "Only turns", "still": "Stands still"}
ZOOMS = {"auto": "Find out", "none": "Does not", "zooms": "Zooms"}


class RegionMap(QWidget):
    """Error by part of the picture: colour is the error, size of the cell the number of tracks, a dot is none."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("region-map")
        self.setFixedHeight(140)
        self.setToolTip("Colour: error in that part of the picture · size: how many tracks · dot: none")
        self.setAccessibleName("Error by part of the picture")
        self.error, self.count = np.zeros((5, 8)), np.zeros((5, 8), int)

    def show_map(self, error: np.ndarray, count: np.ndarray) -> None:
        self.error, self.count = error, count
        self.update()

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(QColor(theme.FIELD))
        p.drawRoundedRect(QRectF(self.rect()), 4, 4)
        rows, columns = self.error.shape
        w, h = self.width() / columns, self.height() / rows
        most = max(float(np.percentile(self.count, 85)), 1)
        for j in range(rows):
            for i in range(columns):
                cx, cy = (i + 0.5) * w, (j + 0.5) * h
                if self.count[j, i] == 0:
                    p.setBrush(QColor(theme.OFF))
                    p.drawEllipse(QRectF(cx - 1, cy - 1, 2, 2))
                    continue
                size = 0.35 + 0.6 * min(self.count[j, i] / most, 1.0)
                p.setBrush(theme.error_colour(self.error[j, i]))
                p.drawRoundedRect(QRectF(cx - w * size / 2, cy - h * size / 2, w * size, h * size), 2, 2)


class SolvePanel(Panel):
    step = "Solve"

    def own_commands(self) -> list[Command]:
        idle = a_clip(self.session) & no_work(self.session)
        return [Command("solve", "Edit", "Solve", self.solve, "Ctrl+Return", idle)]

    def solve(self) -> None:
        shot = self.session.shot
        self.session.show_step("Solve")
        if shot.tracks is None or tracks_are_stale(shot):
            self.session.work.track_and_solve()
        else:
            self.session.work.solve()

    def parts(self) -> tuple[Callable[[], None], ...]:
        return (self._fill_verdict, self._fill_lens, self._fill_rejecting, self._fill_starting)

    def _fill_verdict(self) -> None:
        self.go = button("Solve", "solve", "Find the camera from the tracks", lambda: self.commands.run("solve"), True)
        self.head.addWidget(self.go)
        self.well = self.section("How well it holds")
        self.verdict, self.action = quiet(), quiet()
        self.verdict.setObjectName("verdict")
        self.verdict.setProperty("role", "label")
        self.action.setObjectName("next-action")
        self.well.add_wide(self.verdict)
        self.well.add_wide(self.action)
        names = ("Average", "Middle, 95 %", "A title slides", "Against noise", "Worst frame", "Parallax", "Tracks used", "Camera")
        self.rows = {name: self.well.add_fact(name) for name in names}
        self.why = quiet()
        self.well.add_wide(self.why)
        self.where = self.section("Where in the picture")
        self.map = RegionMap()
        self.where.add_wide(self.map)
        self._mapped: object = None

    def _fill_rejecting(self) -> None:
        self.mend = mend = self.section("Mend it")
        self.limit = self.field(
            "reject-above", unit="px", step=0.02, decimals=2, low=0.1, high=5, reset=1.0, tip="Tracks with a larger error are rejected"
        )
        self.limit.show_value(1.0)
        self.limit.changed.connect(lambda v, g: self.refresh())
        mend.add("Error over", self.limit)
        self.reject = button("Reject them", "reject-worst", "Grey every track above this error; then solve again", self._reject)
        mend.add_wide(self.reject)
        self.motion = self._choice("motion", "Camera motion", "Whether the camera moves, only turns on the spot, or stands still", MOTIONS.values())
        self.motion.activated.connect(lambda i: self.session.edit_part("Set camera motion", "solving", motion=list(MOTIONS)[i]))
        mend.add("Camera", self.motion)

    def _fill_starting(self) -> None:
        mend = self.mend
        self.start = self._choice(
            "solve-start", "Where a solve starts", "Whether the next solve goes on from this one, or begins anew", ("From nothing", "From this one")
        )
        self.start.activated.connect(lambda i: self.session.edit_part("Set start of the solve", "solving", refine=bool(i)))
        mend.add("Start", self.start)
        self.reference = self.field(
            "reference-frame",
            step=0.1,
            decimals=0,
            low=-1,
            high=100000,
            reset=-1,
            tip="The frame from which a solve from nothing grows; -1 lets it choose",
        )
        self.reference.changed.connect(
            lambda v, g: self.session.edit_part("Set reference frame", "solving", g, reference=None if v < 0 else round(v))
        )
        mend.add("Grows from", self.reference)
        self.hold = QCheckBox("holds the solve")
        self.hold.setObjectName("hold")
        self.hold.setToolTip("Distances and directions that were said of the ground hold the solve; there have to be two or more")
        self.hold.toggled.connect(lambda on: self.session.edit_part("Hold the solve to what is known", "solving", hold=on))
        mend.add("What is known", self.hold)

    def _choice(self, name: str, spoken: str, tip: str, words) -> Choice:
        box = Choice()
        box.setObjectName(name)
        box.setAccessibleName(spoken)
        box.setToolTip(tip)
        box.addItems(list(words))
        box.setSizeAdjustPolicy(Choice.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(8)  # a long word never widens the panel
        return box

    def _fill_lens(self) -> None:
        self.lens = self.section("Lens")
        self.lens_rows = {
            name: self.lens.add_fact(name) for name in ("Focal length", "Distortion k1", "Distortion k2", "Sees across", "Rows read in")
        }
        edit = self.session.edit_part
        self.focal = self.field(
            "focal-px", unit="px", step=1.0, decimals=1, low=0, high=100000, reset=0, tip="The focal length if you know it; 0 lets it be found"
        )
        self.focal.changed.connect(lambda v, g: edit("Set focal length", "solving", g, focal_px=v))
        self.lens.add("Known focal", self.focal)
        try:
            self.sensors = sensors()
        except UserError as error:
            self.sensors = []
            self.session.fail(error)
        self.sensor = self._choice(
            "sensor",
            "Sensor",
            "The sensor's width, by which millimetres become pixels; your own are kept in sensors.json",
            [f"{x.name} · {figure(x.width_mm)} mm" for x in self.sensors],
        )
        self.focal_mm = self.field(
            "focal-mm",
            unit="mm",
            step=0.1,
            decimals=1,
            low=0,
            high=2000,
            reset=0,
            tip="The focal length that stands on the lens, with the sensor below",
        )
        self.focal_mm.changed.connect(lambda v, g: self._set_lens("Set focal length", g, focal_mm=v))
        self.sensor.activated.connect(lambda i: self._set_lens("Choose sensor", sensor_mm=self.sensors[i].width_mm))
        self.lens.add("In mm", self.focal_mm)
        self.lens.add("on", self.sensor)
        self.sensor_mm = self.field(
            "sensor-width",
            unit="mm",
            step=0.05,
            decimals=1,
            low=1,
            high=200,
            reset=36.0,
            tip="A sensor of another width; it joins the list, and is kept for other shots",
        )
        self.sensor_mm.changed.connect(lambda v, g: self._own_sensor(v) if g is None else None)
        self.lens.add("or of width", self.sensor_mm)
        self.distortion = []
        for k in (0, 1):
            solved = QCheckBox("find")
            solved.setObjectName(f"solve-k{k + 1}")
            solved.setToolTip(f"Whether k{k + 1} is found, or taken as it stands here")
            value = self.field(
                f"given-k{k + 1}", step=0.0005, decimals=4, low=-2, high=2, reset=0, tip=f"The value of k{k + 1} while it is not found"
            )
            solved.toggled.connect(lambda on, k=k: edit("Set what is found", "solving", **{f"k{k + 1}": on}))
            value.changed.connect(lambda v, g, k=k: self._set_distortion(k, v, g))
            self.lens.add(f"Distortion k{k + 1}", solved, value)
            self.distortion.append((solved, value))
        self.rolling = QCheckBox("rolling")
        self.rolling.setObjectName("rolling")
        self.rolling.setToolTip("Find how long the sensor takes from its first row to its last (a rolling shutter)")
        self.rolling.toggled.connect(lambda on: edit("Set rolling shutter", "solving", rolling=on))
        self.lens.add("Shutter", self.rolling)
        self.zoom = self._choice("lens-zoom", "Zoom of the lens", "Whether the focal length changes within the shot", ZOOMS.values())
        self.zoom.activated.connect(lambda i: edit("Set zoom", "solving", zoom=list(ZOOMS)[i]))
        self.lens.add("Zoom", self.zoom)

    def _own_sensor(self, width_mm: float) -> None:
        """A width that was typed: the sensor that has it, or a new one of the user's own."""
        found = next((k for k, x in enumerate(self.sensors) if abs(x.width_mm - width_mm) < 0.05), None)
        if found is None:
            own = Sensor(f"Own {figure(width_mm)}", round(width_mm, 2))
            try:
                remember(own)
            except UserError as error:
                self.session.fail(error)
            self._list_sensor(own)
            found = self.sensors.index(own)
        self._set_lens("Choose sensor", sensor_mm=self.sensors[found].width_mm)

    def _list_sensor(self, sensor: Sensor) -> None:
        self.sensors = sorted([*self.sensors, sensor], key=lambda x: -x.width_mm)
        self.sensor.clear()
        self.sensor.addItems([f"{x.name} · {figure(x.width_mm)} mm" for x in self.sensors])

    def _show_sensor(self, width_mm: float) -> None:
        """The sensor of this shot; one that the list does not have, from another machine, joins it."""
        found = next((k for k, x in enumerate(self.sensors) if abs(x.width_mm - width_mm) < 0.05), None)
        if found is None:
            self._list_sensor(Sensor(f"Of this shot {figure(width_mm)}", width_mm))
            found = next(k for k, x in enumerate(self.sensors) if x.width_mm == width_mm)
        self.sensor.setCurrentIndex(found)

    def _set_distortion(self, k: int, value: float, group: object) -> None:
        distortion = list(self.session.shot.solving.distortion)
        distortion[k] = value
        self.session.edit_part(f"Set k{k + 1}", "solving", group, distortion=tuple(distortion))

    def _set_lens(self, label: str, group: object = None, *, focal_mm: float | None = None, sensor_mm: float | None = None) -> None:
        """Millimetres on a sensor say the focal length in pixels; another sensor keeps the millimetres that were said."""

        def change(shot: Shot) -> Shot:
            if shot.plate is None:
                return shot
            width = shot.sensor_mm if sensor_mm is None else sensor_mm
            said = shot.solving.focal_px * shot.sensor_mm / shot.plate.width if focal_mm is None else focal_mm
            pixels = round(focal_px(said, width, shot.plate.width), 2)
            return msgspec.structs.replace(shot, sensor_mm=width, solving=msgspec.structs.replace(shot.solving, focal_px=pixels))

        self.session.edit(label, change, group)

    def _above(self) -> np.ndarray:
        shot = self.session.shot
        if shot.solve is None or shot.tracks is None:
            return np.zeros(0, int)
        ids = np.flatnonzero(np.nan_to_num(mean_errors(shot)) > self.limit.value)
        return ids[~shot.tracks.rejected[ids]]

    def _reject(self) -> None:
        above = self._above()
        if len(above):
            reject_tracks(self.session, above)

    def refresh(self) -> None:
        super().refresh()
        shot, solve, asked = self.session.shot, self.session.shot.solve, self.session.shot.solving
        self.go.setEnabled(shot.plate is not None and not self.session.jobs.busy)
        self.go.setText("Solve again" if solve is not None else "Solve" if shot.tracks is not None else "Track and solve")
        for part in (self.well, self.where):
            part.setVisible(solve is not None)
        above = self._above()
        self.reject.setText(f"Reject {len(above)} tracks" if len(above) else "None is above it")
        self.reject.setEnabled(bool(len(above)))
        self.motion.setCurrentIndex(list(MOTIONS).index(asked.motion))
        self.start.setCurrentIndex(int(asked.refine))
        self.start.setEnabled(solve is not None)
        self.reference.show_value(-1 if asked.reference is None else asked.reference, "any" if asked.reference is None else "")
        self.focal.show_value(asked.focal_px, "" if asked.focal_px else "find it")
        if self.sensors and shot.plate is not None:
            self._show_sensor(shot.sensor_mm)
            self.sensor_mm.show_value(shot.sensor_mm)
            self.focal_mm.show_value(asked.focal_px * shot.sensor_mm / shot.plate.width)
        for k, (solved, value) in enumerate(self.distortion):
            _show_tick(solved, (asked.k1, asked.k2)[k])
            value.show_value(asked.distortion[k])
            value.setEnabled(not solved.isChecked())
        _show_tick(self.rolling, asked.rolling)
        self.zoom.setCurrentIndex(list(ZOOMS).index(asked.zoom))
        _show_tick(self.hold, asked.hold)
        self.hold.setEnabled(asked.hold or says_of_itself(shot.ground.spans))
        for row in self.lens_rows.values():
            for label in row:
                label.setText("" if solve is not None else "·" if label is row[0] else "")
        if solve is not None and shot.tracks is not None:
            self._refresh_solve(solve)

    def _refresh_solve(self, solve) -> None:
        shot = self.session.shot
        told = report_of(shot)
        if told is None:
            self.verdict.setText("How well it holds is being worked out.")
            for figure_, quiet_note in self.rows.values():
                figure_.setText("·")
                quiet_note.setText("")
            return
        fps = shot.plate.fps if shot.plate else 25
        worst = int(solve.frame_error.argmax())
        self.verdict.setText(sentence(told.verdict))
        self.action.setText(sentence(told.action))
        self.action.setVisible(bool(told.action))
        slides = (
            (f"{figure(max(told.slip_px, 0.05), 2)} px", f"95 %: {figure(max(told.slip_p95_px, 0.05), 2)} px")
            if told.slip_p95_px
            else ("?", "solve again to know")
        )
        values = {
            "Average": (f"{figure(solve.mean_px, 2)} px", told.word),
            "Middle, 95 %": (f"{figure(solve.median_px, 2)} px", f"{figure(solve.p95_px, 2)} px"),
            "A title slides": slides,
            "Against noise": (f"{figure(told.ratio, 2)} ×" if told.ratio else "?", f"tracks: {figure(told.noise_px, 2)} px" if told.ratio else ""),
            "Worst frame": (f"{figure(solve.frame_error[worst], 2)} px", f"{solve.frames[worst]}, at {figure(solve.frames[worst] / fps, 2)} s"),
            "Parallax": (
                f"{figure(solve.parallax_deg, 1)}°",
                "none is needed" if solve.motion != "free" else "plenty" if solve.parallax_deg > 3 else "little",
            ),
            "Tracks used": (f"{solve.tracks}", f"{solve.inliers:.0%} fits"),
            "Camera": (MOTION_WORDS[solve.motion], "stale" if solve_is_stale(shot) else ""),
        }
        for name, (value, note) in values.items():
            self.rows[name][0].setText(value)
            self.rows[name][1].setText(note)
        self.why.setText(sentence(solve.why[:1].upper() + solve.why[1:] + ".") if solve.why else "")
        self.well.fact.setText("stale" if solve_is_stale(shot) else told.state)
        lens, dev = solve.lens, solve.lens_deviation
        across = 2 * np.rad2deg(np.arctan(abs(lens.undistort(np.array([0.0, lens.cy]))[0])))
        hint = f"looks like {figure(solve.looks_rolling, 2)}" if solve.looks_rolling else ""
        readout = (f"{figure(solve.readout, 2)} frame", "") if solve.readout else ("at once", hint)
        ends = lens.fx * solve.zooms[[0, -1]]
        focal = f"{figure(ends[0], 0)} to {figure(ends[1], 0)}" if len(solve.zoom) else f"{figure(lens.fx, 1)} px"
        # a camera that stands still shows nothing of its lens: it is as it was entered, or the usual one
        off = ["not seen" if solve.motion == "still" else f"± {figure(d, n)}" for d, n in zip(dev, (1, 4, 4), strict=True)]
        for name, value, note in (
            ("Focal length", focal, off[0]),
            ("Distortion k1", figure(lens.k1, 4), off[1]),
            ("Distortion k2", figure(lens.k2, 4), off[2]),
            ("Sees across", f"{figure(across, 1)}°", ""),
            ("Rows read in", *readout),
        ):
            self.lens_rows[name][0].setText(value.replace("-", "−"))
            self.lens_rows[name][1].setText(note)
        if self._mapped is not solve:
            self._mapped = solve
            self.map.show_map(told.region_error, told.region_count)


def _show_tick(box: QCheckBox, on: bool) -> None:
    if box.isChecked() != on:
        box.blockSignals(True)
        box.setChecked(on)
        box.blockSignals(False)
