"""A letter in a surface, small, in the light of the shot: by which surfaces are chosen."""

import msgspec
import numpy as np

from ..basics.geometry import turn_matrix
from ..basics.keyed import constant
from ..evaluate.lights import lights_at
from ..evaluate.objects import items_of
from ..projection.camera import Camera
from ..projection.pinhole import Lens
from ..render.engine import Engine, Quality
from ..shot.document import Shot
from ..shot.objects import Solid, Title
from .composite import over_nothing

FROM, ABOUT = np.array([0.75, -2.6, 0.95]), np.array([0.0, 0.0, 0.5])  # of a letter one high, which faces -y
FOCAL = 1.9  # in widths of the picture
SAMPLES = 16


def letter_of(item: object) -> Title:
    """The first letter of a title, or an A, one high and made as that is, turned as it stands."""
    letter = Title(id="letter", text="A", depth=constant(0.3), bevel=constant(0.035))
    if isinstance(item, Title):
        letter = msgspec.structs.replace(letter, text=next((c for c in item.text if not c.isspace()), "A"), face=item.face)
    return msgspec.structs.replace(letter, turn=item.turn) if isinstance(item, Solid) else letter


def swatch(engine: Engine, shot: Shot, letter: Title, frame: float, px: int) -> np.ndarray | None:
    """(px, px, 4) uint8, premultiplied, of sRGB; None where nothing is seen. Raises RenderError, and PlateError where surroundings cannot be read.

    engine: of this thread.
    """
    heading = letter.turn.at(frame)[0]
    letter = msgspec.structs.replace(letter, turn=constant(heading, 0.0, 0.0), visible=True, span=None, parent="")
    turn = turn_matrix((heading, 0.0, 0.0))
    centre, about = turn @ FROM, turn @ ABOUT
    ahead = (about - centre) / np.linalg.norm(about - centre)
    right = np.cross(ahead, [0, 0, 1.0])
    right /= np.linalg.norm(right)
    R = np.stack([right, np.cross(ahead, right), ahead])
    camera = Camera(R, -R @ centre, Lens(FOCAL * px, FOCAL * px, (px - 1) / 2, (px - 1) / 2))
    items = items_of(msgspec.structs.replace(shot, objects=(letter,)), letter, round(frame))
    layers = engine.render(items, lights_at(shot, frame), lambda share: camera, (px, px), Quality(0.0, SAMPLES))
    if layers is None:
        return None
    whole = np.zeros((px, px, 4), np.float32)
    h, w = layers.colour.shape[:2]
    whole[layers.top : layers.top + h, layers.left : layers.left + w] = layers.colour
    return over_nothing(whole, np.ones((px, px, 3), np.float32), 0.0)
