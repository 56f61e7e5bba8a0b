/* Runs a firmware on the simulated ATmega328P and writes what its pins do into a VCD.
 *   avr FIRMWARE.elf OUT.vcd NAME=C5[:scl|:sda] ...
 * With NAME=spi:sck and NAME=spi:mosi the peripheral's own pins are written, bit by bit.
 * With --play FILE (rows of nanoseconds, line and level) others move lines that it has let go, from the signal SIGUSR1 on.
 * With --at 3d only that I2C address is acknowledged. With --serial the part's serial port is a pseudo-terminal, whose path is the first line of
 * standard output; it runs until it is ended by a signal.
 * Lines marked scl and sda have a pull-up, and an I2C device that acknowledges. The firmware ends by sleeping with interrupts off. */
#define _GNU_SOURCE
#include <fcntl.h>
#include <pty.h>
#include <signal.h>
#include <simavr/avr_ioport.h>
#include <simavr/avr_spi.h>
#include <simavr/avr_uart.h>
#include <simavr/sim_avr.h>
#include <simavr/sim_elf.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <termios.h>
#include <unistd.h>

enum { MOST = 24 };
static struct line {
    const char *name;
    char port;
    int bit, ddr, out, pull, level, role; /* role: 1 scl, 2 sda */
    avr_irq_t *irq;
} lines[MOST];
static int count, bits = -1, byte, first, selected, only = -1, terminal = -1, held;
static volatile sig_atomic_t ended, playing;
static struct { unsigned long long ns; int line, level; } plays[4096];
static int to_play, played;
static avr_t *avr;
static FILE *out;

static int level_of(const struct line *l)
{
    if (l->role) {
        return !(l->ddr && !l->out) && !l->pull;
    }
    return l->ddr ? l->out : -1;
}

static void update(struct line *l)
{
    const int level = level_of(l), was = l->level;
    struct line *scl = NULL, *sda = NULL;

    if (level == was) {
        return;
    }
    l->level = level;
    fprintf(out, "#%llu\n%c%c\n", (unsigned long long)(avr->cycle * 1000000000.0 / avr->frequency), level < 0 ? 'x' : '0' + level, '!' + (int)(l - lines));
    if (!l->role) {
        return;
    }
    avr_raise_irq(l->irq, (uint32_t)level);
    for (int k = 0; k < count; ++k) {
        scl = lines[k].role == 1 ? &lines[k] : scl;
        sda = lines[k].role == 2 ? &lines[k] : sda;
    }
    if (l == sda && scl->level == 1 && !sda->pull) {
        bits = level ? -1 : 0; /* STOP, START */
        first = 1;
    } else if (l == scl && was == 0 && bits >= 1 && bits <= 8) {
        byte = (byte << 1 | (sda->level == 1)) & 0xFF;
    } else if (l == scl && was == 1 && bits >= 0) {
        bits = bits == 9 ? 1 : bits + 1;
        if (bits == 9 && first) {
            selected = only < 0 || byte >> 1 == only;
            first = 0;
        }
        sda->pull = bits == 9 && selected;
        update(sda);
    }
}

static void on_ddr(avr_irq_t *irq, uint32_t value, void *param)
{
    const char port = (char)(intptr_t)param;

    (void)irq;
    for (int k = 0; k < count; ++k) {
        if (lines[k].port == port) {
            lines[k].ddr = value >> lines[k].bit & 1;
            update(&lines[k]);
        }
    }
}

static void on_port(avr_irq_t *irq, uint32_t value, void *param)
{
    const char port = (char)(intptr_t)param;

    (void)irq;
    for (int k = 0; k < count; ++k) {
        if (lines[k].port == port) {
            lines[k].out = value >> lines[k].bit & 1;
            update(&lines[k]);
        }
    }
}

/* ---- the SPI: the simulator tells whole bytes ---- */

static int spi_sck = -1, spi_mosi = -1;

static void tell(double ns, int line, int level)
{
    if (lines[line].level != level) {
        lines[line].level = level;
        fprintf(out, "#%llu\n%d%c\n", (unsigned long long)ns, level, '!' + line);
    }
}

static double now(void)
{
    return avr->cycle * 1000000000.0 / avr->frequency;
}

static void on_spi(avr_irq_t *irq, uint32_t value, void *param)
{
    const double t = now() - 5000.0;

    (void)irq;
    (void)param;
    for (int k = 0; k < 8; ++k) {
        tell(t + k * 500, spi_mosi, value >> (7 - k) & 1);
        tell(t + k * 500 + 200, spi_sck, 1);
        tell(t + k * 500 + 400, spi_sck, 0);
    }
}

/* ---- the serial port ---- */

static void on_say(avr_irq_t *irq, uint32_t value, void *param)
{
    const char letter = (char)value;

    (void)irq;
    (void)param;
    (void)!write(terminal, &letter, 1);
}

static void on_flow(avr_irq_t *irq, uint32_t value, void *param)
{
    (void)irq;
    (void)value;
    held = (int)(intptr_t)param;
}

static void end(int number)
{
    (void)number;
    ended = 1;
}

static void play(int number)
{
    (void)number;
    playing = 1;
}

static void read_plays(const char *path)
{
    FILE *rows = fopen(path, "r");
    char name[16];

    while (rows != NULL && to_play < 4096 && fscanf(rows, "%llu %15s %d", &plays[to_play].ns, name, &plays[to_play].level) == 3) {
        for (int k = 0; k < count; ++k) {
            plays[to_play].line = strcmp(lines[k].name, name) == 0 ? k : plays[to_play].line;
        }
        ++to_play;
    }
    signal(SIGUSR1, play);
}

