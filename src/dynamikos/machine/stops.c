/* Notes when the process that loads this could not run: a thread of its own wakes every two milliseconds and sees how
 * late it was, and how long the main thread has waited for a processor meanwhile (Linux, /proc/PID/task/TID/schedstat).
 * It holds no lock of the interpreter's, so that it is not kept waiting by a busy one. */
#define _GNU_SOURCE
#include <fcntl.h>
#include <pthread.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

enum { SIZE = 1 << 14, EVERY_NS = 2000000 };
static const double EVERY_S = EVERY_NS / 1e9, LEAST_S = 0.0005;

typedef struct {
    double end_s, lost_s; /* of CLOCK_MONOTONIC; how long it could not run before that */
} Stop;

static Stop ring[SIZE];
static _Atomic unsigned long written;
static _Atomic int running;
static unsigned long taken;
static int schedstat = -1;
static pthread_t thread;

static double now(void) {
    struct timespec at;
    clock_gettime(CLOCK_MONOTONIC, &at);
    return (double)at.tv_sec + at.tv_nsec / 1e9;
}

/* Seconds in which the main thread was ready and had no processor; below 0 where that can't be read. */
static double waited(void) {
    char text[96];
    ssize_t size = schedstat < 0 ? -1 : pread(schedstat, text, sizeof text - 1, 0);
    if (size <= 0) return -1;
    text[size] = 0;
    char *second = strchr(text, ' ');
    return second == NULL ? -1 : strtoull(second, NULL, 10) / 1e9;
}

static void *watch(void *nothing) {
    const struct timespec pause = {0, EVERY_NS};
    double last = now(), last_waited = waited();
    while (atomic_load(&running)) {
        nanosleep(&pause, NULL);
        double at = now(), in_all = waited();
        double late = at - last - EVERY_S, queued = in_all < 0 || last_waited < 0 ? 0 : in_all - last_waited;
        double lost = late > queued ? late : queued;
        if (lost > LEAST_S) {
            unsigned long number = atomic_load(&written);
            ring[number % SIZE] = (Stop){at, lost};
            atomic_store(&written, number + 1);
        }
        last = at;
        last_waited = in_all;
    }
    return nothing;
}

/* 0 when it watches from now on. `tid`: the main thread. */
int stops_begin(int tid) {
    char path[64];
    if (atomic_exchange(&running, 1)) return 0;
    snprintf(path, sizeof path, "/proc/self/task/%d/schedstat", tid);
    schedstat = open(path, O_RDONLY | O_CLOEXEC);
    taken = atomic_load(&written);
    if (pthread_create(&thread, NULL, watch, NULL) == 0) return 0;
    atomic_store(&running, 0);
    return -1;
}

/* What was noted since this was asked last, at most `most` of them: (end, lost) in seconds. How many. */
int stops_take(double *into, int most) {
    unsigned long upto = atomic_load(&written);
    if (upto - taken > SIZE) taken = upto - SIZE;
    int count = 0;
    for (; taken < upto && count < most; taken++, count++) {
        into[2 * count] = ring[taken % SIZE].end_s;
        into[2 * count + 1] = ring[taken % SIZE].lost_s;
    }
    return count;
}

void stops_end(void) {
    if (!atomic_exchange(&running, 0)) return;
    pthread_join(thread, NULL);
    if (schedstat >= 0) close(schedstat);
    schedstat = -1;
}
