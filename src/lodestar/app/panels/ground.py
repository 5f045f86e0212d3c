"""Ground: which points lie on it, which is the origin, and how long one distance is."""

import numpy as np
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from lodestar.core.compose.frame import scene_frame
from lodestar.core.scene.ground import reference

from ..fields import button, icon_button, quiet
from .panel import Panel


class GroundPanel(Panel):
    step = "Ground"

    def fill(self) -> None:
        say = self.section("Chosen points")
        self.chosen = quiet()
        say.add_wide(self.chosen)
        self.on_ground = button(
            "These lie on the ground", "set-ground", "The plane through the chosen points becomes the ground; three or more", self._ground
        )
        self.origin = button("This is the origin", "set-origin", "The one chosen point becomes the middle of the scene", self._origin)
        say.add_wide(self.on_ground)
        say.add_wide(self.origin)
        self.metres = self.field("distance", unit="m", step=0.01, decimals=3, low=0.001, reset=2.0, tip="How far apart the two chosen points are")
        self.metres.show_value(2.0)
        say.add("Distance", self.metres)
        self.distance = button("They are this far apart", "set-distance", "Makes the scene's units metres", self._distance)
        say.add_wide(self.distance)
        self.eye = self.field("eye-height", unit="m", step=0.01, decimals=2, low=0.01, high=10000, reset=1.6,
                              tip="How high a camera that only turns stood over the ground: how far away its floor is")  # fmt: skip
        self.eye.changed.connect(lambda v, g: self.session.edit_part("Set height of the camera", "ground", g, eye_height=round(v, 4)))
        self.eye_label = say.add("Camera at", self.eye)
        self.said = self.section("What was said")
        self.lines = {key: self._line(key) for key in ("ground", "origin", "distance")}
        self.facts = self.section("Scene")
        self.rows = {name: self.facts.add_fact(name) for name in ("Camera", "Points")}

    def _line(self, key: str):
        row = QWidget()
        row.setObjectName("plain")
        box = QHBoxLayout(row)
        box.setContentsMargins(0, 0, 0, 0)
        text = quiet()
        empty = {"ground": {"on_ground": ()}, "origin": {"origin": None}, "distance": {"distance": None}}[key]
        gone = icon_button("x", f"forget-{key}", "Take this back", lambda: self.session.edit_part("Take back", "ground", **empty))
        box.addWidget(text, 1)
        box.addWidget(gone)
        self.said.add_wide(row)
        return text, gone

    def _known(self) -> list[int]:
        solve = self.session.shot.solve
        return [t for t in sorted(self.session.tracks) if solve is not None and t in solve.point_ids]

    def _ground(self) -> None:
        ids = tuple(self._known())

        def change(shot):
            import msgspec

            reference(shot.solve, ids, shot.ground.origin, shot.ground.distance)  # raises for points that make no plane
            return msgspec.structs.replace(shot, ground=msgspec.structs.replace(shot.ground, on_ground=ids))

        self.session.edit("Set the ground", change)

    def _origin(self) -> None:
        self.session.edit_part("Set the origin", "ground", origin=self._known()[0])

    def _distance(self) -> None:
        a, b = self._known()
        self.session.edit_part("Set a distance", "ground", distance=(a, b, self.metres.value))

    def refresh(self) -> None:
        super().refresh()
        shot, known = self.session.shot, self._known()
        free = shot.solve is not None and shot.solve.motion == "free"
        self.on_ground.setEnabled(free and len(known) >= 3)
        self.origin.setEnabled(free and len(known) == 1)
        self.distance.setEnabled(free and len(known) == 2)
        self.chosen.setText(
            f"{len(known)} with a place in the scene"
            if known
            else "Choose marks on the ground in the picture: click, Shift, or a line drawn round them."
        )
        if shot.solve is not None and not free:
            self.chosen.setText("A camera that only turns gives directions, no distances: say how high over the ground it stood.")
        self.eye.show_value(shot.ground.eye_height)
        for part in (self.eye, self.eye_label):
            part.setVisible(shot.solve is not None and not free)
        g = shot.ground
        for key, there, text in (("ground", bool(g.on_ground), f"Ground through {len(g.on_ground)} points" if g.on_ground else "Ground: the largest level plane"),
                                 ("origin", g.origin is not None, f"Origin at track {g.origin}" if g.origin is not None else "Origin: below the middle of the points"),
                                 ("distance", g.distance is not None, f"Tracks {g.distance[0]} and {g.distance[1]} are {g.distance[2]:g} m apart" if g.distance else "No distance: units, not metres")):  # fmt: skip
            self.lines[key][0].setText(text)
            self.lines[key][1].setVisible(there)
        self.facts.setVisible(shot.solve is not None)
        if shot.solve is not None:
            place = scene_frame(shot)
            heights = place.points(shot.solve.centres)[:, 2]
            unit = "m" if g.distance else "units"
            self.rows["Camera"][0].setText(f"{np.mean(heights):.2f} {unit}")
            self.rows["Camera"][1].setText("over the ground")
            self.rows["Points"][0].setText(f"{len(shot.solve.xyz)}")
            z = place.points(shot.solve.xyz)[:, 2]
            self.rows["Points"][1].setText(f"{np.mean(np.abs(z) < 0.02 * np.median(np.abs(place.points(shot.solve.xyz)[:, 1]))):.0%} on the ground")
