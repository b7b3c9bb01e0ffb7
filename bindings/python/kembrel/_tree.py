"""A part of a checkpoint: a tree, whose arrays lie in a safetensors file and whose rest in a small
JSON file beside it (docs/python.md).
"""

from __future__ import annotations

import collections
import json
import os
import pathlib
import struct
from typing import Any, Callable, Dict, List, Optional, Tuple

from ._arrays import (
    COMPLEX,
    WIDTHS,
    Array,
    Raw,
    at_home,
    find,
    from_bytes,
    home_of,
    is_array,
    is_numpy_scalar,
    kind_of,
)
from ._strided import numpy_or_none
from ._like import like as _like

FORMAT = "kembrel tree 2"
_KNOWN = (FORMAT, "kembrel tree 1")
_SAFE = range(-(2**53), 2**53 + 1)
_DEEP = 200  # levels of a tree

Tensor = Tuple[str, str, Tuple[int, ...], Any]
"""Name, dtype and shape of a tensor as it lies in the file, and what gives its bytes: an Array, or
bytes.
"""


class Flat:
    """A tree taken apart. What cannot be saved is left out by its name; the rest is whole."""

    def __init__(self, tree: Any) -> None:
        self.tensors: List[Tensor] = []
        self.left_out: List[str] = []
        """Each with the reason."""
        self.also: Dict[str, List[str]] = {}
        """Further paths of a tensor that lies in several places of the tree, by its name."""
        self._names: Dict[str, int] = {"__metadata__": 1}
        self._known: Dict[Any, Any] = {}  # node, by object or by the memory it lies in
        self._alive: List[Any] = []
        self.node = self._value(tree, "", ())

    def listed(self) -> List[Dict[str, Any]]:
        """The tensors with their shapes, as kembrel match reads them."""
        return [
            {"name": n, "dtype": d, "shape": list(s), **({"also": also} if also else {})}
            for n, d, s, _ in self.tensors
            for also in (self.also.get(n),)
        ]

    def _leave(self, path: str, why: str) -> Any:
        self.left_out.append(f"{path or 'the tree'}: {why}")
        return {"left out": why}

    def _name(self, path: str) -> str:
        """A name for a tensor: as the program has it; where two are alike, the second says so."""
        name = (path or "array").encode("utf-8", "replace").decode()
        n = self._names.get(name, 0) + 1
        self._names[name] = n
        return name if n == 1 else self._name(f"{name}~{n}")

    def _value(self, x: Any, path: str, above: Tuple[int, ...]) -> Any:
        if x is None or x is True or x is False or type(x) is str:
            return x
        if type(x) is int:
            return x if x in _SAFE else {"int": str(x)}
        if type(x) is float:
            return _float(x)
        if type(x) is complex:
            return {"complex": [_float(x.real), _float(x.imag)]}
        if isinstance(x, (dict, list, tuple, set, frozenset)):
            if id(x) in above or len(above) == _DEEP:
                return self._leave(
                    path,
                    "it holds itself"
                    if id(x) in above
                    else f"it lies more than {_DEEP} levels deep",
                )
            return self._inner(x, path, (*above, id(x)))
        if isinstance(x, range):
            return {"range": [str(x.start), str(x.stop), str(x.step)]}
        if isinstance(x, (bytes, bytearray)):
            name = self._name(path)
            self.tensors.append((name, "U8", (len(x),), x))
            return {"bytes": name} if isinstance(x, bytes) else {"bytes": name, "kind": "bytearray"}
        if is_array(x) or is_numpy_scalar(x):
            return self._array(x, path)
        for kind in (
            str,
            int,
            float,
            complex,
        ):  # subclasses of them, such as members of an enumeration
            if isinstance(x, kind):
                plain = kind.__new__(kind, x)
                return self._value(plain, path, above)
        plain = _as_text(x)
        if plain is not None:
            return plain
        if callable(x):
            return self._leave(path, f"a {type(x).__name__} is code, which cannot be saved")
        return self._leave(
            path,
            f"a {type(x).__module__}.{type(x).__qualname__} is none of dict, list, tuple, set, "
            f"number, text, bytes, None and array",
        )

    def _inner(self, x: Any, path: str, above: Tuple[int, ...]) -> Any:
        def at(name: Any) -> str:
            return f"{path}.{name}" if path else str(name)

        if isinstance(x, dict):
            node = []
            for k, v in list(x.items()):
                if is_numpy_scalar(k):
                    k = k.item()  # equal to it as a key
                key = self._value(k, at("a key"), above)
                if isinstance(key, dict) and ("left out" in key or "array" in key):
                    self._leave(at(repr(k)[:100]), "its key cannot be saved")
                    continue
                node.append(
                    [key, self._value(v, at(k if isinstance(k, (str, int)) else repr(k)), above)]
                )
            return (
                {"dict": node, "kind": "ordered"}
                if isinstance(x, collections.OrderedDict)
                else {"dict": node}
            )
        if isinstance(x, (list, tuple)):
            node = [self._value(v, at(i), above) for i, v in enumerate(x)]
            return {"tuple": node} if isinstance(x, tuple) else {"list": node}
        try:
            members = sorted(x)  # the same set gives the same file
        except Exception:
            members = list(x)
        return {
            "frozenset"
            if isinstance(x, frozenset)
            else "set": [self._value(v, at(i), above) for i, v in enumerate(members)]
        }

    def _array(self, x: Any, path: str) -> Any:
        if id(x) in self._known:
            return self._again(self._known[id(x)], path)
        try:
            a = find(x)
        except Exception as e:
            return self._leave(path, str(e))
        self._alive.append(x)  # so that no other array gets its number
        kind = kind_of(x)
        if is_numpy_scalar(x):
            kind = "numpy scalar"
        place = a.place()
        same = (place, kind) if place is not None else None
        if same is not None and same in self._known:
            node = self._again(self._known[same], path)
        else:
            name = self._name(path)
            dtype, shape = (
                (COMPLEX[a.dtype], (*a.shape, 2)) if a.dtype in COMPLEX else (a.dtype, a.shape)
            )
            self.tensors.append((name, dtype, shape, a))
            node = {"array": name}
            if kind:
                node["kind"] = kind
            node.update(home_of(x))
            if a.dtype in COMPLEX:
                node["complex"] = a.dtype
        self._known[id(x)] = node
        if same is not None:
            self._known[same] = node
        return node

    def _again(self, node: Any, path: str) -> Any:
        name = node.get("array")
        if name is not None and path not in (name, *self.also.get(name, ())):
            self.also.setdefault(name, []).append(path)
        return node


