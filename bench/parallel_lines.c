/* The plain reference for a 6800 bus: samples of two bytes, D0 to D7 in bits 0 to 7, RS in bit 8, E in bit 9; a word is taken as E falls.
   Words of one level of RS without a rest (64 of the shortest steps up to then) are a transaction, at most 4096 words of it a line.
   usage: parallel_lines FILE RATE */
#include <stdio.h>
#include <stdlib.h>

static unsigned short buffer[1 << 15];
static unsigned char bytes[4096];
static double times[4096];
static size_t words;
static long transactions, total;

static void put(int rs, int continued) {
    transactions++;
    total += (long)words;
#ifndef COUNT
    size_t i;
    printf("{\"record\":\"transaction\",\"bus\":\"bus\",\"start\":%.9g,\"end\":%.9g,\"select\":null,\"words\":[", times[0], times[words - 1]);
    for (i = 0; i < words; i++) printf(i ? ",%d" : "%d", bytes[i]);
    printf("],\"times\":[");
    for (i = 0; i < words; i++) printf(i ? ",%.9g" : "%.9g", times[i]);
    printf("],\"dc\":[");
    for (i = 0; i < words; i++) printf(i ? ",%d" : "%d", rs);
    printf("],\"direction\":\"write\",\"continued\":%s}\n", continued ? "true" : "false");
#else
    (void)rs; (void)continued;
#endif
    words = 0;
}

int main(int argc, char **argv) {
    FILE *file = argc > 2 ? fopen(argv[1], "rb") : NULL;
    double rate = argc > 2 ? atof(argv[2]) : 0;
    int before = -1, rs = -1, going_on = 0;
    long index = 0, last = -1, shortest = 1L << 50;
    size_t got, i;
    if (!file) return 2;
    while ((got = fread(buffer, 2, sizeof buffer / 2, file)) > 0) {
        for (i = 0; i < got; i++, index++) {
            int now = buffer[i] & 1023;
            if (now == before) continue;
            if (before >= 0 && (before & 512) && !(now & 512)) {
                int mine = before >> 8 & 1;
                long step = last < 0 ? 0 : index - last;
                if (words && (mine != rs || step > 64 * shortest)) { put(rs, going_on); going_on = 0; }
                else if (words == 4096) { put(rs, 1); going_on = 1; }
                if (step > 0 && step < shortest) shortest = step;
                rs = mine; last = index;
                bytes[words] = (unsigned char)(before & 255); times[words] = index / rate; words++;
            }
            before = now;
        }
    }
    if (words) put(rs, 1);
    printf("{\"record\":\"summary\",\"transactions\":%ld,\"words\":%ld}\n", transactions, total);
    return 0;
}
