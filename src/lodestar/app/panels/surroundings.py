"""What surrounds the place and lights the titles: three skies, a soft box, the new sky, or a picture of the full sphere."""

from pathlib import Path

from lodestar.core.basics.errors import UserError
from lodestar.core.edits.lights import with_surroundings, without_surroundings
from lodestar.core.light.surroundings import KINDS, Surroundings
from lodestar.core.media.panorama import SUFFIXES, check_panorama

from ..fields import Choice, button, tick
from .panel import Panel

NONE = "None"
WORDS = {
    "clear": "Clear, with a sun",
    "overcast": "Overcast",
    "dusk": "Dusk",
    "soft box": "Soft box",
    "sky": "The new sky",
    "picture": "A picture…",
}
FILES = f"Pictures of the full sphere ({' '.join('*' + suffix for suffix in SUFFIXES)});;All files (*)"


class SurroundingsSection:
    """A section of a panel."""

    def __init__(self, panel: Panel) -> None:
        self.session = panel.session
        self.section = section = panel.section("Surroundings")
        self.kind = Choice()
        self.kind.setObjectName("surroundings-kind")
        self.kind.setAccessibleName("Which surroundings")
        self.kind.setToolTip("Light from all around, which metal and polished letters mirror; it takes the place of the even sky")
        self.kind.addItems([NONE, *(WORDS[kind] for kind in KINDS)])
        self.kind.activated.connect(lambda number: self._choose(KINDS[number - 1] if number else ""))
        section.add("Lit by", self.kind)
        self.file = button("Choose a picture…", "surroundings-picture", "A picture of the full sphere: .hdr, .exr, or a usual one", self._ask)
        section.add_wide(self.file)
        self.sun = tick(
            "Their sun shines", "surroundings-sun", "Whether a sun in them lights and throws shadows; off where the sun lamp does", self._switch_sun
        )
        section.add("", self.sun)
        self.rows = panel.section("Turn and light of the surroundings")
        panel.value_rows(self.rows, lambda: "surroundings", Surroundings, "surroundings", "surroundings")

    def refresh(self) -> None:
        around = self.session.shot.surroundings
        self.kind.setCurrentIndex(KINDS.index(around.kind) + 1 if around.on else 0)
        self.kind.setEnabled(self.session.shot.plate is not None)
        self.file.setVisible(around.on and around.kind == "picture")
        self.file.setText(Path(around.picture).name or "Choose a picture…")
        self.sun.setVisible(around.on)
        self.sun.setChecked(around.sun)
        self.rows.setVisible(around.on)
        self.section.fact.setText(around.kind if around.on else "none")

    def _choose(self, kind: str) -> None:
        if not kind:
            if self.session.shot.surroundings.on:
                self.session.edit("Choose surroundings", without_surroundings)
        elif kind == "picture" and not self.session.shot.surroundings.picture:
            self._ask()
        else:
            self.session.edit("Choose surroundings", lambda s: with_surroundings(s, kind))
            if kind == "sky" and not self.session.shot.backdrop.on:
                self.session.tell("There is no new sky yet, so a clear one lights the titles.", "Replace the sky, at Foreground.", "note")
        self.refresh()

    def _ask(self) -> None:
        path = self.session.ask_file("Choose surroundings", "surroundings", FILES)
        if not path:
            return
        try:
            check_panorama(path)  # all of it is read beside the interface
        except UserError as error:
            self.session.fail(error)
            return
        self.session.edit("Choose surroundings", lambda s: with_surroundings(s, "picture", path))
        self.refresh()

    def _switch_sun(self, on: bool) -> None:
        self.session.edit_item("Sun of the surroundings, on or off", "surroundings", sun=on)
