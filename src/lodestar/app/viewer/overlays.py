"""What is drawn over the picture: marks of tracks, the ground's grid and the horizon, outlines, tags."""

import functools
from collections import defaultdict
from collections.abc import Iterable

import cv2
import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QFontMetricsF, QImage, QPainter, QPainterPath, QPen

from lodestar.core.basics.identity import Same
from lodestar.core.evaluate.carrying import outline_at
from lodestar.core.evaluate.objects import mesh_of, model_of, pose_of
from lodestar.core.matte.outline import STEPS, parts_of, shares_at
from lodestar.core.matte.sources import Outline, line_of
from lodestar.core.matte.strokes import HAIR, INSIDE, OUTSIDE, Brushed, Stroke
from lodestar.core.projection.camera import Camera
from lodestar.core.scene.poses import moved
from lodestar.core.shape.extrude import Mesh
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Object

from .. import theme
from . import track_marks
from .drawing import lines, polygon, project_line, project_lines

GRID = 12  # cells on each side of the origin
EDGE = 180  # of 255: how white, and how much of it, the line along the edge of a matte is
NAMES_BELOW = 4  # names that stand below each other at most, of things in one place


def paint(p: QPainter, canvas) -> None:
    """All overlays that belong to the step on show."""
    session = canvas.session
    step = session.step
    if step == "Ground" and canvas.drawn["grid"]:
        paint_ground(p, canvas, strong=True)
    if step in ("Place", "Light") and canvas.drawn["floor"]:
        paint_ground(p, canvas, strong=False)
    if step == "Ground":
        paint_lines(p, canvas)
    if step in ("Place", "Light") and canvas.drawn["handles"]:
        paint_anchors(p, canvas)
    if step in ("Place", "Light", "Foreground") and canvas.drawn["stand-ins"]:
        paint_stand_ins(p, canvas)
    # lines and handles are drawn along the picture itself, which a thousand marks would cover
    choosing = step in ("Place", "Ground") and session.tool == "marks"
    if (choosing or step in ("Track", "Solve")) and session.shot.tracks is not None and canvas.drawn["marks"]:
        track_marks.paint(p, canvas, session.shot.tracks)
    if step == "Track":
        for region in session.shot.regions:
            paint_outline(p, canvas, region, region.id == session.selected, hatch=True)
    if step == "Foreground" and canvas.drawn["mattes"]:
        for matte in session.shot.mattes:
            if isinstance(matte, Brushed) and canvas.matte_view == "picture":
                paint_brushed(p, canvas, matte, matte.id == session.selected)
            elif isinstance(matte, Outline):
                paint_outline(p, canvas, matte, matte.id == session.selected)
    if step == "Light" and canvas.drawn["handles"]:
        paint_shadows(p, canvas)


