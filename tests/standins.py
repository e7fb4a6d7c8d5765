"""A project with an index beside it: the made-up universe that the tests of pinning share."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from lapidar.core.records import lockfile
from lapidar.standin.index import FileFacts, StandInIndex
from support import Case, make_environment, wheel

FACTS = {
    "newest-2.0-py3-none-any.whl": FileFacts(requires_python=">=3.99"),
    "sherdplot-2.1-py3-none-any.whl": FileFacts(uploaded="2025-06-01T10:00:00Z"),
    "glazemath-2.2-py3-none-any.whl": FileFacts(uploaded="2025-05-01T10:00:00Z"),
    "glazemath-2.3-py3-none-any.whl": FileFacts(uploaded="2025-09-01T10:00:00Z", withdrawn="wrong constants"),
}


def universe(folder: Path) -> None:
    """Glaze chemistry, made up: plots need maths, the new plots the old maths."""
    folder.mkdir()
    wheel(folder, "sherdplot", "1.9", requires=["glazemath<3", "clay"])
    wheel(folder, "sherdplot", "2.1", requires=["glazemath<2", "clay", "drawing>=1 ; extra == 'svg'"], extras=["svg"])
    for version in ("1.4", "2.2", "2.3", "3.0rc1"):
        wheel(folder, "glazemath", version)
    wheel(folder, "clay", "0.5", requires=["kiln-tools ; python_version < '3'"])
    wheel(folder, "drawing", "1.2")
    wheel(
        folder,
        "Kiln.Tools",
        "1.0",
        files={"kilns/__init__.py": ""},
        entry_points="[console_scripts]\nfire = kilns:print\n",
    )
    wheel(folder, "newest", "1.0")
    wheel(folder, "newest", "2.0", requires_python=">=3.99")
    wheel(folder, "newest", "3.0", tag="cp399-cp399-manylinux_2_17_x86_64")


class Pinning(Case):
    """A project, and a stand-in index that answers for as long as the test lasts."""

    venv: Path
    seconds = "20"  # that an answer may take, on a machine that is busy

    @classmethod
    def setUpClass(cls) -> None:
        place = Path(tempfile.mkdtemp(prefix="lapidar-test-venv-")).resolve()
        cls.addClassCleanup(shutil.rmtree, place, ignore_errors=True)
        cls.venv = place / "venv"
        make_environment(cls.venv)

    def setUp(self) -> None:
        super().setUp()
        self.files = self.folder / "index"
        universe(self.files)
        self.index = self.serve()
        self.variables |= {
            "VIRTUAL_ENV": str(self.venv),
            "LAPIDAR_INDEX": self.index.address,
            "LAPIDAR_TIMEOUT": self.seconds,
            "XDG_CONFIG_HOME": str(self.folder / "config"),
        }

    def serve(self, folder: Path | None = None, **settings: Any) -> StandInIndex:
        index = StandInIndex(folder or self.files, **{"facts": FACTS, **settings})
        index.start()
        self.addCleanup(index.stop)
        return index

    def declare(self, *needs: str, more: str = "") -> None:
        listed = "".join(f'    "{need}",  # as we want it\n' for need in needs)
        (self.project / "lapidar.toml").write_text(f"# kept\n[needs]\npackages = [\n{listed}]\n{more}")

    def locked(self) -> Mapping[str, str]:
        """Names and versions of the lockfile."""
        return {package.name: package.version for package in lockfile.read(self.lock).packages}

    def pin(self, *words: object, code: int = 0, **settings: Any) -> str:
        done = self.lapidar("pin", *words, code=code, **settings)
        return done.stdout if code == 0 else done.stderr

    def unchanged(self) -> dict[str, bytes]:
        """What must be the same after something that failed."""
        return {name: (self.project / name).read_bytes() for name in os.listdir(self.project) if name != ".lapidar"}
