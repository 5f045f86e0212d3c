"""Work on what comes from outside, in child processes that can be ended: what they take, and where they crash, nothing else suffers.

A child is forked from a small process that is started once (a fork server), so that it is there in some milliseconds. What runs in it is named as
'module:name', so that nothing but that name, JSON, bytes and arrays ever crosses; no pickles do.
"""

import atexit
import contextlib
import functools
import importlib
import json
import os
import resource
import select
import signal
import socket
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from .errors import UserError

SECONDS, MOST_BYTES = 10.0, 2**30  # without a sign of life, and of memory, that a piece of work may take
POLL_S = 0.02
SIGN_S = 0.5  # between signs of life of one that goes through much
SOURCE = Path(__file__).resolve().parents[3]
HEAD = struct.Struct("<I")  # bytes of the JSON that comes next
BUFFER = 1 << 20  # bytes of a socket; more of them are fewer turns between the two processes
MOST_REQUEST = 1 << 16  # bytes of what the server is asked

_server: tuple[socket.socket, subprocess.Popen[bytes]] | None = None
_lock = threading.Lock()
_parent: socket.socket | None = None  # in a child: whom it works for


class Ended(UserError):
    """A child that died, did not come back or took too much: it cannot be trusted with that again."""


class _Gone(Exception):
    """The other side of a socket is not there any more."""


# messages: JSON, and arrays by name ----------------------------------------------------------------------------------------------


def _send(to: socket.socket, told: dict[str, Any]) -> None:
    """Values are arrays, or what JSON can say."""
    arrays = {name: np.ascontiguousarray(value) for name, value in told.items() if isinstance(value, np.ndarray)}
    rest = {name: value for name, value in told.items() if name not in arrays}
    head = json.dumps([rest, [(name, a.dtype.str, told[name].shape) for name, a in arrays.items()]]).encode()
    to.sendall(HEAD.pack(len(head)) + head)
    for array in arrays.values():
        to.sendall(array.reshape(-1).view(np.uint8).data)


def _receive(source: socket.socket, wait: Callable[[], object] = lambda: None) -> dict[str, Any]:
    """wait is called before each read that may block, and may raise."""
    head = bytearray(HEAD.size)
    _fill(memoryview(head), source, wait)
    text = bytearray(HEAD.unpack(head)[0])
    _fill(memoryview(text), source, wait)
    told, arrays = json.loads(text)
    for name, kind, shape in arrays:
        told[name] = np.empty(shape, kind)
        _fill(told[name].reshape(-1).view(np.uint8).data, source, wait)
    return told


def _fill(view: memoryview, source: socket.socket, wait: Callable[[], object]) -> None:
    at = 0
    while at < len(view):
        wait()
        try:
            count = source.recv_into(view[at:])
        except OSError as error:
            raise _Gone from error
        if not count:
            raise _Gone
        at += count


# the fork server -----------------------------------------------------------------------------------------------------------------


def begin() -> None:
    """Start the fork server, so that the first child has not to wait for it."""
    with _lock:
        _started()


def _started() -> socket.socket:
    global _server
    if _server is None:
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        env = {**os.environ, "PYTHONPATH": os.pathsep.join([str(SOURCE), os.environ.get("PYTHONPATH", "")]), "OPENBLAS_NUM_THREADS": "1"}
        command = [sys.executable, "-m", "lodestar.core.basics.apart", str(theirs.fileno())]
        with theirs:
            # a session of its own: an interrupt from the keyboard is for us, who end it
            null = subprocess.DEVNULL
            process = subprocess.Popen(command, stdin=null, stdout=null, stderr=null, env=env, pass_fds=[theirs.fileno()], start_new_session=True)
        _server = ours, process
    return _server[0]


@atexit.register
def end() -> None:
    """End the fork server, and with it all children; the next child starts it anew."""
    global _server
    with _lock:
        if _server is not None:
            control, process = _server
            _server = None
            control.close()
            process.kill()
            process.wait()


