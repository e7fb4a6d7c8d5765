"""What libraries open on demand, so that no ELF file says it: other libraries by their names, and data.

Each piece of data goes to one place below the environment's private folder, and a variable leads the library there.
"""

from __future__ import annotations

import os
import posixpath
import re
from collections.abc import Iterable, Iterator

from msgspec import Struct

from lapidar.core.system import fonts

__all__ = [
    "DATA",
    "LOCALES",
    "TERMINALS",
    "TLS",
    "WINDOWS",
    "ZONES",
    "Data",
    "folders",
    "having",
    "opened_by",
    "takes",
    "variables",
]

# Library -> what it opens by name: the C library when a thread ends or an exception passes, for name look-ups, and
# for international names of hosts.
_OPENED = {"libc.so.6": ("libgcc_s.so.1", "libnss_files.so.2", "libnss_dns.so.2", "libresolv.so.2")}
_TERMINALS = frozenset(
    "ansi dumb linux screen screen-256color tmux tmux-256color vt100 vt220 xterm xterm-256color xterm-color".split()
)


class Data(Struct, frozen=True):
    """Data of a library.

    Attributes:
        library: a pattern that the library's name matches.
        folders: where systems have it: the first that is there is taken. A file is taken under its own name.
        place: where it goes, below the private folder.
        variables: which lead to it, each with what follows the place: "" the folder, "*" its first file, or a file's
            path below it.
        use: what it is for, where the variables are only set when a program begins to do that: each language knows
            which of its modules do. Where it is "", they are set before a process starts.
        host_first: the variables are set only where the host has none of `folders`.
        only: the names of files that are taken; all, where it is empty.
        below: the folders in it that are taken; all, where it is empty.
    """

    library: str
    folders: tuple[str, ...]
    place: str
    variables: tuple[tuple[str, str], ...]
    use: str = ""
    host_first: bool = False
    only: frozenset[str] = frozenset()
    below: tuple[str, ...] = ()


# The list of the seldom ones (gconv-modules.d) is left out: every start would read its hundred kilobytes.
_CHARACTER_SETS = frozenset("gconv-modules UTF-16.so UTF-32.so UTF-7.so ISO8859-1.so ISO8859-15.so CP1252.so".split())
TLS, TERMINALS, WINDOWS = "encrypted connections", "terminals", "windows"  # uses of data
ZONES = "share/zoneinfo"
LOCALES = "locale"  # the place of locale data; which there are is a matter of variables, see `locales`

