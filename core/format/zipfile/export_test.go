package zipfile

// LeastWork makes Scan give up earlier, and returns what undoes that.
func LeastWork(bytes int64) (undo func()) {
	before := leastWork
	leastWork = bytes
	return func() { leastWork = before }
}
