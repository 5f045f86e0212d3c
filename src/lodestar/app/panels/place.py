"""Place: the objects, what they are made of, where they stand, what they do, and when they are there."""

from collections.abc import Callable

from PyQt6.QtCore import QMimeData, Qt
from PyQt6.QtWidgets import QApplication, QCheckBox

from lodestar.core.edits import letters
from lodestar.core.edits.arrange import (
    PIVOTS,
    along_line,
    along_wall,
    dropped,
    duplicated,
    facing_camera,
    find,
    ground_through,
    mixed_depths,
    packed,
    pasted,
    pivots_of,
    post_card,
    reparented,
    repivoted,
    stood,
    tube_along,
)
from lodestar.core.edits.arrange import added as with_object
from lodestar.core.evaluate.ground import TOLD_SHARE
from lodestar.core.evaluate.objects import problem_of
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import (
    Card,
    Object,
    Thing,
    Tube,
)

from ..commands import Command
from ..derived import hidden_of, slip_of
from ..fields import Line, Swatch, button, quiet, set_main
from ..measures import figure
from ..needs import Needs, a_clip, a_title, an_object, two_objects
from ..viewer.tools.place import DrawBox, DrawBoxStandIn, FileObject, PlaceAnchor, PlaceCard, PlaceCheck, PlaceLogo, PlacePicture
from .letters import combo
from .made_of import MadeOfPanel
from .mattes import MatteChoice, Names
from .mirror import Mirror

CLIPBOARD = "application/x-bright-lodestar-objects"


