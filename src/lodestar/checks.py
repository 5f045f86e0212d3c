"""`./lodestar test`: lint, format, types, then all tests, in parts that two workers take one after the other."""

import os
import re
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

WORKERS = 2
PARTS = 8  # of the core and of the window each: with few parts one worker idles at the end, with many each pays its start


def run_all(root: Path, names: list[str]) -> int:
    """Run everything, or only the named test modules (tests.core.test_colour); the exit status is 0 when all is well."""
    env = {
        **os.environ,
        "PYTHONPATH": f"{root / 'src'}{os.pathsep}{root}",
        "QT_QPA_PLATFORM": "offscreen",
        "PYTHONFAULTHANDLER": "1",
        "XDG_STATE_HOME": tempfile.mkdtemp(),
        "XDG_CONFIG_HOME": tempfile.mkdtemp(),
    }
    python = [sys.executable, "-m"]
    if names:
        return subprocess.run([*python, "unittest", "-v", *names], cwd=root, env=env).returncode
    failed = 0
    for name, command in (("lint", ["ruff", "check", "."]), ("format", ["ruff", "format", "--check", "."]), ("types", ["mypy"])):
        done = subprocess.run([*python, *command], cwd=root, env=env, capture_output=True, text=True)
        _say(f"{name}: {'well' if done.returncode == 0 else 'FAILED'}")
        if done.returncode:
            failed += 1
            _say(done.stdout[-6000:] + done.stderr[-2000:])
    began = time.monotonic()
    parts = [part for folder in ("core", "app") for part in _parts(root, folder)]
    passed = 0
    with ThreadPoolExecutor(WORKERS) as workers:
        for part, done in zip(parts, workers.map(lambda part: _run([*python, "unittest", "-v", *part], root, env), parts), strict=True):
            good, bad = _count(done.stdout, done.returncode)
            passed, failed = passed + good, failed + bad
            _say(f"{', '.join(name.removeprefix('tests.') for name in part)}: {good} passed, {bad} failed, at {time.monotonic() - began:.0f} s")
            if bad:
                _say(done.stdout[-12000:])
    _say(f"{passed} passed, {failed} failed")
    return 1 if failed or not passed else 0


def _parts(root: Path, folder: str) -> list[list[str]]:
    """The test modules of a folder, dealt out from the longest file to the shortest, which spreads the time well enough."""
    files = sorted((root / "tests" / folder).glob("test_*.py"), key=lambda file: -file.stat().st_size)
    return [[f"tests.{folder}.{file.stem}" for file in files[first::PARTS]] for first in range(PARTS)]


def _run(command: list[str], root: Path, env: dict[str, str]) -> subprocess.CompletedProcess[str]:
    return subprocess.run(command, cwd=root, env=env, text=True, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)


def _count(text: str, code: int) -> tuple[int, int]:
    ran = re.search(r"^Ran (\d+) tests?", text, re.M)
    bad = sum(int(n) for n in re.findall(r"(?:failures|errors)=(\d+)", text))
    skipped = sum(int(n) for n in re.findall(r"skipped=(\d+)", text))
    total = int(ran.group(1)) if ran else 0
    if code and not bad:  # it crashed, or nothing ran
        bad = 1
    return max(total - bad - skipped, 0), bad


def _say(text: str) -> None:
    sys.stdout.write(text + "\n")
    sys.stdout.flush()