def _float(x: float) -> Any:
    return x if x - x == 0 else {"float": "NaN" if x != x else "Infinity" if x > 0 else "-Infinity"}


def _as_text(x: Any) -> Any:
    """Numbers and paths of the standard library that a text holds exactly."""
    kind = type(x).__name__
    if type(x).__module__ in ("decimal", "_decimal", "_pydecimal") and kind == "Decimal":
        return {"decimal": str(x)}
    if type(x).__module__ == "fractions" and kind == "Fraction":
        return {"fraction": str(x)}
    return {"path": str(x)} if isinstance(x, os.PathLike) else None


def write_tensors(
    path: Any, tensors: List[Tensor], also: Optional[Dict[str, List[str]]] = None
) -> None:
    """Writes a safetensors file: name, dtype, shape and bytes (or Array) of each tensor; the widest
    first, so that each lies aligned, and by name. also: further names of tensors, which stand in
    its metadata.
    """
    header: Dict[str, Any] = {}
    if also:
        header["__metadata__"] = {
            f"also:{name}": first for first, names in also.items() for name in names
        }
    at = 0
    tensors = sorted(tensors, key=lambda t: (-WIDTHS[t[1]], t[0].encode()))
    for name, dtype, shape, data in tensors:
        size = data.nbytes if isinstance(data, Array) else len(data)
        if name in header:
            raise ValueError(f"two tensors have the name {name}")
        header[name] = {"dtype": dtype, "shape": list(shape), "data_offsets": [at, at + size]}
        at += size
    text = json.dumps(header, separators=(",", ":"), ensure_ascii=False).encode()
    text += b" " * (-len(text) % 8)
    with open(path, "wb", buffering=0) as f:
        f.write(struct.pack("<Q", len(text)) + text)
        for _, _, _, data in tensors:
            for piece in data.pieces() if isinstance(data, Array) else (data,):
                view = memoryview(piece)
                while len(view):
                    view = view[f.write(view) :]


def read_tensors(
    path: Any, make: Optional[Callable[[str, Tuple[int, ...], memoryview], Any]] = None
) -> Dict[str, Any]:
    """Reads a safetensors file, by name. make, if given, makes each array of its dtype, shape and
    bytes.
    """
    out = {}
    with open(path, "rb") as f:
        size = os.fstat(f.fileno()).st_size
        head = f.read(8)
        length = struct.unpack("<Q", head)[0] if len(head) == 8 else -1
        if not 0 <= length <= size - 8:
            raise ValueError(f"{path} is no safetensors file")
        header = json.loads(f.read(length))
        header.pop("__metadata__", None)
        for name, about in header.items():
            begin, end = about["data_offsets"]
            count = 1
            for d in about["shape"]:
                count *= d
            if (
                about["dtype"] not in WIDTHS
                or not 0 <= begin <= end <= size - 8 - length
                or count * WIDTHS[about["dtype"]] != end - begin
            ):
                raise ValueError(f"{path}: tensor {name} does not fit the file")
            f.seek(8 + length + begin)
            data = bytearray(end - begin)
            if f.readinto(data) != end - begin:
                raise ValueError(f"{path}: tensor {name} is cut short")
            out[name] = from_bytes(about["dtype"], tuple(about["shape"]), data, make)
    return out


