"""git: asked about a folder's own repository, whatever repository the caller's variables name."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path
from unittest import mock

from lapidar.core.flows import choose
from lapidar.core.languages import source_trees
from lapidar.core.place import Place
from support import InFolder

WHO = ["-c", "user.name=x", "-c", "user.email=x@packages.example"]


def git(folder: Path, *words: str) -> str:
    plain = {name: text for name, text in os.environ.items() if not name.startswith("GIT_")}
    done = subprocess.run(["git", *WHO, *words], cwd=folder, env=plain, check=True, capture_output=True, text=True)
    return done.stdout.strip()


def repository(folder: Path, text: str) -> Path:
    folder.mkdir()
    git(folder, "init", "-q", "-b", "main")
    (folder / "lapidar.lock").write_text(text)
    git(folder, "add", ".")
    git(folder, "commit", "-q", "-m", text)
    return folder


class InAHook(InFolder):
    """As git starts a hook: with variables that name the user's repository."""

    def setUp(self) -> None:
        super().setUp()
        self.mine = repository(self.root / "mine", "mine")
        self.theirs = repository(self.root / "theirs", "theirs")
        hook = {
            "GIT_DIR": str(self.mine / ".git"),
            "GIT_WORK_TREE": str(self.mine),
            "GIT_INDEX_FILE": str(self.mine / ".git" / "index"),
            "GIT_PREFIX": "",
            "GIT_CONFIG_COUNT": "1",
            "GIT_CONFIG_KEY_0": "core.worktree",
            "GIT_CONFIG_VALUE_0": str(self.mine),
        }
        patched = mock.patch.dict(os.environ, hook)
        patched.start()
        self.addCleanup(patched.stop)

    def test_a_checkout_leaves_the_users_repository_alone(self) -> None:
        before = (
            git(self.mine, "symbolic-ref", "HEAD"),
            git(self.mine, "rev-parse", "HEAD"),
            git(self.mine, "status", "-s"),
        )
        wanted = source_trees.parse_version_control(f"git+file://{self.theirs}")
        assert wanted
        commit = source_trees.checked_out(wanted, self.root / "checkout")
        self.assertEqual(commit, git(self.theirs, "rev-parse", "HEAD"))
        self.assertEqual((self.root / "checkout" / "lapidar.lock").read_text(), "theirs")
        after = (
            git(self.mine, "symbolic-ref", "HEAD"),
            git(self.mine, "rev-parse", "HEAD"),
            git(self.mine, "status", "-s"),
        )
        self.assertEqual(after, before)

    def test_a_revision_is_that_of_the_project(self) -> None:
        self.assertEqual(choose.of_revision(Place.of_project(self.theirs), "main", "lapidar.lock"), b"theirs")


class SourceFolders(InFolder):
    def test_what_a_folder_is_follows_from_every_file_that_may_be_built(self) -> None:
        source = self.root / "source"
        (source / "kilns" / "build").mkdir(parents=True)
        (source / "kilns" / ".data").mkdir()
        (source / "kilns" / "build" / "__init__.py").write_text("1")
        (source / "kilns" / ".data" / "wares").write_text("1")
        (source / "build" / "lib").mkdir(parents=True)

        def digest() -> str:
            copy = source_trees.copied(source, self.root / os.urandom(4).hex())
            return source_trees.digest_of(copy)

        before = digest()
        self.assertEqual(digest(), before)
        for path in ("kilns/build/__init__.py", "kilns/.data/wares"):
            (source / path).write_text("2")
            self.assertNotEqual(digest(), before, path)
            (source / path).write_text("1")
        (source / "kilns" / "__init__.py").write_text("")
        (source / "kilns" / "__init__.py").chmod(0o755)
        executable = digest()
        (source / "kilns" / "__init__.py").chmod(0o644)
        self.assertNotEqual(digest(), executable)
        (source / "kilns" / "__init__.py").unlink()
        for left_behind in ("build/lib/kilns.py", "kilns/__pycache__/a.pyc", "kilns.egg-info/PKG-INFO"):
            (source / left_behind).parent.mkdir(exist_ok=True)
            (source / left_behind).write_text("left behind")
        (source / "venv").mkdir()
        (source / "venv" / "pyvenv.cfg").write_text("")
        self.assertEqual(digest(), before)
