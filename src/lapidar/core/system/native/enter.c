/* Starts an outside program of a restored environment in a root of its own, where its files lie at the places that are
 * built into it. The root is a mount namespace of this process: nobody else sees it, and it goes with it.
 *
 *   enter LOADER NAME EXECUTABLE INTERPRETER [WORD ...]
 *
 * LOADER is the loader's file in the environment's private folder, where this program lies too; NAME the folder of the
 * program's files there; EXECUTABLE, and INTERPRETER for a script ("" otherwise), are paths in that folder.
 *
 * In the new root /usr, /bin, /lib ... hold the snapshot's files alone; /etc, /opt and /var are the host's with the
 * program's own files; all other folders are the host's, at their places, and nothing is ever made in one of those.
 *
 * It needs no library and no other program, so that it runs on a bare root and in an environment of whatever language:
 * system calls only, see mount_namespaces(7), user_namespaces(7), pivot_root(2). Built by `make helper`; the test suite
 * holds the built file against this source by the digest that is compiled in.
 */

#include "kernel.h"

#define EEXIST 17
#define ENAMETOOLONG 36
#define NEW_USER 0x10000000
#define NEW_MOUNTS 0x00020000
#define BIND 0x1000
#define RECURSIVE 0x4000
#define PRIVATE_MOUNT 0x40000
#define MULTIARCH "x86_64-linux-gnu"

/* ---- system calls */

static long sys_execve(const char *path, char **words, char **variables) {
    return call(59, P(path), P(words), P(variables), 0, 0);
}
static long sys_getcwd(char *path, long size) { return call(79, P(path), size, 0, 0, 0); }
static long sys_chdir(const char *path) { return call(80, P(path), 0, 0, 0, 0); }
static long sys_mkdir(const char *path) { return call(83, P(path), 0755, 0, 0, 0); }
static long sys_symlink(const char *target, const char *path) { return call(88, P(target), P(path), 0, 0, 0); }
static long sys_getuid(void) { return call(102, 0, 0, 0, 0, 0); }
static long sys_getgid(void) { return call(104, 0, 0, 0, 0, 0); }
static long sys_pivot_root(const char *root, const char *old) { return call(155, P(root), P(old), 0, 0, 0); }
static long sys_chroot(const char *root) { return call(161, P(root), 0, 0, 0, 0); }
static long sys_mount(const char *source, const char *target, const char *kind, long flags) {
    return call(165, P(source), P(target), P(kind), flags, 0);
}
static long sys_unshare(long what) { return call(272, what, 0, 0, 0, 0); }

static int mode_of(const char *path, int follow) {
    unsigned char status[144];
    long error = call(follow ? 4 : 6, P(path), P(status), 0, 0, 0);
    return error < 0 ? 0 : *(int *)(status + 24) & FORMAT;
}
static int is_folder(const char *path) { return mode_of(path, 1) == IS_DIRECTORY; }
static int is_link(const char *path) { return mode_of(path, 0) == IS_LINK; }
static int is_there(const char *path) { return mode_of(path, 0) != 0; }

/* ---- texts */

static int contains(const char *text, const char *part) {
    long size = length(part);
    for (; *text; text++) {
        long at = 0;
        while (at < size && text[at] == part[at]) at++;
        if (at == size) return 1;
    }
    return 0;
}
static char where[PATH]; /* the last thing that failed */

static long failed(long error, const char *at) {
    long size = length(at);
    memcpy(where, at, size < PATH - 1 ? size : PATH - 1);
    return error;
}
static long joined(char *path, const char *one, const char *two, const char *three, const char *four) {
    const char *parts[] = {one, two, three, four};
    long used = 0;
    for (int number = 0; number < 4; number++) {
        long size = length(parts[number]);
        if (used + size >= PATH) return failed(-ENAMETOOLONG, one);
        memcpy(path + used, parts[number], size);
        used += size;
    }
    path[used] = 0;
    return 0;
}

#define TRY(expression)                  \
    do {                                 \
        long error = (expression);       \
        if (error < 0) return error;     \
    } while (0)
#define DO(expression, at)                          \
    do {                                            \
        long error = (expression);                  \
        if (error < 0) return failed(error, (at)); \
    } while (0)

/* ---- folders */

/* Call a function for each name in a folder; one that is not there has none. */
typedef long (*visit)(const char *name, void *context);

