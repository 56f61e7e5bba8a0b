/* Runs a firmware on the simulated ATmega328P and writes what its pins do into a VCD.
 *   avr FIRMWARE.elf OUT.vcd NAME=C5[:scl|:sda] ...
 * With NAME=spi:sck and NAME=spi:mosi the peripheral's own pins are written, bit by bit.
 * Lines marked scl and sda have a pull-up, and an I2C device that acknowledges. The firmware ends by sleeping with interrupts off. */
#include <simavr/avr_ioport.h>
#include <simavr/avr_spi.h>
#include <simavr/sim_avr.h>
#include <simavr/sim_elf.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MOST = 24 };
static struct line {
    const char *name;
    char port;
    int bit, ddr, out, pull, level, role; /* role: 1 scl, 2 sda */
    avr_irq_t *irq;
} lines[MOST];
static int count, bits = -1;
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
    } else if (l == scl && was == 1 && bits >= 0) {
        bits = bits == 9 ? 1 : bits + 1;
        sda->pull = bits == 9;
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

int main(int argc, char **argv)
{
    elf_firmware_t firmware;
    int state = cpu_Running;

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
        struct line *l = &lines[count++];
        char *place = strchr(argv[k], '=');

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
    while (state != cpu_Done && state != cpu_Crashed && avr->cycle < 16000000ULL * 20) {
        state = avr_run(avr);
    }
    fprintf(out, "#%llu\n", (unsigned long long)now() + 100000ULL);
    fclose(out);
    return state == cpu_Done ? 0 : 1;
}
