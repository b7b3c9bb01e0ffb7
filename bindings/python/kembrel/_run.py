"""The run being recorded: a connection to the recorder (docs/recorder-protocol.md)."""

from __future__ import annotations

import atexit
import collections
import functools
import json
import math
import os
import pathlib
import platform
import signal
import socket
import sys
import tempfile
import threading
import time
from typing import Any, Callable, Deque, Dict, Iterator, List, Optional, Tuple, TypeVar

from ._hyper import Hyper, mapping, nested, plain
from ._resumed import Resumed
from ._saver import Saver
from ._start import asked_exit, rank_of, ranks_of, start, warn
from ._tree import Flat, write_part, write_tensors
from ._values import number, odd, whole

_ANSWER = 30.0  # seconds to wait for an answer of the recorder
_BACK = 5.0  # seconds to wait for another recorder in place of one that died
_SETTLE = 600.0  # seconds to wait for checkpoints to be safe on disk
_QUEUE = 64 << 20  # bytes of messages kept for a recorder that takes over
_TRIES = 8  # times that a recorder is started in place of one that died, before that is said
_PAUSE = 10.0  # seconds between later tries
_KINDS = 50  # of problems that are said one by one


_Method = TypeVar("_Method", bound=Callable[..., Any])


def _safe(default: Any = None) -> Callable[[_Method], _Method]:
    """Makes a method that never raises into the training program: what goes wrong is a problem of the recording, and default is returned."""

    def wrap(method: _Method) -> _Method:
        @functools.wraps(method)
        def safe(self: Any, *args: Any, **kw: Any) -> Any:
            try:
                return method(self, *args, **kw)
            except Exception as e:
                self._fail(f"{method.__name__}: {type(e).__name__}: {e}"[:500], method.__name__ + type(e).__name__)
                return default

        return safe  # type: ignore[return-value]

    return wrap