static void open_terminal(void)
{
    int other;
    char path[128];
    struct termios raw;
    uint32_t flags = 0;

    if (openpty(&terminal, &other, path, NULL, NULL) != 0) {
        exit(2);
    }
    tcgetattr(other, &raw);
    cfmakeraw(&raw);
    tcsetattr(other, TCSANOW, &raw);
    fcntl(terminal, F_SETFL, O_NONBLOCK);
    avr_ioctl(avr, AVR_IOCTL_UART_GET_FLAGS('0'), &flags);
    flags &= (uint32_t)~(AVR_UART_FLAG_STDIO | AVR_UART_FLAG_POLL_SLEEP);
    avr_ioctl(avr, AVR_IOCTL_UART_SET_FLAGS('0'), &flags);
    avr_irq_register_notify(avr_io_getirq(avr, AVR_IOCTL_UART_GETIRQ('0'), UART_IRQ_OUTPUT), on_say, NULL);
    avr_irq_register_notify(avr_io_getirq(avr, AVR_IOCTL_UART_GETIRQ('0'), UART_IRQ_OUT_XOFF), on_flow, (void *)1);
    avr_irq_register_notify(avr_io_getirq(avr, AVR_IOCTL_UART_GETIRQ('0'), UART_IRQ_OUT_XON), on_flow, NULL);
    signal(SIGTERM, end);
    printf("%s\n", path);
    fflush(stdout);
}

int main(int argc, char **argv)
{
    elf_firmware_t firmware;
    int state = cpu_Running;
    avr_cycle_count_t begun = 0;

    memset(&firmware, 0, sizeof firmware);
    if (argc < 4 || elf_read_firmware(argv[1], &firmware) != 0) {
        return 2;
    }
    avr = avr_make_mcu_by_name("atmega328p");
    avr_init(avr);
    firmware.frequency = 16000000;
    avr_load_firmware(avr, &firmware);
    avr->frequency = 16000000;
    out = fopen(argv[2], "w");
    fprintf(out, "$timescale 1 ns $end\n");
    for (int k = 3; k < argc && count < MOST; ++k) {
        struct line *l = &lines[count];
        char *place = strchr(argv[k], '=');

        if (strcmp(argv[k], "--serial") == 0) {
            open_terminal();
            continue;
        }
        if (strcmp(argv[k], "--play") == 0) {
            read_plays(argv[++k]);
            continue;
        }
        if (strcmp(argv[k], "--at") == 0) {
            only = (int)strtol(argv[++k], NULL, 16);
            continue;
        }
        ++count;

        *place++ = 0;
        l->name = argv[k];
        if (place[0] == 's') {
            *(strstr(place, ":sck") ? &spi_sck : &spi_mosi) = count - 1;
            l->port = '-';
            l->level = 0;
            fprintf(out, "$var wire 1 %c %s $end\n", '!' + count - 1, l->name);
            continue;
        }
        l->port = place[0];
        l->bit = place[1] - '0';
        l->role = strstr(place, ":scl") ? 1 : strstr(place, ":sda") ? 2 : 0;
        l->level = l->role ? 1 : -1;
        l->irq = avr_io_getirq(avr, AVR_IOCTL_IOPORT_GETIRQ(l->port), (unsigned)l->bit);
        fprintf(out, "$var wire 1 %c %s $end\n", '!' + count - 1, l->name);
    }
    fprintf(out, "$enddefinitions $end\n#0\n");
    for (int k = 0; k < count; ++k) {
        fprintf(out, "%c%c\n", lines[k].role ? '1' : k == spi_sck || k == spi_mosi ? '0' : 'x', '!' + k);
        if (lines[k].role) {
            avr_raise_irq(lines[k].irq, 1);
        }
    }
    for (char port = 'B'; port <= 'D'; ++port) {
        avr_irq_register_notify(avr_io_getirq(avr, AVR_IOCTL_IOPORT_GETIRQ(port), IOPORT_IRQ_DIRECTION_ALL), on_ddr, (void *)(intptr_t)port);
        avr_irq_register_notify(avr_io_getirq(avr, AVR_IOCTL_IOPORT_GETIRQ(port), IOPORT_IRQ_REG_PORT), on_port, (void *)(intptr_t)port);
    }
    if (spi_sck >= 0) {
        avr_irq_register_notify(avr_io_getirq(avr, AVR_IOCTL_SPI_GETIRQ(0), SPI_IRQ_OUTPUT), on_spi, NULL);
    }
    for (avr_cycle_count_t next = 0; state != cpu_Done && state != cpu_Crashed && !ended && (terminal >= 0 || avr->cycle < 16000000ULL * 20);) {
        char letter;

        state = avr_run(avr);
        if (playing == 1) {
            begun = avr->cycle;
            playing = 2;
        }
        while (playing == 2 && played < to_play && (avr->cycle - begun) * 62.5 >= (double)plays[played].ns) {
            avr_raise_irq(lines[plays[played].line].irq, (uint32_t)plays[played].level);
            ++played;
        }
        if (terminal >= 0 && !held && avr->cycle >= next) { /* ten bits at 115200 baud */
            next = avr->cycle + 1400;
            if (read(terminal, &letter, 1) == 1) {
                avr_raise_irq(avr_io_getirq(avr, AVR_IOCTL_UART_GETIRQ('0'), UART_IRQ_INPUT), (uint32_t)(uint8_t)letter);
            }
        }
    }
    fprintf(out, "#%llu\n", (unsigned long long)now() + 100000ULL);
    fclose(out);
    return state == cpu_Done || ended ? 0 : 1;
}
