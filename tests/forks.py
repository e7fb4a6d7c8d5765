"""The program, begun by a process that has its modules loaded already, so that the tests end sooner.

More than a third of what the tests take is Python loading the same modules again, some five thousand times. A process
that has loaded them (and has run nothing) is forked for each command; the child has the command's own words, variables,
folder, mask and streams, and goes through the same entry point, `lapidar.__main__.program`. A process of its own from the
start is what a test starts in any other way than by `run`, what has other variables that an interpreter or the loader
reads before its first line (`PYTHON...`, `LD_...`, locales), and, with LAPIDAR_TEST_PROCESS_EACH=1, every command.
"""

from __future__ import annotations

import gc
import importlib
import io
import json
import os
import pkgutil
import select
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NoReturn

ADDRESS = "LAPIDAR_TESTS_FORKS"  # the variable that says where it listens
_READ_AT_THE_START = ("PYTHON", "LD_", "LC_", "LANG", "TZ", "MALLOC_", "GLIBC_", "SSL_")
_MOST_BYTES = 1 << 20


# ---- in a process of tests


def can_run(variables: Mapping[str, str]) -> bool:
    """Whether a command with these variables may be begun so."""
    return ADDRESS in os.environ and _at_the_start(variables) == _at_the_start(os.environ)


def _at_the_start(variables: Mapping[str, str]) -> dict[str, str]:
    return {name: value for name, value in variables.items() if name.startswith(_READ_AT_THE_START)}


def run(
    words: Sequence[str], *, cwd: str | os.PathLike[str], env: Mapping[str, str], input: str | None = None
) -> subprocess.CompletedProcess[str]:
    """As `subprocess.run` with captured output: the words begin with the program."""
    given = input.encode("utf-8", "surrogateescape") if input is not None else None
    with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as asking:
        asking.connect(os.environ[ADDRESS])
        pipes = [os.pipe() for _ in range(2 + (given is not None))]
        theirs = [0 if given is None else pipes[2][0], pipes[0][1], pipes[1][1]]
        state = {"cwd": os.fspath(cwd), "env": dict(env), "umask": _umask()}
        request = json.dumps({"words": list(words), **state}).encode()
        socket.send_fds(asking, [request], theirs)
        for one in theirs[given is None :]:
            os.close(one)
        said: dict[int, bytes] = {}
        readers = [threading.Thread(target=_read, args=(pipe[0], said)) for pipe in pipes[:2]]
        for reader in readers:
            reader.start()
        if given is not None:
            _write(pipes[2][1], given)
        for reader in readers:
            reader.join()
        code = int(asking.recv(100) or b"-9")
    out, error = (_text(said[pipe[0]]) for pipe in pipes[:2])
    return subprocess.CompletedProcess(list(words), code, out, error)


def _umask() -> int:
    status = Path("/proc/self/status").read_text()
    return int(status.partition("Umask:")[2].split(maxsplit=1)[0], 8)


def _read(descriptor: int, said: dict[int, bytes]) -> None:
    with os.fdopen(descriptor, "rb") as stream:
        said[descriptor] = stream.read()


def _write(descriptor: int, data: bytes) -> None:
    try:
        with os.fdopen(descriptor, "wb") as stream:
            stream.write(data)
    except BrokenPipeError:
        pass


def _text(data: bytes) -> str:
    return io.TextIOWrapper(io.BytesIO(data), "utf-8", "surrogateescape").read()


# ---- in the process that is forked


def start(folder: Path) -> subprocess.Popen[bytes]:
    """Start the process that is forked, and wait until it has loaded everything; it ends with its standard input.

    Raises:
        SystemExit: a module cannot be loaded.
    """
    address = str(folder / "forks")
    process = subprocess.Popen(
        [sys.executable, str(Path(__file__).resolve()), address], stdin=subprocess.PIPE, stdout=subprocess.PIPE
    )
    assert process.stdout
    if not process.stdout.readline():
        raise SystemExit("not every module of the program can be loaded")
    os.environ[ADDRESS] = address
    return process


def serve(address: str) -> None:
    """Fork for every command that is asked for."""
    _load()
    listening = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    listening.bind(address)
    listening.listen(64)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    gc.freeze()
    print("ready", flush=True)
    while True:
        if sys.stdin in select.select([listening, sys.stdin], (), ())[0]:
            return  # whoever started it has ended
        asking, _ = listening.accept()
        if os.fork() == 0:
            listening.close()
            signal.signal(signal.SIGCHLD, signal.SIG_DFL)
            _tend(asking)
        asking.close()


def _load() -> None:
    """Every module that a command may load, but those that start threads."""
    import lapidar

    for module in pkgutil.walk_packages(lapidar.__path__, "lapidar."):
        if not module.name.rpartition(".")[2].startswith("_"):
            importlib.import_module(module.name)
    import tomlkit  # noqa: F401
    import urllib3  # noqa: F401

    heavy = {"numpy", "pandas", "matplotlib", "PIL"} & sys.modules.keys()
    assert not heavy, heavy


def _tend(asking: socket.socket) -> NoReturn:
    data, descriptors, _, _ = socket.recv_fds(asking, _MOST_BYTES, 3)
    child = os.fork()
    if child == 0:
        asking.close()
        _become(json.loads(data), descriptors)
    for one in descriptors:
        os.close(one)
    _, status = os.waitpid(child, 0)
    asking.send(str(os.waitstatus_to_exitcode(status)).encode())
    os._exit(0)


def _become(request: dict[str, object], descriptors: list[int]) -> NoReturn:
    for number, one in enumerate(descriptors):
        os.dup2(one, number, inheritable=True)
        os.close(one)
    os.chdir(str(request["cwd"]))
    os.umask(int(request["umask"]))  # type: ignore[call-overload]
    os.environ.clear()
    os.environ.update(request["env"])  # type: ignore[call-overload]
    sys.argv = list(request["words"])  # type: ignore[call-overload]
    from lapidar.__main__ import program

    code: object = 1
    try:
        program()
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else ended.code is not None
    except BaseException:
        sys.excepthook(*sys.exc_info())
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(int(code))  # type: ignore[call-overload]


if __name__ == "__main__":
    serve(sys.argv[1])