def write_part(folder: Any, part: str, tree: Any) -> Tuple[List[str], List[str]]:
    """Writes a part's files into a folder. It returns their names, and what of the tree is left
    out; no names where that is all of it. A path stands for the file there, of which a copy is
    made.
    """
    folder = pathlib.Path(folder)
    if isinstance(tree, os.PathLike):
        import shutil

        name = pathlib.Path(tree).name
        shutil.copyfile(tree, folder / name)
        return [name], []
    flat = Flat(tree)
    if isinstance(flat.node, dict) and "left out" in flat.node:
        return [], flat.left_out
    names = []
    if flat.tensors:
        write_tensors(folder / f"{part}.safetensors", flat.tensors, flat.also)
        names.append(f"{part}.safetensors")
    text = {"format": FORMAT, "tree": flat.node}
    if part == "weights":
        text["tensors"] = flat.listed()
    (folder / f"{part}.json").write_text(json.dumps(text), encoding="utf-8")
    return names + [f"{part}.json"], flat.left_out


def save_part(folder: Any, part: str, tree: Any) -> List[str]:
    """Writes a part's files into a folder and returns their names. It raises TypeError, behind the
    writing, where something had to be left out.
    """
    names, left_out = write_part(folder, part, tree)
    if left_out:
        raise TypeError("left out: " + "; ".join(left_out))
    return names


def is_tree(folder: Any, part: str, files: List[str]) -> bool:
    """Whether the files of a part are a tree as write_part writes one, and not a file of the
    program's own.
    """
    try:
        if not {f"{part}.json"} <= {pathlib.PurePath(f).name for f in files}:
            return False
        with open(pathlib.Path(folder) / f"{part}.json", encoding="utf-8") as f:
            return str(json.load(f).get("format", "")).startswith("kembrel tree")
    except (OSError, ValueError, AttributeError):
        return False


def read_part(
    folder: Any,
    part: str,
    make: Optional[Callable[[str, Tuple[int, ...], memoryview], Any]] = None,
    like: Any = None,
    say: Optional[Callable[[str], None]] = None,
) -> Any:
    """Reads back what save_part wrote: the same tree. like: the program's present state, whose
    arrays are written into where that can be done; what does not fit it is told to say.
    """
    folder = pathlib.Path(folder)
    text = json.loads((folder / f"{part}.json").read_text(encoding="utf-8"))
    if text.get("format") not in _KNOWN:
        raise ValueError(f"{folder / part}.json is not of the format {FORMAT!r}")
    path = folder / f"{part}.safetensors"
    raw = (
        read_tensors(path, lambda dtype, shape, data: (dtype, shape, data)) if path.exists() else {}
    )
    tree = _build(text["tree"], raw, make, {})
    return tree if like is None else _like(tree, like, part, say or (lambda text: None))


class _Left:
    """Stands for what was left out."""


_LEFT = _Left()


def _build(node: Any, raw: Dict[str, Any], make: Any, known: Dict[str, Any]) -> Any:
    if not isinstance(node, dict):
        return node

    def build(n: Any) -> Any:
        v = _build(n, raw, make, known)
        return None if v is _LEFT else v

    if "dict" in node:
        out: Dict[Any, Any] = collections.OrderedDict() if node.get("kind") == "ordered" else {}
        for k, inside in node["dict"]:
            v = _build(inside, raw, make, known)
            if v is not _LEFT:
                out[build(k)] = v
        return out
    kind, inside = next(iter(node.items()))
    if kind == "list":
        return [build(v) for v in inside]
    if kind == "tuple":
        return tuple(build(v) for v in inside)
    if kind == "set":
        return {build(v) for v in inside}
    if kind == "frozenset":
        return frozenset(build(v) for v in inside)
    if kind == "int":
        return int(inside)
    if kind == "float":
        return float(inside)
    if kind == "complex":
        return complex(build(inside[0]), build(inside[1]))
    if kind == "range":
        return range(*(int(v) for v in inside))
    if kind == "decimal":
        import decimal

        return decimal.Decimal(inside)
    if kind == "fraction":
        import fractions

        return fractions.Fraction(inside)
    if kind == "path":
        return pathlib.Path(inside)
    if kind == "left out":
        return _LEFT
    if kind == "bytes":
        data = raw[inside][2]
        return bytearray(data) if node.get("kind") == "bytearray" else bytes(data)
    key = f"{inside} {node.get('kind', '')}"
    if key not in known:  # what is shared comes back shared
        dtype, shape, data = raw[inside]
        if "complex" in node:
            dtype, shape = node["complex"], shape[:-1]
        plain = data.obj if isinstance(data, memoryview) else data
        own = at_home(dtype, shape, plain, node) if make is None and "made by" in node else None
        known[key] = _made(dtype, shape, plain, make, node.get("kind", "")) if own is None else own
    return known[key]


def _made(dtype: str, shape: Tuple[int, ...], data: Any, make: Any, kind: str) -> Any:
    made = from_bytes(dtype, shape, data, make, kind)
    if kind == "numpy scalar" and make is None:
        if numpy_or_none() is not None and not isinstance(made, Raw):
            return made[()]
        return made.tolist() if isinstance(made, memoryview) else made
    return made
