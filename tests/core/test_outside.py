"""What comes from outside: files that are half written, work that was left behind, drawings, fonts and pictures that ask for too much."""

import configparser
import os
import struct
import subprocess
import sys
import threading
import time
import unittest
import xml.etree.ElementTree as ET
import zlib
from pathlib import Path
from unittest import mock

import msgspec
import numpy as np

from lodestar.core.basics import apart
from lodestar.core.basics.errors import Cancelled, OutputError, PlateError, ShotFileError, UserError
from lodestar.core.basics.paths import bytes_of, check_writable, clear_parts, part_of, replacing, text_of
from lodestar.core.media import stills
from lodestar.core.media.plates import probe
from lodestar.core.media.sizes import size_in_header
from lodestar.core.shape import drawings, fonts
from lodestar.core.shot import files
from lodestar.core.shot.document import Shot
from lodestar.core.shot.objects import Title
from lodestar.core.shot.swaps import Swap, left_behind
from tests.factory import make_shot
from tests.helpers import ROOT, FolderCase, numbered

ENV = {**os.environ, "PYTHONPATH": f"{ROOT / 'src'}{os.pathsep}{ROOT}"}
LONG = "n" * 250 + ".lode"


def in_child(code: str, *args: object) -> subprocess.Popen:
    return subprocess.Popen([sys.executable, "-c", code, *map(str, args)], env=ENV, stdout=subprocess.PIPE, text=True)


class WholeOrNotTest(FolderCase):
    def test_a_file_is_there_when_it_is_whole(self):
        path = self.folder / LONG
        with replacing(path) as part:
            part.write_text("new")
            self.assertFalse(path.exists())
        self.assertEqual(([p.name for p in self.folder.iterdir()], path.read_text()), ([LONG], "new"))
        with self.assertRaises(RuntimeError), replacing(path) as part:
            part.write_text("half")
            raise RuntimeError
        self.assertEqual(([p.name for p in self.folder.iterdir()], path.read_text()), ([LONG], "new"))

    def test_what_a_killed_process_left_half_written_goes_with_the_next(self):
        code = "import sys, time; from pathlib import Path; from lodestar.core.basics.paths import part_of\n"
        code += "part_of(Path(sys.argv[1])).write_text('half'); print('x', flush=True); time.sleep(60)"
        child = in_child(code, self.folder / "a.mp4")
        child.stdout.readline()
        mine = part_of(self.folder / "a.mp4")
        mine.write_text("in work")
        self.assertEqual(clear_parts(self.folder), 0, "what is in work was removed")
        child.kill()
        child.wait()
        child.stdout.close()
        (self.folder / ".notes.part").write_text("not ours")
        self.assertEqual(clear_parts(self.folder), 1)
        self.assertEqual({p.name for p in self.folder.iterdir()}, {mine.name, ".notes.part"})

    def test_parts_of_pictures_with_long_names_do_not_meet(self):
        names = {part_of(self.folder / f"{'n' * 200}.{i:04}.png") for i in range(50)}
        self.assertEqual(len(names), 50)

    def test_where_nothing_can_be_written_is_told_before_the_work(self):
        (self.folder / "there").mkdir()
        for path in (self.folder / "there", self.folder / "none" / "a", self.folder / ("x" * 256), Path("/dev/null")):
            with self.assertRaises(OutputError):
                check_writable(path)
        check_writable(self.folder / ("x" * 255))
        self.assertEqual([p.name for p in self.folder.iterdir()], ["there"])

    def test_what_is_no_file_is_not_waited_for(self):
        os.mkfifo(self.folder / "pipe")
        (self.folder / "big").write_bytes(b"x" * 101)
        (self.folder / "raw").write_bytes(b"\xff\xfe")
        for name, word in (("pipe", "pipe"), ("gone", "cannot be read"), ("big", "are the most"), ("x" * 300, "cannot be read")):
            with self.assertRaises(UserError) as told:
                bytes_of(self.folder / name, 100)
            self.assertIn(word, told.exception.what)
        with self.assertRaises(UserError):
            text_of(self.folder / "raw", 100)


