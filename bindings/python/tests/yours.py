"""Stands for a training library, with the ways in which states are hard to restore: every state is
a copy, an optimiser has none before its first step, numbers lie in arrays of no axes, generators
keep bytes, and nothing but the library's own arrays is loaded.
"""

import array
import math
import random

from strangers import Shared


class Tensor(Shared):
    """The library's array: it speaks DLPack, and is not written into from outside."""

    device = "cpu"

    def __setitem__(self, key, value):
        raise RuntimeError("use in-place functions of the library")

    def __getitem__(self, index):
        return self.m.values()[sum(i * s for i, s in zip(index, self.m.strides))]

    def item(self):
        return self.values()[0]


def asarray(x, device=None):
    if not hasattr(x, "shape"):
        raise TypeError("no array")
    view = memoryview(x)
    letter = view.format.lstrip("<@=").replace("l", "q")
    flat = view.cast("B").cast(letter).tolist() if view.ndim != 1 else view.tolist()
    return Tensor(letter, view.shape, flat)


def _number(letter, value):
    return Tensor(letter, (), [value])


def _copy(t):
    return Tensor(t.m.letter, t.shape, t.values())


def _own(x):
    if not isinstance(x, Tensor):
        raise TypeError(f"expected a Tensor, got a {type(x).__name__}")
    return _copy(x)


class Model:
    def __init__(self, seed):
        draw = random.Random(seed)
        names = ("trunk.weight", "trunk.bias", "head.weight", "head.bias")
        self.values = {name: Tensor("d", (2,), [draw.gauss(0, 0.5), 0.1]) for name in names}

    def state(self):
        return {name: _copy(t) for name, t in self.values.items()}

    def load(self, state):
        for name, t in self.values.items():
            t.m.set(_own(state[name]).values())

    def __call__(self, x):
        v = {name: t.values() for name, t in self.values.items()}
        return sum(
            v["head.weight"][i] * math.tanh(v["trunk.weight"][i] * x + v["trunk.bias"][i])
            + v["head.bias"][i]
            for i in (0, 1)
        )

    def slopes(self, x, error):
        out, near = {}, 1e-6
        for name, t in self.values.items():
            held, slopes = t.values(), []
            for i in range(2):
                moved = list(held)
                moved[i] += near
                t.m.set(moved)
                high = self(x)
                t.m.set(held)
                slopes.append(error * (high - self(x)) / near)
            out[name] = slopes
        return out


class Optimiser:
    """Momentum, on the parameters whose names begin so."""

    def __init__(self, model, rate, prefix=""):
        self.of = [n for n in model.values if n.startswith(prefix)]
        self.model, self.rate, self.moments, self.steps = model, rate, {}, {}

    def step(self, slopes):
        for i, name in enumerate(self.of):
            m = self.moments.setdefault(i, Tensor("d", (2,), [0.0, 0.0]))
            m.m.set([0.9 * v - self.rate * s for v, s in zip(m.values(), slopes[name])])
            self.steps[i] = self.steps.get(i, 0) + 1
            t = self.model.values[name]
            t.m.set([v + d for v, d in zip(t.values(), m.values())])

    def state(self):
        return {
            "state": {
                i: {"step": _number("f", self.steps[i]), "moment": _copy(m)}
                for i, m in self.moments.items()
            },
            "groups": [{"rate": self.rate, "of": list(range(len(self.of))), "decay": (0.9, None)}],
        }

    def load(self, state):
        self.moments = {i: _own(one["moment"]) for i, one in state["state"].items()}
        self.steps = {i: int(_own(one["step"]).item()) for i, one in state["state"].items()}
        self.rate = state["groups"][0]["rate"]


class Schedule:
    def __init__(self, optimiser):
        self.optimiser, self.epoch = optimiser, 0

    def step(self):
        self.epoch += 1
        self.optimiser.rate *= 0.95

    def state(self):
        return {"epoch": self.epoch}

    def load(self, state):
        self.epoch = state["epoch"]


class Scaler:
    def __init__(self):
        self.scale, self.good = 2.0, 0

    def step(self):
        self.good += 1
        if self.good % 3 == 0:
            self.scale *= 2

    def state(self):
        return {"scale": self.scale, "good": self.good}

    def load(self, state):
        self.scale, self.good = state["scale"], state["good"]


class Averaged:
    """A running average of a model's weights."""

    def __init__(self, model):
        self.model, self.n, self.mean = model, _number("q", 0), model.state()

    def step(self):
        n = self.n.item() + 1
        self.n = _number("q", n)
        for name, t in self.model.values.items():
            mean = self.mean[name]
            mean.m.set([m + (v - m) / n for m, v in zip(mean.values(), t.values())])

    def state(self):
        return {"n": _copy(self.n), "mean": {k: _copy(t) for k, t in self.mean.items()}}

    def load(self, state):
        self.n = _own(state["n"])
        self.mean = {k: _own(t) for k, t in state["mean"].items()}


class Sampler:
    def __init__(self, n, seed):
        self.n, self.seed, self.epoch = n, seed, 0

    def __iter__(self):
        self.epoch += 1
        order = list(range(self.n))
        random.Random(self.seed * 1000 + self.epoch).shuffle(order)
        return iter(order)

    def state(self):
        return {"epoch": self.epoch, "seed": self.seed}

    def load(self, state):
        self.epoch, self.seed = state["epoch"], state["seed"]


class Generator:
    """Random numbers, whose state is an array of bytes."""

    def __init__(self, seed):
        self.random = random.Random(seed)

    def normal(self):
        return self.random.gauss(0, 1)

    def state(self):
        version, words, spare = self.random.getstate()
        raw = (
            array.array("I", words).tobytes()
            + array.array("d", [math.nan if spare is None else spare]).tobytes()
        )
        return Tensor("B", (len(raw),), list(raw))

    def load(self, state):
        raw = bytes(_own(state).values())
        if state.m.letter != "B":
            raise TypeError("expected bytes")
        spare = array.array("d", raw[-8:])[0]
        words = tuple(array.array("I", raw[:-8]))
        self.random.setstate((3, words, None if spare != spare else spare))
