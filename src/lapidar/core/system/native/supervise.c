/* Runs a command, watches what it and its children do to files, ends what they leave behind, and ends all of it where it
 * takes too long or where its caller goes away.
 *
 *   supervise LOG LIFE LIMIT GRACE MEMORY FLAGS WRITABLE ROOT KEPT IGNORED TOP SHOWN PROGRAM NAME [WORD ...]
 *
 * LOG is the descriptor of the log; LIFE one whose other end the caller holds: when it is closed, everything is ended.
 * LIMIT (0: none) milliseconds the run may take, GRACE milliseconds what it left behind may go on. MEMORY (0: no limit)
 * bytes each process may have. FLAGS are letters: w watches, s begins a session, n gives it a network of its own with
 * nothing but a loopback, m limits writing by mounts, c lets it have one processor, a tells what is looked for and is not
 * there, r runs it not at all where it cannot be kept apart. WRITABLE are the only folders below which it may write ("" for no such limit). ROOT is the folder
 * whose files are told one by one ("" for none), KEPT an empty folder for the bytes of files that are about to be changed,
 * IGNORED folders of which nobody wants to know. TOP ("" for the host's) is a folder that becomes its root, and SHOWN the
 * host's files and folders that lie in it, at the same places; of folders there may be several, with newlines between. PROGRAM is the
 * file to be executed, NAME and WORDs what it is called with.
 *
 * The kernel stops a process at the few calls that name a file, and asks here (seccomp's user notification); every call
 * then goes on as it was. Calls by which files would be used unseen are answered as if the kernel had none. Nothing of the
 * caller is touched: this process, and not the caller, is who orphans come to. See seccomp_unotify(2), prctl(2).
 *
 * The log is a sequence of fields that end with a zero; the first of a record is a letter, see `system/supervision.py`.
 */

#include "kernel.h"

typedef unsigned int u32;
typedef unsigned long u64;
typedef unsigned char u8;
typedef unsigned short u16;

#define EINTR 4
#define ECHILD 10
#define ENAMETOOLONG 36
#define ENOTDIR 20
#define EINVAL 22
#define ENOSYS 38
#define PATHS 8192 /* a folder and a name */

/* ---- system calls */

static long sys_open_at(int folder, const char *path, long flags) {
    return call(257, folder, P(path), flags | CLOSE_ON_EXEC, 0644, 0);
}
static long sys_status(const char *path, void *status, int follow) { return call(follow ? 4 : 6, P(path), P(status), 0, 0, 0); }
static long sys_getpid(void) { return call(39, 0, 0, 0, 0, 0); }
static long sys_fork(void) { return call(57, 0, 0, 0, 0, 0); }
static long sys_kill(long process, int signal) { return call(62, process, signal, 0, 0, 0); }
static long sys_wait(int *status, long *usage) { return call(61, -1, P(status), 0x40000001 /* WNOHANG | __WALL */, P(usage), 0); }
static long sys_prctl(long what, long one, long two) { return call(157, what, one, two, 0, 0); }
static long sys_ioctl(int file, u64 what, void *data) { return call(16, file, (long)what, P(data), 0, 0); }

static long now(void) { /* in ms */
    long time[2];
    call(228, 1, P(time), 0, 0, 0);
    return time[0] * 1000 + time[1] / 1000000;
}

/* ---- memory: nothing is given back */

static char *room, *room_end;

static void *make(long size) {
    size = (size + 15) & ~15L;
    if (!room || room_end - room < size) {
        long piece = size > (1 << 20) ? size : 1 << 20;
        long at = call6(9, 0, piece, 3, 0x22, -1, 0);
        if (at < 0 && at > -4096) sys_exit(122);
        room = (char *)at, room_end = room + piece;
    }
    void *found = room;
    room += size;
    return found;
}
static char *copy_of(const char *text) {
    long size = length(text) + 1;
    return memcpy(make(size), text, size);
}

/* ---- texts */

static int begins(const char *text, const char *with) {
    while (*with && *text == *with) text++, with++;
    return !*with;
}
static long parsed(const char *text) {
    long value = 0;
    while (*text >= '0' && *text <= '9') value = value * 10 + *text++ - '0';
    return value;
}
/* Whether a path is a folder or below it. */
static int is_below(const char *path, const char *folder) {
    while (*folder && *path == *folder) path++, folder++;
    return !*folder && (!*path || *path == '/');
}
/* Put together; 0 where it is too long. */
static int joined(char *path, const char *one, const char *two) {
    long first = length(one), second = length(two);
    if (first + second + 2 > PATHS) return 0;
    memcpy(path, one, first);
    if (first && one[first - 1] != '/') path[first++] = '/';
    memcpy(path + first, two, second + 1);
    return 1;
}

/* ---- the log */

static int log_file;
static char pending[1 << 16];
static long pending_size;

static void flush(void) {
    for (long at = 0; at < pending_size;) {
        long written = sys_write(log_file, pending + at, pending_size - at);
        if (written == -EINTR) continue;
        if (written <= 0) break; /* the caller sees that its end is missing */
        at += written;
    }
    pending_size = 0;
}
static void told(const char *text) {
    long size = length(text) + 1;
    if (pending_size + size > (long)sizeof pending) flush();
    memcpy(pending + pending_size, text, size);
    pending_size += size;
}
static void told_number(long value) {
    char digits[24];
    number(digits, value);
    told(digits);
}

/* ---- tables of texts */

struct item {
    struct item *next; /* of those with the same place in the table */
    u64 hash;
    long key; /* of what kind, of whose */
    const char *text;
};
struct table {
    struct item **places;
    u64 size, used;
};

static u64 hash_of(const char *text, long key) {
    u64 value = 1469598103934665603UL ^ (u64)key * 0x9E3779B97F4A7C15UL;
    while (*text) value = (value ^ (u8)*text++) * 1099511628211UL;
    return value ^ value >> 29;
}
/* The item of a text, made with so many bytes where there is none; `is_new` says which. */
static struct item *item_of(struct table *table, const char *text, long key, long bytes, int *is_new) {
    u64 hash = hash_of(text, key);
    *is_new = 0;
    if (table->used >= table->size) {
        u64 size = table->size ? table->size * 2 : 1024;
        struct item **places = make((long)(size * sizeof *places));
        memset(places, 0, size * sizeof *places);
        for (u64 at = 0; at < table->size; at++)
            for (struct item *one = table->places[at], *next; one; one = next) {
                next = one->next;
                one->next = places[one->hash & (size - 1)];
                places[one->hash & (size - 1)] = one;
            }
        table->places = places, table->size = size;
    }
    struct item **place = &table->places[hash & (table->size - 1)];
    for (struct item *one = *place; one; one = one->next)
        if (one->hash == hash && one->key == key && same(one->text, text)) return one;
    if (!bytes) return 0;
    struct item *made = make(bytes);
    memset(made, 0, bytes);
    made->hash = hash, made->key = key, made->text = copy_of(text), made->next = *place;
    *place = made;
    table->used++;
    *is_new = 1;
    return made;
}

static struct table said;

