"""Need and drop: a changed declaration is resolved, and only then written, with lockfile and environment."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from lapidar.core import foreign, languages
from lapidar.core.cache.history import Cause, Deed
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import editing, own, reading
from lapidar.core.declaring.files import DECLARATION_NAME
from lapidar.core.environment.folder import Environment
from lapidar.core.errors import DeclarationError, LapidarError
from lapidar.core.flows import compare, pin
from lapidar.core.flows.naming import language_of
from lapidar.core.flows.pin import Judgement, Pinned, Review
from lapidar.core.flows.restore import Restored, again
from lapidar.core.languages.protocol import Language
from lapidar.core.pinning.session import PinOptions, PinRequest
from lapidar.core.place import Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.records import called, lockfile, words
from lapidar.core.records.declaration import group_name
from lapidar.core.records.findings import Problem
from lapidar.core.records.owner import Owner
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.records.surveyed import NOTHING

__all__ = ["DeclareOptions", "drop", "installed_by_hand", "need"]

_NAMED = 3  # places of an import


class DeclareOptions(Struct, frozen=True, kw_only=True):
    """How to change a declaration.

    Attributes:
        group: the group that is meant; "" for what the analysis itself needs, for `drop` None for wherever it stands.
        index: an index of lapidar.toml: what is needed is looked for there and nowhere else.
        restore: bring the environment up to it too.
        language: whose packages are meant; "": see `lapidar.core.flows.naming.language_of`.
        judgement: see `pin.pin`.
    """

    group: str | None = ""
    index: str = ""
    restore: bool = True
    pinning: PinOptions = field(default_factory=PinOptions)
    language: str = ""
    judgement: Judgement | None = None


def need(
    place: Place,
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
    members = own.Own(place)
    folders = [members.at(text) for text in names if own.is_path(text)]
    file_of = {one.path: editing.place_of(place.root, languages.of(one.language)).file for one in folders}
    names = [
        *(text for text in names if not own.is_path(text)),
        *(one.as_need(file_of[one.path]) for one in folders),
    ]
    language, said = language_of(place, _language_of(folders, options.language), names)
    group = group_name(called.checked(options.group, "a group")) if options.group else ""
    needs = [language.versions.parse_need(text, "the command line", group) for text in names]
    texts = dict(editing.added(editing.place_of(place.root, language), needs))
    for one in folders:
        if not one.says_folder(file_of[one.path]):
            text = _own_text(place, texts)
            texts[DECLARATION_NAME] = editing.with_folder(text, one.language, one.name, one.path)
    if options.index:
        text = _own_text(place, texts)
        texts[DECLARATION_NAME] = editing.claimed(text, options.index, [one.name for one in needs])
    change = _Changed(texts, Cause.NEEDED, tuple(names), language, said)
    return _change(place, cache, change, options, review, reporter)


def _language_of(folders: Iterable[own.OwnPackage], named: str) -> str:
    """That which is named, or that of the folders.

    Raises:
        DeclarationError: they are of another, or of several.
    """
    several = {one.language: one.path for one in folders} | ({languages.of(named).name: named} if named else {})
    if len(several) > 1:
        titles = " and ".join(languages.of(one).title for one in several)
        raise DeclarationError(f"What is named is of {titles}", remedy="Name what is of one language at a time.")
    return next(iter(several), "")


def _own_text(place: Place, texts: Mapping[str, str]) -> str:
    """The text of lapidar.toml as it is to be so far."""
    if (text := texts.get(DECLARATION_NAME)) is not None:
        return text
    return foreign.read_text(place.declaration) if place.declaration.is_file() else ""


def installed_by_hand(place: Place) -> list[Owner]:
    """The packages of a place's environment that its snapshot does not have: somebody installed them into it.

    Raises:
        LapidarError: there is no environment of the lockfile's snapshot.
    """
    environment, locked = Environment(place.environment), lockfile.read(place.lockfile)
    if other := compare.is_of(locked, environment):
        raise LapidarError(
            f"{place.environment} is not the environment of {place.lockfile.name}: {words.problem(other)}",
            remedy="lapidar restore",
        )
    found = compare.quickly(locked, environment)
    return [one.owner for one in found if one.problem is Problem.EXTRA_PACKAGE and one.owner]


def drop(
    place: Place,
    cache: Cache,
    names: Sequence[str],
    options: DeclareOptions,
    review: Review,
    reporter: Progress | None = None,
) -> tuple[Pinned, Restored | None]:
    """Need something no longer; see `need`."""
    members = own.Own(place)
    folders = {text: members.at(text) for text in names if own.is_path(text)}
    names = [folders[text].name if text in folders else text for text in names]
    language, said = language_of(place, _language_of(folders.values(), options.language), names)
    texts = dict(editing.dropped(editing.place_of(place.root, language), names, options.group))
    if place.declaration.is_file() or DECLARATION_NAME in texts:
        before = text = _own_text(place, texts)
        for name in names:
            text = editing.without_folder(text, language.name, language.versions.normalised(name))
        texts |= {DECLARATION_NAME: text} if text != before else {}
    return _change(
        place, cache, _Changed(texts, Cause.DROPPED, tuple(names), language, said), options, review, reporter
    )


class _Changed(Struct, frozen=True):
    """A changed declaration.

    Attributes:
        texts: by their names, files as they are to be.
        names: what was needed or dropped, as typed.
        said: why it was taken for its language, where nothing else spoke for that.
    """

    texts: Mapping[str, str]
    cause: Cause
    names: tuple[str, ...]
    language: Language
    said: str


def _change(
    place: Place,
    cache: Cache,
    change: _Changed,
    options: DeclareOptions,
    review: Review,
    reporter: Progress | None,
) -> tuple[Pinned, Restored | None]:
    previous = lockfile.read_if_there(place.lockfile)
    _require_declared(place, previous, change)
    declaration = reading.read(place, change.texts)
    own.Own(place).require_all(declaration)
    cache.require_writable()
    request = PinRequest(place, cache, declaration, previous, options.pinning, reporter or Silent())
    # Where the last need goes, what was captured of another language stays as it is.
    with pin.opened(request, only="" if declaration.needs else change.language.name) as pinning:
        warnings = [*([change.said] if change.said else ()), *_still_imported(place, cache, previous, change)]
        plan = replace(pinning.plan(), warnings=tuple(warnings))
        if not review(plan):
            return Pinned(plan), None
        deed = Deed(change.cause, " ".join(change.names), change.texts)
        pinned = pin.carry_out(pinning, plan, deed, options.judgement)
    wanted = pinned.snapshot if options.restore else None
    return pinned, again(place, cache, wanted, reporter) if wanted else None


def _require_declared(place: Place, locked: Snapshot | None, change: _Changed) -> None:
    """Raises: DeclarationError: what the lockfile has of the language was captured, and nothing of it is declared."""
    language = change.language
    if locked is None or language.name not in pin.captured_alone(locked, reading.read(place)):
        return
    remedy = "`lapidar start` declares what is captured there; then say this again."
    if place.declaration.is_file():  # then it is a project already
        asked = [one.name for one in locked.packages if one.language == language.name and one.asked_for]
        key = "packages" if language.name == languages.usual().name else language.name
        remedy = (
            f"Write {key} = {json.dumps(asked)} under [needs] of {place.declaration.name}, which are asked for there; "
            f"then say this again.{f' Or say whose it is: {change.said}.' if change.said else ''}"
        )
    raise DeclarationError(
        f"What the lockfile has of {language.title} was captured, and the project declares nothing of it",
        why="what is not declared would be dropped from it",
        remedy=remedy,
    )


def _still_imported(place: Place, cache: Cache, locked: Snapshot | None, change: _Changed) -> Iterator[str]:
    """What of the dropped names the project's source imports, a sentence each."""
    language = change.language
    if locked is None or change.cause is not Cause.DROPPED or language.name not in locked.languages:
        return
    asked = {language.versions.normalised(name) for name in change.names}
    surveyed = language.surveying.survey(place, None, cache, pinned=locked) if language.surveying else NOTHING
    for row in surveyed.rows:
        if row.module and row.distribution in asked:
            where = words.some((str(where) for where in row.places), _NAMED)
            yield f"{row.distribution} is still imported as {row.module}: {where}"
