"""Trees of arrays there and back, with and without numpy. Run by bindings/python/python_test.go."""

import array
import ctypes
import math
import struct
import sys
import tempfile
import threading

import kembrel
from kembrel._arrays import is_array, to_bytes

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
        self.__array_interface__ = {"version": 3, "typestr": typestr, "shape": shape, "strides": strides,
                                    "data": (ctypes.addressof(ctypes.c_char.from_buffer(buffer)), False)}


class Capsule:
    """Has nothing but __dlpack__: a capsule made here, as DLPack's header lays it out."""

    def __init__(self, data, code, bits, shape, strides=None, device=1):
        from kembrel._arrays import _Tensor

        self.buffer = ctypes.create_string_buffer(data, len(data))
        self.shape = (ctypes.c_int64 * max(1, len(shape)))(*shape)
        self.strides = (ctypes.c_int64 * len(strides))(*strides) if strides else None
        self.tensor = _Tensor(ctypes.addressof(self.buffer), device, 0, len(shape), code, bits, 1, self.shape, self.strides, 0)
        self.device = device

    def __dlpack_device__(self):
        return self.device, 0

    def __dlpack__(self):
        new = ctypes.pythonapi.PyCapsule_New
        new.restype, new.argtypes = ctypes.py_object, [ctypes.c_void_p, ctypes.c_char_p, ctypes.c_void_p]
        return new(ctypes.addressof(self.tensor), b"dltensor", None)


class Wrapped:
    """Has nothing but __array__."""

    def __init__(self, x):
        self.x = x

    def __array__(self):
        return self.x


def test_plain_values():
    tree = {"a": [1, 2.5, None, True, "tüg\n", (1, (2,))], "b.c": {"%": -0.0, 7: "seven"}, "big": 2**200, "none": {}, "empty": [], "bytes": b"\x00\xff", "odd": [math.inf, -math.inf]}
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
    assert there_and_back(Capsule(struct.pack("<4d", 1, 2, 3, 4), 2, 64, (2, 2))).tolist() == [[1, 2], [3, 4]]
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
    made = there_and_back({"x": array.array("f", [1, 2])}, lambda dtype, shape, view: (dtype, shape, view.tobytes()))
    assert made == {"x": ("F32", (2,), struct.pack("<2f", 1, 2))}


def test_refused():
    for tree, word in (({"a": [object()]}, "a.0 is a object"), ({(1,): 2}, "keys are texts"), ({"s": {1, 2}}, "a part is a tree")):
        try:
            there_and_back(tree)
        except TypeError as e:
            assert word in str(e), e
        else:
            raise AssertionError(f"{tree} was taken")
    assert not is_array("text") and not is_array(b"bytes") and not is_array([1.0]) and not is_array(1)


def test_numpy():
    if numpy is None:
        return
    for kind in "f8 f4 f2 i8 i4 i2 i1 u8 u4 u2 u1 ?".split():
        for order in "<>":
            x = (numpy.arange(12).reshape(3, 4) % 3).astype(numpy.dtype(kind).newbyteorder(order))
            for y in (x, numpy.asfortranarray(x), x[::-1, ::2]):
                got = there_and_back({"w": y})["w"]
                assert isinstance(got, numpy.ndarray) and got.dtype.newbyteorder("=") == numpy.dtype(kind) and (got == y).all(), (kind, order)
    got = there_and_back(numpy.float64(2.5))
    assert got == 2.5
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


def test_nothing_to_speak_to():
    run = kembrel.record("vessels", hyper={"lr": 0.1})
    assert run.problem and run.hyper == {"lr": 0.1}
    run.readings(1, 1, {"loss.val": 1})
    run.note("x")
    assert run.save(1, weights=[1.0]) is False
    run.save_when(epochs=1)
    assert run.save_if_due(1, 1, weights=[1.0]) is False
    run.starts_with([1.0], fresh=True)
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
