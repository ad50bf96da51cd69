package zipfile

// MinWork makes Scan give up earlier, and returns what undoes that.
func MinWork(bytes int64) (undo func()) {
	before := minWork
	minWork = bytes
	return func() { minWork = before }
}
