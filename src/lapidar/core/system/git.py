"""git, asked as a program, about the repository of a folder and no other.

Whoever starts Lapidar from a hook of git, or from a tool that git started, has variables set that name *their*
repository (``git rev-parse --local-env-vars``): with these, a checkout into a folder of our own would move their HEAD.
"""

from __future__ import annotations

import os
import pwd
import re
import shutil
import subprocess
from pathlib import Path

from lapidar.core.errors import LapidarError

__all__ = ["PROTOCOLS", "author", "run"]

_SECONDS = 5
PROTOCOLS = ("https", "http", "ssh", "git", "file")
# What names a repository or its settings, or would bring code along; how to reach a host (ssh, proxies) stays.
_OF_A_REPOSITORY = re.compile(
    r"GIT_(DIR|WORK_TREE|INDEX_FILE|INDEX_VERSION|OBJECT_DIRECTORY|ALTERNATE_OBJECT_DIRECTORIES|COMMON_DIR|PREFIX|NAMESPACE"
    r"|SHALLOW_FILE|GRAFT_FILE|IMPLICIT_WORK_TREE|INTERNAL_SUPER_PREFIX|NO_REPLACE_OBJECTS|REPLACE_REF_BASE|QUARANTINE_PATH"
    r"|CONFIG|CONFIG_PARAMETERS|CONFIG_COUNT|CONFIG_KEY_\d+|CONFIG_VALUE_\d+|TEMPLATE_DIR|EXTERNAL_DIFF|PAGER(_IN_USE)?"
    r"|LITERAL_PATHSPECS|GLOB_PATHSPECS|NOGLOB_PATHSPECS|ICASE_PATHSPECS|DEFAULT_HASH|DEFAULT_REF_FORMAT|ATTR_SOURCE)"
)


def author(folder: Path) -> str:
    """Whom git names as the author of a commit in a folder; without git, whom the system has logged in; "" for
    nobody that has a name."""
    try:
        name = run(folder, "config", "user.name", seconds=_SECONDS).stdout.decode("utf-8", "replace").strip()
    except (LapidarError, OSError, subprocess.SubprocessError):
        name = ""
    try:
        return name or pwd.getpwuid(os.getuid()).pw_name
    except KeyError:
        return ""


def run(folder: Path, *words: str, seconds: float = 30) -> subprocess.CompletedProcess[bytes]:
    """Ask git in a folder; it asks nobody for a password.

    Args:
        seconds: after which it is given up.

    Raises:
        LapidarError: there is no git here.
        TimeoutExpired: it took too long.
    """
    if shutil.which("git") is None:
        raise LapidarError("git is not installed", remedy="Install git; what is under version control is asked of it.")
    variables = {name: text for name, text in os.environ.items() if not _OF_A_REPOSITORY.fullmatch(name)}
    variables |= {"GIT_TERMINAL_PROMPT": "0", "GIT_ALLOW_PROTOCOL": ":".join(PROTOCOLS)}
    return subprocess.run(
        ["git", "-c", "advice.detachedHead=false", "-c", "protocol.ext.allow=never", *words],
        cwd=folder,
        env=variables,
        stdin=subprocess.DEVNULL,
        capture_output=True,
        timeout=seconds,
        check=False,
    )
