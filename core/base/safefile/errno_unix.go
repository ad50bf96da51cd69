//go:build !windows

package safefile

import (
	"errors"
	"syscall"
)

func isDiskFull(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) || errors.Is(err, syscall.EFBIG)
}

func isReadOnly(err error) bool { return errors.Is(err, syscall.EROFS) }
