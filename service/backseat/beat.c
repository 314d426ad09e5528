// Threads that do nothing but wake up. They are none of Go's: waking one of those would take up what is to be left free.

#define _GNU_SOURCE
#include "beat.h"

#include <limits.h>
#include <linux/futex.h>
#include <pthread.h>
#include <sched.h>
#include <signal.h>
#include <stdatomic.h>
#include <stdint.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

// every is how long a beat takes, in nanoseconds.
static const long every = 500 * 1000;

static _Atomic int wanted; // by so many
static int least;          // that it takes

static void *beat(void *processor) {
	cpu_set_t here;
	CPU_ZERO(&here);
	CPU_SET((int)(intptr_t)processor, &here);
	prctl(PR_SET_NAME, "beat", 0, 0, 0);
	if (syscall(SYS_sched_setaffinity, 0, sizeof here, &here)) return NULL;
	prctl(PR_SET_TIMERSLACK, 1, 0, 0, 0);
	struct {
		uint32_t size, policy;
		uint64_t flags;
		int32_t nice;
		uint32_t priority;
		uint64_t runtime, deadline, period;
	} shortest = {.size = sizeof shortest, .runtime = 100 * 1000}; // in nanoseconds: less than anybody else's
	syscall(SYS_sched_setattr, 0, &shortest, 0);
	const struct timespec one = {0, every};
	for (;;) {
		for (int n; (n = atomic_load(&wanted)) < least;) {
			syscall(SYS_futex, &wanted, FUTEX_WAIT_PRIVATE, n, NULL, NULL, 0);
			syscall(SYS_futex, &wanted, FUTEX_WAKE_PRIVATE, 2, NULL, NULL, 0); // who woke this one has other things to do
		}
		nanosleep(&one, NULL);
	}
}

int beat_on(const int *processors, int n) {
	int started = 0;
	least = (n + 1) / 2;
	sigset_t all, before;
	pthread_attr_t small;
	sigfillset(&all);
	if (pthread_attr_init(&small)) return 0;
	pthread_attr_setstacksize(&small, PTHREAD_STACK_MIN > 64 << 10 ? PTHREAD_STACK_MIN : 64 << 10);
	pthread_attr_setdetachstate(&small, PTHREAD_CREATE_DETACHED);
	pthread_sigmask(SIG_SETMASK, &all, &before); // signals are for Go's threads
	for (int i = 0; i < n; i++) {
		pthread_t t;
		if (!pthread_create(&t, &small, beat, (void *)(intptr_t)processors[i])) started++;
	}
	pthread_sigmask(SIG_SETMASK, &before, NULL);
	pthread_attr_destroy(&small);
	return started;
}

void beat_for(int more) {
	int before = atomic_fetch_add(&wanted, more);
	if (before < least && before + more >= least) syscall(SYS_futex, &wanted, FUTEX_WAKE_PRIVATE, 1, NULL, NULL, 0);
}
