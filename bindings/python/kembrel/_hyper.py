"""Hyperparameters: the program's own, and those that were asked for instead."""

from __future__ import annotations

import dataclasses
import enum
import functools
import math
import os
import re
from typing import Any, Callable, Dict, List

_MOST = 100  # values of a list that are recorded one by one
_LONG = 2000  # characters of a text


class Hyper(Dict[str, Any]):
    """The program's hyperparameters with, in their place, the values that were asked for, as by
    kembrel rerun --hyper. Reading a value that was asked for takes it: only then is it recorded as
    used.
    """

    def __init__(
        self, own: Dict[str, Any], asked: Dict[str, Any], take: Callable[[List[str]], None]
    ) -> None:
        super().__init__(own)
        self._asked, self._take = asked, take

    def _taken(self, name: str) -> Any:
        v = self._asked.pop(name)
        super().__setitem__(name, v)
        self._take([name])
        return v

    def __contains__(self, name: object) -> bool:
        return super().__contains__(name) or name in self._asked

    def __getitem__(self, name: str) -> Any:
        return self._taken(name) if name in self._asked else super().__getitem__(name)

    def get(self, name: str, default: Any = None) -> Any:
        return self[name] if name in self else default

    def pop(self, name: str, *default: Any) -> Any:
        if name in self._asked:
            self._taken(name)
        return super().pop(name, *default)

    def setdefault(self, name: str, default: Any = None) -> Any:
        return self[name] if name in self else super().setdefault(name, default)

    def __iter__(self) -> Any:  # its own: dict() and ** go by keys where it is there
        return iter(list(super().keys()))

    def keys(self) -> Any:
        return list(super().keys())

    def items(self) -> Any:
        return [(name, self[name]) for name in super().keys()]

    def values(self) -> Any:
        return [self[name] for name in super().keys()]

    def copy(self) -> Dict[str, Any]:
        return dict(self.items())


def mapping(given: Any) -> Dict[str, Any]:
    """What a program gives as its hyperparameters, by name: a dict, a dataclass, a namespace of
    arguments, or pairs.
    """
    if given is None:
        return {}
    if dataclasses.is_dataclass(given) and not isinstance(given, type):
        return {f.name: getattr(given, f.name) for f in dataclasses.fields(given)}
    if (
        not isinstance(given, dict)
        and hasattr(given, "__dict__")
        and not isinstance(given, type)
        and not hasattr(given, "keys")
    ):
        return dict(vars(given))
    return dict(given)


def nested(
    own: Dict[str, Any], asked: Dict[str, Any], take: Callable[[List[str]], None], depth: int = 0
) -> Hyper:
    """own as it is given, with what was asked for by dotted names in the dicts within it."""
    inside: Dict[str, Dict[str, Any]] = {}
    for name in list(asked):
        first, dot, rest = name.partition(".")
        if dot and isinstance(own.get(first), dict) and name not in own and depth < 20:
            inside.setdefault(first, {})[rest] = asked.pop(name)
    for first, theirs in inside.items():
        below = functools.partial(_take_below, take, first)
        own[first] = nested(dict(own[first]), theirs, below, depth + 1)
    return Hyper(own, asked, take)


def _take_below(take: Callable[[List[str]], None], first: str, names: List[str]) -> None:
    take([f"{first}.{n}" for n in names])


def plain(given: Dict[str, Any]) -> Dict[str, Any]:
    """Hyperparameters as they are recorded: numbers, booleans, texts and lists of these by dotted
    names; what is none of them as a text.
    """
    out: Dict[str, Any] = {}
    _gather(given, "", out, 0)
    return out


def _gather(given: Dict[Any, Any], before: str, out: Dict[str, Any], depth: int) -> None:
    for k, v in given.items():
        name = before + _name(k)
        if (
            isinstance(v, dict)
            or dataclasses.is_dataclass(v)
            and not isinstance(v, type)
            or type(v).__name__ == "Namespace"
            and hasattr(v, "__dict__")
        ):
            if depth < 20 and len(v if isinstance(v, dict) else vars(v)) > 0:
                _gather(mapping(v), name + ".", out, depth + 1)
                continue
        out[name] = value(v)


def _name(k: Any) -> str:
    try:
        text = "".join(c if c.isprintable() and c != "=" else "_" for c in str(k))
    except Exception:
        text = type(k).__name__
    return ".".join(s.strip() for s in text.split(".") if s.strip()) or "_"


def value(v: Any, lists: bool = True) -> Any:
    """One value as it is recorded."""
    try:
        return _value(v, lists)
    except Exception:  # its own methods raised
        return f"({type(v).__name__})"


def _value(v: Any, lists: bool) -> Any:
    if isinstance(v, enum.Enum):
        return v.name
    if isinstance(v, bool) or type(v) is str:
        return v if v is True or v is False else v[:_LONG]
    if isinstance(v, int):
        return int(v) if abs(v) < 10**300 else str(v)[:_LONG]
    if isinstance(v, float):
        return float(v) if math.isfinite(v) else _odd(float(v))
    if v is None:
        return "None"
    if isinstance(v, (str, bytes)):
        return str(v)[:_LONG] if isinstance(v, str) else repr(v)[:_LONG]
    if isinstance(v, os.PathLike):
        return os.fspath(v) if isinstance(os.fspath(v), str) else repr(os.fspath(v))
    if isinstance(v, (list, tuple, set, frozenset, range)):
        if not lists or len(v) > _MOST:
            return repr(v)[:_LONG]
        members = v if not isinstance(v, (set, frozenset)) else sorted(v, key=repr)
        return [value(x, False) for x in members]
    shape = getattr(v, "shape", None)
    if callable(getattr(v, "item", None)) and (shape is None or tuple(shape) == ()):
        got = v.item()  # a number of an array library, or an array without axes
        if isinstance(got, (bool, int, float)):
            return _value(got, lists)
    if (
        shape is not None
        and callable(getattr(v, "tolist", None))
        and lists
        and len(tuple(shape)) == 1
        and tuple(shape)[0] <= _MOST
    ):
        return [value(x, False) for x in v.tolist()]
    if type(v).__module__ in ("decimal", "fractions"):
        return _value(float(v), lists)
    if isinstance(v, type) or callable(v) and hasattr(v, "__qualname__"):
        return f"{v.__module__}.{v.__qualname__}".replace("builtins.", "")
    return re.sub(
        r" at 0x[0-9a-fA-F]+", "", str(v)[:_LONG]
    )  # where it lies differs from run to run


def _odd(v: float) -> str:
    return "NaN" if v != v else "Infinity" if v > 0 else "-Infinity"
