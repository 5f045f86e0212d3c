"""The commands as a user runs them, with their exit statuses; and the demo shots solved against their true cameras."""

import contextlib
import io
import json
import os
import pty
import signal
import subprocess
import sys
import unittest
import zipfile
from pathlib import Path

import av
import cv2
import numpy as np
import OpenEXR

from lodestar import cli
from lodestar.core.basics.geometry import fit_similarity
from lodestar.core.evaluate.cameras import camera_at
from lodestar.core.projection.camera import Camera
from lodestar.core.projection.pinhole import Lens
from lodestar.core.scene.ground import proposal
from lodestar.core.shot import files
from tests.helpers import DEMO, ROOT, SHOTS, FolderCase, numbered, texture, write_clip

ENV = {**os.environ, "PYTHONPATH": str(ROOT / "src")}


def run(*args: object) -> subprocess.CompletedProcess:
    return subprocess.run([sys.executable, "-m", "lodestar", *map(str, args)], capture_output=True, text=True, env=ENV, timeout=300)


def ask(*args: object) -> subprocess.CompletedProcess:
    """The same in this process, which has loaded all that a new one would load first: for what does not depend on being one."""
    out, err = io.StringIO(), io.StringIO()
    handlers = {number: signal.getsignal(number) for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)}
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            status = cli.main([str(a) for a in args])
        except SystemExit as left:  # by argparse
            status = int(left.code or 0)
        finally:
            for number, handler in handlers.items():
                signal.signal(number, handler)
    return subprocess.CompletedProcess(args, status, out.getvalue(), err.getvalue())


def example(page: str, name: str) -> str:
    """The code block of a page that is marked with this name."""
    return (ROOT / page).read_text().partition(f"<!-- example: {name} -->")[2].partition("```json\n")[2].partition("```")[0]


def cameras(tree: dict) -> list[Camera]:
    lens = Lens(**{k: tree["lens"][k] for k in ("fx", "fy", "cx", "cy", "k1", "k2")})
    return [Camera(np.array(f["R"]), np.array(f["t"]), lens) for f in tree["frames"]]


