"""Strided elements brought together, or written back: by numpy where it is there, else by slices of
memory, in an order that the cache bears.
"""

from __future__ import annotations

from typing import Any, Iterator, List, Tuple

from ._tiles import Axis, together, walk

_NEAR = 256 << 10  # bytes that the cache holds while the other axes move on


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


def gathered(
    memory: memoryview, start: int, shape: List[int], strides: List[int], width: int
) -> Any:
    """Copies strided elements to row-major bytes, at the memory's speed where numpy is there."""
    axes = _merged(shape, _plain(shape, width), strides)
    numpy = numpy_or_none()
    if numpy is not None:
        return _by_numpy(numpy, memory, start, axes, width)
    out = memoryview(bytearray(count(shape) * width))
    if not together(out, memory, start, axes, width):
        _walk(out, 0, memory, start, axes, width)
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
    plain = _plain(shape, width)
    a = plain if to_strides is None else to_strides
    b = plain if from_strides is None else from_strides
    _walk(to, at, source, start, _merged(shape, a, b), width)


def _plain(shape: Any, width: int) -> List[int]:
    """The strides of row-major elements."""
    strides: List[int] = []
    step = width
    for d in reversed(shape):
        strides.insert(0, step)
        step *= max(d, 1)
    return strides


def _merged(shape: Any, to: Any, source: Any) -> List[Axis]:
    """Length and both strides of each axis; neighbours that lie alike on both sides are one."""
    axes: List[Axis] = []
    for n, p, q in zip(shape, to, source):
        if n == 1:
            continue
        if axes and axes[-1][1] == n * p and axes[-1][2] == n * q:
            axes[-1] = (axes[-1][0] * n, p, q)
        else:
            axes.append((n, p, q))
    return axes


def _by_numpy(numpy: Any, memory: memoryview, start: int, axes: List[Axis], width: int) -> Any:
    low = start + sum((n - 1) * q for n, _, q in axes if q < 0)
    high = start + sum((n - 1) * q for n, _, q in axes if q > 0) + width
    kind = {1: "u1", 2: "u2", 4: "u4", 8: "u8", 16: "c16"}[width]
    base = numpy.frombuffer(memory[low:high], dtype="u1")
    sizes = [n for n, _, _ in axes]
    view = numpy.ndarray(sizes, kind, base, start - low, [q for _, _, q in axes])
    whole = numpy.empty(sizes, kind)
    for block in _blocks(axes):
        whole[block] = view[block]
    return memoryview(whole.reshape(-1)).cast("B")


# what is copied at a time where rows and columns change places: so many neighbours of the source by
# so many of the result
_BLOCK = (128, 128)
_SHORT = 16  # an axis so short is better walked from outside


def _blocks(axes: List[Axis]) -> Iterator[Tuple[Any, ...]]:
    """Blocks that the cache holds on both sides."""
    last = len(axes) - 1
    near = min(range(len(axes)), key=lambda i: abs(axes[i][2]), default=last)
    if near == last:
        yield (...,)
        return
    wide, long = axes[last][0], axes[near][0]
    ahead = (slice(None),) * near
    if wide <= _SHORT < long:
        step = _BLOCK[0] * _BLOCK[1] // wide
        for i in range(0, long, step):
            for k in range(wide):
                yield (*ahead, slice(i, i + step), ..., k)
        return
    step = min(long, _BLOCK[0])
    across = max(_BLOCK[0] * _BLOCK[1] // step, _BLOCK[1])
    for i in range(0, long, step):
        for k in range(0, wide, across):
            yield (*ahead, slice(i, i + step), ..., slice(k, k + across))


def _walk(
    to: memoryview, at: int, source: memoryview, start: int, axes: List[Axis], width: int
) -> None:
    if not axes:
        to[at : at + width] = source[start : start + width]
        return
    outer = list(axes)
    if outer[-1][1] == width == outer[-1][2]:
        n, p, q = outer.pop()
        size, tile = n * width, n

        def run(x: int, y: int) -> None:
            to[x : x + size] = source[y : y + size]

    else:
        n, p, q = outer.pop(max(range(len(outer)), key=lambda i: outer[i][0]))
        tile = max(_NEAR // max(abs(p), abs(q), 1), 1024) if outer else n
        steps = [s for axis in axes for s in axis[1:]]
        even = all(v % width == 0 for v in (at, start, to.nbytes, *steps))
        unit = width if width in (1, 2, 4, 8) and even else 1
        cast = {1: "B", 2: "H", 4: "I", 8: "Q"}[unit]
        ours, theirs = to.cast(cast), source[: source.nbytes // unit * unit].cast(cast)

        def run(x: int, y: int) -> None:
            for k in range(0, width, unit):
                ours[_stretch((x + k) // unit, p // unit, many)] = theirs[
                    _stretch((y + k) // unit, q // unit, many)
                ]

    for first in range(0, n, tile):
        many = min(tile, n - first)
        walk(outer, at + first * p, start + first * q, run)


def _stretch(first: int, step: int, n: int) -> slice:
    end = first + (n - 1) * step + (1 if step > 0 else -1)
    return slice(first, end if end >= 0 else None, step)
