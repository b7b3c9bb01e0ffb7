"""Numbers that programs give, of any library."""

from __future__ import annotations

from typing import Any


def number(v: Any) -> float:
    """A value of a reading: a number of any library, or an array of any with one element. TypeError
    for what is none.
    """
    if isinstance(v, (str, bytes, bytearray)) or v is None:
        raise TypeError("None is no number" if v is None else f"the text {v!r:.40} is no number")
    shape = getattr(v, "shape", None)
    one = shape is not None and all(d == 1 for d in shape)
    if shape is not None and not one or isinstance(v, (list, tuple, dict, set)):
        raise TypeError(
            f"a {type(v).__name__} of {len(v) if shape is None else list(shape)} values is no "
            f"single number; record its mean, or one of them"
        )
    try:
        return float(v if not shape else v.item())
    except Exception as e:
        item = getattr(v, "item", None)
        if shape is None or not callable(item):
            raise TypeError(f"a {type(v).__name__} is no number: {e}") from None
        return float(item())


def whole(v: Any, what: str) -> int:
    try:
        n = number(v) if type(v) is not int else v
        if n != n // 1 or n < 0 or n >= 2**63:
            raise ValueError
        return int(v) if type(v) is not float else int(n)
    except Exception:
        raise TypeError(f"the {what} is {v!r:.60}, not a whole number from 0 up") from None


def odd(v: float) -> str:
    return '"NaN"' if v != v else '"Infinity"' if v > 0 else '"-Infinity"'
