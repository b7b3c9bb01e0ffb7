"""The evaluation of a checkpoint, under kembrel evaluate."""

from __future__ import annotations

import math
import os
import pathlib
from typing import Any, Callable, Dict, Iterable, Optional, Tuple

from ._handing import safe
from ._resumed import Resumed
from ._run import Run


class Evaluation:
    """What is to be evaluated, and where to say what was found. Nothing of it raises into the
    program; without kembrel evaluate around it, folder is None and what is said goes nowhere.
    """

    def __init__(self, run: Run, told: Dict[str, Any]) -> None:
        self._run = run
        self.checkpoint: str = str(told.get("checkpoint", ""))
        """Address of the checkpoint, such as vessels/4@e12."""
        self.step = int(told.get("step") or 0)
        self.epoch = float(told.get("epoch", math.nan))
        """The epoch; NaN where the program that saved it did not say."""
        self.data: str = str(told.get("data", ""))
        """What to evaluate on, such as hydrophone#3:test, as it was asked for; "": it was not."""
        self.split: str = str(told.get("split", ""))
        """The split of it, such as test, where that is known."""
        self.folder: Optional[pathlib.Path] = None
        """Where the checkpoint's files are; None: this is no evaluation."""
        self._parts: Optional[Resumed] = None
        if told.get("folder"):
            self._parts = Resumed({"from": self.checkpoint, "parts": {}, **told})
            self.folder = self._parts.folder

    @property
    def problem(self) -> Optional[str]:
        """The latest thing that went wrong with saying what was found."""
        return self._run.problem

    def _fail(self, text: str, kind: str) -> None:
        self._run._fail(text, kind)

    @safe()
    def part(
        self,
        name: str,
        make: Optional[Callable[[str, Tuple[int, ...], memoryview], Any]] = None,
        default: Any = None,
        like: Any = None,
    ) -> Any:
        """The tree that was saved as a part, as run.resumed.part gives it."""
        return default if self._parts is None else self._parts.part(name, make, default, like)

    @safe()
    def into(self, **state: Any) -> Dict[str, Any]:
        """Writes the parts into the program's present state, as run.resumed.into does."""
        return state if self._parts is None else self._parts.into(**state)

    def figures(self, values: Dict[str, Any]) -> None:
        """Says figures, by measure or by measure and split: {"accuracy": 0.93, "loss.test": 0.2}.
        Of one that is said again the last counts.
        """
        self._run.readings(0, None, values)

    def predictions(self, keys: Iterable[Any], split: str = "", **columns: Any) -> bool:
        """Hands over the model's answers on the examples, as run.predictions does. The split is
        that which is evaluated, unless none was named: then val, or what is given.
        """
        columns["step"] = 0
        return self._run.predictions(str(split or self.split or "val"), keys, **columns)

    def file(self, path: Any, name: str = "") -> bool:
        """Keeps a file with the evaluation, as run.file does."""
        return self._run.file(path, name)

    def note(self, text: str) -> None:
        """Leaves a line of text on the evaluation."""
        self._run.note(text)

    def end(self) -> None:
        """Says that all is said. It waits until what was handed over is safe on disk."""
        self._run.end()

    def __enter__(self) -> Evaluation:
        return self

    def __exit__(self, kind: Any, error: Any, trace: Any) -> None:
        self._run.__exit__(kind, error, trace)


def evaluation() -> Evaluation:
    """What kembrel evaluate, or kembrel verify, asks this program to evaluate. It never fails:
    problem says why there is nothing.
    """
    run = Run()
    try:
        path = os.environ.get("KEMBREL_RECORDER", "")
        if path:
            run._connect(path)
        if run.evaluate is not None:
            return Evaluation(run, run.evaluate)
        run._pid = -1  # says nothing: the recorder around, if there is one, is a training's
        run._fail("this program is not run by kembrel evaluate: what it finds goes nowhere")
    except Exception as e:
        run._pid = -1
        run._fail(f"nothing is recorded: {e}")
    return Evaluation(run, {})
