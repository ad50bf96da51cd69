//go:build !windows

package safefile

func (d *Dir) remove(name string) error    { return d.root.Remove(name) }
func (d *Dir) removeAll(name string) error { return d.root.RemoveAll(name) }
