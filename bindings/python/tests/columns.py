"""Columns as people have them, kind by kind: what becomes of each in a sheet and in items of data.
Run by python_test.go on Debian's numpy and pandas.
"""

import datetime
import json
import pathlib
import struct
import tempfile
import zlib

import numpy
import pandas

from kembrel._items import write_items
from kembrel._sheet import task_of, write_sheet
from kembrel._tree import Flat
from kembrel._values import number
from strangers import Letters

DAY = datetime.date(2026, 3, 1)
TEXTS = ["tug", "ferry", "tug"]
N = 3


def sheet(keys=("a", "b", "c"), **kw):
    folder = pathlib.Path(tempfile.mkdtemp())
    files, lost = write_sheet(folder, keys, **kw)
    lines = [json.loads(line) for line in (folder / "examples.jsonl").read_text().splitlines()]
    return folder, files, lines, lost


def items(keys, **kw):
    folder = pathlib.Path(tempfile.mkdtemp())
    lost = write_items(folder, keys, **kw)
    return [json.loads(line) for line in (folder / "items.jsonl").read_text().splitlines()], lost


def texts():
    """The same three texts, as everybody has them."""
    yield numpy.array(TEXTS)
    yield numpy.array(TEXTS, dtype=object)
    yield numpy.array([[t] for t in TEXTS])
    yield pandas.Series(TEXTS)
    yield pandas.Series(TEXTS, index=[7, 8, 9])
    yield pandas.Series(TEXTS, dtype="string")
    yield pandas.Series(TEXTS, dtype="category")
    yield pandas.Categorical(TEXTS)
    yield pandas.Index(TEXTS)
    yield pandas.CategoricalIndex(TEXTS)
    yield iter(TEXTS)
    yield tuple(numpy.str_(t) for t in TEXTS)
    yield [t.encode() for t in TEXTS]


def dates():
    days = [DAY + datetime.timedelta(days=i) for i in range(N)]
    yield days
    yield numpy.array(days, dtype="datetime64[D]")
    yield numpy.array(days, dtype="datetime64[ns]")
    yield pandas.Series(pandas.to_datetime(days))
    yield pandas.DatetimeIndex(days)
    yield pandas.Series(days)
    yield [numpy.datetime64(d) for d in days]
    yield [pandas.Timestamp(d) for d in days]


def whole():
    yield [0, 1, 0]
    yield numpy.array([0, 1, 0])
    yield numpy.array([[0], [1], [0]])
    yield pandas.Series([0, 1, 0])
    yield pandas.Series([0, 1, 0], dtype="Int64")
    yield pandas.Series([0, 1, 0], dtype="category")
    yield pandas.Index([0, 1, 0])
    yield numpy.array([0.0, 1.0, 0.0])
    yield numpy.array([0, 1, 0], dtype=object)
    yield [numpy.int64(0), numpy.uint8(1), numpy.float32(0)]


read = 0
for given in texts():
    _, _, lines, lost = sheet(true=given)
    assert ([line["true"] for line in lines], lost) == (TEXTS, []), given
    read += 1
for what, field in (("groups", "group"), ("texts", "text")):
    for given in texts():
        _, _, lines, lost = sheet(true=[0, 1, 0], **{what: given})
        assert ([line[field] for line in lines], lost) == (TEXTS, []), (what, given)
        read += 1
for given in texts():
    _, _, lines, lost = sheet(true=[0, 1, 0], own={"vessel": given})
    assert ([line["own"]["vessel"] for line in lines], lost) == (TEXTS, []), given
    read += 1
for given in texts():
    lines, lost = items(["a", "b", "c"], labels=given)
    assert ([line["label"] for line in lines], lost) == (TEXTS, []), given
    read += 1
for given in texts():
    lines, lost = items(["a", "b", "c"], groups=given)
    assert ([line["group"] for line in lines], lost) == (TEXTS, []), given
    read += 1
for given in dates():
    _, _, lines, lost = sheet(given, true=[0, 1, 0])
    assert lines[1]["key"].startswith("2026-03-02") and not lost, (given, lines)
    read += 1
