"""Trees of arrays there and back, with and without numpy. Run by bindings/python/python_test.go."""

import array
import ctypes
import json
import math
import random
import struct
import sys
import tempfile
import threading

import kembrel
from kembrel._arrays import find, is_array, to_bytes
from kembrel._tree import write_part
from strangers import Frozen, Memory, Shared, Tracked, grid

try:
    import numpy
except ImportError:
    numpy = None


def there_and_back(tree, make=None):
    with tempfile.TemporaryDirectory() as folder:
        kembrel.save_part(folder, "weights", tree)
        return kembrel.read_part(folder, "weights", make)


class Interface:
    """Has nothing but __array_interface__."""

    def __init__(self, buffer, typestr, shape, strides=None):
        self.buffer = buffer
        self.__array_interface__ = {
            "version": 3,
            "typestr": typestr,
            "shape": shape,
            "strides": strides,
            "data": (ctypes.addressof(ctypes.c_char.from_buffer(buffer)), False),
        }


class Capsule:
    """Has nothing but __dlpack__: a capsule made here, as DLPack's header lays it out."""

    def __init__(self, data, code, bits, shape, strides=None, device=1):
        from kembrel._arrays import _Tensor

        self.buffer = ctypes.create_string_buffer(data, len(data))
        self.shape = (ctypes.c_int64 * max(1, len(shape)))(*shape)
        self.strides = (ctypes.c_int64 * len(strides))(*strides) if strides else None
        self.tensor = _Tensor(
            ctypes.addressof(self.buffer),
            device,
            0,
            len(shape),
            code,
            bits,
            1,
            self.shape,
            self.strides,
            0,
        )
        self.device = device

    def __dlpack_device__(self):
        return self.device, 0

    def __dlpack__(self):
        new = ctypes.pythonapi.PyCapsule_New
        new.restype, new.argtypes = ctypes.py_object, [
            ctypes.c_void_p,
            ctypes.c_char_p,
            ctypes.c_void_p,
        ]
        return new(ctypes.addressof(self.tensor), b"dltensor", None)


class Wrapped:
    """Has nothing but __array__."""

    def __init__(self, x):
        self.x = x

    def __array__(self):
        return self.x


def test_plain_values():
    tree = {
        "a": [1, 2.5, None, True, "tüg\n", (1, (2,))],
        "b.c": {"%": -0.0, 7: "seven"},
        "big": 2**200,
        "none": {},
        "empty": [],
        "bytes": b"\x00\xff",
        "odd": [math.inf, -math.inf],
    }
    got = there_and_back(tree)
    assert got == tree, got
    assert isinstance(got["a"][5], tuple) and isinstance(got["a"][5][1], tuple)
    assert math.copysign(1, got["b.c"]["%"]) == -1
    assert math.isnan(there_and_back([math.nan])[0])
    for tenth in (0.1, 1 / 3, 5e-324, 1.7976931348623157e308):
        assert there_and_back(tenth) == tenth


def test_buffers():
    for code in "bBhHiIlLqQfd":
        x = array.array(code, [1, 2, 3])
        got = there_and_back({"x": x})["x"]
        assert list(got) == [1, 2, 3] and got.itemsize == x.itemsize, (code, got)
    grid = memoryview(array.array("d", range(6))).cast("B").cast("d", [2, 3])
    got = there_and_back(grid)
    assert tuple(got.shape) == (2, 3) and got.tolist() == [[0, 1, 2], [3, 4, 5]]
    got = there_and_back(memoryview(array.array("i", range(10)))[::-2])
    assert list(got) == [9, 7, 5, 3, 1], "not contiguous"


def test_interface():
    buffer = bytearray(struct.pack("<6f", *range(6)))
    assert there_and_back(Interface(buffer, "<f4", (2, 3))).tolist() == [[0, 1, 2], [3, 4, 5]]
    turned = there_and_back(Interface(buffer, "<f4", (3, 2), (4, 12)))
    assert turned.tolist() == [[0, 3], [1, 4], [2, 5]], "by strides"
    big = bytearray(struct.pack(">3h", 1, -2, 300))
    assert list(there_and_back(Interface(big, ">i2", (3,)))) == [1, -2, 300]


