# The probe: run by the interpreter that is asked about, not imported. Standard library only; it must parse on
# every Python there ever was, so that a runtime which is too old can say so.
import json
import os
import platform
import site
import sys


def mapped(part):
    try:
        with open("/proc/self/maps") as lines:
            paths = [line.rstrip("\n").split(None, 5)[-1] for line in lines if line.count("/")]
    except OSError:
        return []
    return sorted(set(path for path in paths if part in os.path.basename(path)))


def site_folders():
    # Where this runtime looks for packages when it is not in a virtual environment: it answers by prefix, and
    # by whether it believes that it is in one.
    prefix, sys.prefix = sys.prefix, sys.base_prefix
    try:
        return site.getsitepackages(["@"])
    finally:
        sys.prefix = prefix


def user_folder():
    # The probe runs isolated, which hides the user's folder of packages. Say where it is if a plain start
    # would use it.
    if os.environ.get("PYTHONNOUSERSITE") or os.getuid() != os.geteuid():
        return None
    configuration = os.path.join(sys.prefix, "pyvenv.cfg")
    if os.path.isfile(configuration):
        with open(configuration) as lines:
            settings = [line.partition("=") for line in lines]
        wanted = [value.strip().lower() for key, _, value in settings if key.strip() == "include-system-site-packages"]
        if wanted != ["true"]:
            return None
    folder = site.getusersitepackages()
    return folder if os.path.isdir(folder) else None


def libc():
    try:
        return os.confstr("CS_GNU_LIBC_VERSION") or "unknown"
    except (ValueError, OSError):
        return "unknown"


def markers():
    # The environment markers of the Dependency specifiers specification.
    release = sys.implementation.version
    number = f"{release.major}.{release.minor}.{release.micro}"
    if release.releaselevel != "final":
        number += release.releaselevel[0] + str(release.serial)
    return {
        "implementation_name": sys.implementation.name,
        "implementation_version": number,
        "os_name": os.name,
        "platform_machine": platform.machine(),
        "platform_release": platform.release(),
        "platform_system": platform.system(),
        "platform_version": platform.version(),
        "python_full_version": platform.python_version(),
        "platform_python_implementation": platform.python_implementation(),
        "python_version": ".".join(platform.python_version_tuple()[:2]),
        "sys_platform": sys.platform,
    }


answer = {"python": list(sys.version_info[:3])}
if sys.version_info >= (3, 9):
    import sysconfig

    base = {
        "base": sys.base_prefix,
        "platbase": sys.base_exec_prefix,
        "installed_base": sys.base_prefix,
        "installed_platbase": sys.base_exec_prefix,
    }
    scheme = "posix_prefix"
    answer.update(
        implementation=sys.implementation.name,
        version=platform.python_version(),
        build=", ".join(part for part in (platform.python_build()[0], platform.python_compiler()) if part),
        executable=sys.executable,
        base_executable=getattr(sys, "_base_executable", sys.executable),
        process=os.path.realpath("/proc/self/exe"),
        prefix=sys.prefix,
        base_prefix=sys.base_prefix,
        path=sys.path,
        stdlib=[sysconfig.get_path("stdlib", scheme, base), sysconfig.get_path("platstdlib", scheme, base)],
        headers=sysconfig.get_path("include", scheme, base),
        multiarch=getattr(sys.implementation, "_multiarch", ""),
        libpython=mapped("libpython"),
        site_folders=site_folders(),
        user_folder=user_folder(),
        libc=libc(),
        markers=markers(),
    )
sys.stdout.write("\nlapidar-probe " + json.dumps(answer) + "\n")