/* Tell something once. */
static void tell(char kind, long whose, const char *text) {
    char letter[2] = {kind, 0};
    int is_new;
    item_of(&said, text, whose << 8 | kind, sizeof(struct item), &is_new);
    if (!is_new) return;
    told(letter);
    if (whose >= 0) told_number(whose);
    told(text);
}

/* ---- what is told of files */

struct file {
    struct item item;
    u64 inode, size, seconds, nanoseconds;
    int was_there, is_read, is_written, kept;
};

static const char *root; /* without a slash at its end; "" where files are not told of */
static const char *kept_folder, *ignored;
static struct table files;
static int kept_count;
static char **known; /* all files, in the order in which they came */
static long known_count, known_room;

#define STATUS(status, at) (*(u64 *)((status) + (at)))
static u32 mode_in(const char *status) { return *(const u32 *)(status + 24); }

/* The next of several lines, put into `one`; 0: there is none. Empty ones, and those that no path has, are passed over. */
static int next_line(const char **lines, char *one) {
    while (**lines) {
        const char *line = *lines;
        long size = 0;
        while (line[size] && line[size] != '\n') size++;
        *lines = line + size + (line[size] == '\n');
        if (!size || size >= PATH) continue;
        memcpy(one, line, size), one[size] = 0;
        return 1;
    }
    return 0;
}
/* Whether a path is one of those, a line each, or below one. */
static int is_among(const char *path, const char *lines) {
    static char one[PATH];
    while (next_line(&lines, one))
        if (is_below(path, one)) return 1;
    return 0;
}
static int is_told(const char *path) { return *root && is_below(path, root) && path[length(root)] == '/' && !is_among(path, ignored); }

static void copy_bytes(struct file *file) {
    static char data[1 << 16];
    char digits[24], place[PATHS];
    long from = sys_open(file->item.text, READ_ONLY | 04000), size;
    if (from < 0) return;
    number(digits, ++kept_count);
    if (joined(place, kept_folder, digits)) {
        long to = sys_open_at(-100, place, WRITE_ONLY | 0100 | 0200);
        int whole = to >= 0;
        while (whole && (size = sys_read((int)from, data, sizeof data)) > 0)
            for (long at = 0; whole && at < size;) {
                long written = sys_write((int)to, data + at, size - at);
                if (written <= 0) whole = 0;
                else at += written;
            }
        if (to >= 0) sys_close((int)to);
        if (whole) file->kept = kept_count;
    }
    sys_close((int)from);
}
/* Note how a file is before anything is done to it, and keep the bytes of one that was read, where it may be another
 * afterwards. 0 for a folder. */
static struct file *touched(const char *path, int change) {
    char status[144];
    int is_new;
    struct file *file = (struct file *)item_of(&files, path, 0, 0, &is_new);
    if (!file) {
        int is_there = sys_status(path, status, 0) >= 0;
        if (is_there && (mode_in(status) & FORMAT) == IS_DIRECTORY) return 0;
        file = (struct file *)item_of(&files, path, 0, sizeof *file, &is_new);
        if (known_count == known_room) {
            long more = known_room ? known_room * 2 : 4096;
            char **moved = make(more * (long)sizeof *moved);
            memcpy(moved, known, known_count * sizeof *moved);
            known = moved, known_room = more;
        }
        known[known_count++] = (char *)file;
        if (is_there) {
            file->was_there = 1;
            file->inode = STATUS(status, 8), file->size = STATUS(status, 48);
            file->seconds = STATUS(status, 104), file->nanoseconds = STATUS(status, 112);
        }
    }
    if (change && file->is_read && !file->kept && !file->is_written) copy_bytes(file);
    return file;
}
static void written(const char *path) {
    if (!*root) return;
    if (!is_below(path, root)) {
        if (!begins(path, "/dev/") && !begins(path, "/proc/") && !begins(path, "/sys/")) tell('W', -1, path);
        return;
    }
    if (!is_told(path)) return;
    struct file *file = touched(path, 1);
    if (file) file->is_written = 1;
}
static void removed(const char *path) {
    if (is_told(path)) touched(path, 1);
}
/* Everything below a folder that is renamed is renamed. */
static void renamed(const char *old, const char *new) {
    char status[144];
    if (!*root) return;
    if (sys_status(old, status, 0) < 0 || (mode_in(status) & FORMAT) != IS_DIRECTORY) {
        removed(old);
        written(new);
        return;
    }
    long folder = sys_open(old, READ_ONLY | DIRECTORY), size;
    char entries[4096] __attribute__((aligned(8)));
    if (folder < 0) return;
    while ((size = sys_list((int)folder, entries, sizeof entries)) > 0)
        for (long at = 0; at < size;) {
            struct entry *entry = (struct entry *)(entries + at);
            at += entry->size;
            if (same(entry->name, ".") || same(entry->name, "..")) continue;
            char *one = make(PATHS), *other = make(PATHS);
            if (joined(one, old, entry->name) && joined(other, new, entry->name)) renamed(one, other);
        }
    sys_close((int)folder);
}

/* ---- processes */

struct process {
    struct process *next;
    long id, image; /* image: its number; 0: not known yet */
    int is_new, is_elsewhere;
    const char *started;
};

static struct process *processes[4096];
static struct table images;
static long image_count;
static char own_root[PATH], own_mounts[PATH];

static const char *in_proc(long id, const char *name) {
    static char path[PATH];
    char digits[24];
    number(digits, id);
    memcpy(path, "/proc/", 7);
    long at = 6, size = length(digits);
    memcpy(path + at, digits, size), at += size;
    memcpy(path + at, name, length(name) + 1);
    return path;
}
static int link_in_proc(long id, const char *name, char *target, long size) {
    long found = sys_readlink(in_proc(id, name), target, size - 1);
    if (found < 0) return 0;
    target[found] = 0;
    return 1;
}
static long number_after(const char *text, const char *label) {
    for (; *text; text++)
        if (begins(text, label)) {
            text += length(label);
            while (*text == '\t' || *text == ' ') text++;
            return parsed(text);
        }
    return 0;
}
static struct process *process_of(long id);