for given in dates():
    _, _, lines, lost = sheet(true=[0, 1, 0], own={"day": given}, groups=[1, 2, 3])
    assert lines[2]["own"]["day"].startswith("2026-03-03") and not lost, (given, lines)
    read += 1
for given in dates():
    lines, lost = items(given, groups=numpy.array(["x", "y", "z"]), labels=[1.5, 2.5, 3.5])
    assert lines[0]["key"].startswith("2026-03-01") and lines[2]["label"] == 3.5, lines
    read += 1
for given in whole():
    assert task_of(given, None, None, None) == "classes"
    read += 1
for given in whole():
    folder, files, lines, lost = sheet(true=given, predicted=given, classes=["tug", "ferry"])
    assert [line["true"] for line in lines] == [0, 1, 0] and not lost, (given, lines)
    assert struct.unpack("<3d", (folder / "predicted.npy").read_bytes()[-24:]) == (0, 1, 0)
    read += 1

# what is missing is missing, however it is said
for gone in (None, float("nan"), pandas.NA, pandas.NaT, numpy.nan):
    _, _, lines, _ = sheet(
        true=["tug", gone, "tug"], own={"x": [gone, 1, 2]}, groups=["a", gone, "b"]
    )
    assert "true" not in lines[1] and "group" not in lines[1] and lines[0]["own"]["x"] is None
    read += 1
_, _, lines, lost = sheet(true=pandas.Series([1, None, 0], dtype="Int64"), classes=["a", "b"])
assert [line.get("true") for line in lines] == [1, None, 0] and not lost

# -100 is no label, in classes and in items
_, _, lines, lost = sheet(true=[1, -100, 0], predicted=[1, 1, 0], classes=["tug", "ferry"])
assert [line.get("true") for line in lines] == [1, None, 0] and not lost
_, _, lines, lost = sheet(true=numpy.array([-1, 1, -100]))
assert [line.get("true") for line in lines] == ["-1", "1", None], lines
lines, lost = items(["a", "b"], labels=[-100, 1], classes=["tug", "ferry"])
assert [line.get("label") for line in lines] == [None, "ferry"] and not lost

# what the answers are
years = numpy.arange(60, dtype="f4")
for true, predicted, scores, classes, want in (
    (years, years + 0.5, None, None, "number"),  # whole-number targets
    (years.astype(int), (years + 0.2).tolist(), None, None, "number"),
    (years.astype(int), years.astype(int) + 1, None, None, "number"),
    (years.astype(int), None, years + 0.2, None, "number"),
    (years.astype(int), None, (years + 0.2).reshape(-1, 1), None, "number"),
    (years.reshape(-1, 1), (years + 0.5).reshape(-1, 1), None, None, "number"),
    (pandas.Series(years), pandas.Series(years + 0.5), None, None, "number"),
    (years.astype(int) % 6, years.astype(int) % 5, None, None, "classes"),
    (years.astype(int), years.astype(int), None, None, "classes"),
    (years.astype(int) % 2, None, years / 60, None, "classes"),
    (years.astype(int) % 2, years / 60, None, ["tug", "ferry"], "classes"),
    (TEXTS, TEXTS, None, None, "classes"),
):
    got = task_of(true, predicted, scores, classes)
    assert got == want, (true, predicted, scores, got)
    read += 1

# scores of two classes: one for each example
for scores, want in (
    (numpy.array([0.25, 1.0, 0.0]), [[0.75, 0.25], [0, 1], [1, 0]]),
    (numpy.array([[0.25], [1.0], [0.0]], dtype="f2"), [[0.75, 0.25], [0, 1], [1, 0]]),
    ([0.25, 1.0, 0.0], [[0.75, 0.25], [0, 1], [1, 0]]),
    ([[0.25], [1.0], [0.0]], [[0.75, 0.25], [0, 1], [1, 0]]),
    (pandas.Series([-2.0, 3.0, 0.5]), [[0, -2], [0, 3], [0, 0.5]]),
):
    folder, files, lines, lost = sheet(true=[0, 1, 0], scores=scores, classes=["tug", "ferry"])
    assert numpy.load(folder / "scores.npy").tolist() == want and not lost, scores
    read += 1
