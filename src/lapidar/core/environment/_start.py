# Run at the start of a restored environment's interpreter, by a .pth file; not imported. What libraries open on demand
# is led to the environment's own when the module that uses it is imported, so that a start costs next to nothing.
import sys


class _OnImport:
    def __init__(self, private, variables):
        self.private = private
        self.variables = variables

    def find_spec(self, name, path=None, target=None):
        if name in self.variables:
            self.set(self.variables[name])
        if name != "ctypes.util":
            return None
        for finder in sys.meta_path:
            spec = finder.find_spec(name, path, target) if finder is not self else None
            if spec is not None:
                self.patch(spec.loader)
                return spec
        return None

    def set(self, settings):
        import os

        for variable, below, unless in settings:
            if variable not in os.environ and not any(map(os.path.exists, unless)):
                os.environ[variable] = self.private + "/" + below

    def patch(self, loader):
        run = loader.exec_module

        def exec_module(module):
            run(module)
            module.find_library = self.find_library

        loader.exec_module = exec_module

    def find_library(self, name):
        """The name of the environment's own library; None for one that its snapshot does not have."""
        import os

        start = "lib" + name + ".so"
        try:
            found = [one for one in os.listdir(self.private) if one == start or one.startswith(start + ".")]
        except OSError:
            return None
        return min(found, key=lambda one: (len(one), one), default=None)


sys.meta_path.insert(0, _OnImport(PRIVATE, VARIABLES))  # noqa: F821
