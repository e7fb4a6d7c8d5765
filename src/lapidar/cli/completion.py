"""``lapidar completion``"""

from __future__ import annotations

import argparse

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session

DESCRIPTION = """\
Print what a shell must read to complete the commands and options of lapidar."""

EXAMPLES = """\
examples:
  lapidar completion bash >> ~/.bashrc
  lapidar completion zsh >> ~/.zshrc
  lapidar completion fish > ~/.config/fish/completions/lapidar.fish"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("shell", choices=["bash", "fish", "zsh"], metavar="SHELL", help="bash, zsh or fish")


def run(session: Session) -> int:
    import argcomplete

    text = argcomplete.shellcode(["lapidar"], shell=session.options.shell)
    if session.view.json:
        session.view.object({"shell": session.options.shell, "text": text})
    else:
        print(text)
    return ExitCode.DONE