class SolveTest(FolderCase):
    def solve(self, name: str) -> tuple[dict, dict]:
        done = ask("solve", SHOTS / f"{name}.mp4", "-o", self.folder / "solve.json")
        self.assertEqual(done.returncode, 0, done.stderr)
        return json.loads((self.folder / "solve.json").read_text()), json.loads((SHOTS / f"{name}.camera.json").read_text())

    def test_terrace_holds(self):
        made = self.folder / "made.lode"
        for args in (("new", SHOTS / "terrace.mp4", "-o", made), ("update", made), ("export", made, "-o", self.folder / "solve.json")):
            done = (run if args[0] == "update" else ask)(*args)
            self.assertEqual(done.returncode, 0, done.stderr)
        solved, true = (json.loads(path.read_text()) for path in (self.folder / "solve.json", SHOTS / "terrace.camera.json"))
        self.assertEqual((solved["format"], solved["version"], solved["motion"], len(solved["frames"])), ("lodestar-camera", 1, "free", 100))
        self.assertLess(solved["error_px"]["mean"], 0.6)
        self.assertLess(abs(solved["lens"]["fx"] / true["lens"]["fx"] - 1), 0.02)
        own, real = cameras(solved), cameras(true)
        shot = files.read(made)
        self.assertIn("largest plane", proposal(shot.solve)[1])
        lean = [np.rad2deg(np.arccos(np.clip(camera_at(shot, k).R[:, 2] @ c.R[:, 2], -1, 1))) for k, c in enumerate(real)]
        self.assertLess(np.median(lean), 1.0, "up is up")
        # points of the terrace, carried over by one similarity between the camera paths and where they look
        reach = np.ptp([c.centre for c in own], axis=0).max()
        scale = np.ptp([c.centre for c in real], axis=0).max() / reach
        tips = lambda cs, d: np.concatenate([[c.centre for c in cs]] + [[c.centre + d * c.R[k] for c in cs] for k in range(3)])
        place = fit_similarity(tips(real, reach * scale), tips(own, reach))
        x, y = np.meshgrid(np.linspace(-7, 7, 12), np.linspace(1, 12, 10))
        ground = np.stack([x.ravel(), y.ravel(), np.zeros(x.size)], 1)
        slips = []
        for a, b in zip(own, real):
            seen, depth = b.project(ground)
            ok = (depth > 0.1) & (seen > 0).all(1) & (seen < [1280, 720]).all(1)
            slips.append(np.linalg.norm(a.project(place.points(ground))[0] - seen, axis=1)[ok])
        self.assertLess(np.median(np.concatenate(slips)), 1.0)

    def test_ridge_holds_from_the_air(self):
        solved, true = self.solve("ridge")
        self.assertEqual((solved["motion"], len(solved["frames"])), ("free", 100))
        self.assertLess(solved["error_px"]["mean"], 0.6)
        self.assertLess(abs(solved["lens"]["fx"] / true["lens"]["fx"] - 1), 0.02)
        own, real = (np.array([c.centre for c in cameras(tree)]) for tree in (solved, true))
        off = np.linalg.norm(fit_similarity(own, real).points(own) - real, axis=1)
        self.assertLess(off.max(), 0.02)  # metres, over a flight of 13

    def test_masks_by_frame_number_keep_the_tracker_out(self):
        masks = self.folder / "masks"
        masks.mkdir()
        hidden = np.zeros((720, 1280), np.uint8)
        hidden[:, :800] = 255
        for i in range(12):
            cv2.imwrite(str(masks / f"{i:04}.png"), hidden)
        done = run("solve", SHOTS / "lookout.mp4", "-o", self.folder / "a.json", "--range", "0:11", "--exclude", masks)
        self.assertEqual(done.returncode, 0, done.stderr)
        tree = json.loads((self.folder / "a.json").read_text())
        self.assertEqual([f["index"] for f in tree["frames"]], list(range(12)))
        lens = cameras(tree)[0]
        seen = [lens.project(np.array(p["xyz"]))[0][0] for p in tree["points"]]
        self.assertGreater(np.percentile(seen, 5), 780)

    def test_failures_have_their_status_and_a_hint(self):
        black = write_clip(self.folder / "black.mp4", [np.zeros((120, 200, 3), np.uint8)] * 12)
        (self.folder / "text.mp4").write_text("no movie")
        one = write_clip(self.folder / "one.mp4", numbered(1))
        (self.folder / "empty.mp4").write_bytes(b"")
        for clip, status, word in (
            (black, 2, "black"),
            (self.folder / "text.mp4", 2, "cannot be read"),
            (one, 2, "1 frame"),
            (self.folder / "empty.mp4", 2, "empty"),
            (self.folder / "none.mp4", 2, "not there"),
        ):
            done = ask("solve", clip, "-o", self.folder / "x.json")
            self.assertEqual(done.returncode, status, f"{clip.name}: {done.stderr}")
            self.assertIn(word, done.stderr)
            self.assertEqual(len(done.stderr.strip().splitlines()), 2, done.stderr)
            self.assertFalse((self.folder / "x.json").exists())

    def test_a_camera_that_stands_still_is_solved_too(self):
        picture = np.repeat((texture(360, 640) * 255).astype(np.uint8)[..., None], 3, -1)
        done = ask("solve", write_clip(self.folder / "still.mp4", [picture] * 14), "-o", self.folder / "x.json")
        self.assertEqual(done.returncode, 0, done.stderr)
        tree = json.loads((self.folder / "x.json").read_text())
        self.assertEqual((tree["motion"], len(tree["frames"])), ("still", 14))

    def test_cancel_is_130_and_leaves_nothing(self):
        ours, theirs = pty.openpty()
        process = subprocess.Popen(
            [sys.executable, "-m", "lodestar", "solve", str(SHOTS / "ridge.mp4"), "-o", str(self.folder / "x.json")],
            env=ENV,
            stderr=theirs,
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
        )
        # its progress is told only on a terminal, so its end of a pseudo terminal is read until the first share is there
        os.close(theirs)
        seen = b""
        while b"%" not in seen:
            seen += os.read(ours, 1000)
        process.send_signal(signal.SIGINT)
        with contextlib.suppress(OSError):  # the terminal is gone when the process is
            while part := os.read(ours, 1000):
                seen += part
        process.wait(60)
        os.close(ours)
        told = seen.decode()
        self.assertEqual(process.returncode, 130, told)
        self.assertEqual(list(self.folder.iterdir()), [])


