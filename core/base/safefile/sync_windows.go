package safefile

// syncFolder does nothing: Windows keeps the names of folders in a journal of its own.
func (d *Dir) syncFolder(string) error { return nil }
