/* SPDX-License-Identifier: Apache-2.0
   A stand-in for a real-time target: the exported leaf of the bridge steps every millisecond in a thread of its own priority, where this computer allows one,
   and talks with its controller over UDP. At the end it tells how long its steps took and how many deadlines it lost.

   target PORT CONTROLLER_PORT SECONDS [lockstep]
   lockstep: each step waits for the controller's answer to the one before, as fast as it goes: the same numbers every time. */
#ifndef _GNU_SOURCE
#define _GNU_SOURCE
#endif
#include <errno.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/mman.h>
#include <time.h>

#include "leaf.h"
#include "link.h"

enum { N_CLASSES = 24 };

static double seconds_between(const struct timespec* a, const struct timespec* b)
{
    return (double)(b->tv_sec - a->tv_sec) + 1e-9 * (double)(b->tv_nsec - a->tv_nsec);
}

int main(int argc, char** argv)
{
    static leaf machine; /* no page of it is missing when it is needed */
    unsigned long classes[N_CLASSES] = {0}, lost = 0, unheard = 0, n, k;
    int here, there, lockstep, link, i, status, quick;
    double longest = 0, latest = 0, sum = 0;
    struct sched_param priority;
    struct timespec next, begin, end;
    datagram out, in;
    if (argc < 4) {
        fprintf(stderr, "usage: target PORT CONTROLLER_PORT SECONDS [lockstep]\n");
        return 2;
    }
    here = atoi(argv[1]);
    there = atoi(argv[2]);
    n = (unsigned long)(atof(argv[3]) / leaf_STEP + 0.5);
    lockstep = argc > 4 && strcmp(argv[4], "lockstep") == 0;
    link = open_link(here);
    if (link < 0) {
        perror("no socket");
        return 1;
    }
    priority.sched_priority = 80;
    quick = !lockstep && sched_setscheduler(0, SCHED_FIFO, &priority) == 0;
    if (!lockstep && mlockall(MCL_CURRENT | MCL_FUTURE) != 0) fprintf(stderr, "note: memory is not locked here (%s)\n", strerror(errno));
    if (!lockstep && !quick) fprintf(stderr, "note: no priority of real time here: other programs may come between\n");
    memset(&out, 0, sizeof out);
    memset(&in, 0, sizeof in);
    leaf_init(&machine);
    status = leaf_begin(&machine);
    clock_gettime(CLOCK_MONOTONIC, &next);
    for (k = 0; k < n && status == leaf_GOOD; ++k) {
        leaf_look(&machine);
        out.count = (double)k;
        out.number[0] = leaf_time(&machine);
        for (i = 0; i < leaf_N_OUTPUTS; ++i) out.number[1 + i] = leaf_get(&machine, i);
        send_numbers(link, there, &out);
        if (lockstep) {
            /* the answer to this very step, asked for again if it got lost */
            int tries = 0;
            while (!(receive_numbers(link, &in, 200) && in.count == out.count)) {
                if (++tries > 100) {
                    fprintf(stderr, "the controller does not answer\n");
                    return 1;
                }
                send_numbers(link, there, &out);
            }
        } else if (!receive_numbers(link, &in, 0)) {
            ++unheard; /* the command before holds */
        }
        for (i = 0; i < leaf_N_INPUTS; ++i) leaf_set_input(&machine, i, in.number[i]);
        clock_gettime(CLOCK_MONOTONIC, &begin);
        status = leaf_step(&machine);
        clock_gettime(CLOCK_MONOTONIC, &end);
        {
            double took = seconds_between(&begin, &end), bound = 0.5e-6;
            for (i = 0; i < N_CLASSES - 1 && took > bound; ++i) bound *= 2;
            ++classes[i];
            sum += took;
            if (took > longest) longest = took;
        }
        if (lockstep) continue;
        next.tv_nsec += (long)(leaf_STEP * 1e9 + 0.5);
        while (next.tv_nsec >= 1000000000L) next.tv_nsec -= 1000000000L, ++next.tv_sec;
        clock_gettime(CLOCK_MONOTONIC, &end);
        if (seconds_between(&next, &end) > 0) {
            ++lost;
            next = end; /* from here on again: a lost deadline is not run after */
            continue;
        }
        while (clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &next, 0) == EINTR) {
        }
        clock_gettime(CLOCK_MONOTONIC, &end);
        if (seconds_between(&next, &end) > latest) latest = seconds_between(&next, &end);
    }
    out.count = -1;
    for (i = 0; i < 5; ++i) send_numbers(link, there, &out);
    close(link);
    printf("%lu steps of %g s\n", k, leaf_STEP);
    leaf_look(&machine);
    for (i = 0; i < leaf_N_OUTPUTS; ++i) {
        const leaf_column* c = &leaf_outputs[i];
        printf("%s = %.17g %s\n", c->name, (leaf_get(&machine, i) - c->offset) / c->scale, c->unit);
    }
    printf("a step took %.3g us on average, %.3g us at most\n", k > 0 ? 1e6 * sum / (double)k : 0.0, 1e6 * longest);
    for (i = 0; i < N_CLASSES; ++i)
        if (classes[i] > 0) printf("  up to %8.1f us  %lu\n", 0.5 * (double)(1ul << i), classes[i]);
    if (!lockstep) printf("%lu deadlines lost; it woke up %.3g us late at most; %lu steps without a new command\n", lost, 1e6 * latest, unheard);
    if (machine.bad_pivots > 0) printf("%lu bad pivots\n", machine.bad_pivots);
    if (status != leaf_GOOD) fprintf(stderr, "it ended with %d\n", status);
    return status == leaf_GOOD ? 0 : 1;
}
