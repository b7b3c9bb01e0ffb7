"""Arrays by open protocols: to bytes, row-major and little endian, and back.

An array is read by the first protocol that works, not the first that is there: some refuse DLPack
for booleans, for arrays that track gradients, or for views that are negated only when they are
looked at. Nothing here changes the array it reads.
"""

from __future__ import annotations

import ctypes
import struct
import sys
from typing import Any, Callable, Dict, Iterator, List, Optional, Tuple

from ._strided import copy, count, gathered, numpy_or_none

WIDTHS = {
    "F64": 8,
    "F32": 4,
    "F16": 2,
    "BF16": 2,
    "F8_E4M3": 1,
    "F8_E5M2": 1,
    "I64": 8,
    "I32": 4,
    "I16": 2,
    "I8": 1,
    "U64": 8,
    "U32": 4,
    "U16": 2,
    "U8": 1,
    "BOOL": 1,
}
COMPLEX = {"C64": "F32", "C128": "F64"}
"""Complex types, which the file format has not: they lie in it as pairs of these."""
_WIDTHS = {**WIDTHS, "C64": 8, "C128": 16}
_KINDS = {
    ("f", 8): "F64",
    ("f", 4): "F32",
    ("f", 2): "F16",
    ("b", 1): "BOOL",
    ("c", 8): "C64",
    ("c", 16): "C128",
}
_KINDS.update({("i", w): f"I{8 * w}" for w in (1, 2, 4, 8)})
_KINDS.update({("u", w): f"U{8 * w}" for w in (1, 2, 4, 8)})
_FORMATS = {
    "d": "f",
    "f": "f",
    "e": "f",
    "?": "b",
    "b": "i",
    "h": "i",
    "i": "i",
    "l": "i",
    "q": "i",
    "n": "i",
    "B": "u",
    "H": "u",
    "I": "u",
    "L": "u",
    "Q": "u",
    "N": "u",
    "c": "u",
    "Zf": "c",
    "Zd": "c",
}
_NATIVE = {
    "F64": "d",
    "F32": "f",
    "I64": "q",
    "I32": "i",
    "I16": "h",
    "I8": "b",
    "U64": "Q",
    "U32": "I",
    "U16": "H",
    "U8": "B",
    "BOOL": "?",
}
_NUMPY = {
    "F64": "f8",
    "F32": "f4",
    "F16": "f2",
    "I64": "i8",
    "I32": "i4",
    "I16": "i2",
    "I8": "i1",
    "U64": "u8",
    "U32": "u4",
    "U16": "u2",
    "U8": "u1",
    "BOOL": "?",
    "C64": "c8",
    "C128": "c16",
}
_NAMED = {
    "bfloat16": "BF16",
    "float8_e4m3fn": "F8_E4M3",
    "float8_e4m3": "F8_E4M3",
    "float8_e5m2": "F8_E5M2",
    "bool": "BOOL",
    "bool_": "BOOL",
}
# Codes of DLPack's DLDataType.
_DLPACK = {
    (0, 8): "I8",
    (0, 16): "I16",
    (0, 32): "I32",
    (0, 64): "I64",
    (1, 8): "U8",
    (1, 16): "U16",
    (1, 32): "U32",
    (1, 64): "U64",
    (2, 16): "F16",
    (2, 32): "F32",
    (2, 64): "F64",
    (4, 16): "BF16",
    (5, 64): "C64",
    (5, 128): "C128",
    (6, 8): "BOOL",
    (10, 8): "F8_E4M3",
    (12, 8): "F8_E5M2",
}
# How an element is read: its letter for struct, and what is made of what that gives.
_READ: Dict[str, Tuple[str, Callable[[Tuple[Any, ...]], Any]]] = {
    name: (letter, lambda v: v[0]) for name, letter in _NATIVE.items()
}
_READ.update(
    {
        "F16": ("e", lambda v: v[0]),
        "BF16": ("H", lambda v: struct.unpack("<f", struct.pack("<I", v[0] << 16))[0]),
        "C64": ("ff", lambda v: complex(*v)),
        "C128": ("dd", lambda v: complex(*v)),
    }
)
_ON_HOST = (
    1,
    3,
    11,
)  # DLPack's devices whose memory this process reads: the CPU's, and pinned memory
_SLAB = 16 << 20  # bytes that are copied at a time


