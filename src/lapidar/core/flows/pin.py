"""Pin: declared needs -> exact packages that fit together -> cache and lockfile."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct, field
from msgspec.structs import replace

from lapidar.core import languages
from lapidar.core.cache.history import Cause, Deed, History
from lapidar.core.declaring import files, judge, own, writing
from lapidar.core.environment.folder import Environment
from lapidar.core.errors import DeclarationError, LapidarError
from lapidar.core.flows import runtimes
from lapidar.core.languages import protocol
from lapidar.core.languages.protocol import Language
from lapidar.core.layers.from_cache import with_lower_layers
from lapidar.core.pinning.deciding import standing
from lapidar.core.pinning.session import LanguagePinning, LanguagePlan, PinRequest
from lapidar.core.records import lockfile
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.declared import OverrideStanding
from lapidar.core.records.difference import PackageChange, kind_of
from lapidar.core.records.snapshot import LanguageParts, Snapshot
from lapidar.core.system import git

if TYPE_CHECKING:
    from lapidar.core.flows.rerun import Rerun

__all__ = [
    "Judgement",
    "PinPlan",
    "Pinned",
    "Pinning",
    "Review",
    "brought",
    "captured_alone",
    "carry_out",
    "opened",
    "pin",
    "unasked",
]


class PinPlan(Struct, frozen=True):
    """What would be pinned. Nothing is written yet but bytes in the cache.

    Attributes:
        by_language: the plan of each language.
        targets: for what it would be pinned, as people write it.
        warnings: about the change itself, a sentence each.
        conditions: those that change: what it is about, as it was, as it will be.
        runtimes: those that become others.
    """

    by_language: Mapping[str, LanguagePlan]
    targets: tuple[str, ...]
    warnings: tuple[str, ...] = ()
    conditions: tuple[tuple[str, str, str], ...] = ()
    runtimes: tuple[PackageChange, ...] = ()

    @property
    def is_change(self) -> bool:
        """Whether the lockfile becomes another, as far as that is known."""
        return bool(self.changes or self.conditions or self.runtimes)

    @property
    def changes(self) -> tuple[PackageChange, ...]:
        """Against the lockfile that there is, by language and name."""
        return tuple(change for plan in self.by_language.values() for change in plan.changes)

    @property
    def notes(self) -> tuple[str, ...]:
        """What is to be known before it is carried out, a sentence each."""
        return (*self.warnings, *(note for plan in self.by_language.values() for note in plan.notes))

    @property
    def builds(self) -> tuple[str, ...]:
        """What would be built from source, and why, a sentence each."""
        return tuple(told for plan in self.by_language.values() for told in plan.builds)

    @property
    def overrides(self) -> tuple[OverrideStanding, ...]:
        """How each override acts."""
        return tuple(one for plan in self.by_language.values() for one in plan.overrides)

    @property
    def packages(self) -> int:
        """How many packages were chosen."""
        return sum(len(plan.choices) for plan in self.by_language.values())

    @property
    def fetch_files(self) -> int:
        """How many files are to be fetched."""
        return sum(plan.fetch_files for plan in self.by_language.values())

    @property
    def fetch_bytes(self) -> int:
        """What is to be fetched, as far as the indexes tell."""
        return sum(plan.fetch_bytes for plan in self.by_language.values())


# Shows a plan, and says whether to carry it out.
Review = Callable[[PinPlan], bool]
# Shows what became of the recorded analyses in a trial, and says whether to go on.
Judgement = Callable[["list[Rerun]"], bool]


class Pinned(Struct, frozen=True):
    """What came of a pin.

    Attributes:
        snapshot: None where the plan was not carried out.
        changed: whether the lockfile is another than before.
        notes: about the layers below the packages, a sentence each.
        tried: the recorded analyses as they ran in a trial; empty where there was none.
    """

    plan: PinPlan
    snapshot: Snapshot | None = None
    changed: bool = False
    notes: tuple[str, ...] = field(default=())
    tried: tuple[Rerun, ...] = ()


class Pinning(Struct, frozen=True):
    """Sessions with the indexes of all languages of a project."""

    request: PinRequest
    sessions: Mapping[str, LanguagePinning]

    def of(self, language: str) -> LanguagePinning:
        """The session of a language."""
        return self.sessions[language]

    def plan(self, source: Path | None = None) -> PinPlan:
        """Resolve.

        Args:
            source: take the exact packages from this standard lock file instead.

        Raises:
            Conflict: the needs cannot be met together; it says why.
            IndexTrouble: an index cannot be used.
        """
        plans = {
            name: session.plan_of_file(source) if source else session.plan() for name, session in self.sessions.items()
        }
        previous = self.request.previous
        conditions = judge.conditions(self.request.declaration, previous) if previous else ()
        targets = tuple(str(session.target) for session in self.sessions.values())
        return PinPlan(plans, targets, conditions=tuple(conditions), runtimes=tuple(self._other_runtimes()))

    def _other_runtimes(self) -> Iterator[PackageChange]:
        previous = self.request.previous
        for name, session in self.sessions.items():
            before, after = previous.runtime_of(name) if previous else None, session.target.runtime
            if before and before.tree != after.tree:
                kind = kind_of(name, before.version, after.version, standing)
                yield PackageChange(name, "", kind, before.version, after.version)


@contextmanager
def opened(request: PinRequest, *, only: str = "") -> Iterator[Pinning]:
    """Begin sessions with the indexes, one for each language that the project needs something of, or has pinned.

    Args:
        only: the one language that is asked about.

    Raises:
        Conflict: a runtime is not one that the project declares.
        EnvironmentUnusable: there is none.
    """
    declaration, previous, options = request.declaration, request.previous, request.options
    declared = {need.language for need in declaration.needs}
    wanted = {only} if only else declared | (set(previous.languages) if previous else set())
    # What was captured of a language that nothing is declared of stays as it is, where another is declared.
    wanted -= captured_alone(previous, declaration) if declared and not only else set()
    wanted = wanted or {languages.usual().name}
    meant = wanted
    if options.runtime and len(wanted) > 1:
        meant = set(runtimes.languages_of(request, wanted))
    without = replace(request, options=replace(options, runtime=None))
    with ExitStack() as stack:
        stack.enter_context(request.cache.remembering())
        sessions = {
            language.name: stack.enter_context(
                _pinning_of(language).opened(request if language.name in meant else without)
            )
            for language in languages.every()
            if language.name in wanted
        }
        yield Pinning(request, sessions)


def _pinning_of(language: Language) -> protocol.Pinning:
    """Raises: LapidarError: there is no index of its packages."""
    if language.pinning is None:
        raise LapidarError(
            f"Packages of {language.title} cannot be pinned by this lapidar",
            why="it knows no index of them",
            remedy="Capture an environment that has them instead: lapidar capture FOLDER.",
        )
    return language.pinning


def unasked(plan: PinPlan) -> bool:
    """A `Review` by nobody: it is done."""
    return True


def captured_alone(previous: Snapshot | None, declaration: Declaration) -> set[str]:
    """The languages whose packages a lockfile has by capture, and that nothing is declared of."""
    declared = {need.language for need in declaration.needs}
    parts = previous.of_languages() if previous else ()
    return {one.runtime.language for one in parts if one.is_captured and one.runtime.language not in declared}


def pin(
    request: PinRequest,
    review: Review,
    *,
    source: Path | None = None,
    judgement: Judgement | None = None,
    only: str = "",
) -> Pinned:
    """Resolve what a project declares, keep it in the cache, and write the lockfile.

    Args:
        request: its lockfile is read here.
        review: is shown what would change, and says whether it is to be done.
        judgement: the recorded analyses are run with it first; it is shown what became of them, and says the last word.
        source: take exact packages from this standard lock file.
        only: the language of which something is pinned, be it nothing but its runtime.

    Raises:
        DeclarationError: the project declares no needs, and no language is named.
        Conflict, IndexTrouble, PackageBroken, NoSpace: nothing has changed for a reader.
    """
    if not (request.declaration.needs or source or only):
        raise DeclarationError(
            "The project declares no needs",
            remedy="`lapidar start` finds out what it needs; `lapidar need NAME` declares one.",
        )
    own.Own(request.place).require_all(request.declaration)
    request.cache.require_writable()
    lock, options = request.place.lockfile, request.options
    merged = lockfile.of_merge(lock)
    with opened(replace(request, previous=merged or lockfile.read_if_there(lock)), only=only) as pinning:
        plan = pinning.plan(source)
        if merged:
            plan = replace(plan, warnings=("lapidar.lock holds both sides of a merge: the pins of both are kept to",))
        if not review(plan):
            return Pinned(plan)
        renewed = options.renew_all or options.renew
        about = " ".join(sorted(package.name for package in options.renew))
        return carry_out(pinning, plan, Deed(Cause.RENEWED if renewed else Cause.PINNED, about), judgement)


def carry_out(pinning: Pinning, plan: PinPlan, deed: Deed, judgement: Judgement | None = None) -> Pinned:
    """Bring what a plan chose into the cache, and only then write: the declaration, and the lockfile last.

    Args:
        deed: what it is done for; its texts are the changed files of the declaration.
        judgement: see `pin`.
    """
    asked = pinning.request
    place, cache, previous = asked.place, asked.cache, asked.previous
    if deed.texts or plan.is_change:
        place.require_writable()
    snapshot, notes = brought(pinning, plan)
    trial: tuple[Rerun, ...] = ()
    if judgement and (previous is None or snapshot.snapshot != previous.snapshot):
        from lapidar.core.flows.trial import tried

        trial = tuple(tried(place, cache, snapshot, asked.reporter))
        if not judgement(list(trial)):
            return Pinned(plan, notes=notes, tried=trial)
    before = previous.snapshot if previous else ""
    texts = {**files.texts_of(place), **deed.texts}
    History(cache).add(snapshot, place, replace(deed, texts=texts, who=git.author(place.root)), parent=before)
    writing.write(place.root, deed.texts)
    changed = snapshot.snapshot != before or lockfile.of_merge(place.lockfile) is not None
    if changed:
        lockfile.write(snapshot, place.lockfile)
    return Pinned(plan, snapshot, changed, notes, trial)


def brought(pinning: Pinning, plan: PinPlan) -> tuple[Snapshot, tuple[str, ...]]:
    """Bring what a plan chose into the cache; nothing is written but there.

    Returns:
        The snapshot, and what is to be known of the layers below its packages, a sentence each.
    """
    asked = pinning.request
    renews = str(Environment(asked.place.environment).programs) if asked.options.renew_all else None
    bare = _snapshot(pinning, plan)
    return with_lower_layers(asked.cache, asked.declaration, bare, asked.previous, asked.reporter, renews)


def _snapshot(pinning: Pinning, plan: PinPlan) -> Snapshot:
    """Runtimes and packages. What is of a language that nothing is pinned of stays as it is."""
    records = [pinning.of(name).carry_out(one) for name, one in plan.by_language.items()]
    before = pinning.request.previous
    records += [
        LanguageParts(*parts)
        for parts in (before.of_languages() if before else ())
        if parts.runtime.language not in plan.by_language
    ]
    platform = next(iter(pinning.sessions.values())).platform
    return lockfile.identified(
        platform,
        [one.runtime for one in records],
        [package for one in records for package in one.packages],
        [rest for one in records for rest in one.remainders],
    )
