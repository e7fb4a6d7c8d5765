/* What the helpers share: system calls of x86-64 Linux, and texts. They need no library and no other program. */

#define PATH 4096
#define ENOENT 2
#define READ_ONLY 0
#define WRITE_ONLY 1
#define DIRECTORY 0200000
#define CLOSE_ON_EXEC 02000000
#define FORMAT 0170000
#define IS_DIRECTORY 0040000
#define IS_LINK 0120000

const char source[] = "source sha256 " SOURCE;

/* ---- system calls of x86-64 Linux */

static long call6(long number, long a, long b, long c, long d, long e, long f) {
    long result;
    register long r10 __asm__("r10") = d;
    register long r8 __asm__("r8") = e;
    register long r9 __asm__("r9") = f;
    __asm__ volatile("syscall"
                     : "=a"(result)
                     : "a"(number), "D"(a), "S"(b), "d"(c), "r"(r10), "r"(r8), "r"(r9)
                     : "rcx", "r11", "memory");
    return result;
}
static long call(long number, long a, long b, long c, long d, long e) { return call6(number, a, b, c, d, e, 0); }

#define P(pointer) ((long)(pointer))

static long sys_read(int file, void *data, long size) { return call(0, file, P(data), size, 0, 0); }
static long sys_write(int file, const void *data, long size) { return call(1, file, P(data), size, 0, 0); }
static long sys_open(const char *path, int flags) { return call(2, P(path), flags | CLOSE_ON_EXEC, 0, 0, 0); }
static long sys_close(int file) { return call(3, file, 0, 0, 0, 0); }
static void sys_exit(int code) {
    for (;;) call(60, code, 0, 0, 0, 0);
}
static long sys_readlink(const char *path, char *target, long size) {
    return call(89, P(path), P(target), size, 0, 0);
}
static long sys_list(int folder, void *entries, long size) { return call(217, folder, P(entries), size, 0, 0); }

/* ---- texts */

static long length(const char *text) {
    long count = 0;
    while (text[count]) count++;
    return count;
}
static int same(const char *one, const char *other) {
    while (*one && *one == *other) one++, other++;
    return *one == *other;
}
/* Texts put together; the compiler's own copies of memory must find these names. */
void *memcpy(void *to, const void *from, unsigned long size) {
    unsigned char *target = to;
    const unsigned char *data = from;
    while (size--) *target++ = *data++;
    return to;
}
void *memset(void *to, int value, unsigned long size) {
    unsigned char *target = to;
    while (size--) *target++ = (unsigned char)value;
    return to;
}
static void number(char *text, long value) {
    char digits[24];
    int count = 0;
    do digits[count++] = '0' + value % 10;
    while (value /= 10);
    while (count) *text++ = digits[--count];
    *text = 0;
}

/* ---- folders */

struct entry {
    unsigned long inode;
    long offset;
    unsigned short size;
    unsigned char kind;
    char name[];
};
