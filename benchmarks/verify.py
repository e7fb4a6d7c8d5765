"""`restore --verify` of an environment that is there, every byte read, against sha256sum of the same files."""

from __future__ import annotations

from common import PROGRAM, Timed, ratio, restored


def main() -> None:
    with restored() as folder:
        project = folder / "project"
        files = folder / "files"
        ratio(
            "restore --verify, against sha256sum",
            Timed([PROGRAM, "restore", "--verify"]),
            Timed(["sh", "-c", f"find '{folder}/cache/files' -type f -print0 | xargs -0 sha256sum > '{files}'"]),
            1.2,
            folder=project,
        )


if __name__ == "__main__":
    main()
