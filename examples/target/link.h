/* SPDX-License-Identifier: Apache-2.0
   The line between the machine and its controller: UDP on the loopback of this computer. One datagram is a count and up to 30 numbers, all as doubles of this
   machine; a datagram of another size is none of ours. */
#ifndef LINK_H
#define LINK_H

#include <arpa/inet.h>
#include <poll.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

enum { MOST_NUMBERS = 30 };
typedef struct {
    double count;                /* of the step that it belongs to; below 0: the other side is to end */
    double number[MOST_NUMBERS];
} datagram;

/* A socket bound to a port of the loopback; -1 if it cannot be had. */
static int open_link(int port)
{
    struct sockaddr_in here;
    int link = socket(AF_INET, SOCK_DGRAM, 0);
    if (link < 0) return -1;
    memset(&here, 0, sizeof here);
    here.sin_family = AF_INET;
    here.sin_port = htons((unsigned short)port);
    here.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    if (bind(link, (struct sockaddr*)&here, sizeof here) != 0) {
        close(link);
        return -1;
    }
    return link;
}

static void send_numbers(int link, int port, const datagram* d)
{
    struct sockaddr_in there;
    memset(&there, 0, sizeof there);
    there.sin_family = AF_INET;
    there.sin_port = htons((unsigned short)port);
    there.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    sendto(link, d, sizeof *d, 0, (struct sockaddr*)&there, sizeof there);
}

/* The newest datagram that is there within so many milliseconds; 0 if there is none. */
static int receive_numbers(int link, datagram* d, int wait)
{
    struct pollfd ready = {0, POLLIN, 0};
    datagram found;
    int any = 0;
    ready.fd = link;
    while (poll(&ready, 1, any ? 0 : wait) > 0)
        if (recv(link, &found, sizeof found, 0) == (long)sizeof found) *d = found, any = 1;
    return any;
}

#endif
