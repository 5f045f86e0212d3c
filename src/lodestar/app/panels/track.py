"""Track: how many features, regions that the tracker must not see, and what to do with chosen marks."""

import numpy as np
from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QVBoxLayout, QWidget

from lodestar.core.shot.document import tracks_are_stale

from .. import theme
from ..fields import button, icon_button, quiet
from ..viewer.overlays import errors_of
from ..viewer.tools.marks import reject_tracks
from ..viewer.tools.outlines import remove_outline
from .panel import Panel


class TrackPanel(Panel):
    step = "Track"

    def fill(self) -> None:
        self.go = button("Track", "track", "Follow features through the range, forward and backward", lambda: self.commands.run("track"), True)
        self.head.addWidget(self.go)
        how = self.section("Features")
        self.count = self.field(
            "track-count",
            step=2,
            decimals=0,
            low=40,
            high=1500,
            reset=320,
            tip="How many tracks are kept in view; more take longer and do not promise a better solve",
        )
        self.spacing = self.field("track-spacing", unit="px", step=0.2, decimals=0, low=4, high=80, reset=14, tip="Least distance between two tracks")
        how.add("In view", self.count)
        how.add("Spacing", self.spacing)
        self.count.changed.connect(lambda v, g: self.session.edit_part("Set number of tracks", "follow", g, count=round(v)))
        self.spacing.changed.connect(lambda v, g: self.session.edit_part("Set spacing", "follow", g, spacing_px=round(v)))
        self.regions = self.section("Kept out")
        self.regions.add_wide(quiet("Only the tracker is kept from seeing these; the picture is untouched."))
        self.region_list = QVBoxLayout()
        holder = QWidget()
        holder.setObjectName("plain")
        holder.setLayout(self.region_list)
        self.region_list.setContentsMargins(0, 0, 0, 0)
        self.regions.add_wide(holder)
        self.regions.add_wide(button("Draw a region", "draw-region", "Draw round people, water or vehicles", lambda: self.session.use_tool("region")))
        self.marks = self.section("Marks")
        self.chosen = quiet()
        self.marks.add_wide(self.chosen)
        row = QHBoxLayout()
        self.reject = button(
            "Reject", "reject-tracks", "Grey the chosen marks; they can come back", lambda: reject_tracks(self.session, self.session.tracks)
        )
        self.restore = button(
            "Restore", "restore-tracks", "Bring the chosen marks back", lambda: reject_tracks(self.session, self.session.tracks, True)
        )
        self.restore_all = button("Restore all", "restore-all", "Bring all rejected marks back", self._restore_all)
        for b in (self.reject, self.restore, self.restore_all):
            row.addWidget(b)
        holder = QWidget()
        holder.setObjectName("plain")
        holder.setLayout(row)
        row.setContentsMargins(0, 0, 0, 0)
        self.marks.add_wide(holder)
        self._shown: tuple | None = None

    def _restore_all(self) -> None:
        tracks = self.session.shot.tracks
        reject_tracks(self.session, np.flatnonzero(tracks.rejected), True)

    def refresh(self) -> None:
        super().refresh()
        shot = self.session.shot
        self.go.setEnabled(shot.plate is not None and not self.session.jobs.busy)
        self.go.setText("Track again" if shot.tracks is not None else "Track")
        self.help.setVisible(shot.tracks is None)
        self.count.show_value(shot.follow.count)
        self.spacing.show_value(shot.follow.spacing_px)
        self.marks.setVisible(shot.tracks is not None)
        state = (shot.regions, self.session.selected)
        if self._shown is None or self._shown[0] is not state[0] or self._shown[1] != state[1]:
            self._shown = state
            self._fill_regions()
        if shot.tracks is not None:
            chosen = sorted(self.session.tracks)
            gone = int(shot.tracks.rejected.sum())
            self.marks.fact.setText(f"{gone} rejected" if gone else f"{len(shot.tracks.at(self.session.frame))} in view")
            error = errors_of(self.session)
            text = "Choose marks in the picture, one by one or with a line drawn round them."
            if chosen:
                mean = np.nanmean(error[np.isin(shot.tracks.track, chosen)]) if shot.solve is not None else np.nan
                text = f"{len(chosen)} chosen" + (f", {mean:.2f} px on average" if np.isfinite(mean) else "")
            self.chosen.setText(text)
            self.reject.setEnabled(bool(chosen))
            self.restore.setEnabled(bool(chosen) and bool(shot.tracks.rejected[[c for c in chosen if c < shot.tracks.count]].any()))
            self.restore_all.setEnabled(bool(gone))
        self.regions.fact.setText(f"{len(shot.regions)}" if shot.regions else "none")
        if tracks_are_stale(shot):
            self.fact.setText("stale · settings are newer than the tracks")

    def _fill_regions(self) -> None:
        while self.region_list.count():
            self.region_list.takeAt(0).widget().deleteLater()
        for region in self.session.shot.regions:
            self.region_list.addWidget(outline_row(self.session, "regions", region))


def outline_row(session, kind: str, outline) -> QWidget:
    """Name, on, inverted and delete of one outline."""
    row = QWidget()
    row.setObjectName("plain")
    box = QHBoxLayout(row)
    box.setContentsMargins(0, 0, 0, 0)
    on = QCheckBox(outline.name)
    on.setChecked(outline.on)
    on.setObjectName(f"outline-on-{outline.id}")
    on.setToolTip("Whether this outline counts")
    on.toggled.connect(lambda value: session.edit_item("Switch outline", kind, outline.id, on=value))
    if outline.id == session.selected:
        on.setStyleSheet(f"color: {theme.ACCENT};")
    turned = QCheckBox("inverted")
    turned.setChecked(outline.inverted)
    turned.setToolTip("Take what lies outside the outline instead")
    turned.toggled.connect(lambda value: session.edit_item("Invert outline", kind, outline.id, inverted=value))
    pick = icon_button("pencil", f"outline-pick-{outline.id}", "Take this outline in hand", lambda: session.select(outline.id))
    gone = icon_button("trash-2", f"outline-delete-{outline.id}", "Delete this outline", lambda: remove_outline(session, kind, outline.id))
    box.addWidget(on, 1)
    for w in (turned, pick, gone):
        box.addWidget(w)
    return row
