package safefile

import (
	"errors"
	"syscall"
)

// Win32 error codes, from the system's winerror.h.
const (
	errorInvalidFunction = syscall.Errno(1)
	errorWriteProtect    = syscall.Errno(19)
	errorHandleDiskFull  = syscall.Errno(39)
	errorDiskFull        = syscall.Errno(112)
)

func isDiskFull(err error) bool {
	return errors.Is(err, errorDiskFull) || errors.Is(err, errorHandleDiskFull)
}

func isReadOnly(err error) bool { return errors.Is(err, errorWriteProtect) }