/* What it was made of: that of its process, for a thread; that of its parent, for a child. */
static void inherit(struct process *process) {
    static char data[4096];
    long file = sys_open(in_proc(process->id, "/status"), READ_ONLY);
    if (file < 0) return;
    long size = sys_read((int)file, data, sizeof data - 1);
    sys_close((int)file);
    data[size > 0 ? size : 0] = 0;
    long group = number_after(data, "\nTgid:"), parent = number_after(data, "\nPPid:");
    long from = group && group != process->id ? group : parent;
    if (!from || from == sys_getpid()) return;
    for (struct process *one = processes[from & 4095]; one; one = one->next)
        if (one->id == from) {
            process->image = one->image, process->started = one->started, process->is_new = one->is_new;
            return;
        }
}
static struct process *process_of(long id) {
    for (struct process *one = processes[id & 4095]; one; one = one->next)
        if (one->id == id) return one;
    struct process *made = make(sizeof *made);
    memset(made, 0, sizeof *made);
    made->id = id, made->is_new = 1, made->is_elsewhere = -1, made->started = "";
    inherit(made);
    made->next = processes[id & 4095];
    processes[id & 4095] = made;
    return made;
}
static void forget(long id) {
    for (struct process **one = &processes[id & 4095]; *one; one = &(*one)->next)
        if ((*one)->id == id) {
            *one = (*one)->next;
            return;
        }
}
/* The code that a process has mapped already, when it is first heard of after it became a program. */
static void tell_mapped(struct process *process) {
    static char data[1 << 15];
    long file = sys_open(in_proc(process->id, "/maps"), READ_ONLY), size, have = 0;
    if (file < 0) return;
    while (have < (long)sizeof data - 1 && (size = sys_read((int)file, data + have, sizeof data - 1 - have)) > 0) have += size;
    sys_close((int)file);
    data[have] = 0;
    for (char *line = data; *line;) {
        char *end = line, *path = 0, *modes = 0;
        for (; *end && *end != '\n'; end++) {
            if (*end == ' ' && !modes) modes = end + 1;
            if (*end == '/' && !path) path = end;
        }
        char *next = *end ? end + 1 : end;
        *end = 0;
        if (path && modes && modes[2] == 'x') tell('M', process->image, path);
        line = next;
    }
}
/* A program that has a root of its own (`enter.c`) has the one that it came from at .host. */
static void without_host(char *path) {
    if (begins(path, "/.host/")) memcpy(path, path + 6, length(path + 6) + 1);
}
static void become(struct process *process) {
    static char running[PATH];
    char both[2 * PATH + 1];
    int is_new;
    process->is_new = 0;
    if (!link_in_proc(process->id, "/exe", running, PATH)) return;
    without_host(running);
    long first = length(process->started), second = length(running);
    memcpy(both, process->started, first), both[first] = '\n', memcpy(both + first + 1, running, second + 1);
    struct item *image = item_of(&images, both, 0, sizeof *image + 8, &is_new);
    long *id = (long *)(image + 1);
    if (is_new) {
        *id = ++image_count;
        told("I"), told_number(*id), told(*process->started ? process->started : running), told(running);
    }
    process->image = *id;
    tell_mapped(process);
}
/* Whether a process sees other folders than this one under the same names. */
static int is_elsewhere(struct process *process) {
    static char at[PATH];
    if (process->is_elsewhere < 0) {
        process->is_elsewhere = 0;
        if (link_in_proc(process->id, "/root", at, PATH) && !same(at, own_root)) process->is_elsewhere = 1;
        if (link_in_proc(process->id, "/ns/mnt", at, PATH) && !same(at, own_mounts)) process->is_elsewhere = 1;
    }
    return process->is_elsewhere;
}

/* ---- paths */

/* A text of a process; 0 where it cannot be read. */
static int text_of(long id, u64 address, char *text) {
    long have = 0;
    while (have < PATH - 1) {
        long size = 4096 - (long)((address + have) & 4095); /* no further than the page's end: what follows may not be there */
        if (size > PATH - 1 - have) size = PATH - 1 - have;
        u64 here[2] = {(u64)(text + have), (u64)size}, there[2] = {address + have, (u64)size};
        long came = call6(310, id, P(here), 1, P(there), 1, 0);
        if (came <= 0) return 0;
        for (long at = have; at < have + came; at++)
            if (!text[at]) return 1;
        have += came;
    }
    return 0;
}
/* The path of a call as the process has it, absolute: a folder's descriptor (-100: where it is) and a text. */
static int absolute(long id, int folder, const char *text, char *path) {
    static char base[PATH];
    char name[40] = "/fd/";
    if (*text == '/') {
        memcpy(path, text, length(text) + 1);
        return 1;
    }
    if (folder == -100) memcpy(name, "/cwd", 5);
    else number(name + 4, folder);
    if (!link_in_proc(id, name, base, PATH) || *base != '/') return 0;
    if (!*text) return memcpy(path, base, length(base) + 1), 1;
    return joined(path, base, text);
}
/* What leads to a descriptor of the process itself leads here to one of this process: say which is meant. */
static void own_links(long id, char *path) {
    static char rest[PATHS], digits[24];
    const char *found = 0;
    static const char *const names[] = {"/proc/self/", "/proc/thread-self/", 0};
    if (begins(path, "/dev/fd/")) {
        memcpy(rest, "fd/", 3), memcpy(rest + 3, path + 8, length(path + 8) + 1), found = rest;
    }
    for (int at = 0; !found && names[at]; at++)
        if (begins(path, names[at])) memcpy(rest, path + length(names[at]), length(path + length(names[at])) + 1), found = rest;
    if (!found) return;
    number(digits, id);
    memcpy(path, "/proc/", 6);
    long size = length(digits);
    memcpy(path + 6, digits, size), path[6 + size] = '/';
    memcpy(path + 7 + size, found, length(found) + 1);
}

static struct table folders;
static u64 root_device, root_inode;

/* Whether what a status is of lies at a path here. */
static int is_at(const char *path, const char *status) {
    char here[144];
    return sys_status(path, here, 1) >= 0 && STATUS(here, 0) == STATUS(status, 0) && STATUS(here, 8) == STATUS(status, 8);
}
/* Where an open folder is, as this process has it. A folder of another mount namespace is known by what it is: the project's
 * root, or one below it. */
static int place_of(int folder, int elsewhere, char *place) {
    char name[40] = "/proc/self/fd/", status[144];
    number(name + 14, folder);
    long size = sys_readlink(name, place, PATHS - 1);
    if (size < 0) return 0;
    place[size] = 0;
    if (!elsewhere) return *place == '/';
    without_host(place);
    if (call(5, folder, P(status), 0, 0, 0) < 0) return 0;
    if (is_at(place, status)) return 1;
    static char below[PATHS], more[PATHS];
    char *end = place + length(place);
    long at = call(32, folder, 0, 0, 0, 0); /* dup */
    *below = 0;
    for (int level = 0; at >= 0 && level < 128; level++) {
        if (call(5, at, P(status), 0, 0, 0) < 0) break;
        if (*root && STATUS(status, 0) == root_device && STATUS(status, 8) == root_inode) {
            sys_close((int)at);
            return joined(place, root, below);
        }
        while (end > place && *end != '/') end--;
        if (end == place && level) break;
        if (*below) {
            if (!joined(more, end + 1, below)) break;
            memcpy(below, more, length(more) + 1);
        } else memcpy(below, end + 1, length(end + 1) + 1);
        *end = 0;
        long above = sys_open_at((int)at, "..", 010000000 | DIRECTORY);
        sys_close((int)at);
        at = above;
    }
    if (at >= 0) sys_close((int)at);
    return 0;
}
/* What a path leads to in a process's own root, open; -ESRCH where the process is gone. */
static long open_in_root(struct process *process, const char *path, u64 flags) {
    u64 how[3] = {010000000 | CLOSE_ON_EXEC | flags, 0, 0x10 /* RESOLVE_IN_ROOT */};
    long top = sys_open_at(-100, in_proc(process->id, "/root"), 010000000 | DIRECTORY);
    if (top < 0) return -3;
    long file = call(437, top, P(path), P(how), sizeof how, 0);
    sys_close((int)top);
    return file;
}
/* A path with the links of its folders followed, but not itself. 0 where its folder is not there, or cannot be followed. */
static int named(struct process *process, const char *path, char *real) {
    static char folder[PATHS], place[PATHS];
    struct place {
        struct item item;
        const char *real;
    } *kept;
    long cut = length(path);
    int is_new, elsewhere = is_elsewhere(process);
    while (cut > 1 && path[cut - 1] == '/') cut--;
    while (cut > 0 && path[cut - 1] != '/') cut--;
    memcpy(folder, path, cut), folder[cut > 1 ? cut - 1 : cut] = 0;
    const char *name = path + cut;
    if (same(name, ".") || same(name, "..") || !*name) return 0;
    kept = elsewhere ? 0 : (struct place *)item_of(&folders, folder, 0, 0, &is_new);
    if (!kept) {
        long file = elsewhere ? open_in_root(process, folder, DIRECTORY) : sys_open(folder, 010000000 | DIRECTORY);
        if (file < 0) return 0;
        int is_there = place_of((int)file, elsewhere, place);
        sys_close((int)file);
        if (!is_there) {
            if (elsewhere) tell('U', -1, "in a mount namespace of its own");
            return 0;
        }
        if (!elsewhere) {
            kept = (struct place *)item_of(&folders, folder, 0, sizeof *kept, &is_new);
            kept->real = copy_of(place);
        }
    }
    return joined(real, kept ? kept->real : place, name);
}
static void forget_folders(void) { memset(&folders, 0, sizeof folders); }
/* In a root of its own a process may have links, where nothing of the kind is here, to what is here: what it is that such a
 * path leads to. */
