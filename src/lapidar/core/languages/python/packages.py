"""The packages layer: every distribution an environment sees, and the files that belong to none."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import unquote, urlsplit

from msgspec import Struct, field
from msgspec.structs import replace
from packaging.utils import canonicalize_name

from lapidar.core import decoding, foreign
from lapidar.core.cache.stowing import Draft, FileDraft, RewrittenDraft, Stowed
from lapidar.core.environment import launchers, marker, reserved, walk
from lapidar.core.environment.explained import Explained
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.walk import Found
from lapidar.core.errors import PackageBroken, unreadable
from lapidar.core.languages.python import editable, placing, shipped, startup
from lapidar.core.languages.python.placing import SCRIPTS
from lapidar.core.languages.python.probe import Answer
from lapidar.core.languages.python.standards import direct_url, entry_points, layout, record
from lapidar.core.languages.python.standards.metadata import Metadata
from lapidar.core.place import Place
from lapidar.core.records.owner import Layer, Owner
from lapidar.core.records.snapshot import Origin, Package, PackageFacts
from lapidar.core.system import owners

__all__ = ["PackageFound", "PackagesFound", "observe", "site_paths"]

_SITE_SUFFIX = re.compile(r"/(?:local/)?lib(?:64)?/python[0-9.]*[a-z]?/(?:site|dist)-packages$")
_PRIVATE = marker.PRIVATE + "/"
_METADATA_SUFFIXES = (".dist-info", ".egg-info")  # in the order of preference


class SiteFolder(Struct, frozen=True):
    """A folder of packages: where it is, and the prefix it belongs to.

    Attributes:
        files: the files in it: path -> is a link.
        tops: the same paths by the first name below the folder.
    """

    path: str
    prefix: str
    files: dict[str, bool]
    tops: dict[str, list[str]]


class PackageFound(Struct):
    """A distribution as found.

    Attributes:
        recorded: what its RECORD says of its files: tree path -> sha256 in hex.
        gone: files that its RECORD lists and that are not there.
        facts: what a restored environment says of it.
    """

    metadata: Metadata
    drafts: list[Draft]
    origin: Origin
    requested: bool
    facts: PackageFacts
    recorded: dict[str, str] = field(default_factory=dict)
    gone: list[str] = field(default_factory=list)

    @property
    def owner(self) -> Owner:
        return Owner(Layer.PACKAGES, "python", self.metadata.name, self.metadata.version)

    def record(self, stowed: Stowed, requires: tuple[str, ...], *, wanted: bool) -> Package:
        """The record, once its files are stowed.

        Args:
            wanted: whether somebody asked for it by name, for all that is known.
        """
        return Package(
            language="python",
            name=self.metadata.name,
            version=self.metadata.version,
            tree=stowed.tree.digest,
            files=len(stowed.tree),
            bytes=stowed.tree.total_bytes,
            requires=requires,
            wanted=wanted and not self.facts.only_groups,
            origin=self.origin,
            groups=self.facts.groups,
            extras=self.facts.extras,
            built_with=self.facts.built_with,
        )

    def edited(self, stowed: Stowed) -> list[str]:
        """The files that are not what its RECORD says: edited after installation."""
        return [
            entry.path.partition("/")[2]
            for entry in stowed.tree
            if self.recorded.get(entry.path, entry.content) != entry.content
        ]


class PackagesFound(Struct):
    """All packages of an environment as found.

    Attributes:
        claimed: the absolute paths that belong to a package.
        remainder: the drafts of what belongs to none.
        warnings: what the user should know, one sentence each.
        notes: what was left out.
        follows_from_more: whether any of it follows from more than the files of packages: the operating system's
            lists, folders elsewhere.
        statuses: by their paths, those of files that were asked for on the way.
    """

    packages: list[PackageFound] = field(default_factory=list)
    claimed: set[str] = field(default_factory=set)
    remainder: list[Draft] = field(default_factory=list)
    warnings: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    follows_from_more: bool = False
    statuses: dict[str, os.stat_result] = field(default_factory=dict)


def observe(answer: Answer, place: Place, *, skip_outside: bool = False) -> PackagesFound:
    """Find all packages that an environment sees.

    Args:
        answer: what its interpreter said.
        place: tells an editable package of the project from one outside.
        skip_outside: leave out files that a RECORD lists outside the environment, instead of refusing.

    Raises:
        PackageBroken: a package's own records cannot be read, or point outside the environment.
    """
    return _Observer(answer, place, skip_outside).run()


def site_paths(answer: Answer) -> list[str]:
    """The folders of packages that an interpreter looks into, in the order of its path."""
    paths = [path for path in answer.path if path not in answer.stdlib and _is_site(path)]
    if answer.user_folder and answer.user_folder not in paths:
        # A plain start has it after the virtual environment's own folder and before those of the base.
        own = [path for path in paths if answer.prefix != answer.base_prefix and path.startswith(answer.prefix + "/")]
        paths.insert(len(own), answer.user_folder)
    return list(dict.fromkeys(paths))


def _site_folders(answer: Answer, odd: list[str]) -> list[SiteFolder]:
    folders = []
    for path in site_paths(answer):
        files: dict[str, bool] = {}
        tops: dict[str, list[str]] = {}
        for file in walk.walk(path, _no_bytecode, odd.append):
            files[file.source] = file.link
            tops.setdefault(file.path.partition("/")[0], []).append(file.source)
        folders.append(SiteFolder(path, _prefix_of(path), files, tops))
    return folders


def _is_site(path: str) -> bool:
    if not os.path.isdir(path):
        return False
    return bool(_SITE_SUFFIX.search(path)) or any(name.endswith(".dist-info") for name in os.listdir(path))


def _prefix_of(site: str) -> str:
    matched = _SITE_SUFFIX.search(site)
    return site[: matched.start()] if matched else site


def _no_bytecode(path: str, folder: bool) -> bool:
    return not (folder and path.endswith("__pycache__"))


class _Distribution(Struct, frozen=True):
    """A distribution's metadata, where it lies, and how it was read; `link` is the egg link that leads to it."""

    site: SiteFolder
    path: str
    metadata: Metadata
    link: str = ""

    def text(self, name: str) -> str | None:
        """A file beside the metadata."""
        return _text_of(f"{self.path}/{name}")


