"""Rows and columns that change places, without numpy: tile by tile through arrays of the standard
library, whose slices with a step cost half of a memoryview's.
"""

from __future__ import annotations

from array import array
from typing import Callable, List, Tuple

Axis = Tuple[int, int, int]  # length, stride of the result and of the source in bytes

_CODES = {1: "B", 2: "H", 4: "I", 8: "Q"}
_TILE = 256 << 10  # elements of a tile
_SIDE = 512  # elements of one of its lines at most
_PITCH = 16  # elements between its lines, so that these do not drive each other out of the cache
_FEW = 16  # a stretch of so few elements is not worth a slice


def together(out: memoryview, source: memoryview, start: int, axes: List[Axis], width: int) -> bool:
    """Copies strided elements to row-major bytes; False where these ways bring nothing, and nothing
    has been copied.
    """
    last = len(axes) - 1
    near = min(range(len(axes)), key=lambda i: abs(axes[i][2]), default=last)
    if width not in _CODES or last < 0:
        return False
    first = start % width
    if any(q % width for _, _, q in axes):
        return False
    code = _CODES[width]
    ours = out.cast(code)
    theirs = source[first : first + (source.nbytes - first) // width * width].cast(code)
    tile = array(code, bytes(_TILE * width))
    near_by = memoryview(tile)
    wide, _, apart = axes[last]
    apart //= width
    if near == last:
        if not 1 < apart <= _FEW:
            return False

        def block(x: int, y: int) -> None:  # every other one
            step = _TILE // apart
            for i in range(0, wide, step):
                n = min(step, wide - i)
                a = y + i * apart
                m = (n - 1) * apart + 1
                near_by[:m] = theirs[a : a + m]
                ours[x + i : x + i + n] = memoryview(tile[:m:apart])

    else:
        long, down, beside = axes[near]
        if beside != width:
            return False
        down //= width
        if apart == long <= _TILE // _FEW:

            def block(x: int, y: int) -> None:  # what changes places lies in one piece
                step = _TILE // long
                for i in range(0, wide, step):
                    n = min(step, wide - i)
                    a, m = y + i * long, n * long
                    near_by[:m] = theirs[a : a + m]
                    for k in range(long):
                        b = x + k * down + i
                        ours[b : b + n] = memoryview(tile[k:m:long])

        elif wide <= _FEW and down == wide:

            def block(x: int, y: int) -> None:  # a few long lines that are to be mixed
                step = _TILE // wide
                for i in range(0, long, step):
                    n = min(step, long - i)
                    line = array(code, bytes(n * width))
                    for k in range(wide):
                        a = y + k * apart + i
                        memoryview(line)[:] = theirs[a : a + n]
                        tile[k : n * wide : wide] = line
                    b = x + i * wide
                    ours[b : b + n * wide] = near_by[: n * wide]

        elif wide > _FEW < long:

            def block(x: int, y: int) -> None:
                side = min(long, _SIDE)
                pitch = side + _PITCH
                many = _TILE // pitch
                for i in range(0, wide, many):
                    n = min(many, wide - i)
                    for j in range(0, long, side):
                        m = min(side, long - j)
                        for k in range(n):
                            a = y + (i + k) * apart + j
                            near_by[k * pitch : k * pitch + m] = theirs[a : a + m]
                        for k in range(m):
                            b = x + (j + k) * down + i
                            ours[b : b + n] = memoryview(tile[k : k + n * pitch : pitch])

        else:
            return False
    outer = [
        (n, p // width, q // width) for i, (n, p, q) in enumerate(axes) if i not in (near, last)
    ]

    walk(outer, 0, start // width, block)
    return True


def walk(axes: List[Axis], x: int, y: int, do: Callable[[int, int], None]) -> None:
    """Does something at every place of some axes, from x in the result and y in the source on."""
    if not axes:
        do(x, y)
        return
    n, p, q = axes[0]
    for i in range(n):
        walk(axes[1:], x + i * p, y + i * q, do)
