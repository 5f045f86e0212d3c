"""Placing objects: on the surface under the pointer, or far away along the view."""

from pathlib import Path

import msgspec
import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.keyed import constant
from lodestar.core.edits import placing
from lodestar.core.edits.arrange import added, new_id
from lodestar.core.evaluate.ground import hidden_share
from lodestar.core.evaluate.pointing import Points, ground_under, placed_whole, surface_under
from lodestar.core.media.pictures import picture_size
from lodestar.core.scene.surfaces import Patch, heading_towards, on_ground
from lodestar.core.shot.objects import Box, Object

from ... import theme
from ...derived import covariances_of, points_of
from ...measures import figure, length, shown
from ...session import PICTURES
from .. import drawing, overlays
from .marks import Lasso, caught
from .tool import NUMBER, REACH_PX, HeightTool, Tool

SNAPS = {
    "surface": "the surface that the points make",
    "ground": "the level ground",
    "wall": "an upright wall",
    "point": "the nearest point",
    "far": "a set distance along the view",
}


class PlaceObject(Tool):
    """Shows the surface under the pointer; a click puts an object there. Shift and click adds a point to the surface, Alt and
    click drops one, a line drawn round points takes these and no others."""

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.lasso = Lasso()
        self.chosen: np.ndarray | None = None  # rows of the solve's points that the user chose for the surface

    def hint(self) -> str:
        snap = self.session.snap
        if snap == "far":
            return (
                f"Click: {self._noun()} {length(self.session.far_distance, self.session.unit, '.4g')} away along the view · digits set the distance"
            )
        if self.chosen is not None:
            return f"Surface of {len(self.chosen)} chosen points · Shift and click adds one, Alt and click drops one · Escape lets them go"
        return f"Click where {self._noun()} shall stand · Shift and click, or a line drawn round points, chooses the surface"

    def _noun(self) -> str:
        return f"the {self.label.lower()}"

    def can_begin(self) -> bool:
        """Ask for what the object is made of (a file); False when there is none."""
        return True

    # the surface

    def patch(self) -> Patch | None:
        camera, shot = self.canvas.camera(), self.session.shot
        if self.pointer is None or camera is None:
            return None
        return surface_under(
            shot, camera, self.canvas.to_plate(self.pointer), self._points(), self.session.snap, self.session.far_distance, self.chosen
        )

    def _points(self) -> Points:
        return Points(points_of(self.session.shot), covariances_of(self.session.shot))

    def _nearest_row(self, at: QPointF) -> int | None:
        points, camera = points_of(self.session.shot), self.canvas.camera()
        if camera is None or not len(points):
            return None
        xy, depth = camera.project(points)
        away = np.where(depth > 0, np.linalg.norm(self.canvas.to_widget(xy) - [at.x(), at.y()], axis=1), np.inf)
        return int(away.argmin()) if away.min() < 2 * REACH_PX else None

    def _choose(self, event, add: bool) -> None:
        row, patch = self._nearest_row(event.position()), self.patch()
        if row is None:
            self.refuse("There is no point under the pointer.", "Point at one of the dots.")
            return
        rows = self.chosen if self.chosen is not None else patch.rows if patch is not None else np.zeros(0, int)
        self.chosen = np.union1d(rows, [row]) if add else np.setdiff1d(rows, [row])
        self.session.view_changed.emit()

    # mouse and keys

    def press(self, event) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.lasso.begin(event)

    def move(self, event) -> None:
        self.lasso.go_on(event)
        super().move(event)

    def release(self, event) -> None:
        self.pointer = event.position()
        if event.button() != Qt.MouseButton.LeftButton or not self.lasso.line:
            return
        shape = self.lasso.end()
        if shape is not None:
            self._choose_inside(shape)
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._choose(event, True)
        elif event.modifiers() & Qt.KeyboardModifier.AltModifier:
            self._choose(event, False)
        else:
            self.place()

    def _choose_inside(self, shape) -> None:
        points, camera = points_of(self.session.shot), self.canvas.camera()
        if camera is None or not len(points):
            return
        xy, depth = camera.project(points)
        front = np.flatnonzero(depth > 0)
        rows = front[caught(shape, self.canvas.to_widget(xy[front]))]
        if len(rows) < 3:
            self.refuse(f"{len(rows)} points lie inside that line; a surface needs three.", "Draw it round more of the dots.")
            return
        self.chosen = rows
        self.session.view_changed.emit()

    def place(self) -> None:
        patch = self.patch()
        if patch is None:
            hint = "Point at the ground or at a wall where tracks are, or look at it less from the side."
            if self.chosen is not None:
                hint = "The chosen points make no surface that is seen from here: choose others, or Escape."
            if self.session.snap == "wall" and self.chosen is None:
                hint = "No points stand up there. Choose points of the wall, or let it snap to the surface or the ground."
            what = "wall" if self.session.snap == "wall" else "surface"
            self.refuse(f"There is no {what} under the pointer, so nothing was placed.", hint)
            return
        shot, frame, camera = self.session.shot, self.session.frame, self.canvas.camera()
        on_surface = self.session.snap in ("surface", "wall")
        ground = ground_under(shot, camera, self.canvas.to_plate(self.pointer), points_of(shot)) if on_surface else None
        try:
            item, patch = placed_whole(shot, self.make, patch, ground, lambda made: hidden_share(added(shot, made), made, frame), frame)
        except UserError as error:
            self.session.fail(error)
            return
        self.chosen = None
        self.put(item)
        if patch.note:
            self.session.tell(f"{item.name} stands on the level ground: {patch.note}.", "If that is the true surface, set the ground there first.")

    def put(self, item: Object) -> None:
        self.session.edit(f"Place {item.name}", lambda s: added(s, item))
        self.session.select(item.id)
        self.session.use_tool("move")

    def wants(self, text: str) -> bool:
        return self.session.snap == "far" and bool(text) and text in NUMBER

    def key(self, event) -> bool:
        if event.key() == Qt.Key.Key_Escape:
            self.chosen, self.typed = None, ""
        elif self.wants(event.text()) or (self.typed and event.key() == Qt.Key.Key_Backspace):
            self.typed = self.typed[:-1] if event.key() == Qt.Key.Key_Backspace else self.typed + event.text()
            number = self.typed_length()
            if number is not None and number > 0:
                self.session.far_distance = number
        else:
            return False
        self.session.view_changed.emit()
        return True

    # what is made

    def spot(self, patch: Patch) -> placing.Spot:
        return placing.Spot(self.session.shot, self.canvas.camera(), patch, self.session.frame, self.session.snap not in ("far", "point"))

    def make(self, patch: Patch) -> Object:
        raise NotImplementedError

    # paint

    def paint(self, p: QPainter) -> None:
        self.lasso.paint(p)
        patch, camera = self.patch(), self.canvas.camera()
        if patch is None or camera is None or self.pointer is None:
            return
        paint_patch(p, self.canvas, camera, patch)
        points = points_of(self.session.shot)
        if len(patch.rows) and len(points):
            xy, _ = camera.project(points[patch.rows])
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(QColor("#FFFFFF" if self.chosen is not None else theme.RAMP[0][1]))
            for at in self.canvas.to_widget(xy):
                p.drawEllipse(QPointF(*at), 2.2, 2.2)
        drawing.tag(p, self.pointer + QPointF(-40, 34), [self._words(patch)])

    def _words(self, patch: Patch) -> str:
        snap = self.session.snap
        if snap == "far":
            return f"{length(self.session.far_distance, self.session.unit, '.4g')} away"
        slides = f" · slip {figure(max(patch.slip_px, 0.1), 1)} px" if np.isfinite(patch.slip_px) else ""
        if snap == "point" and len(patch.rows) == 1:
            return f"one point{slides}"
        if patch.note:
            return f"level ground{slides} · {patch.note}"
        if not len(patch.rows) or snap == "ground":
            return f"level ground{slides}" if slides else "level ground · no points near"
        flat = f"{figure(patch.flatness * 1000, 0)} mm" if shown(self.session.unit)[0] == "m" else length(patch.flatness, self.session.unit, 3)
        return f"{len(patch.rows)} points · flat to {flat}{slides}"


