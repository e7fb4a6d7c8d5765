"""Numbers against numbers: how far apart, in what measure, and where the worst is.

Three measures: absolute, relative to the larger of the two, and in units in the last place: how many numbers of their
type lie between (IEEE 754; the bit patterns, taken as signed magnitudes, are in the order of the numbers). NaN equals
NaN. A decimal text is compared by its exact value, so that integers beyond 2^53 and long decimals count; its last place
is that of the digits shown, or that of a double where it shows as many digits as a double has.
"""

from __future__ import annotations

import math
import re
import struct
from collections import Counter
from collections.abc import Callable, Sequence
from decimal import Decimal, InvalidOperation
from typing import Any

from msgspec import Struct, field

__all__ = ["DATE", "EXACT", "NUMBER", "Numbers", "Tolerance", "last_place", "ulps_between"]

# A number in a text: not inside a word, a version (1.2.3) or a hexadecimal digest.
NUMBER = re.compile(
    r"(?<![\w.])[-+]?(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][-+]?\d+)?(?![\w.]*\w)(?!\.\d)|(?<![\w.])[-+]?(?:inf|nan)\b",
    re.IGNORECASE,
)
# What looks like numbers and is none: a day, a time of day.
DATE = re.compile(r"\b\d{4}-\d\d-\d\d\b|\b\d{4}/\d\d?/\d\d?\b|\b\d\d:\d\d(?::\d\d)?\b")
_CODE = re.compile(r"[+-]?0\d+")  # 007 is no number, but a code: two of them are equal where they are the same text
DIGITS_OF_TEXTS = 14  # of which a text may show so many, and is no double written out
_MOST_DIGITS = 400  # of a decimal text that is compared by its exact value


class Tolerance(Struct, frozen=True):
    """What is tolerated: a difference that any one of the three allows. 0: nothing by that measure."""

    absolute: float = 0.0
    relative: float = 0.0
    ulps: float = 0.0

    @property
    def is_exact(self) -> bool:
        return not (self.absolute or self.relative or self.ulps)

    def allows(self, absolute: float, relative: float, ulps: float) -> bool:
        """Whether a difference is tolerated; one that is infinite never is."""
        if not math.isfinite(absolute):
            return False
        return (
            bool(self.absolute and absolute <= self.absolute)
            or bool(self.relative and relative <= self.relative)
            or bool(self.ulps and ulps <= self.ulps)
        )

    def __str__(self) -> str:
        parts = {"absolute": self.absolute, "relative": self.relative, "ulps": self.ulps}
        return ", ".join(f"{name} {value:g}" for name, value in parts.items() if value)


EXACT = Tolerance()


def _ordered(value: float) -> int:
    """A double as an integer, such that neighbours differ by one; both zeros are 0."""
    (bits,) = struct.unpack("<q", struct.pack("<d", value))
    return int(bits) if bits >= 0 else -(int(bits) & 0x7FFFFFFFFFFFFFFF)


def ulps_between(one: float, other: float) -> float:
    """How many steps from one double to the next lie between two; infinite where one is no number or infinite."""
    if not (math.isfinite(one) and math.isfinite(other)):
        return 0.0 if one == other or (math.isnan(one) and math.isnan(other)) else math.inf
    return float(abs(_ordered(one) - _ordered(other)))


