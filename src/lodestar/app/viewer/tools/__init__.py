"""The tools on the picture, one file for each thing they work on; `TOOLS` says which step has which."""

from .marks import ChooseMarks
from .outlines import DrawMatte, DrawRegion
from .shadow import AlongShadow
from .titles import MoveTitle, PlaceTitle

TOOLS = {"Track": (ChooseMarks, DrawRegion), "Solve": (ChooseMarks,), "Ground": (ChooseMarks,), "Place": (MoveTitle, PlaceTitle),
         "Light": (AlongShadow, MoveTitle), "Foreground": (DrawMatte,)}  # fmt: skip
