"""The tools on the picture, one file for each thing they work on; `TOOLS` says which step has which."""

from .marks import ChooseMarks, MoreHere, PlaceByHand
from .outlines import DrawMatte, DrawRegion
from .shadow import AlongShadow
from .titles import MoveTitle, PlaceTitle

TOOLS = {"Track": (ChooseMarks, DrawRegion, MoreHere, PlaceByHand), "Solve": (ChooseMarks, MoreHere, PlaceByHand), "Ground": (ChooseMarks,), "Place": (MoveTitle, PlaceTitle),
         "Light": (AlongShadow, MoveTitle), "Foreground": (DrawMatte,)}  # fmt: skip
