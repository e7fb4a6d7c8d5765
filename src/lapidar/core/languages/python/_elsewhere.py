"""The other side of a call into a snapshot: reads what is asked, calls it, and answers, until nobody asks any more. Run
by the snapshot's own interpreter (3.8 on), with its standard library alone: _elsewhere.py WIRE IN OUT."""

import importlib
import importlib.util
import os
import sys
import traceback


def _wire(path):
    found = importlib.util.spec_from_file_location("lapidar_wire", path)
    module = importlib.util.module_from_spec(found)
    found.loader.exec_module(module)
    return module


def _called(asked):
    module, _, name = asked["call"].partition(":")
    target = importlib.import_module(module)
    for part in name.split("."):
        target = getattr(target, part)
    return target(*asked["args"], **asked.get("named", {}))


def _message(error):
    try:
        return str(error)
    except Exception:
        return "an error that cannot be shown"


def _answer(wire, out, asked):
    having = asked.get("has", ())
    try:
        value = _called(asked)
    except KeyboardInterrupt:
        raise
    except BaseException as error:  # also what ends an interpreter: the one who asked is told
        ours = error.__traceback__.tb_next
        told = traceback.format_exception(type(error), error, ours.tb_next if ours and ours.tb_next else ours)
        wire.send(out, {"error": {"type": type(error).__name__, "message": _message(error), "said": "".join(told)}})
        return
    try:
        wire.send(out, {"value": value}, having)
    except wire.NotSent as error:
        told = str(error).replace("the value['value']", "what it gives")
        wire.send(out, {"error": {"type": "NotSent", "message": told, "said": ""}})


def main():
    wire = _wire(sys.argv[1])
    asked_from, answers_to = int(sys.argv[2]), int(sys.argv[3])
    for descriptor in (asked_from, answers_to):
        os.set_inheritable(descriptor, False)
    sys.argv[:] = [""]
    sys.path[0] = os.getcwd()
    with os.fdopen(asked_from, "rb") as stream, os.fdopen(answers_to, "wb") as out:
        wire.send(out, {"has": wire.has()})
        while True:
            try:
                asked = wire.receive(stream)
            except wire.Cut:
                return
            _answer(wire, out, asked)
            sys.stdout.flush()


if __name__ == "__main__":
    main()
