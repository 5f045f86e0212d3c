"""`./lodestar test`: lint, format, types, then all tests, those of the core beside those of the window."""

import os
import re
import subprocess
import sys
import tempfile
import time
from pathlib import Path


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
    runs = []
    for part in ("core", "app"):
        log = tempfile.TemporaryFile("w+")  # noqa: SIM115  (read back when the process has ended)
        command = [*python, "unittest", "discover", "-v", "-s", f"tests/{part}", "-t", "."]
        runs.append((part, log, subprocess.Popen(command, cwd=root, env=env, stdout=log, stderr=subprocess.STDOUT)))
    passed = 0
    for part, log, process in runs:
        code = process.wait()
        log.seek(0)
        text = log.read()
        good, bad = _count(text, code)
        passed, failed = passed + good, failed + bad
        _say(f"tests/{part}: {good} passed, {bad} failed, {time.monotonic() - began:.0f} s")
        if bad:
            _say(text[-12000:])
        log.close()
    _say(f"{passed} passed, {failed} failed")
    return 1 if failed or not passed else 0


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
