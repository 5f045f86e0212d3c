"""The tools on the picture, one file for each thing they work on; `TOOLS` says which step has which."""

from .brush import Brush
from .deform import DragDeform
from .fly import FlyThrough
from .ground import DrawHorizon, DrawUpright, TurnScene
from .handles import MoveObject
from .key import PickColour
from .lamps import MoveLamp
from .marks import ChooseMarks, MoreHere, PlaceByHand
from .outlines import DrawMatte, DrawRegion
from .place import DrawBox, DrawBoxStandIn, PlaceAnchor, PlaceCard, PlaceCheck, PlaceLogo, PlacePicture, PlaceTitle
from .rows import AlongPath
from .shadow import AlongShadow
from .sky import TurnSky, TurnSurroundings
from .stone import TakeStone
from .typing import TypeWords
from .words_path import DrawWordsPath

TOOLS = {
    "Track": (ChooseMarks, DrawRegion, MoreHere, PlaceByHand),
    "Solve": (ChooseMarks, MoreHere, PlaceByHand),
    "Ground": (ChooseMarks, DrawUpright, DrawHorizon, TurnScene),
    "Place": (
        MoveObject,
        PlaceTitle,
        PlaceLogo,
        PlacePicture,
        PlaceCard,
        PlaceCheck,
        PlaceAnchor,
        DrawBox,
        DrawBoxStandIn,
        AlongPath,
        TypeWords,
        DragDeform,
        DrawWordsPath,
        FlyThrough,
        TakeStone,
        ChooseMarks,
    ),
    "Light": (AlongShadow, MoveLamp, TurnSurroundings, MoveObject),
    "Foreground": (DrawMatte, Brush, PickColour, TurnSky),
}
# those with a button of their own; the rest are in the menu beside them
SHOWN = {"Place": ("move", "title")}
