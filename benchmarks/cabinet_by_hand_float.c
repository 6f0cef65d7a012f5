/* The hatching cabinet's thermostat as one writes it by hand, in float: what the generated C is measured against. */
#include <math.h>
#include <stdbool.h>
#include <stdint.h>

volatile uint16_t reading;
volatile uint8_t out, alarm;

static float setpoint = 37.5f, demand, integral, derivative, before;
static bool has_before, cut_out, armed;
static uint8_t late;
static uint16_t tick, on_ticks;

static float celsius_of(uint16_t counts)
{
    const float share = (float)counts / 4096.0f;
    return 1.0f / (1.0f / 298.15f + logf(share / (1.0f - share)) / 3950.0f) - 273.15f;
}

void by_hand_step(uint16_t counts)
{
    demand = 0.0f;
    if (counts < 16 || counts > 4079) {
        has_before = false;
        return;
    }
    const float celsius = celsius_of(counts);
    const float error = setpoint - celsius;
    if (celsius > 39.0f) {
        cut_out = true;
    }
    if (error <= 1.0f) {
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
    derivative = (3.125f * derivative - 0.22f * 25.0f * (celsius - before)) / (3.125f + 0.5f);
    before = celsius;
    const float wanted = 0.22f * error + integral + derivative;
    demand = wanted < 0.0f ? 0.0f : (wanted > 1.0f ? 1.0f : wanted);
    if (!(wanted > demand && error > 0.0f) && !(wanted < demand && error < 0.0f)) {
        integral += 0.22f / 420.0f * 0.5f * error;
    }
}

bool by_hand_switch(void)
{
    if (cut_out || demand == 0.0f) {
        on_ticks = 0;
    }
    if (++tick >= 1000) {
        tick = 0;
        on_ticks = (uint16_t)(demand * 1000.0f + 0.5f);
    }
    return tick < on_ticks;
}
