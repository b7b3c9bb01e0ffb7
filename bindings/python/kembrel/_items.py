"""Items of data: what a program reads, as a file of JSON Lines."""

from __future__ import annotations

import json
import pathlib
from typing import Any, Dict, Iterable, Iterator, Optional, Sequence, Tuple

from ._arrays import is_array, to_bytes
from ._sheet import column, _places, _plain, _sets

ITEMS_FILE = "items.jsonl"
_NONE = object()


def named(value: Any) -> str:
    """A key as text; 32 bytes are a digest."""
    if isinstance(value, (bytes, bytearray)):
        return "b3:" + value.hex() if len(value) == 32 else value.decode("utf-8", "replace")
    return str(value)


def _label(value: Any, classes: Optional[Sequence[str]]) -> Any:
    """The label of an item: a text, a number, a list of texts, or None. A whole number is a place
    in classes where they are given.
    """
    many = isinstance(value, (list, tuple, set, frozenset))
    if many or value is not None and is_array(value) and len(to_bytes(value)[1]) == 1:
        return [_name(v, classes) for v in _places(value)]
    plain = _plain(value)
    if isinstance(plain, bool) or isinstance(plain, int) and classes is not None:
        return _name(plain, classes)
    return plain


def _name(value: Any, classes: Optional[Sequence[str]]) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int) and classes is not None:
        if not 0 <= value < len(classes):
            raise ValueError(f"{value} is no place in {len(classes)} classes")
        return classes[value]
    return str(value)


def _each(values: Any) -> Iterator[Any]:
    """Values one by one; of an array of two dimensions the labels of each row."""
    if not is_array(values):
        return iter(values)
    return iter(_sets(values) if len(to_bytes(values)[1]) == 2 else column(values))


def write_items(
    folder: pathlib.Path,
    keys: Iterable[Any],
    classes: Optional[Sequence[str]] = None,
    **columns: Any,
) -> Dict[str, Any]:
    """Writes items one by one and holds none. columns are digests, groups and labels, each as many
    as keys, or None.
    """
    others: Tuple[Tuple[str, Iterator[Any]], ...] = tuple(
        (name, _each(values)) for name, values in columns.items() if values is not None
    )
    count = 0
    with open(folder / ITEMS_FILE, "w", encoding="utf-8") as f:
        for key in _each(keys):
            line: Dict[str, Any] = {"key": named(key)}
            for name, values in others:
                value = next(values, _NONE)
                if value is _NONE:
                    raise ValueError(f"there are fewer {name} than keys")
                if name == "labels":
                    value = _label(value, classes)
                elif value is not None:
                    value = named(value)
                if value is not None:
                    line[name[:-1]] = value
            f.write(json.dumps(line) + "\n")
            count += 1
    for name, values in others:
        if next(values, _NONE) is not _NONE:
            raise ValueError(f"there are more {name} than keys")
    return {"count": count}