folder, files, lines, lost = sheet(
    true=[3.0, 4.0, 5.0], scores=[[2.5], [4.5], [5.5]], task="number"
)
assert files == ["examples.jsonl", "predicted.npy"], files
assert struct.unpack("<3d", (folder / "predicted.npy").read_bytes()[-24:]) == (2.5, 4.5, 5.5)
half = Letters([0x3F80, 0x4000, 0x0000])  # bfloat16: 1, 2, 0
_, _, lines, lost = sheet(true=half, own={"depth": half})
assert [line["true"] for line in lines] == [1, 2, 0] and lines[0]["own"] == {"depth": 1}

# one bad row or column costs itself
many = [f"clip{i}" for i in range(38)]
_, _, lines, lost = sheet(
    [*many, "clip1", ""], true=["tug"] * 40, own={"one": [[1], {}, *range(38)], "two": 5}
)
assert [line["key"] for line in lines] == many and lines[0]["own"] == {"one": "[1]"}, lines
assert any("the key of row 39" in t for t in lost) and any("column two" in t for t in lost), lost
try:
    sheet(["a", "a", "b"], true=[0, 1, 0])
    raise SystemExit("a sheet of which a third is lost says little")
except ValueError as e:
    assert "1 of 3 examples have no key of their own" in str(e), e
_, _, lines, lost = sheet(true=["tug", "barge", "ferry"], classes=["tug", "ferry"])
assert "true" not in lines[1] and lost == ["true of b: none of the classes is 'barge'"], lost
folder, files, lines, lost = sheet(
    true=[0, 1, 0], predicted=[0, 1, 1], scores=[[1, 2], [1], [2, 3]], classes=["tug", "ferry"]
)
assert files == ["examples.jsonl", "predicted.npy"] and "scores" in lost[0], (files, lost)
folder, files, lines, lost = sheet(
    ["clip0", *many], true=[0, 1] * 19 + [0], scores=numpy.arange(78).reshape(39, 2)
)
assert numpy.load(folder / "scores.npy")[1].tolist() == [4, 5], "rows stay together"
lines, lost = items(["a", None, "c"], labels=["tug", "ferry", object], groups=[1, 2, 3])
assert [line["key"] for line in lines] == ["a", "c"] and "item 2" in lost[0], (lines, lost)

# pictures, colours first or last, of bytes or shares
red = numpy.zeros((3, 5, 7))
red[0] = 1
for picture in (red, red.transpose(1, 2, 0), (255 * red).astype("u1"), red.astype("f2"), 255 * red):
    folder, _, lines, lost = sheet(["a"], true=[1], media={"input": [picture]})
    content = (folder / "media").read_bytes()
    assert struct.unpack(">II", content[16:24]) == (7, 5) and content[25] == 2 and not lost, lost
    size = struct.unpack(">I", content[33:37])[0]
    assert zlib.decompress(content[41 : 41 + size])[:4] == bytes([0, 255, 0, 0])
    read += 1
for picture in (numpy.zeros((1, 5, 7)), numpy.zeros((5, 7, 1)), numpy.zeros((5, 7), dtype=bool)):
    folder, _, lines, lost = sheet(["a"], true=[1], media={"input": [picture]})
    assert (folder / "media").read_bytes()[25] == 0 and not lost
    read += 1

# keys of dicts that numpy made, and readings of one element
tree = Flat({numpy.int64(3): 1.5, numpy.str_("x"): 2.5, numpy.float64(0.5): 1})
assert not tree.left_out and [k for k, _ in tree.node["dict"]] == [3, "x", 0.5], tree.node
for one in (numpy.array([0.5]), numpy.array([[0.5]]), numpy.float32(0.5), pandas.Series([0.5])):
    assert number(one) == 0.5
    read += 1
try:
    number(numpy.array([0.5, 0.5]))
    raise SystemExit("two values are no reading")
except TypeError:
    pass

print(read, "columns read")
