"""What of two versions of a shared library differs, by the names that it exports."""

from __future__ import annotations

import io

from elftools.common.exceptions import ELFError
from elftools.elf.elffile import ELFFile
from elftools.elf.sections import SymbolTableSection

from lapidar.core.records import words

__all__ = ["difference"]

_SHOWN = 8


def difference(before: bytes, after: bytes) -> list[str]:
    """A line for what came, one for what went, one for what has another size, and one for what has other bytes.

    Args:
        before, after: the bytes of two ELF files (System V ABI, chapter 4). Of one that is none, nothing is said.
    """
    old, new = _exported(before), _exported(after)
    if old is None or new is None:
        return []
    both = sorted(old.keys() & new.keys())
    sized = [name for name in both if len(old[name]) != len(new[name])]
    other = [name for name in both if name not in sized and old[name] != new[name]]
    told = {
        "new": sorted(new.keys() - old.keys()),
        "gone": sorted(old.keys() - new.keys()),
        "of another size": sized,
        "of the same size, with other bytes": other,
    }
    return [f"{what}: {words.some(names, _SHOWN)}" for what, names in told.items() if names]


def _exported(data: bytes) -> dict[str, bytes] | None:
    """The functions and objects that a library exports, each with its bytes."""
    try:
        file = ELFFile(io.BytesIO(data))
        symbols = file.get_section_by_name(".dynsym")
        if not isinstance(symbols, SymbolTableSection):
            return {}
        return {
            symbol.name: _bytes_of(file, data, symbol["st_value"], symbol["st_size"])
            for symbol in symbols.iter_symbols()
            if symbol["st_shndx"] != "SHN_UNDEF" and symbol["st_size"]
        }
    except (ELFError, ValueError, KeyError, UnicodeDecodeError):
        return None


def _bytes_of(file: ELFFile, data: bytes, address: int, size: int) -> bytes:
    for segment in file.iter_segments("PT_LOAD"):
        start = segment["p_vaddr"]
        if start <= address < start + segment["p_filesz"]:
            offset = segment["p_offset"] + address - start
            return data[offset : offset + size]
    return b"\0" * size  # what a program finds empty
