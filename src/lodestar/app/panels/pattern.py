"""The pattern of a solid: one that goes through it, a picture that is laid over it, or the stone of the place."""

from lodestar.core.edits.stone import read_map, with_map, with_picture, without_map
from lodestar.core.edits.surfaces import with_pattern
from lodestar.core.shot.objects import TEXTURES, Solid

from ..fields import Swatch, button
from ..session import PICTURES
from .letters import combo
from .panel import Panel

MAPS = {
    "relief": "How high its surface is, black to white, or a normal map; it lies as the picture does",
    "roughness": "How rough its surface is, black to white; it lies as the picture does",
}


class PatternSection:
    """A section of a panel, of the chosen object."""

    def __init__(self, panel: Panel) -> None:
        self.session = session = panel.session
        self.section = section = panel.section("Pattern")
        section.fold_at_first()
        self.texture = combo("texture", "Pattern", "A pattern that goes through the solid, so that nothing is stretched", list(TEXTURES))
        self.texture.activated.connect(lambda i: self._choose(TEXTURES[i]))
        section.add("Pattern", self.texture)
        place = button("Of the place", "texture-place", "Then click a wall or the ground: it is made of that", lambda: session.use_tool("stone"))
        section.add_buttons(
            button("A picture…", "texture-picture", "Lay a picture or movie over it; pictures are kept in the shot", self._ask), place
        )
        self.maps = {kind: button("", f"{kind}-map", tip, lambda kind=kind: self._map(kind)) for kind, tip in MAPS.items()}
        section.add_buttons(*self.maps.values())
        self.second = Swatch("second-colour", "The other colour of the pattern")
        self.second.picked.connect(lambda rgb: session.edit_item("Choose colour of the pattern", session.selected, second=rgb))
        section.add("Colour", self.second)
        panel.value_rows(
            section, lambda: session.selected, Solid, parts=("texture_size", "texture_amount", "relief", "texture_turn", "texture_offset")
        )

    def show(self, item: Solid) -> None:
        self.texture.setCurrentIndex(TEXTURES.index(item.texture))
        self.second.show_colour(item.second)
        self.second.setEnabled(item.texture != "picture")
        for kind, its in self.maps.items():
            its.setText(f"No {kind} map" if getattr(item, f"{kind}_map") else f"{kind.capitalize()} map…")
        self.section.fact.setText(item.texture)

    def _choose(self, texture: str) -> None:
        item = self.session.object()
        if texture == "picture" and isinstance(item, Solid) and not (item.texture_picture or item.relief_map or item.roughness_map):
            self._ask()
            self.show(item)
        else:
            id_, frame = self.session.selected, self.session.frame
            self.session.edit("Choose pattern", lambda s: with_pattern(s, id_, texture, frame))

    def _ask(self) -> None:
        id_ = self.session.selected
        lay = lambda path, *_: self.session.edit("Lay a picture over it", lambda s: with_picture(s, id_, path))
        self.session.ask_picture("Choose a picture", "texture", lay)

    def _map(self, kind) -> None:
        id_ = self.session.selected
        if getattr(self.session.object(), f"{kind}_map", b""):
            self.session.edit(f"No {kind} map", lambda s: without_map(s, id_, kind))
            return
        path = self.session.ask_file(f"Choose a {kind} map", "texture", PICTURES)
        lay = lambda fields: self.session.edit(f"Lay a {kind} map over it", lambda s: with_map(s, id_, fields))
        if path:
            self.session.work.read_media(path, lambda: read_map(kind, path), lay)
