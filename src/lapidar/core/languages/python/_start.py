# Run in a restored environment's interpreter when a module is imported that has to do with what libraries open on
# demand, or that names places of the system it was captured on (the line in the .pth file calls it): leads them to the
# environment's own, and lets the import go its way.
import os
import sys


def find_spec(name, path, target):
    for variable, below, unless in VARIABLES.get(name, ()):  # noqa: F821
        if variable not in os.environ and not any(map(os.path.exists, unless)):
            os.environ[variable] = PRIVATE + "/" + below  # noqa: F821
    of_build = name.startswith("_sysconfigdata")
    if name != "ctypes.util" and name not in NAMES and not of_build:  # noqa: F821
        return None
    for finder in sys.meta_path:
        spec = None if hasattr(finder, "of_lapidar") else finder.find_spec(name, path, target)
        if spec is not None:
            if of_build:
                move(spec.loader)
            elif name in NAMES:  # noqa: F821
                lead(spec.loader, NAMES[name])  # noqa: F821
            else:
                patch(spec.loader)
            return spec
    return None


def patch(loader):
    run = loader.exec_module

    def exec_module(module):
        run(module)
        module.find_library = find_library

    loader.exec_module = exec_module


def move(loader):
    """Have what the runtime says of its own files say where they are now: whoever compiles against it, or loads it as a
    library (R does), goes by that."""
    run = loader.exec_module

    def exec_module(module):
        run(module)
        told = module.build_time_vars
        prefix = told.get("prefix", "") + "/"
        for key, value in told.items():
            if isinstance(value, str) and value.startswith(prefix):
                moved = sys.base_prefix + "/" + value[len(prefix) :]
                if os.path.exists(moved):
                    told[key] = moved

    loader.exec_module = exec_module


def lead(loader, names):
    """Have a module run with the environment's places for those that its constants name."""
    code_of = getattr(loader, "get_code", None)
    if code_of is None:
        return
    names = [(old, here(new)) for old, new in names.items()]

    def exec_module(module):
        exec(led(code_of(module.__name__), names), module.__dict__)

    loader.exec_module = exec_module


def here(place):
    from zlib import crc32

    mark = "%08x" % crc32((PRIVATE + FONTS).encode("utf-8", "surrogateescape"))  # noqa: F821
    return place.replace("@private@", PRIVATE).replace("@prefix@", sys.base_prefix).replace("@mark@", mark)  # noqa: F821


def led(value, names):
    if isinstance(value, str):
        for old, new in names:
            if value == old or (value.startswith(old) and value[len(old)] in "/-"):
                return new + value[len(old) :]
    elif isinstance(value, (tuple, frozenset)):
        return type(value)(led(one, names) for one in value)
    elif hasattr(value, "co_consts"):
        return value.replace(co_consts=led(value.co_consts, names))
    return value


def find_library(name):
    """The name of the environment's own library; None for one that its snapshot does not have."""
    start = "lib" + name + ".so"
    try:
        found = [one for one in os.listdir(PRIVATE) if one == start or one.startswith(start + ".")]  # noqa: F821
    except OSError:
        return None
    return min(found, key=lambda one: (len(one), one), default=None)
