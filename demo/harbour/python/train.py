"""Tells vessels apart by their sound in pure Python: softmax regression with momentum, on clips
that `harbour clips` wrote.

    build/harbour clips --out clips.safetensors
    kembrel record --project vessels -- python3 demo/harbour/python/train.py clips.safetensors

The lines that record the run are those with `run`; `kembrel resume` goes on with it, bit for bit.
"""

import argparse
import array
import math
import random
import time

import kembrel

CLASSES = ["tug", "ferry", "trawler", "dredger", "cargo ship", "motor sailer"]

p = argparse.ArgumentParser()
p.add_argument("clips")
p.add_argument("--lr", type=float, default=0.05)
p.add_argument("--momentum", type=float, default=0.9)
p.add_argument("--epochs", type=int, default=8)
p.add_argument("--seed", type=int, default=17)
p.add_argument("--pace", type=float, default=0.0, help="fewest seconds per epoch, to watch it")
options = p.parse_args()

run = kembrel.record(
    "vessels",
    title="Softmax in Python",
    hyper={k: v for k, v in vars(options).items() if k not in ("clips", "pace")},
)
lr, momentum, epochs, seed = (run.hyper[k] for k in ("lr", "momentum", "epochs", "seed"))

data = kembrel.read_tensors(
    options.clips,
    lambda dtype, shape, view: (shape, array.array("f" if dtype == "F32" else "B", view.tobytes())),
)
(count, inputs), levels = data["levels"]
labels = data["classes"][1]
clips = [(levels[i * inputs : (i + 1) * inputs], labels[i]) for i in range(count)]
train, val = clips[: count * 4 // 5], clips[count * 4 // 5 :]

dice = random.Random(seed)
weights = {c: array.array("d", (dice.gauss(0, 0.01) for _ in range(inputs + 1))) for c in CLASSES}
velocity = {c: array.array("d", bytes(8 * (inputs + 1))) for c in CLASSES}
step, epoch = 0, 0
if run.resumed:
    weights = run.resumed.part(
        "weights", lambda dtype, shape, view: array.array("d", view.tobytes())
    )
    velocity = run.resumed.part(
        "optimiser", lambda dtype, shape, view: array.array("d", view.tobytes()), default=velocity
    )
    dice.setstate(run.resumed.part("random", default=dice.getstate()))
    step, epoch = run.resumed.step, int(run.resumed.epoch)
run.initial_weights(
    weights, fresh=run.resumed is None, seed=seed, needs=["weights", "optimiser", "random"]
)
run.save_when(epochs=2, best="loss.val lower", on_signal=True)


def answer(x):
    scores = [w[-1] + math.fsum(map(float.__mul__, w[:-1].tolist(), x)) for w in weights.values()]
    top = max(scores)
    parts = [math.exp(s - top) for s in scores]
    return [v / sum(parts) for v in parts]


def judge(clips):
    answers = [(answer(x.tolist()), y) for x, y in clips]
    loss = -sum(math.log(max(a[y], 1e-12)) for a, y in answers) / len(answers)
    return loss, sum(a.index(max(a)) == y for a, y in answers) / len(answers)


while epoch < epochs and not run.stop:
    began = time.monotonic()
    for x, y in dice.sample(train, len(train)):
        x = x.tolist()
        for i, (c, share) in enumerate(zip(CLASSES, answer(x))):
            w, v, slope = weights[c], velocity[c], lr / 50 * (share - (i == y))
            for k in range(inputs):
                v[k] = momentum * v[k] - slope * x[k]
                w[k] += v[k]
            v[inputs] = momentum * v[inputs] - slope
            w[inputs] += v[inputs]
        step += 1
    epoch += 1
    (loss, accuracy), (val_loss, val_accuracy) = judge(train), judge(val)
    run.readings(
        step,
        epoch,
        {
            "loss.train": loss,
            "loss.val": val_loss,
            "accuracy.train": accuracy,
            "accuracy.val": val_accuracy,
        },
    )
    print(
        f"epoch {epoch} of {epochs}  loss {loss:.4f} / {val_loss:.4f}  accuracy {accuracy:.3f} / "
        f"{val_accuracy:.3f}",
        flush=True,
    )
    run.save(
        step,
        epoch,
        weights=weights,
        optimiser=velocity,
        random=dice.getstate(),
        preprocess={"labels": CLASSES},
    )
    time.sleep(max(0.0, options.pace - (time.monotonic() - began)))
run.end()
