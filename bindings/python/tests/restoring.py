"""What comes back of parts in a resumed run, and what into() refuses."""

import os
import pathlib
import random
import sys

import kembrel
import yours

folder = pathlib.Path(sys.argv[1])
net = yours.Model(seed=1)
optimiser = yours.Optimiser(net, 0.1)
held = {"w": yours.array.array("d", [0.0]), "n": 0}
with kembrel.record("vessels") as run:
    if run.resumed:
        path = run.resumed.part("architecture")
        assert path.read_bytes() == b"layers: 2", path
        assert path.parent == run.resumed.folder
        assert run.resumed.part("notes").name == "notes.json"
        before = optimiser.state()
        # a copy, made for the call
        got = run.resumed.into(optimiser=optimiser.state())
        assert "optimiser was NOT restored" in run.problem, run.problem
        assert optimiser.state()["state"] == before["state"] == {}
        assert isinstance(got["optimiser"]["state"][0]["moment"], yours.Tensor)
        optimiser.load(got["optimiser"])
        # a copy, by the function that makes it
        run.problem = None
        run.resumed.into(weights=net.state)
        assert "weights was NOT restored" in run.problem, run.problem
        # what the program holds itself
        run.problem = None
        run.resumed.into(own=held)
        assert run.problem is None and held == {"w": yours.array.array("d", [2.5]), "n": 7}
        one = yours.array.array("d", [0.0])
        run.resumed.into(
            own={"w": one, "n": 7}
        )  # the dict is made for the call, what counts is not
        assert run.problem is None and one[0] == 2.5
        net.load(run.resumed.part("weights"))
        assert net.values["trunk.bias"].values() == [9.0, 9.0]
        print("restored")
    else:
        optimiser.step({name: [1.0, 2.0] for name in net.values})
        net.values["trunk.bias"].m.set([9.0, 9.0])
        (folder / "net.yaml").write_bytes(b"layers: 2")
        (folder / "notes.json").write_text('{"any": "thing"}')
        run.readings(1, 1, {"loss.train": 1.0})
        assert run.checkpoint(
            1,
            1,
            weights=net.state(),
            optimiser=optimiser.state(),
            random=random.getstate(),
            own={"w": yours.array.array("d", [2.5]), "n": 7},
            architecture=folder / "net.yaml",
            notes=folder / "notes.json",
        )
        run.settle()
        os.kill(os.getpid(), 9)
