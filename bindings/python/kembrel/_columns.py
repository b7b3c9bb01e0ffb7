"""Columns as people have them: lists, arrays of numbers, texts, dates or objects, and the columns
and indexes of tables.
"""

from __future__ import annotations

import array
import struct
from typing import Any, Dict, Iterable, List, Tuple

from ._arrays import is_array, to_bytes
from ._values import number

CODES = {"F64": "d", "F32": "f", "I64": "q", "I32": "i", "I16": "h", "I8": "b"}
CODES.update({"U64": "Q", "U32": "I", "U16": "H", "U8": "B", "BOOL": "B"})
_GONE = ("NAType", "NaTType")  # how tables say that a value is missing
_SHOWN = 3  # values of a column that a message names


def flat(dtype: str, data: Any) -> Any:
    """The numbers in the bytes of an array, one after another."""
    raw = bytes(data)
    if dtype == "BF16":  # the upper half of F32
        wide = bytearray(2 * len(raw))
        wide[2::4], wide[3::4] = raw[0::2], raw[1::2]
        dtype, raw = "F32", bytes(wide)
    if dtype == "F16":
        return array.array("f", struct.unpack(f"<{len(raw) // 2}e", raw))
    if dtype not in CODES:
        raise TypeError(f"an array of {dtype} cannot be taken here")
    return array.array(CODES[dtype], raw)


def column(values: Any) -> List[Any]:
    """A column as a list: of an array of numbers (also one that stands upright, n by 1), of texts,
    dates or objects, of a table's column, of a list or anything else that is gone through.
    """
    if isinstance(values, (str, bytes)):
        raise TypeError("a text is no column")
    if not is_array(values):
        return list(values)
    dtype = getattr(values, "dtype", None)
    if getattr(dtype, "kind", "") in "MmSU" and hasattr(values, "astype"):
        values = values.astype(str)  # the numbers that dates are stored as say nothing
        return [None if v in ("NaT", "nan") else v for v in _listed(values)]
    try:
        found, shape, data = to_bytes(values)
    except TypeError:
        return _listed(values)
    if len(shape) == 2 and shape[1] == 1:
        shape = shape[:1]
    if len(shape) != 1:
        raise ValueError(f"a column has one dimension, not the shape {tuple(shape)}")
    return [bool(v) for v in data] if found == "BOOL" else list(flat(found, data))


def _listed(values: Any) -> List[Any]:
    """The values of an array that no protocol of numbers reads."""
    shape = tuple(getattr(values, "shape", ()) or ())
    if len(shape) == 2 and shape[1] == 1 and hasattr(values, "reshape"):
        values = values.reshape(-1)
    elif len(shape) > 1:
        raise ValueError(f"a column has one dimension, not the shape {shape}")
    give = getattr(values, "tolist", None)
    return list(give()) if callable(give) else list(values)


def plain(value: Any) -> Any:
    """A value as JSON has it: a text, a number, a boolean, or None where it is missing."""
    if value is None or type(value) in (str, bool, int):
        return value
    if isinstance(value, str):
        return str(value)
    if isinstance(value, (bytes, bytearray)):
        return bytes(value).decode("utf-8", "replace")
    if type(value).__name__ in _GONE:
        return None
    if type(value).__name__ == "datetime64":
        return None if str(value) == "NaT" else str(value)
    if callable(getattr(value, "isoformat", None)):
        return value.isoformat()
    try:
        v = number(value)
    except Exception:
        return str(value)
    if "bool" in type(value).__name__:
        return bool(v)
    if v - v != 0:
        return None
    return int(v) if v == int(v) and abs(v) < 2**53 else v


def key(value: Any) -> str:
    """A key as text; 32 bytes are a digest. ValueError for one that names nothing."""
    if isinstance(value, (bytes, bytearray)) and len(value) == 32:
        return "b3:" + value.hex()
    known = plain(value)
    text = "" if known is None else str(known)
    if not text:
        raise ValueError("it is empty")
    if not text.isprintable():
        raise ValueError("it has characters that cannot be shown")
    return text


def line(text: str) -> str:
    """A text without what cannot be shown on one line."""
    return text if text.isprintable() else "".join(c if c.isprintable() else "\ufffd" for c in text)


class Losses:
    """What could not be taken of columns and rows, by what was wrong with it."""

    def __init__(self) -> None:
        self._found: Dict[Tuple[str, str], List[str]] = {}
        self._columns: List[str] = []

    def row(self, name: str, why: Any, of: str) -> None:
        """A row that lacks its value of a column, or is left out."""
        here = self._found.setdefault((name, str(why)), [])
        here.append(of if len(here) < _SHOWN else "")

    def column(self, name: str, why: Any) -> None:
        """A column that is left out."""
        self._columns.append(f"the column {name} is left out: {why}"[:300])

    def told(self) -> Iterable[str]:
        yield from self._columns
        for (name, why), rows in self._found.items():
            some = ", ".join(r for r in rows[:_SHOWN])
            more = f" and {len(rows) - _SHOWN} more" if len(rows) > _SHOWN else ""
            yield f"{name} of {some}{more}: {why}"[:400]
