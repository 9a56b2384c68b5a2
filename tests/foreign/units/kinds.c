/* SPDX-License-Identifier: Apache-2.0
   A unit of FMI 3.0 with every kind of number, arrays, a text and an enumeration; model exchange and co-simulation. Written by hand from the standard's text.
   x[k]' = -rate[k] x[k] + sum of the inputs (k = 1, 2); outputs tell what came in. */
#include <math.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

typedef enum { OK, WARNING, DISCARD, ERROR, FATAL } status;
typedef void (*log_message)(void*, status, const char*, const char*);
enum { INSTANTIATED = 1, INITIALIZATION = 2, EVENT = 4, CONTINUOUS = 8, STEPPED = 16, TERMINATED = 32 };
/* references */
enum { TIME, X, RATES_OF_X, RATE, INPUTS, SUM, F32, I8, U8, I16, U16, I32, U32, I64, U64, TRUTH, TEXT, LAW, ECHO, ECHO_TRUTH, ECHO_I64, ECHO_F32 };

typedef struct {
    double time, x[2], dx[2], rate[2], inputs[2], sum, echo;
    float f32, echo_f32;
    int8_t i8;
    uint8_t u8;
    int16_t i16;
    uint16_t u16;
    int32_t i32;
    uint32_t u32;
    int64_t i64, law, echo_i64;
    uint64_t u64;
    bool truth, echo_truth, cosimulation;
    int mode;
    void* environment;
    log_message log;
} unit;

static status refuse(unit* u, const char* why)
{
    if (u->log != 0) u->log(u->environment, ERROR, "logStatusError", why);
    return ERROR;
}
#define ALLOWED(modes) \
    if (!(u->mode & (modes))) return refuse(u, "not in this mode")

static void calculate(unit* u)
{
    u->sum = u->inputs[0] + u->inputs[1];
    u->dx[0] = -u->rate[0] * u->x[0] + u->sum;
    u->dx[1] = -u->rate[1] * u->x[1] + u->sum;
    u->echo = (double)u->f32 + u->i8 + u->u8 + u->i16 + u->u16 + (double)u->i32 + (double)u->u32 + (double)u->u64 + (double)u->law;
    u->echo_f32 = 2 * u->f32;
}

