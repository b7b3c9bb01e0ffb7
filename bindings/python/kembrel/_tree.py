"""A part of a checkpoint: a tree, whose arrays lie in a safetensors file and whose rest in a small JSON file beside it (docs/python.md)."""

from __future__ import annotations

import json
import os
import pathlib
import struct
from typing import Any, Callable, Dict, List, Optional, Tuple

from ._arrays import WIDTHS, from_bytes, is_array, to_bytes

FORMAT = "kembrel tree 1"
_SAFE = range(-(2**53), 2**53 + 1)


def _name(key: Any) -> str:
    return str(key).replace("%", "%25").replace(".", "%2E")


def _flatten(x: Any, path: str, out: List[Tuple[str, str, Tuple[int, ...], Any]]) -> Any:
    """The node of x; its arrays and bytes go to out."""
    if x is None or isinstance(x, (bool, str)):
        return x
    if isinstance(x, int) and type(x) is int:
        return x if x in _SAFE else {"int": str(x)}
    if isinstance(x, float) and type(x) is float:
        return x if x - x == 0 else {"float": "NaN" if x != x else "Infinity" if x > 0 else "-Infinity"}
    if isinstance(x, dict):
        node = []
        for k, v in x.items():
            if not isinstance(k, (str, int)) or isinstance(k, bool):
                raise TypeError(f"{path or 'the tree'} has the key {k!r}; keys are texts or whole numbers")
            node.append([k, _flatten(v, f"{path}.{_name(k)}" if path else _name(k), out)])
        return {"dict": node}
    if isinstance(x, (list, tuple)):
        node = [_flatten(v, f"{path}.{i}" if path else str(i), out) for i, v in enumerate(x)]
        return {"tuple": node} if isinstance(x, tuple) else {"list": node}
    name = path or "array"
    if isinstance(x, (bytes, bytearray)):
        out.append((name, "U8", (len(x),), x))
        return {"bytes": name}
    if is_array(x):
        try:
            dtype, shape, data = to_bytes(x)
        except TypeError as e:
            raise TypeError(f"{name}: {e}") from None
        out.append((name, dtype, shape, data))
        return {"array": name}
    for kind in (int, float):  # subclasses, such as scalars of array packages
        if isinstance(x, kind):
            return _flatten(kind(x), path, out)
    raise TypeError(f"{name} is a {type(x).__name__}; a part is a tree of dict, list, tuple, numbers, texts, bytes, None and arrays")


def write_tensors(path: Any, tensors: List[Tuple[str, str, Tuple[int, ...], Any]]) -> None:
    """Writes a safetensors file: name, dtype, shape and bytes of each tensor, sorted by name."""
    header: Dict[str, Any] = {}
    at = 0
    tensors = sorted(tensors, key=lambda t: t[0].encode())
    for name, dtype, shape, data in tensors:
        size = len(data)
        if name in header:
            raise ValueError(f"two tensors have the name {name}")
        header[name] = {"dtype": dtype, "shape": list(shape), "data_offsets": [at, at + size]}
        at += size
    text = json.dumps(header, separators=(",", ":"), ensure_ascii=False).encode()
    text += b" " * (-len(text) % 8)
    with open(path, "wb", buffering=0) as f:
        f.write(struct.pack("<Q", len(text)) + text)
        for _, _, _, data in tensors:
            view = memoryview(data)
            while len(view):
                view = view[f.write(view):]


def read_tensors(path: Any, make: Optional[Callable[[str, Tuple[int, ...], memoryview], Any]] = None) -> Dict[str, Any]:
    """Reads a safetensors file, by name. make, if given, makes each array of its dtype, shape and bytes."""
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
            if about["dtype"] not in WIDTHS or not 0 <= begin <= end <= size - 8 - length or count * WIDTHS[about["dtype"]] != end - begin:
                raise ValueError(f"{path}: tensor {name} does not fit the file")
            f.seek(8 + length + begin)
            data = bytearray(end - begin)
            if f.readinto(data) != end - begin:
                raise ValueError(f"{path}: tensor {name} is cut short")
            out[name] = from_bytes(about["dtype"], tuple(about["shape"]), data, make)
    return out


def save_part(folder: Any, part: str, tree: Any) -> List[str]:
    """Writes a part's files into a folder and returns their names. A path stands for the file there, of which a copy is made."""
    folder = pathlib.Path(folder)
    if isinstance(tree, os.PathLike):
        import shutil

        name = pathlib.Path(tree).name
        shutil.copyfile(tree, folder / name)
        return [name]
    tensors: List[Tuple[str, str, Tuple[int, ...], Any]] = []
    node = _flatten(tree, "", tensors)
    names = []
    if tensors:
        write_tensors(folder / f"{part}.safetensors", tensors)
        names.append(f"{part}.safetensors")
    text = {"format": FORMAT, "tree": node}
    if part == "weights":
        text["tensors"] = [{"name": n, "dtype": d, "shape": list(s)} for n, d, s, _ in tensors]
    (folder / f"{part}.json").write_text(json.dumps(text, ensure_ascii=False), encoding="utf-8")
    return names + [f"{part}.json"]


def read_part(folder: Any, part: str, make: Optional[Callable[[str, Tuple[int, ...], memoryview], Any]] = None) -> Any:
    """Reads back what save_part wrote: the same tree."""
    folder = pathlib.Path(folder)
    text = json.loads((folder / f"{part}.json").read_text(encoding="utf-8"))
    if text.get("format") != FORMAT:
        raise ValueError(f"{folder / part}.json is not of the format {FORMAT!r}")
    path = folder / f"{part}.safetensors"
    raw = read_tensors(path, lambda dtype, shape, data: (dtype, shape, data)) if path.exists() else {}

    def build(node: Any) -> Any:
        if not isinstance(node, dict):
            return node
        (kind, inside), = node.items()
        if kind == "dict":
            return {k: build(v) for k, v in inside}
        if kind == "list":
            return [build(v) for v in inside]
        if kind == "tuple":
            return tuple(build(v) for v in inside)
        if kind == "int":
            return int(inside)
        if kind == "float":
            return float(inside)
        dtype, shape, data = raw[inside]
        if kind == "bytes":
            return bytes(data)
        return from_bytes(dtype, shape, data.obj, make)

    return build(text["tree"])
