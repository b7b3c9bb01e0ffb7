"""Ends in one of the ways in which programs do. The stories start it."""

import os
import signal
import sys
import time

import kembrel

how, inside = sys.argv[1], sys.argv[2:] == ["with"]


def end():
    if how == "exit 3":
        sys.exit(3)
    if how == "exit text":
        sys.exit("the sea is rough")
    if how == "exit 0":
        sys.exit(0)
    if how == "raise exit":
        raise SystemExit(4)
    if how == "error":
        raise RuntimeError("the sea is rough")
    if how == "interrupt":
        os.kill(os.getpid(), signal.SIGINT)
        time.sleep(60)  # another thread may take the signal; it reaches this one a moment later
    if how == "ask to end":
        os.kill(os.getpid(), signal.SIGTERM)
    if how == "kill":
        os.kill(os.getpid(), signal.SIGKILL)
    if how == "at once":
        os._exit(0)
    if how == "at once 5":
        os._exit(5)


run = kembrel.record("vessels", title=" ".join(sys.argv[1:]))
run.readings(1, 1, {"loss.val": 1})
if inside:
    with run:
        end()
else:
    end()
