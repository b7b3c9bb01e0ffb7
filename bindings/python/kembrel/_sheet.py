"""Prediction sheets: what a model answers to a set of examples, as files of open formats."""

from __future__ import annotations

import array
import json
import os
import pathlib
import struct
import zlib
from typing import Any, Dict, Iterable, List, Optional, Sequence, Tuple

from ._arrays import is_array, to_bytes
from ._values import number

_NPY = {"F64": "<f8", "F32": "<f4", "F16": "<f2", "I64": "<i8", "I32": "<i4", "I16": "<i2"}
_NPY.update({"U64": "<u8", "U32": "<u4", "U16": "<u2", "I8": "|i1", "U8": "|u1", "BOOL": "|b1"})
_CODES = {"F64": "d", "F32": "f", "I64": "q", "I32": "i", "I16": "h", "I8": "b"}
_CODES.update({"U64": "Q", "U32": "I", "U16": "H", "U8": "B", "BOOL": "B"})


def _npy(path: pathlib.Path, dtype: str, shape: Sequence[int], data: Any) -> None:
    """Writes an array as NPY version 1."""
    if dtype == "BF16":  # NPY has no such type: it is the upper half of F32
        raw = bytes(data)
        data = bytearray(2 * len(raw))
        data[2::4], data[3::4] = raw[0::2], raw[1::2]
        dtype = "F32"
    if dtype not in _NPY:
        raise TypeError(f"{dtype} are no numbers that an array of scores can have")
    sizes = ", ".join(str(n) for n in shape) + ("," if len(shape) == 1 else "")
    head = f"{{'descr': '{_NPY[dtype]}', 'fortran_order': False, 'shape': ({sizes}), }}"
    head += " " * (-(10 + len(head) + 1) % 64) + "\n"
    with open(path, "wb") as f:
        f.write(b"\x93NUMPY\x01\x00" + struct.pack("<H", len(head)) + head.encode("latin-1"))
        f.write(data)


def column(values: Any) -> List[Any]:
    """A column as plain values: of an array of numbers, of a list of anything."""
    if is_array(values):
        dtype, shape, data = to_bytes(values)
        if len(shape) != 1:
            raise ValueError(f"a column has one dimension, not the shape {tuple(shape)}")
        if dtype == "F16":
            return list(struct.unpack(f"<{shape[0]}e", bytes(data)))
        if dtype not in _CODES:
            raise TypeError(f"a column of {dtype} cannot be taken")
        return array.array(_CODES[dtype], bytes(data)).tolist()
    return list(values)


def of_numbers(values: Any) -> bool:
    """Whether a column is of numbers that are not all whole: no classes."""
    if values is None or isinstance(values, (str, bytes)):
        return False
    plain = [_plain(v) for v in column(values)]
    return any(isinstance(v, float) for v in plain) and not any(isinstance(v, str) for v in plain)


def _plain(value: Any) -> Any:
    """A value as JSON has it: a text, a number, or None."""
    if value is None or isinstance(value, (str, bool, int)):
        return value
    if isinstance(value, float):
        if value - value != 0:
            return None
        return int(value) if value == int(value) and abs(value) < 2**53 else value
    if isinstance(value, (bytes, bytearray)):
        return bytes(value).decode("utf-8", "replace")
    try:
        v = number(value)
    except Exception:
        return str(value)
    if v - v != 0:
        return None
    return int(v) if v == int(v) and abs(v) < 2**53 else v


def task_of(true: Any, predicted: Any, scores: Any, classes: Any) -> str:
    """What the answers look like: several labels where a value is a list of classes or a row of an
    array of two dimensions, masks where it is an array of two dimensions itself, numbers where they
    are not all whole, and else one class. Texts look like classes, so they must be told.
    """
    for values in (true, predicted):
        if values is None or isinstance(values, (str, bytes)):
            continue
        if is_array(values):
            shape = to_bytes(values)[1]
            if len(shape) > 2:
                return "masks"
            if len(shape) == 2 and shape[1] > 1:  # a column that stands upright is no row of labels
                return "labels"
            continue
        for value in column(values):
            if isinstance(value, (list, tuple, set, frozenset)):
                return "labels"
            if value is not None and is_array(value):
                dimensions = len(to_bytes(value)[1])
                if dimensions:
                    return "labels" if dimensions == 1 else "masks"
            if value is not None:
                break
    return "number" if scores is None and classes is None and of_numbers(true) else "classes"


def _sets(values: Any) -> List[Any]:
    """Several labels of each example: lists of names or places, or None."""
    if not is_array(values):
        return [None if v is None else _places(v) for v in values]
    dtype, shape, data = to_bytes(values)
    if len(shape) != 2:
        raise ValueError(f"labels have two dimensions (examples, classes), not {tuple(shape)}")
    flat = _flat(dtype, data)
    width = shape[1]
    return [
        [c for c in range(width) if flat[i * width + c] not in (0, None)] for i in range(shape[0])
    ]


