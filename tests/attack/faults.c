// Makes one call of a process fail: the FAULT_AT-th of those that touch files below FAULT_BELOW.
//
// Loaded before the C library (LD_PRELOAD). FAULT_ERRNO says how it fails; 0 stands for a short write or read. With
// FAULT_AT=0 nothing fails, and at its end the process appends the number of its calls to FAULT_COUNT.
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/types.h>
#include <unistd.h>

static long calls, at = -1;
static int number;
static const char *below;

static void begin(void) {
  if (at >= 0) return;
  const char *text = getenv("FAULT_AT");
  at = text ? atol(text) : 0;
  text = getenv("FAULT_ERRNO");
  number = text ? atoi(text) : EIO;
  below = getenv("FAULT_BELOW");
}

// A process may end without a word: the number of its calls so far is written at each.
static void tell(void) {
  static int file = -1;
  if (file == -1) {
    const char *path = getenv("FAULT_COUNT");
    file = path ? (int)syscall(SYS_openat, AT_FDCWD, path, O_WRONLY | O_CREAT | O_CLOEXEC, 0600) : -2;
  }
  if (file < 0) return;
  char text[24];
  int size = snprintf(text, sizeof text, "%-20ld\n", calls);
  syscall(SYS_pwrite64, file, text, size, (off_t)0);
}

static int concerns(const char *path) {
  begin();
  return below && path && !strncmp(path, below, strlen(below));
}

static int of_descriptor(int descriptor) {
  char name[64], path[PATH_MAX];
  begin();
  if (!below) return 0;
  snprintf(name, sizeof name, "/proc/self/fd/%d", descriptor);
  ssize_t size = readlink(name, path, sizeof path - 1);
  if (size < 0) return 0;
  path[size] = 0;
  return concerns(path);
}

static int of_place(int folder, const char *path) {
  if (!path) return 0;
  return path[0] == '/' || folder == AT_FDCWD ? concerns(path) : of_descriptor(folder);
}

// Whether this call is the one.
static int fails(int counts) {
  if (!counts) return 0;
  ++calls;
  tell();
  if (calls != at) return 0;
  errno = number;
  return 1;
}

#define NEXT(name) ((__typeof__(&name))dlsym(RTLD_NEXT, #name))

int open(const char *path, int flags, ...) {
  va_list more;
  va_start(more, flags);
  mode_t mode = va_arg(more, mode_t);
  va_end(more);
  return fails(concerns(path)) && number ? -1 : NEXT(open)(path, flags, mode);
}
int open64(const char *path, int flags, ...) {
  va_list more;
  va_start(more, flags);
  mode_t mode = va_arg(more, mode_t);
  va_end(more);
  return fails(concerns(path)) && number ? -1 : NEXT(open64)(path, flags, mode);
}
int openat(int folder, const char *path, int flags, ...) {
  va_list more;
  va_start(more, flags);
  mode_t mode = va_arg(more, mode_t);
  va_end(more);
  return fails(of_place(folder, path)) && number ? -1 : NEXT(openat)(folder, path, flags, mode);
}
int openat64(int folder, const char *path, int flags, ...) {
  va_list more;
  va_start(more, flags);
  mode_t mode = va_arg(more, mode_t);
  va_end(more);
  return fails(of_place(folder, path)) && number ? -1 : NEXT(openat64)(folder, path, flags, mode);
}
ssize_t write(int descriptor, const void *data, size_t size) {
  if (fails(of_descriptor(descriptor))) {
    if (number) return -1;
    size = size > 1 ? size / 2 : size;
  }
  return NEXT(write)(descriptor, data, size);
}
ssize_t read(int descriptor, void *data, size_t size) {
  if (fails(of_descriptor(descriptor))) {
    if (number) return -1;
    size = size > 1 ? size / 2 : size;
  }
  return NEXT(read)(descriptor, data, size);
}
int fsync(int descriptor) { return fails(of_descriptor(descriptor)) && number ? -1 : NEXT(fsync)(descriptor); }
int syncfs(int descriptor) { return fails(of_descriptor(descriptor)) && number ? -1 : NEXT(syncfs)(descriptor); }
int rename(const char *from, const char *to) { return fails(concerns(from)) && number ? -1 : NEXT(rename)(from, to); }
int renameat(int a, const char *from, int b, const char *to) {
  return fails(of_place(a, from)) && number ? -1 : NEXT(renameat)(a, from, b, to);
}
int renameat2(int a, const char *from, int b, const char *to, unsigned flags) {
  return fails(of_place(a, from)) && number ? -1 : NEXT(renameat2)(a, from, b, to, flags);
}
int link(const char *from, const char *to) { return fails(concerns(to)) && number ? -1 : NEXT(link)(from, to); }
int linkat(int a, const char *from, int b, const char *to, int flags) {
  return fails(of_place(b, to)) && number ? -1 : NEXT(linkat)(a, from, b, to, flags);
}
int symlinkat(const char *target, int folder, const char *path) {
  return fails(of_place(folder, path)) && number ? -1 : NEXT(symlinkat)(target, folder, path);
}
int mkdir(const char *path, mode_t mode) { return fails(concerns(path)) && number ? -1 : NEXT(mkdir)(path, mode); }
int mkdirat(int folder, const char *path, mode_t mode) {
  return fails(of_place(folder, path)) && number ? -1 : NEXT(mkdirat)(folder, path, mode);
}
int unlink(const char *path) { return fails(concerns(path)) && number ? -1 : NEXT(unlink)(path); }