class Numbers(Struct):
    """How the numbers of two files differ.

    Attributes:
        compared: how many pairs there were.
        differing: how many of them are not equal.
        beyond: how many of these no tolerance allows.
        nans: how many pairs are NaN on both sides.
        against_none: how many are a number against NaN or an infinity.
        absolute, relative, ulps: the largest differences among finite ones, each with where it is.
        distribution: of the differing ones, how many by the power of two of their ulps (-1: less than one;
            64: infinite).
        pairs: some of them, before and after, for a figure.
    """

    compared: int = 0
    differing: int = 0
    beyond: int = 0
    nans: int = 0
    against_none: int = 0
    absolute: float = 0.0
    relative: float = 0.0
    ulps: float = 0.0
    at_absolute: str = ""
    at_relative: str = ""
    at_ulps: str = ""
    distribution: Counter[int] = field(default_factory=Counter)
    pairs: list[tuple[float, float]] = field(default_factory=list)

    def texts(self, one: str, other: str, where: str, tolerance: Tolerance = EXACT) -> bool | None:
        """Compare two texts of numbers.

        Returns:
            Whether they are equal, or their difference is tolerated; None where one is no number.
        """
        before, after = _exact(one), _exact(other)
        if before is None or after is None:
            return None
        if before.is_nan() or after.is_nan() or before.is_infinite() or after.is_infinite():
            return self.values(float(before), float(after), where, tolerance)
        self.compared += 1
        signed_zeros = before == after == 0 and before.is_signed() != after.is_signed()
        if before == after and not signed_zeros:
            self._keep(float(before), float(after))
            return True
        absolute = abs(before - after)
        largest = max(abs(before), abs(after))
        relative = float(absolute / largest) if largest else 0.0
        ulps = _ulps_shown(before, after, absolute)
        return self._differ(float(before), float(after), (float(absolute), relative, ulps), where, tolerance)

    def values(self, one: float, other: float, where: str, tolerance: Tolerance = EXACT) -> bool:
        """Compare two numbers; whether they are equal, or their difference is tolerated."""
        self.compared += 1
        if math.isnan(one) and math.isnan(other):
            self.nans += 1
            return True
        if one == other and math.copysign(1, one) == math.copysign(1, other):
            self._keep(one, other)
            return True
        if not (math.isfinite(one) and math.isfinite(other)):
            self.against_none += 1
            return self._differ(one, other, (math.inf, math.inf, math.inf), where, tolerance)
        absolute = abs(one - other)
        largest = max(abs(one), abs(other))
        relative = abs(one / largest - other / largest) if largest else 0.0
        return self._differ(one, other, (absolute, relative, ulps_between(one, other)), where, tolerance)

    def _differ(
        self,
        one: float,
        other: float,
        apart: tuple[float, float, float],
        where: str,
        tolerance: Tolerance,
        *,
        keep: bool = True,
    ) -> bool:
        """Two numbers that are so far apart: absolutely, relatively, in units in the last place."""
        absolute, relative, ulps = apart
        self.differing += 1
        self.distribution[_bucket(ulps)] += 1
        if keep:
            self._keep(one, other)
        for name, value in (("absolute", absolute), ("relative", relative), ("ulps", ulps)):
            if value > getattr(self, name) or not getattr(self, f"at_{name}"):
                setattr(self, name, value)
                setattr(self, f"at_{name}", where)
        allowed = tolerance.allows(absolute, relative, ulps)
        self.beyond += not allowed
        return allowed

    def _keep(self, one: float, other: float) -> None:
        if len(self.pairs) < 20_000:
            self.pairs.append((one, other))

    def keep(self, before: Sequence[float], after: Sequence[float]) -> None:
        """Keep pairs for a figure."""
        for one, other in zip(before, after, strict=True):
            self._keep(one, other)

    def arrays(self, one: Any, other: Any, where: str, tolerance: Tolerance = EXACT) -> None:
        """Compare two numpy arrays of one shape, element by element; complex ones by their parts.

        Args:
            where: what they are called; the index is added.
        """
        import numpy as np

        if np.iscomplexobj(one) or np.iscomplexobj(other):
            self.arrays(np.real(one), np.real(other), f"{where} (real)", tolerance)
            self.arrays(np.imag(one), np.imag(other), f"{where} (imaginary)", tolerance)
            return
        exact = one.dtype.kind in "iub" and other.dtype.kind in "iub"
        equal = one == other
        if not exact:
            nans = np.isnan(one) & np.isnan(other)
            self.nans += int(nans.sum())
            equal = (equal & (np.signbit(one) == np.signbit(other))) | nans
        self.compared += int(equal.size)
        step = max(1, equal.size // 2000)
        for before, after in zip(one.ravel()[::step], other.ravel()[::step], strict=True):
            self._keep(float(before), float(after))
        places = np.argwhere(~np.atleast_1d(equal))
        if not len(places):
            return
        self._differing_arrays(np.atleast_1d(one), np.atleast_1d(other), places, where, tolerance, exact)

    def _differing_arrays(
        self, one: Any, other: Any, places: Any, where: str, tolerance: Tolerance, exact: bool
    ) -> None:
        at = tuple(places.T)

        def named(index: int) -> str:
            return f"{where}[{', '.join(map(str, places[index].tolist()))}]"

        if exact:  # also beyond 2^53
            self.differing_integers(one[at].tolist(), other[at].tolist(), named, tolerance)
        else:
            self.differing_floats(one[at], other[at], named, tolerance)

    def differing_integers(
        self, before: Sequence[int], after: Sequence[int], where: Callable[[int], str], tolerance: Tolerance
    ) -> None:
        """Count pairs of integers that differ, exactly.

        Args:
            where: of an index, what its place is called.
        """
        for index, (one, other) in enumerate(zip(before, after, strict=True)):
            absolute = abs(int(one) - int(other))
            relative = absolute / max(abs(int(one)), abs(int(other)))
            apart = float(absolute), relative, float(absolute)
            self._differ(float(one), float(other), apart, where(index), tolerance, keep=False)

    def differing_floats(
        self, one: Any, other: Any, where: Callable[[int], str], tolerance: Tolerance, shown: Any = None
    ) -> Any:
        """Count pairs of numbers that differ, given as two arrays of one dimension.

        Args:
            where: of an index, what its place is called.
            shown: of each pair, what the last digit shown stands for; None: they are no texts.

        Returns:
            For each pair, whether its difference is tolerated.
        """
        import numpy as np

        first, second = one.astype(np.float64), other.astype(np.float64)
        finite = np.isfinite(first) & np.isfinite(second)
        self.against_none += int((~finite).sum())
        with np.errstate(all="ignore"):
            absolute = np.where(finite, np.abs(first - second), np.inf)
            largest = np.maximum(np.abs(first), np.abs(second))
            apart = np.abs(first / largest - second / largest)  # also where the distance itself is beyond all numbers
            relative = np.where(finite, np.where(largest > 0, apart, 0.0), np.inf)
        ulps = np.where(finite, _ulps_of_arrays(one, other) if shown is None else absolute / shown, np.inf)
        with np.errstate(all="ignore"):
            powers = np.where(np.isfinite(ulps), np.where(ulps >= 1, np.log2(np.maximum(ulps, 1)), -1), 64)
        self.differing += len(first)
        for power, count in zip(*np.unique(powers.astype(int), return_counts=True), strict=True):
            self.distribution[int(power)] += int(count)
        for name, values in (("absolute", absolute), ("relative", relative), ("ulps", ulps)):
            worst = int(np.argmax(values))
            if values[worst] > getattr(self, name) or not getattr(self, f"at_{name}"):
                setattr(self, name, float(values[worst]))
                setattr(self, f"at_{name}", where(worst))
        allowed: Any = np.zeros(len(first), dtype=bool)
        for limit, values in ((tolerance.absolute, absolute), (tolerance.relative, relative), (tolerance.ulps, ulps)):
            if limit:
                allowed |= finite & (values <= limit)
        self.beyond += int((~allowed).sum())
        return allowed

    def add(self, other: Numbers) -> None:
        """Count those of a part too."""
        for name in ("compared", "differing", "beyond", "nans", "against_none"):
            setattr(self, name, getattr(self, name) + getattr(other, name))
        for name in ("absolute", "relative", "ulps"):
            if getattr(other, name) > getattr(self, name) or not getattr(self, f"at_{name}"):
                setattr(self, name, getattr(other, name))
                setattr(self, f"at_{name}", getattr(other, f"at_{name}"))
        self.distribution.update(other.distribution)
        self.pairs += other.pairs[: 20_000 - len(self.pairs)]

    @property
    def told(self) -> str:
        """The worst difference, in a few words; "" where there is none."""
        if not self.differing:
            return ""
        if self.against_none:
            return f"a number against none at {self.at_absolute}"
        parts = {"": f"{self.absolute:.3g}", "relative": f"{self.relative:.2g}", "ulps": _count(self.ulps)}
        places = {"": self.at_absolute, "relative": self.at_relative, "ulps": self.at_ulps}
        if len(set(places.values())) == 1:
            return f"{parts['']} ({parts['relative']} relative, {parts['ulps']} ulps) at {self.at_absolute}"
        return "; ".join(f"{parts[name]}{name and ' '}{name} at {place}" for name, place in places.items())


def _ulps_of_arrays(one: Any, other: Any) -> Any:
    """As `ulps_between`, of two arrays of finite numbers, in steps of their own type where both have one."""
    import numpy as np

    if one.dtype != other.dtype or one.dtype.itemsize not in (2, 4, 8) or one.dtype.kind != "f":
        one, other = one.astype(np.float64), other.astype(np.float64)
    size = 8 * one.dtype.itemsize
    top = (1 << (size - 1)) - 1
    first, second = (
        np.where(bits >= 0, bits, -(bits & top)).astype(np.int64) for bits in _bits(f"i{size // 8}", one, other)
    )
    steps = np.abs(first - second).astype(np.float64)
    if size < 64:
        return steps
    # Of opposite signs the difference may be beyond an integer of 64 bits.
    for at in ((first >= 0) != (second >= 0)).nonzero()[0].tolist():
        steps[at] = ulps_between(float(one[at]), float(other[at]))
    return steps


def _bits(kind: str, *arrays: Any) -> Any:
    import numpy as np

    native = (np.ascontiguousarray(array).astype(array.dtype.newbyteorder("=")) for array in arrays)
    return (array.view(kind) for array in native)


_PLAIN = re.compile(r"[+-]?0*(\d*)\.?(\d*)")


def last_place(one: str, other: str) -> float:
    """What a unit in the last place of two decimal texts is."""
    finer, most = 1.0, 0
    for text in (one, other):
        plain = _PLAIN.fullmatch(text.strip())
        if plain is None:  # with an exponent
            number = Decimal(text.strip())
            decimals, digits = -int(number.as_tuple().exponent), len(number.normalize().as_tuple().digits)
        else:
            decimals, digits = len(plain[2]), len((plain[1] + plain[2]).lstrip("0"))
        most = max(most, digits)
        finer = min(finer, 10.0**-decimals) if text is other else 10.0**-decimals
    if most <= DIGITS_OF_TEXTS:
        return finer
    return math.ulp(max(abs(float(one)), abs(float(other)))) or finer


def _ulps_shown(before: Decimal, after: Decimal, absolute: Decimal) -> float:
    """How many units of the last digit shown lie between two decimal texts; of doubles, where one shows as many digits
    as only these have."""
    digits = max(len(number.normalize().as_tuple().digits) for number in (before, after))
    if digits > DIGITS_OF_TEXTS:
        return ulps_between(float(before), float(after))
    last = min(int(number.as_tuple().exponent) for number in (before, after))
    return float(absolute.scaleb(-last))


def _count(ulps: float) -> str:
    return f"{ulps:,.0f}" if ulps < 1e6 else f"{ulps:.2g}"


def _bucket(ulps: float) -> int:
    if not math.isfinite(ulps):
        return 64
    return int(math.log2(ulps)) if ulps >= 1 else -1


def _exact(text: str) -> Decimal | None:
    """The exact value of a decimal text; None where it is no number, or longer than any is."""
    text = text.strip()
    if not text or len(text) > _MOST_DIGITS or "_" in text or _CODE.fullmatch(text):
        return None
    try:
        value = Decimal(text)
        # What a double cannot be near is no number of anybody's results, and its difference would take all memory.
        if value.is_finite() and value != 0 and not -400 < value.adjusted() < 400:
            return None
        return value
    except InvalidOperation:
        return None