class LeftBehindTest(FolderCase):
    def test_a_swap_is_on_offer_when_its_process_is_gone(self):
        code = "import sys, time; from pathlib import Path; from lodestar.core.shot.swaps import Swap; from lodestar.core.shot.document import Shot\n"
        code += "s = Swap(Path(sys.argv[1])); s.claim(Path('/a/b.lode'), 'B'); s.write(Shot(name='KEPT')); print('x', flush=True); time.sleep(60)"
        child = in_child(code, self.folder)
        child.stdout.readline()
        self.assertEqual(left_behind(self.folder), [])
        child.kill()
        child.wait()
        child.stdout.close()
        (left,) = left_behind(self.folder)
        self.assertEqual((left.path, left.note.name, left.note.pid, left.shot().name), (Path("/a/b.lode"), "B", child.pid, "KEPT"))
        self.assertLess(abs(left.at - time.time()), 60)
        left.throw_away()
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_a_window_that_ends_well_leaves_nothing(self):
        swap = Swap(self.folder)
        swap.write(Shot())
        swap.drop()
        swap.close()
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_work_that_a_window_took_up_is_not_thrown_away(self):
        swap = Swap(self.folder)
        swap.write(Shot(name="MINE"))
        swap._file.close()
        (left,) = left_behind(self.folder)
        with open(left.file.with_suffix(".json"), "rb") as theirs:
            import fcntl

            fcntl.flock(theirs, fcntl.LOCK_EX)
            left.throw_away()
            self.assertTrue(left.file.exists())

    def test_a_disk_that_is_full_or_knows_no_locks_is_worked_without(self):
        for name in ("fcntl.flock", "pathlib.Path.mkdir"):
            with mock.patch(name, side_effect=OSError(37, "No locks available")):
                swap = Swap(self.folder / "swaps")
            self.assertIsNone(swap.folder)
            swap.write(Shot())
            swap.drop()
            swap.close()
            self.assertEqual(left_behind(swap.folder), [])

    def test_a_damaged_note_does_not_hide_the_work(self):
        swap = Swap(self.folder)
        swap.write(Shot(name="MINE"))
        swap._file.close()
        next(self.folder.glob("*.json")).write_bytes(b"\xff not json")
        (left,) = left_behind(self.folder)
        self.assertEqual((left.path, left.shot().name), (None, "MINE"))


class PartsOfShotsTest(FolderCase):
    def refused(self, shot: Shot, without: tuple[str, ...] = ()) -> ShotFileError:
        files.write(shot, self.folder / "a.lode")
        with self.assertRaises(ShotFileError) as told:
            files.read(self.folder / "a.lode", without)
        return told.exception

    def test_a_shot_opens_without_the_part_that_makes_no_sense(self):
        shot = make_shot(titles=2)
        solve = msgspec.structs.replace(shot.solve, t=np.full_like(shot.solve.t, np.nan))
        broken = msgspec.structs.replace(shot, basis=None, solve=solve)
        self.assertEqual(self.refused(broken).part, "solve")
        opened = files.read(self.folder / "a.lode", ("solve",))
        self.assertIsNone(opened.solve)
        self.assertEqual((len(opened.objects), opened.tracks.count), (len(shot.objects), shot.tracks.count))
        wrong = msgspec.structs.replace(shot, objects=(shot.objects[0], msgspec.structs.replace(shot.objects[1], span=(9, 3))))
        part = self.refused(wrong).part
        self.assertEqual(part, "objects[1]")
        kept = files.read(self.folder / "a.lode", (part,))
        self.assertEqual([o.id for o in kept.objects], [shot.objects[0].id])

    def test_two_parts_one_after_the_other(self):
        bad = lambda id_: Title(id=id_, span=(9, 3))
        shot = Shot(objects=(bad("a"), Title(id="b"), bad("c")))
        first = self.refused(shot).part
        second = self.refused(shot, (first,)).part
        self.assertEqual((first, second), ("objects[0]", "objects[1]"))
        self.assertEqual([o.id for o in files.read(self.folder / "a.lode", (first, second)).objects], ["b"])


def crossing(data: bytes) -> dict:
    """For the child process in the tests below: what its argument says."""
    match data:
        case b"sleep":
            time.sleep(60)
        case b"memory":
            return {"a": np.ones(2**31, np.uint8)}
        case b"crash":
            os.abort()
        case b"wrong":
            raise UserError("It is wrong.", "Mend it.")
        case b"fault":
            raise IndexError("a fault")
    return {"a": np.frombuffer(data, np.uint8)}


