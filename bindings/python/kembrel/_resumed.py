"""Where a program goes on."""

from __future__ import annotations

import pathlib
from typing import Any, Callable, Dict, List, Optional, Tuple

from ._arrays import is_array
from ._like import differs, lost_in, only_here
from ._start import warn
from ._tree import is_tree, read_part


class Resumed:
    """Where the program goes on: the step and epoch of a checkpoint, and its parts."""

    def __init__(
        self, told: Dict[str, Any], rank: int = 0, say: Callable[[str], None] = warn
    ) -> None:
        self.address: str = told["from"]
        """Address of the checkpoint, such as vessels/4@e12."""
        self.branch: bool = told.get("branch", False)
        """Whether a new run goes on from another run's checkpoint."""
        self.step: int = told["step"]
        self.epoch: float = float(told["epoch"])
        """The epoch; NaN where the program that saved it did not say."""
        self.folder = pathlib.Path(told["folder"])
        """Where the parts' files are."""
        self.parts: Dict[str, List[str]] = told["parts"]
        """Files in the folder, by part."""
        self._own = f"rank{rank}" if rank else ""
        self._say = say

    def part(
        self,
        name: str,
        make: Optional[Callable[[str, Tuple[int, ...], memoryview], Any]] = None,
        default: Any = None,
        like: Any = None,
    ) -> Any:
        """A part as it was saved, or default where it was not. A tree comes back as a tree, each
        array in the kind that was saved: of the same library (if it is loaded), dtype and device.
        A part that was saved as a file comes back as the path of that file in the folder (several
        files: a list of paths).

        like: the program's present state of the part, whose arrays are written into. make: called
        with dtype, shape and bytes of each array, makes it instead.
        """
        name = name.replace("_", "-")
        folder, files = self.folder, self.parts.get(name)
        if self._own and f"{self._own}-{name}" in self.parts:  # this process saved its own
            folder, files = folder / self._own, self.parts[f"{self._own}-{name}"]
        if files is None:
            return default
        if not is_tree(folder, name, files):
            paths = [self.folder / f for f in files]
            return paths[0] if len(paths) == 1 else paths
        return read_part(folder, name, make, like, self._told)

    def into(self, **state: Any) -> Dict[str, Any]:
        """Writes parts into the program's present state, each given by its name:
        into(weights=w, optimiser=o), or by the function that gives it: into(weights=net.state). It
        returns them by name; a part that was not saved comes back as it is.

        Many libraries give out copies of an object's state, and what is written into a copy is
        lost. Where that is noticed nothing is written, problem and the run say so, and the part is
        returned as it was saved. Load it in the library's own words instead:
        optimiser.load(run.resumed.part("optimiser")).
        """
        out = {}
        for name in state:
            if callable(state[name]) and not is_array(state[name]):
                out[name] = self._into_given(name, state[name])
                continue
            alone = only_here(state, name)
            saved = self.part(name, default=_NOTHING) if alone else None
            lost = lost_in(saved, state[name], name) if alone and saved is not _NOTHING else []
            if lost:
                self._refuse(name, lost)
                out[name] = saved
                continue
            out[name] = self.part(name, default=state[name], like=state[name])
        return out

    def _into_given(self, name: str, give: Callable[[], Any]) -> Any:
        """Writes into what give gives, and looks whether it gives that afterwards."""
        saved = self.part(name, default=_NOTHING)
        if saved is _NOTHING:
            return give()
        filled = self.part(name, like=give())
        lost = differs(saved, give(), name)
        if not lost:
            return filled
        self._refuse(name, lost)
        return saved

    def _refuse(self, name: str, lost: List[str]) -> None:
        self._told(
            f"{name} was NOT restored: what was given to into() is a copy, in which "
            f"{len(lost)} values would be lost ({lost[0]:.100}). Load it in your library's own "
            f"words: the object's load function with run.resumed.part({name!r})"
        )

    def _told(self, text: str) -> None:
        self._say(f"resuming: {text}")


_NOTHING: Any = object()
