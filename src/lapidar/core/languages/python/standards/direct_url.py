"""direct_url.json: where a distribution came from when it was not looked up in an index.

Direct URL data structure, https://packaging.python.org/en/latest/specifications/direct-url-data-structure/
"""

from __future__ import annotations

import json
from typing import Any

from lapidar.core.net.addresses import without_credentials
from lapidar.core.records.snapshot import Origin

__all__ = ["origin", "reference", "render"]


def origin(text: str) -> Origin:
    """The origin that a direct_url.json tells of; ``environment`` where it tells of a folder or of nothing.

    A folder's path never gets into an origin here: it is absolute, and another machine's.
    """
    unknown = Origin(kind="environment")
    try:
        data: Any = json.loads(text)
    except ValueError:
        return unknown
    if not isinstance(data, dict) or not isinstance(data.get("url"), str):
        return unknown
    url = without_credentials(data["url"])
    version_control = data.get("vcs_info")
    if isinstance(version_control, dict) and isinstance(version_control.get("commit_id"), str):
        return Origin(
            kind="version-control",
            url=url if not url.startswith("file:") else None,
            system=_text(version_control.get("vcs")),
            commit=version_control["commit_id"],
            revision=_text(version_control.get("requested_revision")),
            subdirectory=_text(data.get("subdirectory")),
        )
    archive = data.get("archive_info")
    if isinstance(archive, dict):
        name = url.rpartition("/")[2]
        return Origin(
            kind="archive",
            url=url if not url.startswith("file:") else None,
            file=name or None,
            sha256=_archive_sha256(archive),
            subdirectory=_text(data.get("subdirectory")),
        )
    return unknown


def reference(came_from: Origin) -> str:
    """A version-control origin as a direct reference (Version specifiers specification)."""
    part = f"#subdirectory={came_from.subdirectory}" if came_from.subdirectory else ""
    return f"{came_from.system or 'git'}+{came_from.url}@{came_from.commit}{part}"


def _text(value: Any) -> str | None:
    return value if isinstance(value, str) and value else None


def _archive_sha256(archive: dict[str, Any]) -> str | None:
    hashes = archive.get("hashes")
    if isinstance(hashes, dict) and isinstance(hashes.get("sha256"), str):
        return str(hashes["sha256"])
    old_form = archive.get("hash")
    if isinstance(old_form, str) and old_form.startswith("sha256="):
        return old_form.removeprefix("sha256=")
    return None


def render(came_from: Origin) -> str | None:
    """The direct_url.json of an origin; None where the standard has none for it."""
    data: dict[str, Any]
    if not came_from.url:
        return None
    if came_from.kind == "version-control":
        info = {"vcs": came_from.system, "commit_id": came_from.commit}
        if came_from.revision:
            info["requested_revision"] = came_from.revision
        data = {"url": came_from.url, "vcs_info": info}
    elif came_from.kind == "archive":
        hashes = {"hashes": {"sha256": came_from.sha256}} if came_from.sha256 else {}
        data = {"url": came_from.url, "archive_info": hashes}
    else:
        return None
    if came_from.subdirectory:
        data["subdirectory"] = came_from.subdirectory
    return json.dumps(data, sort_keys=True)
