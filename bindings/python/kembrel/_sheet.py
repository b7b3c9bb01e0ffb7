"""Prediction sheets: what a model answers to a set of examples, as files of open formats."""

from __future__ import annotations

import array
import json
import math
import os
import pathlib
import struct
import zlib
from typing import Any, Dict, Iterable, List, Optional, Sequence, Tuple

from ._arrays import is_array, to_bytes
from ._columns import Losses, column, flat, key, line, plain

_NPY = {"F64": "<f8", "F32": "<f4", "F16": "<f2", "I64": "<i8", "I32": "<i4", "I16": "<i2"}
_NPY.update({"U64": "<u8", "U32": "<u4", "U16": "<u2", "I8": "|i1", "U8": "|u1", "BOOL": "|b1"})


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


def _numbers(values: Any) -> List[Any]:
    """The values of a column that are there, where all are numbers; nothing where they are not."""
    if values is None or isinstance(values, (str, bytes)):
        return []
    known = [v for v in map(plain, column(values)) if v is not None]
    return [] if any(isinstance(v, (str, bool)) for v in known) else known


def of_numbers(values: Any) -> bool:
    """Whether a column is of numbers that are not all whole: no classes."""
    return any(isinstance(v, float) for v in _numbers(values))


_MANY = (
    20  # more whole numbers than so, of which the model gives others, count or measure something
)


def task_of(true: Any, predicted: Any, scores: Any, classes: Any) -> str:
    """What the answers look like: several labels where a value is a list of classes or a row of an
    array of two dimensions, masks where it is an array of two dimensions itself, numbers where any
    of true and predicted are not whole, or scores are no scores of two classes, and else one class.
    Texts look like classes, so they must be told.
    """
    for values in (true, predicted):
        if values is None or isinstance(values, (str, bytes)):
            continue
        if is_array(values):
            shape = tuple(getattr(values, "shape", ()) or ())
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
    if classes is not None:
        return "classes"
    if of_numbers(true) or of_numbers(predicted):
        return "number"
    distinct = set(_numbers(true))
    if scores is not None:
        one = _single(scores)
        return "number" if one is not None and len(distinct) > 2 else "classes"
    other = set(_numbers(predicted)) - distinct
    return "number" if len(distinct) > _MANY and other else "classes"


def _single(scores: Any) -> Optional[List[Any]]:
    """Scores of which each example has one: (n,) or (n, 1); None: each has several."""
    if is_array(scores):
        shape = tuple(getattr(scores, "shape", None) or to_bytes(scores)[1])
        return column(scores) if len(shape) == 1 or len(shape) == 2 and shape[1] == 1 else None
    rows = list(scores)
    if any(isinstance(r, (list, tuple)) or is_array(r) and len(to_bytes(r)[1]) for r in rows):
        rows = [column(r) for r in rows]
        if any(len(r) != 1 for r in rows):
            return None
        rows = [r[0] for r in rows]
    return rows


def _of_two(one: List[Any]) -> List[List[float]]:
    """Rows for two classes of the scores of the second: probabilities where all lie from 0 to 1,
    else what a sigmoid makes them.
    """
    known = [math.nan if plain(v) is None else float(plain(v)) for v in one]
    if all(not v < 0 and not v > 1 for v in known):
        return [[1 - v, v] for v in known]
    return [[0 * v, v] for v in known]


def _sets(values: Any) -> List[Any]:
    """Several labels of each example: lists of names or places, or None."""
    if not is_array(values):
        return [None if v is None else _places(v) for v in values]
    dtype, shape, data = to_bytes(values)
    if len(shape) != 2:
        raise ValueError(f"labels have two dimensions (examples, classes), not {tuple(shape)}")
    values = flat(dtype, data)
    width = shape[1]
    return [
        [c for c in range(width) if values[i * width + c] not in (0, None)] for i in range(shape[0])
    ]


def _places(value: Any) -> List[Any]:
    """The labels of one example: a row of 0 and 1 as an array, or a list of names or places."""
    if is_array(value):
        dtype, shape, data = to_bytes(value)
        if len(shape) != 1:
            raise ValueError(f"the labels of an example are a row, not the shape {tuple(shape)}")
        return [c for c, v in enumerate(flat(dtype, data)) if v]
    return sorted({plain(v) for v in value}, key=str)


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
        else bytes(int(v) if 0 <= v < 255 else 255 for v in flat(dtype, data))
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


def _scores(scores: Any) -> Tuple[str, Tuple[int, ...], Any]:
    """Scores as dtype, shape and bytes: examples by classes."""
    one = _single(scores)
    if one is not None:
        scores = _of_two(one)
    if is_array(scores):
        dtype, shape, data = to_bytes(scores)
        return dtype, shape, data
    rows = [[math.nan if plain(v) is None else float(plain(v)) for v in column(r)] for r in scores]
    width = max((len(row) for row in rows), default=0)
    if any(len(row) != width for row in rows):
        raise ValueError("rows of scores are not as long as each other")
    values = array.array("d", [v for row in rows for v in row])
    return "F64", (len(rows), width), values.tobytes()


