"""The document: keyed values, history, files and every way in which a file can be bad."""

import errno
import io
import json
import subprocess
import sys
import unittest
import zipfile
from unittest import mock

import msgspec
import numpy as np

from lodestar.core.basics.errors import OutputError, ShotFileError
from lodestar.core.basics.keyed import Key, Keyed, constant, ease
from lodestar.core.edits.settle import with_tracks
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot, rebased, solve_is_stale, solving_inputs, tracks_are_stale, with_plate
from lodestar.core.shot.history import History
from lodestar.core.shot.motion import moved_keys
from lodestar.core.shot.objects import Title
from lodestar.core.solve.known import Span
from tests.factory import make_shot
from tests.helpers import DEMO, ROOT, FolderCase


class KeyedTest(unittest.TestCase):
    def test_easing_against_the_css_standard(self):
        # W3C CSS Easing Functions Level 1: ease-in-out is cubic-bezier(0.42, 0, 0.58, 1), ease is (0.25, 0.1, 0.25, 1);
        # values at 1/4 and 1/2 from the standard's curves, as browsers give them (from memory)
        smooth, free = Key(0, (0.0,), "smooth"), Key(0, (0.0,), "free", (0.25, 0.1, 0.25, 1.0))
        self.assertAlmostEqual(ease(smooth, 0.25), 0.1291, places=3)
        self.assertAlmostEqual(ease(smooth, 0.5), 0.5, places=6)
        self.assertAlmostEqual(ease(free, 0.5), 0.8024, places=3)
        self.assertAlmostEqual(ease(free, 0.25), 0.4085, places=3)

    def test_values_between_keys(self):
        value = Keyed((0.0, 0.0)).with_key(10, (0, 10), "linear").with_key(20, (10, 10), "hold").with_key(30, (0, 0))
        self.assertEqual(value.at(0), (0, 10))
        self.assertEqual(value.at(15), (5.0, 10.0))
        self.assertEqual(value.at(29), (10, 10))
        self.assertEqual(value.at(99), (0, 0))
        self.assertEqual([k.frame for k in moved_keys(value, [10], 15).keys], [20, 25, 30])

    def test_dragging_moves_the_whole_motion_or_sets_a_key(self):
        value = Keyed((0.0,)).with_key(0, (1.0,), "linear").with_key(10, (3.0,), "linear")
        self.assertEqual([k.value for k in value.changed(5, (4.0,), "whole").keys], [(3.0,), (5.0,)])
        keyed = value.changed(5, (9.0,))
        self.assertEqual(keyed.at(5), (9.0,))
        self.assertEqual(constant(1).changed(3, (2.0,)), Keyed((2.0,)))
        for changed in (constant(0, 0).changed(3, np.array([1.0, 2.0])), constant(0, 0).changed(3, np.array([1.0, 2.0]), "key")):
            self.assertEqual(msgspec.json.decode(msgspec.json.encode(changed), type=Keyed), changed)
        self.assertEqual(keyed.without_key(0).without_key(5).without_key(10), Keyed((3.0,)))


