"""What is drawn: with fonts that are found by their families, plugins beside programs, and data that the packages of the
operating system keep elsewhere."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import subprocess
from pathlib import Path

from commands.test_below import Below
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import Entry
from lapidar.core.layers import addons
from lapidar.core.system import fonts
from roots import bare_root, run_in, skip_loudly
from support import PROGRAM, WHEELS, InFolder

GRAPH = 'digraph { label="Sherds" fontname="Helvetica"; kiln -> sherd [label="glaze" fontname="serif"] }\n'
PLOT = """
import hashlib, sys
import matplotlib
matplotlib.use("Agg")
import matplotlib.pyplot as plt
plt.plot([1, 2, 3])
plt.title("Kiln 7")
plt.savefig("/tmp/sherd.png", metadata={"Software": None})
print(hashlib.sha256(open("/tmp/sherd.png", "rb").read()).hexdigest())
print(matplotlib.get_data_path())
"""
LISTED = """
import json
from matplotlib import font_manager
print(json.dumps([font_manager.findSystemFonts(), font_manager._load_fontmanager.__module__]))
"""


class Fonts(Below):
    def test_a_graph_on_a_bare_root(self) -> None:
        """A program with plugins beside it, a list of these that installing it made, and the system's fonts."""
        if shutil.which("dot") is None:
            skip_loudly(self, "there is no dot here (Debian's graphviz)")
        root = bare_root(self, self.folder / "bare")
        self.declare('[needs]\ntools = ["dot"]\n')
        snapshot = self.captured(self.environment())
        before = self.lock.read_bytes()
        (tool,) = snapshot.tools
        self.assertIn("config6a", {Path(entry.path).name for entry in self.cache_tree(tool.tree)})
        self.lapidar("restore", "--into", root / "home" / "env")
        source = root / "home" / "graph.dot"
        source.write_text(GRAPH)
        here = subprocess.run(["dot", "-Tpng", str(source)], capture_output=True, check=True).stdout
        for name in ("one", "two"):
            run_in(root, "/home/env/bin/dot", "-Tpng", "-o", f"/home/{name}.png", "/home/graph.dot")
            there = (root / "home" / f"{name}.png").read_bytes()
            self.assertEqual(hashlib.sha256(there).hexdigest(), hashlib.sha256(here).hexdigest(), name)
        # Without the fonts it is another picture: else this shows nothing.
        shutil.rmtree(root / "home/env/lib/lapidar" / fonts.FOLDER)
        run_in(root, "/home/env/bin/dot", "-Tpng", "-o", "/home/bare.png", "/home/graph.dot")
        self.assertNotEqual((root / "home/bare.png").read_bytes(), here)
        self.lapidar("restore", "--into", root / "home" / "env")
        self.lapidar("capture", root / "home" / "env")
        self.assertEqual(self.lock.read_bytes(), before)

    def cache_tree(self, digest: str) -> list[Entry]:
        return list(Cache(self.cache).tree(digest))

    def test_a_fonts_library_that_says_nothing(self) -> None:
        found = fonts.resolve(str(self.folder / "libfontconfig.so.1"))
        self.assertEqual(found.files, ())
        self.assertIn("did not say which fonts it uses", found.problem)

    def test_rules_that_name_folders_stay_behind(self) -> None:
        rules = self.folder / "rules"
        rules.mkdir()
        (rules / "10-own.conf").write_text("<fontconfig><alias/></fontconfig>")
        (rules / "51-local.conf").write_text("<fontconfig><dir>/srv/fonts</dir></fontconfig>")
        (rules / "52-more.conf").write_text("<fontconfig><include>/srv/local.conf</include></fontconfig>")
        font = self.folder / "Glaze.ttf"
        font.write_bytes(b"glaze")
        drafts = [draft.path for draft in fonts.drafts([str(font)], rules)]
        self.assertEqual(
            drafts, [f"{fonts.PLACE}/fonts.conf", f"{fonts.FOLDER}/Glaze.ttf", f"{fonts.PLACE}/rules/10-own.conf"]
        )
        self.assertEqual(list(fonts.drafts([], rules)), [])

    def test_the_fonts_of_a_plot(self) -> None:
        """No font of the machine, of the user or of another environment's list is looked at."""
        names = "matplotlib numpy pillow contourpy cycler fonttools kiwisolver packaging pyparsing python_dateutil"
        environment = self.environment(*(next(WHEELS.glob(f"{name}-*.whl")) for name in names.split()))
        home = self.folder / "home"
        (home / ".fonts").mkdir(parents=True)
        (home / ".local/share/fonts").mkdir(parents=True)
        font = next((environment / "lib").glob("python*/site-packages/matplotlib/mpl-data/fonts/ttf/DejaVuSans.ttf"))
        for place in (home / ".fonts/Kiln.ttf", home / ".local/share/fonts/Sherd.ttf"):
            shutil.copy(font, place)
        variables = {**self.variables, "HOME": str(home), "XDG_DATA_HOME": str(home / ".local/share")}
        (self.project / "plot.py").write_text("import matplotlib\n")

        def listed(python: Path) -> list[str]:
            done = subprocess.run(
                [python, "-c", LISTED], env=variables, capture_output=True, text=True, check=True, cwd=self.project
            )
            return list(json.loads(done.stdout)[0])

        self.assertIn(str(home / ".fonts/Kiln.ttf"), listed(environment / "bin/python"))
        self.captured(environment)
        self.lapidar("restore")
        strange = [path for path in listed(self.restored / "bin/python") if not path.startswith(f"{self.restored}/")]
        self.assertEqual(strange, [])
        (self.project / "draw.py").write_text(PLOT)
        self.lapidar("check", "--live", "--", "python", "draw.py")
        self.lapidar("check", "--live", "--", "python", "draw.py")

    def test_a_font_that_source_names_by_its_file(self) -> None:
        """It is the captured one that is found, and never another of the host's."""
        environment = self.environment(next(WHEELS.glob("pillow-*.whl")), next(WHEELS.glob("matplotlib-*.whl")))
        ttf = next((environment / "lib").glob("python*/site-packages/matplotlib/mpl-data/fonts/ttf"))
        (self.project / "draw.py").write_text(
            "import locale\nfrom PIL import Image, ImageDraw, ImageFont\n"
            "try:\n    locale.setlocale(locale.LC_ALL, 'C.UTF-8')\nexcept locale.Error:\n    print('no such locale')\n"
            "image = Image.new('L', (200, 50), 255)\n"
            "ImageDraw.Draw(image).text((5, 5), 'Kiln', font=ImageFont.truetype('KilnSans.ttf', 24))\n"
            "image.save('sherd.png')\n"
        )
        place = "mount -t tmpfs none /usr/local/share/ && mkdir -p /usr/local/share/fonts/kiln && "
        put = 'cp "$1" /usr/local/share/fonts/kiln/KilnSans.ttf && shift && exec "$@"'
        here = self.in_namespace(
            place + put,
            ttf / "DejaVuSans-Bold.ttf",
            PROGRAM,
            "capture",
            environment,
            "--prove",
            "--",
            "python",
            "draw.py",
        )
        self.assertEqual(here.returncode, 0, here.stdout + here.stderr)
        self.assertFalse((self.project / "lapidar.toml").exists(), "found in the source: nothing is to be declared")
        other = self.in_namespace(place + put, ttf / "DejaVuSerif.ttf", PROGRAM, "prove", "--", "python", "draw.py")
        self.assertEqual(other.returncode, 0, "where the host has another font of that name: " + other.stdout)
        shutil.copy(ttf / "DejaVuSans-Bold.ttf", self.project / "KilnSans.ttf")
        (self.project / "sherd.png").rename(self.project / "here.png")
        text = (self.project / "draw.py").read_text().replace("'KilnSans", "'./KilnSans")
        (self.project / "by_place.py").write_text(text)
        self.lapidar("run", "python", "by_place.py")
        self.assertEqual((self.project / "sherd.png").read_bytes(), (self.project / "here.png").read_bytes())


