"""Solve: how well the camera holds, where in the picture it does not, the lens, and how to mend it."""

import numpy as np
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QPainter
from PyQt6.QtWidgets import QComboBox, QWidget

from lodestar.core.shot.document import solve_is_stale
from lodestar.core.solve.camera import region_map

from .. import theme
from ..fields import button, quiet
from ..viewer.overlays import errors_of
from ..viewer.tools.marks import reject_tracks
from .panel import Panel

MOTIONS = {"auto": "Find out", "free": "Moves freely", "turning": "Only turns"}


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

    def fill(self) -> None:
        self.go = button("Solve", "solve", "Find the camera from the tracks", lambda: self.commands.run("solve"), True)
        self.head.addWidget(self.go)
        self.well = self.section("How well it holds")
        names = ("Average", "Middle, 95 %", "Worst frame", "Parallax", "Tracks used", "Camera")
        self.rows = {name: self.well.add_fact(name) for name in names}
        self.why = quiet()
        self.well.add_wide(self.why)
        self.where = self.section("Where in the picture")
        self.map = RegionMap()
        self.where.add_wide(self.map)
        self.lens = self.section("Lens")
        self.lens_rows = {name: self.lens.add_fact(name) for name in ("Focal length", "Bend k1", "Bend k2", "Sees across")}
        mend = self.section("Mend it")
        self.limit = self.field(
            "reject-above", unit="px", step=0.02, decimals=2, low=0.1, high=5, reset=1.0, tip="Tracks with a larger error are rejected"
        )
        self.limit.show_value(1.0)
        self.limit.changed.connect(lambda v, g: self.refresh())
        mend.add("Error over", self.limit)
        self.reject = button("Reject them", "reject-worst", "Grey every track above this error; then solve again", self._reject)
        mend.add_wide(self.reject)
        self.motion = QComboBox()
        self.motion.setObjectName("motion")
        self.motion.setAccessibleName("Camera motion")
        self.motion.setToolTip("Whether the camera moves, or only turns on the spot")
        self.motion.addItems(MOTIONS.values())
        self.motion.activated.connect(lambda i: self.session.edit_part("Set camera motion", "solving", motion=list(MOTIONS)[i]))
        mend.add("Camera", self.motion)
        self._mapped: object = None

    def _above(self) -> np.ndarray:
        shot = self.session.shot
        if shot.solve is None or shot.tracks is None:
            return np.zeros(0, int)
        ids = shot.solve.point_ids[shot.solve.point_error > self.limit.value]
        return ids[~shot.tracks.rejected[ids]]

    def _reject(self) -> None:
        above = self._above()
        if len(above):
            reject_tracks(self.session, above)

    def refresh(self) -> None:
        super().refresh()
        shot, solve = self.session.shot, self.session.shot.solve
        self.go.setEnabled(shot.plate is not None and not self.session.jobs.busy)
        self.go.setText("Solve again" if solve is not None else "Solve" if shot.tracks is not None else "Track and solve")
        for part in (self.well, self.where, self.lens):
            part.setVisible(solve is not None)
        above = self._above()
        self.reject.setText(f"Reject {len(above)} tracks" if len(above) else "None is above it")
        self.reject.setEnabled(bool(len(above)))
        self.motion.setCurrentIndex(list(MOTIONS).index(shot.solving.motion))
        if solve is None:
            return
        fps = shot.plate.fps if shot.plate else 25
        worst = int(solve.frame_error.argmax())
        values = {"Average": (f"{solve.mean_px:.2f} px", solve.word), "Middle, 95 %": (f"{solve.median_px:.2f} px", f"{solve.p95_px:.2f} px"),
                  "Worst frame": (f"{solve.frame_error[worst]:.2f} px", f"{solve.frames[worst]}, at {solve.frames[worst] / fps:.2f} s"),
                  "Parallax": (f"{solve.parallax_deg:.1f}°", "none is needed" if solve.motion == "turning" else "plenty" if solve.parallax_deg > 3 else "little"),
                  "Tracks used": (f"{solve.tracks}", f"{solve.inliers:.0%} of their positions fit"),
                  "Camera": ("turns" if solve.motion == "turning" else "moves", "stale" if solve_is_stale(shot) else "")}  # fmt: skip
        for name, (value, note) in values.items():
            self.rows[name][0].setText(value)
            self.rows[name][1].setText(note)
        self.why.setText((solve.why[:1].upper() + solve.why[1:] + ".") if solve.why else "")
        self.well.fact.setText("stale" if solve_is_stale(shot) else "")
        lens, dev = solve.lens, solve.lens_deviation
        across = 2 * np.rad2deg(np.arctan(abs(lens.undistort(np.array([0.0, lens.cy]))[0])))
        for name, value, note in (("Focal length", f"{lens.fx:.1f} px", f"± {dev[0]:.1f}"), ("Bend k1", f"{lens.k1:.4f}", f"± {dev[1]:.4f}"),
                                  ("Bend k2", f"{lens.k2:.4f}", f"± {dev[2]:.4f}"), ("Sees across", f"{across:.1f}°", "")):  # fmt: skip
            self.lens_rows[name][0].setText(value.replace("-", "−"))
            self.lens_rows[name][1].setText(note)
        if shot.tracks is not None and self._mapped is not solve:
            self._mapped = solve
            self.map.show_map(*region_map(solve, shot.tracks, errors_of(self.session)))
