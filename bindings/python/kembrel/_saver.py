"""When a checkpoint is due."""

from __future__ import annotations

from typing import Any, Dict, Optional


class Saver:
    """When to save."""

    def __init__(
        self, epochs: Optional[float], steps: Optional[int], best: str, margin: float
    ) -> None:
        self.epochs, self.steps, self.margin = epochs, steps, margin
        self.curve, _, direction = best.partition(" ")
        self.sign = -1.0 if direction == "higher" else 1.0
        self.best: Optional[float] = None
        self.beaten = False
        self.last_epoch, self.last_step, self.saved = 0.0, 0, -1
        self.asked = ""

    def see(self, values: Dict[str, Any]) -> None:
        if self.curve and self.curve in values:
            v = float(values[self.curve])
            if v == v and (self.best is None or self.sign * (self.best - v) > self.margin):
                self.best, self.beaten = v, True

    def due(self, step: int, epoch: Optional[float], stop: Optional[str]) -> str:
        if step == self.saved:
            return ""
        # Multiples are passed, so that a run which goes on from any checkpoint saves where one that
        # was not cut off does.
        by_epoch = (
            self.epochs is not None
            and epoch is not None
            and epoch // self.epochs > self.last_epoch // self.epochs
        )
        by_step = self.steps is not None and step // self.steps > self.last_step // self.steps
        why = ""
        if self.asked:
            why = f"asked to end ({self.asked})"
        elif self.beaten:
            why = "best so far"
        elif by_epoch:
            why = f"every {self.epochs:g} epochs"
        elif by_step:
            why = f"every {self.steps} steps"
        elif stop is not None:
            why = "about to stop"
        if why:
            self.beaten = False
            self.last_epoch = epoch if by_epoch and epoch is not None else self.last_epoch
            self.last_step = step if by_step else self.last_step
        return why