class RenderTest(FolderCase):
    def test_a_movie_of_a_range(self):
        done = run("render", DEMO, "-o", self.folder / "out.mp4", "--range", "10:13", "--quality", "draft")
        self.assertEqual(done.returncode, 0, done.stderr)
        with av.open(str(self.folder / "out.mp4")) as movie:
            self.assertEqual(movie.streams.video[0].average_rate, 25)
            self.assertEqual(sum(1 for _ in movie.decode(video=0)), 4)
        with av.open(str(self.folder / "out.mp4")) as movie:
            self.assertEqual(len(movie.streams.audio), 1)

    def test_pictures_and_passes(self):
        for layer, channels in (("layers", 4), ("shadow", 3), ("matte", 3)):
            done = ask("render", DEMO, "-o", self.folder / f"{layer}.%04d.png", "--range", "40:40", "--samples", "2", "--pass", layer)
            self.assertEqual(done.returncode, 0, done.stderr)
            picture = cv2.imread(str(self.folder / f"{layer}.0040.png"), cv2.IMREAD_UNCHANGED)
            self.assertEqual(picture.shape, (720, 1280, channels))
            self.assertGreater(picture.std(), 5)

    def test_bad_input(self):
        cut = self.folder / "cut.lode"
        cut.write_bytes(DEMO.read_bytes()[:5000])
        for args in (
            (cut, "-o", self.folder / "a.mp4"),
            (DEMO, "-o", self.folder / "no" / "a.mp4"),
            (DEMO, "-o", self.folder / "a.mp4", "--range", "90:300"),
            (DEMO, "-o", self.folder / "a.txt"),
        ):
            done = ask("render", *args)
            self.assertEqual(done.returncode, 2, done.stderr)
            self.assertNotIn("Traceback", done.stderr)
        self.assertEqual([p.name for p in self.folder.iterdir()], ["cut.lode"])


class OwnSourceTest(FolderCase):
    def test_commands_refuse_to_write_over_what_they_read(self):
        shot, clip = self.folder / "mid.lode", self.folder / "clip.mp4"
        shot.write_bytes(DEMO.read_bytes())
        clip.write_bytes((SHOTS / "ridge.mp4").read_bytes())
        before = shot.read_bytes(), clip.read_bytes()
        for args in (("export", shot, "-o", shot), ("solve", clip, "-o", clip)):
            done = ask(*args)
            self.assertEqual(done.returncode, 2, done.stderr)
            self.assertIn("would be lost", done.stderr)
        self.assertEqual((shot.read_bytes(), clip.read_bytes()), before)

    def test_a_camera_file_does_not_take_the_name_of_a_shot(self):
        for args in (("export", DEMO, "-o", self.folder / "camera.lode"), ("solve", SHOTS / "ridge.mp4", "-o", self.folder / "ridge.lode")):
            done = ask(*args)
            self.assertEqual(done.returncode, 2, done.stderr)
            self.assertIn("this writes a camera file", done.stderr)
        self.assertEqual(list(self.folder.iterdir()), [])


