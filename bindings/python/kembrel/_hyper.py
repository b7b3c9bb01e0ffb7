"""Hyperparameters: the program's own, and those that were asked for instead."""

from __future__ import annotations

from typing import Any, Callable, Dict, List


class Hyper(Dict[str, Any]):
    """The program's hyperparameters with, in their place, the values that were asked for, as by kembrel rerun --hyper. Reading a value that was
    asked for takes it: only then is it recorded as used."""

    def __init__(self, own: Dict[str, Any], asked: Dict[str, Any], take: Callable[[List[str]], None]) -> None:
        super().__init__(own)
        self._asked, self._take = asked, take

    def _taken(self, name: str) -> Any:
        v = self._asked.pop(name)
        super().__setitem__(name, v)
        self._take([name])
        return v

    def __contains__(self, name: object) -> bool:
        return super().__contains__(name) or name in self._asked

    def __getitem__(self, name: str) -> Any:
        return self._taken(name) if name in self._asked else super().__getitem__(name)

    def get(self, name: str, default: Any = None) -> Any:
        return self[name] if name in self else default

    def pop(self, name: str, *default: Any) -> Any:
        if name in self._asked:
            self._taken(name)
        return super().pop(name, *default)

    def setdefault(self, name: str, default: Any = None) -> Any:
        return self[name] if name in self else super().setdefault(name, default)

    def __iter__(self) -> Any:  # its own: dict() and ** go by keys where it is there
        return iter(list(super().keys()))

    def keys(self) -> Any:
        return list(super().keys())

    def items(self) -> Any:
        return [(name, self[name]) for name in super().keys()]

    def values(self) -> Any:
        return [self[name] for name in super().keys()]

    def copy(self) -> Dict[str, Any]:
        return dict(self.items())
