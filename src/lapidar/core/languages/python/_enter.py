# Run by a restored environment's interpreter: starts an outside program in a root of its own, where its files lie at
# the places that are built into it. The root is a mount namespace of this process: nobody else sees it, and it goes
# with it.
#
# In it /usr, /bin, /lib ... hold the snapshot's files alone; /etc, /opt and /var are the host's with the program's own
# files; all other folders are the host's, at their places, and nothing is ever made in one of those.
import ctypes
import os
import sys

PRIVATE = os.path.dirname(os.path.abspath(__file__))
NEW_USER, NEW_MOUNTS = 0x10000000, 0x00020000
BIND, RECURSIVE, PRIVATE_MOUNT = 0x1000, 0x4000, 0x40000
SYSTEM = {"usr", "bin", "sbin", "lib", "lib32", "lib64", "libx32", "etc"}
SHARED = {"opt", "var"}  # a program's packages have files there beside others'
OF_THE_LOADER = {"ld.so.cache", "ld.so.preload"}


def call(name, *words):
    if getattr(libc, name)(*words) != 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number), words[0] if isinstance(words[0], bytes) else name)


def mount(source, target, kind=None, flags=0):
    call("mount", os.fsencode(source), os.fsencode(target), kind, ctypes.c_ulong(flags), None)


def own_namespace():
    user, group = os.getuid(), os.getgid()
    try:
        call("unshare", NEW_MOUNTS)  # an administrator needs no more, and inside a changed root nothing else is allowed
    except OSError:
        call("unshare", NEW_USER | NEW_MOUNTS)
        for name, text in (("setgroups", "deny"), ("uid_map", f"{user} {user} 1"), ("gid_map", f"{group} {group} 1")):
            with open(f"/proc/self/{name}", "w") as stream:
                stream.write(text)
    try:
        mount("none", "/", None, RECURSIVE | PRIVATE_MOUNT)
    except OSError:
        pass  # / is no mount here


def merge(source, target, levels):
    # Folders of the first levels are made, so that others' files can stand beside; what is below them is linked to.
    os.makedirs(target, exist_ok=True)
    for name in os.listdir(source):
        one = f"{source}/{name}"
        if levels and os.path.isdir(one) and not os.path.islink(one):
            merge(one, f"{target}/{name}", levels - 1)
        elif os.path.islink(one):
            os.symlink(os.readlink(one), f"{target}/{name}")
        else:
            os.symlink(f"/.host{one}", f"{target}/{name}")


def join(host, tool, target):
    # A folder of the host with a program's files in it. Below it all folders are the host's own, but for those on the
    # way to a file of the program.
    os.mkdir(target)
    ours = set(os.listdir(tool))
    for name in os.listdir(host) if os.path.isdir(host) else ():
        one, place = f"{host}/{name}", f"{target}/{name}"
        if name in ours:
            continue
        if os.path.islink(one) or not os.path.isdir(one):
            os.symlink(f"/.host{one}", place)
        else:
            os.mkdir(place)
            mount(one, place, None, BIND | RECURSIVE)
    for name in ours:
        one, place = f"{tool}/{name}", f"{target}/{name}"
        if os.path.isdir(one) and not os.path.islink(one):
            join(f"{host}/{name}", one, place)
        else:
            os.symlink(f"/.host{one}", place)


def build(tool, machine):
    # What is linked to is named by its way through the host's root, for the environment itself may lie below /usr.
    new = f"{PRIVATE}/tools/.mount"
    mount("tmpfs", new, b"tmpfs")
    os.mkdir(f"{new}/.host")
    of_tool = set(os.listdir(tool))
    for name in os.listdir("/"):
        if name in SYSTEM or name == ".host" or name in SHARED & of_tool:
            continue
        if os.path.islink(f"/{name}"):
            os.symlink(os.readlink(f"/{name}"), f"{new}/{name}")
        elif os.path.isdir(f"/{name}"):
            os.mkdir(f"{new}/{name}")
            mount(f"/{name}", f"{new}/{name}", None, BIND | RECURSIVE)
    for name in of_tool & SHARED:
        join(f"/{name}", f"{tool}/{name}", f"{new}/{name}")
    for name in of_tool & SYSTEM:
        merge(f"{tool}/{name}", f"{new}/{name}", 2)
    for name in ("bin", "sbin", "lib", "lib64"):
        os.makedirs(f"{new}/usr/{name}", exist_ok=True)
        if not os.path.lexists(f"{new}/{name}"):
            os.symlink(f"usr/{name}", f"{new}/{name}")
    libraries = f"{new}/usr/lib/{machine}-linux-gnu"
    os.makedirs(libraries, exist_ok=True)
    for name in os.listdir(PRIVATE):
        if ".so" in name:
            for folder in (libraries, f"{new}/usr/lib64"):
                if not os.path.lexists(f"{folder}/{name}"):
                    os.symlink(f"/.host{PRIVATE}/{name}", f"{folder}/{name}")
    os.makedirs(f"{new}/etc", exist_ok=True)
    if os.path.isdir("/etc"):
        for name in os.listdir("/etc"):
            if name not in OF_THE_LOADER and not os.path.lexists(f"{new}/etc/{name}"):
                os.symlink(f"/.host/etc/{name}", f"{new}/etc/{name}")
    return new


def enter(new):
    # The host's root comes to lie in .host. Where the root was changed before (chroot) it cannot be moved, only be
    # changed once more, and programs started from there can have no root of their own but by an administrator.
    os.chdir(new)
    try:
        call("pivot_root", b".", b".host")
    except OSError:
        mount("/", ".host", None, BIND | RECURSIVE)
        os.chroot(".")


def main():
    global libc
    name, executable, interpreter = sys.argv[1:4]
    words = sys.argv[4:]
    tool = f"{PRIVATE}/tools/{name}"
    libc = ctypes.CDLL(None, use_errno=True)
    here = os.getcwd()
    program = [interpreter, executable] if interpreter else [executable]
    try:
        own_namespace()
        new = build(tool, os.uname().machine)
        enter(new)
        os.chdir(here if os.path.isdir(here) else f"/.host{here}")
        program = [f"/{one}" if one.split("/")[0] in SYSTEM | SHARED else f"/.host{tool}/{one}" for one in program]
    except OSError as error:
        sys.stderr.write(
            f"lapidar: {name} is to run in a root of its own, and this kernel lets none be made ({error}); it runs "
            f"without, and may miss its files, or find this host's\n"
        )
        program = [f"{tool}/{one}" for one in program]
        loader = f"{PRIVATE}/@loader@"
        with open(loader, "rb") as stream:  # one from before glibc 2.33 cannot be told a name
            named = ["--argv0", name] if b"--argv0\0" in stream.read() else []
        os.execv(loader, [loader, *named, "--library-path", PRIVATE, *program, *words])
    os.execv(program[0], [name if not interpreter else program[0], *program[1:], *words])


main()
