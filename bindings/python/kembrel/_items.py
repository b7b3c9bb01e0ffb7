"""Items of data: what a program reads, as a file of JSON Lines."""

from __future__ import annotations

import json
import pathlib
from typing import Any, Dict, Iterable, Iterator, List, Optional, Sequence, Tuple

from ._arrays import is_array, to_bytes
from ._columns import Losses, column, key as named, plain
from ._sheet import _NO_LABEL, _places, _sets

ITEMS_FILE = "items.jsonl"
_NONE = object()


def _label(value: Any, classes: Optional[Sequence[str]]) -> Any:
    """The label of an item: a text, a number, a list of texts, or None. A whole number is a place
    in classes where they are given.
    """
    many = isinstance(value, (list, tuple, set, frozenset))
    if many or value is not None and is_array(value) and len(to_bytes(value)[1]) == 1:
        return [_name(v, classes) for v in _places(value)]
    known = plain(value)
    if known == _NO_LABEL and not isinstance(known, bool):
        return None
    if isinstance(known, bool) or isinstance(known, int) and classes is not None:
        return _name(known, classes)
    return known


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
    shape = tuple(getattr(values, "shape", ()) or ())
    return iter(_sets(values) if len(shape) == 2 and shape[1] > 1 else column(values))


def write_items(
    folder: pathlib.Path,
    keys: Iterable[Any],
    classes: Optional[Sequence[str]] = None,
    **columns: Any,
) -> List[str]:
    """Writes items one by one and holds none. columns are digests, groups and labels, each as many
    as keys, or None. It returns what had to be left out: an item without a key, a label or group
    that cannot be taken.
    """
    others: Tuple[Tuple[str, Iterator[Any]], ...] = tuple(
        (name, _each(values)) for name, values in columns.items() if values is not None
    )
    losses, count = Losses(), 0
    with open(folder / ITEMS_FILE, "w", encoding="utf-8") as f:
        for i, given in enumerate(_each(keys)):
            row = [(name, next(values, _NONE)) for name, values in others]
            for name, value in row:
                if value is _NONE:
                    raise ValueError(f"there are fewer {name} than keys")
            try:
                line: Dict[str, Any] = {"key": named(given)}
            except ValueError as e:
                losses.row("the key", e, f"item {i + 1}")
                continue
            for name, value in row:
                try:
                    if name == "labels":
                        value = _label(value, classes)
                    elif plain(value) is None:
                        value = None
                    else:
                        value = named(value)
                except Exception as e:
                    losses.row(name, e, line["key"])
                    continue
                if value is not None:
                    line[name[:-1]] = value
            f.write(json.dumps(line) + "\n")
            count += 1
    for name, values in others:
        if next(values, _NONE) is not _NONE:
            raise ValueError(f"there are more {name} than keys")
    if not count:
        raise ValueError("no item has a key")
    return list(losses.told())
