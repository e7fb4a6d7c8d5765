"""Draws the pages of PDFs and SVGs as pictures. Started as a process of its own, with limits: what it reads is
foreign, and a renderer is not our code.

With FILE FOLDER [FILE FOLDER ...] it writes FOLDER/0.png, 1.png, ... of each.
"""

from __future__ import annotations

import resource
import sys
from pathlib import Path

MOST_PAGES = 10
_LONGEST_SIDE = 1400  # pixels
_MOST_SECONDS = 20
_MOST_MEMORY = 2 << 30


def _of_pdf(file: Path, into: Path) -> None:
    import pypdfium2

    document = pypdfium2.PdfDocument(file)
    for number in range(min(len(document), MOST_PAGES)):
        page = document[number]
        scale = _LONGEST_SIDE / max(*page.get_size(), 1)
        page.render(scale=scale).to_pil().save(into / f"{number}.png")


def _of_svg(file: Path, into: Path) -> None:
    import cairosvg

    # Nothing that the drawing names outside of itself is fetched.
    cairosvg.svg2png(
        bytestring=file.read_bytes(),
        write_to=str(into / "0.png"),
        output_width=_LONGEST_SIDE,
        background_color="white",
        unsafe=False,
    )


if __name__ == "__main__":
    resource.setrlimit(resource.RLIMIT_CPU, (_MOST_SECONDS, _MOST_SECONDS))
    resource.setrlimit(resource.RLIMIT_AS, (_MOST_MEMORY, _MOST_MEMORY))
    for file, folder in zip(sys.argv[1::2], sys.argv[2::2], strict=True):
        with Path(file).open("rb") as stream:
            draws = _of_pdf if stream.read(5) == b"%PDF-" else _of_svg
        draws(Path(file), Path(folder))
