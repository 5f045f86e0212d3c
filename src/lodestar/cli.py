"""The command line: new, update, solve, render, info and export without a window; demo, test, and the window itself."""

import argparse
import contextlib
import difflib
import errno
import json
import logging
import os
import re
import signal
import sys
import time
from pathlib import Path
from typing import Any

import msgspec

ROOT = Path(__file__).resolve().parents[2]
CANCELLED = 130
MOST_SHOWN = 6  # numbers in a line that is read by a person
COMMANDS = ("new", "update", "solve", "render", "info", "export", "demo", "install", "uninstall", "test")
MOST_THREADS = 1024
FAULT = 70  # EX_SOFTWARE of sysexits.h


def main(argv: list[str]) -> int:
    """Run a command; returns the exit status: 0, 2 for bad input, 3 for a solve that failed, 70 for a fault, 130 for a cancel."""
    from lodestar.core.basics.errors import Cancelled, UserError

    logging.basicConfig(level=logging.WARNING, format="%(levelname)s %(name)s: %(message)s")
    for stream in (sys.stdout, sys.stderr):  # a name may hold what is no UTF-8
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
    try:
        if not argv or (argv[0] not in COMMANDS and not argv[0].startswith("-")):
            return _window(_file_to_open(argv))
        args = _parser().parse_args(argv)
        status = args.run(args) or 0
        if sys.stdout is not None:
            sys.stdout.flush()
        return status
    except UserError as error:
        _say(error.what, error.hint)
        return error.exit_status
    except BrokenPipeError:  # whoever read the output has seen enough
        _drop_stdout()
        return 0
    except (Cancelled, KeyboardInterrupt):
        _say("Cancelled.", "What was there before is untouched.")
        return CANCELLED
    except OSError as error:
        what = f"{error.filename} cannot be used" if error.filename else "The output could not be written"
        _say(f"{what}: {(error.strerror or 'unknown reason').lower()}.", "Look at the disk, and where the output goes.")
        _drop_stdout()
        return UserError.exit_status
    except Exception as error:
        from lodestar.core.basics.faults import write_report

        report = write_report(error, {})
        kept = f"A report was written: {report}" if report else "No report could be written."
        _say(f"Something went wrong in the program itself ({type(error).__name__}). What was there before is untouched.", kept)
        return FAULT


def _print(text: str) -> None:
    if sys.stdout is None:  # it was closed before the start
        raise OSError(errno.EBADF, os.strerror(errno.EBADF))
    sys.stdout.write(text)


def _drop_stdout() -> None:
    """Python flushes it once more at the end, which would fail again."""
    with contextlib.suppress(OSError, ValueError):
        if sys.stdout is not None:
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _file_to_open(argv: list[str]) -> str | None:
    """The file to open the window on. Raises UserError for a word that is neither a command nor a file."""
    from lodestar.core.basics.errors import UserError

    if not argv:
        return None
    word = argv[0]
    if not Path(word).exists() and not Path(word).suffix:
        near = difflib.get_close_matches(word, COMMANDS, 1)
        hint = f"The nearest command is '{near[0]}'." if near else f"The commands are {', '.join(COMMANDS)}; a file opens the window."
        raise UserError(f"'{word}' is neither a command nor a file.", hint)
    return word


