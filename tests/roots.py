"""Other systems to restore on: a root with nothing but a static shell, and loud words where it cannot be made."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import unittest
from pathlib import Path

__all__ = ["bare_root", "run_in", "skip_loudly"]

_COMMANDS = ("sh", "env", "cat", "ls", "dirname", "readlink", "mkdir")


def skip_loudly(test: unittest.TestCase, why: str) -> None:
    """Skip, and say so where nobody overlooks it."""
    print(f"\n*** NOT TESTED: {test.id()}: {why}", file=sys.stderr)
    test.skipTest(why)


def bare_root(test: unittest.TestCase, folder: Path) -> Path:
    """A root with a static shell and empty folders. Skips where this machine cannot have one."""
    shell = shutil.which("busybox")
    if shell is None or b"statically" not in subprocess.run(["file", "-L", shell], capture_output=True).stdout:
        skip_loudly(test, "there is no static busybox here (Debian's busybox-static)")
    if os.getuid() != 0:
        skip_loudly(test, "only root can change the root")
    assert shell
    for name in ("bin", "home", "tmp", "proc", "dev/shm", "etc"):
        (folder / name).mkdir(parents=True)
    shutil.copy(shell, folder / "bin" / "busybox")
    for name in _COMMANDS:
        (folder / "bin" / name).symlink_to("busybox")
    try:
        os.mknod(folder / "dev" / "null", 0o20666, os.makedev(1, 3))
        os.mknod(folder / "dev" / "urandom", 0o20666, os.makedev(1, 9))
    except PermissionError:
        skip_loudly(test, "devices cannot be made here")
    return folder


def run_in(root: Path, *command: object, check: bool = True) -> str:
    """Run a command in a root, with no network but a loopback and no variable but PATH; what it printed."""
    script = 'ip link set lo up 2> /dev/null; mount -t proc proc "$0/proc" && exec chroot "$0" "$@"'
    done = subprocess.run(
        ["unshare", "--net", "--mount", "--pid", "--fork", "sh", "-c", script, str(root), *map(str, command)],
        env={"PATH": "/bin:/usr/bin:/sbin:/usr/sbin"},
        capture_output=True,
        text=True,
    )
    if check and done.returncode != 0:
        raise AssertionError(f"{command}\n{done.stdout}\n{done.stderr}")
    return done.stdout + ("" if check else done.stderr)