def paint_names(p: QPainter, names: Iterable[tuple[QPointF, str, QColor]]) -> None:
    """Names at places of the view, in their tints. Two in one place are none: the later one goes some lines lower, or is left out."""
    metrics = QFontMetricsF(theme.font(12))
    line, taken = metrics.height(), defaultdict[int, list[QRectF]](list)  # by the line of the view that they begin in
    row = lambda room: int(room.top() // line)
    free = lambda room: not any(room.intersects(other) for near in (-1, 0, 1) for other in taken[row(room) + near])
    p.setFont(theme.font(12))
    for at, name, tint in names:
        lower = next((k for k in range(NAMES_BELOW) if free(metrics.boundingRect(name).translated(at.x(), at.y() + k * line))), None)
        if lower is not None:
            at = QPointF(at.x(), at.y() + lower * line)
            room = metrics.boundingRect(name).translated(at)
            taken[row(room)].append(room)
            p.setPen(tint)
            p.drawText(at, name)


def paint_wire(p: QPainter, canvas, camera: Camera, shot: Shot, item: Object, tint: QColor) -> None:
    """The edges of an object's solid as wire, so that its fit can be judged while playing."""
    m, mesh = model_of(shot, item, canvas.session.frame), mesh_of(item, canvas.session.frame)
    if len(mesh.triangles) == 0:
        return
    ends = edges_of(mesh, smooth=item.UNEVEN)
    # long edges bend with the lens, so each is drawn in a few pieces
    pieces = 8 if len(ends) < 40 else 1
    share = np.linspace(0, 1, pieces + 1)[None, :, None]
    world = moved(m, mesh.vertices.astype(float))
    points = world[ends[:, :1]] * (1 - share) + world[ends[:, 1:]] * share
    xy, depth = camera.project(points)
    good = (depth > 0.05).all(1)
    p.setPen(QPen(tint, 1))
    p.setBrush(Qt.BrushStyle.NoBrush)
    at = canvas.to_widget(xy[good])
    p.drawLines(lines(at[:, :-1].reshape(-1, 2), at[:, 1:].reshape(-1, 2)))


_edges: dict[int, tuple[Mesh, np.ndarray]] = {}


def edges_of(mesh: Mesh, smooth: bool) -> np.ndarray:
    """(n, 2) rows of the corners of the edges to draw: all of uneven ground's, else those where the surface breaks."""
    kept = _edges.get(id(mesh))
    if kept is not None and kept[0] is mesh:
        return kept[1]
    _, same = np.unique(mesh.vertices.round(6), axis=0, return_inverse=True)
    p, t = mesh.vertices.astype(float), mesh.triangles
    face = np.cross(p[t[:, 1]] - p[t[:, 0]], p[t[:, 2]] - p[t[:, 0]])
    face /= np.maximum(np.linalg.norm(face, axis=1, keepdims=True), 1e-12)
    pairs: dict[tuple[int, int], list[tuple[int, int, int]]] = {}
    for k, triangle in enumerate(t):
        for a, b in ((0, 1), (1, 2), (2, 0)):
            i, j = int(same[triangle[a]]), int(same[triangle[b]])
            pairs.setdefault((min(i, j), max(i, j)), []).append((k, int(triangle[a]), int(triangle[b])))
    found = [own[0][1:] for own in pairs.values() if smooth or len(own) < 2 or face[own[0][0]] @ face[own[1][0]] < 0.9]
    ends = np.array(found, int).reshape(-1, 2)
    if len(_edges) > 32:
        _edges.clear()
    _edges[id(mesh)] = (mesh, ends)
    return ends


def paint_stand_ins(p: QPainter, canvas) -> None:
    """What stands in for the place, as wire; the chosen one bright."""
    camera, shot = canvas.camera(), canvas.session.shot
    if camera is None:
        return
    for item in shot.objects:
        if not item.drawn and item.visible and item.BODY:
            chosen = item.id == canvas.session.selected
            paint_wire(p, canvas, camera, shot, item, theme.colour(theme.ACCENT if chosen else theme.READING, 0.9 if chosen else 0.55))


def paint_lines(p: QPainter, canvas) -> None:
    """Uprights and the horizon that were drawn, bright in their own frame."""
    said, frame = canvas.session.shot.ground, canvas.session.frame
    for line in (*said.uprights, *([said.horizon] if said.horizon else [])):
        here = line.frame == frame
        if not here:
            continue
        a, b = canvas.to_widget(np.array(line.a)), canvas.to_widget(np.array(line.b))
        p.setPen(QPen(theme.colour("#000000", 0.5), 3))
        p.drawLine(QPointF(*a), QPointF(*b))
        p.setPen(QPen(QColor("#FFFFFF"), 1.4))
        p.drawLine(QPointF(*a), QPointF(*b))


def paint_anchors(p: QPainter, canvas) -> None:
    """An anchor is three short bars along its axes."""
    camera, shot, frame = canvas.camera(), canvas.session.shot, canvas.session.frame
    for item in shot.objects:
        if camera is None or item.BODY or not item.visible:
            continue
        m = pose_of(shot, item, frame)
        at, _ = camera.project(m[:3, 3])
        reach = 0.03 * float(np.linalg.norm(m[:3, 3] - camera.centre)) / max(float(np.linalg.norm(m[:3, 0])), 1e-9)
        for k, tint in enumerate(theme.AXES):
            line = project_line(camera, moved(m, np.zeros(3)), moved(m, np.eye(3)[k] * reach), 4)
            if len(line) > 1:
                p.setPen(QPen(QColor(tint), 1.6))
                p.drawPolyline(polygon(canvas.to_widget(line)))


def paint_ground(p: QPainter, canvas, strong: bool) -> None:
    """Grid of one unit round the origin, the axes at the origin, and the horizon."""
    camera = canvas.camera()
    if camera is None:
        return
    p.save()
    p.setClipRect(canvas.picture_rect())
    _paint_ground(p, canvas, camera, strong)
    p.restore()


def _paint_ground(p: QPainter, canvas, camera: Camera, strong: bool) -> None:
    alpha = 0.34 if strong else 0.10
    p.setPen(QPen(theme.colour("#FFFFFF", alpha), 1))
    p.setBrush(Qt.BrushStyle.NoBrush)
    cells = np.arange(-GRID, GRID + 1.0)
    along = np.stack([cells, 0 * cells - GRID, 0 * cells], 1), np.stack([cells, 0 * cells + GRID, 0 * cells], 1)
    a, b = (np.concatenate([ends, ends[:, [1, 0, 2]]]) for ends in along)
    for line in project_lines(camera, a, b, 40):
        if len(line) > 1:
            p.drawPolyline(polygon(canvas.to_widget(line)))
    if not strong:
        return
    for axis, tint in enumerate(theme.AXES):
        line = project_line(camera, np.zeros(3), np.eye(3)[axis])
        if len(line) > 1:
            p.setPen(QPen(QColor(tint), 2))
            p.drawPolyline(polygon(canvas.to_widget(line)))
    ahead = np.arctan2(camera.R[2, 0], camera.R[2, 1])
    around = ahead + np.deg2rad(np.linspace(-60, 60, 61))
    far = camera.centre + 1e5 * np.stack([np.sin(around), np.cos(around), 0 * around], 1)
    xy, depth = camera.project(far)
    line = canvas.to_widget(xy[depth > 0.2 * 1e5])
    if len(line) > 1:
        p.setPen(QPen(theme.colour(theme.TEXT, 0.75), 1, Qt.PenStyle.DashLine))
        p.drawPolyline(polygon(line))
        x = canvas.picture_rect().left() + 10
        p.setFont(theme.font(11))
        p.drawText(QPointF(x, float(np.interp(x, line[:, 0], line[:, 1])) - 5), "horizon")


GHOST = 0.4  # opacity of a shape at another frame


def paint_outline(p: QPainter, canvas, outline: Outline, chosen: bool, hatch: bool = False) -> None:
    points = outline_at(canvas.session.shot, outline, canvas.session.frame)
    line = canvas.to_widget(line_of(outline, points))
    tint = theme.ACCENT if chosen else theme.READING
    p.setPen(QPen(theme.colour(tint, 1.0 if outline.on else 0.4), 1.4 if chosen else 1, Qt.PenStyle.SolidLine if outline.on else Qt.PenStyle.DotLine))
    p.setBrush(QColor(0, 0, 0, 0))
    if hatch:
        brush = theme.colour(tint, 0.25)
        p.setBrush(brush)
        path = QPainterPath()
        path.addPolygon(polygon(line))
        if outline.inverted:
            whole = QPainterPath()
            whole.addRect(canvas.picture_rect())
            path = whole.subtracted(path)
        p.fillPath(path, QBrush(brush, Qt.BrushStyle.BDiagPattern))
        p.setBrush(Qt.BrushStyle.NoBrush)
    draw_line(p, outline, line)
    if chosen:
        keyed = outline.keyed_at(canvas.session.frame)
        corners, handles = parts_of(canvas.to_widget(points), outline.handled)
        p.setPen(QPen(theme.colour(theme.ACCENT, 0.7), 1))
        p.setBrush(QColor(theme.FIELD))
        for corner, ends in zip(outline.handled, handles, strict=True):
            for end in ends:
                p.drawLine(QPointF(*corners[corner]), QPointF(*end))
                p.drawEllipse(QPointF(*end), 2.5, 2.5)
        for k, (x, y) in enumerate(corners):
            p.setPen(QPen(QColor(theme.ACCENT), 1))
            p.setBrush(QColor("#FFFFFF") if k in keyed else QColor(theme.FIELD))
            paint_corner(p, x, y, k in outline.sharp)
        _paint_feather(p, canvas, outline, points)


def paint_corner(p: QPainter, x: float, y: float, sharp: bool) -> None:
    mark = QRectF(x - 3, y - 3, 6, 6)
    p.drawRect(mark) if sharp else p.drawEllipse(mark)


def _paint_feather(p: QPainter, canvas, outline: Outline, points: np.ndarray) -> None:
    """Where the feather of an outline ends, as a dotted line."""
    feather = outline.feather.at(canvas.session.frame)[0]
    line = line_of(outline, points)
    if feather < 1 or len(line) < 3:
        return
    along = np.gradient(np.concatenate([line[-1:], line, line[:1]]), axis=0)[1:-1] if outline.closed else np.gradient(line, axis=0)
    normal = np.stack([along[:, 1], -along[:, 0]], 1) / np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-9)
    if outline.closed and (line[:, 0] * np.roll(line[:, 1], -1) - line[:, 1] * np.roll(line[:, 0], -1)).sum() < 0:
        normal = -normal
    share = shares_at(outline.feathers, outline.count, outline.closed, np.arange(len(line)) / STEPS)
    reach = feather * share + (0 if outline.closed else outline.width.at(canvas.session.frame)[0] / 2)
    p.setPen(QPen(theme.colour(theme.ACCENT, 0.8), 1, Qt.PenStyle.DotLine))
    p.setBrush(Qt.BrushStyle.NoBrush)
    for side in (1,) if outline.closed else (1, -1):
        draw_line(p, outline, canvas.to_widget(line + side * reach[:, None] * normal))