def _png(values: Any) -> bytes:
    """An array as a picture: of two dimensions in grey, of three with 1, 3 or 4 colours last or
    first. Bytes are taken as they are, numbers from 0 to 1 as shares of white, others from the
    lowest to the highest.
    """
    dtype, shape, data = to_bytes(values)
    pixels = flat(dtype, data)
    if len(shape) == 3 and shape[0] in (1, 3, 4) and shape[2] not in (1, 3, 4):
        size = shape[1] * shape[2]  # colours first
        turned = array.array(pixels.typecode, bytes(len(pixels) * pixels.itemsize))
        for c in range(shape[0]):
            turned[c :: shape[0]] = pixels[c * size : (c + 1) * size]
        pixels, shape = turned, (shape[1], shape[2], shape[0])
    if len(shape) == 2:
        shape = (*shape, 1)
    if len(shape) != 3 or shape[2] not in (1, 3, 4) or 0 in shape:
        raise TypeError(f"an array of the shape {tuple(shape)} is no picture")
    raw = pixels.tobytes()
    if dtype == "BOOL":
        raw = bytes(255 * v for v in pixels)
    elif dtype != "U8":
        finite = [v for v in pixels if v - v == 0] or [0]
        low, high = min(finite), max(finite)
        if shape[2] > 1 and 0 <= low and high <= 1:
            low, high = 0, 1
        elif shape[2] > 1 and 0 <= low and high <= 255:
            low, high = 0, 255
        span = (high - low) or 1
        raw = bytes(round(255 * (v - low) / span) if v - v == 0 else 0 for v in pixels)
    return _write_png(shape[1], shape[0], {1: 0, 3: 2, 4: 6}[shape[2]], shape[1] * shape[2], raw)


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


def _label(value: Any, classes: Optional[Sequence[str]]) -> Any:
    """One class of an example: its name or place; None: no label, as many libraries say by -100."""
    if value is None or value == "":
        return None
    if isinstance(value, int) and not isinstance(value, bool):
        if value == _NO_LABEL or classes is not None and value < 0:
            return None
        if classes is not None and value >= len(classes):
            raise ValueError(f"there is no class {value}: {len(classes)} are given")
    elif isinstance(value, str) and classes is not None and value not in classes:
        raise ValueError(f"none of the classes is {value!r:.60}")
    elif isinstance(value, bool):
        return str(value).lower() if classes is None else int(value)
    return value


_NO_LABEL = -100


def _signed(*columns: Optional[List[Any]]) -> bool:
    """Whether whole numbers are names of classes, such as -1 and 1, as they can be no places."""
    known = [plain(v) for values in columns for v in values or ()]
    return any(isinstance(v, int) and v < 0 and v != _NO_LABEL for v in known)


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
) -> Tuple[List[str], List[str]]:
    """Writes the files of a sheet. It returns their names, and what of the columns and rows had to
    be left out, each with the reason. It raises only where nothing is left that could be judged.
    """
    losses = Losses()
    given = column(keys)
    names, rows = _names(given, losses)
    if task == "number" and predicted is None and scores is not None:
        predicted, scores = _single(scores), None
    if task == "masks":
        masks = {"true": true, "predicted": predicted}
        media = {**(media or {}), **{k: _masks(v) for k, v in masks.items() if v is not None}}
        true = predicted = None
    take = _sets if task == "labels" else column

    def fitting(name: str, values: Any, read: Any = column, needed: bool = False) -> Any:
        if values is None:
            return None
        try:
            got = read(values)
            if len(got) != len(given):
                raise ValueError(f"it has {len(got)} values for {len(given)} examples")
            return [got[i] for i in rows]
        except Exception as e:
            if needed:
                raise ValueError(f"{name}: {e}") from None
            losses.column(name, e)
            return None

    columns = {
        "true": fitting("true", true, take, True),
        "group": fitting("groups", groups),
        "text": fitting("texts", texts),
    }
    mine = {str(name): fitting(str(name), values) for name, values in (own or {}).items()}
    shown = {
        str(name): fitting(
            str(name), values, list, task == "masks" and name in ("true", "predicted")
        )
        for name, values in (media or {}).items()
    }
    files = ["examples.jsonl"]
    bits: Any = None
    if task == "labels" and predicted is not None and is_array(predicted):
        bits, predicted = to_bytes(predicted), None
        if len(bits[1]) != 2 or bits[1][0] != len(given):
            raise ValueError(f"labels of the shape {tuple(bits[1])} for {len(given)} examples")
    answers = fitting("predicted", predicted, take, True)
    if scores is not None:
        try:
            if classes is None and any(isinstance(plain(v), str) for v in columns["true"] or ()):
                raise ValueError("name the classes in the order of the columns, as classes=[...]")
            dtype, shape, data = _scores(scores)
            if len(shape) != 2 or shape[0] != len(given):
                raise ValueError(f"scores of the shape {tuple(shape)} for {len(given)} examples")
            _npy(folder / "scores.npy", dtype, *_rows(shape, data, rows))
            files.append("scores.npy")
        except Exception as e:
            if answers is None and bits is None:
                raise
            losses.column("scores", e)
    if bits is not None:
        _npy(folder / "predicted.npy", bits[0], *_rows(bits[1], bits[2], rows))
        files.append("predicted.npy")
    signed = task == "classes" and classes is None and _signed(columns["true"], answers)
    for name, values in (("true", columns["true"]), ("predicted", answers)):
        for i, value in enumerate(values or ()):
            if task == "classes":
                try:
                    values[i] = _label(plain(value), classes)
                    if signed and isinstance(values[i], int):
                        values[i] = str(values[i])
                except ValueError as e:
                    losses.row(name, e, names[i])
                    values[i] = None
            elif task == "number":
                values[i] = plain(value)
                if isinstance(values[i], str):
                    losses.row(name, f"{values[i]!r:.60} is no number", names[i])
                    values[i] = None
    if answers is not None and task in ("labels", "text"):
        columns["predicted"] = answers
    elif answers is not None:
        if task == "classes" and any(isinstance(v, str) for v in answers):
            if classes is None:
                columns["predicted"] = answers  # the service finds the classes
            else:
                places = {name: i for i, name in enumerate(classes)}
                answers = [places[v] if isinstance(v, str) else v for v in answers]
        if "predicted" not in columns:
            absent = -1 if task == "classes" else float("nan")
            told = array.array("d", [absent if v is None else float(v) for v in answers])
            _npy(folder / "predicted.npy", "F64", (len(answers),), told.tobytes())
            files.append("predicted.npy")
    spans = _write_media(folder, {k: v for k, v in shown.items() if v is not None}, names, losses)
    if spans is not None:
        files.append("media")
    with open(folder / "examples.jsonl", "w", encoding="utf-8") as f:
        for i, name_of in enumerate(names):
            f.write(json.dumps(_line(i, name_of, columns, mine, spans or {}, task)) + "\n")
    return files, list(losses.told())


