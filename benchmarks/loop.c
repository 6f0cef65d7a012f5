/* The hatching cabinet's loop in plain C, for comparison: thermistor and converter, PID, half-cycle window,
 * dead time, three-node chamber (Runge-Kutta 4), probe lag. The same order and the same steps as the kernel. */
#include <math.h>

typedef struct { double heater, air, contents; } chamber;

static const double P = 60.0, CH = 95.0, GHA = 1.6, CA = 260.0, GAC = 2.0, CC = 1500.0, G = 1.1;

static chamber slopes(chamber s, double level, double ambient, double extra)
{
    const double to_air = GHA * (s.heater - s.air), to_contents = GAC * (s.air - s.contents);
    const double lost = (G + extra) * (s.air - ambient);
    return (chamber){(P * level - to_air) / CH, (to_air - to_contents - lost) / CA, to_contents / CC};
}

static chamber moved(chamber s, chamber k, double dt)
{
    return (chamber){s.heater + dt * k.heater, s.air + dt * k.air, s.contents + dt * k.contents};
}

static chamber rk4(chamber s, double level, double ambient, double extra, double dt)
{
    const chamber k1 = slopes(s, level, ambient, extra), k2 = slopes(moved(s, k1, dt / 2), level, ambient, extra);
    const chamber k3 = slopes(moved(s, k2, dt / 2), level, ambient, extra), k4 = slopes(moved(s, k3, dt), level, ambient, extra);
    return (chamber){s.heater + dt / 6 * (k1.heater + 2 * (k2.heater + k3.heater) + k4.heater),
                     s.air + dt / 6 * (k1.air + 2 * (k2.air + k3.air) + k4.air),
                     s.contents + dt / 6 * (k1.contents + 2 * (k2.contents + k3.contents) + k4.contents)};
}

static double follow(double tau, double y, double u0, double s0, double u1, double s1, double h)
{
    const double um = 0.5 * (u0 + u1) + 0.125 * h * (s0 - s1), k1 = (u0 - y) / tau;
    const double k2 = (um - y - 0.5 * h * k1) / tau, k3 = (um - y - 0.5 * h * k2) / tau, k4 = (u1 - y - h * k3) / tau;
    return y + h / 6 * (k1 + 2 * k2 + 2 * k3 + k4);
}

/* gains[0..2]: gain, integral time, derivative time; door: begin, end. Columns as in a Trace. */
int run(int steps, double dt, const double *noise, const double *gains, const double *door, double *true_celsius,
        double *probe_celsius, double *counts, double *measured, double *setpoint, double *demand, double *delivered,
        double *flags, double *edge_s, double *edge_level)
{
    const double window = 10.0, half = 0.01, dead = 4.0, tau = 14.0, sp = 37.5, ambient = 21.0, filter = 8.0;
    chamber s = {19.0, 19.0, 19.0};
    double probe = 19.0, integral = 0.0, derivative = 0.0, before = 0.0, level_now = 0.0, arriving = 0.0;
    double pulse_until = 0.0, window_until = 0.0;
    int first = 1, windows = 0, edges = 0, arrived = 0;
    for (int k = 0; k < steps; k++) {
        const double begin = k * dt, end = (k + 1) * dt;
        const double kelvin = probe + noise[k] + 273.15;
        const double ohm = 1e4 * exp(3950.0 * (1.0 / kelvin - 1.0 / 298.15));
        double code = floor(ohm / (ohm + 1e4) * 4096.0);
        code = code < 0.0 ? 0.0 : code > 4095.0 ? 4095.0 : code;
        const int fault = code < 16.0 || code > 4079.0;
        const double share = code / 4096.0, back = 1e4 * share / (1.0 - share);
        const double celsius = 1.0 / (log(back / 1e4) / 3950.0 + 1.0 / 298.15) - 273.15;
        double u = 0.0;
        if (!fault) {
            if (first) { before = celsius; first = 0; }
            const double lag = gains[2] / filter;
            derivative = (lag * derivative - gains[0] * gains[2] * (celsius - before)) / (lag + dt);
            const double e = sp - celsius, wanted = gains[0] * e + integral + derivative;
            u = wanted < 0.0 ? 0.0 : wanted > 1.0 ? 1.0 : wanted;
            const double growth = gains[0] * e / gains[1];
            if (!((wanted > u && growth > 0.0) || (wanted < u && growth < 0.0))) integral += growth * dt;
            before = celsius;
        }
        true_celsius[k] = s.air; probe_celsius[k] = probe; counts[k] = code; measured[k] = celsius;
        setpoint[k] = sp; demand[k] = u; flags[k] = fault;
        double at = begin, heat = 0.0;
        while (at < end) {
            if (at >= window_until) {
                const double on = floor(u * window / half + 0.5) * half;
                pulse_until = windows * window + on;
                window_until = ++windows * window;
                if (on >= window) pulse_until = window_until;
            }
            const double level = at < pulse_until ? 1.0 : 0.0, stop = level > 0.0 ? pulse_until : window_until;
            const double until = stop < end ? stop : end;
            if (level != level_now) { edge_s[edges] = at; edge_level[edges++] = level; level_now = level; }
            heat += level * (until - at);
            at = until;
        }
        delivered[k] = heat / (end - begin);
        at = begin;
        while (at < end) {
            while (arrived < edges && edge_s[arrived] + dead <= at) arriving = edge_level[arrived++];
            double until = end;
            if (arrived < edges && edge_s[arrived] + dead < until) until = edge_s[arrived] + dead;
            if (at < door[0] && door[0] < until) until = door[0];
            if (at < door[1] && door[1] < until) until = door[1];
            const double extra = at >= door[0] && at < door[1] ? 9.0 : 0.0, h = until - at, u0 = s.air;
            const double s0 = slopes(s, arriving, ambient, extra).air;
            s = rk4(s, arriving, ambient, extra, h);
            probe = follow(tau, probe, u0, s0, s.air, slopes(s, arriving, ambient, extra).air, h);
            at = until;
        }
    }
    return edges;
}
