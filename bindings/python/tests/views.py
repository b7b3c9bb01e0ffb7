"""Views that are computed only when they are looked at, against reading them element by element.

Each library here hands out the memory of the view's source, as if there were nothing to compute.
"""

import itertools

from kembrel import Raw
from kembrel._arrays import to_bytes
from kembrel._tree import Flat

from strangers import Memory, Shared


class Lazy(Shared):
    """A view whose elements are computed by what when they are looked at; times one makes it an
    array.
    """

    what = staticmethod(lambda v: v)

    def __getitem__(self, index):
        at = self.m.offset + sum(i * s for i, s in zip(index, self.m.strides))
        width = self.m.width
        import struct

        return self.what(struct.unpack_from("<" + self.m.letter, self.m.buffer, at * width)[0])

    def __mul__(self, factor):
        shape = self.shape
        values = [self[i] * factor for i in itertools.product(*(range(d) for d in shape))]
        return Shared(self.m.letter, shape, values)


class Negative(Lazy):
    what = staticmethod(lambda v: -v)


class Doubled(Lazy):
    what = staticmethod(lambda v: 2 * v)


class Silent(Negative):
    """One that can be looked into, and of which nothing else can be made."""

    def __mul__(self, factor):
        raise RuntimeError("not here")


class Complex(Shared):
    """Complex numbers in pairs, conjugated only when they are looked at."""

    dtype = "lib.complex128"

    def __init__(self, pairs, conjugated):
        super().__init__("d", (2 * len(pairs),), [v for pair in pairs for v in pair])
        self.shape, self.conjugated = (len(pairs),), conjugated

    def __dlpack__(self, **wishes):
        raise BufferError("no complex numbers in this version")

    @property
    def __array_interface__(self):
        return {
            "version": 3,
            "typestr": "<c16",
            "shape": self.shape,
            "data": (self.m.address(), False),
        }

    def __getitem__(self, index):
        real, imag = self.m.values()[2 * index[0] : 2 * index[0] + 2]
        return complex(real, -imag if self.conjugated else imag)

    def __mul__(self, factor):
        pairs = [(v.real, v.imag) for v in (self[(i,)] for i in range(self.shape[0]))]
        return Complex(pairs, False)


def plain(x):
    dtype, shape, data = to_bytes(x)
    letter = {"F64": "d", "F32": "f", "C128": "d"}[dtype]
    return memoryview(bytes(data)).cast(letter).tolist(), tuple(shape)


def looked_at(x):
    return [x[i] for i in itertools.product(*(range(d) for d in x.shape))]


values = [0.0] * 5000 + [1.5, -2.0, 0.0, 4.0] * 250
for kind in (Lazy, Negative, Doubled):
    for shape, strides in (
        ((6000,), None),
        ((60, 100), None),
        ((100, 60), (1, 100)),  # transposed without a copy
        ((3000,), (2,)),
    ):
        x = kind("d", shape, Memory("d", shape, values, strides))
        assert plain(x) == (looked_at(x), shape), (kind, shape, strides)

c = Complex([(0, 0), (1, 2), (3, -4)], True)
assert plain(c)[0] == [0, 0, 1, -2, 3, 4]
assert plain(Complex([(1, 2)], False))[0] == [1, 2]

left = Flat({"a": Silent("d", (2,), [1.0, 2.0]), "b": 1}).left_out
assert len(left) == 1 and "does not hold the values that it shows" in left[0], left
assert Raw
print("views read")
