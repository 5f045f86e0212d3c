#!/usr/bin/env python3
"""Write docs/shot-schema.json, the JSON Schema of shot.json; `--check` only tells whether it is current (exit status 1 if not)."""

import inspect
import json
import sys
from pathlib import Path
from typing import Any

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


def cleaned(tree: Any) -> Any:
    """Descriptions without the indents of docstrings, which Python keeps up to 3.12 and leaves out from 3.13 on."""
    if isinstance(tree, dict):
        return {key: inspect.cleandoc(value) if key == "description" and isinstance(value, str) else cleaned(value) for key, value in tree.items()}
    return [cleaned(value) for value in tree] if isinstance(tree, list) else tree


def text() -> str:
    tree = cleaned(msgspec.json.schema(Shot, schema_hook=array))
    del tree["$defs"]["Shot"]["properties"]["basis"]  # no part of a file
    return json.dumps(tree, indent=1) + "\n"


if __name__ == "__main__":
    if "--check" in sys.argv:
        sys.exit(0 if FILE.exists() and FILE.read_text() == text() else 1)
    FILE.write_text(text())
