#!/usr/bin/env python3
"""Write docs/shot-schema.json, the JSON Schema of shot.json; `--check` only tells whether it is current (exit status 1 if not)."""

import json
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))

import msgspec
import numpy as np

from lodestar.core.shot.document import Shot

FILE = ROOT / "docs" / "shot-schema.json"


def array(kind: type) -> dict:
    if kind is np.ndarray:
        return {"type": "object", "properties": {"array": {"type": "string"}}, "required": ["array"]}
    raise NotImplementedError(kind)


def text() -> str:
    tree = msgspec.json.schema(Shot, schema_hook=array)
    del tree["$defs"]["Shot"]["properties"]["basis"]  # no part of a file
    return json.dumps(tree, indent=1) + "\n"


if __name__ == "__main__":
    if "--check" in sys.argv:
        sys.exit(0 if FILE.exists() and FILE.read_text() == text() else 1)
    FILE.write_text(text())