class Counting:
    """The same, for one that stays."""

    def __init__(self, data: bytes) -> None:
        self.sum = len(data)

    def add(self, by: int) -> dict:
        self.sum += by
        return {"sum": self.sum}

    def process(self) -> dict:
        return {"pid": os.getpid()}

    def refuse(self) -> dict:
        raise UserError("It is wrong.", "Mend it.")

    def values(self, count: int) -> dict:
        return {"a": np.ones((count, 1), np.float32), "b": np.array(3), "c": np.array(["x"], "U7")}

    def take_long(self, seconds: float) -> dict:
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            time.sleep(0.01)
            apart.alive()
        return {"sum": self.sum}

    def sleep(self, seconds: float) -> dict:
        time.sleep(seconds)
        return {}

    def crash(self) -> dict:
        os.abort()


def gone(pid: int, seconds: float = 10.0) -> bool:
    """Whether a process ends, or has."""
    until = time.monotonic() + seconds
    while Path(f"/proc/{pid}").exists() and time.monotonic() < until:
        time.sleep(0.01)
    return not Path(f"/proc/{pid}").exists()


class ApartTest(unittest.TestCase):
    NAME = "tests.core.test_outside:crossing"

    def test_what_comes_back_and_what_does_not(self):
        np.testing.assert_array_equal(apart.apart(self.NAME, b"abc", "It")["a"], [97, 98, 99])
        big = bytes(3_000_000)
        self.assertEqual(len(apart.apart(self.NAME, big, "It")["a"]), len(big))
        for data, what in (
            (b"wrong", "It is wrong."),
            (b"memory", "It needs more than 1 GB of memory, and was left."),
            (b"crash", "It could not be worked out, and was left."),
            (b"fault", "It could not be worked out, and was left."),
        ):
            with self.assertRaises(UserError) as told:
                apart.apart(self.NAME, data, "It")
            self.assertEqual(told.exception.what, what)
        with mock.patch.object(apart, "SECONDS", 0.5), self.assertRaises(UserError) as told:
            apart.apart(self.NAME, b"sleep", "It")
        self.assertIn("longer than", told.exception.what)

    def test_it_is_cancelled_at_once(self):
        asked = threading.Event()

        def check() -> None:
            if asked.is_set():
                raise Cancelled
            asked.set()

        with self.assertRaises(Cancelled), apart.checked(check):
            apart.apart(self.NAME, b"sleep", "It")
        self.assertTrue(asked.is_set())

    def test_an_object_stays_and_answers_until_it_is_closed_or_dies(self):
        with apart.Apart("tests.core.test_outside:Counting", b"abc", "It") as child:
            self.assertEqual([child.ask("add", by=by)["sum"] for by in (1, 4)], [4, 8])
            pid = child.ask("process")["pid"]
            self.assertNotEqual(pid, os.getpid())
            with self.assertRaises(UserError) as told:
                child.ask("refuse")
            self.assertEqual(told.exception.hint, "Mend it.")
            values = child.ask("values", count=700_000)
            self.assertEqual((values["a"].shape, values["a"].dtype, values["b"].shape, values["c"].tolist()), ((700_000, 1), np.float32, (), ["x"]))
            self.assertEqual((float(values["a"].sum()), int(values["b"])), (700_000.0, 3))
            # a sign of life counts, however long it takes
            with mock.patch.object(apart, "SECONDS", 1.5):
                self.assertEqual(child.ask("take_long", seconds=2.5)["sum"], 8)
        self.assertTrue(gone(pid))
        child = apart.Apart("tests.core.test_outside:Counting", b"", "It")
        self.addCleanup(child.close)
        with self.assertRaises(UserError) as told:
            child.ask("crash")
        self.assertEqual((told.exception.what, child.is_gone), ("It could not be worked out, and was left.", True))

    def test_children_end_with_who_started_them_and_a_server_that_was_ended_is_started_again(self):
        code = "import sys, time; from lodestar.core.basics.apart import Apart\n"
        code += "child = Apart('tests.core.test_outside:Counting', b'', 'It'); print(child.ask('process')['pid'], flush=True)\n"
        code += "child.ask('sleep', seconds=60)"
        parent = in_child(code)
        pid = int(parent.stdout.readline())
        parent.kill()
        parent.wait()
        parent.stdout.close()
        self.assertTrue(gone(pid))
        apart.begin()
        apart._server[1].kill()
        apart._server[1].wait()
        self.assertEqual(apart.apart(self.NAME, b"a", "It")["a"].tolist(), [97])