def _names(given: List[Any], losses: Losses) -> Tuple[List[str], List[int]]:
    """The examples' keys, and the places of those rows that have one of their own."""
    names: List[str] = []
    rows: List[int] = []
    seen = set()
    for i, value in enumerate(given):
        try:
            name = key(value)
            if name in seen:
                raise ValueError("an example before has it; this row is left out")
        except ValueError as e:
            losses.row("the key", e, f"row {i + 1}")
            continue
        seen.add(name)
        names.append(name)
        rows.append(i)
    lost = len(given) - len(names)
    if given and not names or lost > len(given) * _MOST_LOST:
        raise ValueError(
            f"{lost} of {len(given)} examples have no key of their own: the figures of the others "
            f"would say little"
        )
    return names, rows


_MOST_LOST = 0.1  # of the examples of a sheet that may lack a key before it is refused whole


def _rows(shape: Sequence[int], data: Any, rows: List[int]) -> Tuple[Tuple[int, ...], Any]:
    """Some rows of an array's bytes, and their shape."""
    if len(rows) == shape[0]:
        return tuple(shape), data
    width = len(data) // max(1, shape[0])
    some = b"".join(data[i * width : (i + 1) * width] for i in rows)
    return (len(rows), *shape[1:]), some


def _write_media(
    folder: pathlib.Path, shown: Dict[str, List[Any]], names: List[str], losses: Losses
) -> Optional[Dict[str, List[Optional[Dict[str, int]]]]]:
    """Writes what the examples show and returns where in the file it lies; None: there is none."""
    if not shown:
        return None
    spans: Dict[str, List[Optional[Dict[str, int]]]] = {}
    with open(folder / "media", "wb") as f:
        for name, values in shown.items():
            spans[name] = []
            for i, value in enumerate(values):
                try:
                    content = b"" if value is None else _content(value)
                except Exception as e:
                    content = b""
                    losses.row(name, f"{type(e).__name__}: {e}"[:200], names[i])
                at = {"at": f.tell(), "size": len(content)}
                spans[name].append(at if content else None)
                f.write(content)
    return spans


def _line(
    i: int,
    name: str,
    columns: Dict[str, Any],
    mine: Dict[str, Any],
    spans: Dict[str, List[Optional[Dict[str, int]]]],
    task: str,
) -> Dict[str, Any]:
    """An example as a line of examples.jsonl."""
    out: Dict[str, Any] = {"key": name}
    for what, values in columns.items():
        value = None if values is None else values[i]
        if not isinstance(value, list):
            value = plain(value)
        if value is not None:
            answer = what in ("true", "predicted") and task != "text"
            out[what] = value if answer else line(str(value)) if what == "group" else str(value)
    here = {what: at[i] for what, at in spans.items() if at[i] is not None}
    if here:
        out["media"] = here
    said = {what: plain(values[i]) for what, values in mine.items() if values is not None}
    if said:
        out["own"] = said
    return out
