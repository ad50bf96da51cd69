package safefile

import (
	"errors"

	"golang.org/x/sys/windows"
)

const stillActive = 259 // STATUS_PENDING, the exit code of a process that has none yet

// Alive says whether a process of this machine runs. One that may not be looked at does.
func Alive(pid int) bool {
	h, err := windows.OpenProcess(windows.PROCESS_QUERY_LIMITED_INFORMATION, false, uint32(pid))
	if err != nil {
		return !errors.Is(err, windows.ERROR_INVALID_PARAMETER)
	}
	defer windows.CloseHandle(h)
	var code uint32
	return windows.GetExitCodeProcess(h, &code) != nil || code == stillActive
}
