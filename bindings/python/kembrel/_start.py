"""How a recorder is started beside a program, and what is known of how the program was."""

from __future__ import annotations

import os
import pathlib
import shutil
import socket
import subprocess
import sys
import threading
from typing import Any, Callable, List, Optional

from ._values import whole


def warn(text: str) -> None:
    try:
        print(f"kembrel: {text}", file=sys.stderr, flush=True)
    except (
        OSError,
        ValueError,
        AttributeError,
    ):  # the error output may be closed, or on a full disk
        pass


def binary() -> Optional[str]:
    found = os.environ.get("KEMBREL_BINARY") or shutil.which("kembrel")
    # As pip puts it beside an environment's interpreter, or into a folder that was named by
    # --target.
    for beside in (
        pathlib.Path(sys.executable or "").parent,
        pathlib.Path(__file__).resolve().parent.parent / "bin",
    ):
        found = found or (str(beside / "kembrel") if (beside / "kembrel").is_file() else None)
    return found


class _Exit:
    """Stands in for sys.exit, whose code nothing tells at the end of the interpreter."""

    code: Any = None

    def __init__(self, before: Callable[..., Any]) -> None:
        self.before = before

    def __call__(self, code: Any = None) -> Any:
        self.code = code
        return self.before(code)


asked_exit = _Exit(sys.exit)


def command_line() -> List[str]:
    """How this program was really started, with the interpreter's own flags; nothing where it
    cannot be started again: in a notebook, at a prompt, or from standard input.
    """
    if hasattr(sys, "ps1") or "ipykernel" in sys.modules or sys.argv[:1] in ([], ["-"]):
        return []
    interpreter = sys.executable or "python3"
    given = list(getattr(sys, "orig_argv", []))  # since 3.10
    if given:
        return (
            [interpreter, *given[1:]] if given[1:] else []
        )  # a program from standard input has no name
    if sys.argv[0] in ("", "-c"):
        return []
    spec = getattr(sys.modules.get("__main__"), "__spec__", None)
    if spec is not None and spec.name:
        name = spec.name[: -len(".__main__")] if spec.name.endswith(".__main__") else spec.name
        return [interpreter, "-m", name, *sys.argv[1:]]
    return [interpreter, *sys.argv]


def rank_of(given: Any, around: bool) -> int:
    """Which of several processes of one training this is: given, or as whoever started them says.
    What a scheduler says counts only where the processes share a recorder: its tasks may as well be
    trainings of their own.
    """
    names = ["KEMBREL_RANK", "RANK", "OMPI_COMM_WORLD_RANK", "PMI_RANK", "PMIX_RANK"] + (
        ["SLURM_PROCID"] if around else []
    )
    return _first(given, names, 0)


def ranks_of(given: Any, around: bool) -> int:
    """How many processes one training has: given, or as whoever started them says."""
    names = ["KEMBREL_RANKS", "WORLD_SIZE", "OMPI_COMM_WORLD_SIZE", "PMI_SIZE", "PMIX_SIZE"] + (
        ["SLURM_NTASKS"] if around else []
    )
    return _first(given, names, 1)


def _first(given: Any, names: List[str], unless: int) -> int:
    for text in [given] if given is not None else [os.environ.get(n, "") for n in names]:
        try:
            if text != "":
                return whole(int(text), "rank")
        except Exception:
            pass
    return unless


def start(arguments: List[str]) -> str:
    """Starts a recorder beside this program and returns its socket."""
    if not hasattr(socket, "AF_UNIX"):
        raise OSError(
            "nothing is recorded: a recorder is spoken to by Unix sockets, which this system "
            "does not have"
        )
    kembrel = binary()
    if kembrel is None:
        raise OSError(
            "nothing is recorded: there is no recorder around, and no kembrel on the PATH to "
            "start one (or set KEMBREL_BINARY)"
        )
    command = [kembrel, "record", "--attach", str(os.getpid()), *arguments, "--", *command_line()]
    process = subprocess.Popen(
        command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, start_new_session=True
    )
    assert process.stdout is not None
    line = process.stdout.readline().decode().strip()
    threading.Thread(target=process.wait, name="kembrel-recorder", daemon=True).start()
    if not line:
        raise OSError("nothing is recorded: the recorder did not start")
    return line.split(" ", 1)[0]
