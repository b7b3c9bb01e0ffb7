"""Whether tensors fit before they are loaded, as kembrel match says."""

from __future__ import annotations

import json
import subprocess
import tempfile
from typing import Any, Dict, List

from ._start import binary as find_binary
from ._tree import Flat


class Match:
    """How the tensors in a file fit those that are wanted."""

    def __init__(self, told: Dict[str, Any]) -> None:
        self.fits: bool = told["fits"]
        self.says: str = told["says"]
        """The outcome in a sentence."""
        self.missing: List[str] = [t["name"] for t in told["missing"]]
        self.unexpected: List[str] = [t["name"] for t in told["unexpected"]]
        self.shapes: Dict[str, Any] = {
            t["name"]: (tuple(t["given"]["shape"]), tuple(t["want"]["shape"]))
            for t in told["shapes"]
        }
        """Tensors of another shape: given and wanted."""
        self.dtypes: Dict[str, Any] = {
            t["name"]: (t["given"]["dtype"], t["want"]["dtype"]) for t in told["dtypes"]
        }
        self.renames: Dict[str, str] = {t["given"]: t["want"] for t in told["renames"]}
        """Likely new names."""

    def __bool__(self) -> bool:
        return self.fits


def match(path: Any, wanted: Any) -> Match:
    """Says how the tensors in a file (safetensors, NPY, NPZ) fit those of a tree, by name, shape
    and dtype, before anything is loaded.
    """
    tensors = Flat(wanted).listed()
    binary = find_binary()
    if binary is None:
        raise OSError("no kembrel is on the PATH (or set KEMBREL_BINARY)")
    with tempfile.NamedTemporaryFile("w", suffix=".json") as f:
        json.dump({"tensors": tensors}, f)
        f.flush()
        done = subprocess.run(
            [binary, "match", str(path), f.name, "--output", "json"], capture_output=True, text=True
        )
    if done.returncode not in (0, 7):
        raise ValueError(done.stderr.strip())
    return Match(json.loads(done.stdout))