static int led_to(struct process *process, const char *path, char *real) {
    char name[40] = "/proc/self/fd/", status[144];
    long file = open_in_root(process, path, 0), size = -1;
    if (file < 0) return 0;
    number(name + 14, file);
    if (call(5, file, P(status), 0, 0, 0) >= 0) size = sys_readlink(name, real, PATHS - 1);
    sys_close((int)file);
    if (size < 0) return 0;
    real[size] = 0;
    without_host(real);
    return is_at(real, status);
}

/* ---- calls */

enum what { OPEN, OPEN2, CREATE, TRUNCATE, RENAME, REMOVE, LINK, MAKE, EXECUTE, MAP, HANDLES, RING, MOVES, CONNECT, LIST, LOOK };

/* A call that is asked for: its numbers on x86-64 and for programs of 32 bits, and where its words are: of each path the
 * folder's descriptor (-1: there is none) and the text, and what says how (flags). */
struct known_call {
    short wide, narrow;
    u8 what;
    signed char folder, path, folder2, path2, flags;
};
static const struct known_call calls[] = {
    {257, 295, OPEN, 0, 1, -1, -1, 2},
    {2, 5, OPEN, -1, 0, -1, -1, 1},
    {437, 437, OPEN2, 0, 1, -1, -1, 2},
    {85, 8, CREATE, -1, 0, -1, -1, -1},
    {76, 92, TRUNCATE, -1, 0, -1, -1, -1},
    {-1, 193, TRUNCATE, -1, 0, -1, -1, -1},
    {82, 38, RENAME, -1, 0, -1, 1, -1},
    {264, 302, RENAME, 0, 1, 2, 3, -1},
    {316, 353, RENAME, 0, 1, 2, 3, 4},
    {87, 10, REMOVE, -1, 0, -1, -1, -1},
    {263, 301, REMOVE, 0, 1, -1, -1, 2},
    {86, 9, LINK, -1, 0, -1, 1, -1},
    {265, 303, LINK, 0, 1, 2, 3, -1},
    {88, 83, MAKE, -1, 1, -1, -1, -1},
    {266, 304, MAKE, 1, 2, -1, -1, -1},
    {133, 14, MAKE, -1, 0, -1, -1, -1},
    {259, 297, MAKE, 0, 1, -1, -1, -1},
    {59, 11, EXECUTE, -1, 0, -1, -1, -1},
    {322, 358, EXECUTE, 0, 1, -1, -1, 4},
    {9, 192, MAP, -1, -1, -1, -1, -1},
    {304, 342, HANDLES, -1, -1, -1, -1, -1},
    {425, 425, RING, -1, -1, -1, -1, -1},
    {161, 61, MOVES, -1, -1, -1, -1, -1},
    {155, 217, MOVES, -1, -1, -1, -1, -1},
    {272, 310, MOVES, -1, -1, -1, -1, -1},
    {308, 346, MOVES, -1, -1, -1, -1, -1},
    {42, 362, CONNECT, -1, -1, -1, -1, -1},
    {217, 220, LIST, -1, -1, -1, -1, -1},
    {78, 141, LIST, -1, -1, -1, -1, -1},
    /* Those that only ask about a file: seen where it is to be told what was not there. */
    {4, 195, LOOK, -1, 0, -1, -1, -1},
    {6, 196, LOOK, -1, 0, -1, -1, -1},
    {262, 300, LOOK, 0, 1, -1, -1, -1},
    {332, 383, LOOK, 0, 1, -1, -1, -1},
    {21, 33, LOOK, -1, 0, -1, -1, -1},
    {269, 307, LOOK, 0, 1, -1, -1, -1},
    {439, 439, LOOK, 0, 1, -1, -1, -1},
    {89, 85, LOOK, -1, 0, -1, -1, -1},
    {267, 305, LOOK, 0, 1, -1, -1, -1},
};
#define CALLS (int)(sizeof calls / sizeof *calls)
#define WIDE 0xC000003E
#define NARROW 0x40000003

struct notification {
    u64 id;
    u32 process, flags;
    int number;
    u32 machine;
    u64 at, words[6];
};
struct response {
    u64 id;
    long value;
    int error;
    u32 flags;
};

/* The path of a call: as the process has it, and with the links of its folders followed ("" where that cannot be). 0: it
 * cannot be read, or is none (a descriptor alone). */
static int path_of(struct process *process, const struct notification *told, int folder, int text, char *path, char *real) {
    static char words[PATH];
    *real = 0;
    if (!text_of(process->id, told->words[text], words)) {
        tell('U', -1, "paths that could not be read");
        return 0;
    }
    if (!*words) return 0;
    if (!absolute(process->id, folder < 0 ? -100 : (int)(u32)told->words[folder], words, path)) return 0;
    own_links(process->id, path);
    if (!named(process, path, real) && !(is_elsewhere(process) && led_to(process, path, real))) *real = 0;
    return 1;
}
static int tells_absent; /* whether what is looked for and is not there is told */

