"""`./lodestar test`: lint, format, types, then all tests. Two workers take one test module after another, so that none idles at the end.

A worker is a process that stays: starting one for each module would load the libraries and kernels anew, some 3 s each.
"""

import io
import json
import os
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from threading import Lock

WORKERS = 2
MARK = "\x1e"  # begins the line in which a worker says what came of a module; the other lines are what tests print
WINDOW = "tests.app"


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
    wrong = 0
    for name, command in (("lint", ["ruff", "check", "."]), ("format", ["ruff", "format", "--check", "."]), ("types", ["mypy"])):
        done = subprocess.run([*python, *command], cwd=root, env=env, capture_output=True, text=True)
        _say(f"{name}: {'well' if done.returncode == 0 else 'FAILED'}")
        if done.returncode:
            wrong += 1
            _say(done.stdout[-6000:] + done.stderr[-2000:])
    modules, lock = iter(_modules(root)), Lock()

    def work(_: int) -> tuple[int, int]:
        passed = failed = 0
        folder, process = "", None
        while True:
            with lock:
                module = next(modules, None)
            # the core is tested without Qt; and each module of the window has a process of its own, since windows of tests are never deleted: where those of
            # all modules before it were dressed anew with each change of the look, one module took six minutes
            if process is not None and (module is None or folder == WINDOW or module.rpartition(".")[0] != folder or process.poll() is not None):
                process.communicate()
                process = None
            if module is None:
                return passed, failed
            if process is None:
                folder, process = module.rpartition(".")[0], _worker(root, env)
            began = time.monotonic()
            good, bad, text = _asked(process, module)
            passed, failed = passed + good, failed + bad
            _say(f"{module.removeprefix('tests.')}: {good} passed, {bad} failed, {time.monotonic() - began:.0f} s")
            if bad:
                _say(text[-12000:])

    began = time.monotonic()
    with ThreadPoolExecutor(WORKERS) as workers:
        told = list(workers.map(work, range(WORKERS)))
    passed, failed = (sum(part) for part in zip(*told, strict=True))
    _say(f"all tests: {time.monotonic() - began:.0f} s")
    _say(f"{passed} passed, {failed + wrong} failed")
    return 1 if failed or wrong or not passed else 0


def _modules(root: Path) -> Iterator[str]:
    """The test modules, of each folder from the longest file to the shortest: short ones at the end leave nobody waiting."""
    for folder in ("core", "app"):
        for file in sorted((root / "tests" / folder).glob("test_*.py"), key=lambda file: -file.stat().st_size):
            yield f"tests.{folder}.{file.stem}"


def _worker(root: Path, env: dict[str, str]) -> subprocess.Popen[str]:
    pipe = subprocess.PIPE
    return subprocess.Popen(
        [sys.executable, "-m", "lodestar.checks"], cwd=root, env=env, text=True, stdin=pipe, stdout=pipe, stderr=subprocess.STDOUT
    )


def _asked(process: subprocess.Popen[str], module: str) -> tuple[int, int, str]:
    """How many tests of a module passed and failed in the worker, and what was printed; one failed where the worker died or none ran."""
    assert process.stdin is not None and process.stdout is not None
    printed: list[str] = []
    process.stdin.write(module + "\n")
    process.stdin.flush()
    for line in process.stdout:
        if line.startswith(MARK):
            ran, bad, text = json.loads(line[1:])
            return max(ran - bad, 0), bad or int(not ran), "".join(printed) + text
        printed.append(line)
    return 0, 1, "".join(printed) + f"\nThe process ended with status {process.wait()}."


def _say(text: str) -> None:
    sys.stdout.write(text + "\n")
    sys.stdout.flush()


def _serve() -> None:
    """A worker: runs the modules that are named on its standard input, one on each line."""
    sys.path.insert(0, os.getcwd())
    for line in sys.stdin:
        stream = io.StringIO()
        tests = unittest.defaultTestLoader.loadTestsFromName(line.strip())
        result = unittest.TextTestRunner(stream, verbosity=2).run(tests)
        bad = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        _say(f"\n{MARK}{json.dumps([result.testsRun - len(result.skipped), bad, stream.getvalue()])}")


if __name__ == "__main__":
    _serve()
