"""The sky that takes the place of the plate's: what it is, where it is seen, how it is turned."""

from pathlib import Path

import numpy as np

from lodestar.core.basics.colour import decode, encode
from lodestar.core.basics.geometry import vector
from lodestar.core.edits.sky import read_sky, with_kind_of_sky, with_new_sky, with_picture_of_sky, with_sun_in_place
from lodestar.core.evaluate.old_sky import OldSky
from lodestar.core.finish.backdrop import KINDS, Backdrop
from lodestar.core.work.new_sky import find_sky

from ..fields import Choice, Swatch, button, tick
from ..session import PICTURES
from .mattes import MatteChoice
from .panel import Panel

WORDS = {"clear": "Clear, with a sun", "overcast": "Overcast", "dusk": "Dusk", "picture": "A picture…"}


class NewSky:
    """A section of a panel."""

    def __init__(self, panel: Panel) -> None:
        self.session = session = panel.session
        self.section = panel.section("New sky")
        tip = "The plate's sky is found by its colours, and another one, infinitely far away, is seen in its place"
        self.on = tick("Replace the sky", "sky-on", tip, self.switch)
        self.section.add_wide(self.on)
        self.kind = Choice()
        self.kind.setObjectName("sky-kind")
        self.kind.setAccessibleName("Which sky")
        self.kind.setToolTip("One of three that are made here, or a picture, movie or panorama of your own")
        self.kind.addItems([WORDS[kind] for kind in KINDS])
        self.kind.activated.connect(lambda number: self._choose(KINDS[number]))
        self.file = button("Choose a picture…", "sky-picture", "A picture, a movie or a panorama of the full sphere", self._ask_picture)
        self.where = MatteChoice(
            session,
            "sky-mattes",
            "nowhere",
            (),
            "Inside which mattes the new sky is seen",
            lambda: session.shot.backdrop.mattes,
            lambda names: session.edit_item("Choose where the sky is seen", "backdrop", mattes=names or ()),
        )
        self.again = button("Find the old sky here", "find-sky", "Look for the colours of the plate's sky in this frame", self.find)
        self.sun = button("Its sun where the shadows say", "sky-sun", "Turns it so that its sun stands where that of the shot does", self._put_sun)
        self.haze = Swatch("haze-colour", "Colour of the haze at the horizon")
        self.haze.picked.connect(
            lambda rgb: session.edit_item("Choose colour", "backdrop", haze_colour=tuple(float(v) for v in decode(np.array(rgb), "srgb")))
        )
        self.parts = [self.section.add("Sky", self.kind), self.file, self.section.add("Seen inside", self.where), self.again]
        self.section.add_wide(self.file)
        self.section.add_wide(self.again)
        self.section.add_wide(self.sun)
        self.more = panel.section("Place and light of the sky")
        panel.value_rows(
            self.more, lambda: "backdrop", Backdrop, "sky", "sky", ("heading", "tilt", "roll", "width", "drift", "exposure", "soft", "grain")
        )
        self.hazy = panel.section("Horizon and haze")
        self.hazy.fold_at_first()
        panel.value_rows(self.hazy, lambda: "backdrop", Backdrop, "sky", "sky", ("horizon", "haze", "haze_height"))
        self.hazy.add("Colour", self.haze)

    def refresh(self) -> None:
        backdrop, has = self.session.shot.backdrop, self.session.shot.plate is not None
        self.on.setChecked(backdrop.on)
        self.on.setEnabled(has)
        for part in (self.kind, self.where, self.again, *(p for p in self.parts if p is not None)):
            part.setVisible(backdrop.on)
        self.file.setVisible(backdrop.on and backdrop.kind == "picture")
        self.file.setText(Path(backdrop.picture).name or "Choose a picture…")
        self.sun.setVisible(backdrop.on and backdrop.kind != "picture")
        self.more.setVisible(backdrop.on)
        self.hazy.setVisible(backdrop.on)
        self.kind.setCurrentIndex(KINDS.index(backdrop.kind))
        self.where.refresh()
        self.haze.show_colour(vector(encode(np.array(backdrop.haze_colour), "srgb")))
        self.section.fact.setText(backdrop.kind if backdrop.on else "")

    def switch(self, on: bool) -> None:
        """Replace the sky or not; the old one is looked for where it is not known yet."""
        shot = self.session.shot
        if on and not any(m.id in shot.backdrop.mattes for m in shot.mattes):
            self.find()
        else:
            self.session.edit_item("Replace the sky, on or off", "backdrop", on=on)
        self.refresh()

    def find(self) -> None:
        """Look for the old sky in the frame that is shown, and put a new one in its place."""
        shot, frame = self.session.shot, self.session.frame

        def take(old: OldSky) -> None:
            self.session.edit("Replace the sky", lambda s: with_new_sky(s, old))
            how = "by its colours and by what is far away" if old.key.far else "by its colours"
            down = f", down to {-old.ends:.0f}° under the horizon, where the ground falls away" if old.ends else ""
            self.session.tell(
                f"The sky was found {how}{down}.",
                f"Where it takes more, draw an outline round that and name it at 'Not inside' of the matte '{old.key.name}'; or change its key.",
                "note",
            )

        self.session.work.run_job("Find the sky", "Foreground", lambda job: find_sky(shot, frame, job), take)

    def _put_sun(self) -> None:
        frame, how = self.session.frame, self.session.how
        self.session.edit("Put the sun of the sky in place", lambda s: with_sun_in_place(s, frame, how))

    def _choose(self, kind: str) -> None:
        if kind == "picture":
            self._take_picture(self.session.shot.backdrop.picture)
        else:
            self.session.edit("Choose a sky", lambda s: with_kind_of_sky(s, kind))
        self.refresh()

    def _ask_picture(self) -> None:
        self._take_picture("")

    def _take_picture(self, path: str) -> None:
        """A picture that is given, or one of the user's choice."""
        path = path or self.session.ask_file("Choose a sky", "sky", PICTURES)
        frame, how = self.session.frame, self.session.how
        take = lambda sky: self.session.edit("Choose a sky", lambda s: with_picture_of_sky(s, sky, frame, how))
        if path:
            self.session.work.read_media(path, lambda: read_sky(path), take)