/* What an open does to a file of the project; whether that is told of it at the end. */
static int used(char *real, u64 flags) {
    char status[144];
    static char end[PATHS], place[PATHS];
    if (!*root || !*real) return 0;
    int writes = (flags & (1 | 2 | 01000 | 0100)) != 0;
    if (!writes && !is_below(real, root)) {
        /* A link from outside may lead into the project. */
        if (sys_status(real, status, 0) < 0 || (mode_in(status) & FORMAT) != IS_LINK) return 0;
    }
    if (sys_status(real, status, 0) >= 0 && (mode_in(status) & FORMAT) == IS_LINK) {
        if (tells_absent && is_below(real, root) && is_told(real)) tell('K', -1, real);
        char name[40] = "/proc/self/fd/";
        long file = sys_open(real, 010000000);
        if (file >= 0) {
            number(name + 14, file);
            long size = sys_readlink(name, end, PATHS - 1);
            sys_close((int)file);
            if (size > 0) end[size] = 0, real = end;
        } else { /* it leads to what is not there yet */
            long size = sys_readlink(real, place, PATH - 1);
            if (size <= 0) return 0;
            place[size] = 0;
            if (*place != '/') {
                long cut = length(real);
                while (cut > 0 && real[cut - 1] != '/') cut--;
                memcpy(end, real, cut), end[cut] = 0;
                if (!joined(end, end, place)) return 0;
            } else memcpy(end, place, size + 1);
            real = end;
        }
    }
    if (!is_below(real, root)) {
        if (writes) written(real);
        return 0;
    }
    if (!is_told(real)) return 0;
    struct file *file = touched(real, 0);
    if (!file) return 0;
    int is_there = sys_status(real, status, 0) >= 0;
    if (is_there && !(flags & 01000) && file->was_there && !file->is_written) file->is_read = 1;
    if (flags & (1 | 2 | 01000) || (flags & 0100 && !is_there)) written(real);
    return 1;
}
/* A path that a process looks for, in its own root: told where nothing is there. */
static void looked_for(struct process *process, const char *path) {
    long file = open_in_root(process, path, 0);
    if (file >= 0) sys_close((int)file);
    else if (file == -ENOENT || file == -ENOTDIR) tell('A', process->image, path + (begins(path, "/.host/") ? 6 : 0));
}
static void opened(struct process *process, const char *path, char *real, u64 flags) {
    if (flags & 030000000) return; /* O_PATH: no bytes; O_TMPFILE: a file without a name, in a folder */
    const char *here = is_elsewhere(process) ? real : path;
    if (!used(real, flags) && *here) tell('O', process->image, here);
}
static void executed(struct process *process, struct notification *told, const struct known_call *known) {
    static char path[PATHS], real[PATHS];
    char status[144];
    if (!path_of(process, told, known->folder, known->path, path, real)) {
        char name[40] = "/fd/"; /* a descriptor alone */
        if (known->folder < 0) return;
        number(name + 4, (u32)told->words[known->folder]);
        if (!link_in_proc(process->id, name, path, PATH)) return;
        memcpy(real, path, length(path) + 1);
    }
    if (tells_absent) looked_for(process, path);
    const char *place = is_elsewhere(process) ? real : path;
    if (!*place || sys_status(place, status, 1) < 0 || (mode_in(status) & FORMAT) != 0100000) return;
    if (call(21, P(place), 1, 0, 0, 0) < 0) return; /* access: it cannot be executed */
    tell('E', -1, place);
    used(real, 0); /* its bytes are read */
    process->started = copy_of(place);
    process->is_new = 1;
}
/* Whom a process wants to talk to: the bytes of the address, in hexadecimal digits. */
static void connected(struct process *process, struct notification *told) {
    u8 data[110];
    char digits[2 * sizeof data + 1];
    long size = (long)(u32)told->words[2];
    if (size > (long)sizeof data) size = sizeof data;
    u64 here[2] = {(u64)data, (u64)size}, there[2] = {told->words[1], (u64)size};
    long came = call6(310, process->id, P(here), 1, P(there), 1, 0);
    if (came < 3) return;
    for (long at = 0; at < came; at++)
        digits[2 * at] = "0123456789abcdef"[data[at] >> 4], digits[2 * at + 1] = "0123456789abcdef"[data[at] & 15];
    digits[2 * came] = 0;
    tell('C', -1, digits);
}
/* A folder is looked through. To open one is less: it is also opened to be flushed, or to be stood in. */
static void listed(struct process *process, struct notification *told) {
    static char place[PATHS];
    char name[40] = "/fd/";
    if (!*root) return;
    number(name + 4, (u32)told->words[0]);
    long folder = sys_open(in_proc(process->id, name), 010000000 | DIRECTORY);
    if (folder < 0) return;
    if (place_of((int)folder, is_elsewhere(process), place) && is_below(place, root)) tell('S', process->image, place);
    sys_close((int)folder);
}
static void happens(struct process *process, struct notification *told, const struct known_call *known) {
    static char path[PATHS], real[PATHS], path2[PATHS], real2[PATHS];
    char status[144];
    u64 flags = known->flags < 0 ? 0 : told->words[(int)known->flags];
    if (known->what == MAP) {
        char name[40] = "/fd/";
        number(name + 4, (u32)told->words[4]);
        if (link_in_proc(process->id, name, path, PATH) && *path == '/') without_host(path), tell('M', process->image, path);
        return;
    }
    if (known->what == EXECUTE) {
        executed(process, told, known);
        return;
    }
    if (known->what == CONNECT) {
        connected(process, told);
        return;
    }
    if (known->what == LIST) {
        listed(process, told);
        return;
    }
    if (!path_of(process, told, known->folder, known->path, path, real)) return;
    if (tells_absent && (known->what == LOOK || known->what == OPEN || known->what == OPEN2)) {
        if (!(flags & 0100)) looked_for(process, path);
        /* Links among its folders: where they lead is part of what it found. */
        if (*real && *root && is_below(path, root) && !same(path, real) && is_told(path)) tell('K', -1, path);
    }
    switch (known->what) {
        case LOOK: /* of a file that it reads, that is told besides */
            if (*real && is_below(real, root) && is_told(real) && sys_status(real, status, 0) >= 0) tell('K', -1, real);
            break;
        case OPEN2: {
            u64 how = 0, here[2] = {(u64)&how, 8}, there[2] = {flags, 8};
            call6(310, process->id, P(here), 1, P(there), 1, 0);
            flags = how;
        } /* falls through */
        case OPEN: opened(process, path, real, flags); break;
        case CREATE: opened(process, path, real, 1 | 0100 | 01000); break;
        case TRUNCATE: opened(process, path, real, 2); break;
        case REMOVE:
            if (*real && !(flags & 0x200)) removed(real);
            break;
        case MAKE:
            if (*real) written(real);
            break;
        case LINK:
            if (path_of(process, told, known->folder2, known->path2, path2, real2) && *real2) written(real2);
            break;
        case RENAME:
            if (!path_of(process, told, known->folder2, known->path2, path2, real2) || !*real || !*real2) break;
            renamed(real, real2);
            if (known->flags >= 0 && flags & 2) renamed(real2, real); /* they change places */
            forget_folders();
    }
}
/* What a process asks for: 0, or the error that it is answered with. */
static int asked(struct notification *told) {
    for (int at = 0; at < CALLS; at++) {
        const struct known_call *known = &calls[at];
        int is_wide = told->machine == WIDE;
        if ((is_wide ? known->wide : known->narrow) != (int)(told->number & ~0x40000000)) continue;
        struct process *process = process_of(told->process);
        if (!is_wide)
            for (int word = 0; word < 6; word++) told->words[word] = (u32)told->words[word];
        if (known->what == HANDLES || known->what == RING) {
            tell('U', -1, known->what == RING ? "io_uring, which was refused" : "files by handles, which was refused");
            return -ENOSYS;
        }
        if (process->is_new) {
            process->is_elsewhere = -1;
            become(process);
        }
        if (known->what == MOVES) process->is_elsewhere = -1, process->is_new = 1; /* looked at again at its next call */
        else happens(process, told, known);
        return 0;
    }
    return 0;
}

