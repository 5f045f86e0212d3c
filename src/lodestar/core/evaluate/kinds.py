"""What each kind of object is at a time: its solid, its box, the picture on it, and what is wrong with it.

A new kind of object is a struct in `shot/objects.py` and a `Kind` here.
"""

import functools
from typing import Any, NamedTuple

import msgspec
import numpy as np

from ..basics.errors import UserError
from ..basics.geometry import turn_matrix
from ..basics.keyed import constant
from ..media.pictures import picture_frame, picture_problem
from ..shape.deform import Deformation, deformed, deformed_then
from ..shape.drawings import drawing_outlines, logo_mesh
from ..shape.drawn_text import asked_faces
from ..shape.extrude import Mesh
from ..shape.fonts import SHIPPED
from ..shape.solids import box_mesh, card_mesh, ground_mesh, tube_mesh
from ..shot.objects import Anchor, Box, Card, GroundMesh, Logo, Object, Solid, Title, Tube
from .counting import counted
from .deforming import LEAST, changes, deformations
from .lettering import Part, deepened, layers_at, letters_move, shifted, title_box, title_parts, title_places, title_problem

EMPTY = Mesh(np.zeros((0, 3), np.float32), np.zeros((0, 3), np.float32), np.zeros((0, 3), np.int32))
OVERSHOOT = 0.04  # cap heights (common practice, no source)
GRID_CELLS, GRID_PX = 8, 512


class OnIt(NamedTuple):
    """A picture on an object: (h, w, 4) uint8 straight alpha. paints: it takes the place of the object's colour."""

    pixels: np.ndarray
    paints: bool


class Side(NamedTuple):
    """A side of a solid that can be dragged: its middle (3,) and the unit vector (3,) outward in own axes, in metres, and the keyed value
    that it changes, by the number of its component."""

    at: np.ndarray
    along: np.ndarray
    part: str
    component: int


class Kind:
    """A kind of object; each method takes an object of it and a frame of the clip. This one has no body."""

    def mesh(self, item: Any, frame: float) -> Mesh:
        """The one solid, in axes that `stretch` takes to the object's own; empty where there is none."""
        return EMPTY

    def parts(self, item: Any, frame: float, fine: int = 0) -> list[Part]:
        """All of its solids. fine: how often round ones are made four times as true, since they are seen large."""
        return [Part(self.mesh(item, frame))]

    def places(self, item: Any, frame: float) -> np.ndarray | None:
        """(m, 4, 4) of all of its solids at a time, where they move within the object; None where they do not."""
        return None

    def stretch(self, item: Any, frame: float) -> np.ndarray:
        """(4, 4) from the axes of the mesh to the object's own, in metres."""
        return np.eye(4)

    def box(self, item: Any, frame: float) -> tuple[np.ndarray, np.ndarray]:
        """Low and high corner (3,) in own axes, in metres; quick, without making the solid."""
        return np.zeros(3), np.zeros(3)

    def sides(self, item: Any, frame: float) -> dict[str, Side]:
        """The sides that make it longer, by name; none where it is sized as a whole only."""
        return {}

    def picture(self, item: Any, frame: float) -> OnIt | None:
        """What is on it."""
        return None

    def problem(self, item: Any, frame: float) -> str:
        """What keeps it from being drawn as it should be; empty when nothing does."""
        return ""

    def still(self, item: Any, frame: float) -> Any:
        """The object with what it says written out, where that changes from frame to frame; within a frame it does not."""
        return item

    def draft(self, item: Any) -> Any:
        """The object with fewer triangles, for a view that turns."""
        return item


