"""Making a parcel against tar and zstd of the same files; opening it against unpacking them, and reading digests."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

from common import PROGRAM, Timed, drop, ratio, restored


def laid_out(folder: Path, parcel: Path) -> Path:
    """The files of a parcel's trees as plain files, and the parcel's blobs in one folder."""
    blobs, files = folder / "blobs", folder / "files"
    for one in (blobs, files):
        one.mkdir()
    subprocess.run(["tar", "xf", parcel, "-C", blobs], check=True)
    shown = subprocess.run([PROGRAM, "parcel", "show", "--json", parcel], check=True, capture_output=True).stdout
    for number, layer in enumerate(json.loads(shown)["blobs"]):
        if ".tree." not in layer["mediaType"]:
            continue
        (files / str(number)).mkdir()
        blob = blobs / "blobs" / "sha256" / layer["digest"][7:]
        subprocess.run(f"zstd -dc {blob} | tar x -C {files / str(number)}", shell=True, check=True)
    return files


def main() -> None:
    with restored() as folder:
        project, parcel, plain = folder / "project", folder / "it.parcel.tar", folder / "plain.tar.zst"
        make: list[object] = [PROGRAM, "-q", "parcel", "make", "--without-lapidar", "--to", parcel]
        subprocess.run(list(map(str, make)), cwd=project, check=True)
        files = laid_out(folder, parcel)
        packed = ["sh", "-c", f"tar c -C {files} . | zstd -q -3 -T2 -f -o {plain}"]
        ratio("parcel make, against tar and zstd -3 -T2", Timed(make), Timed(packed), 1.2, folder=project)
        subprocess.run(packed, check=True)
        fresh, there, unpacked = folder / "fresh", folder / "there", folder / "unpacked"
        unpack = f"mkdir {unpacked} && zstd -dc {plain} | tar x -C {unpacked}"
        unpack += f" && find {unpacked} -type f -exec sha256sum {{}} +"
        ratio(
            "parcel open, against zstd -d, tar x, sha256sum",
            Timed([PROGRAM, "-q", "--cache", fresh, "parcel", "open", parcel, "--into", there], drop(fresh, there)),
            Timed(["sh", "-c", unpack], drop(unpacked)),
            1.5,
            folder=folder,
        )


if __name__ == "__main__":
    main()