/* ---- the filter */

struct step {
    u16 code;
    u8 then, otherwise;
    u32 value;
};
static struct step steps[4 * CALLS + 24]; /* two a call, for programs of 64 bits and of 32 */
static int step_count;

static void step(int code, u32 value, int then, int otherwise) {
    steps[step_count++] = (struct step){(u16)code, (u8)then, (u8)otherwise, value};
}
#define LOAD 0x20
#define EQUAL 0x15
#define ANY 0x45
#define GIVE 0x06
#define ALLOW 0x7FFF0000
#define NOTIFY 0x7FC00000

static void calls_of(int wide) {
    for (int at = 0; at < CALLS; at++) {
        int found = wide ? calls[at].wide : calls[at].narrow;
        if (found < 0 || calls[at].what == MAP || (calls[at].what == LOOK && !tells_absent)) continue;
        step(EQUAL, (u32)found, 0, 1);
        step(GIVE, NOTIFY, 0, 0);
    }
    step(EQUAL, wide ? 9 : 192, 0, 4); /* a map of a file, as code: with its protection, and without MAP_ANONYMOUS */
    step(LOAD, 32, 0, 0);
    step(ANY, 4, 0, 2);
    step(LOAD, 40, 0, 0);
    step(ANY, 0x20, 0, 1);
    step(GIVE, ALLOW, 0, 0);
    step(GIVE, NOTIFY, 0, 0);
}

/* ---- the run */

static int seats[2]; /* a pair of sockets: the child's words to this process before it becomes the program */

struct said {
    int kind, error; /* 1: the listener comes with it; 2: not executed; 3: not watched; 4: network, 5: writing not limited; 6: no root */
};
static void say(int kind, long error, int file) {
    struct said words = {kind, (int)-error};
    struct { u64 size; int level, type, file, rest; } rights = {20, 1, 1, file, 0};
    u64 piece[2] = {(u64)&words, sizeof words};
    u64 message[7] = {0, 0, (u64)piece, 1, kind == 1 ? (u64)&rights : 0, kind == 1 ? 24 : 0, 0};
    call(46, seats[1], P(message), 0, 0, 0);
}
static int heard(struct said *words, int *file) {
    struct { u64 size; int level, type, file, rest; } rights;
    u64 piece[2] = {(u64)words, sizeof *words};
    u64 message[7] = {0, 0, (u64)piece, 1, (u64)&rights, sizeof rights, 0};
    long size = call(47, seats[0], P(message), 0x40000000 /* MSG_CMSG_CLOEXEC */, 0, 0);
    *file = size > 0 && message[5] >= 20 ? rights.file : -1;
    return size == sizeof *words;
}
static long write_into(const char *path, const char *text) {
    long file = sys_open(path, WRITE_ONLY), error = file;
    if (file >= 0) error = sys_write((int)file, text, length(text)), sys_close((int)file);
    return error;
}
/* Namespaces of one's own; where that is not this user's to have, in one for users, in which it is. */
static long own_spaces(long which) {
    char map[64], *end = map;
    long user = call(102, 0, 0, 0, 0, 0), group = call(104, 0, 0, 0, 0, 0), error = call(272, which, 0, 0, 0, 0);
    if (error >= 0) return error;
    if ((error = call(272, which | 0x10000000, 0, 0, 0, 0)) < 0) return error;
    write_into("/proc/self/setgroups", "deny");
    for (int kind = 0; kind < 2; kind++) {
        number(map, kind ? group : user);
        end = map + length(map);
        *end = ' ', number(end + 1, kind ? group : user);
        memcpy(map + length(map), " 1", 3);
        if ((error = write_into(kind ? "/proc/self/gid_map" : "/proc/self/uid_map", map)) < 0) return error;
    }
    return 0;
}
/* A network namespace with a loopback that is up. */
static long own_network(void) {
    char request[40];
    long error = own_spaces(0x40000000);
    if (error < 0) return error;
    long file = call(41, 2, 2 | CLOSE_ON_EXEC, 0, 0, 0);
    if (file < 0) return file;
    memset(request, 0, sizeof request);
    memcpy(request, "lo", 3), request[16] = 0x41; /* up, running */
    error = sys_ioctl((int)file, 0x8914, request);
    sys_close((int)file);
    return error;
}
/* A root of one's own: a folder in which everything lies that is to be seen, and the host's files and folders at the same
 * places in it. It has another host's name. What is of the host beside that is out of sight. */
static long other_root(const char *folder, const char *shown) {
    static char one[PATH], at[PATH];
    long error = own_spaces(0x20000 | 0x4000000 | 0x8000000);
    if (error < 0) return error;
    if ((error = call(165, P("none"), P("/"), 0, 16384 | (1 << 18), 0)) < 0) return error; /* private, all of it */
    if ((error = call(165, P(folder), P(folder), 0, 4096 | 16384, 0)) < 0) return error;
    while (next_line(&shown, one)) {
        const char *place = one; /* where it lies: behind a byte of 1, if not at its own place */
        for (char *cut = one; *cut; cut++)
            if (*cut == 1) *cut = 0, place = cut + 1;
        if (!joined(at, folder, place + 1)) return -ENAMETOOLONG;
        if ((error = call(165, P(one), P(at), 0, 4096 | 16384, 0)) < 0) return error;
    }
    call(170, P("elsewhere"), 9, 0, 0, 0); /* sethostname */
    if (!call(79, P(one), PATH, 0, 0, 0)) *one = 0; /* getcwd */
    if ((error = call(80, P(folder), 0, 0, 0, 0)) < 0) return error;
    if ((error = call(155, P("."), P("."), 0, 0, 0)) < 0) return error; /* pivot_root: the old one lies over the new */
    if ((error = call(166, P("."), 2, 0, 0, 0)) < 0) return error; /* and is taken away */
    return *one ? call(80, P(one), 0, 0, 0, 0) : 0;
}
/* Writing is allowed below these folders alone (Landlock). */
static long only_below(const char *writable) {
    static char folder[PATH];
    long version = call(444, 0, 0, 1, 0, 0);
    if (version < 0) return version;
    u64 handled = 2 | (0x1FFUL << 4); /* write a file; remove and make entries */
    if (version >= 2) handled |= 1 << 13; /* move between folders */
    if (version >= 3) handled |= 1 << 14; /* truncate */
    long rules = call(444, P(&handled), sizeof handled, 0, 0, 0), error;
    if (rules < 0) return rules;
    while (next_line(&writable, folder)) {
        long file = sys_open(folder, 010000000);
        if (file < 0) continue;
        char status[144];
        int is_folder = call(5, file, P(status), 0, 0, 0) >= 0 && (mode_in(status) & FORMAT) == IS_DIRECTORY;
        struct __attribute__((packed)) { u64 allowed; int file; } rule = {
            is_folder ? handled : handled & (2 | 1 << 14), (int)file};
        error = call(445, rules, 1, P(&rule), 0, 0);
        sys_close((int)file);
        if (error < 0) return error;
    }
    if ((error = sys_prctl(38, 1, 0)) < 0) return error;
    return call(446, rules, 0, 0, 0, 0);
}
/* What the options of a mount are as flags; a namespace may add to them, and take none away. */
static long flags_in(const char *options) {
    static const struct { const char *name; long flag; } known_flags[] = {
        {"nosuid", 2}, {"nodev", 4}, {"noexec", 8}, {"noatime", 1024}, {"nodiratime", 2048}, {"relatime", 1 << 21}};
    long found = 0;
    for (int one = 0; one < 6; one++)
        for (const char *at = options; *at; at++)
            if ((at == options || at[-1] == ',') && begins(at, known_flags[one].name)) {
                char next = at[length(known_flags[one].name)];
                if (next == ',' || !next) found |= known_flags[one].flag;
            }
    return found;
}
/* The next word of a line, unescaped: a blank in a path is written \040. */
static char *word_of(char **line) {
    char *start = *line, *to = start, *from = start;
    while (*from && *from != ' ' && *from != '\n') {
        if (*from == '\\' && from[1] && from[2] && from[3]) {
            *to++ = (char)(((from[1] - '0') << 6) | ((from[2] - '0') << 3) | (from[3] - '0'));
            from += 4;
        } else *to++ = *from++;
    }
    *line = from + (*from == ' ');
    *to = 0;
    return start;
}
/* The same by mounts, where there is no Landlock: these are bound onto themselves, and all else is mounted again such
   that it can only be read. */
