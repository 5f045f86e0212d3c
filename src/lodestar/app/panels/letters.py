"""The settings of a title's letters: words, faces, lines, edges, layers, movers; those that a drawing has too come with them."""

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QCheckBox, QInputDialog

from lodestar.core.edits import letters
from lodestar.core.edits.arrange import new_id
from lodestar.core.evaluate.counting import numbers_in
from lodestar.core.shape.face_files import FACE_FILES, OpenedFace, opened, stored
from lodestar.core.shape.fonts import SHIPPED, all_faces, faces_are_known, unreadable_faces
from lodestar.core.shot.document import Shot
from lodestar.core.shot.motion import without_thing
from lodestar.core.shot.objects import (
    ALIGNS,
    AXES,
    AXES_OF_FACES,
    BACKS,
    ORDERS,
    PROFILES,
    SURFACED,
    UNITS,
    Bend,
    Extruded,
    FaceAxis,
    Layer,
    Logo,
    Mover,
    Object,
    Pull,
    Relief,
    Smear,
    Surface,
    Title,
    Twist,
)
from lodestar.core.shot.objects import PIVOTS as ABOUT

from ..faces import FaceChooser
from ..fields import Choice, Line, NumberField, Section, Swatch, Words, button, quiet, tick
from .entries import Entries
from .panel import Panel
from .profile import ProfileCurve


class ObjectPanel(Panel):
    """Settings of the object in hand; some sections are for some kinds of object."""

    def __init__(self, session, commands, parent) -> None:
        self.kinds: list[tuple[Section, tuple[type, ...]]] = []
        super().__init__(session, commands, parent)

    def _kind(self, title: str, *kinds: type) -> Section:
        section = self.section(title)
        self.kinds.append((section, kinds))
        return section

    def _id(self) -> str:
        item = self.session.object()
        return item.id if item is not None else ""

    def _set(self, step: str, group: object = None, /, **fields) -> None:
        item = self.session.object()
        if item is not None:
            self.session.edit_item(step, item.id, group, **fields)