class Run:
    """A run being recorded. Its methods may be called from many threads. In a forked child they do nothing: the parent records."""

    _over = False  # a run of this process, or of the one it was forked from, has ended
    _around = 0  # the process whose run has the recorder that is around; a forked child shares it

    def __init__(self) -> None:
        self.rank = 0
        """Which of several processes of one training this is. The first, 0, is the run's."""
        self.ranks = 1
        """How many processes the training has, as far as it is known."""
        self.address = ""
        """The run's address, such as vessels/3, as far as it is known."""
        self.hyper: Dict[str, Any] = {}
        """The hyperparameters, with the values that were asked for instead, as by kembrel branch --hyper. Read them here: a value that was asked
        for is recorded as used when it is read, and as *asked, not taken* where it never is."""
        self.resumed: Optional[Resumed] = None
        """Where to go on; None: start afresh."""
        self.verify: Optional[pathlib.Path] = None
        """Folder of a restored checkpoint that the program is to evaluate, under kembrel verify."""
        self.stop: Optional[str] = None
        """Why the program should stop; None: it may go on."""
        self.problem: Optional[str] = None
        """The latest thing that went wrong with the recording."""
        self._lock = threading.RLock()
        self._changed = threading.Condition(self._lock)
        self._socket: Optional[socket.socket] = None
        self._handle = -1
        self._id = 0
        self._pending: Deque[Tuple[int, bytes]] = collections.deque()
        self._waiting = 0
        self._answers: Dict[int, Optional[Dict[str, Any]]] = {}
        self._unsettled: Dict[int, bytes] = {}
        self._quoted: Dict[str, str] = {}
        self._spool = ""
        self._ended = False
        self._lost = True  # no recorder is there, and waiting for one is in vain
        self._held = False  # the recorder keeps things in memory: its disk takes nothing
        self._path = ""
        self._asked: Dict[str, Any] = {}
        self._pid = os.getpid()
        self._silent = False  # another rank, whose readings and notes are not recorded
        self._recording = 0  # how many ranks record, where more than the first do
        self._saver: Optional[Saver] = None
        self._said: Dict[str, int] = {}

    # Recording.

    def readings(self, step: int, epoch: Optional[float], values: Dict[str, Any]) -> None:
        """Records values at a step and epoch (None where there are no epochs). Steps never fall; NaN and infinities are values."""
        if self._silent or self._pid != os.getpid():  # asked before the lock, which another thread may have held when this process was forked
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
                        what = key or type(name).__name__
                        self._fail(f"the reading {what:.100} is not recorded: {e}", f"reading {what:.100}")
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
        tail = f',"step":{step},{at}"time":{time.time_ns() // 1_000_000},"values":{{{",".join(parts)}}}}}\n'
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
            if self._waiting > _QUEUE:
                self._shift()
            if self._socket is not None:
                try:
                    sent = os.write(self._handle, line)  # cheaper than the socket's own way
                    if sent < len(line):
                        self._socket.sendall(line[sent:])
                except OSError:
                    pass  # the listener notices, and looks for another recorder

    def _epoch(self, epoch: Any) -> float:
        try:
            return number(epoch)
        except Exception as e:
            self._fail(f"an epoch is left out: {e}", "epoch")
            return math.nan

    @_safe()
    def note(self, text: str) -> None:
        """Leaves a line of text on the run."""
        if not self._silent:
            self._tell("note", text=str(text)[:10000])

    @_safe(False)
    def save(self, step: int, epoch: Optional[float] = None, why: str = "", gather: bool = False, **parts: Any) -> bool:
        """Saves a checkpoint of these parts, each a tree or a path of a file: weights, optimiser, schedule, random, position, architecture,
        training, preprocess, or your own (underscores stand for hyphens). It returns once the files are written; the recorder makes them safe
        and sends them. False where it could not be saved, which problem tells.

        Of several processes the first saves. gather: all of them save, each its own parts, into one checkpoint, which is kept when all have come;
        every process must call it, and is given its own parts where the run goes on."""
        if self.rank and not gather:
            return True  # rank 0 saves
        if not parts:
            raise ValueError("a checkpoint has at least one part, such as weights=...")
        step = whole(step, "step")
        fields: Dict[str, Any] = {"do": "join" if self.rank else "begin", "step": step, "why": str(why)[:200]}
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
                    self._fail(f"{part}: left out of the checkpoint: {what}"[:500], f"left out {part} {what}")
            if not names:
                raise TypeError("none of its parts can be saved")
        except Exception as e:
            why = f"{e.strerror or e}" if isinstance(e, OSError) else f"{type(e).__name__}: {e}"
            self._fail(f"the checkpoint of step {step} could not be written: {why}"[:500], "written")
            self._tell("checkpoint", do="abandon", checkpoint=begun["checkpoint"], why=f"it could not be written: {why}"[:2000])
            return False
        with self._lock:
            if self._saver is not None:
                self._saver.saved = step
            id = self._next()
            line = json.dumps({"kind": "checkpoint", "id": id, "do": "commit", "checkpoint": begun["checkpoint"], "parts": names}).encode() + b"\n"
            self._unsettled[id] = line
            self._send(id, line)
        return True

    @_safe()
    def save_when(self, epochs: Optional[float] = None, steps: Optional[int] = None, best: str = "", margin: float = 0.0, on_signal: bool = False) -> None:
        """Sets when save_if_due saves: every so many epochs or steps; whenever the curve in best ("loss.val lower") has beaten its best by
        the margin; once more when the program is asked to end by SIGINT or SIGTERM (a second signal ends it at once)."""
        saver = Saver(epochs, steps, best, margin)
        if self.resumed is not None:
            saver.last_step = saver.saved = self.resumed.step
            if self.resumed.epoch == self.resumed.epoch:
                saver.last_epoch = self.resumed.epoch
        self._saver = saver
        if on_signal and threading.current_thread() is threading.main_thread():
            for number in (signal.SIGINT, signal.SIGTERM):
                self._on_signal(number, saver)

    def _on_signal(self, number: int, saver: Saver) -> None:
        before = signal.getsignal(number)

        def asked(got: int, frame: Any) -> None:
            saver.asked = signal.Signals(got).name
            self.stop = self.stop or f"The program was asked to end ({saver.asked})."
            signal.signal(got, before if before is not None else signal.SIG_DFL)

        signal.signal(number, asked)

    @_safe(False)
    def save_if_due(self, step: int, epoch: Optional[float] = None, gather: bool = False, **parts: Any) -> bool:
        """Saves where save_when says that it is time, or the program is about to stop. Give what is costly to bring together as a function without
        arguments: it is called only then. Call it where the state is whole, behind the readings of the step. gather: as for save; what is due must
        then be due for all processes alike, by epochs or steps."""
        saver = self._saver
        step = whole(step, "step")
        if epoch is not None:
            at = self._epoch(epoch)
            epoch = at if at - at == 0 else None
        why = saver.due(step, epoch, self.stop) if saver is not None else ""
        if not why:
            return False
        return self.save(step, epoch, why, gather, **{k: v() if callable(v) else v for k, v in parts.items()})

    @_safe()
    def initial_weights(self, weights: Any, fresh: Optional[bool] = None, seed: Optional[int] = None, needs: Optional[List[str]] = None) -> None:
        """Tells what the weights are before training, as a tree, of which a digest is taken, so that it is known where they come from;
        whether they are fresh, and the seed they were drawn by; and which parts of a checkpoint resuming needs (weights, optimiser and random
        unless given). It comes before the first reading."""
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
        """The epochs to train, from first to last; where the run goes on from a checkpoint, those behind it. It ends early when the program should
        stop (stop). A checkpoint within an epoch counts as one of that epoch: the epoch is begun again."""
        begin = first
        if self.resumed is not None and self.resumed.epoch == self.resumed.epoch:
            begin = max(first, math.floor(self.resumed.epoch) + 1)
        for epoch in range(begin, int(last) + 1):
            if self.stop is not None:
                return
            yield epoch

    @_safe(False)
    def settle(self, timeout: float = _SETTLE) -> bool:
        """Waits until all checkpoints handed over are safe on disk."""
        if self._pid != os.getpid():
            return True
        with self._lock:
            self._changed.wait_for(lambda: not self._unsettled or self._lost or self._held, timeout)
            return not self._unsettled

    @_safe()
    def end(self, state: str = "finished", why: str = "") -> None:
        """Says how the program ends: finished, stopped or failed. It waits until what was handed over is safe on disk, not for the service."""
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

    # The connection.

    def _fail(self, text: str, kind: str = "", on_run: bool = True) -> None:
        """Something went wrong: it is said once for each kind, and left on the run where the recorder does not know of it, and counted after that."""
        kind = kind or text
        self.problem = text
        if kind not in self._said:
            if len(self._said) >= _KINDS:
                kind = "others"
                if kind in self._said:
                    self._said[kind] += 1
                    return
            self._said[kind] = 0
            warn(text)
            if on_run:
                try:
                    self._tell("note", text=f"Problem: {text}")
                except Exception:
                    pass
        self._said[kind] += 1

    def _say_again(self) -> None:
        """How often each kind of problem was met, where that is more than once."""
        for kind, times in list(self._said.items()):
            if times > 1:
                warn(f"{times} times: {kind}"[:300])
                self._tell("note", text=f"Problem met {times} times: {kind}"[:2000])

    def _next(self) -> int:
        self._id += 1
        return self._id

    def _tell(self, kind: str, **fields: Any) -> None:
        if self._pid != os.getpid():
            return
        with self._lock:
            id = self._next()
            self._send(id, json.dumps({"kind": kind, "id": id, **fields}).encode() + b"\n", keep=True)

    def _send(self, id: int, line: bytes, keep: bool = False) -> None:
        """Sends a line; the lock is held. What is kept is sent again to a recorder that takes over."""
        if self._ended or self._lost and not self._path:
            return
        if keep:
            self._pending.append((id, line))
            self._waiting += len(line)
            if self._waiting > _QUEUE:
                self._shift()
        if self._socket is not None:
            try:
                self._socket.sendall(line)
            except OSError:
                pass  # the listener notices, and looks for another recorder

    def _ask(self, kind: str, **fields: Any) -> Optional[Dict[str, Any]]:
        """Sends a message and waits for its answer; None where there is none."""
        if self._pid != os.getpid():
            return None
        with self._lock:
            self._changed.wait_for(lambda: self._socket is not None or self._lost, _BACK)
            if self._socket is None or self._lost or self._ended:
                return None
            id = self._next()
            self._answers[id] = None
            at = self._socket
            self._send(id, json.dumps({"kind": kind, "id": id, **fields}).encode() + b"\n")
            self._changed.wait_for(lambda: self._answers[id] is not None or self._socket is not at or self._held and kind == "end", _ANSWER)
            return self._answers.pop(id)

    def _connect(self, path: str) -> None:
        s = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        s.settimeout(_ANSWER)
        s.connect(path)
        s.sendall(json.dumps({"kind": "hello", "protocol": 1, "rank": self.rank, "ranks": self._recording, "hears": ["named"], "language": f"python {platform.python_version()}"}).encode() + b"\n")
        lines = s.makefile("rb")
        text = lines.readline()
        told = json.loads(text) if text else {}
        if told.get("kind") != "welcome":
            raise OSError(f"the recorder does not welcome this program: {told.get('what', 'no answer')}")
        s.settimeout(None)
        with self._lock:
            self.address, self._spool = told.get("run", ""), told.get("folder", "")
            if told.get("resume"):
                self.resumed = Resumed(told["resume"], self.rank)
            if told.get("verify"):
                self.verify = pathlib.Path(told["verify"])
            self._asked = told.get("asked") or {}
            self._drop(told.get("kept", 0))
            again = sorted(list(self._pending) + list(self._unsettled.items()))
            for _, line in again:
                s.sendall(line)
            self._socket, self._handle, self._lost, self._path = s, s.fileno(), False, path
            self._changed.notify_all()
        threading.Thread(target=self._listen, args=(s, lines), name="kembrel", daemon=True).start()

    def _shift(self) -> None:
        """Forgets the oldest messages, where a recorder keeps nothing."""
        while self._waiting > _QUEUE:
            self._waiting -= len(self._pending.popleft()[1])

    def _drop(self, id: int) -> None:
        while self._pending and self._pending[0][0] <= id:
            self._waiting -= len(self._pending.popleft()[1])

    def _listen(self, s: socket.socket, lines: Any) -> None:
        try:
            for text in lines:
                try:
                    m = json.loads(text)
                except ValueError:
                    continue
                with self._lock:
                    self._hear(m)
        except OSError:
            pass
        with self._lock:
            self._socket = None
            self._changed.notify_all()
            if self._ended or self._pid != os.getpid():
                return
        self._take_up()

    def _hear(self, m: Dict[str, Any]) -> None:
        id, kind = m.get("id", 0), m.get("kind")
        if kind == "held":
            self._held = True
            self._fail(f"the recorder says: {m.get('what')}", "held", on_run=False)
        elif kind == "kept":
            self._held = False
            if self._unsettled.pop(id, None) is None:
                self._drop(id)
        elif kind == "problem":
            self._unsettled.pop(id, None)
            self._pending = collections.deque(e for e in self._pending if e[0] != id)
            what = str(m.get("what"))
            self._fail(f"the recorder says: {what}", "recorder " + "".join(c for c in what[:80] if not c.isdigit()), on_run=False)
        elif kind == "named":
            self.address = m.get("run") or self.address
        elif kind == "advice":
            self.stop = m.get("what") or "The program should stop."
        if id in self._answers:
            self._answers[id] = m
        self._changed.notify_all()

    def _take_up(self) -> None:
        """Goes back to the recorder where only the connection was lost, or starts one that goes on with the spool of one that died; again and again.
        What is said meanwhile waits here."""
        pause, tries = 0.1, 0
        while not self._ended:
            error = ""
            for path in (self._path,) if self.rank else (self._path, ""):  # rank 0 starts another
                try:
                    self._connect(path or start(["--adopt", self._spool]))
                    return
                except (OSError, ValueError) as e:
                    error = str(e)
            tries += 1
            if tries == _TRIES:
                with self._lock:
                    self._lost = True
                    self._changed.notify_all()
                self._fail(f"the recorder is gone and another cannot take over yet; training goes on, and what it says waits here: {error}")
            time.sleep(pause)
            pause = min(2 * pause, 3.0) if tries < _TRIES else _PAUSE