static long each(const char *folder, visit visited, void *context) {
    char entries[8192] __attribute__((aligned(8)));
    long file = sys_open(folder, READ_ONLY | DIRECTORY), size, error = 0;
    if (file == -ENOENT) return 0;
    if (file < 0) return failed(file, folder);
    while (!error && (size = sys_list((int)file, entries, sizeof entries)) > 0) {
        for (long at = 0; !error && at < size;) {
            struct entry *entry = (struct entry *)(entries + at);
            if (!same(entry->name, ".") && !same(entry->name, "..")) error = visited(entry->name, context);
            at += entry->size;
        }
    }
    sys_close((int)file);
    return error;
}

static long make_folders(const char *path) {
    char part[PATH];
    for (long at = 1;; at++) {
        if (path[at] && path[at] != '/') continue;
        memcpy(part, path, at);
        part[at] = 0;
        long error = sys_mkdir(part);
        if (error < 0 && !is_folder(part)) return failed(error, part);
        if (!path[at]) return 0;
    }
}

/* A link to a file by its way through the host's root: the environment itself may lie below /usr. */
static long link_to(const char *file, const char *at) {
    char target[PATH];
    TRY(joined(target, "/.host", file, "", ""));
    DO(sys_symlink(target, at), at);
    return 0;
}
static long copy_link(const char *link, const char *at) {
    char target[PATH];
    long size = sys_readlink(link, target, PATH - 1);
    if (size < 0) return failed(size, link);
    target[size] = 0;
    DO(sys_symlink(target, at), at);
    return 0;
}
static long bind(const char *folder, const char *at) {
    DO(sys_mkdir(at), at);
    DO(sys_mount(folder, at, 0, BIND | RECURSIVE), folder);
    return 0;
}

struct pair {
    const char *from, *to;
    int levels;
};

/* Folders of the first levels are made, so that others' files can stand beside; what is below them is linked to. */
static long merge(const char *from, const char *to, int levels);

static long merge_one(const char *name, void *context) {
    struct pair *pair = context;
    char one[PATH], place[PATH];
    TRY(joined(one, pair->from, "/", name, ""));
    TRY(joined(place, pair->to, "/", name, ""));
    if (pair->levels && is_folder(one) && !is_link(one)) return merge(one, place, pair->levels - 1);
    return is_link(one) ? copy_link(one, place) : link_to(one, place);
}
static long merge(const char *from, const char *to, int levels) {
    struct pair pair = {from, to, levels};
    TRY(make_folders(to));
    return each(from, merge_one, &pair);
}

/* A folder of the host with a program's files in it. Below it all folders are the host's own, but for those on the way
 * to a file of the program. */
struct three {
    const char *host, *tool, *target;
};

static long join(const char *host, const char *tool, const char *target);

static long join_hosts(const char *name, void *context) {
    struct three *folders = context;
    char one[PATH], ours[PATH], place[PATH];
    TRY(joined(ours, folders->tool, "/", name, ""));
    if (is_there(ours)) return 0;
    TRY(joined(one, folders->host, "/", name, ""));
    TRY(joined(place, folders->target, "/", name, ""));
    return is_link(one) || !is_folder(one) ? link_to(one, place) : bind(one, place);
}
static long join_ours(const char *name, void *context) {
    struct three *folders = context;
    char one[PATH], host[PATH], place[PATH];
    TRY(joined(one, folders->tool, "/", name, ""));
    TRY(joined(host, folders->host, "/", name, ""));
    TRY(joined(place, folders->target, "/", name, ""));
    return is_folder(one) && !is_link(one) ? join(host, one, place) : link_to(one, place);
}
static long join(const char *host, const char *tool, const char *target) {
    struct three folders = {host, tool, target};
    DO(sys_mkdir(target), target);
    if (is_folder(host)) TRY(each(host, join_hosts, &folders));
    return each(tool, join_ours, &folders);
}

/* ---- the new root */

static const char *const SYSTEM[] = {"usr", "bin", "sbin", "lib", "lib32", "lib64", "libx32", "etc", 0};
static const char *const SHARED[] = {"opt", "var", 0}; /* a program's packages have files there beside others' */

static int among(const char *name, const char *const *names) {
    while (*names)
        if (same(name, *names++)) return 1;
    return 0;
}

static char own[PATH];  /* the environment's private folder */
static char tool[PATH]; /* the program's files */
static char root[PATH]; /* where the new root is built */