class LetterPanel(ObjectPanel):
    """`letter_parts` make the sections, `show_letters` and `show_lists` fill them."""

    def letter_parts(self) -> tuple[Callable[[], None], ...]:
        return (self._letters, self._some_letters, self._lines, self._variable, self._edges, self._layers, self._movers, self._deforms)

    def _letters(self) -> None:
        letters = self._kind("Letters", Title)
        self.words = Words()
        self.words.setObjectName("words")
        self.words.setAccessibleName("Words of the title")
        self.words.setToolTip(
            "What the letters say; Enter begins a new line, Escape gives the keyboard back to the picture.\nA pattern as {#,##0} or {0.00} stands for a number that can be keyed"
        )
        self.words.typed.connect(self._type)
        letters.add("Words", self.words)
        self.face = combo("face", "Face", "The face of the letters: two shipped ones, then the system's", list(SHIPPED))
        self.face.setMinimumContentsLength(8)
        self.face.setSizeAdjustPolicy(Choice.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.face.activated.connect(lambda i: self._set("Choose face", face=self.face.itemText(i)))
        self._all_faces = False
        letters.add("Face", self.face)
        self.value_rows(letters, self._id, Title, "title", parts=("height", "spacing", "depth", "bevel"))
        self.faces = button(
            "Choose by looking…", "choose-face", "All faces with these words set in them; search, and keep favourites", self._choose_face
        )
        of_file = button("Of a file…", "face-file", "A face of a file (TTF, OTF, WOFF); the shot keeps it where its licence lets it", self._ask_face)
        letters.add_buttons(self.faces, of_file)

    def _lines(self) -> None:
        self.numbers = self._kind("Number in the words", Title)
        self.value_rows(self.numbers, self._id, Title, "title", parts=("number",))
        setting = self._kind("Lines", Title)
        setting.fold_at_first()
        self.align = combo("align", "Align", "Where the lines lie in the widest one", list(ALIGNS))
        self.align.activated.connect(lambda i: self._set("Align", align=ALIGNS[i]))
        setting.add("Align", self.align)
        self.value_rows(setting, self._id, Title, "title", parts=("line_spacing", "word_spacing", "letter_width", "bend"))
        self._path(setting)
        self.capitals = QCheckBox("All capitals")
        self.capitals.setObjectName("capitals")
        self.capitals.setToolTip("Set all letters as capitals; the words stay as they were typed")
        self.capitals.clicked.connect(lambda on: self._set("All capitals", capitals=on))
        setting.add("", self.capitals)
        self.small_capitals = QCheckBox("Small capitals")
        self.small_capitals.setObjectName("small-capitals")
        self.small_capitals.setToolTip("Small letters as small capitals: those of the face, or else made from its capitals")
        self.small_capitals.clicked.connect(lambda on: self._set("Small capitals", small_capitals=on))
        setting.add("", self.small_capitals)
        self.features = self._line(setting, "Features", "features", "OpenType features by their tags: smcp (small capitals), ss01, liga=0")
        self.axes = self._line(setting, "Axes", "axes", "Places of a variable face on its axes: wght=650, wdth=80")
        self.lines = setting

    def _path(self, section: Section) -> None:
        draw = button("Draw a path…", "path-draw", "Draw the line that the words stand on, over a surface or from point to point", self._draw_path)
        forget = lambda: self._set("Take the path away", path=())
        self.forget_path = button("Straight again", "path-forget", "Takes the path away", forget)
        section.add_buttons(draw, self.forget_path)
        tip = "The letters lie on the surface along the path; off: they stand on it"
        self.lying = tick("Lying on the surface", "path-lying", tip, lambda on: self._set("Lie along the path", lying=on))
        section.add("", self.lying)
        self.value_rows(section, self._id, Title, "title", parts=("along",))

    def _draw_path(self) -> None:
        item = self.session.object()
        if isinstance(item, Title) and item.path:
            self._set("Take the path away", path=())  # another one is drawn
        self.session.use_tool("words-path")

    def _variable(self) -> None:
        axes, chosen = self._kind("Axes of a variable face", Title), self.section("Chosen axis")
        axes.fold_at_first()
        add = lambda name: self._add(self.face_axes, f"Axis: {name.lower()}", lambda shot, id_: letters.with_face_axis(shot, id_, name))
        adds = {name: (f"{name} of a variable face, as a value that can be keyed", lambda name=name: add(name)) for name in AXES_OF_FACES}
        listed = lambda: getattr(self.session.object(), "face_axes", ())
        self.face_axes: Entries = Entries(self, axes, {FaceAxis: chosen}, "axis", listed, adds, self._mover_of("face_axes"), self._remover)
        self.value_rows(chosen, lambda: self.face_axes.open, FaceAxis, "face-axis", "axis")

    def _line(self, section: Section, label: str, field: str, tip: str) -> Line:
        """A line of text that is a field of the object."""
        line = Line()
        line.setObjectName(f"title-{field}")
        line.setAccessibleName(label)
        line.setToolTip(tip)
        line.textEdited.connect(lambda text: self._set(f"Set {label.lower()}", (field, self.session.selected), **{field: text}))
        section.add(label, line)
        return line

    def _choose_face(self) -> None:
        item = self.session.object()
        if isinstance(item, Title):
            chooser = FaceChooser(self, item.text, item.face)
            chooser.chosen.connect(lambda face: self._set("Choose face", face=face))
            chooser.show_beside(self.faces)

    def _ask_face(self) -> None:
        path = self.session.ask_file("Choose a face", "face", FACE_FILES)
        if path:
            self.open_face(Path(path))

    def open_face(self, path: Path) -> None:
        """The title in hand is set in the face of a file; of a collection in the one that is chosen."""
        item, session = self.session.object(), self.session
        if not isinstance(item, Title):
            session.tell("A face is for a title.", "Choose one, and open the face again.", "note")
            return

        def take(faces: tuple[OpenedFace, ...]) -> None:
            face = faces[0]
            if len(faces) > 1:
                names = [one.name for one in faces]
                chosen, sure = QInputDialog.getItem(self.window(), path.name, f"It holds {len(faces)} faces. Which one?", names, 0, False)
                if not sure:
                    return
                face = faces[names.index(chosen)]
            session.edit("Face of a file", lambda s: letters.with_face_of(s, item.id, face, str(path)))
            if stored(face) is None:
                session.tell(
                    f"{face.name} stays in its file: its licence, or its size, does not let the shot keep it.",
                    "Take the file along when the shot goes to another machine.",
                    "note",
                )

        session.work.run_job("Read the face", "Place", lambda job: opened(path, lambda: job.step(0.5, path.name)), take)

    def _some_letters(self) -> None:
        """What the letters that are chosen among the words have of their own."""
        some = self._kind("Some letters", Title)
        some.fold_at_first()
        self.some = some
        self.words.selectionChanged.connect(self._show_some)
        self.words.cursorPositionChanged.connect(self._show_some)
        self.which = quiet()
        self.which.setObjectName("which-letters")
        some.add_wide(self.which)
        self.own: dict[str, NumberField] = {}
        for name, label, unit, low, high, reset, tip in (
            ("size", "Size", "%", 1.0, 1000.0, 1.0, "Size of these letters, in % of the others"),
            ("depth", "Depth", "%", 1.0, 1000.0, 1.0, "Depth of these letters, in % of the others"),
            ("raised", "Raised", "%", -500.0, 500.0, 0.0, "How much these letters stand over the base line, in % of the height"),
        ):
            field = self.field(f"letters-{name}", unit=unit, step=0.5, decimals=0, low=low, high=high, reset=reset, factor=100.0, tip=tip)
            field.changed.connect(lambda v, g, name=name, label=label: self._style(f"{label} of some letters", g, **{name: v}))
            some.add(label, field)
            self.own[name] = field
        self.own_colour = Swatch("letters-colour", "Colour of these letters")
        self.own_colour.picked.connect(lambda rgb: self._style("Colour of some letters", None, colour=rgb))
        some.add("Colour", self.own_colour)
        self.own_face = combo("letters-face", "Face of these letters", "A face of their own for these letters", [])
        self.own_face.setMinimumContentsLength(8)
        self.own_face.setSizeAdjustPolicy(Choice.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.own_face.activated.connect(lambda i: self._style("Face of some letters", None, face="" if i == 0 else self.own_face.itemText(i)))
        some.add("Face", self.own_face)
        self.kern = self.field("kern", unit="% em", step=0.2, decimals=1, reset=0.0, factor=100.0, tip="Extra room before the letter after the caret")
        self.kern.changed.connect(self._kern)
        some.add("Kern here", self.kern)
        self.as_others = button("As the others", "letters-plain", "Take away what these letters have of their own", self._plain_letters)
        some.add("", self.as_others)

    def _range(self) -> tuple[int, int]:
        """First and last of the letters that are chosen among the words; the last is before the first where none is."""
        cursor = self.words.textCursor()
        return cursor.selectionStart(), cursor.selectionEnd() - 1

    def _style(self, label: str, group: object, /, **fields) -> None:
        item, (first, last) = self.session.object(), self._range()
        if item is not None and last >= first:
            self.session.edit(label, lambda s: letters.styled(s, item.id, first, last, **fields), group and (group, item.id, first, last))

    def _plain_letters(self) -> None:
        item, (first, last) = self.session.object(), self._range()
        if item is not None and last >= first:
            self.session.edit("Letters as the others", lambda s: letters.unstyled(s, item.id, first, last))

    def _kern(self, value: float, group: object) -> None:
        item, at = self.session.object(), self.words.textCursor().position() - 1
        if item is not None and at >= 0:
            self.session.edit("Kern", lambda s: letters.kerned(s, item.id, at, value), group and (group, item.id, at))

    def _follow_letters(self) -> None:
        """Letters that are chosen in the picture are chosen among the words, too."""
        if self.session.letters is not None and not self.words.hasFocus():
            (first, last), cursor = self.session.letters, self.words.textCursor()
            if (cursor.selectionStart(), cursor.selectionEnd()) != (first, last) and last <= len(self.words.toPlainText()):
                cursor.setPosition(first)
                cursor.setPosition(last, cursor.MoveMode.KeepAnchor)
                self.words.setTextCursor(cursor)

    def _show_some(self) -> None:
        item, (first, last) = self.session.object(), self._range()
        if not isinstance(item, Title):
            return
        there = 0 <= first <= last < len(item.text)
        chosen = " ".join(item.text[first : last + 1].split()) if there else ""
        self.which.setText(f"“{chosen}”" if there else "Choose letters among the words above.")
        style = letters.style_at(item, first) if there else letters.style_at(Title(id=""), 0)
        for name, field in self.own.items():
            field.show_value(getattr(style, name))
        self.own_colour.show_colour(style.colour or item.colour)
        faces = ["the title’s", *[self.face.itemText(i) for i in range(self.face.count())]]
        if [self.own_face.itemText(i) for i in range(self.own_face.count())] != faces:
            self.own_face.clear()
            self.own_face.addItems(faces)
        self.own_face.setCurrentIndex(max(self.own_face.findText(style.face), 0) if style.face else 0)
        for widget in (*self.own.values(), self.own_colour, self.own_face, self.as_others):
            widget.setEnabled(there)
        at = self.words.textCursor().position() - 1
        self.kern.show_value(next((k.by for k in item.kerns if k.letter == at), 0.0))
        self.kern.setEnabled(0 <= at < len(item.text) - 1)
        self.some.fact.setText(f"{len(item.styles)} of their own" if item.styles else "none")

    def _edges(self) -> None:
        edges = self._kind("Edges", Title, Logo)
        edges.fold_at_first()
        self.edges = edges
        self.profile = combo("profile", "Profile", "The shape of the front edges", list(PROFILES))
        self.profile.activated.connect(lambda i: self._set("Choose profile", profile=PROFILES[i]))
        edges.add("Profile", self.profile)
        self.curve = ProfileCurve()
        self.curve.changed.connect(lambda curve, group: self._set("Draw the profile", group, curve=curve))
        edges.add_wide(self.curve)
        self.back = combo("back-edges", "Back", "The shape of the back edges", list(BACKS))
        self.back.activated.connect(lambda i: self._set("Choose back edges", back=BACKS[i]))
        edges.add("Back", self.back)
        self.value_rows(edges, self._id, Extruded, "edge", parts=("bevel_height", "rounding", "panel", "wall"))

    def _layers(self) -> None:
        section, chosen = self._kind("Layers", Title, Logo), self.section("Chosen layer")
        section.fold_at_first()
        adds = {kind: (f"The same outlines once more: {kind.lower()}", lambda kind=kind: self._add_layer(kind)) for kind in letters.LAYERS}
        field = "layers"
        self.layers = Entries(
            self, section, {Layer: chosen}, "layer", lambda: getattr(self.session.object(), field, ()), adds, self._mover_of(field), self._remover
        )
        self.layer_colour = Swatch("layer-colour", "Colour of this layer")
        self.layer_colour.picked.connect(lambda rgb: self.session.edit_item("Choose colour of a layer", self.layers.open, colour=rgb))
        chosen.add("Colour", self.layer_colour)
        self.value_rows(chosen, lambda: self.layers.open, Layer, "layer", "layer")

    def _add_layer(self, kind: str) -> None:
        self._add(self.layers, f"Add a layer: {kind.lower()}", lambda shot, id_: letters.with_layer(shot, id_, kind))

    def _add(self, entries: Entries, label: str, how: Callable[[Shot, str], tuple[Shot, str]]) -> None:
        """The object in hand gets one thing more, which is opened."""
        item, new = self.session.object(), [""]
        if item is None:
            return

        def edit(shot: Shot) -> Shot:
            result, new[0] = how(shot, item.id)
            return result

        self.session.edit(label, edit)
        entries.open = new[0]
        self.refresh()

    def _deforms(self) -> None:
        """What takes places of the letters elsewhere."""
        section = self._kind("Deform", Title, Logo)
        section.fold_at_first()
        sections = {kind: self.section(f"Chosen {name.lower()}") for name, (kind, _) in letters.DEFORMS.items()}
        add = lambda name: self._add(self.deforms, f"Add a {name.lower()}", lambda shot, id_: letters.with_deform(shot, id_, name))
        adds = {name: (tip, lambda name=name: add(name)) for name, (_, tip) in letters.DEFORMS.items()}
        field = "deforms"
        listed = lambda: getattr(self.session.object(), field, ())
        self.deforms: Entries = Entries(self, section, sections, "deformation", listed, adds, self._mover_of("deforms"), self._remover)
        self.turn_axes: dict[type, Choice] = {}
        for name, (kind, _) in letters.DEFORMS.items():
            if kind in (Twist, Bend):
                axis = combo(f"{name.lower()}-axis", f"Axis of the {name.lower()}", "About which of the object's axes", list(AXES))
                axis.activated.connect(lambda i, name=name: self.session.edit_item(f"Axis of the {name.lower()}", self.deforms.open, axis=AXES[i]))
                sections[kind].add("Axis", axis)
                self.turn_axes[kind] = axis
            self.value_rows(sections[kind], lambda: self.deforms.open, kind, name.lower(), name.lower())
        for kind in (Smear, Pull):
            sections[kind].add_wide(
                button("Drag it in the picture", f"{kind.__name__.lower()}-drag", "Its points are dragged over the letters", self._drag_deforms)
            )

    def _drag_deforms(self) -> None:
        self.session.use_tool("deform")

    def _mover_of(self, field: str) -> Callable[[str, int], None]:
        return lambda child, by: self.session.edit("Change the order", lambda s: letters.moved_child(s, self._id(), field, child, by))

    def _remover(self, child: str) -> None:
        self.session.edit("Take away", lambda s: without_thing(s, child))

    def _movers(self) -> None:
        section, chosen = self._kind("Movers", Title), self.section("Chosen mover")
        section.fold_at_first()
        adds: dict[str, tuple[str, Callable[[], None]]] = {
            "Mover": ("Moves letters one after the other; it does nothing until it is told what", self._add_mover)
        }
        for leaves, tip in ((False, "How the letters come, one after the other"), (True, "How the letters go, one after the other")):
            for kind in letters.PASSAGES:
                adds[letters.passage_label(kind, leaves)] = (tip, lambda kind=kind, leaves=leaves: self.pass_by(kind, leaves))
        self.movers = Entries(
            self,
            section,
            {Mover: chosen},
            "mover",
            lambda: getattr(self.session.object(), "movers", ()),
            adds,
            self._mover_of("movers"),
            self._remover,
        )
        self.mover_choices: dict[str, Choice] = {}
        for name, label, tip, known in (
            ("by", "Moves by", "What it moves one after the other", UNITS),
            ("order", "Order", "In which order its range comes to them", ORDERS),
            ("about", "Turns about", "What each turns and sizes about", ABOUT),
        ):
            box = combo(f"mover-{name}", label, tip, list(known))
            box.activated.connect(lambda i, name=name, known=known: self.session.edit_item("Change a mover", self.movers.open, **{name: known[i]}))
            chosen.add(label, box)
            self.mover_choices[name] = box
        self.seed = self.field("mover-seed", step=0.05, decimals=0, low=0, high=9999, reset=1, tip="Another number shuffles otherwise")
        self.seed.changed.connect(lambda v, g: self.session.edit_item("Shuffle otherwise", self.movers.open, g, seed=round(v)))
        chosen.add("Shuffle", self.seed)
        self.ease = QCheckBox("Begins and ends gently")
        self.ease.setObjectName("mover-ease")
        self.ease.setToolTip("Whether each letter begins and ends its way gently, or at one speed")
        self.ease.clicked.connect(lambda on: self.session.edit_item("Change a mover", self.movers.open, ease=on))
        chosen.add("", self.ease)
        self.value_rows(chosen, lambda: self.movers.open, Mover, "mover", "mover")
        self.mover_colour = Swatch("mover-colour", "Colour that letters take on")
        self.mover_colour.picked.connect(lambda rgb: self.session.edit_item("Choose colour of a mover", self.movers.open, colour=rgb))
        chosen.add("Colour", self.mover_colour)

    def _add_mover(self) -> None:
        mover = Mover(id=new_id())
        item = self.session.object()
        if item is not None:
            self.session.edit("Add a mover", lambda s: letters.with_mover(s, item.id, mover))
            self.movers.open = mover.id
            self.refresh()

    def pass_by(self, kind: str, leaves: bool) -> None:
        """The title in hand arrives, or leaves, in one of the ways there are."""
        self._add(self.movers, letters.passage_label(kind, leaves), lambda shot, id_: letters.with_passage(shot, id_, kind, leaves))

    def _surfaces_of_parts(self) -> None:
        """Edges, sides and back that look otherwise than the face."""
        section, chosen = self._kind("Surfaces of parts", Title, Logo), self.section("Chosen part")
        section.fold_at_first()
        adds = {part.capitalize(): (f"The {part} have a surface of their own", lambda part=part: self._add_surface(part)) for part in SURFACED}
        self.surfaces = Entries(
            self,
            section,
            {Surface: chosen},
            "surface",
            lambda: getattr(self.session.object(), "surfaces", ()),
            adds,
            self._mover_of("surfaces"),
            self._remover,
        )
        self.part_colour = Swatch("part-colour", "Colour of this part")
        self.part_colour.picked.connect(lambda rgb: self.session.edit_item("Choose colour of a part", self.surfaces.open, colour=rgb))
        chosen.add("Colour", self.part_colour)
        self.value_rows(chosen, lambda: self.surfaces.open, Surface, "part", "part")

    def _add_surface(self, part: str) -> None:
        item = self.session.object()
        if not isinstance(item, Extruded):
            return
        old = next((one for one in item.surfaces if one.part == part), None)
        if old is None:  # it begins as the face looks
            old = Surface(id=new_id(), part=part, **{name: getattr(item, name) for name in ("colour", "roughness", "metal", "coat", "clear", "glow")})
            self.session.edit_item(f"Surface of the {part}", item.id, surfaces=(*item.surfaces, old))
        self.surfaces.open = old.id
        self.refresh()

    def _reliefs(self) -> None:
        """The colours of a drawing as solids of their own."""
        section, chosen = self._kind("Colours of the drawing", Logo), self.section("Chosen colour")
        by_colour = lambda: self.session.edit("Parts by colour", lambda s: letters.with_reliefs(s, self._id()))
        adds = {"Parts by colour": ("Each colour of the drawing as a solid of its own", by_colour)}
        self.reliefs = Entries(
            self,
            section,
            {Relief: chosen},
            "colour",
            lambda: getattr(self.session.object(), "reliefs", ()),
            adds,
            self._mover_of("reliefs"),
            self._remover,
        )
        self.relief_colour = Swatch("relief-colour", "Colour that this part has here")
        self.relief_colour.picked.connect(lambda rgb: self.session.edit_item("Choose colour of a part", self.reliefs.open, colour=rgb))
        chosen.add("Colour", self.relief_colour)
        self.value_rows(chosen, lambda: self.reliefs.open, Relief, "relief", "part")

    def show_lists(self) -> None:
        for entries in (self.face_axes, self.layers, self.movers, self.deforms, self.surfaces, self.reliefs):
            entries.refresh()
        turned = self.deforms.held()
        if isinstance(turned, Twist | Bend):
            self.turn_axes[type(turned)].setCurrentIndex(AXES.index(turned.axis))
        relief = self.reliefs.held()
        if isinstance(relief, Relief):
            self.relief_colour.show_colour(relief.colour)
        surface = self.surfaces.held()
        if isinstance(surface, Surface):
            self.part_colour.show_colour(surface.colour)
        layer, mover = self.layers.held(), self.movers.held()
        if isinstance(layer, Layer):
            self.layer_colour.show_colour(layer.colour)
        if isinstance(mover, Mover):
            for (name, box), known in zip(self.mover_choices.items(), (UNITS, ORDERS, ABOUT)):
                box.setCurrentIndex(known.index(getattr(mover, name)))
            self.seed.show_value(mover.seed)
            self.seed.setEnabled(mover.order == "shuffled")
            self.ease.setChecked(mover.ease)
            self.mover_colour.show_colour(mover.colour)

    def _type(self, text: str) -> None:
        id_ = self._id()
        self.session.edit("Type", lambda s: letters.retyped(s, id_, text), ("words", id_))

    def show_letters(self, item: Object) -> None:
        if not self._all_faces and faces_are_known():
            self._all_faces = True
            self.face.clear()
            self.face.addItems(all_faces())
            if left_out := unreadable_faces():
                self.face.setToolTip(f"{self.face.toolTip()}\nLeft out, since they cannot be read: {', '.join(p.name for p in left_out[:10])}")
        if isinstance(item, Title):
            self.words.show_text(item.text)
            self.numbers.setVisible(numbers_in(item.text))
            self.align.setCurrentIndex(ALIGNS.index(item.align) if item.align in ALIGNS else 1)
            lines = item.text.count("\n") + 1
            self.lines.fact.setText(f"{lines} lines" if lines > 1 else "one")
            if self.face.findText(item.face) < 0:
                self.face.addItem(item.face)  # of a file, or one that is not here
            self.face.setCurrentText(item.face)
            self.forget_path.setEnabled(bool(item.path))
            self.lying.setEnabled(bool(item.path))
            self.lying.setChecked(item.lying)
            self.capitals.setChecked(item.capitals)
            self.small_capitals.setChecked(item.small_capitals)
            self.small_capitals.setEnabled(not item.capitals)
            for line, text in ((self.features, item.features), (self.axes, item.axes)):
                if line.text() != text:
                    line.setText(text)
            self._follow_letters()
            self._show_some()
        if isinstance(item, Extruded):
            self.profile.setCurrentIndex(PROFILES.index(item.profile))
            self.curve.setVisible("drawn" in (item.profile, item.back))
            self.curve.show_curve(item.curve)
            self.back.setCurrentIndex(BACKS.index(item.back))
            self.edges.fact.setText(item.profile)


def combo(name: str, label: str, tip: str, items: list[str]) -> Choice:
    combo = Choice()
    combo.setObjectName(name)
    combo.setAccessibleName(label)
    combo.setToolTip(tip)
    combo.addItems(items)
    return combo