class Extrusions(Kind):
    """Letters and drawings: a solid of its height, with a depth and rounded edges."""

    def stretch(self, item: Any, frame: float) -> np.ndarray:
        height = max(item.height.at(frame)[0], LEAST)
        return np.diag([height, height, height, 1.0])

    def draft(self, item: Any) -> Any:
        return msgspec.structs.replace(item, bevel=constant(0.0), rounding=constant(0.0), panel=constant(0.0, 0.0))

    def deformed(self, item: Title | Logo, parts: list[Part], frame: float) -> list[Part]:
        """The solids with what deforms the object."""

        @functools.cache
        def by(at: float) -> tuple[Deformation, ...]:
            height = self.sizes(item, at)[0]
            low, high = self.box(item, at)
            return deformations(item, (low / height, high / height), at)

        if not item.deforms or not by(frame):
            return parts
        places = functools.cache(lambda at: self.places(item, at))
        # what moves through a deformation that stands still has another form at each time, too
        moves = changes(item) or places(frame) is not None

        def one(part: Part) -> Part:
            place = lambda at: part.place if (all_ := places(at)) is None else all_[part.number]
            later = lambda at: deformed_then(part.mesh, part.place, by(frame), place(at), by(at))
            return part._replace(mesh=deformed(part.mesh, part.place, by(frame)), later=later if moves else None)

        return [one(part) for part in parts]

    @staticmethod
    def sizes(item: Title | Logo, frame: float) -> tuple[float, float]:
        """Height and half of the depth, in metres."""
        return max(item.height.at(frame)[0], LEAST), max(item.depth.at(frame)[0], LEAST) / 2


class Letters(Extrusions):
    def still(self, item: Title, frame: float) -> Title:
        return counted(item, frame)

    def parts(self, item: Title, frame: float, fine: int = 0) -> list[Part]:
        try:
            still = counted(item, frame)
            return self.deformed(still, title_parts(still, frame, fine), frame)
        except UserError:  # told by `problem`; the picture goes on without it
            return []

    def places(self, item: Title, frame: float) -> np.ndarray | None:
        return title_places(counted(item, frame), frame) if letters_move(item) else None

    def box(self, item: Title, frame: float) -> tuple[np.ndarray, np.ndarray]:
        low, high = title_box(counted(item, frame), frame)
        # round letters reach a hair below the base line on which all stand
        low[2] = 0.0 if -OVERSHOOT < low[2] < 0 else low[2]
        height = self.sizes(item, frame)[0]
        return low * height, high * height

    def problem(self, item: Title, frame: float) -> str:
        return title_problem(counted(item, frame), frame)


class Drawings(Extrusions):
    def parts(self, item: Logo, frame: float, fine: int = 0) -> list[Part]:
        try:
            reliefs = [relief for relief in item.reliefs if relief.on]
            found = []
            for form, place, colour, opacity in layers_at(item, frame, fine):
                if not reliefs:
                    found.append(Part(logo_mesh(item.svg, form, lines=item.lines), place, colour, opacity))
                for relief in reliefs:
                    own = deepened(form, relief.depth.at(frame)[0])
                    forward = shifted(0.0, -relief.forward.at(frame)[0], 0.0)
                    found.append(
                        Part(logo_mesh(item.svg, own, relief.fill, item.lines), place @ forward, colour or relief.colour, opacity, 0, relief)
                    )
            return self.deformed(item, found, frame)
        except UserError:  # told by `problem`
            return []

    def box(self, item: Logo, frame: float) -> tuple[np.ndarray, np.ndarray]:
        try:
            wide = drawing_outlines(item.svg, item.lines)[1]
        except UserError:
            wide = 1.0
        height, half = self.sizes(item, frame)
        return np.array([-wide / 2 * height, -half, 0]), np.array([wide / 2 * height, half, height])

    def problem(self, item: Logo, frame: float) -> str:
        asked = asked_faces(item.svg)
        other = (
            f"The drawing asks for {', '.join(asked)}, which {'is' if len(asked) == 1 else 'are'} not here; {next(iter(SHIPPED))} stands in."
            if asked
            else ""
        )
        return _told(drawing_outlines, item.svg, item.lines) or other


class Standing(Kind):
    """A solid that stands on z = 0 round the z axis, of unit size before its stretch.

    SPANS: of each axis that it can be made longer along: the names of its two sides, low first, and the value and component of it.
    """

    DEEP = 0.5
    SPANS: dict[int, tuple[tuple[str, str], str, int]] = {}

    def box(self, item: Any, frame: float) -> tuple[np.ndarray, np.ndarray]:
        m = self.stretch(item, frame)[:3, :3]
        across, away = np.abs(m[:2, :2]) @ [0.5, self.DEEP]
        return np.array([-across, -away, 0.0]), np.array([across, away, m[2, 2]])

    def sides(self, item: Any, frame: float) -> dict[str, Side]:
        m = self.stretch(item, frame)[:3, :3]
        middle, found = m[:, 2] / 2, {}
        for axis, (names, part, component) in self.SPANS.items():
            along = m[:, axis] / np.linalg.norm(m[:, axis])
            for name, way in zip(names, (-1.0, 1.0), strict=True):
                found[name] = Side(middle + way * m[:, axis] / 2, way * along, part, component)
        return found


