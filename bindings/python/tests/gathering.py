"""Arrays that lie in memory in every order are brought together and written back as numpy does it,
by numpy and without.
"""

import collections
import random

import numpy
from kembrel import _strided

draw = random.Random(7)
ways = collections.Counter()
by_tiles = _strided.together


def counted(*args):
    done = by_tiles(*args)
    ways[done] += 1
    return done


def strided(width):
    """An array of random bytes: axes in any order, some of them stepped over or turned round."""
    shape = [draw.choice([1, 2, 3, 5, 17, 40, 64, 300]) for _ in range(draw.randint(0, 4))]
    while _strided.count(shape) > 100_000:
        shape[draw.randrange(len(shape))] = 2
    steps = [draw.choice([1, 1, 2, 3]) for _ in shape]
    order = draw.sample(range(len(shape)), len(shape))
    kind = {1: "u1", 2: "u2", 4: "u4", 8: "u8", 16: "c16"}[width]
    large = [shape[i] * steps[i] for i in order]
    base = numpy.frombuffer(draw.randbytes(_strided.count(large) * width), kind).reshape(large)
    turned = base.transpose(numpy.argsort(order)) if shape else base
    stepped = (slice(None, None, s * draw.choice([1, 1, 1, -1])) for s in steps)
    view = turned[(..., *stepped)]
    start = view.__array_interface__["data"][0] - base.__array_interface__["data"][0]
    return base.tobytes(), view, start


numpy_or_none = _strided.numpy_or_none
_strided.together = counted
for _ in range(1500):
    width = draw.choice([1, 2, 4, 8, 16])
    data, view, start = strided(width)
    before = draw.choice([0, 0, 1, 4])
    memory = memoryview(bytes(before) + data + bytes(draw.choice([0, 3])))
    shape, strides = list(view.shape), list(view.strides)
    wanted, where = view.tobytes(), (shape, strides, width, before)
    for numpys in numpy_or_none, lambda: None:
        _strided.numpy_or_none = numpys
        got = bytes(_strided.gathered(memory, before + start, shape, strides, width))
        assert got == wanted, where
    back = bytearray(len(memory))
    into = memoryview(back)
    _strided.copy(into, before + start, strides, memoryview(wanted), 0, None, shape, width)
    assert (
        numpy.ndarray(shape, view.dtype, back, before + start, strides).tobytes() == wanted
    ), where

assert min(ways[True], ways[False]) > 100, ways
print("gathered")
