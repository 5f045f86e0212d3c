"""The command line: solve, render, info and export without a window; demo, test, and the window itself."""

import argparse
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
COMMANDS = ("solve", "render", "info", "export", "demo", "test")


def main(argv: list[str]) -> int:
    """Run a command; returns the exit status: 0, 2 for bad input, 3 for a solve that failed, 130 for a cancel."""
    from lodestar.core.basics.errors import Cancelled, UserError

    logging.basicConfig(level=logging.WARNING, format="%(levelname)s %(name)s: %(message)s")
    if not argv or argv[0] not in (*COMMANDS, "-h", "--help"):
        from lodestar.app.main import run

        return run(argv[0] if argv else None)
    args = _parser().parse_args(argv)
    try:
        return args.run(args) or 0
    except UserError as error:
        _say(error.what, error.hint)
        return error.exit_status
    except BrokenPipeError:  # whoever read the output has seen enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except (Cancelled, KeyboardInterrupt):
        _say("Cancelled.", "Nothing was changed.")
        return CANCELLED


def _say(what: str, hint: str = "") -> None:
    sys.stderr.write(what + "\n" + (hint + "\n" if hint else ""))


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="lodestar",
        description="Bright Lodestar: titles that look as if they had stood there. Without a command, the window opens (on FILE, if one is given).",
    )
    commands = parser.add_subparsers(dest="command", required=True)
    one = commands.add_parser("solve", help="track a clip and solve its camera")
    one.add_argument("clip")
    one.add_argument("-o", "--output", required=True, help="camera file (JSON)")
    one.add_argument("--range", help="first:last frame, both included")
    one.add_argument("--exclude", metavar="MASKDIR", help="one 8-bit PNG a frame, named by frame number; white is ignored")
    one.add_argument("--focal-px", type=float, default=0.0)
    one.add_argument("--threads", type=int, default=0)
    one.set_defaults(run=_solve)
    one = commands.add_parser("render", help="write the finished movie or pictures of a shot")
    one.add_argument("shot")
    one.add_argument("-o", "--output", required=True, help="out.mp4, out.%%04d.png or out.%%04d.exr")
    one.add_argument("--range", help="first:last frame, both included")
    one.add_argument(
        "--quality", choices=("draft", "final", "fine"), default="final", help="how far off a picture may be; fine has a third of the noise"
    )
    one.add_argument("--samples", type=int, help="rays for each px, whatever the quality")
    one.add_argument("--threads", type=int, default=0, help="the picture is the same whatever the number")
    one.add_argument("--pass", dest="layer", choices=("picture", "layers", "shadow", "matte"), default="picture")
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
    one = commands.add_parser("test", help="run all checks and tests")
    one.add_argument("names", nargs="*")
    one.set_defaults(run=_test)
    return parser


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
        signal.signal(signal.SIGINT, lambda *_: job.cancel())
        return job


def _solve(args: argparse.Namespace) -> None:
    from lodestar.core.basics.paths import refuse_sources
    from lodestar.core.exchange.camera_file import write_camera
    from lodestar.core.media.plates import probe
    from lodestar.core.shot.document import Shot, with_plate
    from lodestar.core.work.solving import solve_shot
    from lodestar.core.work.tracking import track_shot

    if args.threads:
        import cv2
        import numba

        cv2.setNumThreads(args.threads)
        numba.set_num_threads(min(args.threads, numba.config.NUMBA_NUM_THREADS))  # type: ignore[attr-defined]
    refuse_sources([Path(args.output)], [Path(args.clip)])  # before minutes of work
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
    write_camera(msgspec.structs.replace(solve, seconds={"track": round(tracked, 3), **solve.seconds}), info.fps, args.output, [args.clip])
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
    from lodestar.core.render import pool
    from lodestar.core.shot import files
    from lodestar.core.work.delivery import deliver

    shot = files.read(args.shot)
    if shot.plate is None:
        raise UserError(f"{args.shot} has no clip.", "Open it in the window and choose one.")
    if args.samples is not None and args.samples < 1:
        raise UserError("--samples must be 1 or more.", "Leave it out for the quality's own number.")
    if args.threads:
        pool.set_threads(args.threads)
    frames = _range(args.range, 0, shot.plate.count - 1) if args.range else shot.frames
    deliver(shot, args.output, _Progress(), quality=args.quality, samples=args.samples, layer=args.layer, frames=frames)


def _export(args: argparse.Namespace) -> None:
    from lodestar.core.basics.errors import UserError
    from lodestar.core.exchange.camera_file import write_camera
    from lodestar.core.shot import files

    shot = files.read(args.shot)
    if shot.solve is None or shot.plate is None:
        raise UserError(f"{args.shot} has no solved camera.", "Track and solve it first.")
    write_camera(shot.solve, shot.plate.fps, args.output, [args.shot, shot.plate.path])


def _info(args: argparse.Namespace) -> None:
    from lodestar.core.render import embree

    tree = describe(Path(args.file)) | {"renderer": embree.description()}
    if args.json:
        sys.stdout.write(json.dumps(tree, indent=1) + "\n")
        return
    for name, value in tree.items():
        sys.stdout.write(f"{name.replace('_', ' ')}: {value}\n")


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


def _test(args: argparse.Namespace) -> int:
    from lodestar.checks import run_all

    return run_all(ROOT, args.names)
