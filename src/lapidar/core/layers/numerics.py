"""The portable profile: what holds numeric libraries to one level of processor and one thread, so that the same bytes
give the same bits on every processor of the family.

Each library chooses its code by the processor when it is loaded; each has a variable that takes a part of the choice
away. Names that a library does not know are passed over by it, so one list serves all versions.
"""

from __future__ import annotations

__all__ = ["BASELINE", "THREADS", "WATCHED", "portable"]

BASELINE = "x86-64-v2"

# How many threads a result is summed up by changes its last bits.
THREADS = (
    "OMP_NUM_THREADS",
    "OPENBLAS_NUM_THREADS",
    "GOTO_NUM_THREADS",
    "MKL_NUM_THREADS",
    "BLIS_NUM_THREADS",
    "NUMEXPR_NUM_THREADS",
    "NUMBA_NUM_THREADS",
    "VECLIB_MAXIMUM_THREADS",
    "POLARS_MAX_THREADS",
)
# What the level is beyond, as glibc and numpy call it.
_GLIBC = (
    "AVX AVX2 AVX512F AVX512BW AVX512CD AVX512DQ AVX512VL AVX512ER AVX512PF AVX512_VNNI FMA FMA4 XOP F16C BMI1 BMI2 "
    "LZCNT MOVBE AVX_Usable AVX2_Usable AVX512F_Usable FMA_Usable FMA4_Usable AVX_Fast_Unaligned_Load ERMS"
).split()
_NUMPY = (
    "AVX XOP FMA4 F16C FMA3 AVX2 AVX512F AVX512CD AVX512_KNL AVX512_KNM AVX512_SKX AVX512_CLX AVX512_CNL AVX512_ICL "
    "AVX512_SPR X86_V3 X86_V4"
).split()
_KERNELS = {
    "OPENBLAS_CORETYPE": "Nehalem",
    "MKL_CBWR": "COMPATIBLE",
    "BLIS_ARCH_TYPE": "generic",
    "ONEDNN_MAX_CPU_ISA": "SSE41",
    "ATEN_CPU_CAPABILITY": "default",
    "ARROW_USER_SIMD_LEVEL": "SSE4_2",
    "NUMBA_CPU_NAME": "nehalem",
    "NUMBA_CPU_FEATURES": "",
}
# Those of programs in other languages that an analysis may start.
_OF_PROGRAMS = (
    "R_DEFAULT_PACKAGES",
    "R_ENABLE_JIT",
    "R_COMPILE_PKGS",
    "RCPP_PARALLEL_NUM_THREADS",
    "JAVA_TOOL_OPTIONS",
    "JDK_JAVA_OPTIONS",
    "_JAVA_OPTIONS",
)
# Every variable by which a person, or this profile, changes results.
WATCHED = (
    *THREADS,
    "OMP_DYNAMIC",
    "MKL_DYNAMIC",
    "GLIBC_TUNABLES",
    "NPY_DISABLE_CPU_FEATURES",
    *_KERNELS,
    *_OF_PROGRAMS,
)


def portable(baseline: str) -> dict[str, str]:
    """The variables that hold a run to a baseline.

    Args:
        baseline: `BASELINE`; there is no other so far.
    """
    assert baseline == BASELINE
    return {
        **dict.fromkeys(THREADS, "1"),
        **_KERNELS,
        "OMP_DYNAMIC": "FALSE",
        "MKL_DYNAMIC": "FALSE",
        "GLIBC_TUNABLES": "glibc.cpu.hwcaps=" + ",".join(f"-{name}" for name in _GLIBC),
        "NPY_DISABLE_CPU_FEATURES": " ".join(_NUMPY),
    }