def _text_of(path: str) -> str | None:
    try:
        return foreign.read_text(path, errors="replace")
    except OSError:
        return None


class _Observer:
    def __init__(self, answer: Answer, place: Place, skip_outside: bool) -> None:
        self.answer = answer
        self.place = place
        self.skip_outside = skip_outside
        odd: list[str] = []
        self.sites = _site_folders(answer, odd)
        self.folders = [site.path for site in self.sites]
        self.placed = Environment(Path(answer.prefix)).manifest  # of a restored environment
        self.shipped: dict[str, list[str]] = {}  # for the operating system's packages, all their files
        self.linked: set[str] = set()  # the folders that egg links lead to
        self.named: dict[str, list[str]] = {}  # and the data that their modules name
        self.found = PackagesFound()
        self.found.warnings += [f"{path} is a pipe, a socket or a device, and was passed over" for path in odd]
        self.explained = Explained((answer.prefix, answer.base_prefix, str(place.root), *self.folders, *answer.stdlib))
        self.interpreters = _interpreters(answer)

    def run(self) -> PackagesFound:
        found, hidden = self._distributions()
        self.shipped = owners.here().files_beside(one.path for one in (*found, *hidden))
        self.named = shipped.named({one.path: self.shipped[one.path] for one in found if one.path in self.shipped})
        self.found.follows_from_more = bool(self.shipped)
        found = self._with_needs(found)
        for one in hidden:
            self.found.claimed.update(path for path, _ in self._listed(one))
        # Those with a list of their files come first, so that what is left can be told apart for the others.
        found.sort(key=lambda one: (one.text("RECORD") is None, one.metadata.name))
        for one in found:
            self.found.packages.append(self._package(one))
        self.found.packages.sort(key=lambda package: package.metadata.name)
        self._remainder()
        self._report_gone()
        return self.found

    # ---- which distributions there are

    def _with_needs(self, found: list[_Distribution]) -> list[_Distribution]:
        """The distributions, those whose own metadata does not say what they need with what else does."""
        name_of = {one.path: one.metadata.name for one in found}
        told = shipped.needs([path for path in self.shipped if path in name_of], self.folders)
        result = []
        for one in found:
            needs = {name_of[path] for path in told.get(one.path, ())}
            if facts := self._kept(one):
                needs.update(facts.requires)
            if needs and not one.path.endswith(".dist-info"):
                requires = tuple(dict.fromkeys([*one.metadata.requires, *sorted(needs)]))
                one = replace(one, metadata=replace(one.metadata, requires=requires))
            result.append(one)
        return result

    def _distributions(self) -> tuple[list[_Distribution], list[_Distribution]]:
        """Those that an import finds, and those that are hidden by them."""
        hidden = []
        chosen: dict[str, _Distribution] = {}
        for site in self.sites:
            for one in self._in_site(site):
                name = one.metadata.name
                if name not in chosen:
                    chosen[name] = one
                elif chosen[name].site is not site:
                    self.found.notes.append(
                        f"{name} {one.metadata.version} in {os.path.basename(site.prefix) or '/'}: hidden by "
                        f"{name} {chosen[name].metadata.version}, which comes first on the path"
                    )
                    hidden.append(one)
        return list(chosen.values()), hidden

    def _in_site(self, site: SiteFolder) -> Iterator[_Distribution]:
        names = sorted(os.listdir(site.path))
        for suffix in _METADATA_SUFFIXES:
            for name in names:
                if name.endswith(suffix) and not name.startswith("~"):
                    one = self._read(site, f"{site.path}/{name}")
                    if one:
                        yield one
        for name in names:
            if name.endswith(".egg-link"):
                yield from self._linked(site, f"{site.path}/{name}")

    def _read(self, site: SiteFolder, path: str) -> _Distribution | None:
        for candidate in (f"{path}/METADATA", f"{path}/PKG-INFO", path):
            if not os.path.isfile(candidate):
                continue
            try:
                metadata = Metadata.parse(
                    foreign.read_text(candidate, errors="replace", most=foreign.MOST_METADATA_BYTES)
                )
            except ValueError as error:
                self.found.warnings.append(
                    f"{os.path.basename(path)} is no package that can be read ({error}); its files are kept as "
                    "files of no package"
                )
                return None
            except OSError as error:
                raise unreadable(candidate, error) from error
            return _Distribution(site, path, metadata)
        return None

    def _linked(self, site: SiteFolder, path: str) -> Iterator[_Distribution]:
        """What an egg link leads to: its metadata lies beside its code."""
        folder = editable.linked(path)
        for name in sorted(os.listdir(folder)) if folder else ():
            if name.endswith(".egg-info") and (one := self._read(site, f"{folder}/{name}")):
                self.linked.add(str(folder))
                yield replace(one, link=path)
                return

    # ---- which files one has

    def _listed(self, one: _Distribution) -> list[tuple[str, str]]:
        """The absolute paths of a distribution's files, each with the sha256 that its RECORD gives, if any."""
        if one.link:
            return [(one.link, "")]
        # The operating system's list comes first: its packages are changed after their RECORD was written.
        owned = self.shipped.get(one.path)
        if owned is not None:
            own = [one for one in owned if self._is_importable(one) or "/bin/" in one or _is_own_data(one)]
            return [(path, "") for path in dict.fromkeys([*own, *self.named.get(one.path, ())])]
        text = one.text("RECORD")
        if text is not None:
            return self._from_record(one, text)
        text = one.text("installed-files.txt")
        if text is not None:
            return [(os.path.normpath(f"{one.path}/{line}"), "") for line in text.splitlines() if line]
        owner = Owner(Layer.PACKAGES, "python", one.metadata.name, one.metadata.version)
        placed = self.placed.listing.paths_of(owner) if self.placed else []
        if placed:
            return [(f"{self.answer.prefix}/{path}", "") for path in placed if not path.startswith(_PRIVATE)]
        return [(path, "") for path in self._by_names(one)]

    def _from_record(self, one: _Distribution, text: str) -> list[tuple[str, str]]:
        try:
            rows = record.parse(text)
        except ValueError as error:
            raise PackageBroken(
                f"The RECORD of {one.metadata.name} {one.metadata.version} cannot be read",
                why=str(error),
                remedy="Reinstall the package, then capture again.",
            ) from error
        site = one.site.path
        listed = []
        for path, sha256, _ in rows:
            if path.startswith("/") or "./" in path or "//" in path:
                listed.append((os.path.normpath(os.path.join(site, path)), sha256))
            else:
                listed.append((f"{site}/{path}", sha256))
        return listed

    def _is_importable(self, path: str) -> bool:
        return any(path.startswith(site.path + "/") for site in self.sites)

    def _by_names(self, one: _Distribution) -> Iterator[str]:
        """Without any list: what the names of its importable modules lead to, and nobody else has claimed."""
        self.found.warnings.append(
            f"{one.metadata.name} has no list of its files (RECORD); what its module names lead to was taken"
        )
        names = (one.text("top_level.txt") or one.metadata.name.replace("-", "_")).split()
        for path in one.site.files:
            below = path[len(one.site.path) + 1 :]
            top = below.partition("/")[0]
            named = path.startswith(one.path) or top in names or top.split(".")[0] in names
            if named and path not in self.found.claimed:
                yield path

    # ---- one package

    def _package(self, one: _Distribution) -> PackageFound:
        listed = self._listed(one)
        wired = editable.find(one.site.path, (path for path, _ in listed))
        if one.link:
            folder = os.path.dirname(one.path)
            wired = editable.Editable((folder,), (), frozenset((one.link,)))
        self.found.follows_from_more |= bool(wired)
        package = PackageFound(
            one.metadata, [], self._origin(one, wired), self._requested(one), self._kept(one) or PackageFacts()
        )
        declared = entry_points.scripts(one.text("entry_points.txt") or "")
        found: list[Found] = []
        for path, sha256 in listed:
            self.found.claimed.add(path)
            if wired and path in wired.wiring:
                continue
            if layout.is_bytecode(path) or (path.endswith(".pyc") and path[:-1] in one.site.files):
                continue
            if self.placed and launchers.is_behind_starter(path):
                continue
            tree_path = self._tree_path(one, path)
            if tree_path is None:
                continue
            if self.placed and os.path.isfile(real := launchers.behind_starter(path)):
                self.found.claimed.add(real)
                found.append(Found(tree_path, real, False))
                continue
            link = one.site.files.get(path)
            if link is None:
                if not os.path.lexists(path):
                    package.gone.append(path)
                    continue
                link = os.path.islink(path)
            if tree_path.startswith("prefix/bin/") and not os.path.isdir(path):
                self._script(package, path, tree_path, link, sha256, declared)
                continue
            found.append(Found(tree_path, path, link))
            if sha256:
                package.recorded[tree_path] = sha256
        if one.link:
            info = os.path.basename(one.path)
            package.drafts += [FileDraft(f"site/{info}/{file.path}", file.source) for file in walk.walk(one.path)]
        if wired and package.origin.kind != "local":
            self._stow_editable(package, wired, one)
        self._claim_metadata(one)
        own = f"{self.place.root.resolve()}/{package.origin.path}/" if package.origin.live else None
        # Of a package of the project's own the links to its sources are its files.
        drafted = walk.drafts(
            self._first_on_the_path(found),
            may_take=lambda real: bool(own and real.startswith(own)) or self.explained(real),
        )
        self._say_foreign(drafted)
        package.drafts += drafted.drafts
        package.gone += drafted.broken
        return package

    def _first_on_the_path(self, found: list[Found]) -> list[Found]:
        """Of files that two folders of packages have at one place (Debian ships such), the one that is imported."""
        chosen: dict[str, Found] = {}
        for one in found:
            other = chosen.setdefault(one.path, one)
            if other is not one and self._rank(one.source) < self._rank(other.source):
                chosen[one.path] = one
        return list(chosen.values())

    def _rank(self, path: str) -> int:
        folders = [at for at, site in enumerate(self.sites) if path.startswith(site.path + "/")]
        return folders[0] if folders else len(self.sites)

    def _requested(self, one: _Distribution) -> bool:
        if self.placed and one.metadata.name in self.placed.listing.wanted.get("python", ()):
            return True
        return one.text("REQUESTED") is not None

    def _claim_metadata(self, one: _Distribution) -> None:
        """Everything in the metadata folder is the package's or the installer's, whether RECORD lists it or not."""
        self.found.claimed.update(one.site.tops.get(os.path.basename(one.path), ()))

    def _tree_path(self, one: _Distribution, path: str) -> str | None:
        """Where an installed file is in the package tree; None where it is not part of it."""
        for folder in (one.site.path, *self.folders):
            if path.startswith(folder) and path[len(folder) :].startswith("/"):
                below = path[len(folder) + 1 :]
                return None if layout.is_installers_own(below) else f"site/{below}"
        for prefix in (one.site.prefix, self.answer.prefix):
            if path.startswith(prefix.rstrip("/") + "/"):
                below = path[len(prefix.rstrip("/")) + 1 :]
                reserved.refuse(f"The package {one.metadata.name} {one.metadata.version}", below)
                return "prefix/" + self._neutral_headers(one, below)
        if one.path in self.named and path.startswith(shipped.SETTINGS):
            return f"prefix{path}"
        if self.skip_outside:
            self.found.notes.append(f"{path}: {one.metadata.name} lists it outside the environment")
            return None
        raise PackageBroken(
            f"The RECORD of {one.metadata.name} {one.metadata.version} lists a file outside the environment",
            why=path,
            remedy="Reinstall the package, or leave such files out with --skip-outside.",
        )

    def _neutral_headers(self, one: _Distribution, below: str) -> str:
        neutral = layout.neutral_headers(below)
        parts = neutral.split("/")
        # The folder is called as the installer was asked for the package, "Greenlet" or "greenlet".
        if neutral.startswith("include/python/") and canonicalize_name(parts[2]) == one.metadata.name:
            parts[2] = one.metadata.name
        return "/".join(parts)

    def _script(
        self,
        package: PackageFound,
        path: str,
        tree_path: str,
        link: bool,
        sha256: str,
        declared: list[entry_points.Script],
    ) -> None:
        """A file in bin/: generated from a declared entry point, a script of the interpreter, or something else."""
        real = _restored_script(path) or path
        try:
            data = foreign.read(real)
        except FileNotFoundError:
            package.gone.append(path)
            return
        except OSError as error:
            raise unreadable(path, error) from error
        if entry_points.is_launch_script(data, declared):
            return
        if real != path:
            package.drafts.append(FileDraft(tree_path, real))
            return
        neutral = layout.neutral_script(data, self.interpreters)
        package.drafts.append(
            FileDraft(tree_path, path) if neutral is None else RewrittenDraft(tree_path, path, neutral)
        )
        if sha256 and neutral is None:
            package.recorded[tree_path] = sha256

    # ---- where it came from

    def _origin(self, one: _Distribution, wired: editable.Editable | None) -> Origin:
        kept = self._kept_origin(one)
        text = one.text("direct_url.json")
        came_from = kept or self._told_origin(one, text)
        if wired:
            folders = [self.place.relative(Path(folder)) for folder in wired.folders]
            inside = tuple(folder for folder in folders if folder is not None)
            if len(inside) == len(folders):
                path = self._source_folder(text) or (kept.path if kept else None) or inside[0]
                return Origin(kind="local", path=path, folders=inside)
            return Origin(kind="environment")
        if came_from.kind == "environment" and (source := self._source_folder(text)):
            return Origin(kind="local", path=source)
        return came_from

    def _told_origin(self, one: _Distribution, text: str | None) -> Origin:
        if text is None:
            return Origin(kind="environment")
        try:
            direct_url.parse(text)
        except ValueError as error:
            self.found.notes.append(
                f"{one.metadata.name}: its direct_url.json is not what the standard says ({error}); "
                "where the package came from is not known"
            )
        return direct_url.origin(text)

    def _kept_origin(self, one: _Distribution) -> Origin | None:
        """In a restored environment: the origin that was recorded when it was captured."""
        kept = self._kept(one)
        return kept.origin if kept and kept.origin.kind != "environment" else None

    def _kept(self, one: _Distribution) -> PackageFacts | None:
        text = one.text(layout.ORIGIN_FILE)
        if text is None and self.placed and os.path.isfile(one.path):
            text = _text_of(f"{self.answer.prefix}/{placing.facts_of(one.metadata.name)}")
        try:
            return foreign.parsed(lambda: decoding.from_json(text, PackageFacts)) if text else None
        except ValueError:
            return None

    def _source_folder(self, text: str | None) -> str | None:
        """The folder of the project that a package was installed from, if it was."""
        try:
            told = direct_url.parse(text) if text else None
        except ValueError:
            return None
        return self.place.relative(Path(unquote(urlsplit(told.url).path))) if told and told.dir_info else None

    def _stow_editable(self, package: PackageFound, wired: editable.Editable, one: _Distribution) -> None:
        drafts = editable.stow_drafts(wired, (one.text("top_level.txt") or "").split())
        package.drafts += drafts
        self.found.warnings.append(
            f"{package.metadata.name} is installed in editable form from outside the project "
            f"({', '.join(wired.folders)}): its {len(drafts)} files were stowed as they are now"
        )

    # ---- what belongs to nobody

    def _remainder(self) -> None:
        taken = set()
        found = []
        for site in self.sites:
            for path, link in site.files.items():
                below = path[len(site.path) + 1 :]
                if path in self.found.claimed or below in taken or self._leads_out(path, below):
                    continue
                if self.placed and below == startup.PATH_FILE:
                    continue
                if below.endswith(".pyc") and path[:-1] in site.files:
                    continue
                taken.add(below)
                found.append(Found(f"site/{below}", path, link))
        drafted = walk.drafts(found, may_take=self.explained)
        self._say_foreign(drafted)
        self.found.remainder += drafted.drafts
        self.found.notes += [f"{path}: the link leads nowhere" for path in drafted.broken]

    def _say_foreign(self, drafted: walk.Drafted) -> None:
        for path, real in drafted.foreign.items():
            self.found.follows_from_more = True
            self.found.warnings.append(
                f"{path} is a link to {real}, which no package or runtime explains: it was left out. Put the file "
                "itself there, or into the project"
            )

    def _leads_out(self, path: str, below: str) -> bool:
        """Whether a loose .pth file adds folders outside the environment, which no snapshot can hold."""
        if not below.endswith(".pth") or "/" in below:
            return False
        every = list(editable.added_folders(path))
        folders = [folder for folder in every if folder not in self.linked]
        if every and not folders:
            # All that leads out is an egg link's, and told of with its package.
            if rest := editable.other_lines(path):
                self.found.remainder.append(RewrittenDraft(f"site/{below}", path, rest))
            return True
        if folders:
            self.found.follows_from_more = True
            rest = editable.other_lines(path)
            if rest:
                self.found.remainder.append(RewrittenDraft(f"site/{below}", path, rest))
            left = "its other lines were kept" if rest else "the file was left out"
            self.found.warnings.append(
                f"{below} adds {', '.join(folders)} to the path; {left}, and what is in that folder is not captured. "
                "Install it as a package, or move it into the project"
            )
        return bool(folders)

    def _report_gone(self) -> None:
        for package in self.found.packages:
            if package.gone:
                first = os.path.basename(package.gone[0])
                more = f" and {len(package.gone) - 1} more" if len(package.gone) > 1 else ""
                self.found.warnings.append(
                    f"{package.metadata.name}: {first}{more} listed in its RECORD, but not there; captured without"
                )


def _is_own_data(path: str) -> bool:
    """Whether a file of a package is data; settings are taken only where a module names them."""
    return shipped.is_data(path) and not path.startswith(shipped.SETTINGS)


def _interpreters(answer: Answer) -> frozenset[bytes]:
    """Every path that stands for the environment's interpreter in the first line of a script."""
    names = ("python", "python3", f"python{answer.short_version}")
    paths = {answer.executable, answer.base_executable, answer.process}
    for prefix in (answer.prefix, answer.base_prefix):
        paths.update(f"{prefix}/bin/{name}" for name in names)
    return frozenset(os.fsencode(path) for path in paths)


def _restored_script(path: str) -> str | None:
    """In a restored environment: where the bytes of a script lie that bin/ only has a starter of."""
    folder, name = os.path.split(path)
    real = f"{os.path.dirname(folder)}/{SCRIPTS}/{name}"
    return real if os.path.isfile(real) else None
