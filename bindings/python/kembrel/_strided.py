"""Strided elements brought together, or written back: by numpy where it is there, else by slices of
memory, in an order that the cache bears.
"""

from __future__ import annotations

from typing import Any, List


def count(shape: Any) -> int:
    """How many elements an array of this shape has."""
    n = 1
    for d in shape:
        n *= d
    return n


def numpy_or_none() -> Any:
    """numpy, where it is installed."""
    try:
        import numpy
    except Exception:
        return None
    return numpy


# elements far from each other that are read before their neighbours, while the cache has those
_TILE = 128


def gathered(
    memory: memoryview, start: int, shape: List[int], strides: List[int], width: int
) -> Any:
    """Copies strided elements to row-major bytes, at the memory's speed where numpy is there."""
    numpy = numpy_or_none()
    kind = {1: "u1", 2: "u2", 4: "u4", 8: "u8", 16: "c16"}[width]
    if numpy is not None:
        low = start + sum((d - 1) * s for d, s in zip(shape, strides) if s < 0)
        high = start + sum((d - 1) * s for d, s in zip(shape, strides) if s > 0) + width
        base = numpy.frombuffer(memory[low:high], dtype="u1")
        view = numpy.ndarray(shape, kind, base, start - low, strides)
        if view.ndim < 2 or abs(strides[-1]) <= 64 or shape[-1] <= _TILE:
            return (
                memoryview(numpy.ascontiguousarray(view)).cast("B")
                if view.ndim
                else memoryview(view.tobytes())
            )
        whole = numpy.empty(shape, kind)
        for i in range(0, shape[-1], _TILE):
            whole[..., i : i + _TILE] = view[..., i : i + _TILE]
        return memoryview(whole).cast("B")
    out = memoryview(bytearray(count(shape) * width))
    copy(out, 0, None, memory, start, strides, shape, width)
    return out


def copy(
    to: memoryview,
    at: int,
    to_strides: Any,
    source: memoryview,
    start: int,
    from_strides: Any,
    shape: Any,
    width: int,
) -> None:
    """Copies elements between strided places, the longest axis at a time, which the interpreter
    does in one go.
    """
    shape = list(shape)
    plain: List[int] = []
    step = width
    for d in reversed(shape):
        plain.insert(0, step)
        step *= max(d, 1)
    a = list(to_strides) if to_strides is not None else plain
    b = list(from_strides) if from_strides is not None else plain
    axes = [i for i, d in enumerate(shape) if d != 1]
    merged: List[List[int]] = []  # neighbouring axes that lie alike on both sides are one
    for i in axes:
        if merged and merged[-1][1] == shape[i] * a[i] and merged[-1][2] == shape[i] * b[i]:
            merged[-1] = [merged[-1][0] * shape[i], a[i], b[i]]
        else:
            merged.append([shape[i], a[i], b[i]])
    if not merged:
        to[at : at + width] = source[start : start + width]
        return
    if merged[-1][1] == width == merged[-1][2]:
        inner = merged.pop()
        size, tile = inner[0] * width, inner[0]

        def run(x: int, y: int) -> None:
            to[x : x + size] = source[y : y + size]

    else:
        inner = merged.pop(max(range(len(merged)), key=lambda i: merged[i][0]))
        n, p, q = inner
        if (
            len(merged) == 1 and merged[0][2] == width and abs(q) >= _FAR
        ):  # lines as far apart as a power of two drive each other out of the cache
            size = merged[0][0] * width
            apart = bytearray(n * (size + 64))
            for j in range(n):
                apart[j * (size + 64) : j * (size + 64) + size] = source[
                    start + j * q : start + j * q + size
                ]
            source, start, q, b = memoryview(apart), 0, size + 64, [width]
        tile = max(_NEAR // max(abs(p), abs(q), 1), 1024) if merged else n
        unit = (
            width
            if width in (1, 2, 4, 8)
            and all(v % width == 0 for v in (at, start, *a, *b))
            and to.nbytes % width == 0
            else 1
        )
        cast = {1: "B", 2: "H", 4: "I", 8: "Q"}[unit]
        ours, theirs = to.cast(cast), source[: source.nbytes // unit * unit].cast(cast)

        def run(x: int, y: int) -> None:
            for k in range(0, width, unit):
                ours[_stretch((x + k) // unit, p // unit, n)] = theirs[
                    _stretch((y + k) // unit, q // unit, n)
                ]

    def walk(axis: int, x: int, y: int) -> None:
        if axis == len(merged):
            run(x, y)
            return
        n, p, q = merged[axis]
        for i in range(n):
            walk(axis + 1, x + i * p, y + i * q)

    if tile >= inner[0]:
        walk(0, at, start)
        return
    for first in range(0, inner[0], tile):
        n = min(tile, inner[0] - first)
        walk(0, at + first * p, start + first * q)


_FAR = 2048  # bytes between neighbours on an axis
_NEAR = 256 << 10  # bytes that the cache holds while the other axes move on


def _stretch(first: int, step: int, n: int) -> slice:
    end = first + (n - 1) * step + (1 if step > 0 else -1)
    return slice(first, end if end >= 0 else None, step)