static long only_mounted(const char *writable) {
    static char one[PATH], table[1 << 20];
    long error = own_spaces(0x20000), size = 0, more;
    if (error < 0) return error;
    if ((error = call(165, P("none"), P("/"), 0, 16384 | (1 << 18), 0)) < 0) return error; /* private, all of it */
    for (const char *rest = writable; next_line(&rest, one);) {
        error = call(165, P(one), P(one), 0, 4096 | 16384, 0);
        if (error < 0 && error != -ENOENT) return error;
    }
    long file = sys_open("/proc/self/mountinfo", READ_ONLY);
    if (file < 0) return file;
    while (size < (long)sizeof table - 1 && (more = sys_read((int)file, table + size, sizeof table - 1 - size)) > 0) size += more;
    sys_close((int)file);
    table[size] = 0;
    for (char *line = table; *line;) {
        char *end = line;
        while (*end && *end != '\n') end++;
        char *next = end + (*end == '\n');
        *end = 0;
        for (int skipped = 0; skipped < 4; skipped++) word_of(&line);
        char *point = word_of(&line), *options = word_of(&line);
        line = next;
        if (is_among(point, writable) || is_below(point, "/proc") || is_below(point, "/sys")) continue;
        error = call(165, 0, P(point), 0, 1 | 32 | 4096 | flags_in(options), 0);
        /* One that another covers cannot be reached, by nobody. */
        if (error < 0 && error != -EINVAL && error != -ENOENT && error != -ENOTDIR) return error;
    }
    sys_prctl(24, 21, 0); /* to mount is nothing that the program can do: also root can it no more */
    return 0;
}
static long watched(void) {
    struct { u16 count; struct step *steps; } program;
    step(LOAD, 4, 0, 0);
    step(EQUAL, WIDE, 1, 0);
    int narrow = step_count;
    step(0x05, 0, 0, 0); /* a jump: how far is known later */
    step(LOAD, 0, 0, 0);
    calls_of(1);
    steps[narrow].value = (u32)(step_count - narrow - 1);
    step(EQUAL, NARROW, 1, 0);
    step(GIVE, ALLOW, 0, 0);
    step(LOAD, 0, 0, 0);
    calls_of(0);
    program.count = (u16)step_count, program.steps = steps;
    if (sys_prctl(38, 1, 0) < 0) return -1;
    long file = call(317, 1, 8 | 32, P(&program), 0, 0); /* with a listener; a wait that only a kill ends */
    return file < 0 ? call(317, 1, 8, P(&program), 0, 0) : file;
}
static int has(const char *flags, char flag) {
    while (*flags && *flags != flag) flags++;
    return *flags;
}
/* Of the processors that this process may run on, the first alone. */
static void one_processor(void) {
    u64 mask[128];
    memset(mask, 0, sizeof mask);
    if (call(204, 0, sizeof mask, P(mask), 0, 0) <= 0) return;
    for (int word = 0, is_found = 0; word < 128; word++) {
        mask[word] = is_found ? 0 : mask[word] & -mask[word];
        is_found |= mask[word] != 0;
    }
    call(203, 0, sizeof mask, P(mask), 0, 0);
}
/* It gets more of the host than it is to have; or is not run, where that was asked for. */
static void not_apart(int kind, long error, const char *flags) {
    say(kind, error, -1);
    if (has(flags, 'r')) sys_exit(1);
}
static void become_program(char **words, char **variables, long memory) {
    u64 all = 0, limit[2] = {(u64)memory, (u64)memory};
    const char *flags = words[6];
    long error;
    sys_prctl(1, 9, 0); /* it is killed where this process is */
    call(14, 2, P(&all), 0, 8, 0);
    if (has(flags, 's')) call(112, 0, 0, 0, 0, 0);
    if (memory) call(160, 2, P(limit), 0, 0, 0); /* of its own: libraries and files that it maps are others' too */
    if (has(flags, 'c')) one_processor();
    if (*words[11] && (error = other_root(words[11], words[12])) < 0) say(6, error, -1), sys_exit(1);
    if (has(flags, 'n') && (error = own_network()) < 0) not_apart(4, error, flags);
    if (*words[7]) {
        int by_mounts = has(flags, 'm'); /* where the one way is refused, by the other */
        error = by_mounts ? only_mounted(words[7]) : only_below(words[7]);
        if (error < 0) error = by_mounts ? only_below(words[7]) : only_mounted(words[7]);
        if (error < 0) not_apart(5, error, flags);
    }
    if (has(flags, 'w')) {
        long listener = watched();
        if (listener < 0) {
            say(3, listener, -1);
            sys_exit(1);
        }
        say(1, 0, (int)listener);
        sys_close((int)listener);
    }
    if (call(436, 3, 0xFFFFFFFF, 4, 0, 0) < 0) /* what is open here is not the program's: close_range, on execution */
        for (int file = 3; file < 1024; file++) call(72, file, 2, 1, 0, 0);
    error = call(59, P(words[13]), P(words + 14), P(variables), 0, 0);
    say(2, error, -1);
    sys_exit(1);
}

/* ---- its end */

static long own_id, main_child;

