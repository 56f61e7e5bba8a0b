/* Stands in for the kernel's spidev and GPIO character device under a program that is preloaded with it.
   SHIM_LOG       file that gets every set of lines ("gpio OFFSET=LEVEL …") and every SPI write ("spi BITS bytes…")
   SHIM_OPEN      errno of opening either device     SHIM_TAKEN  errno of asking for lines
   SHIM_EDGES     file with the edges of watched lines: nanoseconds, offset, level and number of the event of its line, in each row
   SHIM_LEVELS    how watched lines stand as they are asked for, the first one in bit 0
   SHIM_FAIL      errno of the writes                SHIM_FAIL_AT  … only from this one on */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <linux/gpio.h>
#include <linux/spi/spidev.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <time.h>
#include <unistd.h>

#define CHIP "/dev/gpiochip0"
#define SPI "/dev/spidev0.0"

static int spi = -1, chip = -1, request = -1, writes;
static unsigned offsets[GPIO_V2_LINES_MAX], lines;
static unsigned char bits = 8, mode;
static unsigned speed = 500000;

static FILE *log_file(void) { return getenv("SHIM_LOG") ? fopen(getenv("SHIM_LOG"), "a") : NULL; }

static int fails(void) {
    const char *fault = getenv("SHIM_FAIL"), *from = getenv("SHIM_FAIL_AT");
    writes++;
    if (!fault || writes < (from ? atoi(from) : 1)) return 0;
    errno = atoi(fault);
    return 1;
}

static void set(unsigned long long mask, unsigned long long values) {
    FILE *log = log_file();
    unsigned i;
    if (!log) return;
    fputs("gpio", log);
    for (i = 0; i < lines; i++)
        if (mask >> i & 1) fprintf(log, " %u=%u", offsets[i], (unsigned)(values >> i & 1));
    fputc('\n', log);
    fclose(log);
}

static int opened(const char *path, int flags, mode_t how, const char *real) {
    int (*next)(const char *, int, ...) = (int (*)(const char *, int, ...))dlsym(RTLD_NEXT, real);
    int fd;
    if (strncmp(path, "/dev/gpiochip", 13) && strncmp(path, "/dev/spidev", 11)) return next(path, flags, how);
    if (strcmp(path, CHIP) && strcmp(path, SPI)) { errno = ENOENT; return -1; }
    if (getenv("SHIM_OPEN")) { errno = atoi(getenv("SHIM_OPEN")); return -1; }
    fd = next("/dev/null", O_RDWR, 0);
    if (!strcmp(path, SPI)) spi = fd; else chip = fd;
    return fd;
}

int open(const char *path, int flags, ...) {
    va_list rest; va_start(rest, flags); mode_t how = va_arg(rest, int); va_end(rest);
    return opened(path, flags, how, "open");
}

int open64(const char *path, int flags, ...) {
    va_list rest; va_start(rest, flags); mode_t how = va_arg(rest, int); va_end(rest);
    return opened(path, flags, how, "open64");
}

static int looked_at(const char *path, struct stat *out) {
    if (strcmp(path, CHIP)) return 0;
    memset(out, 0, sizeof *out);
    out->st_mode = S_IFCHR | 0660;
    out->st_rdev = makedev(254, 0);
    return 1;
}

int lstat(const char *path, struct stat *out) {
    if (looked_at(path, out)) return 0;
    return ((int (*)(const char *, struct stat *))dlsym(RTLD_NEXT, "lstat"))(path, out);
}

int stat(const char *path, struct stat *out) {
    if (looked_at(path, out)) return 0;
    return ((int (*)(const char *, struct stat *))dlsym(RTLD_NEXT, "stat"))(path, out);
}

int __lxstat(int version, const char *path, struct stat *out) {
    if (looked_at(path, out)) return 0;
    return ((int (*)(int, const char *, struct stat *))dlsym(RTLD_NEXT, "__lxstat"))(version, path, out);
}

int __xstat(int version, const char *path, struct stat *out) {
    if (looked_at(path, out)) return 0;
    return ((int (*)(int, const char *, struct stat *))dlsym(RTLD_NEXT, "__xstat"))(version, path, out);
}

static int watched(void) {
    const char *path = getenv("SHIM_EDGES");
    FILE *rows = path ? fopen(path, "r") : NULL;
    struct gpio_v2_line_event event;
    struct timespec now;
    unsigned long long when, count = 0;
    unsigned offset, level, number;
    int ends[2];
    if (!rows || pipe(ends)) return -1;
    fcntl(ends[1], F_SETPIPE_SZ, 1 << 20);
    clock_gettime(CLOCK_MONOTONIC, &now);
    while (fscanf(rows, "%llu %u %u %u", &when, &offset, &level, &number) == 4) {
        memset(&event, 0, sizeof event);
        event.timestamp_ns = now.tv_sec * 1000000000ull + now.tv_nsec + when;
        event.id = level ? GPIO_V2_LINE_EVENT_RISING_EDGE : GPIO_V2_LINE_EVENT_FALLING_EDGE;
        event.offset = offset;
        event.seqno = ++count;
        event.line_seqno = number;
        if (((ssize_t (*)(int, const void *, size_t))dlsym(RTLD_NEXT, "write"))(ends[1], &event, sizeof event) < 0) break;
    }
    fclose(rows);
    return ends[0]; /* the other end stays open: a chip goes on watching */
}

