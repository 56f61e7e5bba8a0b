/* The plain reference: a textbook one-pass state machine over raw samples of one byte, SCL in bit 0, SDA in bit 1.
   It writes each transaction as a JSON line with printf, or, compiled with -DCOUNT, only counts.
   usage: i2c_lines FILE RATE */
#include <stdio.h>
#include <stdlib.h>

static unsigned char buffer[1 << 16];
static unsigned char *bytes;
static unsigned char *acks;
static double *times;
static size_t room = 1 << 12, words;
static long transactions, total;

static void put(const char *ended, double start, double end, const char *began) {
    transactions++;
    total += (long)words;
#ifndef COUNT
    size_t i;
    if (!words) {
        printf("{\"record\":\"transaction\",\"bus\":\"bus\",\"start\":%.9g,\"end\":%.9g,\"address\":null,\"ten_bit\":false,"
               "\"direction\":null,\"bytes\":[],\"times\":[],\"acks\":[null],\"ended\":\"%s\",\"began\":\"%s\"}\n", start, end, ended, began);
        return;
    }
    printf("{\"record\":\"transaction\",\"bus\":\"bus\",\"start\":%.9g,\"end\":%.9g,\"address\":%d,\"ten_bit\":false,\"direction\":\"%s\",\"bytes\":[",
           start, end, bytes[0] >> 1, bytes[0] & 1 ? "read" : "write");
    for (i = 1; i < words; i++) printf(i > 1 ? ",%d" : "%d", bytes[i]);
    printf("],\"times\":[");
    for (i = 1; i < words; i++) printf(i > 1 ? ",%.9g" : "%.9g", times[i]);
    printf("],\"acks\":[");
    for (i = 0; i < words; i++) printf(i ? ",%s" : "%s", acks[i] ? "true" : "false");
    printf("],\"ended\":\"%s\",\"began\":\"%s\"}\n", ended, began);
#else
    (void)ended; (void)start; (void)end; (void)began;
#endif
}

int main(int argc, char **argv) {
    FILE *file = argc > 2 ? fopen(argv[1], "rb") : NULL;
    double rate = argc > 2 ? atof(argv[2]) : 0, start = 0, risen = 0;
    int scl = 1, sda = 1, inside = 0, bit = 0, value = 0, sampled = 0, pending = 0;
    const char *began = "start";
    long index = 0;
    size_t got, i;
    if (!file) return 2;
    bytes = malloc(room); acks = malloc(room); times = malloc(room * sizeof *times);
    while ((got = fread(buffer, 1, sizeof buffer, file)) > 0) {
        for (i = 0; i < got; i++, index++) {
            int c = buffer[i] & 1, d = buffer[i] >> 1 & 1;
            if (c == scl && d == sda) continue;
            if (c && !scl) {
                pending = 1; sampled = d; risen = index / rate;
            } else if (!c && scl) {
                if (pending && inside) {
                    if (bit < 8) { value = value << 1 | sampled; bit++; }
                    else {
                        if (words == room) {
                            room *= 2; bytes = realloc(bytes, room); acks = realloc(acks, room); times = realloc(times, room * sizeof *times);
                        }
                        bytes[words] = (unsigned char)value; acks[words] = !sampled; times[words] = risen; words++;
                        bit = 0; value = 0;
                    }
                }
                pending = 0;
            } else if (c && scl) {
                if (sda && !d) {
                    if (inside) put("restart", start, index / rate, began);
                    began = inside ? "restart" : "start"; start = index / rate; inside = 1; bit = value = 0; words = 0;
                } else if (inside) {
                    put("stop", start, index / rate, began); inside = 0; words = 0;
                }
                pending = 0;
            }
            scl = c; sda = d;
        }
    }
    if (inside) put("cut", start, index / rate, began);
    printf("{\"record\":\"summary\",\"transactions\":%ld,\"words\":%ld}\n", transactions, total);
    return 0;
}