def test_dlpack():
    assert there_and_back(Capsule(struct.pack("<4d", 1, 2, 3, 4), 2, 64, (2, 2))).tolist() == [
        [1, 2],
        [3, 4],
    ]
    bf16 = struct.pack("<4H", 0x3F80, 0xC020, 0x7FC0, 1)
    got = there_and_back({"w": Capsule(bf16, 4, 16, (4,))})["w"]
    assert isinstance(got, kembrel.Raw) and got.dtype == "BF16" and bytes(got.data) == bf16
    again = there_and_back(got)
    assert again == got, "BF16 survives"
    strided = Capsule(struct.pack("<6h", 0, 1, 2, 3, 4, 5), 0, 16, (3, 2), (1, 3))
    assert there_and_back(strided).tolist() == [[0, 3], [1, 4], [2, 5]]
    for device in (2, 10):
        try:
            to_bytes(Capsule(bf16, 4, 16, (4,), device=device))
        except TypeError as e:
            assert "copy it to the CPU first" in str(e)
        else:
            raise AssertionError("another device was taken")


def test_array_protocol():
    assert list(there_and_back(Wrapped(array.array("d", [1.5])))) == [1.5]


def test_make():
    made = there_and_back(
        {"x": array.array("f", [1, 2])}, lambda dtype, shape, view: (dtype, shape, view.tobytes())
    )
    assert made == {"x": ("F32", (2,), struct.pack("<2f", 1, 2))}


def test_refused():
    for tree, word in (
        ({"a": [object()]}, "a.0: a builtins.object"),
        ({"f": len, "x": 1}, "f: a builtin_function_or_method is code"),
        ({"a": numpy or object()}, "a: a "),
    ):
        try:
            there_and_back(tree)
        except TypeError as e:
            assert word in str(e), e
        else:
            raise AssertionError(f"{tree} was taken")
    with tempfile.TemporaryDirectory() as folder:
        assert write_part(folder, "weights", len) == (
            [],
            ["the tree: a builtin_function_or_method is code, which cannot be saved"],
        )
    assert (
        not is_array("text") and not is_array(b"bytes") and not is_array([1.0]) and not is_array(1)
    )


def test_numpy():
    if numpy is None:
        return
    for kind in "f8 f4 f2 i8 i4 i2 i1 u8 u4 u2 u1 ?".split():
        for order in "<>":
            x = (numpy.arange(12).reshape(3, 4) % 3).astype(numpy.dtype(kind).newbyteorder(order))
            for y in (x, numpy.asfortranarray(x), x[::-1, ::2]):
                got = there_and_back({"w": y})["w"]
                assert (
                    isinstance(got, numpy.ndarray)
                    and got.dtype.newbyteorder("=") == numpy.dtype(kind)
                    and (got == y).all()
                ), (kind, order)
    got = there_and_back(numpy.float64(2.5))
    assert got == 2.5 and type(got) is numpy.float64
    got = there_and_back(numpy.array(7.0))
    assert got.shape == () and got == 7
    assert there_and_back(numpy.zeros((0, 3))).shape == (0, 3)
    got = there_and_back({"w": numpy.arange(3.0)})["w"]
    got += 1  # writable
    assert got.flags.writeable
    try:
        there_and_back(numpy.array(["tug"]))
    except TypeError as e:
        assert "no numbers" in str(e)


def header(folder, part="weights"):
    with open(f"{folder}/{part}.safetensors", "rb") as f:
        length = struct.unpack("<Q", f.read(8))[0]
        return 8 + length, json.loads(f.read(length))


def test_names_and_places():
    tree = {
        "conv1.weight": array.array("b", [1, 2, 3]),
        "conv1": {"weight": array.array("d", [1.0]), "bias": array.array("h", [5])},
        "a/b %": array.array("f", [2.0]),
        3: {0: array.array("q", [7])},
    }
    with tempfile.TemporaryDirectory() as folder:
        kembrel.save_part(folder, "weights", tree)
        start, tensors = header(folder)
        got = kembrel.read_part(folder, "weights")
        plain = kembrel.read_tensors(f"{folder}/weights.safetensors")
    assert set(tensors) == {"conv1.weight", "conv1.weight~2", "conv1.bias", "a/b %", "3.0"}, tensors
    assert list(plain["conv1.weight"]) == [1, 2, 3], "any reader finds it by the program's name"
    assert start % 8 == 0
    for name, about in tensors.items():
        width = {"I8": 1, "F64": 8, "I16": 2, "F32": 4, "I64": 8}[about["dtype"]]
        assert (start + about["data_offsets"][0]) % width == 0, (name, "lies aligned")
    assert (
        list(got["conv1"]["weight"]) == [1.0]
        and list(got["conv1.weight"]) == [1, 2, 3]
        and list(got[3][0]) == [7]
    )


