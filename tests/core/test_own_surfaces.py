"""Surfaces of the user's own, kept in files, and the letters by which they are chosen."""

import unittest

import msgspec
import numpy as np

from lodestar.core.basics.errors import UserError
from lodestar.core.basics.keyed import constant
from lodestar.core.edits.own_surfaces import own_files, own_of, read_own, write_own
from lodestar.core.edits.surfaces import READY, with_made_of, with_ready
from lodestar.core.picture.swatch import letter_of, swatch
from lodestar.core.render.engine import Engine
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Box, Title
from tests.helpers import FolderCase


class OwnSurfacesTest(FolderCase):
    def test_a_surface_goes_through_its_file_to_a_thing_of_another_size(self):
        shot = with_ready(Shot(objects=(Title(id="t", text="A", height=constant(2.0)),)), "t", "Gilded edge", 0)
        shot = msgspec.structs.replace(
            shot, objects=(msgspec.structs.replace(shot.objects[0], texture="picture", texture_picture=b"\x89PNG", texture_size=constant(0.5)),)
        )
        path = self.folder / "Mine.lodesurface"
        write_own(own_of(shot, "t", "Mine", 0), path)
        self.assertEqual(own_files(self.folder), [path])
        own = read_own(path)
        small = with_made_of(Shot(objects=(Title(id="s", text="B", height=constant(1.0)),)), "s", own.made_of, 0).objects[0]
        old = shot.objects[0]
        for name in ("colour", "roughness", "metal", "coat", "clear", "texture", "texture_picture"):
            self.assertEqual(getattr(small, name), getattr(old, name), name)
        self.assertAlmostEqual(small.texture_size.at(0)[0], 0.25, delta=0.01)  # as large in its letters as it was
        self.assertEqual([(s.part, s.colour, s.metal) for s in small.surfaces], [(s.part, s.colour, s.metal) for s in old.surfaces])

    def test_files_that_hold_none_are_refused_with_a_sentence(self):
        good = msgspec.json.encode(own_of(Shot(objects=(Box(id="b"),)), "b", "Plain", 0))
        for name, data in (
            ("a", b""),
            ("b", b"{}"),
            ("c", good.replace(b'"none"', b'"marble"')),
            ("d", good.replace(b'"version":1', b'"version":9')),
            ("e", good[:40]),
            ("f", good.replace(b'"roughness":0.45', b'"roughness":1e99')),
        ):
            path = self.folder / f"{name}.lodesurface"
            path.write_bytes(data)
            with self.assertRaises(UserError, msg=name):
                read_own(path)

    def test_swatches_show_the_letter_in_the_surface(self):
        title = Title(id="t", text=" owl", turn=constant(70.0, 0.0, 0.0))
        letter, engine = letter_of(title), Engine()
        self.assertEqual(letter.text, "o")
        seen = {}
        for name in ("Painted", "Lacquer", "Neon"):
            made = with_made_of(Shot(objects=(letter,)), letter.id, READY[name], 0).objects[0]
            seen[name] = swatch(engine, Shot(objects=(title,)), made, 0, 48)
            self.assertTrue(0.15 < (seen[name][..., 3] > 128).mean() < 0.7, name)
        full = seen["Lacquer"][..., 3] > 250
        self.assertGreater(seen["Lacquer"][full][:, 0].mean(), 1.5 * seen["Lacquer"][full][:, 2].mean())
        self.assertGreater(int(np.abs(seen["Painted"].astype(int) - seen["Neon"]).max()), 60)
        self.assertEqual(letter_of(Box(id="b")).text, "A")


if __name__ == "__main__":
    unittest.main()