def draw_line(p: QPainter, outline: Outline, line: np.ndarray) -> None:
    """The line of an outline, (n, 2) px of the widget: closed or open."""
    p.drawPolygon(polygon(line)) if outline.closed else p.drawPolyline(polygon(line))


def paint_brushed(p: QPainter, canvas, source: Brushed, chosen: bool) -> None:
    """What was found of a subject on this frame, as a tint; and where it is in hand, the strokes that it was found from."""
    found = source.at(canvas.session.frame)
    if found is not None and found.alpha.size and source.on:
        rows, columns = found.alpha.shape
        a, b = canvas.to_widget(np.array([[found.left - 0.5, found.top - 0.5], [found.left + columns - 0.5, found.top + rows - 0.5]]))
        p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        p.drawImage(QRectF(QPointF(*a), QPointF(*b)), _tinted(Same(found), theme.ACCENT if chosen else theme.READING))
    if chosen:
        for stroke in source.strokes:
            if stroke.frame == canvas.session.frame:
                paint_stroke(p, canvas, stroke)


@functools.lru_cache(maxsize=4)  # one of a whole 4K frame has 33 MB
def _tinted(found: Same, tint: str) -> QImage:
    """A matte of one frame as it is laid over the picture: a tint, with a light line along its edge, which tells it from a subject of the tint's colour."""
    alpha, colour = found.of.alpha, QColor(tint)
    table = np.outer(np.arange(256) * 0.45, [colour.blueF(), colour.greenF(), colour.redF(), 1.0]).astype(np.uint8)
    pixels = cv2.LUT(cv2.merge([alpha] * 4), table[:, None])
    pixels[cv2.morphologyEx((alpha > 127).astype(np.uint8), cv2.MORPH_GRADIENT, np.ones((3, 3), np.uint8)) > 0] = EDGE
    rows, columns = alpha.shape
    return QImage(pixels.tobytes(), columns, rows, columns * 4, QImage.Format.Format_ARGB32_Premultiplied).copy()


