#include <stdint.h>

#define WORKER_COMMAND "render-worker"
#define FORK_SERVER "fork-server"
#define FORBIDDEN_CALL "forbidden system call "

enum {
	FLAG_NAMESPACES = 1, // it was started in namespaces of its own
	WORKER_SOCKET_FD = 3,
	STATM_FD = 4,
	MOST_FILES = 80,
	MOST_THREADS = 64,
	MOST_CPU_SECONDS = 7200,
};

// What came of each measure: 0, or an errno.
struct confinement {
	int here; // this process is a render worker
	int root, privileges, user, limits;
	int landlock; // the version of what is denied, or -errno
};

extern struct confinement confinement;

// What the fork server is asked for: one worker, with two descriptors beside, its socket and its standard error. It
// answers each order, and before the first one once, when it is ready.
struct fork_order {
	uint64_t memory;
	uint32_t clone_flags; // CLONE_NEW…
	uint32_t flags, become; // as a worker's arguments have them
	uint32_t map_user, map_group; // who user 0 and group 0 of a new user namespace are outside
	uint32_t groups; // 1: the worker drops the groups that it came with, and is user 0 there
};

struct fork_answer {
	int32_t pid; // of the worker; 0: there is none
	int32_t err; // an errno: what is there ends by itself
};

// serve_forks forks workers as it is asked to, and returns in each; in the fork server itself never.
void serve_forks(char **argv);
void close_from(unsigned fd);

// report_forbidden has a call that the filter stops end the process, its number on stderr. It gives an errno.
int report_forbidden(void);
