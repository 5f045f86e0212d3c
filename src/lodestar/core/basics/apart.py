"""Work on what comes from outside, in a child process that can be ended: what it takes, and where it crashes, nothing else suffers.

A function that runs there takes bytes and gives arrays by name. It is named as 'module:function', so that nothing but that name, the
bytes and the arrays ever crosses; no pickles do.
"""

import contextlib
import importlib
import io
import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from .errors import UserError

SECONDS, MOST_BYTES = 10.0, 2**30  # that a piece of work may take
POLL_S = 0.02
TOLD = 3  # exit status with a UserError on the error stream
SOURCE = Path(__file__).resolve().parents[3]


def apart(function: str, data: bytes, noun: str, check: Callable[[], object] = lambda: None, most_bytes: int = MOST_BYTES) -> dict[str, np.ndarray]:
    """What `function` ('module:name', bytes -> arrays by name) makes of the bytes.

    noun: what the bytes are, in a sentence: "The drawing". check is called every 20 ms and may raise, which ends the work. Raises UserError
    as the function does, and where the work takes longer than SECONDS, more memory than `most_bytes`, or dies.
    """
    env = {**os.environ, "PYTHONPATH": os.pathsep.join([str(SOURCE), os.environ.get("PYTHONPATH", "")]), "OPENBLAS_NUM_THREADS": "1"}
    # files, not pipes: nobody has to read and write in turns
    with tempfile.TemporaryFile() as given, tempfile.TemporaryFile() as made, tempfile.TemporaryFile() as told:
        given.write(data)
        given.seek(0)
        command = [sys.executable, "-m", "lodestar.core.basics.apart", function, str(most_bytes)]
        child = subprocess.Popen(command, stdin=given, stdout=made, stderr=told, env=env)
        try:
            until = time.monotonic() + SECONDS
            while child.poll() is None:
                check()
                if time.monotonic() > until:
                    raise UserError(f"{noun} takes longer than {SECONDS:.0f} s to work out, and was left.", "Simplify it and save it again.")
                with contextlib.suppress(subprocess.TimeoutExpired):
                    child.wait(POLL_S)
        finally:
            child.kill()
            child.wait()
        made.seek(0)
        told.seek(0)
        out, err = made.read(), told.read()
    if child.returncode == TOLD:
        raise UserError(*json.loads(err.decode().splitlines()[-1]))
    if child.returncode:
        memory = b"MemoryError" in err or b"bad_alloc" in err
        why = f"needs more than {most_bytes / 2**30:.0f} GB of memory" if memory else "could not be worked out"
        raise UserError(f"{noun} {why}, and was left.", "Simplify it and save it again.")
    with np.load(io.BytesIO(out), allow_pickle=False) as arrays:
        return dict(arrays)


def main(function: str, most_bytes: int) -> int:
    """The child: reads bytes from its input, writes arrays (.npz) to its output."""
    resource.setrlimit(resource.RLIMIT_AS, (most_bytes, most_bytes))
    resource.setrlimit(resource.RLIMIT_CPU, (int(SECONDS) + 1, int(SECONDS) + 1))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    module, _, name = function.partition(":")
    try:
        arrays = getattr(importlib.import_module(module), name)(sys.stdin.buffer.read())
    except UserError as error:
        sys.stderr.write(json.dumps([error.what, error.hint]) + "\n")
        return TOLD
    out = io.BytesIO()
    np.savez(out, **arrays)
    sys.stdout.buffer.write(out.getvalue())
    return 0


if __name__ == "__main__":
    from lodestar.core.basics import apart as own  # the errors that are raised must be those that are caught: one module, not two

    sys.exit(own.main(sys.argv[1], int(sys.argv[2])))
