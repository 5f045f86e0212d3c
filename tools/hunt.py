"""Hunts for faults: kills while a shot is saved, damaged files for every reader, real events on every step of the window.

python tools/hunt.py [--seed N] [--kills N] [--no-cases] [--damaged N] [--events N] [--long]
It prints counts, of which all but the refusals have to be 0, and a line for each finding with what makes it happen again.
"""

import argparse
import contextlib
import io
import json
import os
import random
import re
import resource
import signal
import subprocess
import sys
import tempfile
import time
import traceback
import zipfile
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import msgspec
import numpy as np
from fontTools.ttLib import TTFont

from lodestar.core.basics.errors import UserError
from lodestar.core.edits.own_surfaces import own_of, read_own, write_own
from lodestar.core.exchange.camera_file import read_camera, write_camera
from lodestar.core.media.panorama import panorama
from lodestar.core.media.pictures import picture_frame
from lodestar.core.media.plates import open_plate, probe
from lodestar.core.media.tiles import packed, unpacked
from lodestar.core.shape import drawings, fonts
from lodestar.core.shape.extrude import bevelled, solid
from lodestar.core.shape.face_files import read_apart
from lodestar.core.shape.setting import pieces_of
from lodestar.core.shot import files
from monkey import long_shot, monkey

DEMO = ROOT / "demo" / "open-night.lode"
CASES = ("tests.core.test_outside", "tests.core.test_cli", "tests.app.test_files")  # the second is the table of commands
SECONDS, BYTES = 10, 2**30  # that any input may take


# kills ----------------------------------------------------------------------------------------------------------------------------


def kills(count: int, seed: int, folder: Path) -> Counter:
    """Processes that edit and save a shot, killed at any moment; the file must open after each, with some edit whole."""
    rng, path, found = random.Random(seed), folder / "shot.lode", Counter[str]()
    shot = files.read(DEMO)
    files.write(shot, path)
    for k in range(count):
        child = os.fork()
        if child == 0:
            with contextlib.suppress(BaseException):
                number = 0
                while True:
                    number += 1
                    title = msgspec.structs.replace(shot.objects[0], text=f"{k} {number}")
                    files.write(msgspec.structs.replace(shot, objects=(title, *shot.objects[1:])), path)
            os._exit(1)
        time.sleep(rng.uniform(0.0, 0.06))
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        try:
            files.read(path)
            found["opened"] += 1
        except UserError as error:
            found["LOST"] += 1
            say(f"kill {k} of seed {seed}: {error}")
    files.write(shot, path)
    found["LEFT OVER"] = len([p for p in folder.iterdir() if ".part" in p.name])
    return found


# directed cases -------------------------------------------------------------------------------------------------------------------


def cases(module: str) -> Counter:
    """The tests of a module, of which each is a case that once lost work or fell over; and the table of commands."""
    done = subprocess.run(
        [sys.executable, "-m", "unittest", module], cwd=ROOT, capture_output=True, text=True, env={**os.environ, "PYTHONPATH": str(ROOT / "src")}
    )
    found, ran = Counter[str](FAILED=0), re.search(r"Ran (\d+) test", done.stderr)
    for word, number in re.findall(r"(failures|errors|skipped)=(\d+)", done.stderr):
        found["skipped" if word == "skipped" else "FAILED"] += int(number)
    if done.returncode and not found["FAILED"]:  # it did not come to its end
        found["FAILED"] += 1
    found["held"] = (int(ran[1]) if ran else 0) - found["FAILED"] - found["skipped"]
    if found["FAILED"]:
        say(done.stderr)
    return found


# damaged files --------------------------------------------------------------------------------------------------------------------


