"""Whom the user trusts to have made a parcel: ``[trust]`` in her own configuration, and nowhere else."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from lapidar.core.declaring.files import user_file
from lapidar.core.declaring.project import load
from lapidar.core.declaring.reading import address_of
from lapidar.core.errors import DeclarationError

__all__ = ["Trust", "trust"]


class Trust(NamedTuple):
    """What she says.

    Attributes:
        signers: the file of allowed signers (ssh-keygen(1)); None where she names none.
        required: whether only what one of them signed is used.
    """

    signers: Path | None = None
    required: bool = False


def trust() -> Trust:
    """What the user's configuration says.

    Raises:
        DeclarationError: it cannot be meant.
    """
    path = user_file()
    if not path.is_file():
        return Trust()
    table = load(path, str(path)).get("trust", {})
    known = {"signers": str, "required": bool}
    if not isinstance(table, dict) or any(not isinstance(value, known.get(key, ())) for key, value in table.items()):
        raise DeclarationError(
            f"{path}: [trust] is not what it must be",
            remedy='Write signers = "allowed_signers" (a file as ssh-keygen(1) has it), and required = true.',
        )
    signers = Path(address_of(table["signers"], path.parent)) if "signers" in table else None
    if table.get("required") and signers is None:
        raise DeclarationError(f"{path}: [trust] names no signers, and requires one", remedy='Write signers = "FILE".')
    return Trust(signers, bool(table.get("required", False)))
