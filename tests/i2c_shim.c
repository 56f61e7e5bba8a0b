/* Stands in for the kernel's i2c-dev under a program that is preloaded with it: opens of /dev/i2c-* and the writes and ioctls on them.
   SHIM_ANSWERS  addresses that answer, like 3d,68     SHIM_CLAIMED  addresses that a kernel driver holds
   SHIM_FUNCS    adapter functions, a number           SHIM_OPEN     errno of open
   SHIM_FAIL     errno of every transfer               SHIM_FAIL_AT  … only from this transfer on
   SHIM_LOG      file that gets each transfer: address, direction, bytes */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <linux/i2c-dev.h>
#include <linux/i2c.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static int ours = -1, transfers;
static unsigned long slave;

static int listed(const char *name, unsigned address) {
    const char *text = getenv(name);
    char wanted[8];
    snprintf(wanted, sizeof wanted, "%02x", address);
    return text && strstr(text, wanted) != NULL;
}

static void note(unsigned address, const char *way, const unsigned char *bytes, int count) {
    FILE *log = getenv("SHIM_LOG") ? fopen(getenv("SHIM_LOG"), "a") : NULL;
    int i;
    if (!log) return;
    fprintf(log, "%02x %s", address, way);
    for (i = 0; i < count; i++) fprintf(log, " %02x", bytes[i]);
    fputc('\n', log);
    fclose(log);
}

static int fails(void) {
    const char *fault = getenv("SHIM_FAIL"), *from = getenv("SHIM_FAIL_AT");
    transfers++;
    if (!fault || transfers < (from ? atoi(from) : 1)) return 0;
    errno = atoi(fault);
    return 1;
}

static int opened(const char *path, int flags, mode_t mode, const char *real) {
    int (*next)(const char *, int, ...) = (int (*)(const char *, int, ...))dlsym(RTLD_NEXT, real);
    if (strncmp(path, "/dev/i2c-", 9) != 0) return next(path, flags, mode);
    if (strcmp(path, "/dev/i2c-1") != 0) { errno = ENOENT; return -1; }
    if (getenv("SHIM_OPEN")) { errno = atoi(getenv("SHIM_OPEN")); return -1; }
    return ours = next("/dev/null", O_RDWR, 0);
}

int open(const char *path, int flags, ...) {
    va_list rest; va_start(rest, flags); mode_t mode = va_arg(rest, int); va_end(rest);
    return opened(path, flags, mode, "open");
}

int open64(const char *path, int flags, ...) {
    va_list rest; va_start(rest, flags); mode_t mode = va_arg(rest, int); va_end(rest);
    return opened(path, flags, mode, "open64");
}

ssize_t write(int fd, const void *data, size_t count) {
    if (fd != ours || ours < 0) return ((ssize_t (*)(int, const void *, size_t))dlsym(RTLD_NEXT, "write"))(fd, data, count);
    if (fails()) return -1;
    note((unsigned)slave, "write", data, (int)count);
    if (!listed("SHIM_ANSWERS", (unsigned)slave)) { errno = EREMOTEIO; return -1; }
    return (ssize_t)count;
}

int ioctl(int fd, unsigned long request, ...) {
    va_list rest; va_start(rest, request); void *arg = va_arg(rest, void *); va_end(rest);
    if (fd != ours || ours < 0) {
        int (*next)(int, unsigned long, void *) = (int (*)(int, unsigned long, void *))dlsym(RTLD_NEXT, "ioctl");
        return next(fd, request, arg);
    }
    if (request == I2C_FUNCS) {
        *(unsigned long *)arg = getenv("SHIM_FUNCS") ? strtoul(getenv("SHIM_FUNCS"), NULL, 0) : I2C_FUNC_I2C | I2C_FUNC_SMBUS_EMUL;
        return 0;
    }
    if (request == I2C_SLAVE || request == I2C_SLAVE_FORCE) {
        if (request == I2C_SLAVE && listed("SHIM_CLAIMED", (unsigned)(unsigned long)arg)) { errno = EBUSY; return -1; }
        slave = (unsigned long)arg;
        return 0;
    }
    if (request == I2C_SMBUS) {
        struct i2c_smbus_ioctl_data *data = arg;
        if (fails()) return -1;
        note((unsigned)slave, data->size == I2C_SMBUS_QUICK ? "quick" : data->read_write ? "read" : "write", NULL, 0);
        if (!listed("SHIM_ANSWERS", (unsigned)slave)) { errno = ENXIO; return -1; }
        if (data->data) data->data->byte = 0xA5;
        return 0;
    }
    if (request == I2C_RDWR) {
        struct i2c_rdwr_ioctl_data *data = arg;
        unsigned i;
        if (fails()) return -1;
        for (i = 0; i < data->nmsgs; i++) {
            struct i2c_msg *message = &data->msgs[i];
            note(message->addr, message->flags & I2C_M_RD ? "read" : "write", message->buf, message->flags & I2C_M_RD ? 0 : message->len);
            if (!listed("SHIM_ANSWERS", message->addr)) { errno = EREMOTEIO; return -1; }
            if (message->flags & I2C_M_RD) memset(message->buf, 0xA5, message->len);
        }
        return (int)data->nmsgs;
    }
    errno = ENOTTY;
    return -1;
}
