/* SPDX-License-Identifier: Apache-2.0
   A first-order lag that misbehaves from 1 s on, in the way that `fault` says; by model exchange and by co-simulation. */
#define GUID "{faulty}"
enum { X, RATE, INPUT, OUTPUT, N_REAL };
enum { FAULT, N_WHOLE };
#define N_TRUTH 0
#define N_STATES 1
#define N_INDICATORS 1
#include <signal.h>

#define OWN_INDICATORS
#define OWN_EVENTS
#define OWN_STEPS
#define OWN_DERIVATIVES
#define OWN_FAULTS
#include "fmi2.h"

enum { GOOD, NO_NUMBER, AN_ERROR, FATALLY, CRASH, ENDLESS, UNSETTLED, UNKNOWN_STATUS, NO_INSTANCE, NO_START, DISCARDS, INFINITE };
static const unsigned states[] = {X, 0}, rates[] = {RATE, 0};
static volatile int turns;
static void defaults(unit* u)
{
    u->r[X] = 0;
}
static int late(unit* u)
{
    return u->time > 1;
}
static void calculate(unit* u)
{
    u->r[RATE] = u->r[INPUT] - u->r[X];
    u->r[OUTPUT] = 2 * u->r[X];
    if (late(u) && u->i[FAULT] == NO_NUMBER) u->r[RATE] = u->r[OUTPUT] = NAN;
    if (late(u) && u->i[FAULT] == INFINITE) u->r[RATE] = u->r[OUTPUT] = INFINITY;
}
static void indicators(unit* u, double* z)
{
    z[0] = u->time - 1;
}
static status happen(unit* u, event_info* info)
{
    info->again = u->i[FAULT] == UNSETTLED && u->time > 0.5;
    return OK;
}
static status advance(unit* u, double step)
{
    u->r[X] += step * (u->r[INPUT] - u->r[X]);
    calculate(u);
    return OK;
}
static status derivatives(unit* u, unsigned known, double seed, unsigned unknown, double* value)
{
    (void)u, (void)known, (void)seed, (void)unknown;
    *value = 1e6; /* a lie: not even the sign is right */
    return OK;
}
static status guard(unit* u, const char* call)
{
    int asked = strcmp(call, "fmi2GetDerivatives") == 0 || strcmp(call, "fmi2DoStep") == 0;
    if (strcmp(call, "fmi2EnterInitializationMode") == 0 && u->i[FAULT] == NO_START) return refuse(u, call, "the oil is cold");
    if (strcmp(call, "fmi2Instantiate") == 0 && getenv("FAULTY_UNIT_MAKES_NONE") != 0) return ERROR;
    if (!asked || !late(u)) return OK;
    switch (u->i[FAULT]) {
        case AN_ERROR:
            return refuse(u, call, "the seal is gone");
        case FATALLY:
            u->calls->logger(u->calls->environment, u->name, FATAL, "logStatusFatal", "%s of %d", "shaft broken in part", 7);
            return FATAL;
        case CRASH:
            signal(SIGSEGV, SIG_DFL);
            raise(SIGSEGV);
            return OK;
        case ENDLESS:
            for (;;) ++turns;
        case UNKNOWN_STATUS:
            return (status)77;
        case DISCARDS:
            return DISCARD;
        default:
            return OK;
    }
}
