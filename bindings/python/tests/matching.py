"""A tree against files that any program may have written: names as they are, and with something
before all of them. Run by the stories.
"""

import array
import os
import tempfile

import kembrel
from kembrel._tree import write_tensors

names = [f"block{i}.conv{k}.weight" for i in range(25) for k in (1, 2)]
wanted = {}
for name in names:
    block, conv, leaf = name.split(".")
    wanted.setdefault(block, {}).setdefault(conv, {})[leaf] = array.array("f", [0] * 4)


def match(before, tree):
    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, "model.safetensors")
        write_tensors(path, [(before + n, "F32", (4,), bytes(16)) for n in names])
        return kembrel.match(path, tree)


fit = match("", wanted)
assert (
    fit and fit.says == "It fits: all 50 tensors have the names, shapes and dtypes wanted."
), fit.says
flat = match("", {n: array.array("f", [0] * 4) for n in names})
assert flat, flat.says
for before, tree in (("net.", wanted), ("", {"model": wanted})):
    other = match(before, tree)
    assert not other and len(other.renames) == 50 and "50 would fit" in other.says, other.says
    assert all(
        given.removeprefix("net.") == want.removeprefix("model.")
        for given, want in other.renames.items()
    )
print("matched")
