"""Aside: a project's environment with other needs, to try something in: resolved with the rest held where possible,
placed in the cache, and nothing of the project is changed."""

from __future__ import annotations

import json
import shlex
from collections.abc import Callable
from pathlib import Path

import tomlkit
from msgspec import Struct
from msgspec.structs import replace

from lapidar.core import atomic
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import editing, files, reading
from lapidar.core.flows import pin
from lapidar.core.flows.naming import language_of
from lapidar.core.flows.near import in_cache
from lapidar.core.flows.pin import PinPlan
from lapidar.core.languages.protocol import Language
from lapidar.core.pinning.session import PinOptions, PinRequest
from lapidar.core.place import Place
from lapidar.core.progress import Progress
from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Snapshot

__all__ = ["TRIED", "Aside", "Asked", "as_project", "aside", "how_to_keep"]


TRIED = "tried"
"""What, beside an environment, says what was tried in it last."""


class Asked(Struct, frozen=True, kw_only=True):
    """What is tried.

    Attributes:
        needs: as one writes them; those of the project of the same names are replaced.
        without: names that are not to be needed.
        only: nothing of what the project needs.
        runtime: an interpreter, or the beginning of a version.
        language: whose packages are meant; "": see `lapidar.core.flows.naming.language_of`.
    """

    needs: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    only: bool = False
    runtime: Path | None = None
    language: str = ""

    @property
    def title(self) -> str:
        """For people."""
        runtime = f"--runtime {self.runtime}" if self.runtime else ""
        return " ".join(filter(None, [*self.needs, *(f"--without {one}" for one in self.without), runtime])) or "-"

    @property
    def text(self) -> str:
        """By which it is known again."""
        return json.dumps([self.needs, self.without, self.only, str(self.runtime or ""), self.language])


class Aside(Struct, frozen=True):
    """An environment that is there.

    Attributes:
        environment: held by this process.
        plan: how it was resolved; None where it was there already.
    """

    environment: Path
    plan: PinPlan | None = None


def aside(place: Place, cache: Cache, asked: Asked, heard: Callable[[PinPlan], object], reporter: Progress) -> Aside:
    """Have an environment to try something in.

    Args:
        heard: is told how it was resolved, before it is made.

    Raises:
        DeclarationError, Conflict ...: it cannot be had; nothing was changed.
    """
    near = in_cache(cache.root)
    told = [place.root / name for name in files.declaring_files()]
    known_by = [path for path in (*told, place.lockfile) if path.is_file()]
    also = f"{place.root}\n{asked.text}"
    if (known := near.known(*known_by, also=also)) and (found := near.held(known)):
        return Aside(found)
    snapshot, plan = _resolved(place, cache, asked, heard, reporter)
    environment = near.restored(place, lambda: cache, snapshot, reporter)
    atomic.write_file(environment.parent / TRIED, f"{asked.title}\n".encode(), flush=False)
    near.remember(snapshot.snapshot, *known_by, also=also)
    return Aside(environment, plan)


def _resolved(
    place: Place, cache: Cache, asked: Asked, heard: Callable[[PinPlan], object], reporter: Progress
) -> tuple[Snapshot, PinPlan]:
    language, _ = language_of(place, asked.language, asked.needs or asked.without)
    texts = _only(place, asked, language) if asked.only else _changed(place, asked, language)
    declaration = reading.read(place, texts)
    locked = lockfile.read_if_there(place.lockfile)
    if locked and asked.only:
        locked = replace(locked, packages=())  # its runtime, and nothing that holds a package
    request = PinRequest(place, cache, declaration, locked, PinOptions(runtime=asked.runtime), reporter)
    only = language.name if asked.only or not declaration.needs else ""
    with pin.opened(request, only=only) as pinning:
        plan = pinning.plan()
        heard(plan)
        return pin.brought(pinning, plan)[0], plan


def _changed(place: Place, asked: Asked, language: Language) -> dict[str, str]:
    """The file of the declaration with the changes."""
    there = editing.place_of(place.root, language)
    texts: dict[str, str] = {}
    if asked.needs:
        needs = [language.versions.parse_need(text, "the command line", "") for text in asked.needs]
        texts |= editing.added(there, needs)
    if asked.without:
        texts |= editing.dropped(there, asked.without, None)
    return texts


def _only(place: Place, asked: Asked, language: Language) -> dict[str, str]:
    """A declaration of these needs alone, from the project's indexes."""
    texts = dict.fromkeys(files.declaring_files(), "")
    path = place.declaration
    own = tomlkit.parse(path.read_text("utf-8")) if path.is_file() else tomlkit.document()
    kept = tomlkit.document()
    if "index" in own:
        kept.add("index", own["index"])
    needs = [language.versions.parse_need(text, "the command line", "") for text in asked.needs]
    return texts | dict(editing.added(editing.own_place(tomlkit.dumps(kept), language), needs))


def how_to_keep(asked: Asked) -> str:
    """The command that makes a project need it."""
    words = [shlex.quote(text) for text in asked.needs]
    keep = f"lapidar need {' '.join(words)}" if words else ""
    drop = f"lapidar drop {' '.join(map(shlex.quote, asked.without))}" if asked.without else ""
    runtime = f" --runtime {shlex.quote(str(asked.runtime))}" if asked.runtime else ""
    first = keep or drop or "lapidar pin"
    return f"{first}{runtime}" + (f" && {drop}" if keep and drop else "")


def as_project(place: Place, asked: Asked) -> Place:
    """Where conditions are looked for: nowhere, where nothing of the project counts."""
    return replace(place, declaration=place.own_folder / "none") if asked.only else place