def _places(value: Any) -> List[Any]:
    """The labels of one example: a row of 0 and 1 as an array, or a list of names or places."""
    if is_array(value):
        dtype, shape, data = to_bytes(value)
        if len(shape) != 1:
            raise ValueError(f"the labels of an example are a row, not the shape {tuple(shape)}")
        return [c for c, v in enumerate(_flat(dtype, data)) if v]
    return sorted({_plain(v) for v in value}, key=str)


def _flat(dtype: str, data: Any) -> Any:
    if dtype not in _CODES:
        raise TypeError(f"an array of {dtype} cannot be taken here")
    return array.array(_CODES[dtype], bytes(data))


def _masks(values: Any) -> List[Optional[bytes]]:
    """Masks as PNG with a palette: an array (examples, height, width) of places of classes, or one
    of two dimensions for each example; below 0, or 255, is no class.
    """
    if not is_array(values):
        return [None if v is None else _mask(*to_bytes(v)) for v in values]
    dtype, shape, data = to_bytes(values)
    if len(shape) != 3:
        raise ValueError(f"masks have three dimensions, not the shape {tuple(shape)}")
    raw = bytes(data)
    size = len(raw) // max(1, shape[0])
    return [_mask(dtype, shape[1:], raw[i * size : (i + 1) * size]) for i in range(shape[0])]


def _mask(dtype: str, shape: Sequence[int], data: Any) -> bytes:
    if len(shape) != 2:
        raise ValueError(f"a mask has two dimensions, not the shape {tuple(shape)}")
    pixels = (
        bytes(data)
        if dtype == "U8"
        else bytes(int(v) if 0 <= v < 255 else 255 for v in _flat(dtype, data))
    )
    return _write_png(shape[1], shape[0], 3, shape[1], pixels, _PALETTE)


def _colours() -> bytes:
    """A palette whose neighbours are far apart: hues by the golden angle; no class is white."""
    out = bytearray()
    for i in range(255):
        hue, light = (0.55 + i * 0.618034) % 1, 0.35 + 0.3 * (i % 3) / 2
        for turn in (0, 1 / 3, 2 / 3):
            t = abs(((hue + turn) % 1) * 6 - 3) - 1
            out.append(round(255 * light * (0.35 + 0.65 * min(1, max(0, t)))))
    return bytes(out) + b"\xff\xff\xff"


_PALETTE = _colours()


def _scores(path: pathlib.Path, scores: Any) -> None:
    if not is_array(scores):
        rows = [[float(number(v)) for v in column(row)] for row in scores]
        width = len(rows[0]) if rows else 0
        if any(len(row) != width for row in rows):
            raise ValueError("rows of scores are not as long as each other")
        flat = array.array("f", [v for row in rows for v in row])
        _npy(path, "F32", (len(rows), width), flat.tobytes())
        return
    dtype, shape, data = to_bytes(scores)
    if len(shape) == 1:  # of two classes: that of the second
        raise ValueError("scores have two dimensions: examples, classes")
    _npy(path, dtype, shape, data)


def _png(values: Any) -> bytes:
    """An array of two dimensions as a picture in grey: the lowest black, the highest white. Of
    three with 3 or 4 last, of bytes, as it is.
    """
    dtype, shape, data = to_bytes(values)
    if len(shape) == 3 and shape[2] in (3, 4) and dtype == "U8":
        width, colour = shape[1] * shape[2], 2 if shape[2] == 3 else 6
        pixels = bytes(data)
    elif len(shape) == 2:
        width, colour = shape[1], 0
        if dtype == "U8":
            pixels = bytes(data)
        else:
            code = _CODES.get(dtype)
            flat: Sequence[Any] = (
                struct.unpack(f"<{shape[0] * shape[1]}e", bytes(data))
                if dtype == "F16"
                else array.array(code or "f", bytes(data))
            )
            finite = [v for v in flat if v - v == 0] or [0]
            low, span = min(finite), (max(finite) - min(finite)) or 1
            pixels = bytes(round(255 * (v - low) / span) if v - v == 0 else 0 for v in flat)
    else:
        raise TypeError(f"an array of the shape {tuple(shape)} is no picture")
    return _write_png(shape[1], shape[0], colour, width, pixels)


