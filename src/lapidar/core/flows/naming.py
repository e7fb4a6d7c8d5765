"""Which package somebody means who types a name: two languages may each have one of it."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

from lapidar.core import languages, spelling
from lapidar.core.declaring import reading
from lapidar.core.errors import DeclarationError, LapidarError
from lapidar.core.languages.protocol import Language
from lapidar.core.place import Place
from lapidar.core.records import lockfile, words
from lapidar.core.records.declaration import Declaration, Need
from lapidar.core.records.owner import PackageName
from lapidar.core.records.snapshot import Snapshot

__all__ = ["known_in", "language_of", "need_of", "package_of"]


def known_in(declaration: Declaration | None, *snapshots: Snapshot | None) -> list[PackageName]:
    """The packages that a declaration names and that snapshots have."""
    declared = [need.key for need in declaration.needs] if declaration else []
    locked = [package.key for snapshot in snapshots if snapshot for package in snapshot.packages]
    return list(dict.fromkeys([*declared, *locked]))


def package_of(text: str, known: Collection[PackageName], language: str = "") -> PackageName:
    """The package that a typed name means.

    Args:
        known: those that there are.
        language: whose it is, by its name; "" where nobody said.

    Raises:
        LapidarError: there is none of that name, or in more than one language.
    """
    asked = [languages.of(language)] if language else languages.every()
    found = [key for one in asked if (key := PackageName(one.name, one.versions.normalised(text))) in known]
    if not found:
        own = [key.name for key in known if not language or key.language == language]
        whose = f" of {asked[0].title}" if language else ""
        near = {near: None for one in asked for near in spelling.near(one.versions.normalised(text), own)}
        raise LapidarError(
            f"There is no package {text}{whose} here", remedy=spelling.hint(near, "`lapidar show packages` lists them.")
        )
    _require_one(text, [key.language for key in found])
    return found[0]


def _require_one(text: str, names: Sequence[str]) -> None:
    """Raises: LapidarError: a name stands for packages of several languages."""
    if len(names) > 1:
        titles = " and of ".join(languages.of(name).title for name in names)
        raise LapidarError(
            f"{text} is a package of {titles}", remedy=f"Say which is meant: --language {' or '.join(names)}."
        )


def need_of(text: str, known: Collection[PackageName], otherwise: Language, language: str = "") -> Need:
    """The need that is typed as NAME or NAME with a range.

    Args:
        known: the packages that there are.
        otherwise: whose a name is that none of these has.
        language: whose it is, by its name; "" where nobody said.

    Raises:
        DeclarationError: it is no need.
        LapidarError: its name stands for packages of several languages.
    """
    if language:
        return languages.of(language).versions.parse_need(text)
    found = [need for one in languages.every() if (need := _parsed(one, text)) and need.key in known]
    _require_one(text, [need.language for need in found])
    return found[0] if found else otherwise.versions.parse_need(text)


def _parsed(language: Language, text: str) -> Need | None:
    try:
        return language.versions.parse_need(text)
    except DeclarationError:
        return None


def language_of(place: Place, named: str, names: Iterable[str] = ()) -> tuple[Language, str]:
    """The language that is meant where packages are named.

    Args:
        named: by its name; "" for that of the project: what it has locked, declares or has an index of, where that is
            one alone; else that which has packages of these names already; else the usual one.
        names: of packages, as typed; they may have ranges.

    Returns:
        The language, and a sentence where it was taken for want of a better reason; "" otherwise.

    Raises:
        LapidarError: there is none of that name; the packages are known in several.
        DeclarationError, LockfileError: the project's files cannot be read.
    """
    if named:
        return languages.of(named), ""
    declaration, locked = reading.read(place), lockfile.read_if_there(place.lockfile)
    there = set(locked.languages if locked else ())
    there |= {need.language for need in declaration.needs}
    there |= {index.language for index in declaration.indexes if index.language}
    if len(there) == 1:
        return languages.of(there.pop()), ""
    usual, typed, known = languages.usual(), list(names), known_in(declaration, locked)
    whose = [one.name for one in languages.every() if typed and all(_is_known(one, text, known) for text in typed)]
    _require_one(words.some(typed, 3), whose)
    if whose:
        return languages.of(whose[0]), ""
    others = ", ".join(sorted(there - {usual.name}))
    if not typed or not others:
        return usual, ""
    return usual, f"{words.some(typed, 3)} is taken for a package of {usual.title}; --language says another ({others})"


def _is_known(language: Language, text: str, known: Collection[PackageName]) -> bool:
    need = _parsed(language, text)
    return need is not None and need.key in known