def paint_stroke(p: QPainter, canvas, stroke: Stroke) -> None:
    """A stroke of the brush: a solid line for inside, a broken one for outside, a dotted one for hair."""
    line = canvas.to_widget(np.array(stroke.line).reshape(-1, 2))
    lines = {INSIDE: (theme.ACCENT, Qt.PenStyle.SolidLine), OUTSIDE: (theme.TEXT, Qt.PenStyle.DashLine), HAIR: (theme.ACCENT, Qt.PenStyle.DotLine)}
    tint, style = lines[stroke.means]
    p.setPen(
        QPen(theme.colour(tint, 0.28), 2 * stroke.radius * canvas.scale, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin)
    )
    p.drawPolyline(polygon(line if len(line) > 1 else np.repeat(line, 2, 0) + [[0, 0], [0.01, 0]]))
    p.setPen(QPen(QColor(tint), 1.4, style))
    p.drawPolyline(polygon(line))


def paint_shadows(p: QPainter, canvas) -> None:
    """The shadows that were drawn: foot, tip and the ray from tip to top."""
    camera = canvas.camera()
    if camera is None:
        return
    for shadow in canvas.session.shot.shadow.lines:
        foot, tip = np.array(shadow.foot), np.array(shadow.tip)
        paint_shadow(p, canvas, camera, foot, tip, foot + [0, 0, shadow.height], False)


def paint_shadow(p: QPainter, canvas, camera: Camera, foot: np.ndarray, tip: np.ndarray, top: np.ndarray, in_hand: bool) -> None:
    tint = QColor(theme.ACCENT if in_hand else "#FFFFFF")
    for a, b, style in ((foot, tip, Qt.PenStyle.SolidLine), (foot, top, Qt.PenStyle.SolidLine), (tip, top, Qt.PenStyle.DotLine)):
        line = project_line(camera, a, b)
        if len(line) > 1:
            p.setPen(QPen(tint, 2 if in_hand and b is tip else 1, style))
            p.drawPolyline(polygon(canvas.to_widget(line)))
    for point in (foot, tip, top):
        xy, depth = camera.project(point)
        if depth > 0:
            p.setPen(Qt.PenStyle.NoPen)
            p.setBrush(tint)
            p.drawEllipse(QPointF(*canvas.to_widget(xy)), 3, 3)


def paint_ghosts(p: QPainter, canvas, outline: Outline) -> None:
    """The shape of an outline at the keys before and after this frame, so that one sees where it comes from (whole line) and goes to (dashes)."""
    frame, frames = canvas.session.frame, [key.frame for key in outline.shape.keys]
    before, after = [f for f in frames if f < frame], [f for f in frames if f > frame]
    p.setBrush(Qt.BrushStyle.NoBrush)
    for near, style in ((before[-1:], Qt.PenStyle.SolidLine), (after[:1], Qt.PenStyle.DashLine)):
        for at in near:
            p.setPen(QPen(theme.colour(theme.READING, GHOST), 1, style))
            draw_line(p, outline, canvas.to_widget(line_of(outline, outline_at(canvas.session.shot, outline, at))))