static long place_hosts(const char *name, void *context) {
    char one[PATH], place[PATH], ours[PATH];
    (void)context;
    TRY(joined(ours, tool, "/", name, ""));
    if (among(name, SYSTEM) || same(name, ".host") || (among(name, SHARED) && is_there(ours))) return 0;
    TRY(joined(one, "/", name, "", ""));
    TRY(joined(place, root, "/", name, ""));
    if (is_link(one)) return copy_link(one, place);
    return is_folder(one) ? bind(one, place) : 0;
}
static long place_tools(const char *name, void *context) {
    char one[PATH], host[PATH], place[PATH];
    (void)context;
    TRY(joined(one, tool, "/", name, ""));
    TRY(joined(host, "/", name, "", ""));
    TRY(joined(place, root, "/", name, ""));
    if (among(name, SHARED)) return join(host, one, place);
    return among(name, SYSTEM) ? merge(one, place, 2) : 0;
}
static long place_library(const char *name, void *context) {
    static const char *const folders[] = {"/usr/lib/" MULTIARCH "/", "/usr/lib64/", 0};
    char one[PATH], place[PATH];
    (void)context;
    if (!contains(name, ".so")) return 0;
    TRY(joined(one, own, "/", name, ""));
    for (int number = 0; folders[number]; number++) {
        TRY(joined(place, root, folders[number], name, ""));
        if (!is_there(place)) TRY(link_to(one, place));
    }
    return 0;
}
static long place_setting(const char *name, void *context) {
    static const char *const of_the_loader[] = {"ld.so.cache", "ld.so.preload", 0};
    char one[PATH], place[PATH];
    (void)context;
    TRY(joined(one, "/etc/", name, "", ""));
    TRY(joined(place, root, "/etc/", name, ""));
    return among(name, of_the_loader) || is_there(place) ? 0 : link_to(one, place);
}
static long build(void) {
    static const char *const folders[] = {"bin", "sbin", "lib", "lib64", 0};
    char path[PATH], target[PATH];
    DO(sys_mount("tmpfs", root, "tmpfs", 0), root);
    TRY(joined(path, root, "/.host", "", ""));
    DO(sys_mkdir(path), path);
    TRY(each("/", place_hosts, 0));
    TRY(each(tool, place_tools, 0));
    for (int number = 0; folders[number]; number++) {
        TRY(joined(path, root, "/usr/", folders[number], ""));
        TRY(make_folders(path));
        TRY(joined(path, root, "/", folders[number], ""));
        TRY(joined(target, "usr/", folders[number], "", ""));
        if (!is_there(path)) DO(sys_symlink(target, path), path);
    }
    TRY(joined(path, root, "/usr/lib/" MULTIARCH, "", ""));
    TRY(make_folders(path));
    TRY(each(own, place_library, 0));
    TRY(joined(path, root, "/etc", "", ""));
    TRY(make_folders(path));
    return each("/etc", place_setting, 0);
}

/* ---- into it */

static long told(const char *path, const char *text) {
    long file = sys_open(path, WRITE_ONLY);
    if (file < 0) return failed(file, path);
    long written = sys_write((int)file, text, length(text));
    sys_close((int)file);
    return written < 0 ? failed(written, path) : 0;
}
static long mapped(const char *path, long id) {
    char digits[24], text[PATH];
    number(digits, id);
    TRY(joined(text, digits, " ", digits, " 1"));
    return told(path, text);
}
static long own_namespace(void) {
    long user = sys_getuid(), group = sys_getgid();
    /* An administrator needs no more, and inside a changed root nothing else is allowed. */
    if (sys_unshare(NEW_MOUNTS) < 0) {
        DO(sys_unshare(NEW_USER | NEW_MOUNTS), "unshare");
        TRY(told("/proc/self/setgroups", "deny"));
        TRY(mapped("/proc/self/uid_map", user));
        TRY(mapped("/proc/self/gid_map", group));
    }
    sys_mount("none", "/", 0, RECURSIVE | PRIVATE_MOUNT); /* where / is no mount there is nothing to keep apart */
    return 0;
}
/* The host's root comes to lie in .host. Where the root was changed before (chroot) it cannot be moved, only be changed
 * once more, and programs started from there can have no root of their own but by an administrator. */