def paint_patch(p: QPainter, canvas, camera, patch: Patch) -> None:
    """A small square of grid on the surface, true in perspective, with a stalk for its normal."""
    x = np.cross([0, 0, 1.0] if abs(patch.normal[2]) < 0.9 else [0, 1.0, 0], patch.normal)
    x /= np.linalg.norm(x)
    y = np.cross(patch.normal, x)
    size = 0.05 * float(np.linalg.norm(patch.centre - camera.centre))
    corner = lambda i, j: patch.centre + size * (i / 2 * x + j / 2 * y)
    p.setPen(QPen(QColor(theme.ACCENT), 1.2))
    outline = [camera.project(corner(i, j))[0] for i, j in ((-2, -2), (2, -2), (2, 2), (-2, 2))]
    p.setBrush(theme.colour(theme.ACCENT, 0.16))
    p.drawPolygon(drawing.polygon(canvas.to_widget(np.array(outline))))
    for k in range(-2, 3):
        for a, b in ((corner(k, -2), corner(k, 2)), (corner(-2, k), corner(2, k))):
            p.drawPolyline(drawing.polygon(canvas.to_widget(drawing.project_line(camera, a, b, 6))))
    stalk = drawing.project_line(camera, patch.centre, patch.centre + patch.normal * size * 1.4, 6)
    p.drawPolyline(drawing.polygon(canvas.to_widget(stalk)))


