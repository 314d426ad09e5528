#define WORKER_COMMAND "render-worker"
#define FORBIDDEN_CALL "forbidden system call "

enum {
	FLAG_NAMESPACES = 1, // it was started in namespaces of its own
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

// report_forbidden has a call that the filter stops end the process, its number on stderr. It gives an errno.
int report_forbidden(void);
