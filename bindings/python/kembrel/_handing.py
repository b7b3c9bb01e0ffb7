"""What a run hands over beside readings and checkpoints: data, prediction sheets, files."""

from __future__ import annotations

import functools
import json
import math
import os
import pathlib
import shutil
from itertools import islice
from typing import Any, Callable, Dict, Iterable, List, Optional, Sequence, Tuple, TypeVar

from ._connection import Connection
from ._arrays import is_array
from ._columns import key as named
from ._items import write_items
from ._sheet import task_of, write_sheet
from ._values import number, whole

_ITEMS = 2000  # keys and digests in a message

_Method = TypeVar("_Method", bound=Callable[..., Any])


def safe(default: Any = None) -> Callable[[_Method], _Method]:
    """Makes a method that never raises into the training program: what goes wrong is a problem of
    the recording, and default is returned.
    """

    def wrap(method: _Method) -> _Method:
        @functools.wraps(method)
        def guarded(self: Any, *args: Any, **kw: Any) -> Any:
            try:
                return method(self, *args, **kw)
            except Exception as e:
                self._fail(
                    f"{method.__name__}: {type(e).__name__}: {e}"[:500],
                    method.__name__ + type(e).__name__,
                )
                return default

        return guarded  # type: ignore[return-value]

    return wrap


def _told(value: Any) -> str:
    """A key or digest as text; one that names nothing is told as it is, so that all count."""
    try:
        return named(value)
    except ValueError:
        return str(value)


def _kept(values: Any) -> Any:
    """A column that can be gone through more than once."""
    return values if values is None or is_array(values) or isinstance(values, str) else list(values)