class OfTheSystem(Below):
    PYTHON = "/usr/bin/python3"

    def test_its_plots_on_a_bare_root(self) -> None:
        """Its packages keep data elsewhere, name it by absolute paths, and do not say what they need."""
        has = subprocess.run([self.PYTHON, "-c", "import matplotlib"], capture_output=True, check=False)
        if has.returncode or "dist-packages" not in self.where("matplotlib"):
            skip_loudly(self, "the system's Python has no matplotlib of its own (Debian's python3-matplotlib)")
        root = bare_root(self, self.folder / "bare")
        (self.project / "plot.py").write_text(PLOT)
        here = subprocess.run([self.PYTHON, self.project / "plot.py"], capture_output=True, text=True, check=True)
        snapshot = self.captured(self.PYTHON)
        before = self.lock.read_bytes()
        needs = {package.name: package.requires for package in snapshot.packages}
        self.assertLessEqual({"numpy", "pillow", "python-dateutil"}, set(needs["matplotlib"]))
        self.lapidar("restore", "--into", root / "home" / "env")
        shutil.copy(self.project / "plot.py", root / "home")
        said = run_in(root, "/bin/env", "HOME=/home", "/home/env/bin/python", "/home/plot.py").split()
        self.assertEqual(said[0], here.stdout.split()[0])
        self.assertTrue(said[1].startswith("/home/env/share/matplotlib"), said)
        self.lapidar("capture", root / "home" / "env")
        self.assertEqual(self.lock.read_bytes(), before)

    def where(self, module: str) -> str:
        words = [self.PYTHON, "-c", f"import {module}; print({module}.__file__)"]
        return subprocess.run(words, capture_output=True, text=True, check=True).stdout


