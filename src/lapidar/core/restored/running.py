"""The variables of whatever runs in a restored environment: the caller's, held to the conditions of the snapshot."""

from __future__ import annotations

import os
from collections.abc import Mapping

import msgspec
import tomli
from msgspec.structs import replace

from lapidar.core import foreign, languages
from lapidar.core.environment import kept
from lapidar.core.environment.folder import Environment
from lapidar.core.layers import conditions
from lapidar.core.layers.conditions import HeldTo
from lapidar.core.place import Place
from lapidar.core.records.snapshot import Conditions
from lapidar.core.system.loader import VARIABLES

__all__ = ["Prepared", "hidden_names", "prepare"]


def _as_declared(recorded: Conditions, place: Place) -> Conditions:
    """Conditions with what a run reads of the declaration itself: that needs no new snapshot."""
    if not place.declaration.is_file():
        return recorded
    try:
        told = foreign.parsed(lambda: tomli.loads(foreign.read_text(place.declaration))).get("conditions")
    except (OSError, ValueError):
        return recorded  # the commands that need the declaration tell what is wrong with it
    if not isinstance(told, dict):
        return recorded
    env_file, secrets = told.get("env-file"), told.get("secrets")
    if isinstance(env_file, str) and env_file != recorded.env_file and _is_inside(env_file):
        recorded = replace(recorded, env_file=env_file)
    if isinstance(secrets, list) and all(isinstance(name, str) for name in secrets):
        recorded = replace(recorded, secrets=tuple(sorted(secrets)))
    return recorded


def _is_inside(path: str) -> bool:
    return not os.path.isabs(path) and ".." not in path.split("/")


class Prepared(msgspec.Struct, frozen=True):
    """What a run is to have.

    Attributes:
        variables: all of its variables.
        hidden: the names of variables of the caller that were left out.
        held_to: what the conditions did; None where the environment has none.
        umask: the file mode mask to set; None to keep the caller's.
    """

    variables: dict[str, str]
    hidden: tuple[str, ...]
    held_to: HeldTo | None
    umask: int | None


def hidden_names(environment: Environment) -> list[str]:
    """The names of the caller's variables that a run in an environment is not to see."""
    names = [name for language in languages.every() for name in language.variables.hidden]
    return [*names, *VARIABLES] if environment.is_private else names


def prepare(place: Place, environment: Environment, variables: Mapping[str, str], *, env_file: bool = True) -> Prepared:
    """The variables of a run.

    Args:
        place: whose file of variables is read.
        variables: those of the caller.
        env_file: whether it is read.

    Raises:
        LapidarError: the project's file of variables cannot be read.
    """
    result = {**dict(one for language in languages.every() for one in language.variables.given), **variables}
    hidden = tuple(name for name in hidden_names(environment) if result.pop(name, None) is not None)
    if os.path.isfile(environment.folder / kept.TOOLS):
        from lapidar.core.layers import tools  # loaded for those alone that have any

        result |= tools.homes(environment)
    recorded = conditions.kept(environment)
    held_to = None
    if recorded is not None:
        recorded = _as_declared(recorded, place)
        if not env_file:
            recorded = replace(recorded, env_file=None)
        held_to = conditions.apply(recorded, result, place.root)
        result = dict(held_to.variables)
    folder = str(environment.folder)
    result["VIRTUAL_ENV"] = folder
    result["PATH"] = f"{folder}/bin:{result.get('PATH', os.defpath)}"
    umask = int(recorded.umask, 8) if recorded and recorded.umask else None
    return Prepared(result, hidden, held_to, umask)
