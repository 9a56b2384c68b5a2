/* SPDX-License-Identifier: Apache-2.0
   The frame of a unit of FMI 2.0, written by hand from the standard's text for tests; it shares nothing with Net Loop. A unit includes it behind the definition
   of N_REAL, N_WHOLE, N_TRUTH, N_STATES, N_INDICATORS, GUID, and gives the functions declared below. Calls in a mode where the standard forbids them are
   refused: whoever drives these units has to keep to its state machine. */
#include <math.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

typedef enum { OK, WARNING, DISCARD, ERROR, FATAL, PENDING } status;
typedef struct {
    void (*logger)(void*, const char*, status, const char*, const char*, ...);
    void* (*allocate)(size_t, size_t);
    void (*release)(void*);
    void (*finished)(void*, status);
    void* environment;
} callbacks;
typedef struct {
    int again, terminate, nominals_changed, values_changed, next_defined;
    double next;
} event_info;

enum { INSTANTIATED = 1, INITIALIZATION = 2, EVENT = 4, CONTINUOUS = 8, STEPPED = 16, TERMINATED = 32, BROKEN = 64 };
typedef struct {
    double r[N_REAL + 1];
    int i[N_WHOLE + 1], b[N_TRUTH + 1];
    double time, tolerance;
    int mode, cosimulation, n_completed;
    const callbacks* calls;
    char name[64];
} unit;

/* states[k], rates[k]: references into r */
static const unsigned states[N_STATES + 1], rates[N_STATES + 1];
static void defaults(unit* u);
static void calculate(unit* u); /* all that follows from time, states, inputs and params */
static status refuse(unit* u, const char* call, const char* why)
{
    u->calls->logger(u->calls->environment, u->name, ERROR, "logStatusError", "%s: %s", call, why);
    return ERROR;
}
/* What a unit does not do itself; one that does says so by OWN_... and has the function. */
#ifdef OWN_INDICATORS
static void indicators(unit* u, double* z);
#else
static void indicators(unit* u, double* z)
{
    (void)u, (void)z;
}
#endif
#ifdef OWN_EVENTS
static status happen(unit* u, event_info* info);
#else
static status happen(unit* u, event_info* info)
{
    (void)info;
    return refuse(u, "fmi2NewDiscreteStates", "for co-simulation only");
}
#endif
#ifdef OWN_STEPS
static status advance(unit* u, double step);
#else
static status advance(unit* u, double step)
{
    (void)step;
    return refuse(u, "fmi2DoStep", "for model exchange only");
}
#endif
#ifdef OWN_WISHES
static int completed(unit* u); /* whether an event is wanted behind a step */
#else
static int completed(unit* u)
{
    (void)u;
    return 0;
}
#endif
#ifdef OWN_DERIVATIVES
static status derivatives(unit* u, unsigned known, double seed, unsigned unknown, double* value);
#else
static status derivatives(unit* u, unsigned known, double seed, unsigned unknown, double* value)
{
    (void)known, (void)seed, (void)unknown, (void)value;
    return refuse(u, "fmi2GetDirectionalDerivative", "not provided");
}
#endif
#ifdef OWN_FAULTS
static status guard(unit* u, const char* call); /* for units that misbehave */
#else
static status guard(unit* u, const char* call)
{
    (void)u, (void)call;
    return OK;
}
#endif
#ifdef OWN_END
static int terminated(unit* u);
#else
static int terminated(unit* u)
{
    (void)u;
    return 0;
}
#endif

#define ALLOWED(modes, call)                                                  \
    do {                                                                      \
        status allowed_;                                                      \
        if (!(u->mode & (modes))) return refuse(u, call, "not in this mode"); \
        allowed_ = guard(u, call);                                            \
        if (allowed_ != OK) return allowed_;                                  \
    } while (0)