class HistoryTest(unittest.TestCase):
    def test_undo_gives_the_old_value_back(self):
        history = History(Shot())
        first = history.shot
        rename = lambda name: lambda s: msgspec.structs.replace(s, name=name)
        history.apply("Name", rename("a"))
        for name in ("b", "c", "d"):
            history.apply("Drag", rename(name), group="one drag")
        self.assertEqual(history.undo(), "Drag")
        self.assertEqual(history.shot.name, "a")
        self.assertEqual(history.redo(), "Drag")
        self.assertEqual(history.shot.name, "d")
        history.undo()
        history.undo()
        self.assertIs(history.shot, first)
        self.assertIsNone(history.undo())
        history.apply("Nothing", lambda s: s)
        self.assertIsNotNone(history.redo_label)
        history.apply("Name", rename("other"))
        self.assertIsNone(history.redo_label)  # what was undone cannot come back after another edit

    def test_an_edit_that_lands_during_a_drag_goes_in_before_it(self):
        history = History(Shot())
        begin = history.shot
        history.apply("Drag", lambda s: msgspec.structs.replace(s, last=s.last + 5), group="drag")
        history.land("Rename", lambda s: msgspec.structs.replace(s, name="landed"))
        self.assertEqual((history.shot.name, history.shot.last), ("landed", 5))
        history.apply("Drag", lambda s: msgspec.structs.replace(s, last=s.last + 7), group="drag")
        self.assertEqual((history.shot.name, history.shot.last), ("landed", 7))
        self.assertEqual([history.undo(), history.shot.name, history.shot.last], ["Drag", "landed", 0])
        self.assertEqual([history.undo(), history.shot is begin], ["Rename", True])

    def test_a_drag_back_to_its_beginning_is_no_step(self):
        history = History(Shot())
        history.apply("Drag", lambda s: msgspec.structs.replace(s, last=3), group="drag")
        history.apply("Drag", lambda s: s, group="drag")
        history.close_group()
        self.assertIsNone(history.undo_label)

    def test_what_is_stale_is_known(self):
        shot = files.read(DEMO)
        self.assertFalse(tracks_are_stale(shot) or solve_is_stale(shot))
        rejected = np.zeros(shot.tracks.count, bool)
        rejected[3] = True
        changed = with_tracks(shot, shot.tracks.with_rejected(rejected))
        self.assertTrue(solve_is_stale(changed))
        self.assertNotEqual(solving_inputs(changed), shot.solve.source)
        self.assertTrue(tracks_are_stale(msgspec.structs.replace(shot, last=50)))

    def test_another_clip_of_the_same_size_keeps_the_work(self):
        shot = make_shot(frames=12)
        same = with_plate(shot, msgspec.structs.replace(shot.plate, path="/elsewhere.mp4"))
        self.assertIs(same.solve, shot.solve)
        other = with_plate(shot, msgspec.structs.replace(shot.plate, count=50))
        self.assertIsNone(other.solve)
        self.assertEqual(other.objects, shot.objects)


