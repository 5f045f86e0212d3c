"""Ground: how the scene lies. Each thing that was said is a line that can be taken back; they may be mixed freely."""

from collections.abc import Callable
from functools import partial
from typing import NamedTuple

import msgspec
import numpy as np
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from lodestar.core.basics.errors import UserError
from lodestar.core.edits.settle import with_ground
from lodestar.core.evaluate.cameras import scene_frame
from lodestar.core.scene.ground import Ground, points_across_view, proposal, reference, with_span
from lodestar.core.shot.document import Shot
from lodestar.core.solve.known import Span, says_of_itself

from ..derived import points_of
from ..fields import button, icon_button, link, quiet, tick
from ..measures import length
from .panel import Panel

MOST_LINES = 6  # that are listed one by one; more, as those that were found by themselves, are one row


class Said(NamedTuple):
    """One thing that was said: its key, in words, how it is taken back, and the tracks that it is about."""

    key: str
    words: str
    take_back: Callable[[], None]
    tracks: tuple[int, ...] = ()


class GroundPanel(Panel):
    step = "Ground"

    def fill(self) -> None:
        self.level = button(
            "Level is right",
            "confirm-level",
            "Keep what was found by itself: it is written down as what was said, and can be taken back",
            self.session.work.keep_level,
            True,
        )
        self.down = button(
            "The camera looks down",
            "looks-down",
            "The plane across the view, on which many points lie, becomes the ground",
            self.session.work.look_down,
        )
        say = self.section("Chosen points")
        self.chosen = quiet()
        say.add_wide(self.chosen)
        self.on_ground = button(
            "These lie on the ground", "set-ground", "The plane through the chosen points becomes the ground; three or more", self._ground
        )
        self.origin = button("This is the origin", "set-origin", "The one chosen point becomes the middle of the scene", self._origin)
        say.add_wide(self.on_ground)
        say.add_wide(self.origin)
        self.along_x = button(
            "x",
            "set-axis-x",
            "The x axis runs from the first of the two chosen points to the other, over the ground",
            lambda: self._axis("x"),
        )
        self.along_y = button(
            "y",
            "set-axis-y",
            "The y axis runs from the first of the two chosen points to the other, over the ground",
            lambda: self._axis("y"),
        )
        self.along_z = button("up", "set-axis-z", "One of the two chosen points stands straight above the other", lambda: self._axis("z"))
        say.add("Runs along", self.along_x, self.along_y, self.along_z)
        self.metres = self.field("distance", unit="m", step=0.01, decimals=3, low=0.001, reset=2.0, tip="How far apart the two chosen points are")
        self.metres.show_value(2.0)
        say.add("Distance", self.metres)
        self.distance = button(
            "They are this far apart", "set-distance", "Makes the scene's units metres; several are suited as well as they can be", self._distance
        )
        say.add_wide(self.distance)
        self.eye = self.field(
            "eye-height",
            unit="m",
            step=0.01,
            decimals=2,
            low=0.01,
            high=10000,
            reset=1.6,
            tip="How high a camera that stays on one spot stood over the ground: how far away its floor is",
        )
        self.eye.changed.connect(lambda v, g: self._put("Set height of the camera", g, eye_height=round(v, 4)))
        self.eye_label = say.add("Camera at", self.eye)
        self._fill_said()
        self.facts = self.section("Scene")
        self.rows = {name: self.facts.add_fact(name) for name in ("Camera", "Points")}
        self._listed: object = None

    def _fill_said(self) -> None:
        said = self.section("What was said")
        self.found = quiet()
        said.add_wide(self.found)
        said.add_wide(self.level)
        said.add_wide(self.down)
        holder = QWidget()
        holder.setObjectName("plain")
        self.lines = QVBoxLayout(holder)
        self.lines.setContentsMargins(0, 0, 0, 0)
        self.lines.setSpacing(2)
        said.add_wide(holder)
        self.hold = button(
            "Solve again, held to these",
            "solve-held",
            "What is known of the place, two distances or directions or more, holds the solve itself",
            self._hold,
        )
        said.add_wide(self.hold)
        self.hides = tick(
            "Hides what is below it",
            "ground-hides",
            "Off where the place falls away, so that what stands lower is seen",
            lambda on: self._put("Ground hides, on or off", hides=on),
        )
        said.add_wide(self.hides)
        self.uneven = tick(
            "Uneven where points tell so",
            "ground-uneven",
            "What stands there follows the ground, and so do shadows; off: level everywhere",
            lambda on: self._put("Uneven ground, on or off", uneven=on),
        )
        said.add_wide(self.uneven)

    def _put(self, label: str, group: object = None, **fields) -> None:
        self.session.edit_ground(label, group, **fields)

    def _known(self) -> list[int]:
        solve = self.session.shot.solve
        return [t for t in sorted(self.session.tracks) if solve is not None and t in solve.point_ids]

    def _said(self, label: str, **fields) -> None:
        """Say something; what makes no plane is refused before anything changes."""

        def change(shot: Shot) -> Shot:
            ground = msgspec.structs.replace(shot.ground, **fields)
            if shot.solve is not None:
                reference(shot.solve, ground)
            return with_ground(shot, ground)

        self.session.edit(label, change)

    def _ground(self) -> None:
        self._said("Set the ground", on_ground=tuple(self._known()))

    def _origin(self) -> None:
        self._put("Set the origin", origin=self._known()[0])

    def _axis(self, name: str) -> None:
        a, b = self._in_order(name)
        self._put("Set a direction", spans=with_span(self.session.shot.ground, a, b, along=name).spans)

    def _in_order(self, axis: str) -> tuple[int, int]:
        """The two chosen points, the left one in the picture first, the nearer one where they lie one behind the other, or the lower one."""
        a, b = self._known()
        place = dict(zip(self.session.shot.solve.point_ids.tolist(), points_of(self.session.shot)))
        d = place[b] - place[a]
        return (a, b) if d[2 if axis == "z" else int(abs(d[1]) > abs(d[0]))] > 0 else (b, a)

    def _distance(self) -> None:
        a, b = self._known()
        self._put("Set a distance", spans=with_span(self.session.shot.ground, a, b, metres=self.metres.value).spans)

    def _hold(self) -> None:
        self.session.edit_part("Hold the solve to what is known", "solving", hold=True)
        self.commands.run("solve")

    def _now(self, span: Span) -> str:
        """How far apart the two are in the scene as it is, where that is not what was said."""
        ids = self.session.shot.solve.point_ids.tolist() if self.session.shot.solve is not None else []
        if span.a not in ids or span.b not in ids:
            return " (has no place)"
        points = points_of(self.session.shot)
        now = float(np.linalg.norm(points[ids.index(span.a)] - points[ids.index(span.b)]))
        return "" if abs(now / span.metres - 1) < 0.001 else f" (now {length(now, 'm', '.3g')})"

    def _told(self, g: Ground) -> list[Said]:
        back = lambda **fields: lambda: self._put("Take back", **fields)
        lines = []
        if g.on_ground:
            lines.append(Said("ground", f"Ground through {len(g.on_ground)} points", back(on_ground=()), g.on_ground))
        if g.origin is not None:
            lines.append(Said("origin", f"Origin at track {g.origin}", back(origin=None), (g.origin,)))
        for k, span in enumerate(g.spans):
            if span.along:
                runs = "is straight above" if span.along == "z" else f"lies along {span.along} of"
                taken = back(spans=with_span(g, span.a, span.b, along="").spans)
                lines.append(Said(f"direction-{k}", f"Track {span.b} {runs} {span.a}", taken, (span.a, span.b)))
            if span.metres > 0:
                words = f"Tracks {span.a} and {span.b}: {length(span.metres, 'm', 'g')}{self._now(span)}"
                lines.append(Said(f"distance-{k}", words, back(spans=with_span(g, span.a, span.b, metres=0.0).spans), (span.a, span.b)))
        if len(g.uprights) > MOST_LINES:
            lines.append(Said("uprights", f"{len(g.uprights)} upright lines", back(uprights=())))
        for k, line in enumerate(g.uprights if len(g.uprights) <= MOST_LINES else ()):
            rest = (*g.uprights[:k], *g.uprights[k + 1 :])
            lines.append(Said(f"upright-{k}", f"Upright in frame {line.frame}", back(uprights=rest)))
        if g.horizon is not None:
            lines.append(Said("horizon", f"Horizon in frame {g.horizon.frame}", back(horizon=None)))
        if g.turned != (0.0, 0.0, 0.0) or g.moved != (0.0, 0.0, 0.0) or g.sized != 1.0:
            words = "Turned, moved and sized by hand"
            lines.append(Said("hand", words, back(turned=(0.0, 0.0, 0.0), moved=(0.0, 0.0, 0.0), sized=1.0)))
        return lines

    def _show(self, said: Said) -> None:
        """Choose its points, and go to the nearest frame that shows them where this one does not."""
        self.session.select("", frozenset(said.tracks))
        tracks, now = self.session.shot.tracks, self.session.frame
        if tracks is None:
            return
        seen = np.bincount(tracks.frame[np.isin(tracks.track, said.tracks)], minlength=now + 1)
        if seen[now] < min(2, seen.max()):
            best = np.flatnonzero(seen == seen.max())
            self.session.show_frame(int(best[np.abs(best - now).argmin()]))

    def _list(self, g: Ground) -> None:
        listed = (g, self.session.shot.solve)  # what was said, and how it fits
        if self._listed == listed:
            return
        self._listed = listed
        while self.lines.count():
            item = self.lines.takeAt(0)
            if item.widget() is not None:
                item.widget().hide()
                item.widget().deleteLater()
        for said in self._told(g):
            row = QWidget()
            row.setObjectName("plain")
            line = QHBoxLayout(row)
            line.setContentsMargins(0, 0, 0, 0)
            if said.tracks:
                line.addWidget(
                    link(said.words, f"choose-{said.key}", "Choose its points, so that they show in the picture", partial(self._show, said))
                )
                line.addStretch(1)
            else:
                line.addWidget(quiet(said.words), 1)
            line.addWidget(icon_button("x", f"forget-{said.key}", "Take this back", said.take_back))
            self.lines.addWidget(row)

    def refresh(self) -> None:
        super().refresh()
        shot, known = self.session.shot, self._known()
        free = shot.solve is not None and shot.solve.motion == "free"
        self.on_ground.setEnabled(free and len(known) >= 3)
        self.origin.setEnabled(free and len(known) == 1)
        for part in (self.distance, self.along_x, self.along_y, self.along_z):
            part.setEnabled(free and len(known) == 2)
        self.chosen.setText(
            f"{len(known)} with a place in the scene"
            if known
            else "Choose marks on the ground in the picture: click, Shift, or a line drawn round them."
        )
        if shot.solve is not None and not free:
            self.chosen.setText("A camera that stays on one spot gives directions, no distances: say how high over the ground it stood.")
        g = shot.ground
        self.eye.show_value(g.eye_height)
        for one in (self.eye, self.eye_label):
            one.setVisible(shot.solve is not None and not free)
        said_up = bool(g.on_ground or g.uprights or g.horizon)
        words = ""
        if shot.solve is not None and not said_up:
            try:
                words = f"Found by itself: {proposal(shot.solve)[1]}."
            except UserError:
                words = "Level as the camera was held."
        across = len(points_across_view(shot.solve)) if words and shot.solve is not None else 0
        self.found.setText(words + (f" Few points lie on it, and {across} on a plane across the view." if across else ""))
        self.level.setVisible(words.startswith("Found"))
        self.down.setVisible(across > 0)
        self.found.setVisible(bool(self.found.text()))
        self.hides.setChecked(g.hides)
        self.uneven.setChecked(g.uneven)
        self.uneven.setVisible(free)
        self.hold.setVisible(free and says_of_itself(g.spans))
        self.hold.setEnabled(not self.session.jobs.busy)
        self._list(g)
        self.facts.setVisible(shot.solve is not None)
        if shot.solve is not None:
            place = scene_frame(shot)
            heights = place.points(shot.solve.centres)[:, 2]
            unit = self.session.unit
            self.rows["Camera"][0].setText(length(np.mean(heights), unit))
            self.rows["Camera"][1].setText("over the ground")
            self.rows["Points"][0].setText(f"{len(shot.solve.xyz)}")
            points = place.points(shot.solve.xyz)
            on_ground = np.abs(points[:, 2]) < 0.02 * np.median(np.abs(points[:, 1])) if len(points) else np.zeros(1)
            self.rows["Points"][1].setText(f"{np.mean(on_ground):.0%} on ground")
