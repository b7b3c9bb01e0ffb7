"""Values that were read, in the kind of the program's present ones: arrays are copied into those
that are there.
"""

from __future__ import annotations

import sys
from typing import Any, Callable, List, Optional

from ._arrays import Array, Raw, find, is_array
from ._strided import numpy_or_none


def like(value: Any, pattern: Any, path: str, say: Callable[[str], None]) -> Any:
    """value in the kind of pattern: dicts and lists of it are filled, its arrays written into where
    that can be done. What does not fit is said, and comes back as it was read.
    """
    if isinstance(pattern, dict) and isinstance(value, dict):
        for k, v in value.items():
            try:
                pattern[k] = like(v, pattern[k], f"{path}.{k}", say) if k in pattern else v
            except Exception as e:  # a mapping that takes no values
                say(f"{path}.{k} could not be set: {e}")
        return pattern
    if isinstance(pattern, list) and isinstance(value, (list, tuple)):
        if len(pattern) != len(value):
            say(f"{path} has {len(value)} values, and {len(pattern)} are there")
        for i, v in enumerate(value):
            if i < len(pattern):
                pattern[i] = like(v, pattern[i], f"{path}.{i}", say)
            else:
                pattern.append(v)
        del pattern[len(value) :]
        return pattern
    if (
        isinstance(pattern, tuple)
        and isinstance(value, (list, tuple))
        and len(pattern) == len(value)
    ):
        made = [like(v, p, f"{path}.{i}", say) for i, (v, p) in enumerate(zip(value, pattern))]
        return type(pattern)(*made) if hasattr(pattern, "_fields") else tuple(made)
    if is_array(pattern) and is_array(value):
        return _array_like(value, pattern, path, say)
    return value


def only_here(holder: Any, key: Any) -> bool:
    """Whether nothing but its holder, a dict or a list, holds a value: it was made for the call,
    and what is written into it is gone with it. False where the interpreter does not count.
    """
    count = getattr(sys, "getrefcount", None)
    return count is not None and count(holder[key]) <= _ALONE


_ALONE = sys.getrefcount({0: object()}[0]) + 1 if hasattr(sys, "getrefcount") else 0


def lost_in(value: Any, pattern: Any, path: str) -> List[str]:
    """What of value would be lost by writing it into pattern, which nothing else holds: numbers
    that differ, what pattern has not, arrays that were made for it. Arrays that the program holds
    itself are written into.
    """
    if isinstance(pattern, dict) and isinstance(value, dict):
        pairs = [(k, v, k in pattern) for k, v in value.items()]
    elif isinstance(pattern, (list, tuple)) and isinstance(value, (list, tuple)):
        pairs = [(i, v, i < len(pattern)) for i, v in enumerate(value)]
    elif is_array(value) or is_array(pattern):
        return differs(value, pattern, path)
    else:
        return [] if _same(value, pattern) else [path]
    lost = []
    for key, v, there in pairs:
        at = f"{path}.{key}"
        if not there:
            lost.append(at)
        elif only_here(pattern, key):
            lost += lost_in(v, pattern[key], at)
        elif isinstance(pattern[key], (dict, list)):
            pass  # the program's own, which is filled
        elif is_array(pattern[key]):
            if _writable(pattern[key]) is None:
                lost += differs(v, pattern[key], at)
        else:
            lost += [] if _same(v, pattern[key]) else [at]
    return lost


def differs(value: Any, there: Any, path: str) -> List[str]:
    """Where what is there is not the value: its paths."""
    if isinstance(value, dict) and isinstance(there, dict):
        out = [f"{path}.{k}" for k in value if k not in there]
        return out + [
            p for k, v in value.items() if k in there for p in differs(v, there[k], f"{path}.{k}")
        ]
    if isinstance(value, (list, tuple)) and isinstance(there, (list, tuple)):
        if len(value) != len(there):
            return [path]
        return [
            p for i, (v, t) in enumerate(zip(value, there)) for p in differs(v, t, f"{path}.{i}")
        ]
    if is_array(value) and is_array(there):
        try:
            a, b = find(value), find(there)
            if a.shape != b.shape:
                return [path]
            if a.dtype == b.dtype:
                return [] if b"".join(a.pieces()) == b"".join(b.pieces()) else [path]
        except TypeError:
            return [path]
        numpy = numpy_or_none()  # of another dtype: as near as that can be
        try:
            same = numpy is not None and numpy.allclose(value, there, rtol=1e-2, equal_nan=True)
        except Exception:
            same = True
        return [] if same or numpy is None else [path]
    return [] if _same(value, there) else [path]


