"""Prints how long strided arrays take to be brought together, beside a contiguous copy of as many
bytes: with numpy, and without (python3 -S). Both copy into memory that is new to the program, as a
save does: else one of them gets back what the other has just let go, now and then.
"""

import ctypes
import os
import sys
import time

if "MALLOC_MMAP_THRESHOLD_" not in os.environ:
    os.environ["MALLOC_MMAP_THRESHOLD_"] = "1048576"
    os.execv(sys.executable, sys.orig_argv)

from kembrel._arrays import find


class Strided:
    """An array of floats of four bytes, by the interface protocol."""

    def __init__(self, shape, strides):
        self.memory = bytearray(4 * (1 + sum((d - 1) * s for d, s in zip(shape, strides))))
        address = ctypes.addressof((ctypes.c_ubyte * len(self.memory)).from_buffer(self.memory))
        self.__array_interface__ = {
            "shape": shape,
            "strides": tuple(4 * s for s in strides),
            "typestr": "<f4",
            "data": (address, False),
            "version": 3,
        }


def took(do):
    began = time.perf_counter()
    do()
    return time.perf_counter() - began


for name, shape, strides in (
    ("transposed", (2048, 4096), (1, 2048)),
    ("two million rows of four, transposed", (4, 2_000_000), (1, 4)),
    ("four long rows, transposed", (2_000_000, 4), (1, 2_000_000)),
    ("every other column", (4096, 2048), (4096, 2)),
    ("channels last, 64", (32, 64, 64, 64), (64 * 64 * 64, 1, 64 * 64, 64)),
    ("channels last, 3", (16, 3, 400, 400), (3 * 400 * 400, 1, 3 * 400, 3)),
):
    count = 4
    for d in shape:
        count *= d
    x = Strided(shape, strides)
    plain = bytearray(count)
    rounds = [
        (took(lambda: bytearray(plain)), took(lambda: list(find(x).pieces()))) for _ in range(5)
    ]
    ratios = sorted(b / a for a, b in rounds)
    print(f"| {name} | {ratios[2]:.1f} ({ratios[0]:.1f}, {ratios[-1]:.1f}) |")
