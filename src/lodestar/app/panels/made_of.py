"""What an object is made of: the drawing, picture or points that it is of, and its surface."""

from collections.abc import Callable, Iterable
from pathlib import Path

from PyQt6.QtWidgets import QCheckBox, QMenu, QPushButton

from lodestar.core.basics.rows import rows_of
from lodestar.core.edits.arrange import find, replaced, with_mesh_points
from lodestar.core.edits.surfaces import READY, with_made_of
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Box, Card, Extruded, GroundMesh, Logo, Object, Solid, Tube

from ..fields import Section, Swatch, button, tick
from ..surfaces import SurfaceChooser
from ..viewer.tools.place import DRAWINGS
from .letters import LetterPanel, combo
from .pattern import PatternSection

PATTERNS = ("plain", "grid", "picture")


class MadeOfPanel(LetterPanel):
    """`made_of_parts` make the sections, `show_made_of` fills them."""

    def made_of_parts(self) -> tuple[Callable[[], None], ...]:
        return (self._drawing, self._reliefs, self._other_kinds, self._surface, self._surfaces_of_parts)

    def show_made_of(self, item: Object) -> None:
        match item:
            case Logo():
                self.by_lines.setChecked(item.lines)
            case Card():
                self.pattern.setCurrentIndex(PATTERNS.index(item.pattern) if item.pattern in PATTERNS else 0)
                self.choose.setText(Path(item.picture).name if item.pattern == "picture" and item.picture else "Choose a picture…")
            case GroundMesh():
                self.smooth.show_value(item.smooth)
                self.holes.setChecked(item.fill)
        if isinstance(item, Solid):
            self.colour.show_colour(item.colour)
            self.pattern_of.show(item)

    def _own_rows(self, section: Section, kind: type[Solid]) -> None:
        """Rows of what only this kind of object has."""
        shared = {**dict(rows_of(Solid)), **dict(rows_of(Extruded))}
        own = [part for part, _ in rows_of(kind) if part not in shared]
        self.value_rows(section, self._id, kind, str(kind.__struct_config__.tag), parts=own)

    def _drawing(self) -> None:
        logo = self._kind("Drawing", Logo)
        logo.add(
            "", button("Choose another…", "choose-svg", "Another drawing (SVG), or the outline of a cut-out picture, in its place", self._choose_svg)
        )
        self.by_lines = tick(
            "Lines by their width",
            "logo-lines",
            "Lines of the drawing are solid too, not only what is filled",
            lambda on: self._set("Lines of the drawing", lines=on),
        )
        logo.add("", self.by_lines)
        self._own_rows(logo, Logo)

    def _other_kinds(self) -> None:
        card = self._kind("Card", Card)
        self.pattern = combo(
            "pattern", "What is on the card", "Plain, the grid by which sliding is seen, or a picture, movie or sequence", list(PATTERNS)
        )
        self.pattern.activated.connect(lambda i: self._set("Choose what is on the card", pattern=PATTERNS[i]))
        card.add("Shows", self.pattern)
        self.choose = button(
            "Choose a picture…", "choose-picture", "A picture with its alpha, a movie, or one of a numbered sequence", self._choose_picture
        )
        card.add("", self.choose)
        self._own_rows(card, Card)
        box = self._kind("Box", Box)
        self._own_rows(box, Box)
        tube = self._kind("Tube", Tube)
        self._own_rows(tube, Tube)
        mesh = self._kind("Ground mesh", GroundMesh)
        self._own_rows(mesh, GroundMesh)
        self.smooth = self.field("smooth", step=0.05, decimals=0, low=0, high=20, reset=0, tip="Rounds of smoothing the heights")
        self.smooth.changed.connect(lambda v, g: self._set("Smooth the ground", g, smooth=round(v)))
        mesh.add("Smoothing", self.smooth)
        self.holes = QCheckBox("Close holes")
        self.holes.setObjectName("close-holes")
        self.holes.setToolTip("Holes inside are closed, whatever their size")
        self.holes.clicked.connect(lambda on: self._set("Close holes", fill=on))
        mesh.add("", self.holes)
        self.add_points = button("Add chosen", "mesh-add", "The chosen points become part of this ground", lambda: self._mesh_points(True))
        self.drop_points = button("Drop chosen", "mesh-drop", "The chosen points are no longer part of this ground", lambda: self._mesh_points(False))
        mesh.add_buttons(self.add_points, self.drop_points)

    def _surface(self) -> None:
        surface = self.section("Surface")
        self.surface = surface
        self.colour = Swatch("title-colour", "Colour of the surface")
        self.colour.picked.connect(lambda rgb: self._set("Choose colour", colour=rgb))
        surface.add("Colour", self.colour)
        self.ready = _menu_of(
            "Ready surface…", "ready-surface", "Make the whole surface of something; it can be changed afterwards", READY, self._take_ready
        )
        surface.add("Made of", self.ready)
        self.looking = button(
            "Choose by looking…", "choose-surface", "Your first letter in each surface; keep your own there", self._look_at_surfaces
        )
        surface.add("", self.looking)
        self.value_rows(surface, self._id, Solid, parts=("roughness", "metal", "coat", "clear", "glow", "opacity"))
        self.pattern_of = PatternSection(self)

    def _look_at_surfaces(self) -> None:
        chooser = SurfaceChooser(self, self.session)
        chooser.chosen.connect(self._take_made_of)
        chooser.show_over(self.looking)

    def _take_ready(self, name: str) -> None:
        self._take_made_of(name, READY[name])

    def _take_made_of(self, name: str, made_of: dict) -> None:
        ids, frame = self.session.chosen_objects(), self.session.frame

        def edit(shot: Shot) -> Shot:
            for id_ in ids:
                if isinstance(find(shot, id_), Solid):
                    shot = with_made_of(shot, id_, made_of, frame)
            return shot

        self.session.edit(f"Surface: {name.lower()}", edit)

    def _choose_svg(self) -> None:
        path = self.session.ask_file("Choose a drawing", "logo", DRAWINGS)
        if path:
            id_ = self.session.object().id
            take = lambda svg: self.session.edit_item("Choose a drawing", id_, svg=svg, label=Path(path).stem)
            self.session.work.read_drawing(Path(path), take)

    def _choose_picture(self) -> None:
        id_, frame, how = self.session.selected, self.session.frame, self.session.how

        def take(path: str, wide: int, high: int) -> None:
            card = next((o for o in self.session.shot.objects if o.id == id_), None)
            if isinstance(card, Card):
                width = card.height.changed(frame, (card.height.at(frame)[0] * wide / high,), how)
                self.session.edit_item("Choose a picture", id_, picture=path, pattern="picture", width=width)

        self.session.ask_picture("Choose a picture", "card", take)

    def _mesh_points(self, add: bool) -> None:
        item, tracks = self.session.object(), sorted(self.session.tracks)
        if isinstance(item, GroundMesh):

            def edit(shot: Shot) -> Shot:
                mesh = find(shot, item.id)
                return replaced(shot, with_mesh_points(shot, mesh, tracks, add)) if isinstance(mesh, GroundMesh) else shot

            self.session.edit("Add points" if add else "Drop points", edit)


def _menu_of(text: str, name: str, tip: str, words: Iterable[str], take: Callable[[str], object]) -> QPushButton:
    """A button with a menu of words."""
    b = QPushButton(text)
    b.setObjectName(name)
    b.setAccessibleName(tip)
    b.setToolTip(tip)
    menu = QMenu(b)
    for word in words:
        menu.addAction(word).triggered.connect(lambda _, word=word: take(word))
    b.setMenu(menu)
    return b
