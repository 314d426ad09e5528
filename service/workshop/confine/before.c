// What a render worker gives up before Go's runtime starts in it: while it has one thread, so that namespaces, Landlock and
// credentials hold for every thread that comes after.

#define _GNU_SOURCE
#include "before.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/capability.h>
#include <signal.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mount.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <unistd.h>

#ifndef SYS_close_range
#define SYS_close_range 436
#endif
#ifndef SYS_landlock_create_ruleset
#define SYS_landlock_create_ruleset 444
#define SYS_landlock_restrict_self 446
#endif

struct confinement confinement;

void close_from(unsigned fd) {
	if (syscall(SYS_close_range, fd, ~0U, 0))
		for (; fd < 4096; fd++) close((int)fd);
}

// empty_root puts an empty file system that nobody can write to in the place of all files.
static int empty_root(void) {
	static const char *const places[] = {"/tmp", "/proc", "/var", "/run"};
	if (mount(NULL, "/", NULL, MS_REC | MS_PRIVATE, NULL)) return errno;
	int err = ENOENT;
	for (unsigned i = 0; i < sizeof places / sizeof *places; i++) {
		if (!mount("none", places[i], "tmpfs", MS_NOSUID | MS_NODEV | MS_NOEXEC, "size=4k,nr_inodes=2,mode=0555")) {
			if (chdir(places[i])) return errno;
			err = 0;
			break;
		}
		err = errno;
	}
	if (err) return err;
	if (syscall(SYS_pivot_root, ".", ".")) {
		if (chroot(".")) return errno;
	} else if (umount2(".", MNT_DETACH)) {
		return errno;
	}
	if (chdir("/")) return errno;
	return mount(NULL, "/", NULL, MS_REMOUNT | MS_BIND | MS_RDONLY | MS_NOSUID | MS_NODEV | MS_NOEXEC, NULL) ? errno : 0;
}

// landlock denies all that Landlock knows of, by any name; it gives its version, or -errno.
static int landlock(void) {
	struct {
		uint64_t fs, net, scoped;
	} all = {0};
	long abi = syscall(SYS_landlock_create_ruleset, NULL, 0, 1);
	if (abi < 0) return -errno;
	int bits = abi >= 5 ? 16 : abi >= 3 ? 15 : abi == 2 ? 14 : 13;
	all.fs = (UINT64_C(1) << bits) - 1;
	size_t size = 8;
	if (abi >= 4) all.net = 3, size = 16;
	if (abi >= 6) all.scoped = 3, size = 24;
	long fd = syscall(SYS_landlock_create_ruleset, &all, size, 0);
	if (fd < 0) return -errno;
	long r = syscall(SYS_landlock_restrict_self, (int)fd, 0);
	int err = errno;
	close((int)fd);
	return r ? -err : (int)abi;
}

static int own_user(unsigned uid) {
	// By number: no other thread is there to be told.
	if (syscall(SYS_setgroups, 0, NULL) || syscall(SYS_setresgid, uid, uid, uid) || syscall(SYS_setresuid, uid, uid, uid)) return errno;
	return 0;
}

static int no_capabilities(void) {
	struct __user_cap_header_struct head = {_LINUX_CAPABILITY_VERSION_3, 0};
	struct __user_cap_data_struct none[2];
	memset(none, 0, sizeof none);
	for (int c = 0; c < 64; c++) prctl(PR_CAPBSET_DROP, c, 0, 0, 0);
	prctl(PR_CAP_AMBIENT, PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0);
	return syscall(SYS_capset, &head, none) ? errno : 0;
}

static int limit(int what, rlim_t n) {
	struct rlimit have;
	if (getrlimit(what, &have)) return errno;
	if (have.rlim_max != RLIM_INFINITY && have.rlim_max < n) n = have.rlim_max; // who started the service may have set a lower one
	struct rlimit want = {n, n};
	return setrlimit(what, &want) ? errno : 0;
}

static int limits(int counted) {
	int err = 0, e;
	if ((e = limit(RLIMIT_CORE, 0))) err = e;
	if ((e = limit(RLIMIT_FSIZE, 0))) err = e;
	if ((e = limit(RLIMIT_MSGQUEUE, 0))) err = e;
	if ((e = limit(RLIMIT_MEMLOCK, 0))) err = e;
	if ((e = limit(RLIMIT_NOFILE, MOST_FILES))) err = e;
	if ((e = limit(RLIMIT_CPU, MOST_CPU_SECONDS))) err = e;
	// Threads are counted by user: only where it has one of its own, or one within its namespace.
	if (counted && (e = limit(RLIMIT_NPROC, MOST_THREADS))) err = e;
	return err;
}

static void confine_worker(unsigned flags, unsigned uid) {
	struct confinement *c = &confinement;
	c->here = 1;
	prctl(PR_SET_PDEATHSIG, SIGKILL, 0, 0, 0);
	close_from(4);
	int statm = open("/proc/self/statm", O_RDONLY | O_CLOEXEC); // Go reads it once it runs, when /proc is gone
	if (statm >= 0 && statm != STATM_FD) {
		dup2(statm, STATM_FD);
		close(statm);
	}
	c->root = flags & FLAG_NAMESPACES ? empty_root() : EPERM;
	if (prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)) c->privileges = errno;
	if (uid) {
		c->user = own_user(uid);
		prctl(PR_SET_PDEATHSIG, SIGKILL, 0, 0, 0); // another user's, it is forgotten
	}
	int err = no_capabilities();
	if (err && !c->privileges) c->privileges = err;
	prctl(PR_SET_DUMPABLE, 0, 0, 0, 0); // nobody of the same user traces it
	c->landlock = landlock();
	c->limits = limits(flags & FLAG_NAMESPACES || uid);
}

__attribute__((constructor)) static void before_go(int argc, char **argv) {
	if (argc < 5 || strcmp(argv[1], WORKER_COMMAND)) return;
	if (argc > 5 && !strcmp(argv[5], FORK_SERVER)) serve_forks(argv); // returns in each worker
	confine_worker((unsigned)strtoul(argv[2], NULL, 10), (unsigned)strtoul(argv[3], NULL, 10));
}

static void forbidden(int sig, siginfo_t *info, void *context) {
	(void)sig, (void)context;
	char text[] = FORBIDDEN_CALL "          \n";
	unsigned n = (unsigned)info->si_syscall;
	char *at = text + sizeof text - 2;
	do *--at = (char)('0' + n % 10);
	while (n /= 10);
	syscall(SYS_write, 2, text, sizeof text - 1);
	syscall(SYS_exit_group, 128 + SIGSYS);
}

int report_forbidden(void) {
	struct sigaction a;
	memset(&a, 0, sizeof a);
	a.sa_sigaction = forbidden;
	a.sa_flags = SA_SIGINFO | SA_ONSTACK | SA_NODEFER;
	return sigaction(SIGSYS, &a, NULL) ? errno : 0;
}
