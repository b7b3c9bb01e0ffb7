"""The run being recorded."""

from __future__ import annotations

import atexit
import functools
import json
import math
import os
import signal
import sys
import tempfile
import threading
import time
import types
from typing import Any, Dict, Iterator, List, Optional

from ._connection import QUEUE
from ._handing import Handing, safe
from ._hyper import Hyper, mapping, nested, plain
from ._saver import Saver
from ._start import asked_exit, rank_of, ranks_of, start
from ._tree import Flat, write_part, write_tensors
from ._values import number, odd, whole

_CALLED = (
    types.FunctionType,
    types.MethodType,
    types.BuiltinFunctionType,
    functools.partial,
)  # not a model that can be called
_SETTLE = 600.0  # seconds to wait for checkpoints to be safe on disk


class Run(Handing):
    """A run being recorded. Its methods may be called from many threads. In a forked child they do
    nothing: the parent records.
    """

    _over = False  # a run of this process, or of the one it was forked from, has ended
    _around = 0  # the process whose run has the recorder that is around; a forked child shares it

    def __init__(self) -> None:
        super().__init__()
        self.hyper: Dict[str, Any] = {}
        """The hyperparameters, with the values that were asked for instead, as by kembrel branch
        --hyper. Read them here: a value that was asked for is recorded as used when it is read, and
        as *asked, not taken* where it never is.
        """
        self._quoted: Dict[str, str] = {}  # names of curves as JSON
        self._saver: Optional[Saver] = None

    # Recording.

    def readings(self, step: int, epoch: Optional[float], values: Dict[str, Any]) -> None:
        """Records values at a step and epoch (None where there are no epochs). Steps never fall;
        NaN and infinities are values.
        """
        if (
            self._silent or self._pid != os.getpid()
        ):  # asked before the lock, which another thread may have held when this process was forked
            return
        try:
            quoted = self._quoted
            parts = []
            for name, v in values.items():
                key = quoted.get(name)
                if key is None or type(v) is not float:
                    try:
                        key = key or json.dumps(str(name)) + ":"
                        quoted[name] = key
                        v = number(v)
                    except Exception as e:  # it costs itself, never its neighbours
                        what = (key or type(name).__name__).rstrip(":")
                        self._fail(
                            f"the reading {what:.100} is not recorded: {e}", f"reading {what:.100}"
                        )
                        continue
                parts.append(key + repr(v) if v - v == 0 else key + odd(v))
            at = ""
            if epoch is not None:
                if type(epoch) is int:
                    epoch = float(epoch)
                elif type(epoch) is not float:
                    epoch = self._epoch(epoch)
                if epoch - epoch == 0 and epoch >= 0:
                    at = f'"epoch":{epoch!r},'
            if type(step) is not int or step < 0:
                step = whole(step, "step")
            if not parts:
                return
        except Exception as e:
            self._fail(f"readings: {type(e).__name__}: {e}"[:500], "readings")
            return
        now = time.time_ns() // 1_000_000
        tail = f',"step":{step},{at}"time":{now},"values":{{{",".join(parts)}}}}}\n'
        with self._lock:
            if self._saver is not None:
                try:
                    self._saver.see(values)
                except Exception:  # a value that is no number was said already
                    pass
            if self._ended or self._lost and not self._path:
                return
            id = self._id = self._id + 1
            line = f'{{"kind":"readings","id":{id}{tail}'.encode()
            self._pending.append((id, line))
            self._waiting += len(line)
            if self._waiting > QUEUE:
                self._shift()
            if self._socket is not None:
                try:
                    sent = os.write(self._handle, line)  # cheaper than the socket's own way
                    if sent < len(line):
                        self._socket.sendall(line[sent:])
                except OSError:
                    pass  # the listener notices, and looks for another recorder

    @safe()
    def note(self, text: str) -> None:
        """Leaves a line of text on the run."""
        if not self._silent:
            self._tell("note", text=str(text)[:10000])

    @safe(False)
    def checkpoint(
        self,
        step: int,
        epoch: Optional[float] = None,
        why: str = "",
        gather: bool = False,
        **parts: Any,
    ) -> bool:
        """Saves a checkpoint of these parts now, each a tree or a path of a file: weights,
        optimiser, schedule, random, position, architecture, training, preprocess, or your own
        (underscores stand for hyphens). It returns once the files are written; the recorder makes
        them safe and sends them. False where it could not be saved, which problem tells.

        Of several processes the first saves. gather: all of them save, each its own parts, into one
        checkpoint, which is kept when all have come; every process must call it, and is given its
        own parts where the run goes on.
        """
        if self.rank and not gather:
            return True  # rank 0 saves
        if not parts:
            raise ValueError("a checkpoint has at least one part, such as weights=...")
        step = whole(step, "step")
        fields: Dict[str, Any] = {
            "do": "join" if self.rank else "begin",
            "step": step,
            "why": str(why)[:200],
        }
        if gather and self.ranks > 1:
            fields["ranks"] = self.ranks
        if epoch is not None:
            at = self._epoch(epoch)
            if at >= 0 and at - at == 0:
                fields["epoch"] = at
        begun = self._ask("checkpoint", **fields) or self._ask("checkpoint", **fields)
        if begun is None or begun["kind"] != "folder":
            return False
        names: Dict[str, List[str]] = {}
        folder, within = begun["folder"], ""
        try:
            if self.rank:
                within = f"rank{self.rank}/"
                folder = os.path.join(folder, within)
                os.makedirs(folder, exist_ok=True)
            for part, tree in parts.items():
                part = part.replace("_", "-")
                files, left = write_part(folder, part, tree)
                if files:
                    names[part] = [within + f for f in files]
                for what in left:
                    self._fail(
                        f"{part}: left out of the checkpoint: {what}"[:500],
                        f"left out {part} {what}",
                    )
            if not names:
                raise TypeError("none of its parts can be saved")
        except Exception as e:
            why = f"{e.strerror or e}" if isinstance(e, OSError) else f"{type(e).__name__}: {e}"
            self._fail(
                f"the checkpoint of step {step} could not be written: {why}"[:500], "written"
            )
            self._tell(
                "checkpoint",
                do="abandon",
                checkpoint=begun["checkpoint"],
                why=f"it could not be written: {why}"[:2000],
            )
            return False
        with self._lock:
            if self._saver is not None:
                self._saver.saved = step
            id = self._next()
            line = (
                json.dumps(
                    {
                        "kind": "checkpoint",
                        "id": id,
                        "do": "commit",
                        "checkpoint": begun["checkpoint"],
                        "parts": names,
                    }
                ).encode()
                + b"\n"
            )
            self._unsettled[id] = line
            self._send(id, line)
        return True

    @safe()
    def save_when(
        self,
        epochs: Optional[float] = None,
        steps: Optional[int] = None,
        best: str = "",
        margin: float = 0.0,
        on_signal: bool = False,
    ) -> None:
        """Sets when save saves: every so many epochs or steps; whenever the curve in best
        ("loss.val lower") has beaten its best by the margin; once more when the program is asked to
        end by SIGINT or SIGTERM (a second signal ends it at once).
        """
        saver = Saver(epochs, steps, best, margin)
        if self.resumed is not None:
            saver.last_step = saver.saved = self.resumed.step
            if self.resumed.epoch == self.resumed.epoch:
                saver.last_epoch = self.resumed.epoch
        self._saver = saver
        if on_signal and threading.current_thread() is threading.main_thread():
            for asked in (signal.SIGINT, signal.SIGTERM):
                self._on_signal(asked, saver)

    def _on_signal(self, number: int, saver: Saver) -> None:
        before = signal.getsignal(number)

        def asked(got: int, frame: Any) -> None:
            saver.asked = signal.Signals(got).name
            self.stop = self.stop or f"The program was asked to end ({saver.asked})."
            signal.signal(got, before if before is not None else signal.SIG_DFL)

        signal.signal(number, asked)

    @safe(False)
    def save(
        self, step: int, epoch: Optional[float] = None, gather: bool = False, **parts: Any
    ) -> bool:
        """Saves where save_when says that it is time, or the program is about to stop; always where
        save_when was not called. Give what is costly to bring together as a function without
        arguments: it is called only then. Call it where the state is whole, behind the readings of
        the step. gather: as for checkpoint; what is due must then be due for all processes alike,
        by epochs or steps.
        """
        saver, why = self._saver, ""
        step = whole(step, "step")
        if epoch is not None:
            at = self._epoch(epoch)
            epoch = at if at - at == 0 else None
        if saver is not None:
            why = saver.due(step, epoch, self.stop)
            if not why:
                return False
        return self.checkpoint(
            step,
            epoch,
            why,
            gather,
            **{k: v() if isinstance(v, _CALLED) else v for k, v in parts.items()},
        )

    @safe()
    def initial_weights(
        self,
        weights: Any,
        fresh: Optional[bool] = None,
        seed: Optional[int] = None,
        needs: Optional[List[str]] = None,
    ) -> None:
        """Tells what the weights are before training, as a tree, of which a digest is taken, so
        that it is known where they come from; whether they are fresh, and the seed they were drawn
        by; and which parts of a checkpoint resuming needs (weights, optimiser and random unless
        given). It comes before the first reading.
        """
        if self.rank:
            return  # rank 0 tells
        fields: Dict[str, Any] = {}
        if fresh is not None:
            fields["weights"] = "fresh" if fresh else "trained"
        if seed is not None:
            fields["seed"] = int(seed)
        if needs is not None:
            fields["needs"] = list(needs)
        if weights is not None and not self._lost and self._pid == os.getpid():
            tensors = Flat(weights).tensors
            path = ""
            try:
                handle, path = tempfile.mkstemp(prefix="kembrel-start-", suffix=".safetensors")
                os.close(handle)
                write_tensors(path, tensors)
                fields["path"] = path
            except OSError as e:
                self._fail(f"the starting weights are not known again: {e.strerror or e}")
                if path:
                    os.unlink(path)
        self._tell("start", **fields)

    def epochs(self, last: int, first: int = 1) -> Iterator[int]:
        """The epochs to train, from first to last; where the run goes on from a checkpoint, those
        behind it. It ends early when the program should stop (stop). A checkpoint within an epoch
        counts as one of that epoch: the epoch is begun again.
        """
        begin = first
        if self.resumed is not None and self.resumed.epoch == self.resumed.epoch:
            begin = max(first, math.floor(self.resumed.epoch) + 1)
        for epoch in range(begin, int(last) + 1):
            if self.stop is not None:
                return
            yield epoch

    @safe(False)
    def settle(self, timeout: float = _SETTLE) -> bool:
        """Waits until all checkpoints handed over are safe on disk."""
        if self._pid != os.getpid():
            return True
        with self._lock:
            self._changed.wait_for(lambda: not self._unsettled or self._lost or self._held, timeout)
            return not self._unsettled

    @safe()
    def end(self, state: str = "finished", why: str = "") -> None:
        """Says how the program ends: finished, stopped or failed. It waits until what was handed
        over is safe on disk, not for the service.
        """
        if self._ended or self._pid != os.getpid():
            return
        if self.stop is not None and state == "finished" and not why:
            state, why = "stopped", self.stop
        self.settle()
        self._say_again()
        if not self.rank:
            self._ask("end", state=str(state), why=str(why)[:2000])
        with self._lock:
            self._ended = Run._over = True
            if self._socket is not None:
                self._socket.close()
        atexit.unregister(self._at_exit)

    def __enter__(self) -> Run:
        return self

    def __exit__(self, kind: Any, error: Any, trace: Any) -> None:
        if kind is None:
            self.end()
        elif issubclass(kind, KeyboardInterrupt):
            self.end("stopped", "Interrupted by a person.")
        elif issubclass(kind, SystemExit) and not error.code:
            self.end()
        else:
            self.end("failed", f"{kind.__name__}: {error}"[:2000])

    def _at_exit(self) -> None:
        kind = getattr(sys, "last_type", None)
        if hasattr(sys, "ps1") or kind is None and asked_exit.code in (None, 0):
            self.end()
        elif kind is None:
            self.end("failed", f"SystemExit: {asked_exit.code}"[:2000])
        elif issubclass(kind, KeyboardInterrupt):
            self.end("stopped", "Interrupted by a person.")
        else:
            self.end("failed", f"{kind.__name__}: {getattr(sys, 'last_value', '')}"[:2000])


