/* What the translated steps stand on: Python's arithmetic where it differs from C's, columns, random numbers. */
#include <math.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdlib.h>

#define EXPORTED __attribute__((visibility("default")))

typedef struct { double *p; int64_t n; } column;
typedef struct { double *p; int64_t n, m; } table;
typedef struct { int64_t *p; int64_t n; } counts;
typedef struct { bool *p; int64_t n; } flags;
typedef struct { float *p; int64_t n; } singles;

/* min and max keep their first argument where neither is the smaller, as Python's do with NaN */
static inline double smaller(double a, double b) { return b < a ? b : a; }
static inline double larger(double a, double b) { return b > a ? b : a; }
static inline int64_t smaller_whole(int64_t a, int64_t b) { return b < a ? b : a; }
static inline int64_t larger_whole(int64_t a, int64_t b) { return b > a ? b : a; }

/* a whole number out of a fraction, towards zero; where there is none: 0 for NaN, else the nearest there is */
static inline int64_t whole(double x)
{
    if (x > -9.2e18 && x < 9.2e18) return (int64_t)x;
    return isnan(x) ? 0 : x < 0.0 ? INT64_MIN : INT64_MAX;
}
static inline int64_t floor_whole(double x)
{
    const int64_t i = whole(x);
    return x < (double)i && i > INT64_MIN ? i - 1 : i;
}

/* division of whole numbers towards minus infinity, and the rest that belongs to it; by 0: 0 */
static inline int64_t quotient_whole(int64_t a, int64_t b)
{
    if (b == 0 || b == -1) return b == 0 ? 0 : (int64_t)(0 - (uint64_t)a);
    return a / b - (a % b != 0 && (a < 0) != (b < 0));
}
static inline int64_t modulo_whole(int64_t a, int64_t b)
{
    if (b == 0 || b == -1) return 0;
    const int64_t r = a % b;
    return r != 0 && (r < 0) != (b < 0) ? r + b : r;
}
static inline double modulo(double a, double b)
{
    const double r = fmod(a, b);
    if (r == 0.0) return copysign(0.0, b);
    return (r < 0.0) != (b < 0.0) ? r + b : r;
}

static inline column row_of(table t, int64_t k) { return (column){t.p + k * t.m, t.m}; }
static inline column row_from(column r, int64_t k) { return (column){r.p + k, r.n - k}; }
static inline void fill(column r, double x) { for (int64_t k = 0; k < r.n; k++) r.p[k] = x; }

/* a program by its address: void f(void *state, const float *given, float *row) */
static inline void call_address(int64_t function, int64_t state, singles given, singles row)
{
    ((void (*)(void *, const float *, float *))(intptr_t)function)((void *)(intptr_t)state, given.p, row.p);
}

/* counts how often an emulated chip calls it: once an instruction */
EXPORTED void calor_count(void *emulator, uint64_t address, uint32_t size, int64_t *total)
{
    (void)emulator; (void)address; (void)size;
    *total += 1;
}

/* random numbers: MT19937 and pairs by the polar method, a series for each thread */
static _Thread_local struct { uint32_t word[624]; int at; bool has_second; double second; } series;

static inline void noise_seed(int64_t number)
{
    uint32_t x = (uint32_t)number;
    for (int k = 0; k < 624; k++) {
        series.word[k] = x;
        x = 1812433253u * (x ^ (x >> 30)) + (uint32_t)k + 1u;
    }
    series.at = 624;
    series.has_second = false;
}
static uint32_t noise_word(void)
{
    uint32_t *const word = series.word;
    if (series.at >= 624) {
        for (int k = 0; k < 624; k++) {
            const uint32_t y = (word[k] & 0x80000000u) | (word[(k + 1) % 624] & 0x7fffffffu);
            word[k] = word[(k + 397) % 624] ^ (y >> 1) ^ ((y & 1u) ? 0x9908b0dfu : 0u);
        }
        series.at = 0;
    }
    uint32_t y = word[series.at++];
    y ^= y >> 11;
    y ^= (y << 7) & 0x9d2c5680u;
    y ^= (y << 15) & 0xefc60000u;
    return y ^ (y >> 18);
}
static double noise_share(void)
{
    const uint32_t high = noise_word() >> 5, low = noise_word() >> 6;
    return (high * 67108864.0 + low) / 9007199254740992.0;
}
static inline double noise_normal(void)
{
    if (series.has_second) {
        series.has_second = false;
        return series.second;
    }
    double x, y, square;
    do {
        x = 2.0 * noise_share() - 1.0;
        y = 2.0 * noise_share() - 1.0;
        square = x * x + y * y;
    } while (square >= 1.0 || square == 0.0);
    const double scale = sqrt(-2.0 * log(square) / square);
    series.second = scale * x;
    series.has_second = true;
    return scale * y;
}