class FilesTest(FolderCase):
    def test_everything_comes_back(self):
        shot = make_shot(frames=12, titles=3)
        files.write(shot, self.folder / "copy.lode")
        back = files.read(self.folder / "copy.lode")
        self.assertEqual(back.objects, shot.objects)
        self.assertEqual(back.plate, shot.plate)
        np.testing.assert_array_equal(back.tracks.xy, shot.tracks.xy)
        np.testing.assert_array_equal(back.solve.R, shot.solve.R)
        self.assertFalse(back.tracks.xy.flags.writeable)

    def test_numbers_of_numpy_do_not_keep_a_shot_from_being_saved(self):
        files.write(Shot(objects=(Title(id="t", pivot=(np.float64(1), 0.0, np.float32(2))),)), self.folder / "n.lode")
        self.assertEqual(files.read(self.folder / "n.lode").objects[0].pivot, (1.0, 0.0, 2.0))

    def test_the_clip_moves_with_its_folder(self):
        with zipfile.ZipFile(DEMO) as archive:
            self.assertEqual(json.loads(archive.read("shot.json"))["plate"]["path"], "shots/terrace.mp4")

    def test_files_of_version_1_open_for_ever(self):
        shot = files.read(ROOT / "tests" / "data" / "shots" / "v1.lode")
        self.assertEqual(shot.objects[0].text, "GATE 3")
        self.assertEqual(shot.objects[0].position.at(10), (1.0, 2.0, 0.0))
        self.assertEqual(shot.tracks.count, 2)

    def test_files_of_version_2_open_for_ever(self):
        shot = files.read(ROOT / "tests" / "data" / "shots" / "v2.lode")
        kinds = [type(o).__name__ for o in shot.objects]
        self.assertEqual(kinds, ["Title", "Logo", "Card", "Anchor", "Box", "Tube", "GroundMesh"])
        title, logo, card, _, box, _, mesh = shot.objects
        self.assertEqual((title.position.keys[0].handles, title.span, title.pivot), ((0.1, 0.0, 0.2, 1.5), (2, 8), (0.0, 0.0, 0.5)))
        self.assertEqual((logo.parent, card.picture, box.hides, mesh.tracks), ("a", str(ROOT / "tests/data/shots/none.png"), True, (0, 1, -1)))
        self.assertEqual((shot.markers[0].text, shot.ground.uprights[0].b, shot.ground.sized), ("gate opens", (12.0, 90.0), 2.0))
        self.assertEqual(shot.ground.spans, (Span(0, 1, 2.0, "y"),))

    def test_files_of_version_3_open_for_ever(self):
        shot = files.read(ROOT / "tests" / "data" / "shots" / "v3.lode")
        plate, (title,), (sun, second, sky) = shot.plate, shot.objects, shot.lamps
        self.assertEqual((plate.colour.transfer, plate.depth, plate.turn_deg, plate.pixel_aspect, plate.rate), ("hlg", 10, 90, (4, 3), (30000, 1001)))
        self.assertEqual((title.mattes, title.turn.at(19), shot.solving.distortion), (("m",), (720.0, 0.0, 0.0), (-0.1, 0.02)))
        self.assertEqual((sun.bearing.at(0), second.id, sky.strength.at(0)), ((99.0,), "second", (0.6,)))
        self.assertEqual((shot.shadow.mattes, shot.shadow.tint, shot.exposure.shutter.at(0)), ((), (0.1, 0.0, 0.0), (0.3,)))
        self.assertEqual([(e.name, e.mattes) for e in shot.finish], [("Vignette", ()), ("Grade", ("m",))])
        self.assertEqual((shot.tracks.count, shot.tracks.xy[1].tolist()), (2, [3.0, 4.0]))
        self.assertFalse(shot.ground.uneven, "it was placed and lit on level ground")

    def test_files_of_version_4_open_for_ever(self):
        shot = files.read(ROOT / "tests" / "data" / "shots" / "v4.lode")
        (title,), (key, outline, picture) = shot.objects, shot.mattes
        self.assertTrue(shot.ground.uneven)
        self.assertEqual((title.text, title.number.at(9)), ("{#,##0} m", (1000.0,)))
        self.assertEqual((key.samples, key.without, key.hides, key.grow.at(0)), (((0.1, 0.2, 0.3),), ("o",), False, (0.5,)))
        self.assertEqual((outline.carried, outline.soft.at(0)), ((3, 5, 8), (1.5,)))
        self.assertEqual((picture.channel, picture.first, picture.picture[-17:]), ("red", 2, "mattes/m.0001.png"))
        sky = shot.backdrop
        self.assertEqual((sky.on, sky.kind, sky.mattes, sky.heading.at(0), sky.haze.at(0)), (True, "dusk", ("k",), (12.0,), (0.2,)))

    def test_light_finish_and_outlines_of_version_2_are_the_same_things(self):
        tree = {
            "version": 2,
            "mattes": [{"id": "m", "name": "m", "shape": {"value": [0, 0, 9, 0, 9, 9]}}],
            "light": {
                "bearing": {"value": [100.0]},
                "height": {"value": [20.0]},
                "strength": {"value": [2.0]},
                "sky": {"value": [0.7]},
                "on": False,
                "sky_colour": [0.5, 0.6, 0.7],
                "colour": [1.0, 0.8, 0.6],
                "density": {"value": [0.4]},
                "tint": [0.1, 0.2, 0.3],
                "shadows": [{"foot": [0, 0, 0], "tip": [1, 0, 0], "height": 2.0}],
            },
            "finish": {"shutter": {"value": [0.25]}},
        }
        path = self.folder / "two.lode"
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("shot.json", json.dumps(tree))
        shot = files.read(path)
        sun, sky = shot.lamps
        self.assertEqual(
            (sun.bearing.at(0), sun.height.at(0), sun.strength.at(0), sun.colour, sun.on), ((100.0,), (20.0,), (2.0,), (1.0, 0.8, 0.6), False)
        )
        self.assertEqual((sky.strength.at(0), sky.colour), ((0.7,), (0.5, 0.6, 0.7)))
        self.assertEqual((shot.shadow.density.at(0), shot.shadow.tint, shot.shadow.lines[0].height), ((0.4,), (0.1, 0.2, 0.3), 2.0))
        self.assertEqual((shot.exposure.shutter.at(0), shot.finish, shot.mattes[0].feather.at(0)), ((0.25,), (), (2.0,)))

    def test_arrays_that_did_not_change_are_copied_as_they_are_packed(self):
        first, second, third = (self.folder / f"{n}.lode" for n in "abc")
        shot = files.read(DEMO)  # of an earlier version: its arrays lie in one member
        files.write(shot, first)
        renamed = msgspec.structs.replace(shot, name="Renamed")
        with mock.patch("numpy.lib.format.write_array", side_effect=AssertionError("packed anew")):
            files.write(renamed, second)
            files.write(msgspec.structs.replace(files.read(second), first=1), third)
        for path in (second, third):
            with zipfile.ZipFile(path) as archive:
                self.assertIsNone(archive.testzip())
            again = files.read(path)
            np.testing.assert_array_equal(again.solve.xyz, shot.solve.xyz)
            np.testing.assert_array_equal(again.tracks.xy, shot.tracks.xy)
        # where the file that holds them has changed, they are packed
        second.write_bytes(b"something else")
        third.unlink()
        files.write(renamed, first)
        np.testing.assert_array_equal(files.read(first).tracks.xy, shot.tracks.xy)

    def test_saving_keeps_a_link_and_the_mode_of_the_file(self):
        real, link = self.folder / "real.lode", self.folder / "link.lode"
        files.write(Shot(name="one"), real)
        real.chmod(0o600)
        link.symlink_to(real)
        files.write(Shot(name="two"), link)
        self.assertTrue(link.is_symlink())
        self.assertEqual((files.read(real).name, real.stat().st_mode & 0o777), ("two", 0o600))

    def test_nonsense_is_refused_with_its_place(self):
        key = lambda frame, *value: {"frame": frame, "value": value}
        title = lambda **fields: {"objects": [{"type": "title", "id": "a", **fields}]}
        plate = {"path": "a.mp4", "width": 64, "height": 36, "count": 5, "rate": [25, 1]}
        cases = {
            "objects[0].height.value": title(height={"value": []}),
            "objects[0].position.value": title(position={"value": [1.0, 2.0]}),
            "objects[0].size.keys[1].frame": title(size={"value": [1.0], "keys": [key(5, 1.0), key(2, 1.0)]}),
            "objects[0].size.keys[0].value": title(size={"value": [1.0], "keys": [key(5, 1.0, 2.0)]}),
            "objects[0].size.keys[0].easing": title(size={"value": [1.0], "keys": [{**key(5, 1.0), "easing": "evil"}]}),
            "objects[0].text": title(text="x" * 21_000),
            "objects[0].pivot[0]": title(pivot=[1e300, 0, 0]),
            "objects[0].span": title(span=[9, 2]),
            "objects[1].id": {"objects": [{"type": "anchor", "id": "a"}, {"type": "anchor", "id": "a"}]},
            "plate.rate": {"plate": {**plate, "rate": [25, 0]}},
            "plate.width": {"plate": {**plate, "width": 0}},
            "plate.colour.transfer": {"plate": {**plate, "colour": {"transfer": "magic"}}},
            "plate.path": {"plate": {**plate, "path": "p" * 5000}},
            "last": {"plate": plate, "last": 99},
            "solving.motion": {"solving": {"motion": "swims"}},
            "solving.zoom": {"solving": {"zoom": "perhaps"}},
            "ground.spans[0].along": {"ground": {"spans": [{"a": 1, "b": 2, "along": "w"}]}},
            "objects[0].smooth": {"objects": [{"type": "ground-mesh", "id": "g", "smooth": 1_000_000_000}]},
            "mattes[0].shape.value": {"mattes": [{"type": "outline", "id": "m", "name": "m", "shape": {"value": [1, 2, 3]}}]},
        }
        for place, fields in cases.items():
            path = self.folder / "bad.lode"
            with zipfile.ZipFile(path, "w") as archive:
                archive.writestr("shot.json", json.dumps({"version": 3, **fields}))
            with self.assertRaises(ShotFileError, msg=place) as told:
                files.read(path)
            self.assertIn(f": {place} ", told.exception.what)

    def test_arrays_that_do_not_fit_each_other_are_refused_with_their_place(self):
        shot = make_shot(frames=12)
        solve, tracks = shot.solve, shot.tracks
        replace = msgspec.structs.replace
        holed = solve.xyz.copy()
        holed[3] = np.nan
        cases = {
            "tracks.xy": {"tracks": replace(tracks, xy=tracks.xy[:-1])},
            "tracks.track": {"tracks": replace(tracks, rejected=tracks.rejected[:5])},
            "tracks.frame": {"tracks": replace(tracks, frame=tracks.frame.astype(float))},
            "solve.xyz": {"solve": replace(solve, xyz=holed)},
            "solve.R": {"solve": replace(solve, R=solve.R * 2)},
            "solve.frames": {"solve": replace(solve, frames=solve.frames[::-1].copy())},
            "solve.t": {"solve": replace(solve, t=solve.t[:4])},
        }
        for place, fields in cases.items():
            files.write(rebased(shot, **fields), self.folder / "bad.lode")
            with self.assertRaises(ShotFileError, msg=place) as told:
                files.read(self.folder / "bad.lode")
            self.assertIn(f": {place} ", told.exception.what)

    def test_what_would_unpack_to_too_much_is_refused_before_it_is_unpacked(self):
        path = self.folder / "bomb.lode"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("shot.json", json.dumps({"version": 3}))
            with archive.open("arrays/a000.npy", "w", force_zip64=True) as member:
                for _ in range(1100):
                    member.write(bytes(2**20))
        with self.assertRaises(ShotFileError) as told:
            files.read(path)
        self.assertIn("would unpack to more than 1 GB", told.exception.what)
        header = io.BytesIO()
        np.lib.format.write_array_header_1_0(header, {"descr": "<f8", "fortran_order": False, "shape": (10**12,)})
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("shot.json", json.dumps({"version": 3}))
            archive.writestr("arrays/a000.npy", header.getvalue())
        with self.assertRaises(ShotFileError):
            files.read(path)

    def test_the_published_schema_is_current(self):
        done = subprocess.run([sys.executable, str(ROOT / "tools" / "schema.py"), "--check"])
        self.assertEqual(done.returncode, 0, "run tools/schema.py")

    def test_bad_files_are_told_and_left(self):
        whole = DEMO.read_bytes()
        newer = self.folder / "newer.lode"
        with zipfile.ZipFile(newer, "w") as archive:
            archive.writestr("shot.json", json.dumps({"version": 99}))
            archive.writestr("arrays.npz", b"")
        cases = {"cut.lode": whole[: len(whole) // 2], "empty.lode": b"", "text.lode": b"hello", "newer.lode": newer.read_bytes()}
        for name, data in cases.items():
            path = self.folder / name
            path.write_bytes(data)
            with self.assertRaises(ShotFileError) as told:
                files.read(path)
            self.assertIn(name, told.exception.what)
            self.assertEqual(path.read_bytes(), data)
        with self.assertRaises(ShotFileError) as told:
            files.read(newer)
        self.assertIn("newer Bright Lodestar", told.exception.what)

    def test_a_wrong_field_is_named(self):
        path = self.folder / "wrong.lode"
        files.write(Shot(objects=(Title(id="a"),)), path)
        with zipfile.ZipFile(path) as archive:
            tree = json.loads(archive.read("shot.json"))
        tree["objects"][0]["text"] = 5
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("shot.json", json.dumps(tree))
        with self.assertRaises(ShotFileError) as told:
            files.read(path)
        self.assertIn("objects", told.exception.what)

    def test_arrays_are_never_unpickled(self):
        import pickle

        out = io.BytesIO()
        np.savez(out, a000=np.array([object()], dtype=object))
        tree = {
            "version": 1,
            "tracks": {"frame": {"array": "a000"}, "track": {"array": "a000"}, "xy": {"array": "a000"}, "rejected": {"array": "a000"}},
        }
        path = self.folder / "evil.lode"
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("shot.json", json.dumps(tree))
            archive.writestr("arrays.npz", out.getvalue())
        with mock.patch.object(pickle, "load", side_effect=AssertionError("unpickled")), self.assertRaises(ShotFileError):
            files.read(path)

    def test_a_full_disk_leaves_the_old_file(self):
        path = self.folder / "mine.lode"
        files.write(Shot(name="old"), path)
        with mock.patch("os.fsync", side_effect=OSError(errno.ENOSPC, "full")), self.assertRaises(OutputError) as told:
            files.write(Shot(name="new"), path)
        self.assertIn("disk is full", told.exception.what)
        self.assertEqual(files.read(path).name, "old")
        self.assertEqual([p.name for p in self.folder.iterdir()], ["mine.lode"])
        with self.assertRaises(OutputError):
            files.write(Shot(), self.folder / "nowhere" / "a.lode")


if __name__ == "__main__":
    unittest.main()