def _fork(target: str, most_bytes: int, theirs: socket.socket, errors: BinaryIO) -> None:
    request = json.dumps([target, most_bytes, sys.path]).encode()
    for again in (True, False):
        try:
            with _lock:
                socket.send_fds(_started(), [request], [theirs.fileno(), errors.fileno()])
            return
        except OSError:  # it was ended from outside
            end()
            if not again:
                raise


def _serve(control: socket.socket) -> None:
    """In the server: a child for each request, until whoever started it is gone."""
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    while True:
        request, fds, *_ = socket.recv_fds(control, MOST_REQUEST, 2)
        if not request:
            return
        target, most_bytes, path = json.loads(request)
        sys.path[:] = path
        with contextlib.suppress(Exception):  # here, so that the next one has it; if it fails, the child says so
            importlib.import_module(target.partition(":")[0])
        if os.fork() == 0:
            control.close()
            os.dup2(fds[1], 2)
            os._exit(_work(target, most_bytes, socket.socket(fileno=fds[0])))
        for fd in fds:
            os.close(fd)


def _work(target: str, most_bytes: int, parent: socket.socket) -> int:
    """In the child: what `target` makes of the bytes that come first; where that is an object, then its methods as they are asked for."""
    global _parent
    _die_with_parent()
    hard = resource.getrlimit(resource.RLIMIT_AS)[1]  # whoever started us may have set less
    most_bytes = most_bytes if hard == resource.RLIM_INFINITY else min(most_bytes, hard)
    resource.setrlimit(resource.RLIMIT_AS, (most_bytes, most_bytes))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    _parent = parent
    try:
        _send(parent, {"pid": os.getpid()})
        data = _receive(parent)["data"].tobytes()
        module, _, name = target.partition(":")
        made = _answered(parent, lambda: getattr(importlib.import_module(module), name)(data))
        while made is not None and not isinstance(made, dict):
            asked = _receive(parent)
            _answered(parent, functools.partial(getattr(made, asked.pop("what")), **asked))
    except (_Gone, BrokenPipeError):
        return 0
    except BaseException:
        import traceback

        traceback.print_exc()
        return 1
    return 0


def _answered(parent: socket.socket, work: Callable[[], Any]) -> Any:
    """What the work makes, once it was told."""
    try:
        made = work()
    except UserError as error:
        _send(parent, {"wrong": [error.what, error.hint]})
        return None
    _send(parent, {"made": True, **made} if isinstance(made, dict) else {"made": True})
    return made


def _die_with_parent() -> None:
    """The server ends with its parent, and its children with it, whatever they are at. Source: prctl(2), PR_SET_PDEATHSIG."""
    import ctypes

    ctypes.CDLL(None).prctl(1, signal.SIGKILL)


_signed = 0.0


def alive() -> None:
    """In a child that goes through much: a sign of life, so that it is not taken for one that hangs. Does nothing elsewhere."""
    global _signed
    if _parent is not None and time.monotonic() - _signed > SIGN_S:
        _signed = time.monotonic()
        _send(_parent, {"alive": True})


# who asks ------------------------------------------------------------------------------------------------------------------------


class _Here(threading.local):
    check: Callable[[], object] = staticmethod(lambda: None)


_here = _Here()


@contextlib.contextmanager
def checked(check: Callable[[], object]) -> Iterator[None]:
    """While this thread waits for a child, check is called every 20 ms; it may raise, which ends the child."""
    before = _here.check
    _here.check = lambda: (before(), check())
    try:
        yield
    finally:
        _here.check = before


