"""Hundreds of odd arguments for every call: none raises, good readings among them are all kept. Run
under a recorder by test/stories.
"""

import argparse
import array
import dataclasses
import decimal
import enum
import fractions
import pathlib
import sys

import kembrel
from strangers import Frozen, Negated, NoBooleans, Shared, Tracked, grid

try:
    import numpy
except ImportError:
    numpy = None


class Raises:
    """Everything that is asked of it raises."""

    def __getattribute__(self, name):
        if name in ("__class__", "__dict__"):
            return object.__getattribute__(self, name)
        raise ValueError(f"no {name}")

    def __float__(self):
        raise ZeroDivisionError("no number")

    def __str__(self):
        raise RuntimeError("no text")

    __repr__ = __str__
    __int__ = __index__ = __bool__ = __len__ = __iter__ = __float__
    __hash__ = object.__hash__


class Colour(enum.Enum):
    RED = 1


@dataclasses.dataclass
class Net:
    depth: int = 3
    widths: tuple = (64, 32)


def kinds():
    yield from (
        None,
        True,
        False,
        0,
        1,
        -1,
        2**70,
        -(2**70),
        0.5,
        -0.5,
        float("nan"),
        float("inf"),
        float("-inf"),
        1j,
        "",
        "text",
        "0.5",
        "a/b",
        "\ud800",
        "\x00",
        "x" * 100_000,
    )
    yield from (
        b"",
        b"\xff",
        bytearray(b"x"),
        [],
        [1, 2],
        (),
        (1,),
        {},
        {"a": 1},
        {1: {2: {3: 4}}},
        set(),
        {1},
        frozenset({1}),
        range(3),
        object(),
        len,
        lambda: 1,
        type,
        int,
    )
    yield from (
        decimal.Decimal("0.1"),
        decimal.Decimal("NaN"),
        fractions.Fraction(1, 3),
        pathlib.Path("/tmp"),
        Colour.RED,
        Net(),
        Net,
        argparse.Namespace(lr=0.1, net=Net()),
    )
    yield from (
        array.array("d", [1.0]),
        array.array("d", []),
        memoryview(b"ab"),
        grid(),
        grid(Tracked),
        Negated(grid()),
        grid(Frozen),
        NoBooleans("?", (1,), [True]),
        Shared("d", (), [1.5]),
    )
    yield from (
        Raises(),
        iter([]),
        (i for i in ()),
        open(__file__),
        sys,
        NotImplemented,
        ...,
        kembrel,
    )
    deep = []
    for _ in range(3000):
        deep = [deep]
    itself = {}
    itself["it"] = itself
    yield from (deep, itself, [itself])
    if numpy is not None:
        yield from (
            numpy.float32(0.5),
            numpy.int64(7),
            numpy.bool_(True),
            numpy.array(1.5),
            numpy.array([1.0, 2.0]),
            numpy.array([]),
            numpy.zeros((2, 0)),
            numpy.array(["a"]),
            numpy.array([object()], dtype=object),
            numpy.datetime64("2026-01-01"),
            numpy.float64("nan"),
            numpy.complex64(1),
            numpy.dtype("f4"),
            numpy.float32,
            numpy.ma.masked,
            numpy.zeros(3, dtype=[("a", "f4")]),
            numpy.longdouble(1),
        )


def main():
    hyper = {f"k{i}": v for i, v in enumerate(kinds())}
    hyper.update(
        {
            None: 1,
            3: 2,
            ("a", 1): 3,
            "a=b": 4,
            "": 5,
            "lr": 0.25,
            "net": Net(),
            "args": argparse.Namespace(seed=17, deep={"er": None}),
        }
    )
    run = kembrel.record("vessels", hyper=hyper)
    assert run.hyper["lr"] == 0.25
    calls = 0

    def call(f, *args, **kw):
        nonlocal calls
        calls += 1
        f(*args, **kw)

    run.readings(1, 1, {"loss.train": 1.0, "train/loss": 2.0, "val/loss": 0.5})
    step = 1
    for v in kinds():
        step += 1
        call(run.readings, step, 1, {"loss.train": float(step), "odd": v, "odd/name": v})
        call(run.readings, v, 1, {"a": 1.0})
        call(run.readings, step, v, {"steady": 1.0})
        call(run.readings, step, 1, v)
        call(run.note, v)
        call(run.checkpoint, v, v, weights=[1.0])
        call(run.checkpoint, step, 1, v, weights=v)
        call(run.checkpoint, 10_000 + step, v, "", weights=v, other={"x": v, "good": 1})
        call(run.checkpoint, step)
        call(run.save_when, v)
        call(run.save_when, 1, v, v, v, False)
        call(run.save, v, v, weights=v)
        call(run.save, 20_000 + step, 1, weights=lambda: v)
        call(run.initial_weights, v, v, v, v)
        call(run.settle, 0.01)
    run.save_when()
    call(kembrel.Run().readings, 1, 1, {"a": 1})
    try:
        text = [kembrel.Run.readings, kembrel.Run.save, kembrel.Run.note, kembrel.Run.end]
        for f in text:
            call(f, kembrel.Run())
    except TypeError:
        pass  # too few arguments are seen before the call
    run.readings(90_000, 9, {"loss.val": 0.125})
    assert run.problem
    run.end(state=None)
    print(f"survived {calls} calls, last step {step}")


main()
