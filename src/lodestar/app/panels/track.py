"""Track: how many features, what the tracker is shown and what is kept from it, and what to do with marks."""

import numpy as np
from PyQt6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from lodestar.core.matte.sources import View, ignored
from lodestar.core.shot.document import tracks_are_stale
from lodestar.core.track.edit import lengths
from lodestar.core.track.rules import meant_by

from .. import theme
from ..commands import Command
from ..derived import errors_of, mean_errors, pieces_of
from ..fields import Choice, button, icon_button, quiet
from ..measures import figure
from ..needs import Needs, a_clip, a_solve, marks, no_work
from ..viewer.tools.marks import delete_tracks, join_tracks, reject_tracks
from ..viewer.tools.outlines import remove_outline
from .panel import Panel

# rule -> (what it says, unit, value to begin with, decimals)
RULES = {
    "error": ("Error over", "px", 1.0, 2),
    "short": ("Shorter than", "frames", 15.0, 0),
    "lonely": ("Neighbours under", "marks", 2.0, 0),
    "inside": ("In what is kept out", "", 0.0, 0),
    "rejected": ("Rejected ones", "", 0.0, 0),
}


def plain(layout) -> QWidget:
    holder = QWidget()
    holder.setObjectName("plain")
    holder.setLayout(layout)
    layout.setContentsMargins(0, 0, 0, 0)
    return holder