def _say(what: str, hint: str = "") -> None:
    sys.stderr.write(what + "\n" + (hint + "\n" if hint else ""))


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="lodestar",
        description="Bright Lodestar: titles that look as if they had stood there. Without a command, the window opens (on FILE, if one is given).",
    )
    commands = parser.add_subparsers(dest="command", required=True)
    one = commands.add_parser("new", help="make a shot of a clip")
    one.add_argument("clip")
    one.add_argument("-o", "--output", required=True, help="shot file (.lode)")
    one.add_argument("--range", help="first:last frame, both included")
    one.set_defaults(run=_new)
    one = commands.add_parser("update", help="run every step of a shot that is missing or stale")
    one.add_argument("shot")
    one.add_argument("-o", "--output", help="another shot file (.lode); without it the shot itself is brought up to date")
    one.add_argument("--only", metavar="STEPS", help="steps to run, with commas between them: track,solve,mattes")
    one.add_argument("--threads", type=_count, default=0)
    one.set_defaults(run=_update)
    one = commands.add_parser("solve", help="track a clip and solve its camera")
    one.add_argument("clip")
    one.add_argument("-o", "--output", required=True, help="camera file (JSON)")
    one.add_argument("--range", help="first:last frame, both included")
    one.add_argument("--exclude", metavar="MASKDIR", help="one 8-bit PNG a frame, named by frame number; white is ignored")
    one.add_argument("--focal-px", type=float, default=0.0)
    one.add_argument("--threads", type=_count, default=0)
    one.set_defaults(run=_solve)
    one = commands.add_parser("render", help="write the finished movie or pictures of a shot")
    one.add_argument("shot")
    one.add_argument("-o", "--output", required=True, help="out.mp4, out.%%04d.png or out.%%04d.exr")
    one.add_argument("--range", help="first:last frame, both included")
    one.add_argument(
        "--quality", choices=("draft", "final", "fine"), default="final", help="how far off a picture may be; fine has a third of the noise"
    )
    one.add_argument("--samples", type=int, help="rays for each px, whatever the quality")
    one.add_argument("--threads", type=_count, default=0, help="the picture is the same whatever the number")
    one.add_argument(
        "--pass", dest="layer", choices=("picture", "layers", "shadow", "matte", "clean", "with", "without", "reflection", "depth"), default="picture"
    )
    one.add_argument("--seed", type=int, default=0, help="another number has other noise")
    one.add_argument("--matte", metavar="NAME", help="with --pass matte: the matte of this name alone")
    one.set_defaults(run=_render)
    one = commands.add_parser("info", help="what a clip, a shot or a camera file is")
    one.add_argument("file")
    one.add_argument("--json", action="store_true")
    one.set_defaults(run=_info)
    one = commands.add_parser("export", help="write the camera of a shot")
    one.add_argument("shot")
    one.add_argument("-o", "--output", required=True)
    one.set_defaults(run=_export)
    one = commands.add_parser("demo", help="open the window on the demo shot")
    one.set_defaults(run=lambda args: _window(str(ROOT / "demo" / "open-night.lode")))
    one = commands.add_parser("install", help="make the program known to this user's desktop: menu, icon, kind of file, manual page")
    one.set_defaults(run=_install)
    one = commands.add_parser("uninstall", help="take away what install wrote")
    one.set_defaults(run=_uninstall)
    one = commands.add_parser("test", help="run all checks and tests")
    one.add_argument("names", nargs="*")
    one.set_defaults(run=_test)
    return parser


def _count(text: str) -> int:
    """A number of threads: 0 for the machine's own."""
    if not text.isdecimal() or int(text) > MOST_THREADS:
        raise argparse.ArgumentTypeError(f"'{text[:20]}' is no number of threads from 0 to {MOST_THREADS}")
    return int(text)


def _window(path: str | None) -> int:
    from lodestar.app.main import run

    return run(path)


def _range(text: str | None, first: int, last: int) -> range:
    from lodestar.core.basics.errors import UserError

    if text is None:
        return range(first, last + 1)
    match = re.fullmatch(r"(\d*):(\d*)", text)
    if not match:
        raise UserError(f"--range {text} is not understood.", "Write it as first:last, for example 10:89.")
    a, b = int(match.group(1) or first), int(match.group(2) or last)
    if b == last + 1:  # written as a half-open range to the end
        b = last
    if not first <= a <= b <= last:
        raise UserError(f"--range {text} lies outside the clip, which has frames {first} to {last}.", "Choose a range within it.")
    return range(a, b + 1)


