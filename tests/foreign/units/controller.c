/* SPDX-License-Identifier: Apache-2.0
   A sampled controller with limits (proportional and integral), by co-simulation; ends the run when it is told to stop. */
#define GUID "{controller}"
enum { WANTED, MEASURED, COMMAND, GAIN, TIME_OF_INTEGRAL, SUM, N_REAL };
enum { LAW, N_WHOLE };
enum { SATURATED, STOP, N_TRUTH };
#define N_STATES 0
#define N_INDICATORS 0
#include "fmi2.h"

static const unsigned states[] = {0}, rates[] = {0};
static void defaults(unit* u) { u->r[GAIN] = 2, u->r[TIME_OF_INTEGRAL] = 0.5, u->i[LAW] = 2; }
static void calculate(unit* u) { (void)u; }
static void indicators(unit* u, double* z) { (void)u, (void)z; }
static status happen(unit* u, event_info* info)
{
    (void)info;
    return refuse(u, "fmi2NewDiscreteStates", "for co-simulation only");
}
static status advance(unit* u, double step)
{
    double off = u->r[WANTED] - u->r[MEASURED], raw;
    if (u->b[STOP]) return DISCARD;
    raw = u->r[GAIN] * off + (u->i[LAW] == 2 ? u->r[SUM] + u->r[GAIN] * off * step / u->r[TIME_OF_INTEGRAL] : 0);
    u->b[SATURATED] = raw > 1 || raw < -1;
    if (!u->b[SATURATED] && u->i[LAW] == 2) u->r[SUM] += u->r[GAIN] * off * step / u->r[TIME_OF_INTEGRAL];
    u->r[COMMAND] = raw > 1 ? 1 : raw < -1 ? -1 : raw;
    return OK;
}
static int completed(unit* u)
{
    (void)u;
    return 0;
}
static status derivatives(unit* u, unsigned known, double seed, unsigned unknown, double* value)
{
    (void)known, (void)seed, (void)unknown, (void)value;
    return refuse(u, "fmi2GetDirectionalDerivative", "not provided");
}
static status guard(unit* u, const char* call)
{
    (void)u, (void)call;
    return OK;
}
static int terminated(unit* u)
{
    (void)u;
    return u->b[STOP];
}
