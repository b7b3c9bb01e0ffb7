"""Ranks of one training that record curves of their own and save together, by plain multiprocessing
or apart in network namespaces. Run by the stories.
"""

import json
import multiprocessing
import os
import random
import subprocess
import sys

import kembrel

RANKS = 3


def train(rank, barrier=None):
    run = kembrel.record("vessels", hyper={"lr": 0.1}, rank=rank, ranks=RANKS, each_rank=True)
    weights, draw = [float(rank)], random.Random(rank)
    if run.resumed:
        weights = run.resumed.part("weights")
        draw.setstate(run.resumed.part("random"))
    run.initial_weights(weights, fresh=not run.resumed, needs=["weights", "random"])
    for epoch in run.epochs(6):
        for step in range(10 * epoch - 9, 10 * epoch + 1):
            weights[0] += draw.random()
            run.readings(step, epoch, {"loss.train": weights[0]})
        saved = run.save(10 * epoch, epoch, gather=True, weights=weights, random=draw.getstate())
        if os.environ.get("CUT") == str(epoch):
            run.settle()
            os._exit(3)
    os.write(
        1,
        (
            json.dumps(
                {"rank": run.rank, "weights": weights, "saved": saved, "problem": run.problem}
            )
            + "\n"
        ).encode(),
    )  # in one piece
    run.end()


if len(sys.argv) > 1:
    train(int(sys.argv[1]))
elif os.environ.get("APART"):
    apart = ["unshare", "--net"] if os.getuid() == 0 else ["unshare", "--user", "--net"]
    others = [subprocess.Popen(apart + [sys.executable, __file__, str(i)]) for i in range(RANKS)]
    sys.exit(max(p.wait() for p in others))
elif __name__ == "__main__":
    fresh = multiprocessing.get_context("spawn")
    others = [fresh.Process(target=train, args=(i,)) for i in range(RANKS)]
    for p in others:
        p.start()
    for p in others:
        p.join()
    sys.exit(max(p.exitcode for p in others))