class Addons(InFolder):
    """Modules that scripts load by their names."""

    def script(self, name: str, text: str) -> str:
        path = self.root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
        return str(path)

    def of(self, interpreter: str, scripts: list[str], **variables: str) -> tuple[list[str], list[str]]:
        path = shutil.which(interpreter)
        if path is None:
            skip_loudly(self, f"there is no {interpreter} here")
        assert path is not None
        language = addons.of_interpreter(os.path.realpath(path))
        assert language is not None
        addons._search_path.cache_clear()
        before = dict(os.environ)
        os.environ.update(variables)
        try:
            return addons.modules_of(path, language, scripts)
        finally:
            os.environ.clear()
            os.environ.update(before)

    def test_perl(self) -> None:
        """Also those that a module loads; what only may be there is not missed."""
        self.script("lib/Kiln/Glaze.pm", "package Kiln::Glaze;\nuse Kiln::Tin;\neval { require Kiln::Perhaps };\n1;\n")
        self.script("lib/Kiln/Tin.pm", "package Kiln::Tin;\n1;\n")
        self.script("lib/auto/Kiln/Tin/Tin.so", "")
        script = self.script("tell", "#!/usr/bin/perl\nuse strict;\nuse Kiln::Glaze;\nuse Kiln::Gone;\n")
        found, missing = self.of("perl", [script], PERL5LIB=str(self.root / "lib"))
        own = sorted(os.path.relpath(path, self.root) for path in found if path.startswith(str(self.root)))
        self.assertEqual(own, ["lib/Kiln/Glaze.pm", "lib/Kiln/Tin.pm", "lib/auto/Kiln/Tin/Tin.so"])
        self.assertEqual(missing, ["Kiln::Gone"])

    def test_tcl(self) -> None:
        self.script("lib/kiln1/pkgIndex.tcl", "package ifneeded kiln 1.0 [list source [file join $dir kiln.tcl]]\n")
        self.script("lib/kiln1/kiln.tcl", "package require glaze\n")
        self.script("lib/other/pkgIndex.tcl", "package ifneeded kilns 1.0 {}\n")
        script = self.script("tell", "package require kiln\n")
        found, _ = self.of("tclsh", [script], TCLLIBPATH=str(self.root / "lib"))
        own = sorted(os.path.relpath(path, self.root) for path in found if path.startswith(str(self.root)))
        self.assertEqual(own, ["lib/kiln1/kiln.tcl", "lib/kiln1/pkgIndex.tcl"])


class Opened(Below):
    def test_what_a_program_was_seen_to_open(self) -> None:
        """Its script puts the path together, so that nothing but a run tells."""
        root = bare_root(self, self.folder / "bare")
        known = "/usr/share/perl5/Debconf/Config.pm"
        if not os.path.isfile(known):
            skip_loudly(self, f"there is no {known} here")
        tool = self.folder / "tells"
        tool.write_text("#!/bin/sh\nplace=/usr/share\ncat $place/perl5/Debconf/Config.pm\n")
        tool.chmod(0o755)
        self.declare(f'[needs]\ntools = ["{tool}"]\n')
        environment = self.environment()
        self.captured(environment)
        self.lapidar("restore", "--into", root / "home" / "env")
        failed = subprocess.run(["chroot", root, "/home/env/bin/tells"], capture_output=True, text=True, check=False)
        self.assertNotEqual(failed.returncode, 0)
        self.lapidar("capture", "--observe", environment, "--", str(tool))
        self.lapidar("restore", "--into", root / "home" / "env")
        self.assertEqual(run_in(root, "/home/env/bin/tells"), Path(known).read_text())
