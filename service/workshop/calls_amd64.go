package workshop

import "golang.org/x/sys/unix"

const (
	auditArch = 0xc000003e
	x32       = 0x40000000 // calls from here on are the other ABI's, by which a filter could be passed by
)

// forbiddenHere are the older calls that only this architecture has.
var forbiddenHere = []int{
	unix.SYS_OPEN, unix.SYS_CREAT, unix.SYS_FORK, unix.SYS_VFORK, unix.SYS_UNLINK, unix.SYS_RENAME, unix.SYS_MKDIR, unix.SYS_RMDIR,
	unix.SYS_SYMLINK, unix.SYS_LINK, unix.SYS_CHMOD, unix.SYS_CHOWN, unix.SYS_LCHOWN, unix.SYS_MKNOD,
}