def record(
    project: str = "", *, title: str = "", hyper: Any = None, resume: str = "", rank: Optional[int] = None, ranks: Optional[int] = None, each_rank: bool = False
) -> Run:
    """Begins the recording. It never fails: without a recorder, problem says why and nothing is recorded.

    project, title and resume (a run or checkpoint to go on with) count only where no recorder is around yet; the project may also be in
    $KEMBREL_PROJECT. hyper: numbers, booleans, texts and lists of these by name, from a dict, a dataclass or a namespace; dotted names nest.

    rank, ranks: which of how many processes of one training this is; 0, the first, records. The others go on from the same checkpoint and hear the same
    advice. Unless given they are taken from RANK, WORLD_SIZE and their like. each_rank: the others record too, each curves of its own: loss.train
    of rank 3 is rank3.loss.train. Without it what they are told to record does nothing, unless they save together (save, gather)."""
    run = Run()
    try:
        run.hyper = mapping(hyper)
    except Exception as e:
        run._fail(f"the hyperparameters are left out: a {type(hyper).__name__} is no dict: {e}"[:500])
    try:
        path = os.environ.get("KEMBREL_RECORDER")
        run.rank = rank_of(rank, bool(path))
        run.ranks = max(ranks_of(ranks, bool(path)), run.rank + 1)
        run._recording = run.ranks if each_rank and run.ranks > 1 else 0
        if run.rank:
            if not path:
                run._fail(f"nothing is recorded by this process: it is rank {run.rank}, and rank 0 records (rank=0 says otherwise)")
                run._pid = -1
                return run
            run._silent = not each_rank
            run._connect(path)
            run.hyper = nested(run.hyper, run._asked, lambda names: None)
            atexit.register(run._at_exit)
            return run
        if not path or Run._over or Run._around == os.getpid():  # the recorder around has a run of this process, going on or ended: this is another
            arguments = ["--resume", str(resume)] if resume else ["--project", str(project or os.environ.get("KEMBREL_PROJECT", "")), "--title", str(title)]
            path = start(arguments)
        else:
            Run._around = os.getpid()
        run._connect(path)
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
        sys.exit = asked_exit  # type: ignore[assignment]
    atexit.register(run._at_exit)
    return run
