"""What the files of a prediction sheet hold, of plain lists and of arrays. Run by python_test.go,
with and without numpy.
"""

import array
import json
import pathlib
import struct
import tempfile
import zlib

from kembrel._columns import column
from kembrel._sheet import of_numbers, task_of, write_sheet

try:
    import numpy
except ImportError:
    numpy = None


LOST = []


def written(*args, **kw):
    folder = pathlib.Path(tempfile.mkdtemp())
    files, lost = write_sheet(folder, *args, **kw)
    LOST[:] = lost
    lines = [json.loads(line) for line in (folder / "examples.jsonl").read_text().splitlines()]
    return folder, files, lines


def npy(path):
    data = path.read_bytes()
    assert data[:8] == b"\x93NUMPY\x01\x00", data[:8]
    size = struct.unpack("<H", data[8:10])[0]
    assert (10 + size) % 64 == 0
    return data[10 : 10 + size].decode(), data[10 + size :]


def refused(*args, **kw):
    try:
        written(*args, **kw)
    except (ValueError, TypeError):
        return
    raise AssertionError("it was taken")


scores = [[0.25, 0.75], [0.5, 0.5]]
folder, files, lines = written(
    ["a", "b"],
    true=["tug", None],
    scores=scores,
    classes=["ferry", "tug"],
    groups=["v1", "v2"],
    own={"depth": array.array("d", [12.5, 3.0])},
    media={"sound": [b"RIFF", None]},
)
assert files == ["examples.jsonl", "scores.npy", "media"], files
assert lines[0] == {
    "key": "a",
    "true": "tug",
    "group": "v1",
    "media": {"sound": {"at": 0, "size": 4}},
    "own": {"depth": 12.5},
}, lines[0]
assert "true" not in lines[1] and "media" not in lines[1]
head, data = npy(folder / "scores.npy")
assert "'<f8'" in head and "(2, 2)" in head, head
assert struct.unpack("<4d", data) == (0.25, 0.75, 0.5, 0.5)

folder, files, lines = written(
    range(3), true=[0, 1, 1], predicted=["tug", None, "ferry"], classes=["ferry", "tug"]
)
head, data = npy(folder / "predicted.npy")
assert struct.unpack("<3d", data) == (1.0, -1.0, 0.0)
assert [line["key"] for line in lines] == ["0", "1", "2"]
folder, files, lines = written(["a"], true=["tug"], predicted=["barge"])
assert lines[0]["predicted"] == "barge" and files == ["examples.jsonl"]

# several labels: lists of names, or rows of 0 and 1
folder, files, lines = written(
    ["a", "b", "c"],
    true=[["tug", "ferry"], [], None],
    predicted=[["ferry"], {"tug"}, None],
    task="labels",
)
assert [line.get("true") for line in lines] == [["ferry", "tug"], [], None], lines
assert [line.get("predicted") for line in lines] == [["ferry"], ["tug"], None], lines
assert files == ["examples.jsonl"]
assert task_of([["tug"], []], None, None, None) == "labels"
assert task_of(None, [None, ("tug",)], None, None) == "labels"
assert (
    task_of(["tug"], None, None, None) == "classes" and task_of([1.5], None, None, None) == "number"
)

# texts are taken as they are
folder, files, lines = written(["a"], true=["12"], predicted=["1.2"], task="text")
assert lines == [{"key": "a", "true": "12", "predicted": "1.2"}], lines

if numpy is not None:
    rows = numpy.array([[0, 1], [1, 1]], dtype="bool")
    folder, files, lines = written(["a", "b"], true=rows, predicted=rows, task="labels")
    assert [line["true"] for line in lines] == [[1], [0, 1]], lines
    head, data = npy(folder / "predicted.npy")
    assert "|b1" in head and "(2, 2)" in head and data == bytes([0, 1, 1, 1])
    assert task_of(rows, None, None, None) == "labels"
    assert task_of(list(rows), None, None, None) == "labels"
    refused(["a"], predicted=rows, task="labels")
    assert task_of(numpy.array([[1], [0]]), None, None, ["tug", "ferry"]) == "classes"

    # masks are pictures whose pixels are places of classes
    masks = numpy.array([[[0, 1], [2, -1]], [[0, 0], [0, 300]]])
    assert task_of(masks, None, None, None) == "masks"
    assert task_of(None, [None, masks[0]], None, None) == "masks"
    folder, files, lines = written(
        ["a", "b"], true=masks, predicted=list(masks.astype("u1")), task="masks"
    )
    assert files == ["examples.jsonl", "media"] and set(lines[0]["media"]) == {"true", "predicted"}
    at = lines[0]["media"]["true"]
    picture = (folder / "media").read_bytes()[at["at"] : at["at"] + at["size"]]
    start = picture.index(b"IDAT")
    size = struct.unpack(">I", picture[start - 4 : start])[0]
    pixels = zlib.decompress(picture[start + 4 : start + 4 + size])
    assert pixels == bytes([0, 0, 1, 0, 2, 255]), pixels
    assert b"PLTE" in picture and picture[24:26] == bytes([8, 3])
    refused(["a", "b"], true=masks[0], task="masks")

assert of_numbers([1.5, 2.0]) and not of_numbers([0, 1]) and not of_numbers(["tug"])
folder, files, lines = written(
    ["a", "b"], true=[1.5, float("nan")], predicted=[1.25, None], task="number"
)
assert lines[0]["true"] == 1.5 and "true" not in lines[1]
assert npy(folder / "predicted.npy")[1][:8] == struct.pack("<d", 1.25)

refused(["a"], true=["tug", "tug"])
refused(["a", "b"], scores=[[1.0], [1.0, 2.0]])
folder, files, lines = written(["a"], true=[1], media={"picture": [object()]})
assert lines == [{"key": "a", "true": 1}] and "picture of a: TypeError" in LOST[0], LOST
folder, files, lines = written(["a"], true=[1], own={"depth": [1, 2], "sea": ["calm"]})
assert lines == [{"key": "a", "true": 1, "own": {"sea": "calm"}}], lines
assert LOST == ["the column depth is left out: it has 2 values for 1 examples"], LOST

if numpy is not None:
    square = numpy.arange(6, dtype=numpy.float32).reshape(2, 3)
    folder, files, lines = written(
        numpy.array([7, 8]),
        true=numpy.array([1, 0]),
        scores=numpy.asfortranarray(square),
        media={"picture": [square, numpy.zeros((2, 2, 3), dtype=numpy.uint8)]},
    )
    assert [line["true"] for line in lines] == [1, 0]
    assert (numpy.load(folder / "scores.npy") == square).all()
    at = lines[0]["media"]["picture"]
    picture = (folder / "media").read_bytes()[at["at"] : at["at"] + at["size"]]
    assert picture[:8] == b"\x89PNG\r\n\x1a\n"
    assert struct.unpack(">II", picture[16:24]) == (3, 2)
    assert column(numpy.array([1.5, 2.5], dtype=numpy.float16)) == [1.5, 2.5]
    half = square.astype(numpy.float16)
    folder, files, lines = written(["a", "b"], scores=half)
    assert (numpy.load(folder / "scores.npy") == half).all()

print("numpy", numpy is not None)