class PlaceTitle(PlaceObject):
    name, label, icon, tip = "title", "Title", "type", "Point at a surface and click: a title stands there"

    def make(self, patch: Patch) -> Object:
        return placing.title_at(self.spot(patch))


DRAWINGS = "Drawings and cut-out pictures (*.svg *.png *.tif *.tiff)"


class FileObject(PlaceObject):
    """Something that is made from a file, which is asked for when the tool is taken in hand."""

    kind = "picture"
    filter = ""

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.path = ""

    def can_begin(self) -> bool:
        path = self.session.ask_file(f"Choose a {self.label.lower()}", self.kind, self.filter)
        self.path = path or self.path
        return bool(self.path)


class PlaceLogo(FileObject):
    name, label, icon, tip = (
        "logo",
        "Logo",
        "shapes",
        "Choose a drawing (SVG) or a cut-out picture, point at a surface and click: it stands there as a solid",
    )
    kind, filter = "logo", DRAWINGS

    def place(self) -> None:
        at = self.pointer

        def place(svg: str) -> None:
            self.svg, self.pointer = svg, at
            super(PlaceLogo, self).place()

        self.session.work.read_drawing(Path(self.path), place)

    def make(self, patch: Patch) -> Object:
        return placing.logo_at(self.spot(patch), self.svg, Path(self.path).stem)


class PlaceCard(PlaceObject):
    name, label, icon, tip = "card", "Card", "square", "Point at a surface and click: a plain card stands there, or hangs flat on a wall"

    def make(self, patch: Patch) -> Object:
        return placing.card_at(self.spot(patch))


class PlacePicture(FileObject):
    name, label, icon, tip = "picture", "Picture", "image", "Choose a picture, movie or sequence; it stands on a card where you click"
    kind, filter = "card", PICTURES

    def place(self) -> None:
        at = self.pointer

        def place(_: object) -> None:
            self.pointer = at
            super(PlacePicture, self).place()

        self.session.work.read_media(self.path, lambda: picture_size(self.path), place)

    def make(self, patch: Patch) -> Object:
        return placing.picture_at(self.spot(patch), self.path)


class PlaceCheck(PlaceObject):
    name, label, icon, tip = "check", "Check pattern", "grid-3x3", "One click lays a grid card on the surface: play, and see whether it sticks"

    def make(self, patch: Patch) -> Object:
        return placing.check_pattern_at(self.spot(patch))


class PlaceAnchor(PlaceObject):
    name, label, icon, tip = "anchor", "Anchor", "anchor", "An empty place in the scene, which can carry others"

    def make(self, patch: Patch) -> Object:
        return placing.anchor_at(self.spot(patch))