/* Kill all that descends from this process; how many there were. */
static int kill_all(void) {
    static int ids[65536], parents[65536];
    static u8 ours[65536];
    static char data[512], entries[8192] __attribute__((aligned(8)));
    int count = 0, found = 0, more = 1;
    long folder = sys_open("/proc", READ_ONLY | DIRECTORY), size;
    if (folder < 0) return sys_kill(main_child, 9) >= 0;
    while ((size = sys_list((int)folder, entries, sizeof entries)) > 0)
        for (long at = 0; at < size;) {
            struct entry *entry = (struct entry *)(entries + at);
            at += entry->size;
            if (*entry->name < '0' || *entry->name > '9' || count == 65536) continue;
            long id = parsed(entry->name), file = sys_open(in_proc(id, "/stat"), READ_ONLY);
            if (file < 0) continue;
            long have = sys_read((int)file, data, sizeof data - 1);
            sys_close((int)file);
            data[have > 0 ? have : 0] = 0;
            char *end = data + length(data);
            while (end > data && *end != ')') end--;
            if (end == data || end[2] == 'Z') continue;
            ids[count] = (int)id, parents[count] = (int)parsed(end + 4), ours[count] = 0, count++;
        }
    sys_close((int)folder);
    while (more) {
        more = 0;
        for (int one = 0; one < count; one++) {
            if (ours[one]) continue;
            int is_ours = parents[one] == own_id;
            for (int other = 0; !is_ours && other < count; other++) is_ours = ours[other] && ids[other] == parents[one];
            if (is_ours) ours[one] = 1, more = 1, found++;
        }
    }
    for (int one = 0; one < count; one++)
        if (ours[one]) sys_kill(ids[one], 9);
    return found;
}
static int is_over; /* no child is left */
static long most_memory;

static void reap(void) {
    int status;
    long usage[18], id;
    while ((id = sys_wait(&status, usage)) > 0) {
        forget(id);
        if (usage[4] > most_memory) most_memory = usage[4];
        if (id == main_child) {
            told("X"), told_number(status);
            main_child = 0;
        }
    }
    if (id == -ECHILD) is_over = 1;
}
static void tell_files(void) {
    for (long at = 0; at < known_count; at++) {
        struct file *file = (struct file *)known[at];
        char letters[3] = {file->is_read ? 'r' : '-', file->is_written ? 'w' : '-', 0};
        told("T"), told(file->item.text), told(letters), told_number(file->kept);
        if (!file->was_there) {
            told("");
            continue;
        }
        char before[128], *end = before;
        u64 values[4] = {file->inode, file->size, file->seconds, file->nanoseconds};
        for (int value = 0; value < 4; value++) {
            number(end, (long)values[value]);
            end += length(end);
            *end++ = value < 3 ? ' ' : 0;
        }
        told(before);
    }
}
static void answer(int listener) {
    static struct notification notification;
    struct response response;
    memset(&notification, 0, sizeof notification);
    if (sys_ioctl(listener, 0xC0502100, &notification) < 0) return;
    memset(&response, 0, sizeof response);
    response.id = notification.id;
    response.error = asked(&notification);
    response.flags = response.error ? 0 : 1; /* the call goes on */
    sys_ioctl(listener, 0xC0182101, &response);
}
struct polled {
    int file;
    short wanted, came;
};

static int run(int count, char **words, char **variables) {
    if (count < 15) return sys_write(2, "usage: see supervise.c; ", 24), sys_write(2, source, length(source)), sys_write(2, "\n", 1), 2;
    u64 signals = 1UL << 16 | 1UL << 1 | 1UL << 14 | 1UL | 1UL << 2; /* a child; interrupt, end, hang up, quit */
    long began = now(), limit = parsed(words[3]), grace = parsed(words[4]), ends = 0, alive = parsed(words[2]);
    int listener = -1, is_ending = 0;
    log_file = (int)parsed(words[1]);
    root = words[8], kept_folder = words[9], ignored = words[10];
    tells_absent = has(words[6], 'a') != 0;
    own_id = sys_getpid();
    char status[144];
    if (*root && sys_status(root, status, 1) >= 0) root_device = STATUS(status, 0), root_inode = STATUS(status, 8);
    link_in_proc(own_id, "/root", own_root, PATH), link_in_proc(own_id, "/ns/mnt", own_mounts, PATH);
    sys_prctl(36, 1, 0); /* orphans come to this process */
    call(14, 0, P(&signals), 0, 8, 0);
    long heard_signals = call(289, -1, P(&signals), 8, CLOSE_ON_EXEC | 04000, 0);
    if (call(53, 1, 1 | CLOSE_ON_EXEC, 0, P(seats), 0) < 0) return 121;
    main_child = sys_fork();
    if (main_child < 0) return 121;
    if (!main_child) become_program(words, variables, parsed(words[5]));
    sys_close(seats[1]);
    process_of(main_child)->is_new = 0; /* until it becomes the program it is this one */
    int talks = 1;
    while (!is_over) {
        struct polled polled[4] = {{(int)heard_signals, 1, 0}, {(int)alive, 1, 0}, {talks ? seats[0] : -1, 1, 0}, {listener, 1, 0}};
        long due = ends ? ends : limit ? began + limit : 0, wait = -1;
        if (due && (wait = due - now()) < 0) wait = 0;
        if (is_ending) wait = 5;
        call(7, P(polled), 4, wait, 0, 0);
        if (polled[3].came & 1) answer(listener);
        if (polled[3].came & ~1) sys_close(listener), listener = -1;
        if (polled[2].came) {
            struct said words_heard;
            int file;
            if (!heard(&words_heard, &file)) talks = 0;
            else if (words_heard.kind == 1) {
                u64 flags = 1; /* both sides on one processor: half the time for each question */
                listener = file;
                sys_ioctl(listener, 0x40082104, (void *)flags);
            } else {
                static const char *const kinds[] = {"", "", "F", "N", "P", "B", "G"};
                told(kinds[words_heard.kind]), told_number(words_heard.error);
            }
        }
        if (polled[0].came) {
            char information[128];
            while (sys_read((int)heard_signals, information, sizeof information) == sizeof information) {
                u32 signal = *(u32 *)information;
                if (signal == 15 || signal == 1) is_ending = 1; /* an interrupt is the run's own matter */
            }
            int was_there = main_child != 0;
            reap();
            if (was_there && !main_child) ends = now() + grace;
        }
        if (polled[1].came) is_ending = 1, alive = -1;
        if (!is_ending && ends && now() >= ends) {
            is_ending = 1;
            reap();
            told("L"), told_number(is_over ? 0 : kill_all());
        } else if (!is_ending && !ends && limit && now() >= began + limit) is_ending = 1, told("D"), told("");
        if (is_ending) kill_all(), reap();
    }
    tell_files();
    told("R"), told_number(most_memory);
    told("Z"); /* the log is whole */
    flush();
    return 0;
}

void begin(long *stack) {
    int count = (int)stack[0];
    char **words = (char **)(stack + 1);
    sys_exit(run(count, words, words + count + 1));
}

__asm__(".globl _start\n_start:\n  xor %ebp, %ebp\n  mov %rsp, %rdi\n  and $-16, %rsp\n  call begin\n");
