"""Prints what a call of readings costs under a recorder, in microseconds, and how long a save of
300 MB takes beside writing the file.
"""

import os
import sys
import tempfile
import time

import kembrel
from kembrel._tree import write_tensors

run = kembrel.record("vessels")
calls = 20_000
values = {"loss.train": 0.25, "loss.val": 0.5}
best = []
for part in range(5):
    began = time.perf_counter()
    for i in range(calls // 5):
        run.readings(part * calls + i, None, values)
    best.append((time.perf_counter() - began) / (calls // 5) * 1e6)
    time.sleep(0.3)
print("readings us", *(f"{v:.2f}" for v in sorted(best)))
data = os.urandom(1 << 20) * 300
ratios = []
with tempfile.TemporaryDirectory(dir=sys.argv[1]) as folder:
    for i in range(5):
        began = time.perf_counter()
        write_tensors(os.path.join(folder, f"{i}.safetensors"), [("w", "U8", (len(data),), data)])
        plain = time.perf_counter() - began
        os.remove(os.path.join(folder, f"{i}.safetensors"))
        began = time.perf_counter()
        run.save(10_000_000 + i, None, weights=kembrel.Raw("U8", (len(data),), data))
        saved = time.perf_counter() - began
        ratios.append(saved / plain)
        run.settle()
print("save ratio", *(f"{v:.2f}" for v in sorted(ratios)))
run.end()
