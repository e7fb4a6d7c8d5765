"""Signatures of parcels: those of SSH keys (SSHSIG of OpenSSH, namespace `lapidar`), over a manifest's bytes.

A manifest names every blob by its digest, so its signature is one for all of them. OpenSSH's own program makes and
judges them. Whom to trust stands in the user's configuration alone.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import tempfile
from pathlib import Path

from lapidar.core.errors import LapidarError
from lapidar.core.parcels.form import ParcelBroken

__all__ = ["SIGNATURE", "NotHolding", "NotTrusted", "beside", "sign", "signer"]

SIGNATURE = "application/vnd.lapidar.signature.v1+ssh"  # of the artifact, and of its one blob
_NAMESPACE = "lapidar"
_PROGRAM = "ssh-keygen"
_SECONDS = 120  # a key may be one that is to be touched
MOST_BYTES = 100_000  # of a signature


class NotTrusted(ParcelBroken):
    """A parcel is not signed by anybody whom the user trusts."""


class NotHolding(NotTrusted):
    """Somebody whom the user trusts signed something else than this."""


def beside(file: Path) -> Path:
    """Where the signature of a file lies."""
    return file.with_name(file.name + ".sig")


def _run(*words: str, data: bytes = b"") -> subprocess.CompletedProcess[bytes]:
    if shutil.which(_PROGRAM) is None:
        raise LapidarError(
            f"{_PROGRAM} is not installed", remedy="Install OpenSSH's client: it makes and judges signatures."
        )
    try:
        return subprocess.run([_PROGRAM, *words], input=data, capture_output=True, timeout=_SECONDS, check=False)
    except subprocess.TimeoutExpired as error:
        raise LapidarError(f"{_PROGRAM} did not answer in {_SECONDS} s", remedy="Try it again.") from error


def sign(data: bytes, key: Path) -> bytes:
    """Sign bytes.

    Args:
        key: the file of a private key, or of a public one whose private key an agent holds.

    Returns:
        The armoured signature.

    Raises:
        LapidarError: there is no such key, or it cannot be used.
    """
    if not key.is_file():
        raise LapidarError(f"There is no key {key}", remedy="Name the file of an SSH key with --key.")
    with tempfile.TemporaryDirectory(prefix="lapidar-signing-") as folder:
        file = Path(folder) / "it"
        file.write_bytes(data)
        done = _run("-Y", "sign", "-f", os.path.abspath(key), "-n", _NAMESPACE, str(file))
        made = file.with_name("it.sig")
        if done.returncode or not made.is_file():
            raise LapidarError(
                f"The key {key} cannot sign",
                why=done.stderr.decode("utf-8", "replace").strip(),
                remedy="Look whether it is an SSH key, and whether its agent has it (ssh-add -l).",
            )
        return made.read_bytes()


def signer(data: bytes, signature: bytes, allowed: Path) -> str:
    """Who signed bytes, of those whom a file allows (ALLOWED SIGNERS in ssh-keygen(1)).

    Raises:
        NotTrusted: nobody of them did.
        NotHolding: one of them did, and the bytes are others.
    """
    if not allowed.is_file():
        raise NotTrusted(
            f"There is no file {allowed} of allowed signers", remedy="Look at [trust] in your configuration."
        )
    with tempfile.TemporaryDirectory(prefix="lapidar-signing-") as folder:
        file = Path(folder) / "it.sig"
        file.write_bytes(signature)
        found = _run("-Y", "find-principals", "-s", str(file), "-f", str(allowed))
        names = found.stdout.decode("utf-8", "replace").split("\n")
        for name in filter(None, map(str.strip, names)):
            words = ("-Y", "verify", "-f", str(allowed), "-I", name, "-n", _NAMESPACE, "-s", str(file))
            done = _run(*words, data=data)
            if done.returncode == 0:
                return re.sub(r"[^\x20-\x7e]", "?", name)
            why = (done.stderr or done.stdout).decode("utf-8", "replace").strip()
            raise NotHolding(f"The signature of {name} does not hold", why=why or "what is signed is something else")
    raise NotTrusted("It is signed by nobody whom you trust", why=f"none of {allowed} did")
