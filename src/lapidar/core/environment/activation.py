"""``bin/activate`` for sh, fish and csh: puts an environment's commands first on PATH, until ``deactivate``.

Each finds the environment by its own place, so that the folder may be moved. A shell that does not tell a
sourced file its place is told by the variable LAPIDAR_ENVIRONMENT.
"""

from __future__ import annotations

from collections.abc import Iterable

from lapidar.core.environment import marker

__all__ = ["files"]

_SH = """\
# Source this file: . bin/activate        (sh, bash, zsh, ksh, dash)
# Written by lapidar restore.
deactivate() {
    if [ -n "${LAPIDAR_OLD_PATH+set}" ]; then PATH=$LAPIDAR_OLD_PATH; export PATH; unset LAPIDAR_OLD_PATH; fi
    if [ -n "${LAPIDAR_OLD_PS1+set}" ]; then PS1=$LAPIDAR_OLD_PS1; unset LAPIDAR_OLD_PS1; fi
@back@    unset VIRTUAL_ENV
    hash -r 2>/dev/null || :
    [ "${1:-}" = again ] || unset -f deactivate
}
deactivate again

if [ -n "${BASH_SOURCE:-}" ]; then
    lapidar_file=$BASH_SOURCE
elif [ -n "${ZSH_VERSION:-}" ]; then
    eval 'lapidar_file=${(%):-%x}'
elif [ -n "${KSH_VERSION:-}" ] && eval '[ -n "${.sh.file:-}" ]' 2>/dev/null; then
    eval 'lapidar_file=${.sh.file}'
else
    lapidar_file=${LAPIDAR_ENVIRONMENT:-.}/bin/activate
fi
if [ -f "$(dirname -- "$lapidar_file")/../@marker@" ]; then
    VIRTUAL_ENV=$(CDPATH= cd -- "$(dirname -- "$lapidar_file")/.." && pwd); export VIRTUAL_ENV
    LAPIDAR_OLD_PATH=$PATH
    PATH=$VIRTUAL_ENV/bin:$PATH; export PATH
@away@    if [ -n "${PS1:-}" ] && [ -z "${VIRTUAL_ENV_DISABLE_PROMPT:-}" ]; then
        LAPIDAR_OLD_PS1=$PS1
        PS1="[${VIRTUAL_ENV##*/}] $PS1"
    fi
    hash -r 2>/dev/null || :
else
    echo "activate: this shell does not say where the file is: set LAPIDAR_ENVIRONMENT to the environment's folder first" >&2
fi
unset lapidar_file
"""

_FISH = """\
# Source this file: source bin/activate.fish
# Written by lapidar restore.
function deactivate -d "Leave the environment"
    if set -q LAPIDAR_OLD_PATH
        set -gx PATH $LAPIDAR_OLD_PATH
        set -e LAPIDAR_OLD_PATH
    end
@back@    if functions -q lapidar_old_prompt
        functions -e fish_prompt
        functions -c lapidar_old_prompt fish_prompt
        functions -e lapidar_old_prompt
    end
    set -e VIRTUAL_ENV
    if test "$argv[1]" != again
        functions -e deactivate
    end
end
deactivate again

set -gx VIRTUAL_ENV (cd (dirname (status filename))/..; and pwd)
set -g LAPIDAR_OLD_PATH $PATH
set -gx PATH $VIRTUAL_ENV/bin $PATH
@away@if functions -q fish_prompt; and test -z "$VIRTUAL_ENV_DISABLE_PROMPT"
    functions -c fish_prompt lapidar_old_prompt
    function fish_prompt
        printf '[%s] ' (basename $VIRTUAL_ENV)
        lapidar_old_prompt
    end
end
"""

_CSH = """\
# Source this file: source bin/activate.csh        (csh, tcsh)
# Written by lapidar restore.
set lapidar_called = ($_)
if ( $?LAPIDAR_ENVIRONMENT ) then
    set lapidar_folder = "$LAPIDAR_ENVIRONMENT"
else if ( $#lapidar_called > 1 ) then
    set lapidar_folder = "`dirname "\\""$lapidar_called[2]"\\""`/.."
else
    set lapidar_folder = "."
endif
if ( $?LAPIDAR_OLD_PATH ) then
    setenv PATH "$LAPIDAR_OLD_PATH"
endif
alias deactivate 'test $?LAPIDAR_OLD_PATH != 0 && setenv PATH "$LAPIDAR_OLD_PATH" && unset LAPIDAR_OLD_PATH; test $?LAPIDAR_OLD_PROMPT != 0 && set prompt="$LAPIDAR_OLD_PROMPT" && unset LAPIDAR_OLD_PROMPT; unsetenv VIRTUAL_ENV; rehash; unalias deactivate'
if ( -f "$lapidar_folder/@marker@" ) then
    setenv VIRTUAL_ENV "`cd "\\""$lapidar_folder"\\"" && pwd`"
    set LAPIDAR_OLD_PATH = "$PATH"
    setenv PATH "${VIRTUAL_ENV}/bin:${PATH}"
@away@    if ( $?prompt && ! $?LAPIDAR_OLD_PROMPT ) then
        set LAPIDAR_OLD_PROMPT = "$prompt"
        set prompt = "[$VIRTUAL_ENV:t] $prompt"
    endif
    rehash
else
    echo "activate: this shell does not say where the file is: set LAPIDAR_ENVIRONMENT to the folder of the environment first"
endif
unset lapidar_called lapidar_folder
"""

# What each shell does with a variable that says where another runtime's files lie: out of the way, and back again.
_AWAY_AND_BACK = {
    "bin/activate": (
        _SH,
        '    if [ -n "${NAME+set}" ]; then LAPIDAR_OLD_NAME=$NAME; unset NAME; fi\n',
        """\
    if [ -n "${LAPIDAR_OLD_NAME+set}" ]; then
        NAME=$LAPIDAR_OLD_NAME; export NAME; unset LAPIDAR_OLD_NAME
    fi
""",
    ),
    "bin/activate.fish": (
        _FISH,
        "if set -q NAME\n    set -g LAPIDAR_OLD_NAME $NAME\n    set -e NAME\nend\n",
        """\
    if set -q LAPIDAR_OLD_NAME
        set -gx NAME $LAPIDAR_OLD_NAME
        set -e LAPIDAR_OLD_NAME
    end
""",
    ),
    "bin/activate.csh": (_CSH, "    unsetenv NAME\n", ""),
}


def files(homes: Iterable[str]) -> dict[str, bytes]:
    """The files, by their paths below the environment.

    Args:
        homes: the variables that say where another runtime's files lie.
    """
    names = tuple(homes)
    found = {}
    for path, (text, away, back) in _AWAY_AND_BACK.items():
        text = text.replace("@marker@", marker.FILE_NAME)
        text = text.replace("@away@", "".join(away.replace("NAME", name) for name in names))
        found[path] = text.replace("@back@", "".join(back.replace("NAME", name) for name in names)).encode()
    return found
