"""The launch files of R. What R code starts of R itself are ``R.home("bin")/R``, ``/Rscript`` and ``commandArgs()[1]``
(``bin/exec/R``), so that these three are launchers, beside those in ``bin/``. ``etc/ldpaths``, which R's front end
reads before a session and before ``R CMD`` alike, holds what leads R to the environment's own files.

The front end is R's own, written again in plain shell: the captured one has the folder of its home written into it, and
starts half a dozen programs. What it encodes (blanks as ``~+~``, line ends as ``~n~``) R undoes.
"""

from __future__ import annotations

import shlex
from collections.abc import Mapping, Sequence

from lapidar.core.environment import marker
from lapidar.core.environment.launchers import Host, Private, fill, inside
from lapidar.core.languages.r import placing

__all__ = [
    "WHICH",
    "WHICH_SCRIPT",
    "command",
    "executable",
    "front_end",
    "ldpaths",
    "profile",
    "rscript",
    "without_libraries",
]

WHICH = f"{marker.PRIVATE}/which"

# The place of the environment from that of the launcher, without a process where the path is a plain one.
_PLACE = """\
case $0 in /*) file=$0 ;; *) file=$PWD/$0 ;; esac
@follow@case $file in
  */../* | */./* | *//*) at=$(CDPATH= cd -P -- "${file%/*}/@up@" && pwd) ;;
  *) at=${file%@levels@} ;;
esac
R_HOME=$at/@home@
"""

_COMMAND = f"""\
#!/bin/sh
# Written by lapidar restore: starts the R of this environment. The folder may be moved.
{_PLACE}exec "$R_HOME/bin/R" "$@"
"""

_RSCRIPT = f"""\
#!/bin/sh
# Written by lapidar restore: Rscript has the folder of its home compiled in; RHOME says another.
{_PLACE}RHOME=$R_HOME; export RHOME
name=$R_HOME/bin/Rscript
@exec@ "$at/@aside@/bin/Rscript" "$@"
"""

_EXECUTABLE = f"""\
#!/bin/sh
# Written by lapidar restore: the compiled R, by the loader of this environment.
{_PLACE}. "$R_HOME/etc/ldpaths"
name=$R_HOME/bin/exec/R
@exec@ "$at/@private@/R" "$@"
"""

_FRONT_END = (
    f"""\
#!/bin/sh
# Written by lapidar restore: R's front end, with no absolute path in it.
{_PLACE}"""
    + """\
. "$R_HOME/etc/ldpaths"
line='
'
replaced() { # in $1, each $2 by $3 -> $out
  rest=$1 out=
  while :; do case $rest in *"$2"*) out=$out${rest%%"$2"*}$3; rest=${rest#*"$2"} ;; *) break ;; esac; done
  out=$out$rest
}
encoded() { replaced "$1" " " '~+~'; replaced "$out" "$line" '~n~'; }
error() { echo "ERROR: $*" >&2; exit 1; }
data=--no-restore-data
left=$# # words not looked at yet; these stand first, and what was made of the others behind them
while [ "$left" -gt 0 ]; do
  word=$1; shift; left=$((left - 1))
  case $word in
    RHOME | --print-home) echo "$R_HOME"; exit 0 ;;
    CMD)
      made=$(($# - left))
      while [ "$left" -gt 0 ]; do first=$1; shift; set -- "$@" "$first"; left=$((left - 1)); done
      shift "$made"
      exec sh "$R_HOME/bin/Rcmd" "$@" ;;
    -g | --gui) [ "$left" -gt 0 ] || error "option '$word' requires an argument"
      next=$1; shift; left=$((left - 1)); set -- "$@" "$word" "$next" ;;
    -d | --debugger | --debugger=* | --debugger-args=*) error "no debugger is started from this environment" ;;
    -h | --help) usage; exit 0 ;;
    --restore | --no-restore | --no-restore-data | --vanilla) data= ;;
  esac
  case $word in
    --args) # the rest as it is
      [ -z "$data" ] || set -- "$@" "$data"
      data=
      set -- "$@" --args
      while [ "$left" -gt 0 ]; do first=$1; shift; set -- "$@" "$first"; left=$((left - 1)); done ;;
    -g | --gui) ;;
    -e) [ "$left" -gt 0 ] && [ -n "$1" ] || error "option '-e' requires a non-empty argument"
      encoded "$1"; shift; left=$((left - 1)); set -- "$@" -e "$out" ;;
    -f) [ "$left" -gt 0 ] || error "option '-f' requires a filename argument"
      encoded "$1"; shift; left=$((left - 1)); set -- "$@" -f "$out" ;;
    --file=*) encoded "${word#*=}"; set -- "$@" "--file=$out" ;;
    --no-environ) R_ENVIRON= R_ENVIRON_USER=; set -- "$@" "$word" ;;
    --no-site-file) R_PROFILE=; set -- "$@" "$word" ;;
    --no-init-file) R_PROFILE_USER=; set -- "$@" "$word" ;;
    --vanilla) R_ENVIRON= R_ENVIRON_USER= R_PROFILE= R_PROFILE_USER=; set -- "$@" "$word" ;;
    *) set -- "$@" "$word" ;;
  esac
done
# A session that somebody saved is no part of a snapshot.
[ -z "$data" ] || set -- "$@" "$data"
name=$R_HOME/bin/exec/R
@exec@ "$at/@private@/R" "$@"
"""
)

_USAGE = """\
usage() {{
  cat << 'LAPIDAR'
{text}
LAPIDAR
}}
"""

