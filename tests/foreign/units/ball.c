/* SPDX-License-Identifier: Apache-2.0
   A body that falls and bounces; the wind pushes it; it can be held. Model exchange. */
#define GUID "{ball}"
enum { HEIGHT, SPEED, RATE_OF_HEIGHT, RATE_OF_SPEED, BOUNCE, GRAVITY, WIND, MASS, PUSH, N_REAL };
enum { HITS, N_WHOLE };
enum { HELD, LOW, N_TRUTH };
#define N_STATES 2
#define N_INDICATORS 2
#define OWN_INDICATORS
#define OWN_EVENTS
#include "fmi2.h"

static const unsigned states[] = {HEIGHT, SPEED, 0}, rates[] = {RATE_OF_HEIGHT, RATE_OF_SPEED, 0};
static void defaults(unit* u)
{
    u->r[HEIGHT] = 1, u->r[BOUNCE] = 0.8, u->r[GRAVITY] = 9.81, u->r[MASS] = 2;
}
static void calculate(unit* u)
{
    u->r[RATE_OF_HEIGHT] = u->b[HELD] ? 0 : u->r[SPEED];
    u->r[RATE_OF_SPEED] = u->b[HELD] ? 0 : -u->r[GRAVITY] + u->r[WIND] / u->r[MASS];
    u->r[PUSH] = u->r[MASS] * u->r[RATE_OF_SPEED];
}
static void indicators(unit* u, double* z)
{
    z[0] = u->r[HEIGHT], z[1] = u->r[HEIGHT] - 0.2;
}
static status happen(unit* u, event_info* info)
{
    if (u->r[HEIGHT] <= 1e-12 && u->r[SPEED] < 0 && !u->b[HELD]) {
        u->r[SPEED] *= -u->r[BOUNCE];
        ++u->i[HITS];
        info->values_changed = 1;
    }
    if (u->b[HELD] && u->r[SPEED] != 0) u->r[SPEED] = 0, info->values_changed = 1;
    u->b[LOW] = u->r[HEIGHT] < 0.2;
    return OK;
}