static char *led_to(const char *path, char *out) {
    const char *to = !strcmp(path, "/sys/dev/char/254:0/subsystem") ? "/sys/bus/gpio" : !strcmp(path, CHIP) ? CHIP : NULL;
    if (!to) return NULL;
    return out ? strcpy(out, to) : strdup(to);
}

char *realpath(const char *path, char *out) {
    char *ours = led_to(path, out);
    return ours ? ours : ((char *(*)(const char *, char *))dlsym(RTLD_NEXT, "realpath"))(path, out);
}

char *__realpath_chk(const char *path, char *out, size_t size) {
    (void)size;
    return realpath(path, out);
}

ssize_t write(int fd, const void *data, size_t count) {
    ssize_t (*next)(int, const void *, size_t) = (ssize_t (*)(int, const void *, size_t))dlsym(RTLD_NEXT, "write");
    FILE *log;
    size_t i;
    if (fd != spi || spi < 0) return next(fd, data, count);
    if (fails()) return -1;
    log = log_file();
    if (log) {
        fprintf(log, "spi %u", bits);
        for (i = 0; i < count; i++) fprintf(log, " %02x", ((const unsigned char *)data)[i]);
        fputc('\n', log);
        fclose(log);
    }
    return (ssize_t)count;
}

int ioctl(int fd, unsigned long what, ...) {
    va_list rest; va_start(rest, what); void *arg = va_arg(rest, void *); va_end(rest);
    what &= 0xFFFFFFFF; /* some callers pass it as an int */
    if (fd >= 0 && fd == spi) {
        if (what == SPI_IOC_RD_MODE) *(unsigned char *)arg = mode;
        else if (what == SPI_IOC_RD_MODE32) *(unsigned *)arg = mode;
        else if (what == SPI_IOC_WR_MODE || what == SPI_IOC_WR_MODE32) mode = *(unsigned char *)arg;
        else if (what == SPI_IOC_RD_BITS_PER_WORD) *(unsigned char *)arg = bits;
        else if (what == SPI_IOC_WR_BITS_PER_WORD) bits = *(unsigned char *)arg;
        else if (what == SPI_IOC_RD_MAX_SPEED_HZ) *(unsigned *)arg = speed;
        else if (what == SPI_IOC_WR_MAX_SPEED_HZ) speed = *(unsigned *)arg;
        else if (what == SPI_IOC_RD_LSB_FIRST) *(unsigned char *)arg = 0;
        else if (what != SPI_IOC_WR_LSB_FIRST) { errno = ENOTTY; return -1; }
        return 0;
    }
    if (fd >= 0 && fd == chip && what == GPIO_GET_CHIPINFO_IOCTL) {
        struct gpiochip_info *info = arg;
        memset(info, 0, sizeof *info);
        strcpy(info->name, "gpiochip0");
        strcpy(info->label, "stand-in");
        info->lines = 54;
        return 0;
    }
    if (fd >= 0 && fd == chip && what == GPIO_V2_GET_LINEINFO_IOCTL) {
        struct gpio_v2_line_info *line = arg;
        unsigned offset = line->offset;
        memset(line, 0, sizeof *line);
        line->offset = offset;
        return 0;
    }
    if (fd >= 0 && fd == chip && what == GPIO_V2_GET_LINE_IOCTL) {
        struct gpio_v2_line_request *wanted = arg;
        int (*next)(const char *, int, ...) = (int (*)(const char *, int, ...))dlsym(RTLD_NEXT, "open");
        unsigned i;
        if (getenv("SHIM_TAKEN")) { errno = atoi(getenv("SHIM_TAKEN")); return -1; }
        lines = wanted->num_lines;
        memcpy(offsets, wanted->offsets, sizeof offsets);
        for (i = 0; i < wanted->config.num_attrs; i++)
            if (wanted->config.attrs[i].attr.id == GPIO_V2_LINE_ATTR_ID_OUTPUT_VALUES) set(wanted->config.attrs[i].mask, wanted->config.attrs[i].attr.values);
        request = wanted->config.flags & GPIO_V2_LINE_FLAG_INPUT ? watched() : next("/dev/null", O_RDWR, 0);
        if (request < 0) { errno = EINVAL; return -1; }
        wanted->fd = request;
        return 0;
    }
    if (fd >= 0 && fd == request && what == GPIO_V2_LINE_GET_VALUES_IOCTL) {
        struct gpio_v2_line_values *values = arg;
        values->bits = (getenv("SHIM_LEVELS") ? strtoull(getenv("SHIM_LEVELS"), NULL, 0) : 0) & values->mask;
        return 0;
    }
    if (fd >= 0 && fd == request && what == GPIO_V2_LINE_SET_VALUES_IOCTL) {
        struct gpio_v2_line_values *values = arg;
        if (fails()) return -1;
        set(values->mask, values->bits);
        return 0;
    }
    return ((int (*)(int, unsigned long, void *))dlsym(RTLD_NEXT, "ioctl"))(fd, what, arg);
}