static unit* make(const char* token, const char* resources, void* environment, log_message log)
{
    unit* u;
    if (strcmp(token, "{kinds}") != 0 || resources[strlen(resources) - 1] != '/') return 0;
    u = calloc(1, sizeof *u);
    if (u == 0) return 0;
    u->mode = INSTANTIATED;
    u->environment = environment;
    u->log = log;
    u->x[0] = 1, u->x[1] = 2, u->rate[0] = 1, u->rate[1] = 3, u->f32 = 0.5f;
    u->law = 1;
    return u;
}
void* fmi3InstantiateModelExchange(const char* name, const char* token, const char* resources, bool visible, bool logging, void* environment, log_message log)
{
    (void)name, (void)visible, (void)logging;
    return make(token, resources, environment, log);
}
void* fmi3InstantiateCoSimulation(const char* name, const char* token, const char* resources, bool visible, bool logging, bool events, bool early,
                                  const uint32_t* required, size_t n_required, void* environment, log_message log, void* intermediate)
{
    unit* u;
    (void)name, (void)visible, (void)logging, (void)required, (void)intermediate;
    if (events || early || n_required != 0) return 0;
    u = make(token, resources, environment, log);
    if (u != 0) u->cosimulation = true;
    return u;
}
void fmi3FreeInstance(void* c)
{
    free(c);
}
status fmi3EnterInitializationMode(void* c, bool has_tolerance, double tolerance, double start, bool has_stop, double stop)
{
    unit* u = c;
    (void)has_tolerance, (void)tolerance, (void)has_stop, (void)stop;
    ALLOWED(INSTANTIATED);
    u->time = start;
    u->mode = INITIALIZATION;
    return OK;
}
status fmi3ExitInitializationMode(void* c)
{
    unit* u = c;
    ALLOWED(INITIALIZATION);
    u->mode = u->cosimulation ? STEPPED : EVENT;
    u->echo_truth = u->truth, u->echo_i64 = u->i64;
    return OK;
}
status fmi3Terminate(void* c)
{
    unit* u = c;
    ALLOWED(EVENT | CONTINUOUS | STEPPED);
    u->mode = TERMINATED;
    return OK;
}
#define READ (INITIALIZATION | EVENT | CONTINUOUS | STEPPED | TERMINATED)
#define WRITE (INSTANTIATED | INITIALIZATION | EVENT | STEPPED)
#define ONE(type, word, reference_in, field_in, reference_out, field_out)                               \
    status fmi3Get##word(void* c, const uint32_t* at, size_t n, type* v, size_t n_values)               \
    {                                                                                                   \
        unit* u = c;                                                                                    \
        size_t k;                                                                                       \
        ALLOWED(READ);                                                                                  \
        calculate(u);                                                                                   \
        if (n != n_values) return refuse(u, "another number of values");                                \
        for (k = 0; k < n; ++k) {                                                                       \
            if (at[k] != reference_in && at[k] != reference_out) return refuse(u, "no such reference"); \
            v[k] = at[k] == reference_out ? u->field_out : u->field_in;                                 \
        }                                                                                               \
        return OK;                                                                                      \
    }                                                                                                   \
    status fmi3Set##word(void* c, const uint32_t* at, size_t n, const type* v, size_t n_values)         \
    {                                                                                                   \
        unit* u = c;                                                                                    \
        size_t k;                                                                                       \
        ALLOWED(WRITE);                                                                                 \
        if (n != n_values) return refuse(u, "another number of values");                                \
        for (k = 0; k < n; ++k) {                                                                       \
            if (at[k] != reference_in) return refuse(u, "no such reference");                           \
            u->field_in = v[k];                                                                         \
        }                                                                                               \
        return OK;                                                                                      \
    }
ONE(float, Float32, F32, f32, ECHO_F32, echo_f32)
ONE(int8_t, Int8, I8, i8, I8, i8)
ONE(uint8_t, UInt8, U8, u8, U8, u8)
ONE(int16_t, Int16, I16, i16, I16, i16)
ONE(uint16_t, UInt16, U16, u16, U16, u16)
ONE(int32_t, Int32, I32, i32, I32, i32)
ONE(uint32_t, UInt32, U32, u32, U32, u32)
ONE(uint64_t, UInt64, U64, u64, U64, u64)
ONE(bool, Boolean, TRUTH, truth, ECHO_TRUTH, echo_truth)

