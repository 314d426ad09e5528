package confine

import "golang.org/x/sys/unix"

const auditArch = unix.AUDIT_ARCH_AARCH64

var onlyHere = []call{{number: unix.SYS_GETTIMEOFDAY}}