class TrackPanel(Panel):
    step = "Track"

    def own_commands(self) -> list[Command]:
        s, has = self.session, a_clip(self.session)
        idle = has & no_work(s)
        return [
            Command("reject", "Edit", "Reject chosen marks", lambda: reject_tracks(s, s.tracks), "", marks(s)),
            Command("restore", "Edit", "Restore chosen marks", lambda: reject_tracks(s, s.tracks, True), "", marks(s)),
            Command("delete-marks", "Edit", "Delete chosen marks", lambda: delete_tracks(s, s.tracks), "", marks(s)),
            Command("join-marks", "Edit", "Chosen marks are the same point", lambda: join_tracks(s, s.tracks), "", marks(s, 2)),
            Command("join-found", "Edit", "Find marks that are one point", s.work.join_found, "", idle & a_solve(s)),
            Command("suggest", "Edit", "Suggest regions to keep out", s.work.suggest_regions, "", a_solve(s)),
            Command("more-here", "Edit", "More tracks in one place", lambda: self._marks_tool("more"), "", has),
            Command("place-track", "Edit", "Place a track by hand", lambda: self._marks_tool("hand"), "", has),
            Command("track", "Edit", "Track", self.track, "Ctrl+T", idle),
            Command("cancel", "Edit", "Cancel the running work", s.jobs.cancel, "", Needs((lambda: s.jobs.busy, "running work"))),
        ]

    def track(self) -> None:
        self.session.show_step("Track")
        self.session.work.track()

    def _marks_tool(self, name: str) -> None:
        if self.session.step != "Solve":
            self.session.show_step("Track")
        self.session.use_tool(name)

    def fill(self) -> None:
        self.go = button("Track", "track", "Follow features through the range, forward and backward", lambda: self.commands.run("track"), True)
        self.head.addWidget(self.go)
        self._fill_features()
        self._fill_pieces()
        self._fill_kept_out()
        self._fill_marks()
        self._shown: tuple | None = None

    def _fill_features(self) -> None:
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
        self.contrast = self.field(
            "track-contrast",
            unit="%",
            step=0.5,
            decimals=0,
            low=0,
            high=100,
            reset=0,
            factor=100.0,
            tip="More contrast for the tracker's eyes only; the picture is untouched",
        )
        self.blur = self.field(
            "track-blur", unit="px", step=0.02, decimals=1, low=0, high=4, reset=0, tip="A light blur for the tracker's eyes only, against grain"
        )
        how.add("In view", self.count)
        how.add("Spacing", self.spacing)
        how.add("Contrast", self.contrast)
        how.add("Blur", self.blur)
        edit = self.session.edit_part
        self.count.changed.connect(lambda v, g: edit("Set number of tracks", "follow", g, count=round(v)))
        self.spacing.changed.connect(lambda v, g: edit("Set spacing", "follow", g, spacing_px=round(v)))
        self.contrast.changed.connect(lambda v, g: edit("Set contrast for the tracker", "follow", g, contrast=round(v, 3)))
        self.blur.changed.connect(lambda v, g: edit("Set blur for the tracker", "follow", g, blur_px=round(v, 2)))

    def _fill_pieces(self) -> None:
        self.pieces = self.section("Pieces")
        self.pieces.add_wide(quiet("Hardly a track leads from one to the next: a cut, blur or darkness. One camera holds for one piece."))
        self.piece_list = QVBoxLayout()
        self.piece_list.setSpacing(4)
        self.pieces.add_wide(plain(self.piece_list))
        self._pieces: list[tuple[int, int]] = []

    def _show_pieces(self) -> None:
        shot = self.session.shot
        found = pieces_of(shot)
        self.pieces.setVisible(len(found) > 1)
        self.pieces.fact.setText(f"{len(found)}")
        if found == self._pieces and self.piece_list.count():
            return
        self._pieces = found
        while self.piece_list.count():
            self.piece_list.takeAt(0).widget().deleteLater()
        for first, last in found if len(found) > 1 else ():
            row = QHBoxLayout()
            row.addWidget(quiet(f"frames {first} to {last}"), 1)
            work = lambda a=first, b=last: self._work_on(a, b)
            row.addWidget(button("Work on this piece", f"piece-{first}", "Set in and out to this piece; then track and solve it", work))
            self.piece_list.addWidget(plain(row))

    def _work_on(self, first: int, last: int) -> None:
        self.session.set("Set in and out", first=first, last=last)
        self.session.show_frame(first)

    def _fill_kept_out(self) -> None:
        self.regions = self.section("Kept out")
        self.regions.add_wide(quiet("Only the tracker is kept from seeing these; the picture is untouched."))
        self.region_list = QVBoxLayout()
        self.regions.add_wide(plain(self.region_list))
        row = QHBoxLayout()
        row.addWidget(button("Draw", "draw-region", "Draw round people, water or vehicles", lambda: self.session.use_tool("region")))
        self.suggest = button(
            "Suggest",
            "suggest-regions",
            "Find what moves by itself, from tracks and from how the picture flows, which no standing point explains; offered switched off",
            self.session.work.suggest_regions,
        )
        row.addWidget(self.suggest)
        self.regions.add_wide(plain(row))

    def _fill_marks(self) -> None:
        self.marks = self.section("Marks")
        self.chosen = quiet()
        self.marks.add_wide(self.chosen)
        self.rule = Choice()
        self.rule.setObjectName("rule")
        self.rule.setAccessibleName("Rule by which marks are chosen")
        self.rule.setToolTip("Which marks are meant")
        self.rule.addItems([words for words, *_ in RULES.values()])
        self.limit = self.field("rule-limit", step=0.05, low=0, high=1000, reset=1.0, tip="The limit of the rule")
        self.limits = {name: value for name, (_, _, value, _) in RULES.items()}
        self.rule.activated.connect(lambda _: self._show_rule())
        self.limit.show_value(self.limits["error"], "px")
        self.limit.changed.connect(self._limit_changed)
        row = QHBoxLayout()
        row.addWidget(self.rule, 3)
        row.addWidget(self.limit, 2)
        self.marks.add_wide(plain(row))
        self.by_rule = button("Choose them", "choose-by-rule", "Choose every mark that the rule means", self._choose_by_rule)
        self.marks.add_wide(self.by_rule)
        s = self.session
        grid = QGridLayout()
        self.reject = button("Reject", "reject-tracks", "Grey the chosen marks; they can come back", lambda: reject_tracks(s, s.tracks))
        self.restore = button("Restore", "restore-tracks", "Bring the chosen marks back", lambda: reject_tracks(s, s.tracks, True))
        self.delete = button(
            "Delete", "delete-tracks", "Take the chosen marks away for good; undo brings them back", lambda: delete_tracks(s, s.tracks)
        )
        self.join = button(
            "Same point", "join-tracks", "The chosen marks are one point that was lost and found again", lambda: join_tracks(s, s.tracks)
        )
        self.join_all = button("Find same", "join-found", "Find marks that are one point seen twice, and join them", s.work.join_found)
        self.restore_all = button("Restore all", "restore-all", "Bring all rejected marks back", self._restore_all)
        for k, b in enumerate((self.reject, self.restore, self.delete, self.join, self.join_all, self.restore_all)):
            grid.addWidget(b, k // 3, k % 3)
        self.marks.add_wide(plain(grid))
        self.least = self.field(
            "least-frames",
            unit="frames",
            step=0.1,
            decimals=0,
            low=2,
            high=500,
            reset=12,
            tip="How long a mark has to live to be added by 'More here'",
        )
        self.marks.add("Added from", self.least)
        self.least.changed.connect(self._least_changed)

    def _least_changed(self, value: float, group: object) -> None:
        self.session.least_frames = round(value)
        self.session.view_changed.emit()

    def _rule(self) -> str:
        return list(RULES)[self.rule.currentIndex()]

    def _show_rule(self) -> None:
        _, unit, _, decimals = RULES[self._rule()]
        self.limit.unit, self.limit.decimals = unit, decimals
        self.limit.setVisible(bool(unit))
        self.limit.step = 0.02 if decimals else 0.1
        self.limit.show_value(self.limits[self._rule()], unit)
        self.refresh()

    def _limit_changed(self, value: float, group: object) -> None:
        self.limits[self._rule()] = value
        self.refresh()

    def meant(self) -> np.ndarray:
        """Numbers of the tracks that the rule means, among those that are kept (but for the rule of the rejected ones)."""
        shot, plate = self.session.shot, self.session.shot.plate
        if shot.tracks is None or plate is None:
            return np.zeros(0, int)
        hidden = lambda frame: ignored(shot.regions, View(frame, plate.width, plate.height))
        return meant_by(self._rule(), shot.tracks, self.limits[self._rule()], mean_errors(shot), hidden)

    def _choose_by_rule(self) -> None:
        found = self.meant()
        self.session.select(self.session.selected, frozenset(int(k) for k in found))
        if len(found) == 0:
            self.session.tell("No mark is meant by that rule.", "Change its limit, or solve first: errors are known only then.", "doubtful")

    def _restore_all(self) -> None:
        tracks = self.session.shot.tracks
        if tracks is None:
            return
        reject_tracks(self.session, np.flatnonzero(tracks.rejected & (lengths(tracks) > 0)), True)

    def refresh(self) -> None:
        super().refresh()
        shot = self.session.shot
        self.go.setEnabled(shot.plate is not None and not self.session.jobs.busy)
        self.go.setText("Track again" if shot.tracks is not None else "Track")
        self.help.setVisible(shot.tracks is None)
        for field, value in (
            (self.count, shot.follow.count),
            (self.spacing, shot.follow.spacing_px),
            (self.contrast, shot.follow.contrast),
            (self.blur, shot.follow.blur_px),
            (self.least, self.session.least_frames),
        ):
            field.show_value(value)
        self._show_pieces()
        self.marks.setVisible(shot.tracks is not None)
        self.suggest.setEnabled(shot.solve is not None and shot.tracks is not None)
        state = (shot.regions, self.session.selected)
        if self._shown is None or self._shown[0] is not state[0] or self._shown[1] != state[1]:
            self._shown = state
            self._fill_regions()
        if shot.tracks is not None:
            self._refresh_marks(shot.tracks)
        self.regions.fact.setText(f"{len(shot.regions)}" if shot.regions else "none")
        if tracks_are_stale(shot):
            self.fact.setText("stale · settings are newer than the tracks")

    def _refresh_marks(self, tracks) -> None:
        chosen = sorted(c for c in self.session.tracks if c < tracks.count)
        gone = int((tracks.rejected & (lengths(tracks) > 0)).sum())
        self.marks.fact.setText(f"{gone} rejected" if gone else f"{len(tracks.at(self.session.frame))} in view")
        text = "Choose marks in the picture, one by one, with a line drawn round them, or by a rule."
        if chosen:
            error = errors_of(self.session.shot)[np.isin(tracks.track, chosen)]
            mean = f", {figure(np.nanmean(error), 2)} px on average" if np.isfinite(error).any() else ""
            text = f"{len(chosen)} chosen{mean}"
        self.chosen.setText(text)
        self.reject.setEnabled(bool(chosen) and not tracks.rejected[chosen].all())
        self.restore.setEnabled(bool(chosen) and bool(tracks.rejected[chosen].any()))
        self.delete.setEnabled(bool(chosen))
        self.join.setEnabled(len(chosen) > 1)
        self.join_all.setEnabled(self.session.shot.solve is not None and not self.session.jobs.busy)
        self.restore_all.setEnabled(bool(gone))

    def _fill_regions(self) -> None:
        while self.region_list.count():
            self.region_list.takeAt(0).widget().deleteLater()
        for region in self.session.shot.regions:
            self.region_list.addWidget(outline_row(self.session, "regions", region))


def outline_row(session, kind: str, outline) -> QWidget:
    """On, name, inverted and delete of one outline; its name takes it in hand."""
    row = QWidget()
    row.setObjectName("plain")
    box = QHBoxLayout(row)
    box.setContentsMargins(0, 0, 0, 0)
    on = QCheckBox()
    on.setChecked(outline.on)
    on.setObjectName(f"outline-on-{outline.id}")
    on.setAccessibleName(f"{outline.name} counts")
    on.setToolTip(f"Whether {outline.name} counts")
    on.toggled.connect(lambda value: session.edit_item("Switch outline", outline.id, on=value))
    name = button(outline.name, f"outline-pick-{outline.id}", f"Take {outline.name} in hand", lambda: session.select(outline.id))
    name.setProperty("role", "name")
    if outline.id == session.selected:
        name.setStyleSheet(f"color: {theme.ACCENT};")
    turned = QCheckBox("inverted")
    turned.setChecked(outline.inverted)
    turned.setToolTip("Take what lies outside the outline instead")
    turned.toggled.connect(lambda value: session.edit_item("Invert outline", outline.id, inverted=value))
    gone = icon_button("trash-2", f"outline-delete-{outline.id}", "Delete this outline", lambda: remove_outline(session, kind, outline.id))
    box.addWidget(on)
    box.addWidget(name, 1)
    for w in (turned, gone):
        box.addWidget(w)
    return row