static long enter(void) {
    DO(sys_chdir(root), root);
    if (sys_pivot_root(".", ".host") >= 0) return 0;
    DO(sys_mount("/", ".host", 0, BIND | RECURSIVE), "/");
    DO(sys_chroot("."), "chroot");
    return 0;
}
static long prepared(void) {
    char here[PATH], again[PATH];
    DO(sys_getcwd(here, PATH), "getcwd");
    TRY(own_namespace());
    TRY(build());
    TRY(enter());
    TRY(joined(again, "/.host", here, "", ""));
    DO(sys_chdir(is_folder(here) ? here : again), here);
    return 0;
}

/* ---- the program */

static void say(const char *text) { sys_write(2, text, length(text)); }

static void cannot(const char *name, const char *what, long error) {
    char digits[24];
    number(digits, -error);
    say("lapidar: "), say(name), say(what), say(where), say(", error "), say(digits);
}

/* Whether a loader can be told a name: one from before glibc 2.33 cannot, and its bytes tell. */
static int takes_a_name(const char *loader) {
    static const char option[] = "--argv0";
    char data[16384];
    unsigned long matched = 0;
    long file = sys_open(loader, READ_ONLY), size;
    while (file >= 0 && (size = sys_read((int)file, data, sizeof data)) > 0) {
        for (long at = 0; at < size; at++) {
            matched = data[at] == option[matched] ? matched + 1 : data[at] == option[0];
            if (matched == sizeof option) return sys_close((int)file), 1;
        }
    }
    if (file >= 0) sys_close((int)file);
    return 0;
}

/* Where a path of the program's folder is in the new root. */
static long inside(char *path, const char *name) {
    char first[PATH];
    long at = 0;
    while (name[at] && name[at] != '/') first[at] = name[at], at++;
    first[at] = 0;
    if (among(first, SYSTEM) || among(first, SHARED)) return joined(path, "/", name, "", "");
    return joined(path, "/.host", tool, "/", name);
}

static int start(int count, char **words, char **variables) {
    static char executable[PATH], interpreter[PATH], loader[PATH], found[PATH];
    static char *command[65536];
    int used = 0;
    if (count < 5 || count > 65000) return say("usage: enter LOADER NAME EXECUTABLE INTERPRETER [WORD ...]\n"), say(source), say("\n"), 2;
    char *name = words[2];
    long size = sys_readlink("/proc/self/exe", own, PATH - 1);
    while (size > 0 && own[size - 1] != '/') size--;
    own[size > 0 ? size - 1 : 0] = 0;
    long error = joined(tool, own, "/tools/", name, "");
    if (!error) error = joined(root, own, "/tools/.mount", "", "");
    if (!error) error = joined(loader, own, "/", words[1], "");
    if (error < 0) return cannot(name, " cannot be started: ", error), say("\n"), 126;
    error = prepared();
    if (error < 0) {
        cannot(name, " is to run in a root of its own, and this kernel lets none be made (", error);
        say("); it runs without, and may miss its files, or find this host's\n");
        joined(executable, tool, "/", words[3], "");
        joined(interpreter, tool, "/", words[4], "");
        command[used++] = loader;
        if (takes_a_name(loader)) command[used++] = "--argv0", command[used++] = name;
        command[used++] = "--library-path", command[used++] = own;
    } else {
        inside(executable, words[3]);
        inside(interpreter, words[4]);
    }
    const char *program = error < 0 ? loader : *words[4] ? interpreter : executable;
    if (*words[4]) command[used++] = interpreter;
    /* A program is called by its name, in that root by where that is found: it may look for its own files beside what PATH
     * has for the name (a compiler), and that is this launcher. What is read as a script is found by its path, and may do
     * by the name of that what is meant. */
    int is_found = error >= 0 && joined(found, "/usr/bin/", name, "", "") >= 0 && is_there(found);
    command[used++] = is_found ? found : error < 0 || *words[4] ? executable : name;
    for (int at = 5; at < count; at++) command[used++] = words[at];
    error = sys_execve(program, command, variables);
    failed(error, program);
    cannot(name, " cannot be started: ", error), say("\n");
    return 126;
}

void begin(long *stack) {
    int count = (int)stack[0];
    char **words = (char **)(stack + 1);
    sys_exit(start(count, words, words + count + 1));
}

__asm__(".globl _start\n_start:\n  xor %ebp, %ebp\n  mov %rsp, %rdi\n  and $-16, %rsp\n  call begin\n");
