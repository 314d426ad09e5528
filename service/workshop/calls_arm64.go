package workshop

const (
	auditArch = 0xc00000b7
	x32       = 0
)

var forbiddenHere []int
