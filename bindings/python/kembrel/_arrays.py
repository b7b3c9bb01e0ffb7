"""Arrays by open protocols: to bytes, row-major and little endian, and back."""

from __future__ import annotations

import ctypes
import sys
from typing import Any, Callable, Optional, Tuple

WIDTHS = {
    "F64": 8, "F32": 4, "F16": 2, "BF16": 2, "F8_E4M3": 1, "F8_E5M2": 1,
    "I64": 8, "I32": 4, "I16": 2, "I8": 1, "U64": 8, "U32": 4, "U16": 2, "U8": 1, "BOOL": 1,
}
_KINDS = {("f", 8): "F64", ("f", 4): "F32", ("f", 2): "F16", ("b", 1): "BOOL"}
_KINDS.update({("i", w): f"I{8 * w}" for w in (1, 2, 4, 8)})
_KINDS.update({("u", w): f"U{8 * w}" for w in (1, 2, 4, 8)})
_FORMATS = {"d": "f", "f": "f", "e": "f", "?": "b", "b": "i", "h": "i", "i": "i", "l": "i", "q": "i", "n": "i",
            "B": "u", "H": "u", "I": "u", "L": "u", "Q": "u", "N": "u"}
_NATIVE = {"F64": "d", "F32": "f", "I64": "q", "I32": "i", "I16": "h", "I8": "b", "U64": "Q", "U32": "I", "U16": "H", "U8": "B", "BOOL": "?"}
_NUMPY = {"F64": "f8", "F32": "f4", "F16": "f2", "I64": "i8", "I32": "i4", "I16": "i2", "I8": "i1",
          "U64": "u8", "U32": "u4", "U16": "u2", "U8": "u1", "BOOL": "?"}
# Codes of DLPack's DLDataType.
_DLPACK = {(0, 8): "I8", (0, 16): "I16", (0, 32): "I32", (0, 64): "I64", (1, 8): "U8", (1, 16): "U16", (1, 32): "U32", (1, 64): "U64",
           (2, 16): "F16", (2, 32): "F32", (2, 64): "F64", (4, 16): "BF16", (6, 8): "BOOL", (10, 8): "F8_E4M3", (12, 8): "F8_E5M2"}


class Raw:
    """An array of a type that Python has no view of, such as BF16: its dtype, shape and bytes (row-major, little endian)."""

    def __init__(self, dtype: str, shape: Tuple[int, ...], data: Any) -> None:
        view = memoryview(data).cast("B") if not isinstance(data, memoryview) or data.format != "B" else data
        count = 1
        for d in shape:
            count *= d
        if dtype not in WIDTHS or count * WIDTHS[dtype] != len(view):
            raise ValueError(f"{len(view)} bytes do not fill {dtype} {tuple(shape)}")
        self.dtype, self.shape, self.data = dtype, tuple(shape), view

    def __repr__(self) -> str:
        return f"Raw({self.dtype}, {self.shape})"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Raw) and (self.dtype, self.shape, bytes(self.data)) == (other.dtype, other.shape, bytes(other.data))


def is_array(x: Any) -> bool:
    """Whether x is an array by any protocol; bytes and bytearray are not."""
    if isinstance(x, (Raw, memoryview)):
        return True
    if isinstance(x, (str, bytes, bytearray, int, float, bool, dict, list, tuple, type, type(None))):
        return False
    if any(hasattr(x, name) for name in ("__array_interface__", "__dlpack__", "__array__")):
        return True
    try:
        memoryview(x)
    except TypeError:
        return False
    return True


def to_bytes(x: Any) -> Tuple[str, Tuple[int, ...], Any]:
    """The dtype, shape and bytes of an array. It raises TypeError for elements that are no numbers."""
    if isinstance(x, Raw):
        return x.dtype, x.shape, x.data
    try:
        view = memoryview(x)
    except (TypeError, ValueError, BufferError):
        view = None
    if view is not None:
        return _from_view(view)
    if hasattr(x, "__array_interface__"):
        return _from_interface(x)
    if hasattr(x, "__dlpack__"):
        return _from_dlpack(x)
    if hasattr(x, "__array__"):
        return to_bytes(x.__array__())
    raise TypeError(f"{type(x).__name__} is no array by any protocol known here")


