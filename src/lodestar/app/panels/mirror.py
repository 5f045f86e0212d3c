"""How what stands in for water or a polished floor mirrors our things: its ripples, its tint, and where it mirrors at all."""

from lodestar.core.shot.objects import MIRROR_ROWS, Solid

from ..fields import Swatch
from .mattes import MatteChoice
from .panel import Panel


class Mirror:
    """A section of a panel, for the object in hand."""

    def __init__(self, panel: Panel) -> None:
        session = panel.session
        chosen = lambda: session.selected
        self.section = panel.section("Its mirror")
        self.section.fold_at_first()
        panel.value_rows(self.section, chosen, Solid, "mirror", "mirror", MIRROR_ROWS)
        self.tint = Swatch("mirror-tint", "Colour that the mirror gives to what it shows; white leaves it as it is")
        self.tint.picked.connect(lambda rgb: session.edit_item("Tint the mirror", session.selected, mirror_tint=tuple(float(v) for v in rgb)))
        self.section.add("Tint", self.tint)
        self.inside = MatteChoice(
            session,
            "mirror-inside",
            "everywhere",
            (),
            "Inside which mattes alone it mirrors, as puddles on paving",
            lambda: getattr(session.object(), "mirror_inside", ()),
            lambda names: session.edit_item("Choose where it mirrors", session.selected, mirror_inside=names or ()),
        )
        self.section.add("Only inside", self.inside)
        panel.on_refresh(self.inside.refresh)

    def show(self, item: object) -> None:
        there = isinstance(item, Solid) and not item.drawn and (bool(item.reflects.keys) or item.reflects.value[0] > 0)
        self.section.setVisible(there)
        if isinstance(item, Solid):
            self.tint.show_colour(item.mirror_tint)
