"""Records a training run with Kembrel. Three lines are enough:

    run = kembrel.record("vessels", hyper={"lr": 0.03, "seed": 17})
    run.readings(step, epoch, {"loss.train": loss, "loss.val": val_loss})
    run.end()

and two more save checkpoints and go on from them:

    state = run.resumed.part("weights") if run.resumed else fresh_weights()
    run.save(step, epoch, weights=state, optimiser=moments, random=generator.getstate())

Under ``kembrel record -- python3 train.py`` it speaks to that recorder; otherwise it starts one.
Training never waits for the service and never fails because of recording: what goes wrong is
printed once to the error output and told by ``run.problem``.

A program run by ``kembrel evaluate`` asks ``kembrel.evaluation()`` what to evaluate instead.

A part of a checkpoint is a tree of dicts, lists, tuples, numbers, texts, bytes, None and arrays. An
array is anything with the buffer protocol, ``__array_interface__``, ``__dlpack__`` (on the CPU) or
``__array__``. It needs nothing but Python's standard library (3.9 or newer).
"""

from ._arrays import Raw
from ._evaluation import Evaluation, evaluation
from ._match import Match, match
from ._resumed import Resumed
from ._run import Run, record
from ._tree import read_part, read_tensors, save_part

__all__ = [
    "Evaluation",
    "Match",
    "Raw",
    "Resumed",
    "Run",
    "evaluation",
    "read_part",
    "match",
    "read_tensors",
    "record",
    "save_part",
]