def record(
    project: str = "",
    *,
    title: str = "",
    hyper: Any = None,
    resume: str = "",
    rank: Optional[int] = None,
    ranks: Optional[int] = None,
    each_rank: bool = False,
) -> Run:
    """Begins the recording. It never fails: without a recorder, problem says why and nothing is
    recorded.

    project, title and resume (a run or checkpoint to go on with) count only where no recorder is
    around yet; the project may also be in $KEMBREL_PROJECT. hyper: numbers, booleans, texts and
    lists of these by name, from a dict, a dataclass or a namespace; dotted names nest.

    rank, ranks: which of how many processes of one training this is; 0, the first, records. The
    others go on from the same checkpoint and hear the same advice. Unless given they are taken from
    RANK, WORLD_SIZE and their like. each_rank: the others record too, each curves of its own:
    loss.train of rank 3 is rank3.loss.train. Without it what they are told to record does nothing,
    unless they save together (save, gather).
    """
    run = Run()
    try:
        run.hyper = mapping(hyper)
    except Exception as e:
        run._fail(
            f"the hyperparameters are left out: a {type(hyper).__name__} is no dict: {e}"[:500]
        )
    try:
        path = os.environ.get("KEMBREL_RECORDER")
        run.rank = rank_of(rank, bool(path))
        run.ranks = max(ranks_of(ranks, bool(path)), run.rank + 1)
        run._recording = run.ranks if each_rank and run.ranks > 1 else 0
        if run.rank:
            if not path:
                run._fail(
                    f"nothing is recorded by this process: it is rank {run.rank}, and rank 0 "
                    f"records (rank=0 says otherwise)"
                )
                run._pid = -1
                return run
            run._silent = not each_rank
            run._connect_first(path)
            run.hyper = nested(run.hyper, run._asked, lambda names: None)
            atexit.register(run._at_exit)
            return run
        if (
            not path or Run._over or Run._around == os.getpid()
        ):  # the recorder around has a run of this process, going on or ended: this is another
            arguments = (
                ["--resume", str(resume)]
                if resume
                else [
                    "--project",
                    str(project or os.environ.get("KEMBREL_PROJECT", "")),
                    "--title",
                    str(title),
                ]
            )
            run._connect(start(arguments))
        else:
            Run._around = os.getpid()
            run._connect_first(path)
    except Exception as e:
        run._fail(str(e) if "recorded" in str(e) else f"nothing is recorded: {e}")
        return run
    try:
        told = plain(run.hyper)
        if told:
            run._tell("hyper", values=told)
        run.hyper = nested(run.hyper, run._asked, lambda names: run._tell("taken", names=names))
    except Exception as e:
        run._fail(f"the hyperparameters are left out: {type(e).__name__}: {e}"[:500], "hyper")
        run.hyper = Hyper({}, run._asked, lambda names: run._tell("taken", names=names))
    if sys.exit is asked_exit.before:
        sys.exit = asked_exit
    atexit.register(run._at_exit)
    return run
