/* SPDX-License-Identifier: Apache-2.0
   A sampled controller with limits (proportional and integral), by co-simulation; ends the run when it is told to stop. */
#define GUID "{controller}"
enum { WANTED, MEASURED, COMMAND, GAIN, TIME_OF_INTEGRAL, SUM, N_REAL };
enum { LAW, N_WHOLE };
enum { SATURATED, STOP, N_TRUTH };
#define N_STATES 0
#define N_INDICATORS 0
#define OWN_STEPS
#define OWN_END
#include "fmi2.h"

static const unsigned states[] = {0}, rates[] = {0};
static void defaults(unit* u)
{
    u->r[GAIN] = 2, u->r[TIME_OF_INTEGRAL] = 0.5, u->i[LAW] = 2;
}
static void calculate(unit* u)
{
    (void)u;
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
static int terminated(unit* u)
{
    (void)u;
    return u->b[STOP];
}
