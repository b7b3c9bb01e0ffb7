"""Three processes of one training under one recorder: the first records, the others go on from the
same checkpoint. Run by the stories.
"""

import json
import os
import subprocess
import sys

import kembrel


def train():
    with kembrel.record("vessels", hyper={"lr": 0.1, "rank": 99}) as run:
        weights = [0.0]
        if run.resumed:
            run.resumed.into(weights=weights)
        run.initial_weights(weights, fresh=not run.resumed, needs=["weights"])
        first = None
        for epoch in run.epochs(6):
            first = first or epoch
            weights[0] += 1
            for step in range(10 * epoch - 9, 10 * epoch + 1):
                run.readings(step, epoch, {"loss.train": weights[0] + run.rank / 1000})
            saved = run.save(10 * epoch, epoch, weights=weights)
            if os.environ.get("CUT") == str(epoch):
                os._exit(3)
        os.write(
            1,
            (
                json.dumps(
                    {
                        "rank": run.rank,
                        "first": first,
                        "weights": weights,
                        "saved": saved,
                        "address": run.address,
                        "problem": run.problem,
                    }
                )
                + "\n"
            ).encode(),
        )


if len(sys.argv) > 1:
    train()
else:
    others = [
        subprocess.Popen([sys.executable, __file__, "train"], env={**os.environ, "RANK": str(i)})
        for i in range(3)
    ]
    sys.exit(max(p.wait() for p in others))