def _ordered(dtype: str, shape: Tuple[int, ...], data: Any, big: bool) -> Tuple[str, Tuple[int, ...], Any]:
    width = WIDTHS[dtype]
    if big and width > 1:
        swapped = bytearray(data)
        for i in range(width // 2):
            swapped[i::width], swapped[width - 1 - i::width] = swapped[width - 1 - i::width], swapped[i::width]
        data = swapped
    return dtype, shape, data


def _from_view(view: memoryview) -> Tuple[str, Tuple[int, ...], Any]:
    form = view.format.lstrip("@=<>!")
    if form not in _FORMATS:
        raise TypeError(f"elements of format {view.format!r} are no numbers that can be saved")
    dtype = _KINDS[_FORMATS[form], view.itemsize]
    big = view.format[0] in ">!" or sys.byteorder == "big" and view.format[0] not in "<"
    data = view.cast("B") if view.c_contiguous and view.nbytes and not big else view.tobytes()
    return _ordered(dtype, view.shape, data, big)


def _from_interface(x: Any) -> Tuple[str, Tuple[int, ...], Any]:
    about = x.__array_interface__
    order, kind, width = about["typestr"][0], about["typestr"][1], int(about["typestr"][2:])
    dtype = _KINDS.get((kind, width))
    if dtype is None:
        raise TypeError(f"elements of type {about['typestr']!r} are no numbers that can be saved")
    shape = tuple(about["shape"])
    data = about.get("data")
    if not isinstance(data, tuple):
        return _ordered(dtype, shape, memoryview(data if data is not None else x).cast("B"), order == ">")
    return _ordered(dtype, shape, _gather(data[0], shape, about.get("strides"), width), order == ">")


def _gather(address: int, shape: Tuple[int, ...], strides: Optional[Tuple[int, ...]], width: int) -> bytes:
    """Copies an array at an address, whatever its strides in bytes, to row-major bytes."""
    count = 1
    for d in shape:
        count *= d
    if count == 0:
        return b""
    plain, step = [], width
    for d in reversed(shape):
        plain.insert(0, step)
        step *= d
    if strides is None or all(s == p or d == 1 for s, p, d in zip(strides, plain, shape)):
        return ctypes.string_at(address, count * width)
    if len(shape) == 1:
        return b"".join(ctypes.string_at(address + i * strides[0], width) for i in range(shape[0]))
    return b"".join(_gather(address + i * strides[0], shape[1:], strides[1:], width) for i in range(shape[0]))


class _Tensor(ctypes.Structure):
    """DLPack's DLTensor, which a DLManagedTensor begins with."""

    _fields_ = [("data", ctypes.c_void_p), ("device_type", ctypes.c_int32), ("device_id", ctypes.c_int32), ("ndim", ctypes.c_int32),
                ("code", ctypes.c_uint8), ("bits", ctypes.c_uint8), ("lanes", ctypes.c_uint16),
                ("shape", ctypes.POINTER(ctypes.c_int64)), ("strides", ctypes.POINTER(ctypes.c_int64)), ("byte_offset", ctypes.c_uint64)]


def _from_dlpack(x: Any) -> Tuple[str, Tuple[int, ...], Any]:
    if hasattr(x, "__dlpack_device__") and int(x.__dlpack_device__()[0]) != 1:
        raise TypeError("an array on another device than the CPU cannot be saved; copy it to the CPU first")
    capsule = x.__dlpack__()  # its owner is freed with it: it stays unconsumed
    pointer = ctypes.pythonapi.PyCapsule_GetPointer
    pointer.restype, pointer.argtypes = ctypes.c_void_p, [ctypes.py_object, ctypes.c_char_p]
    t = _Tensor.from_address(pointer(capsule, b"dltensor"))
    dtype = _DLPACK.get((t.code, t.bits))
    if dtype is None or t.lanes != 1:
        raise TypeError(f"elements of DLPack type {t.code}, {t.bits} bits cannot be saved")
    shape = tuple(t.shape[i] for i in range(t.ndim))
    width = WIDTHS[dtype]
    strides = tuple(t.strides[i] * width for i in range(t.ndim)) if t.strides else None
    data = _gather((t.data or 0) + t.byte_offset, shape, strides, width)
    del capsule
    return dtype, shape, data


def from_bytes(dtype: str, shape: Tuple[int, ...], data: bytearray, make: Optional[Callable[[str, Tuple[int, ...], memoryview], Any]] = None) -> Any:
    """An array of bytes as to_bytes gives them: what make returns; or a numpy array, where numpy is installed and knows the type; or a
    memoryview; or Raw."""
    if make is not None:
        return make(dtype, shape, memoryview(data))
    if dtype in _NUMPY:
        try:
            import numpy
        except ImportError:
            numpy = None
        if numpy is not None:
            return numpy.frombuffer(data, dtype="<" + _NUMPY[dtype] if dtype != "BOOL" else "?").reshape(shape)
    if dtype not in _NATIVE or sys.byteorder == "big" or 0 in shape:
        return Raw(dtype, shape, data)
    view = memoryview(data)
    return view.cast(_NATIVE[dtype], list(shape))
