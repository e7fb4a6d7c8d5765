# Run by a restored environment's interpreter for `lapidar check --live`, not imported: imports what it is told on
# standard input, and says on the descriptor given what failed and which files are mapped.
import importlib
import json
import os
import sys


def mapped():
    with open("/proc/self/maps") as lines:
        paths = {line.rstrip("\n").split(None, 5)[-1] for line in lines if line.count("/")}
    return sorted(path for path in paths if path.startswith("/"))


def main():
    answer = os.fdopen(int(sys.argv[1]), "w")
    failed = {}
    names = json.loads(sys.stdin.read())
    for name in names:
        answer.write(json.dumps({"at": name}) + "\n")
        answer.flush()
        try:
            importlib.import_module(name)
        except KeyboardInterrupt:
            raise
        except BaseException as error:
            failed[name] = f"{type(error).__name__}: {error}"
    answer.write(json.dumps({"failed": failed, "mapped": mapped(), "prefix": sys.prefix}) + "\n")
    answer.flush()
    os._exit(0)  # what was imported may have left threads, or work for its end


main()