class Handing(Connection):
    """A connection by which data, prediction sheets and files are handed over."""

    def __init__(self) -> None:
        super().__init__()
        self._silent = False  # another rank, whose readings and notes are not recorded

    def _epoch(self, epoch: Any) -> float:
        try:
            return number(epoch)
        except Exception as e:
            self._fail(f"an epoch is left out: {e}", "epoch")
            return math.nan

    @safe()
    def data(
        self,
        use: str = "",
        keys: Optional[Iterable[Any]] = None,
        digests: Optional[Iterable[Any]] = None,
        groups: Optional[Iterable[Any]] = None,
        labels: Optional[Iterable[Any]] = None,
        classes: Optional[Sequence[str]] = None,
        dataset: str = "",
        **named_data: str,
    ) -> None:
        """Says which data the run uses: by name, data(train="hydrophone#3:train",
        val="hydrophone#3:val"), or by the items that it reads for one use, data("train",
        keys=...), of which the service says which snapshot that is, or that it is none. keys are
        their paths or ids, as the snapshot has them; digests, where they are known, "b3:..." or the
        32 bytes of BLAKE3-256. All are read one by one and held by nobody. dataset says whose
        snapshots are looked at first.

        With groups (what must not be in two splits, such as a voyage) or labels (texts, numbers,
        lists of texts, or places in classes) the items become a snapshot of dataset, or of one that
        is called as the project, unless one has them already; the use is their split. Those of all
        uses that are handed over before the first reading become one snapshot, which says whether
        they have anything in common.
        """
        if self._silent or self.rank:
            return
        for what, address in named_data.items():
            self._tell("data", use=what, data=str(address))
        if not use:
            return
        if keys is None and digests is None:
            if groups is not None or labels is not None:
                raise ValueError("groups and labels are of items, whose keys are missing")
            self._tell("data", use=str(use), data=str(dataset))
            return
        if groups is not None or labels is not None:
            if keys is None:
                raise ValueError("items with groups or labels need keys")
            items = keys
            names = None if classes is None else [str(c) for c in classes]
            self._hand_over(
                "items",
                {"do": "begin", "use": str(use), "data": str(dataset)},
                f"the items for {use}",
                lambda folder: (
                    {},
                    write_items(
                        folder, items, names, digests=digests, groups=groups, labels=labels
                    ),
                ),
            )
            return
        count = 0
        columns = {
            name: iter(values)
            for name, values in (("keys", keys), ("digests", digests))
            if values is not None
        }
        while True:
            some = {name: list(islice(values, _ITEMS)) for name, values in columns.items()}
            sizes = {len(part) for part in some.values()}
            if len(sizes) > 1:
                raise ValueError("keys and digests of data are not as many")
            if not (size := sizes.pop()):
                break
            fields = {name: [_told(v) for v in part] for name, part in some.items()}
            count += size
            self._tell_once("data", use=str(use), do="items", **fields)
        self._tell("data", use=str(use), do="end", data=str(dataset), count=count)

    @safe(False)
    def predictions(
        self,
        split: str,
        keys: Iterable[Any],
        true: Any = None,
        predicted: Any = None,
        scores: Any = None,
        classes: Optional[Sequence[str]] = None,
        epoch: Optional[float] = None,
        step: Optional[int] = None,
        task: str = "",
        probabilities: Optional[bool] = None,
        groups: Any = None,
        texts: Any = None,
        media: Optional[Dict[str, Any]] = None,
        own: Optional[Dict[str, Any]] = None,
    ) -> bool:
        """Hands over the model's answers on examples of a split, at an epoch or step. keys are the
        examples' names, each once, as the items of the dataset where there is one; true and
        predicted are names of classes or their places in classes, or numbers (task "number"),
        None where there is none; several labels as lists of classes or as an array (examples,
        classes) of 0 and 1 (task "labels"); texts with task="text"; masks as arrays (height,
        width) of places of classes (task "masks"). scores is an array (examples, classes), from
        which predicted follows where it is absent. groups, texts and own columns are as many.
        media is what a person is shown, by name: for each example bytes (a picture, a sound), a
        path, or an array as a picture. It returns once the files are written. False where they
        could not be, which problem tells.
        """
        if self.rank or self._silent:
            return True  # rank 0 hands over
        true, predicted, keys = _kept(true), _kept(predicted), _kept(keys)
        if not task:
            task = task_of(true, predicted, scores, classes)
        names = None if classes is None else [str(c) for c in classes]
        fields: Dict[str, Any] = {"do": "begin", "split": str(split), "task": task}
        if names is not None:
            fields["classes"] = names
        if probabilities is not None:
            fields["probabilities"] = bool(probabilities)
        if epoch is not None:
            fields["epoch"] = self._epoch(epoch)
        if step is not None:
            fields["step"] = whole(step, "step")
        columns = {
            "true": true,
            "predicted": predicted,
            "scores": scores,
            "groups": groups,
            "texts": texts,
            "media": media,
            "own": own,
        }

        def write(folder: pathlib.Path) -> Tuple[Dict[str, Any], List[str]]:
            files, lost = write_sheet(folder, keys, classes=names, task=task, **columns)
            return {"files": files}, lost

        return self._hand_over(
            "sheet",
            fields,
            f"the predictions on {split}",
            write,
        )

    @safe(False)
    def file(self, path: Any, name: str = "") -> bool:
        """Keeps a file with the run that is no checkpoint, as it is now: a report, a table, a
        picture. It goes by its path below the working folder, by its name from elsewhere, or by the
        name given; one of the same name takes the place of the one before. It returns once the file
        is copied. False where it could not be, which problem tells.
        """
        if self.rank or self._silent:
            return True  # rank 0 hands over
        given = pathlib.Path(os.fspath(path)).absolute()
        if not name:
            below = os.path.relpath(given)
            name = given.name if below.startswith("..") else pathlib.Path(below).as_posix()
        name = str(name)

        def write(folder: pathlib.Path) -> Tuple[Dict[str, Any], List[str]]:
            if not given.is_file():  # a pipe would be waited for
                raise ValueError(
                    "it is no plain file" if given.exists() else "there is no such file"
                )
            to = folder / name
            to.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(given, to)
            return {}, []

        return self._hand_over("file", {"do": "begin", "path": name}, f"the file {name}", write)

    def _hand_over(
        self,
        kind: str,
        fields: Dict[str, Any],
        what: str,
        write: Callable[[pathlib.Path], Tuple[Dict[str, Any], List[str]]],
    ) -> bool:
        """Asks for a folder, has it written, and hands it over with the fields that write gives;
        what write had to leave out is a problem of its own each.
        """
        begun = self._ask(kind, **fields) or self._ask(kind, **fields)
        if begun is None or begun["kind"] != "folder":
            return False
        try:
            more, lost = write(pathlib.Path(begun["folder"]))
        except Exception as e:
            why = f"{e.strerror or e}" if isinstance(e, OSError) else f"{type(e).__name__}: {e}"
            self._fail(f"{what} could not be written: {why}"[:500], kind)
            told = {
                "do": "abandon",
                kind: begun[kind],
                "why": f"it could not be written: {why}"[:2000],
            }
            self._tell(kind, **told)
            return False
        for why in lost:
            self._fail(f"{what}: {why}"[:500], f"{kind} {why[:60]}")
        with self._lock:
            id = self._next()
            line = {"kind": kind, "id": id, "do": "commit", kind: begun[kind], **more}
            text = json.dumps(line).encode() + b"\n"
            self._unsettled[id] = text
            self._send(id, text)
        return True
