"""What is kept of a fault of the program: a report that a user can send."""

import contextlib
import os
import platform
import sys
import time
import traceback
from collections.abc import Mapping
from importlib import metadata
from pathlib import Path

KEPT_REPORTS = 20
PACKAGES = ("numpy", "scipy", "numba", "opencv-python-headless", "av", "msgspec", "uharfbuzz", "manifold3d", "embreex", "PyQt6")


def state_folder() -> Path | None:
    """Where autosaves, the log and reports are kept, as the XDG Base Directory Specification has it; None where nothing can be written."""
    folder = Path(os.environ.get("XDG_STATE_HOME") or "~/.local/state").expanduser() / "bright-lodestar"
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except (OSError, RuntimeError):
        return None
    return folder if os.access(folder, os.W_OK | os.X_OK) else None


def versions() -> dict[str, str]:
    """The program's parts by name."""
    found = {"python": platform.python_version(), "system": platform.platform()}
    for name in PACKAGES:
        with contextlib.suppress(metadata.PackageNotFoundError):
            found[name] = metadata.version(name)
    return found


def write_report(error: BaseException, told: Mapping[str, str]) -> Path | None:
    """Write what is known of a fault; None where that cannot be written. told: what else belongs there."""
    folder = state_folder()
    if folder is None:
        return None
    lines = [time.strftime("%Y-%m-%d %H:%M:%S"), f"command: {' '.join(sys.argv[1:2])}"]
    lines += [f"{name}: {value}" for name, value in {**versions(), **told}.items()]
    path = folder / f"report-{time.strftime('%Y%m%d-%H%M%S')}-{os.getpid()}.txt"
    try:
        path.write_text("\n".join(lines) + "\n\n" + "".join(traceback.format_exception(error)), errors="backslashreplace")
        for old in sorted(folder.glob("report-*.txt"))[:-KEPT_REPORTS]:
            old.unlink(missing_ok=True)
    except OSError:
        return None
    return path