class NewAndUpdateTest(FolderCase):
    def test_a_shot_is_made_and_brought_up_to_date_and_rendered_by_commands(self):
        """What docs/shot-file.md shows: from a clip to pictures with a title that was written as JSON by hand."""
        shot = self.folder / "night.lode"
        done = ask("new", SHOTS / "lookout.mp4", "-o", shot, "--range", "0:49")
        self.assertEqual(done.returncode, 0, done.stderr)
        again = ask("new", SHOTS / "lookout.mp4", "-o", shot)
        self.assertEqual(again.returncode, 2)
        self.assertIn("there already", again.stderr)
        before = shot.read_bytes()
        half = ask("update", shot, "--only", "track", "-o", self.folder / "half.lode")
        self.assertEqual(half.returncode, 0, half.stderr)
        self.assertEqual(shot.read_bytes(), before, "the shot that was read was written")
        tracked = files.read(self.folder / "half.lode")
        self.assertTrue(tracked.tracks is not None and tracked.solve is None)
        os.replace(self.folder / "half.lode", shot)
        done = ask("update", shot)
        self.assertIn("Brought up to date: solve.", done.stderr)
        true = json.loads((SHOTS / "lookout.camera.json").read_text())["lens"]["fx"]
        self.assertEqual(files.read(shot).solve.motion, "turning")
        self.assertLess(abs(files.read(shot).solve.lens.fx / true - 1), 0.02)
        self.assertIn("Nothing was due", ask("update", shot).stderr)
        with zipfile.ZipFile(shot) as archive:
            members = {name: archive.read(name) for name in archive.namelist()}
        tree = json.loads(members["shot.json"])
        alpha = {}
        for part, frames in (("objects", (6,)), ("letters", (6, 20))):
            tree["objects"] = json.loads(example("docs/shot-file.md", part))
            with zipfile.ZipFile(shot, "w") as archive:
                for name, data in (members | {"shot.json": json.dumps(tree).encode()}).items():
                    archive.writestr(name, data)
            for f in frames:
                done = ask("render", shot, "-o", self.folder / "out.%04d.png", "--range", f"{f}:{f}", "--quality", "draft", "--pass", "layers")
                self.assertEqual(done.returncode, 0, done.stderr)
                alpha[part, f] = cv2.imread(str(self.folder / f"out.{f:04}.png"), cv2.IMREAD_UNCHANGED)
        self.assertGreater((alpha["objects", 6][..., 3] > 250).sum(), 1000, "no title is seen")
        self._passes_of_light(shot, tree, members)
        early, late = alpha["letters", 6], alpha["letters", 20]
        self.assertGreater((late[..., 3] > 250).sum(), 1.3 * (early[..., 3] > 250).sum(), "letters arrive one after the other")
        blue, green, red = (late[late[..., 3] > 250][:, k].astype(int) for k in range(3))
        self.assertGreater((red > 1.6 * blue).sum(), 100, "the second word has a colour of its own")
        self.assertGreater(((red < 70) & (green < 70)).sum(), 100, "a darker layer stands behind")

    def _passes_of_light(self, shot, tree, members):
        """The second example of docs/shot-file.md, and what its passes hold."""
        tree.update(json.loads(example("docs/shot-file.md", "surfaces")))
        with zipfile.ZipFile(shot, "w") as archive:
            for name, data in (members | {"shot.json": json.dumps(tree).encode()}).items():
                archive.writestr(name, data)
        found = {}
        for layer, ending in (("with", "png"), ("without", "png"), ("depth", "exr"), ("reflection", "png"), ("layers", "png")):
            out = self.folder / f"{layer}.%04d.{ending}"
            done = ask("render", shot, "-o", out, "--range", "20:20", "--quality", "draft", "--pass", layer, "--seed", "3")
            self.assertEqual(done.returncode, 0, done.stderr)
            if ending == "png":
                found[layer] = cv2.imread(str(self.folder / f"{layer}.0020.png"), cv2.IMREAD_UNCHANGED).astype(float)
        with OpenEXR.File(str(self.folder / "depth.0020.exr")) as file:
            depth = file.channels()["Y"].pixels
        self.assertEqual((found["with"].max() > 255, depth.dtype), (True, np.float32))
        lit = found["with"] - found["without"]
        self.assertGreater((lit > 500).sum(), 1000, "the lamps and what glows light the ground")
        seen = found["layers"][..., 3] > 250
        self.assertGreater(seen.sum(), 500)
        self.assertTrue(np.all((depth[seen] > 2.5) & (depth[seen] < 5.5)))
        self.assertEqual(float(found["reflection"].max()), 0.0)
        done = ask("render", shot, "-o", self.folder / "with.mp4", "--pass", "with")
        self.assertEqual(done.returncode, 2)
        self.assertIn("as pictures", done.stderr)

    def test_steps_and_names_that_are_none(self):
        shot = self.folder / "a.lode"
        shot.write_bytes(DEMO.read_bytes())
        for args, word in (
            (("update", shot, "--only", "trak"), "track, solve"),
            (("update", shot, "-o", self.folder / "a.zip"), ".lode"),
            (("update", shot, "-o", self.folder / "none" / "a.lode"), "folder does not exist"),
            (("update", self.folder / "gone.lode"), "cannot be read"),
            (("new", self.folder / "gone.mp4", "-o", self.folder / "b.lode"), "not there"),
            (("update", shot, "--threads", "-1"), "number of threads"),
            (("rendr", shot), "'render'"),
            (("qqqq",), "neither a command nor a file"),
        ):
            done = ask(*args)
            self.assertEqual(done.returncode, 2, (args, done.stderr))
            self.assertIn(word, done.stderr)
            self.assertNotIn("Traceback", done.stderr)
        self.assertEqual([p.name for p in self.folder.iterdir()], ["a.lode"])