def test_shared():
    tied = array.array("f", [1, 2, 3])
    memory = bytearray(8)
    one, other = Shared("f", (2,), (), memory=memory), Shared("f", (2,), (), memory=memory)
    with tempfile.TemporaryDirectory() as folder:
        kembrel.save_part(
            folder,
            "weights",
            {
                "in": tied,
                "out": {"w": tied},
                "a": one,
                "b": other,
                "c": array.array("f", [1, 2, 3]),
                "none": array.array("f", []),
                "none2": array.array("f", []),
            },
        )
        _, tensors = header(folder)
        got = kembrel.read_part(folder, "weights")
    assert tensors.pop("__metadata__") == {"also:out.w": "in", "also:b": "a"}, "and their names"
    assert set(tensors) == {"in", "a", "c", "none", "none2"}, "stored once"
    assert got["in"] is got["out"]["w"] and got["a"] is got["b"] and got["c"] is not got["in"]


def test_what_went_before():
    with tempfile.TemporaryDirectory() as folder:
        kembrel.save_part(folder, "weights", {"a": [array.array("d", [1.5]), None, (1, 2**60)]})
        with open(f"{folder}/weights.json") as f:
            text = json.load(f)
        text["format"] = "kembrel tree 1"
        del text["tree"]["dict"][0][1]["list"][0]["kind"]
        with open(f"{folder}/weights.json", "w") as f:
            json.dump(text, f)
        got = kembrel.read_part(folder, "weights")
    assert list(got["a"][0]) == [1.5] and got["a"][1:] == [None, (1, 2**60)]


def read_like(tree, pattern):
    said = []
    with tempfile.TemporaryDirectory() as folder:
        write_part(folder, "weights", tree)
        return kembrel.read_part(folder, "weights", like=pattern, say=said.append), said


def test_like():
    values = [float(i) for i in range(12)]
    there = grid()
    there.m.set([9.0] * 12)
    got, said = read_like({"w": grid()}, {"w": there})
    assert got["w"] is there and there.values() == values and not said, "written in place"
    turned = Shared("f", (4, 3), [0.0] * 12).turned()
    got, said = read_like({"w": grid()}, {"w": turned})
    assert got["w"] is turned and turned.values() == values and not said, "by its strides"
    tracked = Tracked("f", (3, 4), [0.0] * 12)
    got, said = read_like([grid(Tracked)], [tracked])
    assert (
        got[0] is tracked and tracked.values() == values and not said
    ), "what tracks gradients is written through what shares its memory"
    frozen = Frozen("f", (3, 4), [0.0] * 12)
    got, said = read_like({"w": grid(Frozen)}, {"w": frozen})
    assert frozen.values() == [0.0] * 12, "what is immutable is never written"
    assert (
        isinstance(got["w"], Frozen)
        and got["w"] is not frozen
        and got["w"].values() == values
        and not said
    ), (got, said)
    kept = array.array("d", [0, 0])
    got, said = read_like(
        {"w": array.array("d", [1, 2]), "n": 5, "new": 1, "t": (1, [array.array("d", [3])])},
        {"w": kept, "n": 4, "t": (0, [array.array("d", [0])])},
    )
    assert (
        got["w"] is kept
        and list(kept) == [1, 2]
        and got["n"] == 5
        and got["new"] == 1
        and list(got["t"][1][0]) == [3]
        and not said
    )
    got, said = read_like({"w": array.array("d", [1, 2])}, {"w": array.array("d", [0])})
    assert list(got["w"]) == [1, 2] and "shape" in said[0], "another shape is said"
    readonly = memoryview(bytes(8)).cast("d")
    got, said = read_like([array.array("d", [1])], [readonly])
    assert list(got[0]) == [1.0] and readonly[0] == 0
    if numpy is not None:
        other = numpy.zeros((3, 4), dtype="f8")
        got, said = read_like(grid(), other)
        assert (
            got.dtype == numpy.float64 and got.tolist()[2] == [8, 9, 10, 11] and not said
        ), "of the dtype that is there"
        for scalar, kind in (
            (numpy.int64(7), numpy.int64(0)),
            (numpy.float32(2.5), numpy.float32(0)),
        ):
            got, said = read_like({"step": scalar}, {"step": kind})
            assert got["step"] == scalar and type(got["step"]) is type(kind) and not said
        part = numpy.zeros((4, 6), dtype="f4")[::2, ::-2]
        got, said = read_like(numpy.ones((2, 3), dtype="f4"), part)
        assert got is part and (part == 1).all() and part.base.sum() == 6
        locked = numpy.zeros(3)
        locked.flags.writeable = False
        got, said = read_like(numpy.ones(3), locked)
        assert (locked == 0).all() and (got == 1).all() and not said


