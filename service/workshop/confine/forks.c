// The fork server: a process that has loaded the program and its libraries, and forks a worker of itself whenever it is asked
// to, before Go's runtime starts. It has one thread, reads nothing but its orders, and forks what confines itself as any worker.

#define _GNU_SOURCE
#include "before.h"

#include <errno.h>
#include <fcntl.h>
#include <sched.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/auxv.h>
#include <sys/prctl.h>
#include <sys/random.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <unistd.h>

#ifndef PR_GET_TID_ADDRESS
#define PR_GET_TID_ADDRESS 40
#endif

// write_map writes one of a process's files on who it is outside its user namespace.
static int write_map(pid_t pid, const char *name, const char *text) {
	char path[64];
	snprintf(path, sizeof path, "/proc/%d/%s", (int)pid, name);
	int fd = open(path, O_WRONLY | O_CLOEXEC);
	if (fd < 0) return errno;
	ssize_t n = write(fd, text, strlen(text));
	int err = n < 0 ? errno : 0;
	close(fd);
	return err;
}

static int write_maps(pid_t pid, const struct fork_order *o) {
	char user[32], group[32];
	snprintf(user, sizeof user, "0 %u 1\n", o->map_user);
	snprintf(group, sizeof group, "0 %u 1\n", o->map_group);
	int err = write_map(pid, "uid_map", user);
	if (!err && !o->groups) err = write_map(pid, "setgroups", "deny");
	return err ? err : write_map(pid, "gid_map", group);
}

// number writes n over an argument, in as many digits as there is room for.
static void number(char *arg, uint64_t n) {
	for (size_t i = strlen(arg); i-- > 0; n /= 10) arg[i] = (char)('0' + n % 10);
}

static int answer(int32_t pid, int32_t err) {
	struct fork_answer a = {pid, err};
	return send(WORKER_SOCKET_FD, &a, sizeof a, MSG_NOSIGNAL) == sizeof a;
}

// take_order waits for an order. It gives 0 once the service has gone.
static int take_order(struct fork_order *o, int fds[2]) {
	union {
		struct cmsghdr head;
		char room[CMSG_SPACE(2 * sizeof(int))];
	} control;
	struct iovec all = {o, sizeof *o};
	struct msghdr m;
	memset(&m, 0, sizeof m);
	m.msg_iov = &all, m.msg_iovlen = 1;
	m.msg_control = &control, m.msg_controllen = sizeof control;
	ssize_t n;
	do n = recvmsg(WORKER_SOCKET_FD, &m, MSG_CMSG_CLOEXEC);
	while (n < 0 && errno == EINTR);
	struct cmsghdr *c = CMSG_FIRSTHDR(&m);
	if (n != sizeof *o || !c || c->cmsg_type != SCM_RIGHTS || c->cmsg_len != CMSG_LEN(2 * sizeof(int))) return 0;
	memcpy(fds, CMSG_DATA(c), 2 * sizeof(int));
	return 1;
}

// become_worker is what a worker does first. It waits until the fork server has written who it is.
static void become_worker(const struct fork_order *o, const int fds[2], int ready) {
	char said;
	prctl(PR_SET_PDEATHSIG, SIGKILL, 0, 0, 0);
	dup2(fds[1], 2); // 0 to 3 are open, so these are others
	dup2(fds[0], WORKER_SOCKET_FD);
	if (read(ready, &said, 1) != 1) _exit(1); // the service is told why
	setpgid(0, 0);
	if (o->clone_flags & CLONE_NEWUSER && o->groups &&
		(syscall(SYS_setgroups, 0, NULL) || syscall(SYS_setresgid, 0, 0, 0) || syscall(SYS_setresuid, 0, 0, 0))) {
		dprintf(2, "take a user id: %s\n", strerror(errno));
		_exit(1);
	}
	// What the kernel made up at random for the fork server, each worker is to have anew: Go seeds its hashes with it.
	void *seed = (void *)getauxval(AT_RANDOM);
	if (seed && getrandom(seed, 16, 0) != 16) {
		dprintf(2, "draw a seed: %s\n", strerror(errno));
		_exit(1);
	}
}

void serve_forks(char **argv) {
	prctl(PR_SET_PDEATHSIG, SIGKILL, 0, 0, 0);
	int *tid = NULL; // where the C library keeps this thread's id
	if (prctl(PR_GET_TID_ADDRESS, &tid, 0, 0, 0) || !tid || *tid != getpid()) {
		answer(0, ENOSYS);
		_exit(0);
	}
	close_from(4);
	if (!answer(0, 0)) _exit(0);
	struct fork_order o;
	int fds[2];
	while (take_order(&o, fds)) {
		int ready[2];
		if (pipe2(ready, O_CLOEXEC)) {
			answer(0, errno);
			close(fds[0]), close(fds[1]);
			continue;
		}
		// The worker is a child of the service, not of this process: the service waits for it, and it ends with the service.
		unsigned long flags = o.clone_flags | CLONE_PARENT | CLONE_CHILD_SETTID | CLONE_CHILD_CLEARTID | SIGCHLD;
#if defined __aarch64__
		pid_t pid = (pid_t)syscall(SYS_clone, flags, NULL, NULL, NULL, tid);
#else
		pid_t pid = (pid_t)syscall(SYS_clone, flags, NULL, NULL, tid, NULL);
#endif
		if (!pid) {
			close(ready[1]);
			become_worker(&o, fds, ready[0]);
			number(argv[2], o.flags), number(argv[3], o.become), number(argv[4], o.memory);
			memset(argv[5], 0, strlen(argv[5]));
			return;
		}
		int err = pid < 0 ? errno : 0;
		close(ready[0]), close(fds[0]), close(fds[1]);
		if (!err && o.clone_flags & CLONE_NEWUSER) err = write_maps(pid, &o);
		if (!err && write(ready[1], "", 1) != 1) err = errno;
		close(ready[1]); // unwritten, it ends the worker
		if (!answer(pid > 0 ? pid : 0, err)) _exit(0);
	}
	_exit(0);
}