def movie_frame(item: Solid, path: str, frame: float) -> np.ndarray:
    """(h, w, 4) uint8 of the picture, sequence or movie at a path, which plays from the first frame of an object. Raises PlateError."""
    return picture_frame(path, int(frame) - (item.span[0] if item.span else 0))


class Cards(Standing):
    DEEP = 0.0
    SPANS = {0: (("left", "right"), "width", 0), 2: (("foot", "top"), "height", 0)}

    def mesh(self, item: Card, frame: float) -> Mesh:
        return card_mesh()

    def stretch(self, item: Card, frame: float) -> np.ndarray:
        m = np.eye(4)
        sides = np.diag([max(item.width.at(frame)[0], LEAST), 1, max(item.height.at(frame)[0], LEAST)])
        m[:3, :3] = turn_matrix((item.twist.at(frame)[0], 0, 0)) @ sides
        return m

    def picture(self, item: Card, frame: float) -> OnIt | None:
        if item.pattern == "grid":
            return OnIt(_GRID, False)
        if item.pattern != "picture" or not item.picture:
            return None
        try:
            return OnIt(movie_frame(item, item.picture, frame), True)
        except UserError:  # told by `problem`
            return None

    def problem(self, item: Card, frame: float) -> str:
        return picture_problem(item.picture) if item.pattern == "picture" else ""


class Boxes(Standing):
    SPANS = {0: (("left", "right"), "extent", 0), 1: (("front", "back"), "extent", 1), 2: (("foot", "top"), "extent", 2)}

    def mesh(self, item: Box, frame: float) -> Mesh:
        return box_mesh()

    def stretch(self, item: Box, frame: float) -> np.ndarray:
        return np.diag([*np.maximum(item.extent.at(frame), LEAST), 1.0])


class Tubes(Standing):
    SPANS = {2: (("foot", "top"), "length", 0)}

    def mesh(self, item: Tube, frame: float) -> Mesh:
        return tube_mesh()

    def stretch(self, item: Tube, frame: float) -> np.ndarray:
        wide = max(item.thickness.at(frame)[0], LEAST)
        return np.diag([wide, wide, max(item.length.at(frame)[0], LEAST), 1.0])


class Grounds(Kind):
    def mesh(self, item: GroundMesh, frame: float) -> Mesh:
        try:
            return ground_mesh(item.points, round(item.edge.at(frame)[0], 4), item.smooth, item.fill)
        except UserError:  # told by `problem`
            return EMPTY

    def box(self, item: GroundMesh, frame: float) -> tuple[np.ndarray, np.ndarray]:
        points = np.array(item.points or (0.0, 0.0, 0.0)).reshape(-1, 3)
        return points.min(0), points.max(0)

    def problem(self, item: GroundMesh, frame: float) -> str:
        return _told(ground_mesh, item.points, round(item.edge.at(frame)[0], 4), item.smooth, item.fill)


def _told(make: Any, *of: Any) -> str:
    """What is told when something cannot be made."""
    try:
        make(*of)
    except UserError as error:
        return error.what
    return ""


def _grid() -> np.ndarray:
    """A grid card: cells that change, with lines between, so that the least slide against the plate is seen."""
    at = (np.arange(GRID_PX) + 0.5) / GRID_PX * GRID_CELLS
    odd = (np.floor(at)[:, None] + np.floor(at)[None]) % 2
    line = np.minimum(at % 1, 1 - at % 1) < 0.03
    grey = np.where(line[:, None] | line[None], 30, np.where(odd > 0, 205, 120)).astype(np.uint8)
    return np.dstack([grey, grey, grey, np.full_like(grey, 255)])


_GRID = _grid()

KINDS: dict[type, Kind] = {
    Title: Letters(),
    Logo: Drawings(),
    Card: Cards(),
    Anchor: Kind(),
    Box: Boxes(),
    Tube: Tubes(),
    GroundMesh: Grounds(),
}


def kind_of(item: Object) -> Kind:
    return KINDS[type(item)]


def draft_of(item: Object) -> Object:
    """The object with fewer triangles, for a view that turns."""
    return kind_of(item).draft(item)