def movie(path: Path) -> None:
    plate = open_plate(probe(path))
    try:
        for index in (0, plate.info.count // 2, plate.info.count - 1):
            plate.frame(index)
            plate.luma(index)
    finally:
        plate.close()


def picture(path: Path) -> None:
    movie(path)
    picture_frame(str(path), 0)


def font(path: Path) -> None:
    fonts._full_name(path)
    for piece in pieces_of(fonts.Face(path), "Ayé &\nfi"):
        solid(piece.joined, bevelled(0.2, 0.02))


READERS: dict[str, Callable[[Path], object]] = {
    ".lode": files.read,
    ".json": read_camera,
    ".png": picture,
    ".jpg": picture,
    ".tif": movie,
    ".exr": movie,
    ".mp4": movie,
    ".svg": lambda path: drawings.check_svg(path.read_text(errors="replace")),
    ".ttf": font,
    ".otf": font,
    ".hdr": lambda path: panorama(str(path)),
    ".tile": lambda path: unpacked(path.read_bytes()),
    ".woff2": lambda path: read_apart(path.read_bytes()),  # of what runs in a child process
    ".lodesurface": read_own,
}


def samples(folder: Path) -> dict[str, bytes]:
    """A good file for each reader."""
    import cv2
    import OpenEXR
    from tests.helpers import numbered, write_clip

    small = numbered(1)[0]
    for ending in (".png", ".jpg", ".tif"):
        cv2.imwrite(str(folder / f"a{ending}"), small)
    cv2.imwrite(str(folder / "a.hdr"), np.random.default_rng(0).uniform(0, 4, (32, 64, 3)).astype(np.float32))
    (folder / "a.tile").write_bytes(packed(np.random.default_rng(1).uniform(0, 1, (64, 64, 3)).astype(np.float32)))
    with OpenEXR.File({"type": OpenEXR.scanlineimage}, {"RGB": small.astype(np.float16)}) as file:
        file.write(str(folder / "a.exr"))
    write_clip(folder / "a.mp4", numbered(12), sound=True)
    shot = files.read(DEMO)
    write_camera(shot.solve, 25.0, folder / "a.json")
    files.write(shot, folder / "a.lode")
    curves = "".join(f"<path d='M{k} 0 C1 2 3 4 {k % 7} 6 A3 4 0 1 0 {k} 9z' fill='#123' transform='rotate({k})'/>" for k in range(20))
    svg = f"<svg xmlns='http://www.w3.org/2000/svg' viewBox='0 0 50 50'><g id='a'>{curves}</g><use href='#a' x='4'/></svg>"
    (folder / "a.svg").write_text(svg)
    web = TTFont(fonts.SHIPPED_FOLDER / "ZillaSlab-Bold.ttf")
    web.flavor = "woff2"
    web.save(folder / "a.woff2")
    write_own(own_of(shot, shot.objects[0].id, "Own", 0), folder / "a.lodesurface")
    found = {ending: (folder / f"a{ending}").read_bytes() for ending in READERS if (folder / f"a{ending}").exists()}
    return found | {
        ".ttf": (fonts.SHIPPED_FOLDER / "ZillaSlab-Bold.ttf").read_bytes(),
        ".otf": (fonts.SHIPPED_FOLDER / "InterDisplay-Black.otf").read_bytes(),
    }


def damaged(data: bytes, rng: random.Random, ending: str) -> bytes:
    """Cut, scrambled, with parts doubled or filled; a shot also inside its zip."""
    if ending == ".lode" and rng.random() < 0.7:
        return _damaged_inside(data, rng)
    kind, out = rng.randrange(5), bytearray(data)
    if kind == 0:
        return bytes(out[: rng.randrange(len(out))])
    if kind == 1:
        for _ in range(rng.choice((1, 3, 30))):
            out[rng.randrange(len(out))] = rng.randrange(256)
    if kind == 2:
        a = rng.randrange(len(out))
        out[a : a + rng.randrange(1, 400)] = bytes([rng.choice((0, 255, 127))]) * rng.randrange(1, 400)
    if kind == 3:
        a, b = sorted((rng.randrange(len(out)), rng.randrange(len(out))))
        out[b:b] = out[a : a + 2000]
    if kind == 4:  # numbers in text, or bytes in the head
        head = min(len(out), 400)
        for _ in range(rng.choice((1, 4))):
            out[rng.randrange(head)] = rng.choice((0, 255, 45, 57, 128))
    return bytes(out)


def _damaged_inside(data: bytes, rng: random.Random) -> bytes:
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        members = {name: archive.read(name) for name in archive.namelist()}
    if rng.random() < 0.7:
        tree = msgspec.json.decode(members["shot.json"])
        _break_tree(tree, rng)
        members["shot.json"] = json.dumps(tree).encode()
    else:
        name = rng.choice(list(members))
        members[name] = damaged(members[name], rng, "")
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, content in members.items():
            archive.writestr(name, content)
    return out.getvalue()


def _break_tree(tree: object, rng: random.Random) -> None:
    """Put nonsense in the place of one value somewhere in a document."""
    node = tree
    while True:
        keys = list(node) if isinstance(node, dict) else list(range(len(node)))  # type: ignore[arg-type]
        if not keys:
            return
        key = rng.choice(keys)
        value = node[key]  # type: ignore[index]
        if isinstance(value, dict | list) and value and rng.random() < 0.85:
            node = value
            continue
        nonsense: tuple = (None, -1, 0, 1e300, "x", "\ud800" if rng.random() < 0.1 else "", [], {}, [0] * 50, True, 10**12, "../../etc")
        node[key] = rng.choice(nonsense)  # type: ignore[index]
        return


def broken_inputs(count: int, seed: int, folder: Path) -> Iterator[tuple[str, Counter]]:
    """Each reader on damaged files: it reads them or refuses them with a sentence. In batches, each in a child with limits."""
    for ending, data in samples(folder).items():
        found, numbers = Counter[str](), list(range(count))
        while numbers:
            numbers = _batch(ending, data, numbers, seed, folder, found)
        yield ending, found


def _batch(ending: str, data: bytes, numbers: list[int], seed: int, folder: Path, found: Counter) -> list[int]:
    """Try the files of these numbers in a child until one ends it; returns the numbers that are left."""
    read, write = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(read)
        _try_all(ending, data, numbers, seed, folder, write)
    os.close(write)
    with os.fdopen(read) as lines:
        for line in lines:
            word, number, more = line.rstrip("\n").split("\t")
            found[word] += 1
            numbers = numbers[1:]
            if word.isupper():
                say(f"{ending} {number} of seed {seed}: {word} {more}")
    _, status = os.waitpid(child, 0)
    if not os.WIFSIGNALED(status) and numbers:
        raise RuntimeError(f"the hunt itself failed at {ending} {numbers[0]} of seed {seed}")
    if os.WIFSIGNALED(status) and numbers:
        word = "SLOW" if os.WTERMSIG(status) == signal.SIGALRM else "CRASH"
        found[word] += 1
        say(f"{ending} {numbers[0]} of seed {seed}: {word} (signal {os.WTERMSIG(status)})")
        numbers = numbers[1:]
    return numbers


def _try_all(ending: str, data: bytes, numbers: list[int], seed: int, folder: Path, write: int) -> None:
    signal.signal(signal.SIGALRM, signal.SIG_DFL)
    used = int(Path("/proc/self/statm").read_text().split()[0]) * os.sysconf("SC_PAGE_SIZE")
    resource.setrlimit(resource.RLIMIT_AS, (used + BYTES, used + BYTES))
    for stream in (1, 2):  # libraries write warnings there
        os.dup2(os.open(os.devnull, os.O_WRONLY), stream)
    for number in numbers:
        path = folder / f"d{number}-{ending[1:]}{ending}"  # a name of its own: what was read is kept by name
        path.write_bytes(damaged(data, random.Random(f"{seed} {ending} {number}"), ending))
        signal.alarm(SECONDS)
        try:
            READERS[ending](path)
            word, more = "read", ""
        except UserError:
            word, more = "refused", ""
        except BaseException as error:
            where = traceback.extract_tb(error.__traceback__)[-1]
            word, more = "FAULT", f"{type(error).__name__} {str(error)[:80]!r} at {Path(where.filename).name}:{where.lineno}"
        signal.alarm(0)
        path.unlink()
        os.write(write, f"{word}\t{number}\t{more}\n".encode())
    os._exit(0)


def say(text: str) -> None:
    sys.stdout.write(text + "\n")
    sys.stdout.flush()


def _parts(args: argparse.Namespace, folder: Path) -> Iterator[tuple[str, Counter]]:
    """The name and the counts of each part of a hunt, as they come."""
    yield "kills", kills(args.kills, args.seed, folder)
    yield from ((f"cases of {module}", cases(module)) for module in CASES if args.cases)
    yield from ((f"damaged {ending}", counts) for ending, counts in broken_inputs(args.damaged, args.seed, folder))
    if args.events:
        yield "window", monkey(args.events, args.seed, DEMO)
        if args.long:
            yield "window, long shot", monkey(args.events, args.seed, long_shot(folder))


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--kills", type=int, default=300)
    parser.add_argument("--damaged", type=int, default=1000)
    parser.add_argument(
        "--cases", action=argparse.BooleanOptionalAction, default=True, help="run the tests of cases that once lost work or fell over"
    )
    parser.add_argument("--events", type=int, default=5000)
    parser.add_argument("--long", action="store_true", help="send the events to a shot of 1,500 frames at 1080p too, which is made first")
    args = parser.parse_args()
    bad = 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for title, counts in _parts(args, folder):  # each is said as soon as it has ended
            say(f"{title}: " + ", ".join(f"{n} {word}" for word, n in sorted(counts.items())))
            bad += sum(n for word, n in counts.items() if word.isupper())
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
