//go:build !windows

package safefile

func (d *Dir) unlink(name string) error    { return d.root.Remove(name) }
func (d *Dir) unlinkAll(name string) error { return d.root.RemoveAll(name) }