class Raw:
    """An array of a type that Python has no view of, such as BF16: its dtype, shape and bytes
    (row-major, little endian).
    """

    def __init__(self, dtype: str, shape: Tuple[int, ...], data: Any) -> None:
        view = (
            memoryview(data).cast("B")
            if not isinstance(data, memoryview) or data.format != "B"
            else data
        )
        if dtype not in _WIDTHS or count(shape) * _WIDTHS[dtype] != len(view):
            raise ValueError(f"{len(view)} bytes do not fill {dtype} {tuple(shape)}")
        self.dtype, self.shape, self.data = dtype, tuple(shape), view

    def __repr__(self) -> str:
        return f"Raw({self.dtype}, {self.shape})"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Raw) and (self.dtype, self.shape, bytes(self.data)) == (
            other.dtype,
            other.shape,
            bytes(other.data),
        )

    __hash__ = None  # type: ignore[assignment]


class Array:
    """An array as it lies in memory: dtype, shape, and elements in a flat view of bytes, the first
    at start, strides bytes apart on each axis. keep holds what the memory belongs to.
    """

    def __init__(
        self,
        dtype: str,
        shape: Tuple[int, ...],
        memory: memoryview,
        start: int,
        strides: Optional[Tuple[int, ...]],
        big: bool,
        keep: Any,
    ) -> None:
        self.dtype, self.shape, self.width = dtype, tuple(int(d) for d in shape), _WIDTHS[dtype]
        self.memory, self.start, self.big, self.keep = memory, start, big, keep
        self.address: Optional[int] = None  # of the first element, where the protocol tells it
        plain: List[int] = []
        step = self.width
        for d in reversed(self.shape):
            plain.insert(0, step)
            step *= max(d, 1)
        self.strides = plain if strides is None else [int(s) for s in strides]
        self.size = count(self.shape)
        self.nbytes = self.size * self.width
        self.flat = self.size == 0 or all(
            s == p or d == 1 for s, p, d in zip(self.strides, plain, self.shape)
        )

    def place(self) -> Any:
        """Where it lies, for recognising arrays that share their memory; None: not known, or
        nowhere.
        """
        if self.size == 0 or not self.memory.nbytes:
            return None
        at = self.address
        if at is None:
            if self.memory.readonly:
                return None
            at = ctypes.addressof(ctypes.c_char.from_buffer(self.memory)) + self.start
        return at, self.dtype, self.shape, tuple(self.strides)

    def pieces(self) -> Iterator[Any]:
        """Its bytes, row-major and little endian: views of its memory where it lies so, else copies
        of at most some megabytes each.
        """
        if self.size == 0:
            return
        swap = (self.width if self.dtype not in COMPLEX else self.width // 2) if self.big else 1
        if self.flat and swap == 1:
            yield self.memory[self.start : self.start + self.nbytes]
            return
        for start, shape, strides in self._slabs(self.start, list(self.shape), list(self.strides)):
            piece = gathered(self.memory, start, shape, strides, self.width)
            yield piece if swap == 1 else _swapped(piece, swap)

    def _slabs(
        self, start: int, shape: List[int], strides: List[int]
    ) -> Iterator[Tuple[int, List[int], List[int]]]:
        if not shape or count(shape) * self.width <= _SLAB:
            yield start, shape, strides
            return
        row = count(shape[1:]) * self.width
        if row > _SLAB:
            for i in range(shape[0]):
                yield from self._slabs(start + i * strides[0], shape[1:], strides[1:])
            return
        many = max(1, _SLAB // row)
        for i in range(0, shape[0], many):
            yield start + i * strides[0], [min(many, shape[0] - i), *shape[1:]], strides

    def fill(self, data: Any) -> None:
        """Writes such bytes into its memory, which must be writable and little endian."""
        source = memoryview(data).cast("B")
        if self.flat:
            self.memory[self.start : self.start + self.nbytes] = source
            return
        copy(self.memory, self.start, self.strides, source, 0, None, self.shape, self.width)


def _swapped(data: Any, width: int) -> bytearray:
    out = bytearray(data)
    for i in range(width // 2):
        out[i::width], out[width - 1 - i :: width] = out[width - 1 - i :: width], out[i::width]
    return out


def is_array(x: Any) -> bool:
    """Whether x is an array by any protocol; bytes and bytearray are not."""
    if isinstance(x, (Raw, memoryview)):
        return True
    if isinstance(
        x, (str, bytes, bytearray, int, float, complex, bool, dict, list, tuple, type, type(None))
    ):
        return False
    if any(hasattr(x, name) for name in ("__array_interface__", "__dlpack__", "__array__")):
        return True
    try:
        memoryview(x)
    except Exception:
        return False
    return True


def is_numpy_scalar(x: Any) -> bool:
    """Whether x is a number of numpy's own, such as float32(0.1)."""
    return (
        type(x).__module__ == "numpy"
        and hasattr(x, "dtype")
        and hasattr(x, "item")
        and not hasattr(x, "__setitem__")
        and not isinstance(x, (str, bytes))
    )


def find(x: Any) -> Array:
    """The array as it lies in memory, by the first protocol that works. It raises TypeError, with
    what each said, where none does.
    """
    if isinstance(x, Raw):
        return Array(x.dtype, x.shape, x.data, 0, None, False, x)
    if is_numpy_scalar(x):
        x = numpy_or_none().asarray(x)  # its own interface tells of memory that is gone by then
    said: List[str] = []
    what: Any
    for what in (x, *_others(x)):
        if callable(what):
            try:
                what = what()
            except Exception:
                continue
            if what is None or what is x:
                continue
        for has, read in _PROTOCOLS:
            if has and not hasattr(what, has):
                continue
            try:
                found = read(what)
                if read in _TOLD and not _agrees(x, found):
                    raise TypeError("its memory does not hold the values that it shows")
                return found
            except Exception as e:  # whatever a library raises, another protocol may serve
                if str(e) not in said and not (not has and hasattr(what, "__array__")):
                    said.append(str(e))
    raise TypeError(
        f"a {type(x).__name__} cannot be read by any protocol known here: "
        + "; ".join(s[:200] for s in said[:3])
    )


def _agrees(x: Any, found: Array) -> bool:
    """Whether x shows the value that lies in its memory: a view that is negated or conjugated only
    when it is looked at does not, and some libraries hand its memory out all the same. One element
    other than zero is compared; where x cannot be looked into, its memory is believed.
    """
    at = _place_of_value(found)
    if at is None:
        return True
    index, value = at
    try:
        shown = x[index] if index else x
        item = getattr(shown, "item", None)
        shown = item() if callable(item) else shown
        return bool(complex(shown) == complex(value))
    except Exception:
        return True


_LOOKED = 4096  # elements that are looked at for one other than zero, from the start, and all over


def _place_of_value(found: Array) -> Optional[Tuple[Tuple[int, ...], Any]]:
    """Index and value of an element that is finite and not zero; None: none was found."""
    read = _READ.get(found.dtype)
    if read is None:
        return None
    code, decode = read
    order = ">" if found.big else "<"
    step = max(1, found.size // _LOOKED)
    for flat in (*range(min(found.size, _LOOKED)), *range(0, found.size, step)):
        index: List[int] = []
        rest, at = flat, found.start
        for d, stride in zip(reversed(found.shape), reversed(found.strides)):
            rest, i = divmod(rest, d)
            index.insert(0, i)
            at += i * stride
        value = decode(struct.unpack_from(order + code, found.memory, at))
        if value != 0 and value - value == 0:
            return tuple(index), value
    return None


def _others(x: Any) -> Iterator[Any]:
    """Arrays of the same elements that may be read where x itself may not: made by x, which stays
    as it is.
    """
    for name in ("detach", "copy"):
        made = getattr(x, name, None)
        if callable(made):
            yield made
    yield lambda: x * 1  # a view that is negated or conjugated only when it is looked at


def to_bytes(x: Any) -> Tuple[str, Tuple[int, ...], Any]:
    """Dtype, shape and a copy of the bytes of an array: its memory may belong to one that was made
    only to be read. It raises TypeError for elements that are no numbers.
    """
    a = find(x)
    return a.dtype, a.shape, b"".join(a.pieces())


def _from_buffer(x: Any) -> Array:
    view = memoryview(x)
    form = view.format.lstrip("@=<>!")
    if form not in _FORMATS:
        raise TypeError(f"elements of format {view.format!r} are no numbers that can be saved")
    dtype = _KINDS[_FORMATS[form], view.itemsize]
    shape = tuple(view.shape or ())
    big = view.format[0] in ">!" or sys.byteorder == "big" and view.format[0] not in "<"
    if view.c_contiguous:
        return Array(
            dtype, shape, view.cast("B") if view.nbytes else memoryview(b""), 0, None, big, x
        )
    numpy = numpy_or_none()
    if numpy is not None:
        return _from_interface(numpy.asarray(view), keep=view, big=big)
    return Array(dtype, shape, memoryview(view.tobytes()), 0, None, big, x)


def _named(x: Any, dtype: Optional[str], width: int) -> Optional[str]:
    """The dtype by its name, where the protocol has none for it: a library's own sixteen bits, or
    booleans that came as bytes.
    """
    name = str(getattr(x, "dtype", "")).rsplit(".", 1)[-1]
    known = _NAMED.get(name)
    return known if known is not None and WIDTHS[known] == width else dtype


def _memory(
    address: int, shape: Any, strides: Any, width: int, writable: bool
) -> Tuple[memoryview, int]:
    """A view of the memory that an array spans, and where in it its first element lies."""
    if count(shape) == 0:
        return memoryview(b""), 0
    low, high = 0, width
    if strides is None:
        high = count(shape) * width
    else:
        low += sum((d - 1) * s for d, s in zip(shape, strides) if s < 0)
        high += sum((d - 1) * s for d, s in zip(shape, strides) if s > 0)
    view = memoryview((ctypes.c_ubyte * (high - low)).from_address(address + low)).cast("B")
    return view if writable else view.toreadonly(), -low


def _from_interface(x: Any, keep: Any = None, big: bool = False) -> Array:
    about = x.__array_interface__
    order, kind, width = about["typestr"][0], about["typestr"][1], int(about["typestr"][2:])
    dtype = _KINDS.get((kind, width)) or (_named(x, None, width) if kind == "V" else None)
    if dtype is None:
        raise TypeError(f"elements of type {about['typestr']!r} are no numbers that can be saved")
    shape = tuple(about["shape"])
    data = about.get("data")
    big = big or order == ">"
    if not isinstance(data, tuple):
        return Array(
            dtype,
            shape,
            memoryview(data if data is not None else x).cast("B"),
            int(about.get("offset", 0)),
            about.get("strides"),
            big,
            x,
        )
    memory, start = _memory(data[0] or 0, shape, about.get("strides"), width, not data[1])
    found = Array(dtype, shape, memory, start, about.get("strides"), big, (x, keep, about))
    found.address = data[0]
    return found


def _from_array(x: Any) -> Array:
    made = x.__array__()
    if made is x or made is None:
        raise TypeError("its __array__ gives no other array")
    return (
        _from_interface(made, keep=x)
        if hasattr(made, "__array_interface__")
        else _from_buffer(made)
    )


class _Tensor(ctypes.Structure):
    """DLPack's DLTensor, which a DLManagedTensor begins with."""

    _fields_ = [
        ("data", ctypes.c_void_p),
        ("device_type", ctypes.c_int32),
        ("device_id", ctypes.c_int32),
        ("ndim", ctypes.c_int32),
        ("code", ctypes.c_uint8),
        ("bits", ctypes.c_uint8),
        ("lanes", ctypes.c_uint16),
        ("shape", ctypes.POINTER(ctypes.c_int64)),
        ("strides", ctypes.POINTER(ctypes.c_int64)),
        ("byte_offset", ctypes.c_uint64),
    ]


def _from_dlpack(x: Any) -> Array:
    if hasattr(x, "__dlpack_device__") and int(x.__dlpack_device__()[0]) not in _ON_HOST:
        try:
            capsule = x.__dlpack__(dl_device=(1, 0), copy=True)  # as the standard has it since 2023
        except Exception:
            raise TypeError(
                "an array on another device than the CPU cannot be saved; copy it to the CPU first"
            ) from None
    else:
        capsule = x.__dlpack__()  # its owner is freed with it: it stays unconsumed
    pointer = ctypes.pythonapi.PyCapsule_GetPointer
    pointer.restype, pointer.argtypes = ctypes.c_void_p, [ctypes.py_object, ctypes.c_char_p]
    t = _Tensor.from_address(pointer(capsule, b"dltensor"))
    dtype = _DLPACK.get((t.code, t.bits))
    if dtype is None or t.lanes != 1:
        raise TypeError(f"elements of DLPack type {t.code}, {t.bits} bits cannot be saved")
    if (t.code, t.bits) == (1, 8):
        dtype = _named(x, dtype, 1) or dtype
    shape = tuple(t.shape[i] for i in range(t.ndim))
    width = _WIDTHS[dtype]
    strides = tuple(t.strides[i] * width for i in range(t.ndim)) if t.strides else None
    memory, start = _memory((t.data or 0) + t.byte_offset, shape, strides, width, True)
    found = Array(dtype, shape, memory, start, strides, False, (x, capsule))
    found.address = (t.data or 0) + t.byte_offset
    return found


def from_bytes(
    dtype: str,
    shape: Tuple[int, ...],
    data: Any,
    make: Optional[Callable[[str, Tuple[int, ...], memoryview], Any]] = None,
    kind: str = "",
) -> Any:
    """An array of bytes as to_bytes gives them: what make returns; or an array of the kind that was
    saved, where that is known: memoryview, Raw, array.array's letter, numpy; or a numpy array,
    where numpy is installed and knows the type; or a memoryview; or Raw.
    """
    if make is not None:
        return make(dtype, shape, memoryview(data))
    if kind.startswith("array:"):
        import array

        out = array.array(kind[6:])
        if out.itemsize == _WIDTHS[dtype]:
            out.frombytes(memoryview(data).cast("B"))
            return out
    if kind not in ("memoryview", "raw") and dtype in _NUMPY:
        numpy = numpy_or_none()
        if numpy is not None:
            return numpy.frombuffer(
                data, dtype="<" + _NUMPY[dtype] if dtype != "BOOL" else "?"
            ).reshape(shape)
    if kind == "raw" or dtype not in _NATIVE or sys.byteorder == "big" or 0 in shape:
        return Raw(dtype, shape, data)
    view = memoryview(data)
    return view.cast(_NATIVE[dtype], list(shape))


def kind_of(x: Any) -> str:
    """What is kept of an array's kind, so that it comes back as one; "": not known."""
    if isinstance(x, Raw):
        return "raw"
    if isinstance(x, memoryview):
        return "memoryview"
    if type(x).__module__ == "array":
        return f"array:{x.typecode}"
    return "numpy" if type(x).__module__ == "numpy" else ""


def home_of(x: Any) -> Dict[str, str]:
    """Where arrays of x's kind are made: the module of its namespace, or that of its type, and its
    device; empty where it is none of another library.
    """
    if kind_of(x) or type(x).__module__ in ("builtins", "__main__"):
        return {}
    try:
        space = x.__array_namespace__().__name__
    except Exception:
        space = type(x).__module__.split(".")[0]
    home = {"made by": str(space)}
    device = getattr(x, "device", None)
    if device is not None:
        home["device"] = str(device)
    return home


def at_home(dtype: str, shape: Tuple[int, ...], data: Any, home: Dict[str, str]) -> Any:
    """An array of another library, made by it, of its dtype and on its device; None where that
    library is not loaded here (none is loaded because a file says so), or makes no such array.
    """
    space: Any = sys.modules.get(home.get("made by", ""))
    if space is None:
        return None
    carrier, named = dtype, ""
    if dtype not in _NUMPY:  # such as BF16: handed over as whole numbers of its width
        carrier = {1: "U8", 2: "I16"}.get(_WIDTHS[dtype], dtype)
        named = {"BF16": "bfloat16", "F8_E4M3": "float8_e4m3fn", "F8_E5M2": "float8_e5m2"}.get(
            dtype, ""
        )
    given = from_bytes(carrier, shape, bytearray(data))
    device = home.get("device")
    ways: Tuple[Callable[[], Any], ...] = (
        lambda: space.asarray(given, device=device),
        lambda: space.from_dlpack(given),
        lambda: space.asarray(given),
        lambda: space.array(given),
        lambda: space.asarray(given.tolist()),
    )
    for make in ways:
        try:
            made = make()
            if named:
                made = made.view(getattr(space, named))
            if device is not None and str(getattr(made, "device", device)) != device:
                made = made.to_device(device)
            back = find(made)
        except Exception:
            continue
        if (back.dtype, back.shape) == (dtype, tuple(shape)):
            return made
    return None


# The protocols in their order: what an array must have, and what reads it by that; "" is the
# buffer protocol.
_PROTOCOLS: Tuple[Tuple[str, Callable[[Any], Array]], ...] = (
    ("__dlpack__", _from_dlpack),
    ("__array_interface__", _from_interface),
    ("", _from_buffer),
    ("__array__", _from_array),
)
# Those by which a library tells of its memory, which is compared with what it shows.
_TOLD = (_from_dlpack, _from_interface)