_LDPATHS = """\
# Written by lapidar restore: R's front end reads this, with R_HOME set, and it leads R to this environment's own files.
# A start from within the environment keeps what its parent set: R tells its children by R_LIBS where packages are.
at=${R_HOME%/*/*}
if [ "${LAPIDAR_R-}" != "$R_HOME" ]; then
  unset R_LIBS R_DEFAULT_PACKAGES R_SCRIPT_DEFAULT_PACKAGES R_TESTS R_ARCH
  R_LIBS_SITE=$R_HOME/site-library
  R_LIBS_USER=$R_HOME/no-user-library # were it not set, R would look into the home folder
  R_ENVIRON=$R_HOME/etc/Renviron.site R_PROFILE=$R_HOME/etc/Rprofile.site
  R_ENVIRON_USER= R_PROFILE_USER=
@declared@  LAPIDAR_R=$R_HOME
fi
R_SHARE_DIR=$R_HOME/share R_INCLUDE_DIR=$R_HOME/include R_DOC_DIR=$R_HOME/doc
: "${R_ARCH=}"
@certificates@export LAPIDAR_R R_HOME R_SHARE_DIR R_INCLUDE_DIR R_DOC_DIR R_LIBS_SITE R_LIBS_USER R_ENVIRON R_PROFILE \\
  R_ENVIRON_USER R_PROFILE_USER R_ARCH
unset RHOME
"""
# What a snapshot may declare of what a session reads, over what is set above.
_DECLARABLE = (
    "R_LIBS R_DEFAULT_PACKAGES R_SCRIPT_DEFAULT_PACKAGES R_ENVIRON R_PROFILE R_ENVIRON_USER R_PROFILE_USER".split()
)

WHICH_SCRIPT = b"""\
#!/bin/sh
# Written by lapidar restore: where commands are on PATH, for Sys.which.
code=0
for name in "$@"; do
  command -v "$name" || code=1
done
exit $code
"""

_PROFILE = """

## --- Written by lapidar restore. `Sys.which` has the path of a program of the machine that R was built on compiled in,
## and the package utils cannot be loaded where that is not there. Base is not locked yet.
local({
    own <- file.path(dirname(R.home()), "lapidar", "which")
    f <- Sys.which
    b <- body(f)
    for (i in seq_along(b))
        if (is.call(b[[i]]) && identical(b[[i]][[1L]], as.name("<-")) && identical(b[[i]][[2L]], as.name("which")))
            b[[i]][[3L]] <- shQuote(own)
    body(f) <- b
    assign("Sys.which", f, envir = baseenv())
})
"""


def _filled(template: str, below: int, follow: bool = False, **values: str) -> bytes:
    """A template for a launcher so many folders below the environment's."""
    text = template if follow else template.replace("@follow@", "")
    return fill(
        text,
        up="/".join([".."] * below),
        levels="/*" * (below + 1),
        home=placing.HOME,
        aside=placing.ASIDE,
        private=marker.PRIVATE,
        **values,
    )


def command() -> bytes:
    """``bin/R``"""
    return _filled(_COMMAND, 1, follow=True)


def rscript(way: Private | Host, *, inner: bool) -> bytes:
    """``bin/Rscript``, or the one in R's home."""
    return _filled(_RSCRIPT, 3 if inner else 1, follow=not inner, exec=way.command())


def executable(way: Private | Host) -> bytes:
    """``bin/exec/R`` in R's home."""
    return _filled(_EXECUTABLE, 4, exec=way.command())


def front_end(way: Private | Host, captured: str) -> bytes:
    """``bin/R`` in R's home.

    Args:
        captured: the text of the one that was captured, which says how it is used.
    """
    _, _, rest = captured.partition('\nusage="')
    text = rest.partition('"\n\n')[0].replace('\\"', '"').strip("\n")
    usage = _USAGE.format(text=text or "Usage: R [options] [< infile] [> outfile]")
    filled = _filled(_FRONT_END, 3, exec=way.command()).decode()
    first, _, rest = filled.partition("error() {")
    return f"{first}{usage}error() {{{rest}".encode()


def ldpaths(declared: Mapping[str, str], certificates: Sequence[str], bundle: str) -> bytes:
    """``etc/ldpaths``.

    Args:
        declared: the variables that the snapshot holds.
        certificates: where systems have the certificates that they trust; one of these is used before the
            environment's own.
        bundle: the environment's, below its private folder; "" where it has none.
    """
    lines = [f"  {name}={shlex.quote(declared[name])}; export {name}\n" for name in _DECLARABLE if name in declared]
    trust = ""
    if bundle:
        tests = " && ".join(f"[ ! -e {shlex.quote(path)} ]" for path in certificates)
        own = f'SSL_CERT_FILE="$at/{marker.PRIVATE}/{inside(bundle)}"'
        trust = f"if {tests}; then {own}; export SSL_CERT_FILE; fi\n"
    return fill(_LDPATHS, declared="".join(lines), certificates=trust)


def profile(captured: bytes) -> bytes:
    """The system profile (``library/base/R/Rprofile``), which every start reads, even a --vanilla one."""
    return captured + _PROFILE.encode()


def without_libraries(captured: bytes) -> bytes:
    """``etc/Renviron.site`` without lines that lead to libraries of the captured system."""
    kept = []
    for line in captured.splitlines(keepends=True):
        name = line.strip().removeprefix(b"export ").partition(b"=")[0].strip()
        if name not in (b"R_LIBS", b"R_LIBS_SITE", b"R_LIBS_USER"):
            kept.append(line)
    return b"".join(kept)