class DrawBox(HeightTool):
    """A box from its foot: drag over the ground, let go, move up to its height and click (or type it)."""

    name, label, icon, tip = "box", "Box", "box", "Drag its foot over the ground, then click at its top"
    stand_in = False

    def __init__(self, canvas) -> None:
        super().__init__(canvas)
        self.start: np.ndarray | None = None
        self.end: np.ndarray | None = None
        self.dragging = False

    def hint(self) -> str:
        if self.start is not None and not self.dragging:
            return "Move up to its height and click, or type it and Enter · Escape drops it"
        return "Drag from one corner of its foot on the ground to the other"

    def _ground(self, at: QPointF) -> np.ndarray | None:
        camera = self.canvas.camera()
        return None if camera is None else on_ground(camera, self.canvas.to_plate(at), 1e4)

    def press(self, event) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if self.start is not None:
            self.take(self._height(event.position()))
            return
        self.start = self.end = self._ground(event.position())
        self.dragging = self.start is not None
        if self.start is None:
            self.refuse("The foot must stand on the ground, below the horizon.", "Begin at a corner of its foot.")

    def move(self, event) -> None:
        if self.dragging:
            end = self._ground(event.position())
            self.end = end if end is not None else self.end
        super().move(event)

    def release(self, event) -> None:
        if self.dragging:
            self.dragging = False
            if self.end is None or self.start is None or np.linalg.norm(self.end - self.start) < 1e-3:
                self.start = self.end = None
        self.session.view_changed.emit()

    def _foot(self) -> tuple[float, np.ndarray, np.ndarray]:
        """Heading, middle (3,) and extent (2,) of the foot; its sides run with the view, as the drag did."""
        camera = self.canvas.camera()
        heading = heading_towards(camera.R[2])
        a = np.deg2rad(heading)
        x, y = np.array([np.cos(a), np.sin(a), 0]), np.array([-np.sin(a), np.cos(a), 0])
        assert self.start is not None and self.end is not None
        d = self.end - self.start
        return heading, (self.start + self.end) / 2, np.abs([d @ x, d @ y])

    def _height(self, at: QPointF) -> float:
        """Height at which the pointer's ray passes nearest to the upright through the middle of the foot's near side."""
        camera = self.canvas.camera()
        d = camera.rays(self.canvas.to_plate(at))
        assert self.start is not None
        w = self.start - camera.centre
        return max(float((w[:2] @ d[:2]) / max(d[:2] @ d[:2], 1e-9) * d[2] - w[2]), 0.0)

    def take(self, height: float) -> None:
        heading, middle, extent = self._foot()
        self.start = self.end = None
        self.typed = ""
        if height < 1e-3 or extent.min() < 1e-4:
            self.refuse("That box has no height or no foot.", "Drag its foot again, and click above it.")
            self.session.view_changed.emit()
            return
        item = Box(
            id=new_id(),
            position=constant(*np.round(middle, 4)),
            turn=constant(round(heading, 1), 0, 0),
            drawn=not self.stand_in,
            hides=self.stand_in,
            receives=self.stand_in,
            extent=constant(*np.round([*extent, height], 4)),
        )
        self.session.edit("Draw a box", lambda s: added(s, item))
        self.session.select(item.id)
        self.session.use_tool("move")

    def in_hand(self) -> bool:
        return self.start is not None

    def let_go(self) -> None:
        self.start = self.end = None

    def paint(self, p: QPainter) -> None:
        camera = self.canvas.camera()
        if self.start is None or camera is None or self.pointer is None:
            return
        typed = self.typed_length()
        height = 0.0 if self.dragging else typed if typed is not None else self._height(self.pointer)
        heading, middle, extent = self._foot()
        box = Box(id="", position=constant(*middle), turn=constant(heading, 0, 0), extent=constant(*np.maximum([*extent, height], 1e-4)))
        overlays.paint_wire(p, self.canvas, camera, msgspec.structs.replace(self.session.shot, objects=(box,)), box, QColor(theme.ACCENT))
        unit = self.session.unit
        drawing.tag(
            p,
            self.pointer + QPointF(16, 12),
            [f"{length(extent[0], unit)} × {length(extent[1], unit)}" + (f" · {length(height, unit)} high" if not self.dragging else "")],
        )


class DrawBoxStandIn(DrawBox):
    name, label, icon, tip = (
        "box-stand-in",
        "Box of the place",
        "box",
        "For something parked or built: it hides what is behind it and takes shadows, unseen itself",
    )
    stand_in = True
