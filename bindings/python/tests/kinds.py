"""What goes into a checkpoint's part and what comes out again, kind by kind. It prints a table,
which docs/python-kinds.md holds; it fails where a kind comes back otherwise than the table says.
With the word "odd" it prints what becomes of odd arguments.
"""

import array
import collections
import dataclasses
import decimal
import enum
import fractions
import math
import pathlib
import struct
import sys
import tempfile

import kembrel
from kembrel._tree import read_part, write_part
from strangers import (
    BytesForBooleans,
    Elsewhere,
    Frozen,
    Letters,
    Negated,
    NoBooleans,
    Shared,
    Tracked,
    grid,
)

import numpy
import tinyarray

THE_SAME, AS_OTHER, LEFT_OUT = (
    "comes back the same",
    "comes back as",
    "is left out by its name, the rest stays",
)


class Colour(enum.Enum):
    RED = "red"


class Level(enum.IntEnum):
    HIGH = 3


Pair = collections.namedtuple("Pair", "a b")


@dataclasses.dataclass
class Settings:
    lr: float = 0.1


def same(a, b):
    if isinstance(a, numpy.ndarray):
        return (
            type(b) is type(a)
            and a.dtype == b.dtype
            and a.shape == b.shape
            and a.tobytes() == b.tobytes()
        )
    if type(a) is not type(b):
        return False
    if isinstance(a, float):
        return struct.pack("d", a) == struct.pack("d", b) or a != a and b != b
    if isinstance(a, numpy.generic):
        return a.tobytes() == b.tobytes()
    if isinstance(a, complex):
        return same(a.real, b.real) and same(a.imag, b.imag)
    if isinstance(a, dict):
        return (
            list(a) == list(b)
            and [type(k) for k in a] == [type(k) for k in b]
            and all(same(a[k], b[k]) for k in a)
        )
    if isinstance(a, (list, tuple)):
        return len(a) == len(b) and all(same(x, y) for x, y in zip(a, b))
    if isinstance(a, memoryview):
        return (
            a.format.strip("<=@") == b.format.strip("<=@")
            and a.shape == b.shape
            and a.tobytes() == b.tobytes()
        )
    return a == b


def values_of(x):
    """Elements of an array of any kind, row-major."""
    if hasattr(x, "values"):
        return [float(v) for v in x.values()]
    return [float(v) for v in numpy.asarray(x).ravel()]


def numpy_rows():
    for kind in "f8 f4 f2 i8 i4 i2 i1 u8 u4 u2 u1 ? c8 c16".split():
        yield f"numpy array of {numpy.dtype(kind).name}", (
            numpy.arange(6).reshape(2, 3) % 3
        ).astype(kind), THE_SAME
        yield f"numpy {numpy.dtype(kind).name}, a number", numpy.dtype(kind).type(1), THE_SAME
    a = numpy.arange(24, dtype="f4").reshape(2, 3, 4)
    yield "numpy array without elements", numpy.zeros((0, 3)), THE_SAME
    yield "numpy array of no axes", numpy.array(7.5), THE_SAME
    yield "numpy array, transposed", a.T, THE_SAME
    yield "numpy array, channels last", a.transpose(1, 2, 0), THE_SAME
    yield "numpy array, every other element backwards", a[::-1, :, ::-2], THE_SAME
    yield "numpy array, broadcast", numpy.broadcast_to(a[0, 0], (3, 4)), THE_SAME
    yield "numpy array, read only", numpy.frombuffer(bytes(8), "f4"), THE_SAME
    yield "numpy array of the other byte order", numpy.arange(
        3, dtype=">f4"
    ), "numpy array of this machine's order"
    yield "numpy array with NaN, infinities and -0", numpy.array(
        [math.nan, math.inf, -math.inf, -0.0]
    ), THE_SAME
    yield "numpy array of texts", numpy.array(["tug"]), LEFT_OUT
    yield "numpy array of objects", numpy.array([object()], dtype=object), LEFT_OUT
    yield "numpy generator's state", numpy.random.default_rng(17).bit_generator.state, THE_SAME
    yield "tinyarray", tinyarray.array([[1.0, 2.0], [3.0, 4.0]]), THE_SAME


def stranger_rows():
    yield "array by DLPack", grid(), "numpy array"
    yield "array by DLPack, transposed", grid().turned(), "numpy array"
    yield "array that tracks gradients", grid(Tracked), "numpy array"
    yield "view that is negated when looked at", Negated(grid()), "numpy array"
    yield "booleans that DLPack refuses", NoBooleans("?", (3,), [True, False, True]), "numpy array"
    yield "booleans that DLPack has as bytes", BytesForBooleans(
        "?", (3,), [True, False, True]
    ), "numpy array"
    yield "immutable array", grid(Frozen), "numpy array"
    yield "array on another device", grid(Elsewhere), "numpy array"
    yield "bfloat16 by numpy's interface", Letters([0x3F80, 0xC020]), "Raw"
    yield "bfloat16, Raw", kembrel.Raw("BF16", (2,), struct.pack("<2H", 0x3F80, 0x7FC0)), THE_SAME
    yield "float8, Raw", kembrel.Raw("F8_E4M3", (3,), b"\x00\x7e\xff"), THE_SAME
    yield "array with an element on each of 0 axes", Shared("d", (), [2.5]), "numpy array"