class NamesTest(FolderCase):
    def test_names_of_files_that_mean_something_elsewhere(self):
        pictures = numbered(4)
        odd = {"take:1.mp4": "take:1.mp4", "50% ünïcode %d.mp4": "50%.png", "n" * 240 + ".mp4": "m" * 230 + ".png"}
        for name, out in odd.items():
            (self.folder / "clip.mp4").unlink(missing_ok=True)
            write_clip(self.folder / "clip.mp4", pictures)
            os.replace(self.folder / "clip.mp4", self.folder / name)
            done = subprocess.run(
                [sys.executable, "-m", "lodestar", "info", name, "--json"], cwd=self.folder, env=ENV, capture_output=True, text=True, timeout=60
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertEqual(json.loads(done.stdout)["count"], 4)
            made = ask("new", self.folder / name, "-o", self.folder / "s.lode")
            self.assertEqual(made.returncode, 0, made.stderr)
            done = ask("render", self.folder / "s.lode", "-o", self.folder / ("titled " + out), "--range", "1:2", "--quality", "draft")
            self.assertEqual(done.returncode, 0, done.stderr)
            (self.folder / "s.lode").unlink()
        self.assertEqual(len([p for p in self.folder.iterdir() if p.name.startswith("titled 50%.000")]), 2)
        self.assertEqual([p.name for p in self.folder.iterdir() if ".part" in p.name], [])

    def test_output_patterns_and_places_that_cannot_be(self):
        for out, word in (
            ("o%d_%d.png", "more than one place"),
            ("o%099999999999d.png", "more than 12 digits"),
            ("x" * 300 + ".mp4", "too long"),
            ("/dev/full", "ending"),
        ):
            done = ask("render", DEMO, "-o", self.folder / out, "--range", "1:1", "--quality", "draft")
            self.assertEqual(done.returncode, 2, done.stderr)
            self.assertIn(word, done.stderr)
        done = run("export", DEMO, "-o", "/dev/null")
        self.assertEqual(done.returncode, 2)
        self.assertIn("device", done.stderr)
        self.assertTrue(Path("/dev/null").is_char_device())
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_files_that_are_none_and_names_that_are_no_text(self):
        os.mkfifo(self.folder / "pipe.lode")
        os.mkfifo(self.folder / "pipe.mp4")
        (self.folder / "folder.lode").mkdir()
        for name in ("pipe.lode", "pipe.mp4", "folder.lode"):
            done = ask("info", self.folder / name)
            self.assertEqual(done.returncode, 2, done.stderr)
            self.assertIn("not a", done.stderr)
        raw = os.fsencode(self.folder) + b"/\xff.mp4"
        write_clip(self.folder / "a.mp4", numbered(2))
        os.rename(self.folder / "a.mp4", raw)
        done = subprocess.run([sys.executable.encode(), b"-m", b"lodestar", b"info", raw], env=ENV, capture_output=True, timeout=60)
        self.assertEqual(done.returncode, 2, done.stderr)
        self.assertIn(b"not UTF-8", done.stderr)

    def test_output_that_goes_nowhere(self):
        for where in ("> /dev/full", ">&-"):
            command = f'"{sys.executable}" -m lodestar info "{DEMO}" {where}'
            done = subprocess.run(command, shell=True, env=ENV, stderr=subprocess.PIPE, text=True, timeout=60)
            self.assertNotIn("Traceback", done.stderr)
            self.assertNotIn("Exception", done.stderr)
            self.assertIn("could not be written", done.stderr)
            self.assertEqual(done.returncode, 2, done.stderr)

    def test_without_a_screen_it_says_so(self):
        env = {k: v for k, v in ENV.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
        for more, word in (({}, "no screen"), ({"DISPLAY": ":987"}, "cannot be reached")):
            done = subprocess.run([sys.executable, "-m", "lodestar"], env=env | more, capture_output=True, text=True, timeout=60)
            self.assertEqual(done.returncode, 2, done.stderr)
            self.assertIn(word, done.stderr)


class InfoTest(FolderCase):
    def test_info_and_export(self):
        done = ask("export", DEMO, "-o", self.folder / "camera.json")
        self.assertEqual(done.returncode, 0, done.stderr)
        camera = json.loads(ask("info", self.folder / "camera.json", "--json").stdout)
        self.assertEqual((camera["kind"], camera["frames"]), ("camera", 100))
        shot = json.loads(ask("info", DEMO, "--json").stdout)
        self.assertEqual(shot["titles"], ["OPEN SKY", "GATE 3"])
        self.assertTrue(shot["clip_is_there"])
        told = shot["report"]
        self.assertEqual((told["state"], len(told["frame_error"]), len(told["region_error"])), ("good", 100, 5))
        self.assertIn("slides under", told["verdict"])
        self.assertEqual(set(told) >= {"ratio", "noise_px", "slip_px", "focal_deviation_px", "in_view", "weak", "action"}, True)
        clip = json.loads(ask("info", SHOTS / "ridge.mp4", "--json").stdout)
        self.assertEqual((clip["count"], clip["fps"]), (100, 25.0))
        shown = ask("info", SHOTS / "ridge.mp4").stdout
        self.assertIn("count: 100", shown)
        self.assertIn("width: 1280", shown)
        shown = ask("info", DEMO).stdout
        self.assertIn("titles: OPEN SKY, GATE 3\n", shown)
        self.assertRegex(shown, r"  frame error: 100 from 0\.\d+ to 0\.\d+\n")
        self.assertLess(max(map(len, shown.splitlines())), 160, "a person reads it")


if __name__ == "__main__":
    unittest.main()
