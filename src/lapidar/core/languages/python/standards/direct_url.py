"""direct_url.json: where a distribution came from when it was not looked up in an index.

Direct URL data structure, https://packaging.python.org/en/latest/specifications/direct-url-data-structure/
"""

from __future__ import annotations

import json

from packaging.direct_url import ArchiveInfo, DirectUrl, DirectUrlValidationError, VcsInfo

from lapidar.core import foreign
from lapidar.core.net.addresses import without_credentials
from lapidar.core.records.snapshot import Origin

__all__ = ["origin", "parse", "reference", "render"]


def parse(text: str) -> DirectUrl:
    """Read a direct_url.json.

    Raises:
        ValueError: it is not what the standard says; names the key.
    """
    data = foreign.parsed(lambda: json.loads(text))
    try:
        return DirectUrl.from_dict(data) if isinstance(data, dict) else _no_object()
    except DirectUrlValidationError as error:
        raise ValueError(str(error)) from error


def _no_object() -> DirectUrl:
    raise ValueError("it is no object")


def origin(text: str) -> Origin:
    """The origin that a direct_url.json tells of; ``environment`` where it tells of a folder, or cannot be read.

    A folder's path never gets into an origin here: it is absolute, and another machine's.
    """
    unknown = Origin(kind="environment")
    try:
        found = parse(text)
    except ValueError:
        return unknown
    url = without_credentials(found.url)
    from_elsewhere = url if not url.startswith("file:") else None
    if found.vcs_info:
        return Origin(
            kind="version-control",
            url=from_elsewhere,
            system=found.vcs_info.vcs,
            commit=found.vcs_info.commit_id,
            revision=found.vcs_info.requested_revision or None,
            subdirectory=found.subdirectory or None,
        )
    if found.archive_info is not None:
        return Origin(
            kind="archive",
            url=from_elsewhere,
            file=url.rpartition("/")[2] or None,
            sha256=(found.archive_info.hashes or {}).get("sha256"),
            subdirectory=found.subdirectory or None,
        )
    return unknown


def reference(came_from: Origin) -> str:
    """A version-control origin as a direct reference (Version specifiers specification)."""
    part = f"#subdirectory={came_from.subdirectory}" if came_from.subdirectory else ""
    return f"{came_from.system or 'git'}+{came_from.url}@{came_from.commit}{part}"


def render(came_from: Origin) -> str | None:
    """The direct_url.json of an origin; None where the standard has none for it."""
    url, subdirectory = came_from.url, came_from.subdirectory
    if not url:
        return None
    if came_from.kind == "version-control" and came_from.commit:
        info = VcsInfo(vcs=came_from.system or "git", commit_id=came_from.commit, requested_revision=came_from.revision)
        found = DirectUrl(url=url, vcs_info=info, subdirectory=subdirectory)
    elif came_from.kind == "archive":
        archive = ArchiveInfo(hashes={"sha256": came_from.sha256} if came_from.sha256 else None)
        found = DirectUrl(url=url, archive_info=archive, subdirectory=subdirectory)
    else:
        return None
    return json.dumps(found.to_dict(), sort_keys=True)