def plain_rows():
    for v in (
        None,
        True,
        False,
        0,
        -7,
        2**53 + 1,
        -(2**200),
        0.1,
        -0.0,
        5e-324,
        math.nan,
        math.inf,
        -math.inf,
        1 - 2j,
        complex(math.nan, -0.0),
        "",
        "tüg\n\x00",
        "\ud800",
    ):
        yield f"{type(v).__name__} {ascii(v)[:24]}", v, THE_SAME
    yield "bytes", b"\x00\xff", THE_SAME
    yield "bytearray", bytearray(b"\x01"), THE_SAME
    yield "list, tuple and dict, empty", [[], (), {}], THE_SAME
    yield "tuple in a tuple", (1, (2, [3])), THE_SAME
    yield "set", {3, 1, 2}, THE_SAME
    yield "frozenset of tuples", frozenset({(1, 2), (3, 4)}), THE_SAME
    yield "range", range(3, 30, 4), THE_SAME
    yield "Decimal", decimal.Decimal("0.10"), THE_SAME
    yield "Fraction", fractions.Fraction(1, 3), THE_SAME
    yield "path", {"at": pathlib.PurePosixPath("a/b")}, "path of this system"
    yield "ordered dict", collections.OrderedDict([("b", 1), ("a", 2)]), THE_SAME
    yield "default dict", collections.defaultdict(list, {"a": [1]}), "dict"
    yield "dict with keys of whole numbers", {0: "a", 7: "b", -1: "c"}, THE_SAME
    yield "dict with keys of all kinds", {None: 1, True: 2, 0.5: 3, (1, "a"): 4, b"x": 5}, THE_SAME
    yield "dict with dots and slashes in its keys", {
        "a.b": 1,
        "a": {"b": 2},
        "c/d": 3,
        "%": 4,
    }, THE_SAME
    yield "named tuple", Pair(1, 2), "tuple"
    yield "member of an enumeration of numbers", Level.HIGH, "number"
    yield "array.array", array.array("h", [1, -2]), THE_SAME
    yield "memoryview", memoryview(array.array("d", [1.5, 2.5])), THE_SAME
    yield "memoryview, backwards", memoryview(array.array("i", range(6)))[::-2], THE_SAME
    yield "member of another enumeration", Colour.RED, LEFT_OUT
    yield "dataclass", Settings(), LEFT_OUT
    yield "function", len, LEFT_OUT
    yield "lambda", lambda x: x, LEFT_OUT
    yield "object", object(), LEFT_OUT
    yield "generator", (i for i in ()), LEFT_OUT


def main():
    rows, wrong = [], 0
    for what, value, want in [*plain_rows(), *numpy_rows(), *stranger_rows()]:
        with tempfile.TemporaryDirectory() as folder:
            _, left = write_part(folder, "weights", {"before": 1, "x": value, "after": [2]})
            got = read_part(folder, "weights")
        assert got["before"] == 1 and got["after"] == [2], what
        if left:
            outcome = (
                LEFT_OUT if "x" not in got and left[0].startswith("x") else "leaves out " + left[0]
            )
        elif same(value, got["x"]):
            outcome = THE_SAME
        else:
            outcome = want if want not in (THE_SAME, LEFT_OUT) else f"comes back as {got['x']!r}"
            kind = {
                "numpy array": numpy.ndarray,
                "numpy array of this machine's order": numpy.ndarray,
                "Raw": kembrel.Raw,
                "path of this system": dict,
                "dict": dict,
                "tuple": tuple,
                "number": int,
            }
            assert isinstance(got["x"], kind.get(want, object)), (what, got["x"])
            if want == "numpy array":
                assert values_of(got["x"]) == values_of(value), (
                    what,
                    values_of(got["x"]),
                    values_of(value),
                )
            elif want != "Raw":
                assert numpy.all(got["x"] == value), what
        outcome = outcome if outcome in (THE_SAME, LEFT_OUT) else f"{AS_OTHER} a {outcome}"
        if outcome not in (want, f"{AS_OTHER} a {want}"):
            wrong += 1
            print("WRONG", what, outcome, file=sys.stderr)
        rows.append((what, outcome))
    print("| kind | outcome |\n|---|---|")
    for what, outcome in rows:
        print(f"| {what.replace('|', chr(92) + '|')} | {outcome} |")
    counts = collections.Counter(outcome.split(" a ")[0] for _, outcome in rows)
    print(
        f"\nOf {len(rows)} kinds {counts[THE_SAME]} come back the same, {counts[AS_OTHER]} as an "
        f"array, number or dict of another kind\nwith the same content, "
        f"{counts[LEFT_OUT]} are left out by name."
    )
    sys.exit(1 if wrong else 0)


main()
