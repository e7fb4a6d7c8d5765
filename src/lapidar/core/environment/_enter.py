# Run by a restored environment's interpreter: starts an outside program in a root of its own, where its files lie at
# the places that are built into it. The root is a mount namespace of this process: nobody else sees it, and it goes
# with it.
#
# In it /usr, /bin, /lib ... hold the snapshot's files alone; /etc is the host's with the program's own files; all other
# folders are the host's, at their places.
import ctypes
import os
import sys

PRIVATE = os.path.dirname(os.path.abspath(__file__))
NEW_USER, NEW_MOUNTS = 0x10000000, 0x00020000
BIND, RECURSIVE, PRIVATE_MOUNT = 0x1000, 0x4000, 0x40000
SYSTEM = {"usr", "bin", "sbin", "lib", "lib32", "lib64", "libx32", "etc"}
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


def build(tool, machine):
    # What is linked to is named by its way through the host's root, for the environment itself may lie below /usr.
    new = f"{PRIVATE}/tools/.mount"
    mount("tmpfs", new, b"tmpfs")
    os.mkdir(f"{new}/.host")
    mount("/", f"{new}/.host", None, BIND | RECURSIVE)
    for name in os.listdir("/"):
        if name in SYSTEM or name == ".host":
            continue
        if os.path.islink(f"/{name}"):
            os.symlink(os.readlink(f"/{name}"), f"{new}/{name}")
        elif os.path.isdir(f"/{name}"):
            os.mkdir(f"{new}/{name}")
            mount(f"/{name}", f"{new}/{name}", None, BIND | RECURSIVE)
    merge(tool, new, 3)
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


def main():
    global libc
    name, executable, interpreter = sys.argv[1:4]
    words = sys.argv[4:]
    tool = f"{PRIVATE}/tools/{name}"
    libc = ctypes.CDLL(None, use_errno=True)
    here = os.getcwd()
    program = [f"/{interpreter}", f"/{executable}"] if interpreter else [f"/{executable}"]
    try:
        own_namespace()
        new = build(tool, os.uname().machine)
        os.chroot(new)
        os.chdir(here if os.path.isdir(here) else f"/.host{here}")
    except OSError as error:
        sys.stderr.write(
            f"lapidar: {name} has files at fixed places, and this kernel lets no root of its own be made for it "
            f"({error}); it runs without, and may not find them\n"
        )
        program = [f"{tool}{one}" for one in program]
        loader = f"{PRIVATE}/@loader@"
        options = ["--inhibit-cache", "--argv0", name, "--library-path", PRIVATE]
        os.execv(loader, [loader, *options, *program, *words])
    os.execv(program[0], [name if not interpreter else program[0], *program[1:], *words])


main()
