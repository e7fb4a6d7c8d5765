"""Recording against running plainly; comparing against reading. The scripts are made here: one that computes, one that
opens 20,000 files, tables of a million rows, pictures of 4,000 x 4,000 pixels."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

from common import PROGRAM, Timed, ratio, restored

COMPUTES = """
import numpy as np
a = np.random.default_rng(1).standard_normal((1200, 1200))
for _ in range(12):
    a = np.linalg.qr(a @ a.T / 1200)[0]
np.savetxt("made.csv", a[:50], delimiter=",")
"""
OPENS = "for n in range(20_000): open(f'small/{n}').read()\n"
TABLES = """
import numpy as np, pandas as pd
table = pd.DataFrame(np.random.default_rng(2).random((1_000_000, 10)))
table.to_csv("one.csv", index=False)
table.to_csv("same.csv", index=False)
table.iloc[::1000, 3] += 1e-9
table.to_csv("few.csv", index=False)
(table + 1e-12).to_csv("all.csv", index=False)
"""
PICTURES = """
import numpy as np
from PIL import Image
pixels = np.random.default_rng(3).integers(0, 255, (4000, 4000, 3), dtype=np.uint8)
Image.fromarray(pixels).save("one.png", compress_level=1)
pixels[100:200, 100:200] ^= 1
Image.fromarray(pixels).save("two.png", compress_level=1)
"""
READ_BOTH = "import pandas as pd; pd.read_csv('one.csv'); pd.read_csv('all.csv')"
DECODE_BOTH = "from PIL import Image; Image.open('one.png').load(); Image.open('two.png').load()"


def main() -> None:
    with restored() as folder:
        project = folder / "project"
        python = str(project / ".lapidar/env/bin/python")
        (project / "small").mkdir()
        for number in range(20_000):
            (project / "small" / str(number)).write_text("x")
        for name, script, bar in (("computes", COMPUTES, 1.1), ("opens 20,000 files", OPENS, 1.5)):
            (project / "script.py").write_text(script)
            words = ["record", "--", "python", "script.py"]
            plain = Timed([PROGRAM, "run", "python", "script.py"])
            ratio(
                f"record of a script that {name}, against running it",
                Timed([PROGRAM, *words]),
                plain,
                bar,
                folder=project,
            )
        for script in (TABLES, PICTURES):
            subprocess.run([python, "-c", script], cwd=project, check=True)
        os.link(project / "one.csv", project / "linked.csv")
        reading = Timed([python, "-c", READ_BOTH])
        for other in ("few.csv", "all.csv"):
            _compare(f"compare a million rows, {other}", project, "one.csv", other, reading, 3.0)
        summing = Timed(["sha256sum", "one.csv", "same.csv"])
        _compare("compare identical files, against sha256sum of both", project, "one.csv", "same.csv", summing, 1.1)
        _compare("compare one file under two names", project, "one.csv", "linked.csv", summing, 1.1)
        decoding = Timed([python, "-c", DECODE_BOTH])
        _compare("compare pictures, against decoding both", project, "one.png", "two.png", decoding, 2.0)


def _compare(name: str, project: Path, one: str, other: str, against: Timed, bar: float) -> None:
    ratio(name, Timed([PROGRAM, "compare", one, other], codes=(0, 1)), against, bar, runs=3, folder=project)


if __name__ == "__main__":
    main()
