/* SPDX-License-Identifier: Apache-2.0
   The controller of the leaf, in a process of its own: a PI with limits and a feed-forward, every 10 ms. It hears the angle and gives the valve its command.

   controller PORT TARGET_PORT */
#include <stdio.h>
#include <stdlib.h>

#include "link.h"

/* Where the leaf should be, in shares of 90 degrees, and how fast that moves: up from 2 s to 14 s. */
static double plan(double t, double* speed)
{
    const double top = 40.0 / 90.0, from = 2, to = 14;
    *speed = t > from && t < to ? top / (to - from) : 0;
    return t <= from ? 0 : t >= to ? top : top * (t - from) / (to - from);
}

int main(int argc, char** argv)
{
    const double gain = 2, integral_time = 60, period = 0.01, full_speed = 20.0 / 90.0;
    double integral = 0, command = 0, next = 0;
    datagram in, out;
    int link;
    if (argc < 3) {
        fprintf(stderr, "usage: controller PORT TARGET_PORT\n");
        return 2;
    }
    link = open_link(atoi(argv[1]));
    if (link < 0) {
        perror("no socket");
        return 1;
    }
    memset(&in, 0, sizeof in);
    memset(&out, 0, sizeof out);
    out.count = -1;
    while (receive_numbers(link, &in, 10000)) {
        if (in.count < 0) return 0;
        if (in.number[0] >= next - 1e-9 && in.count != out.count) {
            double speed, deviation = plan(in.number[0], &speed) - in.number[1] / 1.5707963267948966, wanted;
            wanted = gain * deviation + integral + speed / full_speed;
            command = wanted > 1 ? 1 : wanted < -1 ? -1 : wanted;
            if (command == wanted) integral += gain * deviation * period / integral_time; /* not while it is at a limit */
            next += period;
        }
        out.count = in.count;
        out.number[0] = command;
        send_numbers(link, atoi(argv[2]), &out);
    }
    fprintf(stderr, "nothing heard for 10 s\n");
    return 1;
}