class _Progress:
    """A job that tells its share on stderr while that is a terminal, and is cancelled by Ctrl+C."""

    def __new__(cls) -> Any:
        from lodestar.core.basics.job import Job

        class Shown(Job):
            last = 0.0

            def step(self, share: float, text: str = "") -> None:
                super().step(share, text)
                if sys.stderr.isatty() and time.monotonic() - self.last > 0.2:
                    self.last = time.monotonic()
                    left = self.time_left_s
                    sys.stderr.write(f"\r{self.share:4.0%}  {self.text:<28}{'' if left is None else f'{left:5.0f} s left'} ")

        job = Shown()
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):  # so that nothing is left half written
            signal.signal(number, lambda *_: job.cancel())
        return job


def _use_threads(number: int) -> None:
    if not number:
        return
    import cv2
    import numba

    from lodestar.core.render import pool

    pool.set_threads(number)
    cv2.setNumThreads(number)
    numba.set_num_threads(min(number, numba.config.NUMBA_NUM_THREADS))  # type: ignore[attr-defined]


def _new(args: argparse.Namespace) -> None:
    from lodestar.core.basics.errors import UserError
    from lodestar.core.basics.paths import refuse_sources
    from lodestar.core.media.plates import probe
    from lodestar.core.shot import files
    from lodestar.core.shot.document import Shot, with_plate

    output = _shot_file(args.output)
    refuse_sources([output], [Path(args.clip)])
    if output.exists():
        raise UserError(f"{output.name} is there already, and would be lost.", "Choose another name, or remove it first.")
    info = probe(Path(args.clip).absolute())
    frames = _range(args.range, 0, info.count - 1)
    shot = msgspec.structs.replace(with_plate(Shot(), info), name=output.stem, first=frames[0], last=frames[-1])
    files.write(shot, output)


def _update(args: argparse.Namespace) -> None:
    from lodestar.core.basics.paths import check_writable, refuse_sources
    from lodestar.core.shot import files
    from lodestar.core.work.delivery import sources_of
    from lodestar.core.work.updating import STEPS, brought_up_to_date, steps_named

    steps = steps_named(args.only.split(",")) if args.only is not None else STEPS
    output = _shot_file(args.output or args.shot)
    shot = files.read(args.shot)
    refuse_sources([output], sources_of(shot))
    check_writable(output)  # before minutes of work
    _use_threads(args.threads)
    done = []
    for step, result in brought_up_to_date(shot, _Progress(), steps):
        shot = result
        files.write(shot, output)  # each step is kept, whatever becomes of the next
        done.append(step.name)
    if not done and not (output.exists() and output.samefile(args.shot)):
        files.write(shot, output)
    sys.stderr.write(f"Brought up to date: {', '.join(done)}.\n" if done else "Nothing was due: the shot is up to date.\n")
    if shot.solve is not None and shot.solve.warning and "solve" in done:
        _say(shot.solve.warning)


def _shot_file(name: str) -> Path:
    from lodestar.core.basics.errors import UserError

    if Path(name).suffix.lower() != ".lode":
        raise UserError(f"{Path(name).name} is not the name of a shot.", "Give it the ending .lode.")
    return Path(name)


def _camera_file(name: str) -> Path:
    """Raises UserError for the name of a shot, which a camera file would take."""
    from lodestar.core.basics.errors import UserError

    if Path(name).suffix.lower() == ".lode":
        raise UserError(
            f"{Path(name).name} is the name of a shot, and this writes a camera file.",
            "Give it the ending .json; 'new' and 'update' make a shot and solve it.",
        )
    return Path(name)