DATA = (
    Data(r"libc\.so\.6", (), LOCALES, (("LOCPATH", ""),)),
    # Which fonts there are is asked of the library, see `fonts`.
    Data(r"libc\.so\.6", (), fonts.PLACE, (("FONTCONFIG_PATH", ""), ("FONTCONFIG_FILE", fonts.CONFIGURATION))),
    Data(
        r"libc\.so\.6",
        ("/usr/lib/{machine}-linux-gnu/gconv", "/usr/lib64/gconv"),
        "gconv",
        (("GCONV_PATH", ""),),
        only=_CHARACTER_SETS,
    ),
    Data(
        r"libc\.so\.6",
        ("/usr/share/zoneinfo",),
        ZONES,
        (("TZDIR", ""),),
    ),
    Data(
        r"libssl\.so\..*",
        (
            "/etc/ssl/certs/ca-certificates.crt",
            "/etc/pki/tls/certs/ca-bundle.crt",
            "/etc/ssl/ca-bundle.pem",
            "/etc/ssl/cert.pem",
        ),
        "share/certificates",
        (("SSL_CERT_FILE", "*"),),
        use=TLS,
        host_first=True,  # whom one trusts is a matter of now
    ),
    Data(
        r"libcrypto\.so\.3",
        ("/usr/lib/{machine}-linux-gnu/ossl-modules", "/usr/lib64/ossl-modules"),
        "ossl-modules",
        (("OPENSSL_MODULES", ""),),  # early: not only the runtime's own modules open it
    ),
    Data(
        r"libcrypto\.so\.3",
        ("/etc/ssl/openssl.cnf", "/etc/pki/tls/openssl.cnf"),
        "ossl-settings",
        (("OPENSSL_CONF", "*"),),
    ),
    Data(
        r"libsasl2\.so\.2",
        ("/usr/lib/{machine}-linux-gnu/sasl2", "/usr/lib64/sasl2"),
        "sasl2",
        (("SASL_PATH", ""),),
    ),
    Data(
        r"libgirepository-1\.0\.so\..*",
        ("/usr/lib/{machine}-linux-gnu/girepository-1.0", "/usr/lib64/girepository-1.0"),
        "girepository-1.0",
        (("GI_TYPELIB_PATH", ""),),
    ),
    Data(
        r"libtinfow?\.so\..*|libncursesw?\.so\..*",
        ("/lib/terminfo", "/usr/share/terminfo"),
        "share/terminfo",
        (("TERMINFO_DIRS", ""),),
        use=TERMINALS,
        only=_TERMINALS,
    ),
    Data(
        r"libtcl8\.6\.so.*",
        ("/usr/share/tcltk/tcl8.6", "/usr/share/tcl8.6", "/usr/lib/tcl8.6"),
        "share/tcl8.6",
        (("TCL_LIBRARY", ""),),
        use=WINDOWS,
    ),
    Data(
        r"libtk8\.6\.so.*",
        ("/usr/share/tcltk/tk8.6", "/usr/share/tk8.6", "/usr/lib/tk8.6"),
        "share/tk8.6",
        (("TK_LIBRARY", ""),),
        use=WINDOWS,
    ),
    Data(
        r"libmagic\.so\.1",
        ("/usr/share/misc/magic.mgc", "/usr/lib/file/magic.mgc"),
        "share/misc",
        (("MAGIC", "*"),),
    ),
    # Coordinate systems, formats of maps, units: tables that libraries of the sciences read.
    Data(r"libproj\.so\..*", ("/usr/share/proj",), "share/proj", (("PROJ_LIB", ""), ("PROJ_DATA", ""))),
    Data(r"libgdal\.so\..*", ("/usr/share/gdal",), "share/gdal", (("GDAL_DATA", ""),)),
    Data(
        r"libudunits2\.so\.0",
        ("/usr/share/xml/udunits", "/usr/share/udunits"),
        "share/udunits",
        (("UDUNITS2_XML_PATH", "udunits2.xml"),),
    ),
    Data(
        r"libeccodes\.so\..*",
        ("/usr/share/eccodes/definitions",),
        "share/eccodes",
        (("ECCODES_DEFINITION_PATH", ""),),
    ),
    # Plugins: of drawings of graphs, and of windows.
    Data(
        r"libgvc\.so\.6",
        ("/usr/lib/{machine}-linux-gnu/graphviz", "/usr/lib64/graphviz"),
        "graphviz",
        (("GVBINDIR", ""),),
    ),
    *(
        Data(
            rf"libQt{number}Gui\.so\.{number}",
            (f"/usr/lib/{{machine}}-linux-gnu/qt{number}/plugins", f"/usr/lib64/qt{number}/plugins"),
            f"qt{number}",
            (("QT_PLUGIN_PATH", ""),),
            below=("platforms/", "imageformats/", "iconengines/", "styles/", "xcbglintegrations/"),
        )
        for number in (5, 6)
    ),
    Data(r"libxkbcommon\.so\.0", ("/usr/share/X11/xkb",), "share/xkb", (("XKB_CONFIG_ROOT", ""),)),
)
# The same zones again, and this machine's own.
_LEFT_OUT_OF_ZONES = ("right/", "posix/", "localtime")


def opened_by(libraries: Iterable[str]) -> list[str]:
    """The names of libraries that these open on demand."""
    return [name for library in libraries for name in _OPENED.get(library, ())]


def folders(data: Data, private: str | None, machine: str) -> list[str]:
    """Where the data may lie, the first that is there counts; a file stands for itself.

    Args:
        private: the private folder of a restored environment, which has it already; None for the system's own.
        machine: the processor's kind: x86_64.
    """
    return [f"{private}/{data.place}"] if private else [name.replace("{machine}", machine) for name in data.folders]


def takes(data: Data, path: str) -> bool:
    """Whether a file is taken, by its path below the folder."""
    if path.startswith(_LEFT_OUT_OF_ZONES) or (data.below and not path.startswith(data.below)):
        return False
    return not data.only or os.path.basename(path) in data.only


def variables(paths: Iterable[str]) -> Iterator[tuple[Data, str, str]]:
    """The variables that lead to the data among placed paths: the data, the variable, the path it leads to."""
    paths = list(paths)
    for data in DATA:
        own = sorted(path for path in paths if path.startswith(data.place + "/"))
        if not own:
            continue
        for name, what in data.variables:
            path = own[0] if what == "*" else posixpath.join(data.place, what).rstrip("/")
            if what in ("", "*") or path in own:
                yield data, name, path


def having(data: Data, libraries: Iterable[str]) -> list[str]:
    """Those of the libraries that have this data."""
    return [name for name in libraries if re.fullmatch(data.library, name)]