def _same(a: Any, b: Any) -> bool:
    try:
        return bool(a == b) or bool(a != a and b != b)
    except Exception:
        return False


def _array_like(value: Any, pattern: Any, path: str, say: Callable[[str], None]) -> Any:
    source = find(value)
    shape = tuple(getattr(pattern, "shape", ()) or ())
    try:
        there: Optional[Array] = find(pattern)
    except TypeError:
        there = None
    if there is not None:
        shape = there.shape
    if shape != source.shape:
        say(f"{path} has the shape {list(source.shape)}, and {list(shape)} is there")
        return value
    if there is not None and there.dtype == source.dtype:
        target = _writable(pattern)
        if target is not None:
            target.fill(b"".join(source.pieces()))
            return pattern
        if type(value) is type(pattern):
            return value
    made = _made(value, pattern, there.dtype if there is not None else source.dtype)
    if made is None:
        say(
            f"{path} comes back as a {type(value).__name__}: a {type(pattern).__name__} can "
            f"neither be written into nor made of it"
        )
        return value
    return made


def _writable(x: Any) -> Optional[Array]:
    """The memory of an array, if it is its own and may be written: only then an item may be
    assigned.
    """
    if isinstance(x, Raw):
        return None
    try:
        view = memoryview(x)
        if view.readonly:
            return None
        if view.c_contiguous:
            a = find(view)
            return None if a.big else a
    except (TypeError, ValueError, BufferError):
        pass
    if not hasattr(x, "__dlpack__") and not hasattr(x, "__array_interface__"):
        return None
    detached = getattr(x, "detach", None)
    for get in (lambda: x, detached):
        if not callable(get):
            continue
        try:
            what, again = get(), get()
            what[...] = what  # changes nothing, and is refused by what is immutable
            a, b = find(what), find(again)
        except Exception:
            continue
        # What is made anew each time lies elsewhere each time: that is a copy, and writing into it
        # would change nothing.
        if not a.memory.readonly and not a.big and a.place() is not None and a.place() == b.place():
            return a
    return None


def _made(value: Any, pattern: Any, dtype: str) -> Any:
    """A new array of the pattern's kind, by the array API standard: its namespace's from_dlpack or
    asarray, its to_device.
    """
    numpy = numpy_or_none()
    if type(pattern).__module__ == "numpy":
        if numpy is None:
            return None
        made = numpy.array(value, dtype=pattern.dtype)
        return made[()] if isinstance(pattern, numpy.generic) else made  # a scalar stays one
    if isinstance(pattern, (memoryview, Raw)) or type(pattern).__module__ == "array":
        return value
    space = None
    try:
        space = pattern.__array_namespace__()
    except Exception:
        space = sys.modules.get(type(pattern).__module__.split(".")[0])
    cast = getattr(space, "astype", None)
    for name in ("from_dlpack", "asarray", "array"):
        make = getattr(space, name, None)
        if not callable(make):
            continue
        for given in (
            value,
            *([value.tolist()] if name != "from_dlpack" and hasattr(value, "tolist") else []),
        ):
            try:
                made = make(given)
                have, want = (str(getattr(a, "dtype", "")) for a in (made, pattern))
                if have != want and cast is not None:
                    made = cast(made, pattern.dtype)
                device = getattr(pattern, "device", None)
                if (
                    device is not None
                    and getattr(made, "device", device) != device
                    and hasattr(made, "to_device")
                ):
                    made = made.to_device(device)
                if isinstance(made, type(pattern)):
                    return made
            except Exception:
                continue
    return None