def _solve(args: argparse.Namespace) -> None:
    from lodestar.core.basics.paths import check_writable, refuse_sources
    from lodestar.core.exchange.camera_file import write_camera
    from lodestar.core.media.plates import probe
    from lodestar.core.shot.document import Shot, with_plate
    from lodestar.core.work.solving import solve_shot
    from lodestar.core.work.tracking import track_shot

    _use_threads(args.threads)
    refuse_sources([Path(args.output)], [Path(args.clip)])  # before minutes of work
    output = _camera_file(args.output)
    check_writable(output)
    info = probe(args.clip)
    shot = with_plate(Shot(), info)
    frames = _range(args.range, 0, info.count - 1)
    shot = msgspec.structs.replace(shot, first=frames[0], last=frames[-1], solving=msgspec.structs.replace(shot.solving, focal_px=args.focal_px))
    job = _Progress()
    began = time.perf_counter()
    shot = track_shot(shot, job, _masks(args.exclude, info.width, info.height) if args.exclude else None)
    tracked = time.perf_counter() - began
    shot = solve_shot(shot, job)
    solve = shot.solve
    assert solve is not None
    write_camera(msgspec.structs.replace(solve, seconds={"track": round(tracked, 3), **solve.seconds}), info.fps, output, [args.clip])
    if solve.warning:
        _say(solve.warning)


def _masks(folder: str, width: int, height: int):
    """The masks of a folder by frame number; a frame without one has nothing excluded."""
    import cv2

    from lodestar.core.basics.errors import UserError

    if not Path(folder).is_dir():
        raise UserError(f"{folder} is not a folder of masks.", "Give a folder with one PNG a frame, named by frame number.")
    files = {int(m.group(1)): p for p in Path(folder).glob("*.png") if (m := re.search(r"(\d+)$", p.stem))}
    if not files:
        raise UserError(f"{folder} holds no PNG that is named by a frame number.", "Name them like 0000.png, 0001.png.")

    def mask(index: int):
        if index not in files:
            return None
        picture = cv2.imread(str(files[index]), cv2.IMREAD_GRAYSCALE)
        if picture is None or picture.shape != (height, width):
            raise UserError(f"The mask {files[index].name} cannot be read, or is not {width} × {height}.", "Write it again at the size of the clip.")
        return picture > 127

    return mask


def _render(args: argparse.Namespace) -> None:
    from lodestar.core.basics.errors import UserError
    from lodestar.core.shot import files
    from lodestar.core.work.delivery import deliver

    shot = files.read(args.shot)
    if shot.plate is None:
        raise UserError(f"{args.shot} has no clip.", "Open it in the window and choose one.")
    if args.samples is not None and args.samples < 1:
        raise UserError("--samples must be 1 or more.", "Leave it out for the quality's own number.")
    _use_threads(args.threads)
    frames = _range(args.range, 0, shot.plate.count - 1) if args.range else shot.frames
    named = None
    if args.matte is not None:
        named = tuple(m.id for m in shot.mattes if args.matte in (m.name, m.id))
        if not named:
            raise UserError(f"{args.shot} has no matte '{args.matte}'.", f"It has: {', '.join(m.name for m in shot.mattes) or 'none'}.")
    how = {"quality": args.quality, "samples": args.samples, "layer": args.layer, "frames": frames, "mattes": named, "seed": args.seed}
    deliver(shot, args.output, _Progress(), **how)


def _export(args: argparse.Namespace) -> None:
    from lodestar.core.basics.errors import UserError
    from lodestar.core.basics.paths import refuse_sources
    from lodestar.core.exchange.camera_file import write_camera
    from lodestar.core.shot import files

    shot = files.read(args.shot)
    if shot.solve is None or shot.plate is None:
        raise UserError(f"{args.shot} has no solved camera.", "Track and solve it first.")
    refuse_sources([Path(args.output)], [Path(args.shot)])
    write_camera(shot.solve, shot.plate.fps, _camera_file(args.output), [shot.plate.path])


def _info(args: argparse.Namespace) -> None:
    from lodestar.core.render import embree

    tree = describe(Path(args.file)) | {"renderer": embree.description()}
    if args.json:
        _print(json.dumps(tree, indent=1) + "\n")
        return
    _print(_in_lines(tree))