def _write_png(
    across: int, down: int, colour: int, width: int, pixels: bytes, palette: bytes = b""
) -> bytes:
    """A PNG of 8 bits: its colour type, bytes of a line, all bytes."""
    lines = b"".join(b"\0" + pixels[i * width : (i + 1) * width] for i in range(down))

    def part(kind: bytes, content: bytes) -> bytes:
        return (
            struct.pack(">I", len(content))
            + kind
            + content
            + struct.pack(">I", zlib.crc32(kind + content))
        )

    head = struct.pack(">IIBBBBB", across, down, 8, colour, 0, 0, 0)
    return (
        b"\x89PNG\r\n\x1a\n"
        + part(b"IHDR", head)
        + (part(b"PLTE", palette) if palette else b"")
        + part(b"IDAT", zlib.compress(lines, 6))
        + part(b"IEND", b"")
    )


def _content(value: Any) -> bytes:
    """The bytes of what an example shows: bytes, a path, or an array as a picture."""
    if isinstance(value, (bytes, bytearray, memoryview)):
        return bytes(value)
    if isinstance(value, (str, os.PathLike)):
        return pathlib.Path(value).read_bytes()
    return _png(value)


def write_sheet(
    folder: pathlib.Path,
    keys: Iterable[Any],
    true: Any = None,
    predicted: Any = None,
    scores: Any = None,
    groups: Any = None,
    texts: Any = None,
    media: Optional[Dict[str, Any]] = None,
    own: Optional[Dict[str, Any]] = None,
    classes: Optional[Sequence[str]] = None,
    task: str = "classes",
) -> List[str]:
    """Writes the files of a sheet and returns their names."""
    keys = [str(_plain(k)) for k in column(keys)]
    columns: Dict[str, List[Any]] = {}
    if task == "masks":
        masks = {"true": true, "predicted": predicted}
        media = {**(media or {}), **{k: _masks(v) for k, v in masks.items() if v is not None}}
        true = predicted = None
    take = _sets if task == "labels" else column
    for name, values in (("true", true), ("group", groups), ("text", texts)):
        if values is not None:
            columns[name] = take(values) if name == "true" else column(values)
    mine = {str(name): column(values) for name, values in (own or {}).items()}
    shown = {str(name): list(values) for name, values in (media or {}).items()}
    rows = None
    if task == "labels" and predicted is not None and is_array(predicted):
        rows, predicted = to_bytes(predicted), None
    answers = None if predicted is None else take(predicted)
    told: List[Tuple[str, Optional[List[Any]]]] = [*columns.items(), *mine.items(), *shown.items()]
    for name, values in told + [("predicted", answers)]:
        if values is not None and len(values) != len(keys):
            raise ValueError(f"{len(values)} values of {name} for {len(keys)} examples")
    files = ["examples.jsonl"]
    if scores is not None:
        _scores(folder / "scores.npy", scores)
        files.append("scores.npy")
    if rows is not None:
        if len(rows[1]) != 2 or rows[1][0] != len(keys):
            raise ValueError(f"labels of the shape {tuple(rows[1])} for {len(keys)} examples")
        _npy(folder / "predicted.npy", *rows)
        files.append("predicted.npy")
    if answers is not None and task in ("labels", "text"):
        columns["predicted"] = answers
    elif answers is not None:
        plain = [_plain(v) for v in answers]
        if task == "classes" and any(isinstance(v, str) for v in plain):
            if classes is None or any(isinstance(v, str) and v not in classes for v in plain):
                columns["predicted"] = plain  # the service finds the classes
            else:
                places = {name: i for i, name in enumerate(classes)}
                plain = [places[v] if isinstance(v, str) else v for v in plain]
        if "predicted" not in columns:
            absent = -1 if task == "classes" else float("nan")
            flat = array.array("d", [absent if v is None else float(v) for v in plain])
            _npy(folder / "predicted.npy", "F64", (len(plain),), flat.tobytes())
            files.append("predicted.npy")
    spans: Dict[str, List[Optional[Dict[str, int]]]] = {}
    if shown:
        files.append("media")
        with open(folder / "media", "wb") as f:
            for name, values in shown.items():
                spans[name] = []
                for value in values:
                    content = b"" if value is None else _content(value)
                    at = {"at": f.tell(), "size": len(content)}
                    spans[name].append(at if content else None)
                    f.write(content)
    with open(folder / "examples.jsonl", "w", encoding="utf-8") as f:
        for i, key in enumerate(keys):
            line: Dict[str, Any] = {"key": key}
            for name, values in columns.items():
                value = values[i]
                if not isinstance(value, list):
                    value = _plain(value)
                if value is not None:
                    answer = name in ("true", "predicted") and task != "text"
                    line[name] = value if answer else str(value)
            here = {name: at[i] for name, at in spans.items() if at[i] is not None}
            if here:
                line["media"] = here
            said = {name: _plain(values[i]) for name, values in mine.items()}
            if said:
                line["own"] = said
            f.write(json.dumps(line, ensure_ascii=False) + "\n")
    return files
