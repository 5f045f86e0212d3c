"""Imports point down only, and the core has no Qt."""

import ast
import unittest

from tests.helpers import ROOT

SOURCE = ROOT / "src" / "lodestar"
# rooms by floor; a room may import from lower floors only, never from a sibling on its own
FLOORS = [
    {"basics"},
    {"projection"},
    {"media", "track", "solve", "shape", "light", "matte", "finish"},
    {"scene"},
    {"shot"},
    {"render"},
    {"evaluate"},
    {"edits", "picture"},
    {"work"},
    {"exchange"},
]
# a solve is made from tracks and holds none; it is the one look sideways, at the plain value
ALLOWED = {("solve", "track")}


def imports(path):
    """(room or package that is imported) of each import in a core file."""
    package = ["lodestar", *path.relative_to(SOURCE).parts[:-1]]
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom):
            base = package[: len(package) - node.level + 1] if node.level else []
            full = base + (node.module.split(".") if node.module else [])
            names = [full] if node.module else [[*full, a.name] for a in node.names]
            yield from names
        elif isinstance(node, ast.Import):
            yield from (a.name.split(".") for a in node.names)


class ImportsTest(unittest.TestCase):
    def test_no_import_points_up_or_sideways(self):
        floor = {room: i for i, rooms in enumerate(FLOORS) for room in rooms}
        wrong = []
        for path in (SOURCE / "core").rglob("*.py"):
            room = path.relative_to(SOURCE / "core").parts[0]
            for name in imports(path):
                if name[0].startswith("PyQt"):
                    wrong.append(f"{path}: Qt in the core")
                if name[:2] == ["lodestar", "app"]:
                    wrong.append(f"{path}: the core imports the window")
                other = name[2] if name[:2] == ["lodestar", "core"] and len(name) > 2 else room
                if other in floor and other != room and floor[other] >= floor[room] and (room, other) not in ALLOWED:
                    wrong.append(f"{path}: {room} imports {other}")
        self.assertEqual(wrong, [])

    def test_each_room_is_on_a_floor(self):
        rooms = {p.name for p in (SOURCE / "core").iterdir() if p.is_dir() and not p.name.startswith("__")}
        self.assertEqual(rooms, set().union(*FLOORS))