const char* fmi2GetTypesPlatform(void)
{
    return "default";
}
const char* fmi2GetVersion(void)
{
    return "2.0";
}
void* fmi2Instantiate(const char* name, int type, const char* guid, const char* resources, const callbacks* calls, int visible, int logging)
{
    unit* u;
    (void)visible, (void)logging;
    if (strcmp(guid, GUID) != 0 || strncmp(resources, "file:///", 8) != 0) return 0;
    u = calls->allocate(1, sizeof *u);
    if (u == 0) return 0;
    u->mode = INSTANTIATED;
    u->cosimulation = type;
    u->calls = calls;
    strncpy(u->name, name, sizeof u->name - 1);
    defaults(u);
    if (guard(u, "fmi2Instantiate") != OK) {
        calls->release(u);
        return 0;
    }
    return u;
}
void fmi2FreeInstance(void* c)
{
    unit* u = c;
    if (u != 0) u->calls->release(u);
}
status fmi2SetupExperiment(void* c, int has_tolerance, double tolerance, double start, int has_stop, double stop)
{
    unit* u = c;
    (void)has_stop, (void)stop;
    ALLOWED(INSTANTIATED, "fmi2SetupExperiment");
    u->tolerance = has_tolerance ? tolerance : 0;
    u->time = start;
    return OK;
}
status fmi2EnterInitializationMode(void* c)
{
    unit* u = c;
    ALLOWED(INSTANTIATED, "fmi2EnterInitializationMode");
    u->mode = INITIALIZATION;
    return OK;
}
status fmi2ExitInitializationMode(void* c)
{
    unit* u = c;
    ALLOWED(INITIALIZATION, "fmi2ExitInitializationMode");
    u->mode = u->cosimulation ? STEPPED : EVENT;
    return OK;
}
status fmi2Terminate(void* c)
{
    unit* u = c;
    ALLOWED(EVENT | CONTINUOUS | STEPPED, "fmi2Terminate");
    u->mode = TERMINATED;
    return OK;
}
status fmi2Reset(void* c)
{
    unit* u = c;
    u->mode = INSTANTIATED;
    defaults(u);
    return OK;
}
#define READ (INITIALIZATION | EVENT | CONTINUOUS | STEPPED | TERMINATED)
status fmi2GetReal(void* c, const unsigned* at, size_t n, double* v)
{
    unit* u = c;
    size_t k;
    ALLOWED(READ, "fmi2GetReal");
    calculate(u);
    for (k = 0; k < n; ++k) {
        if (at[k] >= N_REAL) return refuse(u, "fmi2GetReal", "no such reference");
        v[k] = u->r[at[k]];
    }
    return OK;
}
status fmi2SetReal(void* c, const unsigned* at, size_t n, const double* v)
{
    unit* u = c;
    size_t k;
    ALLOWED(INSTANTIATED | INITIALIZATION | EVENT | CONTINUOUS | STEPPED, "fmi2SetReal");
    for (k = 0; k < n; ++k) {
        if (at[k] >= N_REAL || v[k] != v[k]) return refuse(u, "fmi2SetReal", "no such reference, or no number");
        u->r[at[k]] = v[k];
    }
    return OK;
}
#define WHOLE(get, set, field, count, type)                                       \
    status get(void* c, const unsigned* at, size_t n, type* v)                    \
    {                                                                             \
        unit* u = c;                                                              \
        size_t k;                                                                 \
        ALLOWED(READ, #get);                                                      \
        calculate(u);                                                             \
        for (k = 0; k < n; ++k) {                                                 \
            if ((int)at[k] >= count) return refuse(u, #get, "no such reference"); \
            v[k] = u->field[at[k]];                                               \
        }                                                                         \
        return OK;                                                                \
    }                                                                             \
    status set(void* c, const unsigned* at, size_t n, const type* v)              \
    {                                                                             \
        unit* u = c;                                                              \
        size_t k;                                                                 \
        ALLOWED(INSTANTIATED | INITIALIZATION | EVENT | STEPPED, #set);           \
        for (k = 0; k < n; ++k) {                                                 \
            if ((int)at[k] >= count) return refuse(u, #set, "no such reference"); \
            u->field[at[k]] = v[k];                                               \
        }                                                                         \
        return OK;                                                                \
    }
WHOLE(fmi2GetInteger, fmi2SetInteger, i, N_WHOLE, int)
WHOLE(fmi2GetBoolean, fmi2SetBoolean, b, N_TRUTH, int)

status fmi2EnterEventMode(void* c)
{
    unit* u = c;
    ALLOWED(CONTINUOUS, "fmi2EnterEventMode");
    u->mode = EVENT;
    return OK;
}
status fmi2NewDiscreteStates(void* c, event_info* info)
{
    unit* u = c;
    ALLOWED(EVENT, "fmi2NewDiscreteStates");
    memset(info, 0, sizeof *info);
    return happen(u, info);
}
status fmi2EnterContinuousTimeMode(void* c)
{
    unit* u = c;
    ALLOWED(EVENT, "fmi2EnterContinuousTimeMode");
    u->mode = CONTINUOUS;
    return OK;
}
status fmi2CompletedIntegratorStep(void* c, int no_set_before, int* enter, int* terminate)
{
    unit* u = c;
    (void)no_set_before;
    ALLOWED(CONTINUOUS, "fmi2CompletedIntegratorStep");
    ++u->n_completed;
    *enter = completed(u);
    *terminate = 0;
    return OK;
}
status fmi2SetTime(void* c, double t)
{
    unit* u = c;
    ALLOWED(EVENT | CONTINUOUS, "fmi2SetTime");
    u->time = t;
    return OK;
}
status fmi2SetContinuousStates(void* c, const double* x, size_t n)
{
    unit* u = c;
    size_t k;
    ALLOWED(CONTINUOUS, "fmi2SetContinuousStates");
    if (n != N_STATES) return refuse(u, "fmi2SetContinuousStates", "another number of states");
    for (k = 0; k < n; ++k) u->r[states[k]] = x[k];
    return OK;
}
status fmi2GetContinuousStates(void* c, double* x, size_t n)
{
    unit* u = c;
    size_t k;
    ALLOWED(INITIALIZATION | EVENT | CONTINUOUS, "fmi2GetContinuousStates");
    if (n != N_STATES) return refuse(u, "fmi2GetContinuousStates", "another number of states");
    for (k = 0; k < n; ++k) x[k] = u->r[states[k]];
    return OK;
}
status fmi2GetDerivatives(void* c, double* x, size_t n)
{
    unit* u = c;
    size_t k;
    ALLOWED(EVENT | CONTINUOUS, "fmi2GetDerivatives");
    if (n != N_STATES) return refuse(u, "fmi2GetDerivatives", "another number of states");
    calculate(u);
    for (k = 0; k < n; ++k) x[k] = u->r[rates[k]];
    return OK;
}
status fmi2GetEventIndicators(void* c, double* z, size_t n)
{
    unit* u = c;
    ALLOWED(EVENT | CONTINUOUS, "fmi2GetEventIndicators");
    if (n != N_INDICATORS) return refuse(u, "fmi2GetEventIndicators", "another number of indicators");
    calculate(u);
    indicators(u, z);
    return OK;
}
status fmi2GetDirectionalDerivative(void* c, const unsigned* unknown, size_t n_unknown, const unsigned* known, size_t n_known, const double* seed, double* v)
{
    unit* u = c;
    size_t i, j;
    ALLOWED(INITIALIZATION | EVENT | CONTINUOUS, "fmi2GetDirectionalDerivative");
    calculate(u);
    for (i = 0; i < n_unknown; ++i) {
        v[i] = 0;
        for (j = 0; j < n_known; ++j) {
            double one = 0;
            status s = derivatives(u, known[j], seed[j], unknown[i], &one);
            if (s != OK) return s;
            v[i] += one;
        }
    }
    return OK;
}
status fmi2DoStep(void* c, double t, double step, int no_set_before)
{
    unit* u = c;
    status s;
    (void)no_set_before;
    ALLOWED(STEPPED, "fmi2DoStep");
    if (fabs(t - u->time) > 1e-9 * (1 + fabs(t))) return refuse(u, "fmi2DoStep", "the unit stands at another time");
    if (!(step > 0)) return refuse(u, "fmi2DoStep", "a step goes forwards");
    s = advance(u, step);
    u->time = t + step;
    return s;
}
status fmi2GetBooleanStatus(void* c, int kind, int* value)
{
    unit* u = c;
    if (kind != 3) return DISCARD;
    *value = terminated(u);
    return OK;
}
