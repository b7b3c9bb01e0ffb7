"""A small program under a real recorder: readings from threads, a fork, checkpoints by rule,
resuming. Run by the stories.
"""

import array
import math
import os
import random
import sys
import threading
import time

import kembrel

mode = sys.argv[1] if len(sys.argv) > 1 else "plain"
epochs = int(os.environ.get("EPOCHS", "6"))
with kembrel.record(
    "vessels", title="Python", hyper={"lr": 0.1, "net.layers": [2, 1], "mode": mode}
) as run:
    dice = random.Random(3)
    weights = {"w": array.array("d", [dice.random() for _ in range(100)]), "b": 0.5}
    step = 0
    if run.resumed:
        weights = run.resumed.part(
            "weights", lambda dtype, shape, view: array.array("d", view.tobytes())
        )
        dice.setstate(run.resumed.part("random"))
        step = run.resumed.step
    run.initial_weights(weights, fresh=run.resumed is None, seed=3, needs=["weights", "random"])
    run.save_when(epochs=1, on_signal=True)
    if mode == "fork":
        going = True

        def busy():  # holds the lock at many of the moments at which the process is forked
            while going:
                run.note("busy")

        thread = threading.Thread(target=busy)
        thread.start()
        for _ in range(40):
            child = os.fork()
            if child == 0:
                run.readings(1, 1, {"loss.val": math.nan})  # does nothing: the parent records
                run.note("from a child")
                run.save(1, 1, weights=weights)
                run.end("failed")
                os._exit(0)
            os.waitpid(child, 0)
        going = False
        thread.join()
    while step < epochs * 10:
        for i in range(100):
            weights["w"][i] += run.hyper["lr"] * (dice.random() - 0.5)
        step += 1
        run.readings(
            step,
            step / 10,
            {"loss.train": sum(weights["w"]), "odd": math.nan if step % 7 == 0 else math.inf},
        )
        if mode == "crash" and step == 25:
            raise RuntimeError("the sea is rough")
        if step % 10 == 0:
            run.save(step, step / 10, weights=weights, random=dice.getstate())
        time.sleep(float(os.environ.get("PACE", "0")) / 10)
        if run.stop:
            run.save(step, step / 10, weights=weights, random=dice.getstate())
            break
    if mode == "threads":

        def tell(n):
            for i in range(200):
                run.note(f"thread {n} note {i}")

        threads = [threading.Thread(target=tell, args=(n,)) for n in range(4)]
        for t in threads:
            t.start()
        for t in threads:
            t.join()
    run.readings(step, step / 10, {"last": sum(weights["w"])})

if mode == "twice":  # a second training in the same process, of what the first has trained
    with kembrel.record("vessels", title="Python, again") as run:
        run.initial_weights(weights, fresh=True)
        run.readings(1, 1, {"loss.train": 1})
    fit = kembrel.match(os.environ["WEIGHTS"], {"w": weights["w"], "b": 0.5})
    assert fit and fit.says.startswith("It fits"), fit.says
    other = kembrel.match(
        os.environ["WEIGHTS"], {"net": {"w": weights["w"]}, "c": array.array("f", [1])}
    )
    assert (
        not other and other.missing == ["c", "net.w"] and other.renames == {"w": "net.w"}
    ), other.says
