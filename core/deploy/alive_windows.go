package deploy

import "os"

// alive says whether a process of this machine is there.
func alive(pid int) bool {
	p, err := os.FindProcess(pid) // which on Windows opens it
	if err != nil {
		return false
	}
	_ = p.Release()
	return true
}