class Apart:
    """What `target` ('module:name') makes of bytes, in a child process of its own: `made`, arrays and what JSON can say by name. Where it is an
    object, the child stays, and its methods can be asked. It belongs to one thread.

    noun: what the bytes are, in a sentence: "The drawing". `checked` may end the child. Raises UserError as the
    target does, and Ended where the child gives no sign of life for SECONDS, takes more memory than `most_bytes`, or dies.
    """

    def __init__(self, target: str, data: bytes, noun: str, most_bytes: int = MOST_BYTES) -> None:
        self.noun, self.most_bytes = noun, most_bytes
        self._pid = -1
        self._socket, theirs = socket.socketpair()
        self._poll = select.poll()
        self._poll.register(self._socket, select.POLLIN)
        self._errors = os.fdopen(os.memfd_create("errors"), "w+b")  # its error stream
        try:
            with theirs:
                for end in (self._socket, theirs):
                    end.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, BUFFER)
                _fork(target, most_bytes, theirs, self._errors)
            pid = self._answer()["pid"]
            with contextlib.suppress(OSError):  # where a container forbids it, a child that hangs stays until we end
                self._pid = os.pidfd_open(pid)
            self.made = self._told({"data": np.frombuffer(data, np.uint8)})
        except _Gone as error:
            raise self._ended() from error
        except OSError as error:
            self.close()
            raise UserError(f"{noun} could not be worked out: {(error.strerror or 'no process could be started').lower()}.", "Try again.") from error
        except BaseException:
            self.close()
            raise

    def ask(self, what: str, /, **with_: Any) -> dict[str, Any]:
        """What a method of the object makes. Raises as the class says; after all but the object's own errors the child is gone."""
        return self._told({"what": what, **with_})

    def _told(self, message: dict[str, Any]) -> dict[str, Any]:
        try:
            self._socket.settimeout(SECONDS)
            _send(self._socket, message)
            self._socket.settimeout(None)
            while "alive" in (answer := self._answer()):
                pass
        except (_Gone, OSError) as error:
            raise self._ended() from error
        except BaseException:
            self.close()
            raise
        if "wrong" in answer:
            raise UserError(*answer["wrong"])
        del answer["made"]
        return answer

    def _answer(self) -> dict[str, Any]:
        until = time.monotonic() + SECONDS

        def wait() -> None:
            while not self._poll.poll(POLL_S * 1000):
                _here.check()
                if time.monotonic() > until:
                    raise Ended(f"{self.noun} takes longer than {SECONDS:.0f} s to work out, and was left.", "Simplify it and save it again.")

        return _receive(self._socket, wait)

    def _ended(self) -> Ended:
        """Why the child is gone."""
        self._errors.seek(0)
        err = self._errors.read()
        self.close()
        memory = b"MemoryError" in err or b"bad_alloc" in err
        why = f"needs more than {self.most_bytes / 2**30:.0f} GB of memory" if memory else "could not be worked out"
        return Ended(f"{self.noun} {why}, and was left.", "Simplify it and save it again.")

    @property
    def is_gone(self) -> bool:
        return self._socket.fileno() < 0 or bool(self._poll.poll(0))  # it says nothing unless it is asked, but its end is heard

    def close(self) -> None:
        """End the child; it has nothing to lose."""
        if self._pid >= 0:
            with contextlib.suppress(ProcessLookupError):
                signal.pidfd_send_signal(self._pid, signal.SIGKILL)
            os.close(self._pid)
            self._pid = -1
        self._socket.close()
        self._errors.close()

    def __enter__(self) -> "Apart":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def __del__(self) -> None:
        if hasattr(self, "_errors"):
            self.close()


def apart(target: str, data: bytes, noun: str, most_bytes: int = MOST_BYTES) -> dict[str, Any]:
    """What `target` ('module:name', bytes -> arrays and what JSON can say, by name) makes of the bytes. Raises as `Apart`."""
    with Apart(target, data, noun, most_bytes) as child:
        return child.made


if __name__ == "__main__":
    from lodestar.core.basics import apart as own  # the errors that are raised must be those that are caught: one module, not two

    own._serve(socket.socket(fileno=int(sys.argv[1])))