def test_strides_against_the_slow_way():
    r = random.Random(1851)
    for _ in range(300):
        shape = [r.randint(1, 5) for _ in range(r.randint(1, 4))]
        order = list(range(len(shape)))
        r.shuffle(order)
        strides, step = [0] * len(shape), 1
        for i in order:
            strides[i] = step * r.choice([1, 1, 2])
            step = strides[i] * shape[i]
        offset = 0
        for i, d in enumerate(shape):
            if r.random() < 0.3:
                offset += (d - 1) * strides[i]
                strides[i] = -strides[i]
        letter = r.choice("fdiqB")
        memory = bytearray(struct.pack(f"<{step + 3}{letter}", *(i % 200 for i in range(step + 3))))
        x = Shared("", (), Memory(letter, shape, (), strides, offset, memory))
        dtype, got_shape, data = to_bytes(x)
        assert got_shape == tuple(shape) and bytes(data) == struct.pack(
            f"<{len(x.values())}{letter}", *x.values()
        ), (shape, strides)
        find(x).fill(
            struct.pack(f"<{len(x.values())}{letter}", *(i % 100 for i in range(len(x.values()))))
        )
        assert [int(v) for v in x.values()] == [i % 100 for i in range(len(x.values()))], (
            shape,
            strides,
        )


def test_long_strides():
    """Long axes are copied by stretches, and rows that lie far apart are brought together first."""
    for shape, strides in (
        ((3, 5000), (1, 3)),
        ((40, 1100), (1, 44)),
        ((60, 700), (1, 600)),
        ((60, 700), (-1, 604)),
        ((2, 20, 1500), (1, 3000, 2)),
        ((5000, 2), (2, -1)),
    ):
        offset = sum((d - 1) * -s for d, s in zip(shape, strides) if s < 0)
        count = 1 + sum((d - 1) * abs(s) for d, s in zip(shape, strides))
        memory = bytearray(struct.pack(f"<{count}i", *range(count)))
        x = Shared("", (), Memory("i", list(shape), (), list(strides), offset, memory))
        _, got_shape, data = to_bytes(x)
        assert got_shape == shape and bytes(data) == struct.pack(
            f"<{len(x.values())}i", *x.values()
        ), (shape, strides)
        find(x).fill(struct.pack(f"<{len(x.values())}i", *range(len(x.values()))))
        assert list(x.values()) == list(range(len(x.values()))), (shape, strides)


def test_memory_of_a_save():
    """A save holds no second copy of the state: strided arrays are copied piece by piece."""
    if numpy is None:
        return
    import tracemalloc

    state = {
        str(i): numpy.zeros((4000, 2500), dtype="f4").T for i in range(3)
    }  # 40 MB each, transposed
    with tempfile.TemporaryDirectory() as folder:
        tracemalloc.start()
        write_part(folder, "weights", state)
        _, peak = tracemalloc.get_traced_memory()
        tracemalloc.stop()
    assert peak < 64 << 20, peak


def test_nothing_to_speak_to():
    run = kembrel.record("vessels", hyper={"lr": 0.1})
    assert run.problem and run.hyper == {"lr": 0.1}
    run.readings(1, 1, {"loss.val": 1})
    run.note("x")
    assert run.save(1, weights=[1.0]) is False
    run.save_when(epochs=1)
    assert run.save(1, 1, weights=[1.0]) is False
    run.initial_weights([1.0], fresh=True)
    threads = [threading.Thread(target=run.readings, args=(2, 2, {"a": 1})) for _ in range(4)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    run.end()


def main():
    wanted = sys.argv[1:]
    for name, test in list(globals().items()):
        if name.startswith("test_") and (not wanted or name in wanted):
            test()
            print("ok", name)
    print("numpy", numpy is not None)


main()
