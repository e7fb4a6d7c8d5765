# Run in a restored environment's interpreter when a module is imported that has to do with what libraries open on
# demand (the line in the .pth file calls it): leads them to the environment's own, and lets the import go its way.
import os
import sys


def find_spec(name, path, target):
    for variable, below, unless in VARIABLES.get(name, ()):  # noqa: F821
        if variable not in os.environ and not any(map(os.path.exists, unless)):
            os.environ[variable] = PRIVATE + "/" + below  # noqa: F821
    if name != "ctypes.util":
        return None
    for finder in sys.meta_path:
        spec = None if hasattr(finder, "of_lapidar") else finder.find_spec(name, path, target)
        if spec is not None:
            patch(spec.loader)
            return spec
    return None


def patch(loader):
    run = loader.exec_module

    def exec_module(module):
        run(module)
        module.find_library = find_library

    loader.exec_module = exec_module


def find_library(name):
    """The name of the environment's own library; None for one that its snapshot does not have."""
    start = "lib" + name + ".so"
    try:
        found = [one for one in os.listdir(PRIVATE) if one == start or one.startswith(start + ".")]  # noqa: F821
    except OSError:
        return None
    return min(found, key=lambda one: (len(one), one), default=None)
