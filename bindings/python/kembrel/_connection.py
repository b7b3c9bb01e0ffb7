"""The connection to the recorder (docs/recorder-protocol.md), which outlives the recorder."""

from __future__ import annotations

import collections
import json
import os
import platform
import socket
import threading
import time
from typing import Any, Deque, Dict, Optional, Tuple

from ._resumed import Resumed
from ._start import start, warn

_ANSWER = 30.0  # seconds to wait for an answer of the recorder
_BACK = 5.0  # seconds to wait for another recorder in place of one that died
QUEUE = 64 << 20  # bytes of messages kept for a recorder that takes over
_TRIES = 8  # times that a recorder is started in place of one that died, before that is said
_PAUSE = 10.0  # seconds between later tries
_KINDS = 50  # of problems that are said one by one


class Connection:
    """What a run hears from its recorder, and what was said to it and is not kept yet."""

    def __init__(self) -> None:
        self.rank = 0
        """Which of several processes of one training this is. The first, 0, is the run's."""
        self.ranks = 1
        """How many processes the training has, as far as it is known."""
        self.address = ""
        """The run's address, such as vessels/3, as far as it is known."""
        self.resumed: Optional[Resumed] = None
        """Where to go on; None: start afresh."""
        self.evaluate: Optional[Dict[str, Any]] = None  # what kembrel evaluate asks for
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
        self._spool = ""
        self._ended = False
        self._lost = True  # no recorder is there, and waiting for one is in vain
        self._held = False  # the recorder keeps things in memory: its disk takes nothing
        self._path = ""
        self._asked: Dict[str, Any] = {}
        self._pid = os.getpid()
        self._recording = 0  # how many ranks record, where more than the first do
        self._said: Dict[str, int] = {}

    def _fail(self, text: str, kind: str = "", on_run: bool = True) -> None:
        """Something went wrong: it is said once for each kind, and left on the run where the
        recorder does not know of it, and counted after that.
        """
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
            self._send(
                id, json.dumps({"kind": kind, "id": id, **fields}).encode() + b"\n", keep=True
            )

    def _tell_once(self, kind: str, **fields: Any) -> None:
        """Sends what has no id and is not sent again."""
        if self._pid != os.getpid():
            return
        with self._lock:
            self._send(0, json.dumps({"kind": kind, **fields}).encode() + b"\n")

    def _send(self, id: int, line: bytes, keep: bool = False) -> None:
        """Sends a line; the lock is held. What is kept is sent again to one that takes over."""
        if self._ended or self._lost and not self._path:
            return
        if keep:
            self._pending.append((id, line))
            self._waiting += len(line)
            if self._waiting > QUEUE:
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
            self._changed.wait_for(
                lambda: self._answers[id] is not None
                or self._socket is not at
                or self._held
                and kind == "end",
                _ANSWER,
            )
            return self._answers.pop(id)

    def _connect_first(self, path: str) -> None:
        """Connects to the recorder around the program. Where it has died since it started the
        program (which may have imported for long), another takes over its spool; where that fails
        too it is tried again in the background, as later.
        """
        self._path, self._spool = path, os.environ.get("KEMBREL_RECORDER_SPOOL", "")
        if not self._spool:
            self._connect(path)
            return
        error: Optional[Exception] = None
        give_up = time.monotonic() + _BACK
        while True:
            try:
                self._connect(path)
                return
            except OSError as e:
                error = e
            if not self.rank:
                try:
                    self._connect(start(["--adopt", self._spool]))
                    return
                except OSError as e:
                    error = e
            if time.monotonic() > give_up:
                break
            time.sleep(0.1)
        threading.Thread(target=self._take_up, name="kembrel", daemon=True).start()
        raise OSError(f"the recorder is gone, and another cannot take over yet: {error}")

    def _connect(self, path: str) -> None:
        s = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        s.settimeout(_ANSWER)
        s.connect(path)
        s.sendall(
            json.dumps(
                {
                    "kind": "hello",
                    "protocol": 1,
                    "rank": self.rank,
                    "ranks": self._recording,
                    "hears": ["named"],
                    "language": f"python {platform.python_version()}",
                }
            ).encode()
            + b"\n"
        )
        lines = s.makefile("rb")
        text = lines.readline()
        told = json.loads(text) if text else {}
        if told.get("kind") != "welcome":
            raise OSError(
                f"the recorder does not welcome this program: {told.get('what', 'no answer')}"
            )
        s.settimeout(None)
        with self._lock:
            self.address, self._spool = told.get("run", ""), told.get("folder", "")
            if told.get("resume"):
                self.resumed = Resumed(told["resume"], self.rank, self._fail)
            self.evaluate = told.get("evaluate")
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
        while self._waiting > QUEUE:
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
            self._fail(
                f"the recorder says: {what}",
                "recorder " + "".join(c for c in what[:80] if not c.isdigit()),
                on_run=False,
            )
        elif kind == "named":
            self.address = m.get("run") or self.address
        elif kind == "advice":
            self.stop = m.get("what") or "The program should stop."
        if id in self._answers:
            self._answers[id] = m
        self._changed.notify_all()

    def _take_up(self) -> None:
        """Goes back to the recorder where only the connection was lost, or starts one that goes on
        with the spool of one that died; again and again. What is said meanwhile waits here.
        """
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
                self._fail(
                    f"the recorder is gone and another cannot take over yet; training goes on, "
                    f"and what it says waits here: {error}"
                )
            time.sleep(pause)
            pause = min(2 * pause, 3.0) if tries < _TRIES else _PAUSE
