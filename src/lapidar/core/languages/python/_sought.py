# Run in a restored environment's interpreter while a run is recorded (the line in the .pth file calls it then): tells
# whoever watches the calls what names this run looks for, found or not, by asking for files that are nowhere. A listing
# of the folder of packages, which every import makes, says nothing of that.
import os
import sys

TOLD = set()


def tell(what):
    if what not in TOLD and "\0" not in what:
        TOLD.add(what)
        try:
            os.access(SOUGHT + what, 0)  # noqa: F821
        except (OSError, ValueError):
            pass


class Seeker:
    of_lapidar = True

    @classmethod
    def find_spec(cls, name, path=None, target=None):
        tell("module/" + name)
        if name == "ctypes.util":
            os.access(ANY_LIBRARY, 0)  # noqa: F821  (its function asks for names in a way that nobody sees)

    @classmethod
    def find_distributions(cls, context=None):
        name = getattr(context, "name", None)
        tell("distribution/" + name if name else "every")
        return iter(())

    @staticmethod
    def invalidate_caches():
        pass


class Lister:
    """One of the functions that list a folder. It is no function, for it is to be bound to nothing; and it counts as
    the one that it stands for."""

    def __init__(self, function):
        self.function = function
        self.__doc__, self.__name__ = function.__doc__, function.__name__
        self.__module__ = self.__qualname__ = function.__module__

    def __call__(self, *words, **named):
        # What imports, and what reads the metadata of packages, tells of itself by names.
        if sys._getframe(1).f_globals.get("__name__") not in OF_PYTHON:
            try:
                folder = words[0] if words else named.get("path")
                folder = "." if folder is None else folder
                tell(
                    "folder"
                    + os.path.realpath("/proc/self/fd/%d" % folder if isinstance(folder, int) else os.fsdecode(folder))
                )
            except (OSError, TypeError, ValueError):
                pass
        return self.function(*words, **named)

    def __hash__(self):
        return hash(self.function)

    def __eq__(self, other):
        return self.function == (other.function if isinstance(other, Lister) else other)

    def __reduce__(self):
        return getattr, (os, self.__name__)

    def __repr__(self):
        return repr(self.function)


OF_PYTHON = {"site", "importlib.metadata", "importlib._bootstrap_external", "zipimport"}
os.listdir, os.scandir = Lister(os.listdir), Lister(os.scandir)
sys.meta_path.insert(0, Seeker)
tell("begun")
