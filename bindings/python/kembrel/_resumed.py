"""Where a program goes on."""

from __future__ import annotations

import pathlib
from typing import Any, Callable, Dict, List, Optional, Tuple

from ._start import warn
from ._tree import read_part


class Resumed:
    """Where the program goes on: the step and epoch of a checkpoint, and its parts."""

    def __init__(self, told: Dict[str, Any], rank: int = 0) -> None:
        self.address: str = told["from"]
        """Address of the checkpoint, such as vessels/4@e12."""
        self.branch: bool = told.get("branch", False)
        """Whether a new run goes on from another run's checkpoint."""
        self.step: int = told["step"]
        self.epoch: float = float(told["epoch"])
        """The epoch; NaN where the program that saved it did not say."""
        self.folder = pathlib.Path(told["folder"])
        self.parts: Dict[str, List[str]] = told["parts"]
        """Files in the folder, by part."""
        self._own = f"rank{rank}" if rank else ""

    def part(
        self,
        name: str,
        make: Optional[Callable[[str, Tuple[int, ...], memoryview], Any]] = None,
        default: Any = None,
        like: Any = None,
    ) -> Any:
        """The tree that was saved as a part, or default where the part was not given. like: the
        program's present state of it, whose arrays it is written into, so that all is of the kind,
        dtype and device that it is there; what does not fit is said. make, if given, makes each
        array of its dtype, shape and bytes instead.
        """
        name = name.replace("_", "-")
        folder = self.folder
        if self._own and f"{self._own}-{name}" in self.parts:  # this process saved its own
            folder = folder / self._own
        elif name not in self.parts:
            return default
        return read_part(folder, name, make, like, lambda text: warn(f"resuming: {text}"))

    def into(self, **state: Any) -> Dict[str, Any]:
        """Writes the parts into the program's present state, each given by its name:
        into(weights=w, optimiser=o). It returns them by name, for what cannot be written into, such
        as numbers; a part that was not saved comes back as it is.
        """
        return {name: self.part(name, default=now, like=now) for name, now in state.items()}
