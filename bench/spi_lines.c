/* The plain reference for SPI: samples of one byte, SCK in bit 0, MOSI in bit 1, CS in bit 2, D/C in bit 3; mode 0, eight bits, high bit
   first. It writes each transaction as a JSON line with printf, or, compiled with -DCOUNT, only counts.
   usage: spi_lines FILE RATE */
#include <stdio.h>
#include <stdlib.h>

static unsigned char buffer[1 << 16];
static unsigned char *bytes, *marks;
static double *times;
static size_t room = 1 << 12, words;
static long transactions, total;

static void put(double start, double end, const char *continued) {
    transactions++;
    total += (long)words;
#ifndef COUNT
    size_t i;
    printf("{\"record\":\"transaction\",\"bus\":\"bus\",\"start\":%.9g,\"end\":%.9g,\"select\":\"cs\",\"words\":[", start, end);
    for (i = 0; i < words; i++) printf(i ? ",%d" : "%d", bytes[i]);
    printf("],\"times\":[");
    for (i = 0; i < words; i++) printf(i ? ",%.9g" : "%.9g", times[i]);
    printf("],\"dc\":[");
    for (i = 0; i < words; i++) printf(i ? ",%d" : "%d", marks[i]);
    printf("],\"direction\":\"write\",\"continued\":%s}\n", continued);
#else
    (void)start; (void)end; (void)continued;
#endif
}

int main(int argc, char **argv) {
    FILE *file = argc > 2 ? fopen(argv[1], "rb") : NULL;
    double rate = argc > 2 ? atof(argv[2]) : 0, start = 0;
    int before = -1, inside = 0, bit = 0, value = 0, began_cut = 0;
    long index = 0;
    size_t got, i;
    if (!file) return 2;
    bytes = malloc(room); marks = malloc(room); times = malloc(room * sizeof *times);
    while ((got = fread(buffer, 1, sizeof buffer, file)) > 0) {
        for (i = 0; i < got; i++, index++) {
            int now = buffer[i] & 15;
            if (now == before) continue;
            if (before < 0) { inside = began_cut = !(now & 4); before = now; continue; }
            if ((before & 4) && !(now & 4)) { inside = 1; began_cut = 0; start = index / rate; words = 0; bit = value = 0; }
            else if (!(before & 4) && (now & 4)) { if (inside) put(start, index / rate, began_cut ? "true" : "false"); inside = 0; words = 0; }
            if (inside && !(before & 1) && (now & 1)) {
                value = value << 1 | (before >> 1 & 1);
                if (++bit == 8) {
                    if (words == room) { room *= 2; bytes = realloc(bytes, room); marks = realloc(marks, room); times = realloc(times, room * sizeof *times); }
                    bytes[words] = (unsigned char)value; marks[words] = (unsigned char)(now >> 3 & 1); times[words] = index / rate; words++;
                    bit = value = 0;
                }
            }
            before = now;
        }
    }
    if (inside) put(start, index / rate, "true");
    printf("{\"record\":\"summary\",\"transactions\":%ld,\"words\":%ld}\n", transactions, total);
    return 0;
}
