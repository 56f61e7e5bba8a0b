/* The board of a driver that was emitted for C: pins whose levels become a VCD, and an I2C device that acknowledges. Time goes on with each call.
 * Built with -DDRIVER=tide -DPINS="TIDE_SCL,..." -DNAMES="\"SCL\",..." and the driver's own header. */
#include <stdio.h>
#include <stdlib.h>

#define JOIN_(a, b) a##b
#define JOIN(a, b) JOIN_(a, b)
#define PORT JOIN(DRIVER, _port)
#define PIN JOIN(DRIVER, _pin)

static const char *const names[] = { NAMES };
enum { COUNT = sizeof names / sizeof *names };
static int level[COUNT], driven[COUNT], given[COUNT];
static unsigned long long now = 100000; /* ns */
static FILE *out;
static int scl = -1, sda = -1, bits = -1, pulled;

static void tell(int pin, int high)
{
    if (level[pin] != high) {
        level[pin] = high;
        fprintf(out, "#%llu\n%d%c\n", now, high, '!' + pin);
    }
}

static void bus(void)
{
    if (sda >= 0) {
        tell(scl, given[scl]);
        tell(sda, given[sda] && !pulled);
    }
}

static void set(void *user, enum PIN pin, bool high)
{
    const int was = given[pin];

    (void)user;
    if (!driven[pin]) {
        fprintf(stderr, "pin %s is set before it is an output\n", names[pin]);
        exit(3);
    }
    now += 400;
    given[pin] = high;
    if ((int)pin != scl && (int)pin != sda) {
        tell((int)pin, high);
        return;
    }
    if ((int)pin == sda && level[scl] && was != (int)high) {
        bits = high ? -1 : 0; /* STOP, START */
    }
    bus();
    if ((int)pin == scl && was && !high && bits >= 0) { /* the clock fell: eight bits, then the device answers */
        bits = bits == 9 ? 1 : bits + 1;
        pulled = bits == 9;
        now += 20;
        bus();
    }
}

static bool get(void *user, enum PIN pin)
{
    (void)user;
    now += 200;
    return level[pin] != 0;
}

static void output(void *user, enum PIN pin, bool high)
{
    (void)user;
    driven[pin] = 1;
    given[pin] = high;
    now += 400;
    tell((int)pin, high);
}

static void wait_us(void *user, uint32_t us)
{
    (void)user;
    now += 1000ULL * us;
}

int main(int argc, char **argv)
{
    static const struct PORT port = { .user = NULL, .output = output, .set = set,
#ifdef OPEN_DRAIN
                                      .get = get,
#endif
                                      .wait_us = wait_us };
    int ok;

    (void)get;
    out = fopen(argc > 1 ? argv[1] : "out.vcd", "w");
    fprintf(out, "$timescale 1 ns $end\n$scope module board $end\n");
    for (int k = 0; k < COUNT; ++k) {
        fprintf(out, "$var wire 1 %c %s $end\n", '!' + k, names[k]);
        level[k] = -1;
    }
    fprintf(out, "$upscope $end\n$enddefinitions $end\n#0\n");
#ifdef OPEN_DRAIN
    scl = JOIN(SCL_OF, );
    sda = JOIN(SDA_OF, );
#endif
    for (int k = 0; k < COUNT; ++k) {
        fprintf(out, "%c%c\n", k == scl || k == sda ? '1' : 'x', '!' + k);
        level[k] = k == scl || k == sda ? 1 : -1;
        given[k] = level[k] == 1;
    }
    JOIN(DRIVER, _port) = &port;
    now += 50000000; /* the supply has been there for a while */
    ok = JOIN(DRIVER, _start)();
#ifdef SCAN
    for (uint8_t number = 0; number < SCAN; ++number) {
        const unsigned long long until = now + 1000ULL * JOIN(DRIVER, _stands)(number);

        JOIN(DRIVER, _picture)(number);
        for (unsigned long long next = now; now < until || next < until;) {
            JOIN(DRIVER, _scan)();
            next += 1000ULL * PERIOD;
            now = now < next ? next : now;
        }
    }
    JOIN(DRIVER, _dark)();
#endif
#ifdef SHOW
    ok = ok && JOIN(DRIVER, _show)();
#endif
#ifdef DRAW
    ok = ok && draw();
#endif
    now += 100000;
    fprintf(out, "#%llu\n", now);
    fclose(out);
    return ok ? 0 : 1;
}