class DrawingsTest(unittest.TestCase):
    HEAD = "<svg xmlns='http://www.w3.org/2000/svg' viewBox='0 0 1000 1000'>"

    def lines(self, count: int) -> str:
        points = np.random.default_rng(count).uniform(0, 1000, (count, 2)).round(1)
        return f"{self.HEAD}<path d='M{' '.join(f'{x} {y}' for x, y in points)}z'/></svg>"

    def test_a_heavy_drawing_comes_out_as_a_light_one(self):
        text = self.lines(1500)
        self.assertFalse(drawings.is_quick(text))
        contours, wide = drawings.drawing_outlines(text)
        same = drawings.outlines_of(text)
        self.assertEqual((len(contours), wide), (len(same.contours), same.wide))
        for a, b in zip(contours, same.contours):
            np.testing.assert_array_equal(a, b)
        for (colour, own), (known, others) in zip(drawings.drawing_parts(text), same.parts, strict=True):
            self.assertEqual((colour, len(own)), (known, len(others)))
            for a, b in zip(own, others):
                np.testing.assert_array_equal(a, b)
        self.assertTrue(drawings.is_quick(text))

    def test_one_that_takes_too_long_is_left_and_not_tried_again(self):
        text = self.lines(60_000)
        with mock.patch.object(apart, "SECONDS", 1.0), self.assertRaises(UserError) as told:
            drawings.drawing_outlines(text)
        self.assertIn("longer than 1 s", told.exception.what)
        with mock.patch.object(drawings, "apart", side_effect=AssertionError("it was tried again")), self.assertRaises(UserError):
            drawings.drawing_outlines(text)

    def test_curves_as_rows_are_the_curves_of_the_library(self):
        """Against svgelements' own points, one by one."""
        import svgelements as se

        path = se.Path("M0 0 C1 2 3 -4 5 6 Q7 1 9 9 A3 2 20 1 0 12 4")
        t = np.linspace(0, 1, 11)
        for segment in path[1:]:
            np.testing.assert_allclose(drawings._along(segment, t), [(q.x, q.y) for q in (segment.point(u) for u in t)], atol=1e-12)


class TooLargeTest(FolderCase):
    def test_a_picture_that_asks_for_too_much_is_refused_by_its_header(self):
        """PNG, ISO/IEC 15948, 11.2.2: the header's chunk is width, height, depth, kind, and three methods."""
        chunk = lambda kind, data: struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
        body = (
            chunk(b"IHDR", struct.pack(">IIBBBBB", 30_000, 30_000, 8, 2, 0, 0, 0)) + chunk(b"IDAT", zlib.compress(bytes(400))) + chunk(b"IEND", b"")
        )
        path = self.folder / "a.0001.png"
        path.write_bytes(b"\x89PNG\r\n\x1a\n" + body)
        self.assertLess(path.stat().st_size, 200)
        self.assertEqual(size_in_header(path), (30_000, 30_000))
        with self.assertRaises(PlateError) as told:
            probe(path)
        with mock.patch("cv2.imdecode", side_effect=AssertionError("it was unpacked")), self.assertRaises(PlateError):
            stills.Pictures().read(str(path), stills.PLAIN, 32768)
        self.assertIn("67 million in all", told.exception.what)

    def test_sizes_in_headers_are_those_of_the_pictures(self):
        import cv2
        import OpenEXR

        picture = numbered(1)[0]
        for name in ("a.png", "a.jpg", "a.tif"):
            cv2.imwrite(str(self.folder / name), picture)
            self.assertEqual(size_in_header(self.folder / name), (160, 96))
        with OpenEXR.File({"type": OpenEXR.scanlineimage}, {"RGB": picture.astype(np.float16)}) as file:
            file.write(str(self.folder / "a.exr"))
        self.assertEqual(size_in_header(self.folder / "a.exr"), (160, 96))
        for name in ("a.png", "a.jpg", "a.tif", "a.exr"):
            path = self.folder / name
            path.write_bytes(path.read_bytes()[:20])
            with self.assertRaises(PlateError):
                size_in_header(path)


