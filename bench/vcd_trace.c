/* The plain reference for VCD: reads value changes of one-bit wires into two growing columns, ticks and packed levels.
   usage: vcd_trace FILE; prints how many entries, and the last time. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

int main(int argc, char **argv) {
    FILE *file = argc > 1 ? fopen(argv[1], "rb") : NULL;
    static char line[1 << 16];
    static int bit_of[256];
    long *times, count = 0, room = 1 << 16, now = 0;
    unsigned long *levels, level = 0;
    int wires = 0, body = 0, dirty = 0;
    if (!file) return 2;
    times = malloc(room * sizeof *times); levels = malloc(room * sizeof *levels);
    while (fgets(line, sizeof line, file)) {
        if (!body) {
            char id[64];
            if (sscanf(line, " $var wire 1 %63s", id) == 1) bit_of[(unsigned char)id[0]] = wires++;
            if (strstr(line, "$enddefinitions")) body = 1;
            continue;
        }
        if (line[0] == '#') {
            if (dirty) {
                if (count == room) { room *= 2; times = realloc(times, room * sizeof *times); levels = realloc(levels, room * sizeof *levels); }
                times[count] = now; levels[count] = level; count++;
                dirty = 0;
            }
            now = strtol(line + 1, NULL, 10);
        } else if (line[0] == '0' || line[0] == '1') {
            unsigned long mask = 1UL << bit_of[(unsigned char)line[1]];
            level = line[0] == '1' ? level | mask : level & ~mask;
            dirty = 1;
        }
    }
    if (dirty) count++;
    printf("%ld %ld\n", count, now);
    return 0;
}
