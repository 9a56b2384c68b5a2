/* SPDX-License-Identifier: Apache-2.0
   A stiff oscillator (van der Pol): x' = v, v' = mu ((1 - x^2) v) - x + push. Exact directional derivatives; asks for an event behind every hundredth step, at
   which nothing happens. */
#define GUID "{oscillator}"
enum { X, V, RATE_X, RATE_V, MU, PUSH, POWER, N_REAL };
enum { ASKED, N_WHOLE };
#define N_TRUTH 0
#define N_STATES 2
#define N_INDICATORS 0
#define OWN_EVENTS
#define OWN_WISHES
#define OWN_DERIVATIVES
#include "fmi2.h"

static const unsigned states[] = {X, V, 0}, rates[] = {RATE_X, RATE_V, 0};
static void defaults(unit* u)
{
    u->r[X] = 2, u->r[MU] = 100;
}
static void calculate(unit* u)
{
    u->r[RATE_X] = u->r[V];
    u->r[RATE_V] = u->r[MU] * (1 - u->r[X] * u->r[X]) * u->r[V] - u->r[X] + u->r[PUSH];
    u->r[POWER] = u->r[PUSH] * u->r[V];
}
static status happen(unit* u, event_info* info)
{
    (void)info;
    ++u->i[ASKED];
    return OK;
}
static int completed(unit* u)
{
    return u->n_completed % 100 == 0;
}
static status derivatives(unit* u, unsigned known, double seed, unsigned unknown, double* value)
{
    double x = u->r[X], v = u->r[V], mu = u->r[MU];
    if (unknown == RATE_X) *value = known == V ? seed : 0;
    if (unknown == RATE_V) *value = seed * (known == X ? -2 * mu * x * v - 1 : known == V ? mu * (1 - x * x) : known == PUSH ? 1 : 0);
    if (unknown == POWER) *value = seed * (known == V ? u->r[PUSH] : known == PUSH ? v : 0);
    return OK;
}