class BrokenFontsTest(FolderCase):
    def test_scrambled_faces_are_left_out_and_listed(self):
        good = (fonts.SHIPPED_FOLDER / "ZillaSlab-Bold.ttf").read_bytes()
        rng = np.random.default_rng(4)
        for i in range(30):
            data = np.frombuffer(good[: len(good) if i % 2 else int(rng.integers(20, len(good)))], np.uint8).copy()
            data[rng.integers(0, min(len(data), 600), 40)] = rng.integers(0, 256, 40)
            (self.folder / f"f{i:02}.ttf").write_bytes(data.tobytes())
        (self.folder / "good.ttf").write_bytes(good)
        (self.folder / "folder.ttf").mkdir()
        fonts.system_faces.cache_clear()
        try:
            with (
                mock.patch.object(fonts, "known_faces", lambda: None),
                mock.patch.object(fonts, "FOLDERS", (str(self.folder),)),
                mock.patch.object(fonts, "_unreadable", []),
            ):
                self.assertIn("Zilla Slab Bold", fonts.system_faces())
                self.assertGreater(len(fonts.unreadable_faces()), 10)
        finally:
            fonts.system_faces.cache_clear()


class DesktopTest(FolderCase):
    def run_it(self, *args):
        env = {**ENV, "XDG_DATA_HOME": str(self.folder / "share")}
        return subprocess.run([sys.executable, "-m", "lodestar", *args], env=env, capture_output=True, text=True, timeout=60)

    def test_it_is_made_known_to_the_desktop_and_forgotten_again(self):
        """Against the Desktop Entry specification 1.5 (groups, keys, quoting) and the shared MIME-info schema, read with the library's own parsers."""
        done = self.run_it("install")
        self.assertEqual(done.returncode, 0, done.stderr)
        share = self.folder / "share"
        written = {p.relative_to(share).as_posix() for p in share.rglob("*") if p.is_file()}
        entry = configparser.RawConfigParser(strict=True)
        entry.optionxform = str
        entry.read(share / "applications/bright-lodestar.desktop")
        keys = dict(entry["Desktop Entry"])
        self.assertEqual((keys["Type"], keys["Terminal"]), ("Application", "false"))
        self.assertTrue(keys["Exec"].startswith('"/') and keys["Exec"].endswith(" %f"))
        self.assertTrue(os.access(keys["Exec"].split('"')[1], os.X_OK))
        root = ET.parse(share / "mime/packages/bright-lodestar.xml").getroot()
        space = "{http://www.freedesktop.org/standards/shared-mime-info}"
        self.assertEqual(root.find(f"{space}mime-type/{space}glob").get("pattern"), "*.lode")
        self.assertEqual(root.find(f"{space}mime-type").get("type") + ";", keys["MimeType"])
        self.assertEqual(ET.parse(share / "metainfo/bright-lodestar.metainfo.xml").getroot().find("launchable").text, "bright-lodestar.desktop")
        self.assertIn(".TH LODESTAR 1", (share / "man/man1/lodestar.1").read_text())
        done = self.run_it("uninstall")
        self.assertEqual(done.returncode, 0, done.stderr)
        left = {p.relative_to(share).as_posix() for p in share.rglob("*") if p.is_file()}
        self.assertFalse(left & {w for w in written if "bright-lodestar" in w or w.endswith(".1")})
        self.assertIn("Nothing was installed", self.run_it("uninstall").stderr)

    def test_a_folder_that_cannot_be_written(self):
        (self.folder / "share").write_text("a file where the folder should be")
        done = self.run_it("install")
        self.assertEqual(done.returncode, 2)
        self.assertNotIn("Traceback", done.stderr)


class HuntTest(unittest.TestCase):
    def test_the_hunting_tool_in_its_short_form_finds_nothing(self):
        command = [sys.executable, str(ROOT / "tools" / "hunt.py"), "--kills", "8", "--no-cases", "--damaged", "12", "--events", "0"]
        done = subprocess.run(command, env=ENV, capture_output=True, text=True, timeout=200)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertIn("kills: 0 LEFT OVER, 8 opened", done.stdout)
        for ending in ("lode", "json", "png", "jpg", "tif", "exr", "mp4", "svg", "ttf", "otf"):
            self.assertRegex(done.stdout, rf"damaged \.{ending}: ")


if __name__ == "__main__":
    unittest.main()
