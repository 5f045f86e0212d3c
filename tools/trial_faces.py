"""Every printable ASCII letter of many faces as a bevelled solid: is it watertight? Prints the share, and each one that is not, with why.

    .venv/bin/python tools/trial_faces.py [--faces 150]

Watertight: each edge belongs to two triangles, once each way; the volume is above 0; no triangle is turned over (the face and back look
along the depth, sides across it). Letters that a face has no outline for do not count. More faces: apt-get install fonts-… packages.
"""

import argparse
import string
import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

import numpy as np

from lodestar.core.basics.errors import UserError
from lodestar.core.shape.extrude import BACK, FACE, SIDE, Mesh, bevelled, solid
from lodestar.core.shape.fonts import all_faces, face_of
from lodestar.core.shape.setting import pieces_of

DEPTH, BEVEL = 0.3, 0.03  # in cap heights


def fault(mesh: Mesh) -> str:
    """What is wrong with a solid; empty when nothing is."""
    p = mesh.vertices.astype(float)
    _, number = np.unique(np.round(p, 6), axis=0, return_inverse=True)
    t = number.ravel()[mesh.triangles].astype(np.int64)
    whole = (t[:, 0] != t[:, 1]) & (t[:, 1] != t[:, 2]) & (t[:, 0] != t[:, 2])
    a, b = t[whole][:, [0, 1, 2]].ravel(), t[whole][:, [1, 2, 0]].ravel()
    size = int(t.max(initial=0)) + 1
    _, inverse = np.unique(np.minimum(a, b) * size + np.maximum(a, b), return_inverse=True)
    balance = np.bincount(inverse, np.where(a < b, 1, -1))
    if (balance != 0).any():
        return f"{int((balance != 0).sum())} edges are open"
    u, v, w = (p[mesh.triangles[:, k]] for k in range(3))
    face = np.cross(v - u, w - u)
    area = np.linalg.norm(face, axis=1)
    if np.einsum("ij,ij->", u, np.cross(v, w)) <= 0:
        return "the volume is not above 0"
    far = area > 1e-9
    along = face[:, 1] / np.maximum(area, 1e-12)
    turned = far & (((mesh.parts == FACE) & (along > -0.99)) | ((mesh.parts == BACK) & (along < 0.99)) | ((mesh.parts == SIDE) & (abs(along) > 0.01)))
    return f"{int(turned.sum())} triangles look the wrong way" if turned.any() else ""


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--faces", type=int, default=1000, help="at most so many faces")
    asked = parser.parse_args()
    good = bad = faces = 0
    for name in all_faces()[: asked.faces]:
        try:
            face = face_of(name)
            faces += 1
            for letter in string.printable[:94]:
                for piece in pieces_of(face, letter):
                    told = fault(solid(piece.joined, bevelled(DEPTH, BEVEL)))
                    good, bad = good + (not told), bad + bool(told)
                    if told:
                        print(f"{name}: {letter}: {told}")
        except UserError as error:
            print(f"{name}: {error.what}")
    print(f"{faces} faces, {good + bad} letters, {good / max(good + bad, 1):.2%} watertight")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
