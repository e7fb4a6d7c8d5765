"""Need and drop: a changed declaration is resolved, and only then written, with lockfile and environment."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from lapidar.core import foreign, languages
from lapidar.core.cache.history import Cause
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import editing, reading
from lapidar.core.declaring.files import DECLARATION_NAME
from lapidar.core.environment import marker
from lapidar.core.errors import DeclarationError
from lapidar.core.flows import pin
from lapidar.core.flows.pin import Judgement, Pinned, Review
from lapidar.core.flows.restore import Restored, RestoreOptions, restore
from lapidar.core.languages.protocol import Language
from lapidar.core.pinning.session import PinOptions
from lapidar.core.progress import Progress
from lapidar.core.project import Project
from lapidar.core.records import lockfile, selection, words
from lapidar.core.records.snapshot import Snapshot

__all__ = ["DeclareOptions", "drop", "language_of", "need"]

_NAMED = 3  # places of an import


@dataclass(frozen=True, slots=True)
class DeclareOptions:
    """How to change a declaration.

    Attributes:
        group: the group that is meant; "" for what the analysis itself needs, for `drop` None for wherever it stands.
        index: an index of lapidar.toml: what is needed is looked for there and nowhere else.
        restore: bring the environment up to it too.
        language: whose packages are meant; "": that of the project, the first one where it has several.
        judgement: see `pin.pin`.
    """

    group: str | None = ""
    index: str = ""
    restore: bool = True
    pinning: PinOptions = field(default_factory=PinOptions)
    language: str = ""
    judgement: Judgement | None = None


def language_of(project: Project, named: str) -> Language:
    """The language that is meant.

    Args:
        named: by its name; "" for that of the project: what it has locked, declares or has an index of, where that is
            one alone; else the first one.

    Raises:
        LapidarError: there is none of that name.
        DeclarationError, LockfileError: the project's files cannot be read.
    """
    if named:
        return languages.of(named)
    declaration, locked = reading.read(project), lockfile.read_if_there(project.lockfile)
    there = set(locked.languages if locked else ())
    there |= {need.language for need in declaration.needs}
    there |= {index.language for index in declaration.indexes if index.language}
    return languages.of(there.pop()) if len(there) == 1 else languages.first()


def need(
    project: Project,
    cache: Cache,
    names: Sequence[str],
    options: DeclareOptions,
    review: Review,
    reporter: Progress | None = None,
) -> tuple[Pinned, Restored | None]:
    """Declare needs, and have them.

    Args:
        names: as one writes them, with their ranges.
        review: is shown what would change, and says whether it is to be done.

    Raises:
        DeclarationError: one is no need, or has no place.
        Conflict, IndexTrouble ...: nothing was changed.
    """
    group = languages.first().normalised(options.group) if options.group else ""
    language = language_of(project, options.language)
    needs = [language.parse_need(text, "the command line", group) for text in names]
    texts = dict(editing.added(editing.place_of(project.root, language), needs))
    if options.index:
        own = texts.get(DECLARATION_NAME)
        if own is None:
            own = foreign.read_text(project.declaration) if project.declaration.is_file() else ""
        texts[DECLARATION_NAME] = editing.claimed(own, options.index, [one.name for one in needs])
    return _change(project, cache, texts, options, review, Cause.NEEDED, reporter, about=names)


def drop(
    project: Project,
    cache: Cache,
    names: Sequence[str],
    options: DeclareOptions,
    review: Review,
    reporter: Progress | None = None,
) -> tuple[Pinned, Restored | None]:
    """Need something no longer; see `need`."""
    place = editing.place_of(project.root, language_of(project, options.language))
    texts = editing.dropped(place, names, options.group)
    return _change(project, cache, texts, options, review, Cause.DROPPED, reporter, about=names)


def _change(
    project: Project,
    cache: Cache,
    texts: Mapping[str, str],
    options: DeclareOptions,
    review: Review,
    cause: Cause,
    reporter: Progress | None,
    about: Sequence[str] = (),
) -> tuple[Pinned, Restored | None]:
    previous = lockfile.read_if_there(project.lockfile)
    if language_of(project, options.language).name in pin.captured_alone(previous, reading.read(project)):
        raise DeclarationError(
            "The lockfile was captured, and the project declares nothing",
            why="what is not declared would be dropped from it",
            remedy="`lapidar start` declares what is captured there; then say this again.",
        )
    declaration = reading.read(project, texts)
    cache.require_writable()
    with pin.opened(project, cache, declaration, previous, options.pinning, reporter) as pinning:
        plan = replace(
            pinning.plan(),
            warnings=tuple(_still_imported(project, cache, previous, about if cause is Cause.DROPPED else ())),
        )
        if not review(plan):
            return Pinned(plan), None
        pinned = pin.carry_out(pinning, plan, cause, texts, reporter, " ".join(about), options.judgement)
    restored = None
    if options.restore and pinned.snapshot:
        mark = marker.read(project.environment)
        there = selection.groups_of(pinned.snapshot)
        # Groups that were left out stay so.
        left_out = tuple(group for group in mark.left_out if group in there) if mark else ()
        restored = restore(project, cache, pinned.snapshot, RestoreOptions(left_out=left_out), reporter)
    return pinned, restored


def _still_imported(project: Project, cache: Cache, locked: Snapshot | None, names: Sequence[str]) -> Iterator[str]:
    """What of the names the project's source imports, a sentence each."""
    if locked is None or not names:
        return
    for language in map(languages.of, locked.languages):
        asked = {language.normalised(name) for name in names}
        for row in language.survey(project, None, cache, pinned=locked).rows:
            if row.module and row.distribution in asked:
                where = words.some((str(place) for place in row.places), _NAMED)
                yield f"{row.distribution} is still imported as {row.module}: {where}"
