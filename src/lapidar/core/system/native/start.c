/* Starts a program of an environment where there is no shell and its place is known: in a runnable image. It does what a
 * launcher says elsewhere, and what that is follows it in the file (its place is in the ELF header's flags, which
 * x86-64 has no use for): texts that each end with a zero, the last one empty. The first byte says what the rest is:
 *
 *   =NAME=TEXT  a variable    -NAME  none of that name    9PATH  a file, as descriptor 9    u022  the file mode mask
 *   !PATH       the program; without one, the first word is looked for on PATH
 *   wTEXT       a word of its command    n  one, the path that this was started by; those of the caller follow
 *
 * See elf(5), execve(2), getauxval(3). Built by `make helper`.
 */

#include "kernel.h"

#define EXECUTED_AS 31 /* of the auxiliary vector: the path that was executed */
#define EACCES 13

extern char __executable_start[];

static long sys_execve(const char *path, char **words, char **variables) {
    return call(59, P(path), P(words), P(variables), 0, 0);
}
static long sys_getcwd(char *path, long size) { return call(79, P(path), size, 0, 0, 0); }
static void *memory(long size) {
    return (void *)call6(9, 0, size, 3 /* read, write */, 0x22 /* private, of no file */, -1, 0);
}

static void say(const char *text) { sys_write(2, text, length(text)); }

/* Whether a text begins with a name and "="; the text behind that. */
static char *value_of(char *text, const char *name, long size) {
    long at = 0;
    while (at < size && text[at] && text[at] == name[at]) at++;
    return at == size && text[at] == '=' ? text + at + 1 : 0;
}
static long name_size(const char *text) {
    long size = 0;
    while (text[size] && text[size] != '=') size++;
    return size;
}
static int without(char **variables, int count, const char *name) {
    int left = 0;
    long size = name_size(name);
    for (int at = 0; at < count; at++)
        if (!value_of(variables[at], name, size)) variables[left++] = variables[at];
    return left;
}
static int is_path(const char *text) {
    while (*text && *text != '/') text++;
    return *text == '/';
}
/* A script that names this program in its first line is started by that, and executed as the script. */
static int is_script(const char *path) {
    char first[2] = {0, 0};
    long file = sys_open(path, READ_ONLY);
    if (file < 0) return 0;
    sys_read((int)file, first, 2);
    sys_close((int)file);
    return first[0] == '#' && first[1] == '!';
}
static char *absolute(char *path) {
    if (*path == '/') return path;
    char *place = memory(2 * PATH);
    long size = sys_getcwd(place, PATH); /* with its zero */
    if (size <= 0 || length(path) >= PATH) return path;
    place[size - 1] = '/';
    memcpy(place + size, path, length(path) + 1);
    return place;
}
static long looked_for(char **words, char **variables) {
    if (is_path(words[0])) return sys_execve(words[0], words, variables);
    const char *on = 0;
    for (char **one = variables; *one; one++)
        if ((on = value_of(*one, "PATH", 4))) break;
    char *place = memory(2 * PATH);
    long name = length(words[0]), error = -ENOENT;
    while (on && *on) {
        long size = 0;
        while (on[size] && on[size] != ':') size++;
        if (size && size + name + 2 < 2 * PATH) {
            memcpy(place, on, size);
            place[size] = '/';
            memcpy(place + size + 1, words[0], name + 1);
            long told = sys_execve(place, words, variables);
            if (told != -ENOENT) error = told;
        }
        on += size + (on[size] == ':');
    }
    return error;
}

static int start(int count, char **given, char **inherited) {
    const char *told = __executable_start + *(unsigned *)(__executable_start + 48);
    int size = 0, words = 0, variables = 0;
    if (told == __executable_start) return say(source), say("\n"), 2; /* nothing follows it */
    char *name = given[0], *program = 0;
    while (inherited[variables]) variables++;
    for (long *pair = (long *)(inherited + variables + 1); *pair; pair += 2)
        if (*pair == EXECUTED_AS && !is_script((char *)pair[1])) name = (char *)pair[1];
    for (const char *at = told; *at; at += length(at) + 1) size++;
    char **command = memory((count + size + 2) * sizeof(char *));
    char **environment = memory((variables + size + 2) * sizeof(char *));
    memcpy(environment, inherited, variables * sizeof(char *));
    for (const char *at = told; *at; at += length(at) + 1) {
        char *rest = (char *)at + 1;
        if (*at == '=' || *at == '-') variables = without(environment, variables, rest);
        if (*at == '=') environment[variables++] = rest;
        if (*at == '!') program = rest;
        if (*at == 'w') command[words++] = rest;
        if (*at == 'n') command[words++] = absolute(name);
        if (*at == 'u') {
            long mask = 0;
            while (*rest) mask = mask * 8 + *rest++ - '0';
            call(95, mask, 0, 0, 0, 0);
        }
        if (*at == '9') {
            long file = call(2, P(rest), READ_ONLY, 0, 0, 0);
            if (file >= 0 && file != 9) call(33, file, 9, 0, 0, 0), sys_close((int)file);
        }
    }
    environment[variables] = 0; /* others stood behind */
    for (int at = 1; at < count; at++) command[words++] = given[at];
    if (!words) return say("lapidar: name a command to start\n"), 2;
    long error = program ? sys_execve(program, command, environment) : looked_for(command, environment);
    char digits[24];
    number(digits, -error);
    say("lapidar: "), say(program ? program : command[0]), say(" cannot be started, error "), say(digits);
    say(error == -ENOENT ? ": it is not there\n" : error == -EACCES ? ": it is not to be executed\n" : "\n");
    return error == -ENOENT ? 127 : 126;
}

void begin(long *stack) {
    int count = (int)stack[0];
    char **words = (char **)(stack + 1);
    sys_exit(start(count, words, words + count + 1));
}

__asm__(".globl _start\n_start:\n  xor %ebp, %ebp\n  mov %rsp, %rdi\n  and $-16, %rsp\n  call begin\n");
