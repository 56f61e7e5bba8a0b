/* Stands in for a disk that fails, under a program that is preloaded with it: of the calls that write in the folder SHIM_FOLDER (files opened to be made,
   written, renamed, given a mode), the one of number SHIM_AT fails with the error SHIM_ERROR, and all behind it where SHIM_STAYS is set. How many
   such calls there were goes into the file SHIM_COUNT. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <unistd.h>

static long calls;

static int fails(void) {
    const char *at = getenv("SHIM_AT"), *error = getenv("SHIM_ERROR"), *stays = getenv("SHIM_STAYS");
    long now = ++calls, first = at ? atol(at) : 0;
    if (!first || now < first || (now > first && !stays)) return 0;
    errno = error ? atoi(error) : EIO;
    return 1;
}

static int inside(const char *path) {
    const char *folder = getenv("SHIM_FOLDER");
    char whole[8192];
    if (!folder || !path) return 0;
    if (path[0] != '/') {
        if (!getcwd(whole, 4096)) return 0;
        strncat(whole, "/", sizeof whole - strlen(whole) - 1);
        strncat(whole, path, sizeof whole - strlen(whole) - 1);
        path = whole;
    }
    return strncmp(path, folder, strlen(folder)) == 0;
}

static int ours(int file) {
    char link[64], path[4096];
    struct stat what;
    if (fstat(file, &what) || !S_ISREG(what.st_mode)) return 0;
    snprintf(link, sizeof link, "/proc/self/fd/%d", file);
    ssize_t length = readlink(link, path, sizeof path - 1);
    if (length < 0) return 0;
    path[length] = 0;
    return inside(path);
}

#define NEXT(name) __typeof__(&name) next = (__typeof__(&name))dlsym(RTLD_NEXT, #name)

ssize_t write(int file, const void *data, size_t count) {
    NEXT(write);
    return ours(file) && fails() ? -1 : next(file, data, count);
}

int rename(const char *from, const char *to) {
    NEXT(rename);
    return inside(to) && fails() ? -1 : next(from, to);
}

int chmod(const char *path, mode_t mode) {
    NEXT(chmod);
    return inside(path) && fails() ? -1 : next(path, mode);
}

int fchmodat(int folder, const char *path, mode_t mode, int flags) {
    NEXT(fchmodat);
    return inside(path) && fails() ? -1 : next(folder, path, mode, flags);
}

static int refused(const char *path, int flags) { return (flags & O_CREAT) && inside(path) && fails(); }

#define MODE(flags) \
    mode_t mode = 0; \
    if (flags & O_CREAT) { va_list rest; va_start(rest, flags); mode = va_arg(rest, mode_t); va_end(rest); }

int open(const char *path, int flags, ...) {
    NEXT(open);
    MODE(flags)
    return refused(path, flags) ? -1 : next(path, flags, mode);
}

int open64(const char *path, int flags, ...) {
    NEXT(open64);
    MODE(flags)
    return refused(path, flags) ? -1 : next(path, flags, mode);
}

__attribute__((destructor)) static void told(void) {
    const char *where = getenv("SHIM_COUNT");
    char text[32];
    if (!where) return;
    unsetenv("SHIM_FOLDER");
    int file = open(where, O_WRONLY | O_CREAT | O_TRUNC, 0644);
    if (file < 0) return;
    int length = snprintf(text, sizeof text, "%ld", calls);
    if (write(file, text, length) != length) abort();
    close(file);
}
