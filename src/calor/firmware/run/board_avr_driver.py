"""The small program in C that drives the library of the emulated AVR: a line of words for each stretch, one in answer.

Pins are sampled about every millisecond; voltages come to the converter with noise of a count, as averaging needs it.
"""

from __future__ import annotations

DRIVER = r"""
#define _GNU_SOURCE
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* What is used of the emulator's library, as its interface has it. */
typedef struct avr_t avr_t;
typedef struct avr_irq_t avr_irq_t;
extern avr_t *avr_make_mcu_by_name(const char *name);
extern int avr_init(avr_t *avr);
extern void avr_reset(avr_t *avr);
extern int avr_run(avr_t *avr);
extern int elf_read_firmware(const char *file, void *firmware);
extern void avr_load_firmware(avr_t *avr, void *firmware);
extern int avr_ioctl(avr_t *avr, uint32_t what, void *value);
extern avr_irq_t *avr_io_getirq(avr_t *avr, uint32_t what, int index);
extern avr_irq_t *avr_iomem_getirq(avr_t *avr, uint16_t place, const char *name, int index);
extern void avr_extint_set_strict_lvl_trig(avr_t *avr, uint8_t number, uint8_t is_strict);
extern void avr_irq_register_notify(avr_irq_t *irq, void (*told)(avr_irq_t *, uint32_t, void *), void *own);
extern void avr_raise_irq(avr_irq_t *irq, uint32_t value);
extern void avr_cycle_timer_register(avr_t *avr, uint64_t when, uint64_t (*due)(avr_t *, uint64_t, void *), void *own);
#define NAMED(a, b, c, d) ((uint32_t)(a) << 24 | (uint32_t)(b) << 16 | (uint32_t)(c) << 8 | (uint32_t)(d))
#define PORT_OF(letter) NAMED('i', 'o', 'g', letter)
#define ADC NAMED('a', 'd', 'c', ' ')
#define LINE NAMED('u', 'a', 'r', '0')
#define ADC_NEXT 18 /* told where a conversion begins */

/* The emulator waits in real time while its chip sleeps; this one does not. */
int usleep(useconds_t time)
{
    (void)time;
    return 0;
}

static uint64_t slice_end, sample_cycles;
static int is_slice_over;
static uint32_t level[256], on_samples[256][8], all_samples, resets, volt_uv[2], noise = 1u, count_uv;
static avr_irq_t *converted[2];
static char said[65536];
static uint32_t said_count;

static void on_port(avr_irq_t *irq, uint32_t value, void *own)
{
    (void)irq;
    level[(intptr_t)own] = value;
}

static void on_conversion(avr_irq_t *irq, uint32_t value, void *own)
{
    (void)irq;
    (void)value;
    (void)own;
    for (int k = 0; k < 2; k++) {
        noise = noise * 1664525u + 1013904223u;
        int64_t seen = (int64_t)volt_uv[k] + (int64_t)((noise >> 8) % (2u * count_uv + 1u)) - (int64_t)count_uv;
        seen = seen < 0 ? 0 : seen;
        avr_raise_irq(converted[k], (uint32_t)(seen + 500) / 1000u);
    }
}

/* Timer 1 and the directions of ports B and D as they were written: what its compare makes of a pin is not emulated. */
static const uint16_t place[] = { 0x24, 0x2A, 0x80, 0x81, 0x86, 0x87, 0x88, 0x89, 0x8A, 0x8B };
#define PLACES (sizeof place / sizeof place[0])
static uint32_t written[PLACES];

static void on_written(avr_irq_t *irq, uint32_t value, void *own)
{
    (void)irq;
    written[(intptr_t)own] = value & 255u;
}

static void on_letter(avr_irq_t *irq, uint32_t value, void *own)
{
    (void)irq;
    (void)own;
    if (said_count < sizeof said) {
        said[said_count++] = (char)value;
    }
}

static uint64_t sample(avr_t *avr, uint64_t when, void *own)
{
    (void)avr;
    (void)own;
    for (int port = 'A'; port <= 'D'; port++) {
        for (int bit = 0; bit < 8; bit++) {
            on_samples[port][bit] += level[port] >> bit & 1u;
        }
    }
    all_samples++;
    if (when >= slice_end) {
        is_slice_over = 1;
    }
    return when + sample_cycles;
}

int main(int count, char **words)
{
    if (count != 5) {
        return 2;
    }
    FILE *answers = fdopen(dup(1), "w");
    dup2(2, 1); /* what the emulator says of itself is no answer */
    const uint32_t clock_hz = (uint32_t)strtoul(words[3], 0, 10), full_mv = (uint32_t)strtoul(words[4], 0, 10);
    static uint32_t firmware[16384]; /* its first members: 64 letters, clock, supply, analog supply, reference */
    avr_t *avr = avr_make_mcu_by_name(words[2]);
    if (avr == 0 || avr_init(avr) != 0 || elf_read_firmware(words[1], firmware) != 0) {
        return 3;
    }
    firmware[16] = clock_hz;
    firmware[17] = firmware[18] = firmware[19] = full_mv;
    avr_load_firmware(avr, firmware);
    for (uint8_t k = 0u; k < 3u; k++) {
        avr_extint_set_strict_lvl_trig(avr, k, 0u); /* else a low pin that could interrupt is looked at each cycle */
    }
    uint32_t flags = 0u;
    avr_ioctl(avr, NAMED('u', 'a', 's', '0'), &flags);
    for (intptr_t port = 'A'; port <= 'D'; port++) {
        avr_irq_t *pins = avr_io_getirq(avr, PORT_OF(port), 8); /* all pins of a port at once */
        if (pins != 0) {
            avr_irq_register_notify(pins, on_port, (void *)port);
        }
    }
    for (uintptr_t k = 0u; k < PLACES; k++) {
        avr_irq_register_notify(avr_iomem_getirq(avr, place[k], 0, 8), on_written, (void *)k);
    }
    for (int k = 0; k < 2; k++) {
        converted[k] = avr_io_getirq(avr, ADC, k);
    }
    avr_irq_register_notify(avr_io_getirq(avr, ADC, ADC_NEXT), on_conversion, 0);
    avr_irq_register_notify(avr_io_getirq(avr, LINE, 1), on_letter, 0);
    count_uv = full_mv * 1000u / 1024u;
    sample_cycles = clock_hz / 1000u;
    avr_cycle_timer_register(avr, sample_cycles, sample, 0);
    static char given[65536];
    while (fgets(given, sizeof given, stdin) != 0) {
        char letters[32768] = "";
        unsigned long milliseconds, first_uv, second_uv, keys;
        int restarts;
        const int seen = sscanf(given, "%lu %lu %lu %lu %d %32767s",
            &milliseconds, &first_uv, &second_uv, &keys, &restarts, letters);
        if (seen < 5) {
            return 4;
        }
        volt_uv[0] = (uint32_t)first_uv;
        volt_uv[1] = (uint32_t)second_uv;
        if (restarts) {
            avr_reset(avr);
            resets++;
            avr_cycle_timer_register(avr, sample_cycles, sample, 0);
        }
        for (int bit = 2; bit < 6; bit++) {
            const int is_closed = (int)(keys >> bit) & 1;
            avr_irq_t *pin = avr_io_getirq(avr, PORT_OF(strstr(words[2], "328") != 0 ? 'C' : 'A'), bit);
            avr_raise_irq(pin, is_closed ? 0u : 1u);
        }
        for (const char *at = letters; at[0] != 0 && at[1] != 0; at += 2) {
            const char digits[3] = { at[0], at[1], 0 };
            avr_raise_irq(avr_io_getirq(avr, LINE, 0), (uint32_t)strtoul(digits, 0, 16));
        }
        memset(on_samples, 0, sizeof on_samples);
        all_samples = said_count = 0u;
        is_slice_over = 0;
        slice_end += milliseconds * sample_cycles;
        alarm(60u); /* it ends where it hangs */
        for (uint32_t runs = 0u, samples = 0u; !is_slice_over; runs++) {
            if (avr_run(avr) >= 6) { /* it ended, or crashed */
                return 5;
            }
            if (all_samples != samples) {
                samples = all_samples;
                runs = 0u;
            } else if (runs > 4u * sample_cycles) { /* a reset by the watchdog ends all that runs by cycles */
                resets++;
                avr_cycle_timer_register(avr, sample_cycles, sample, 0);
                runs = 0u;
            }
        }
        for (int port = 'A'; port <= 'D'; port++) {
            for (int bit = 0; bit < 8; bit++) {
                fprintf(answers, "%.4f ", on_samples[port][bit] / (double)all_samples);
            }
        }
        for (uintptr_t k = 0u; k < PLACES; k++) {
            fprintf(answers, "%u ", written[k]);
        }
        fprintf(answers, "%u -", resets);
        for (uint32_t k = 0u; k < said_count; k++) {
            fprintf(answers, "%02x", (unsigned char)said[k]);
        }
        fputc('\n', answers);
        fflush(answers);
    }
    return 0;
}
"""
