"""Classes that speak the open protocols as array and training libraries do, each with one of their
ways: what a stranger's state is made of.
"""

import array
import ctypes
import struct

from kembrel._arrays import _Tensor

ALIVE = []
CODES = {"f": (2, 32), "d": (2, 64), "i": (0, 32), "q": (0, 64), "B": (1, 8), "?": (6, 8)}


class Memory:
    """Elements in memory of their own, row-major, that other objects may share; strides in
    elements.
    """

    def __init__(self, letter, shape, values, strides=None, offset=0, memory=None):
        self.letter, self.shape = letter, tuple(shape)
        self.buffer = (
            memory
            if memory is not None
            else bytearray(struct.pack(f"<{len(values)}{letter}", *values))
        )
        self.width = struct.calcsize(letter)
        plain, step = [], 1
        for d in reversed(self.shape):
            plain.insert(0, step)
            step *= max(d, 1)
        self.strides = tuple(plain if strides is None else strides)
        self.offset = offset

    def address(self):
        return ctypes.addressof(ctypes.c_char.from_buffer(self.buffer)) + self.offset * self.width

    def capsule(self, device=(1, 0)):
        code, bits = CODES[self.letter]
        self.held = (
            (ctypes.c_int64 * max(1, len(self.shape)))(*self.shape),
            (ctypes.c_int64 * max(1, len(self.shape)))(*self.strides),
        )
        self.tensor = _Tensor(
            self.address(),
            device[0],
            device[1],
            len(self.shape),
            code,
            bits,
            1,
            self.held[0],
            self.held[1],
            0,
        )
        ALIVE.append(self)  # a capsule owns what it tells of
        new = ctypes.pythonapi.PyCapsule_New
        new.restype, new.argtypes = ctypes.py_object, [
            ctypes.c_void_p,
            ctypes.c_char_p,
            ctypes.c_void_p,
        ]
        return new(ctypes.addressof(self.tensor), b"dltensor", None)

    def indices(self):
        def walk(axis, at):
            if axis == len(self.shape):
                yield at
                return
            for i in range(self.shape[axis]):
                yield from walk(axis + 1, at + i * self.strides[axis])

        return list(walk(0, self.offset))

    def values(self):
        all_of_it = struct.unpack(f"<{len(self.buffer) // self.width}{self.letter}", self.buffer)
        return [all_of_it[i] for i in self.indices()]

    def set(self, values):
        for i, v in zip(self.indices(), values):
            struct.pack_into(f"<{self.letter}", self.buffer, i * self.width, v)


class Shared:
    """An array that may be written, and speaks DLPack."""

    def __init__(self, letter, shape, values=(), **more):
        self.m = values if isinstance(values, Memory) else Memory(letter, shape, values, **more)
        self.shape = self.m.shape
        self.dtype = (
            "lib."
            + {
                "f": "float32",
                "d": "float64",
                "i": "int32",
                "q": "int64",
                "B": "uint8",
                "?": "bool",
            }[self.m.letter]
        )

    def __dlpack_device__(self):
        return (1, 0)

    def __dlpack__(self, **wishes):
        return self.m.capsule()

    def __setitem__(self, key, value):
        assert key is ...
        self.m.set(value.m.values())

    def turned(self):
        return type(self)(
            "",
            (),
            Memory(
                self.m.letter,
                self.shape[::-1],
                (),
                self.m.strides[::-1],
                self.m.offset,
                self.m.buffer,
            ),
        )

    def values(self):
        return self.m.values()


class Tracked(Shared):
    """A parameter under training: it is not given away while gradients are tracked, and not
    assigned to.
    """

    def __dlpack__(self, **wishes):
        raise RuntimeError("cannot export an array that tracks gradients")

    def __array__(self, dtype=None):
        raise RuntimeError("cannot convert an array that tracks gradients")

    def __setitem__(self, key, value):
        raise RuntimeError("a leaf that tracks gradients is used in place")

    def detach(self):
        return Shared("", (), self.m)


class NoBooleans(Shared):
    """Its DLPack refuses booleans; numpy's interface has them."""

    def __dlpack__(self, **wishes):
        raise BufferError("no booleans in this version")

    @property
    def __array_interface__(self):
        return {
            "version": 3,
            "typestr": "|b1",
            "shape": self.shape,
            "data": (self.m.address(), False),
        }


class BytesForBooleans(Shared):
    """Exports booleans as bytes."""

    def __dlpack__(self, **wishes):
        CODES["?"], before = (1, 8), CODES["?"]
        try:
            return self.m.capsule()
        finally:
            CODES["?"] = before


class Negated:
    """A view that is negated when it is looked at: its memory holds the other sign, and it gives
    that to nobody.
    """

    def __init__(self, of):
        self.of, self.shape, self.dtype = of, of.shape, of.dtype

    def __dlpack_device__(self):
        return (1, 0)

    def __dlpack__(self, **wishes):
        raise BufferError("cannot export a view that is negated")

    def __array__(self, dtype=None):
        raise RuntimeError("resolve the negation first")

    def __mul__(self, factor):
        return Shared(self.of.m.letter, self.shape, [-v * factor for v in self.of.values()])

    def values(self):
        return [-v for v in self.of.values()]


class Frozen(Shared):
    """An immutable array, of which others are made by its namespace."""

    def __setitem__(self, key, value):
        raise TypeError("arrays of this library are immutable")

    def __array_namespace__(self):
        return Namespace


class Namespace:
    @staticmethod
    def from_dlpack(x):
        return Frozen(*_taken(x))

    @staticmethod
    def asarray(x):
        return Frozen(*_taken(x))


def _taken(x):
    view = memoryview(x)
    flat = view.cast("B").cast(view.format.lstrip("<")) if view.ndim != 1 else view
    return view.format.lstrip("<"), view.shape, list(flat)


class Elsewhere(Shared):
    """On another device; it copies itself to the CPU on demand, as the standard says."""

    def __dlpack_device__(self):
        return (2, 0)

    def __dlpack__(self, *, dl_device=None, copy=None, **wishes):
        if dl_device != (1, 0) or not copy:
            raise BufferError("it is on another device")
        return Memory(self.m.letter, self.shape, self.m.values()).capsule()


class Letters:
    """Numpy's interface of sixteen bits that only its library can read."""

    dtype = "bfloat16"

    def __init__(self, bits):
        self.buffer, self.shape = bytearray(struct.pack(f"<{len(bits)}H", *bits)), (len(bits),)

    @property
    def __array_interface__(self):
        return {
            "version": 3,
            "typestr": "|V2",
            "shape": self.shape,
            "data": (ctypes.addressof(ctypes.c_char.from_buffer(self.buffer)), False),
        }


def grid(kind=Shared, n=3, m=4):
    return kind("f", (n, m), [float(i) for i in range(n * m)])


def letters(values):
    return array.array("d", values)