def _in_lines(tree: dict[str, Any], before: str = "") -> str:
    """Numbers and words of `describe` as a person reads them; --json has all of them in full."""
    lines = []
    for name, value in tree.items():
        title = f"{before}{name.replace('_', ' ')}:"
        lines.append(f"{title}\n{_in_lines(value, before + '  ')}" if isinstance(value, dict) else f"{title} {_in_words(value)}\n")
    return "".join(lines)


def _in_words(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:.4g}"
    if not isinstance(value, (list, tuple)):
        return "none" if value in (None, "") else str(value)
    parts = [inner for part in value for inner in (part if isinstance(part, (list, tuple)) else [part])]
    if len(parts) > MOST_SHOWN and all(isinstance(part, (int, float)) for part in parts):
        return f"{len(parts)} from {_in_words(min(parts))} to {_in_words(max(parts))}"
    return ", ".join(" ".join(map(_in_words, part)) if isinstance(part, (list, tuple)) else _in_words(part) for part in value) or "none"


def describe(path: Path) -> dict[str, Any]:
    """What a clip, a shot or a camera file holds, as plain numbers and words."""
    from lodestar.core.exchange.camera_file import read_camera
    from lodestar.core.media.plates import probe
    from lodestar.core.shot import files
    from lodestar.core.shot.objects import Title

    if path.suffix.lower() == ".lode":
        shot = files.read(path)
        tree: dict[str, Any] = {
            "kind": "shot",
            "name": shot.name,
            "version": shot.version,
            "in": shot.first,
            "out": shot.last,
            "clip": shot.plate.path if shot.plate else None,
            "clip_is_there": bool(shot.plate and Path(shot.plate.path).exists()),
            "titles": [o.text for o in shot.objects if isinstance(o, Title)],
            "objects": [[o.NOUN, o.name] for o in shot.objects],
            "mattes": len(shot.mattes),
        }
        if shot.solve and shot.tracks:
            from lodestar.core.solve.report import report

            tree["report"] = report(shot.solve, shot.tracks).tree()
        if shot.solve:
            s = shot.solve
            tree |= {
                "motion": s.motion,
                "error_px": {"mean": s.mean_px, "median": s.median_px, "p95": s.p95_px, "rms": s.rms_px},
                "focal_px": s.lens.fx,
                "zoom": [round(float(z), 4) for z in s.zoom],
                "focal_deviation_px": s.lens_deviation[0],
                "tracks": s.tracks,
                "inliers": s.inliers,
                "parallax_deg": s.parallax_deg,
                "why": s.why,
                "warning": s.warning,
            }
        return tree
    if path.suffix.lower() == ".json":
        camera = read_camera(path)
        return {
            "kind": "camera",
            **{k: camera[k] for k in ("width", "height", "fps", "motion", "lens", "error_px", "tracks")},
            "frames": len(camera["frames"]),
            "points": len(camera["points"]),
        }
    info = probe(path)
    return {"kind": "clip", **msgspec.to_builtins(info), "fps": info.fps, "seconds": info.seconds}


def _install(args: argparse.Namespace) -> None:
    from lodestar import desktop

    written = desktop.install(ROOT / "lodestar")
    _print("".join(f"{path}\n" for path in written))
    _say("Bright Lodestar is in the menu of your desktop, and opens .lode files.", "./lodestar uninstall takes it away again.")


def _uninstall(args: argparse.Namespace) -> None:
    from lodestar import desktop

    gone = desktop.uninstall()
    _print("".join(f"{path}\n" for path in gone))
    _say("It is taken away; shots, settings and the program itself stay." if gone else "Nothing was installed here.")


def _test(args: argparse.Namespace) -> int:
    from lodestar.checks import run_all

    return run_all(ROOT, args.names)