class PlacePanel(MadeOfPanel):
    step = "Place"

    def own_commands(self) -> list[Command]:
        s, has = self.session, a_clip(self.session)
        title = an_object(s)
        pose = lambda label, change, *more: lambda: self.arrange(label, change, *more)
        return [
            Command("place", "Object", "Place a title", self._place, "Ctrl+Shift+T", has),
            *[
                Command(
                    f"place-{t.name}",
                    "Object",
                    f"{t.label}{'…' if issubclass(t, FileObject) else ''}",
                    lambda n=t.name: self._place(n),
                    enabled=has,
                    tip=t.tip,
                )
                for t in (PlaceLogo, PlacePicture, PlaceCard, PlaceCheck, PlaceAnchor, DrawBox, DrawBoxStandIn)
            ],
            Command("duplicate", "Object", "Duplicate", lambda: self.duplicate(), "Ctrl+D", title),
            Command("copy", "Edit", "Copy objects", self._copy, "Ctrl+C", title),
            Command("cut", "Edit", "Cut objects", self._cut, "Ctrl+X", title),
            Command("paste", "Edit", "Paste objects", self._paste, "Ctrl+V", has),
            Command("delete", "Edit", "Delete", s.delete_chosen, "", Needs((lambda: bool(s.selected), "something that is chosen"))),
            Command("up", "Object", "Stand up", pose("Stand up", stood), enabled=title, divided=True),
            Command("lie", "Object", "Lie down", pose("Lie down", stood, -90.0), enabled=title),
            Command("face", "Object", "Face the camera", pose("Face the camera", facing_camera), enabled=title),
            Command("wall", "Object", "Face along the wall", pose("Face along the wall", along_wall), enabled=title),
            Command("drop", "Object", "Drop to the ground", pose("Drop to the ground", dropped), enabled=title),
            *[
                Command(
                    f"{'leave' if leaves else 'arrive'}-{kind.lower().replace(' ', '-')}",
                    "Object",
                    letters.passage_label(kind, leaves),
                    lambda kind=kind, leaves=leaves: self.pass_by(kind, leaves),
                    enabled=a_title(s),
                    tip="letter by letter, as a mover that can be changed",
                )
                for leaves in (False, True)
                for kind in letters.PASSAGES
            ],
            Command("row", "Object", "Arrange in a row", lambda: self._in_row(), enabled=two_objects(s)),
            Command("along-path", "Object", "Arrange along a path", lambda: self._place("path"), enabled=two_objects(s)),
        ]

    def _place(self, name: str = "title") -> None:
        self.session.show_step("Place")
        self.session.tool_asked.emit(name)

    def _copy(self) -> None:
        ids = self.session.chosen_objects()
        data = QMimeData()
        data.setData(CLIPBOARD, packed(self.session.shot, ids).encode())
        data.setData(CLIPBOARD + "-from", str(id(self.session.history)).encode())
        QApplication.clipboard().setMimeData(data)

    def _paste(self) -> None:
        data = QApplication.clipboard().mimeData()
        new: list[str] = []
        text = data.data(CLIPBOARD).data().decode("utf-8", "replace") if data is not None and data.hasFormat(CLIPBOARD) else ""
        same = data is not None and data.data(CLIPBOARD + "-from").data().decode() == str(id(self.session.history))

        def edit(shot: Shot) -> Shot:
            result, ids = pasted(shot, text, same)
            new.extend(ids)
            return result

        self.session.edit("Paste", edit)
        if new:
            self.session.show_step("Place")
            self.session.select(new[0], others=frozenset(new[1:]))

    def _cut(self) -> None:
        self._copy()
        self.remove()

    def parts(self) -> tuple[Callable[[], None], ...]:
        return (self.fill, *self.letter_parts(), *self.made_of_parts(), self._stands, self._does, self._when, self._stand_ins)

    def fill(self) -> None:
        self.new = button("Place a title", "new-title", "Point at a surface in the picture and click", lambda: self.session.use_tool("title"), True)
        self.head.addWidget(self.new)
        self.problem = quiet()
        self.problem.setObjectName("object-problem")
        self.box.addWidget(self.problem)
        self.drop_up = button(
            "Drop to the ground",
            "raise",
            "Its lowest point onto the ground, so that all of it is seen",
            lambda: self.arrange("Drop to the ground", dropped),
        )
        self.box.addWidget(self.drop_up)

    def _stands(self) -> None:
        stands = self.section("Stands")
        self.stands = stands
        self.value_rows(stands, self._id, Thing, parts=("position", "turn", "size"))
        self.stand = button("Stand up", "stand-up", "Upright on its base line", lambda: self.arrange("Stand up", stood))
        self.lie = button("Lie down", "lie-down", "Flat on the ground, to be read from above", lambda: self.arrange("Lie down", stood, -90.0))
        face = button(
            "Face camera",
            "face-camera",
            "Upright, and read straight on from where the camera is in this frame",
            lambda: self.arrange("Face the camera", facing_camera),
        )
        wall = button(
            "Along wall", "along-wall", "Upright and flat against the wall that is near it", lambda: self.arrange("Face along the wall", along_wall)
        )
        drop = button("Drop to the ground", "drop", "Its lowest point onto the ground below it", lambda: self.arrange("Drop to the ground", dropped))
        stands.add_buttons(self.stand, self.lie, face)
        stands.add_buttons(wall, drop)
        self.pivot = combo(
            "pivot",
            "Pivot",
            "The point that it turns and sizes round, and that its position names; it does not move when you choose another.\nAlt and click in the picture picks any point of it",
            list(PIVOTS),
        )
        self.pivot.setPlaceholderText("picked point")
        self.pivot.activated.connect(lambda i: self._pivot(PIVOTS[i]))
        stands.add("Pivot", self.pivot)
        self.parent_ = combo("parent", "Parent", "What carries it; it stays where it is when you choose another", [])
        self.parent_.activated.connect(lambda i: self._reparent(self.parent_.itemData(i)))
        stands.add("Parent", self.parent_)
        self.row = button("In a row", "in-row", "The chosen objects evenly between the first and the last of them", self._in_row)
        stands.add("Arrange", self.row)

    def _does(self) -> None:
        does = self.section("What it does")
        self.does = does
        self.flags = {}
        for name, text, tip in (
            ("drawn", "Is seen", "Seen in the picture, and throws a shadow; else it stands in for something of the place"),
            ("hides", "Hides", "What is behind it is hidden, as by the thing that it stands in for"),
            ("receives", "Takes shadows", "Shadows of what is seen fall on it"),
        ):
            box = QCheckBox(text)
            box.setObjectName(f"does-{name}")
            box.setToolTip(tip)
            box.clicked.connect(lambda on, n=name, t=text: self._set(f"{t}, on or off", **{n: on}))
            self.flags[name] = box
        does.add("", self.flags["drawn"], self.flags["hides"])
        does.add("", self.flags["receives"])
        self.value_rows(does, self._id, Thing, parts=("reflects",))
        self.mirror = Mirror(self)
        self.behind = MatteChoice(
            self.session,
            "stands-behind",
            "all mattes",
            None,
            "Which mattes stand before it",
            self._mattes,
            lambda names: self._set("Choose what stands before it", mattes=names),
        )
        does.add("Behind", self.behind)
        self.on_refresh(self.behind.refresh)

    def _when(self) -> None:
        when = self.section("Name, span and keys")
        self.when = when
        self.label_ = Line()
        self.label_.setObjectName("object-name")
        self.label_.setAccessibleName("Name of the object")
        self.label_.setToolTip("Its name in lanes and lists; empty: its words or its kind")
        self.label_.textEdited.connect(lambda text: self._set("Name", ("name", self.session.selected), label=text))
        when.add("Name", self.label_)
        self.lane = Swatch("lane-colour", "Colour of its lane")
        self.lane.picked.connect(lambda rgb: self._set("Choose colour of the lane", lane=rgb))
        when.add("Lane", self.lane)
        self.first = self.field("span-first", step=0.2, decimals=0, low=0, tip="First frame in which it is there")
        self.last = self.field("span-last", step=0.2, decimals=0, low=0, tip="Last frame in which it is there")
        when.add("From, to", self.first, self.last)
        self.first.changed.connect(lambda v, g: self._span(0, round(v), g))
        self.last.changed.connect(lambda v, g: self._span(1, round(v), g))
        self.keying = QCheckBox("Drags set keys")
        self.keying.setObjectName("keying")
        self.keying.setToolTip("Also what has no keys yet is keyed at this frame when it is dragged or typed; what has keys always is")
        self.keying.clicked.connect(self.session.set_keying)
        when.add("Keying", self.keying)
        self.shifting = QCheckBox("Shift the whole motion")
        self.shifting.setObjectName("shifting")
        self.shifting.setToolTip("What is dragged or typed shifts all keys of a value by as much, as Alt does while it is held")
        self.shifting.clicked.connect(self.session.set_shifting)
        when.add("", self.shifting)
        self.visible = QCheckBox("Visible")
        self.visible.setObjectName("visible")
        self.visible.setToolTip("Whether it is in the picture")
        self.visible.clicked.connect(lambda on: self._set("Show or hide", visible=on))
        self.locked = QCheckBox("Locked")
        self.locked.setObjectName("locked")
        self.locked.setToolTip("Locked objects cannot be moved in picture or scene")
        self.locked.clicked.connect(lambda on: self._set("Lock", locked=on))
        when.add("", self.visible, self.locked)
        self.copy = button("Duplicate", "duplicate", "A second one beside it, with all of its children", self.duplicate)
        self.delete = button("Delete", "delete-title", "Take it away; its children stay", self.remove)
        when.add("", self.copy, self.delete)

    def _stand_ins(self) -> None:
        section = self.section("Stand-ins from points")
        self.points = quiet()
        section.add_wide(self.points)
        pick = button(
            "Choose points", "choose-points", "Show the marks, to choose those of a ground, a post or a pole", lambda: self.session.use_tool("marks")
        )
        made = [
            button(label, name, tip, lambda make=make, label=label: self._from_points(label, make))
            for label, name, tip, make in (
                ("Ground mesh", "make-ground", "Uneven ground through three or more points: it takes shadows", ground_through),
                (
                    "Card on a post",
                    "make-post",
                    "Along two or more points of a post or pole: it hides what is behind",
                    lambda s, t: post_card(s, t, self.session.frame),
                ),
                ("Tube", "make-tube", "A round post along two or more points: it hides, and takes shadows", tube_along),
            )
        ]
        section.add_buttons(pick, made[0])
        section.add_buttons(*made[1:])

    # what is in hand

    def _mattes(self) -> Names:
        item = self.session.object()
        return item.mattes if item is not None else None

    # what the buttons do

    def arrange(self, label: str, change: Callable[..., Shot], *more: float) -> None:
        """Do a change of edits.arrange to each chosen object, as one step."""
        ids, frame, how = self.session.chosen_objects(), self.session.frame, self.session.how

        def edit(shot: Shot) -> Shot:
            for id_ in ids:
                shot = change(shot, id_, frame, how, *more)
            return shot

        if ids:
            self.session.edit(label, edit)

    def _in_row(self) -> None:
        ids, frame, how = self.session.chosen_objects(), self.session.frame, self.session.how
        self.session.edit("Arrange in a row", lambda s: along_line(s, ids, frame, how))

    def _pivot(self, name: str) -> None:
        item, frame = self.session.object(), self.session.frame
        if item is not None:
            self.session.edit("Choose pivot", lambda s: repivoted(s, item.id, pivots_of(find(s, item.id), frame)[name]))

    def _reparent(self, parent: str) -> None:
        ids = [i for i in self.session.chosen_objects() if i != parent]

        def edit(shot: Shot) -> Shot:
            for id_ in ids:
                shot = reparented(shot, id_, parent)
            return shot

        self.session.edit("Hang on", edit)
        self.refresh()

    def duplicate(self) -> None:
        new: list[tuple[str, ...]] = []

        def edit(shot: Shot) -> Shot:
            result, ids = duplicated(shot, self.session.chosen_objects(), self.session.frame)
            new.append(ids)
            return result

        self.session.edit("Duplicate", edit)
        if new and new[0]:
            self.session.select(new[0][0], others=frozenset(new[0][1:]))

    def remove(self) -> None:
        self.session.delete_chosen()

    def _from_points(self, label: str, make: Callable[[Shot, list[int]], Object]) -> None:
        tracks = sorted(self.session.tracks)
        new: list[Object] = []

        def edit(shot: Shot) -> Shot:
            new.append(make(shot, tracks))
            return with_object(shot, new[0])

        self.session.edit(label, edit)
        if new:
            self.session.select(new[0].id)
            self.session.use_tool("move")
            told = mixed_depths(self.session.shot, tracks, self.session.frame) if isinstance(new[0], Card | Tube) else ""
            if told:
                self.session.tell(told, "Choose marks of the post alone, or undo.", "doubtful")

    def _span(self, end: int, frame: int, group: object) -> None:
        item, plate = self.session.object(), self.session.shot.plate
        if item is None or plate is None:
            return
        span = list(item.span or (0, plate.count - 1))
        span[end] = min(max(frame, 0), plate.count - 1)
        if span[0] > span[1]:
            span[1 - end] = span[end]
        self._set("Change span", group, span=(span[0], span[1]))

    # refresh

    def refresh(self) -> None:
        item, shot = self.session.object(), self.session.shot
        super().refresh()
        for section, kinds in self.kinds:
            section.setVisible(isinstance(item, kinds))
        for part in (self.stands, self.does, self.when):
            part.setVisible(item is not None)
        for part in (self.surface, self.pattern_of.section):
            part.setVisible(item is not None and item.BODY)
        self.mirror.show(item)
        self.new.setEnabled(shot.plate is not None)
        set_main(self.new, item is None)
        many = len(self.session.chosen_objects())
        self.title.setText(f"{many} objects" if many > 1 else item.name if item is not None else "Place")
        count = len(self.session.tracks)
        self.points.setText(f"{count} points chosen" if count else "Uneven ground, posts and poles are made from chosen points.")
        self._tell(item)
        self.show_lists()
        if item is None:
            if shot.objects:
                self.help.setText("Click an object in the picture or its lane to change it.")
                self.help.show()
            return
        self._show(item)

    def _tell(self, item: Object | None) -> None:
        """What is wrong with the object, or how far it is expected to slide."""
        text = problem_of(item, self.session.frame) if item is not None else ""
        hidden = hidden_of(self.session.shot, item, self.session.frame) if item is not None and not text else 0.0
        self.drop_up.setVisible(hidden > TOLD_SHARE)
        if hidden > TOLD_SHARE:
            text = f"{figure(max(hidden * 100, 1), 0)} % of it is under the ground, which hides it."
        if item is not None and not text:
            slip = slip_of(self.session.shot, item, self.session.frame)
            text = f"Slip {figure(max(slip, 0.1), 1)} px (95 %)" if slip == slip else ""
        self.problem.setText(text)
        self.problem.setVisible(item is not None)  # its place is kept, so that no row moves when a line comes or goes

    def _show(self, item: Object) -> None:
        self.show_letters(item)
        self.show_made_of(item)
        if self.label_.text() != item.label:
            self.label_.setText(item.label)
        self.label_.setPlaceholderText(item.name)
        self.lane.show_colour(item.lane)
        for name, box in self.flags.items():
            box.setChecked(getattr(item, name))
            box.setEnabled(item.BODY)
        shot, frame = self.session.shot, self.session.frame
        pivots = pivots_of(item, frame)
        names = {tuple(round(v, 5) for v in pivots[name]): i for i, name in reversed(list(enumerate(PIVOTS)))}
        self.pivot.setCurrentIndex(names.get(tuple(round(v, 5) for v in item.pivot), -1))
        self._list_parents(item)
        self.row.setEnabled(len(self.session.chosen_objects()) > 1)
        span = item.span or (0, shot.plate.count - 1 if shot.plate else 0)
        self.first.show_value(span[0])
        self.last.show_value(span[1])
        self.keying.setChecked(self.session.keying)
        self.shifting.setChecked(self.session.shifting)
        self.visible.setChecked(item.visible)
        self.locked.setChecked(item.locked)

    def _list_parents(self, item: Object) -> None:
        others = [("", "the scene"), *((o.id, o.name) for o in self.session.shot.objects if o.id != item.id)]
        if [(self.parent_.itemData(i), self.parent_.itemText(i)) for i in range(self.parent_.count())] != others:
            self.parent_.clear()
            for id_, name in others:
                self.parent_.addItem(name, id_)
        self.parent_.setCurrentIndex(max(self.parent_.findData(item.parent, Qt.ItemDataRole.UserRole), 0))