static int64_t* whole(unit* u, uint32_t reference)
{
    return reference == I64 ? &u->i64 : reference == LAW ? &u->law : reference == ECHO_I64 ? &u->echo_i64 : 0;
}
status fmi3GetInt64(void* c, const uint32_t* at, size_t n, int64_t* v, size_t n_values)
{
    unit* u = c;
    size_t k;
    ALLOWED(READ);
    for (k = 0; k < n && k < n_values; ++k) v[k] = *whole(u, at[k]);
    return OK;
}
status fmi3SetInt64(void* c, const uint32_t* at, size_t n, const int64_t* v, size_t n_values)
{
    unit* u = c;
    size_t k;
    ALLOWED(WRITE);
    for (k = 0; k < n && k < n_values; ++k) *whole(u, at[k]) = v[k];
    return OK;
}
static double* real(unit* u, uint32_t reference, size_t* n)
{
    *n = reference == X || reference == RATES_OF_X || reference == RATE || reference == INPUTS ? 2 : 1;
    return reference == X            ? u->x
           : reference == RATES_OF_X ? u->dx
           : reference == RATE       ? u->rate
           : reference == INPUTS     ? u->inputs
           : reference == SUM        ? &u->sum
           : reference == ECHO       ? &u->echo
                                     : 0;
}
status fmi3GetFloat64(void* c, const uint32_t* at, size_t n, double* v, size_t n_values)
{
    unit* u = c;
    size_t k, e, size, done = 0;
    ALLOWED(READ);
    calculate(u);
    for (k = 0; k < n; ++k) {
        double* from = real(u, at[k], &size);
        if (from == 0 || done + size > n_values) return refuse(u, "no such reference, or too little room");
        for (e = 0; e < size; ++e) v[done++] = from[e];
    }
    return done == n_values ? OK : refuse(u, "too much room");
}
status fmi3SetFloat64(void* c, const uint32_t* at, size_t n, const double* v, size_t n_values)
{
    unit* u = c;
    size_t k, e, size, done = 0;
    ALLOWED(WRITE | CONTINUOUS);
    for (k = 0; k < n; ++k) {
        double* to = real(u, at[k], &size);
        if (to == 0 || done + size > n_values) return refuse(u, "no such reference, or too few values");
        for (e = 0; e < size; ++e) to[e] = v[done++];
    }
    return done == n_values ? OK : refuse(u, "too many values");
}
status fmi3EnterEventMode(void* c)
{
    unit* u = c;
    ALLOWED(CONTINUOUS);
    u->mode = EVENT;
    return OK;
}
status fmi3UpdateDiscreteStates(void* c, bool* again, bool* terminate, bool* nominals, bool* moved, bool* defined, double* next)
{
    unit* u = c;
    ALLOWED(EVENT);
    u->echo_truth = u->truth, u->echo_i64 = u->i64;
    *again = *terminate = *nominals = *moved = false;
    /* asks to be told at 0.25 s, and counts it */
    *defined = u->time < 0.25;
    *next = 0.25;
    if (u->time >= 0.25) u->echo_i64 = u->i64 + 100;
    return OK;
}
status fmi3EnterContinuousTimeMode(void* c)
{
    unit* u = c;
    ALLOWED(EVENT);
    u->mode = CONTINUOUS;
    return OK;
}
status fmi3CompletedIntegratorStep(void* c, bool no_set_before, bool* enter, bool* terminate)
{
    unit* u = c;
    (void)no_set_before;
    ALLOWED(CONTINUOUS);
    *enter = *terminate = false;
    return OK;
}
status fmi3SetTime(void* c, double t)
{
    unit* u = c;
    ALLOWED(CONTINUOUS);
    u->time = t;
    return OK;
}
status fmi3SetContinuousStates(void* c, const double* x, size_t n)
{
    unit* u = c;
    ALLOWED(CONTINUOUS);
    if (n != 2) return refuse(u, "another number of states");
    u->x[0] = x[0], u->x[1] = x[1];
    return OK;
}
status fmi3GetContinuousStates(void* c, double* x, size_t n)
{
    unit* u = c;
    ALLOWED(INITIALIZATION | EVENT | CONTINUOUS);
    if (n != 2) return refuse(u, "another number of states");
    x[0] = u->x[0], x[1] = u->x[1];
    return OK;
}
status fmi3GetContinuousStateDerivatives(void* c, double* dx, size_t n)
{
    unit* u = c;
    ALLOWED(INITIALIZATION | EVENT | CONTINUOUS);
    if (n != 2) return refuse(u, "another number of states");
    calculate(u);
    dx[0] = u->dx[0], dx[1] = u->dx[1];
    return OK;
}
status fmi3GetEventIndicators(void* c, double* z, size_t n)
{
    unit* u = c;
    (void)z;
    return n == 0 ? OK : refuse(u, "no indicators");
}
status fmi3DoStep(void* c, double t, double step, bool no_set_before, bool* event, bool* terminate, bool* early, double* reached)
{
    unit* u = c;
    int k, n = 1000;
    (void)no_set_before;
    ALLOWED(STEPPED);
    for (k = 0; k < n; ++k) { /* by the midpoint */
        double h = step / n, x0 = u->x[0], x1 = u->x[1];
        calculate(u);
        u->x[0] += h / 2 * u->dx[0], u->x[1] += h / 2 * u->dx[1];
        calculate(u);
        u->x[0] = x0 + h * u->dx[0], u->x[1] = x1 + h * u->dx[1];
    }
    u->time = t + step;
    *event = *terminate = *early = false;
    *reached = u->time;
    return OK;
}
