/* The hatching cabinet's thermostat as one writes it by hand, with integers and a table: what the generated C in fixed
 * point is measured against. Temperatures are hundredths of a degree, the output thousandths of full. */
#include <stdbool.h>
#include <stdint.h>
#ifdef __AVR__
#include <avr/pgmspace.h>
#else
#define PROGMEM
#define pgm_read_word(at) (*(at))
#endif

volatile uint16_t reading;
volatile uint8_t out, alarm;

static const int16_t TABLE[65] PROGMEM = {
    26560, 16067, 12932, 11274, 10160, 9326, 8661, 8107, 7633, 7218,
    6849, 6515, 6211, 5930, 5669, 5425, 5196, 4979, 4772, 4575,
    4387, 4205, 4030, 3860, 3696, 3536, 3379, 3226, 3077, 2929,
    2784, 2641, 2500, 2360, 2221, 2083, 1945, 1807, 1670, 1532,
    1393, 1253, 1113, 970, 825, 678, 528, 375, 217, 54,
    -114, -288, -471, -663, -867, -1084, -1318, -1575, -1859, -2182,
    -2560, -3023, -3637, -4603, -6811
};
static int16_t setpoint = 3750, demand, derivative, before;
static int32_t integral; /* 1/65536 of a thousandth */
static bool has_before, cut_out, armed;
static uint8_t late;
static uint16_t tick, on_ticks;

void by_hand_step(uint16_t counts)
{
    demand = 0;
    if (counts < 16 || counts > 4079) {
        has_before = false;
        return;
    }
    const int16_t low = (int16_t)pgm_read_word(&TABLE[counts >> 6]);
    const int16_t high = (int16_t)pgm_read_word(&TABLE[(counts >> 6) + 1]);
    const int16_t celsius = (int16_t)(low + (((int32_t)(high - low) * (counts & 63)) >> 6));
    const int16_t error = setpoint - celsius;
    if (celsius > 3900) {
        cut_out = true;
    }
    if (error <= 100) {
        armed = true;
        late = 0;
    } else if (late < 240) {
        late++;
    }
    alarm = armed && late == 240;
    if (cut_out) {
        return;
    }
    if (!has_before) {
        before = celsius;
        has_before = true;
    }
    /* 3.125 s of lag and 0.5 s of step: 221/256 of it stay, 5.5 / 3.625 of a change come */
    derivative = (int16_t)(((int32_t)derivative * 221 - (int32_t)(celsius - before) * 3884) >> 8);
    before = celsius;
    /* 0.22 of full for a degree is 2.2 thousandths for a hundredth: 563/256 */
    int32_t wanted = (((int32_t)error * 563) >> 8) + (integral >> 16) + derivative;
    const int32_t asked = wanted;
    if (wanted < 0) {
        wanted = 0;
    }
    if (wanted > 1000) {
        wanted = 1000;
    }
    demand = (int16_t)wanted;
    if (!(asked > wanted && error > 0) && !(asked < wanted && error < 0)) {
        integral += (int32_t)error * 172; /* 2.2 / 420 * 0.5 * 65536 */
    }
}

bool by_hand_switch(void)
{
    if (cut_out || demand == 0) {
        on_ticks = 0;
    }
    if (++tick >= 1000) {
        tick = 0;
        on_ticks = (uint16_t)demand;
    }
    return tick < on_ticks;
}
