//go:build !windows

package safefile

func (d *Dir) syncFolder(name string) error {
	f, err := d.root.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}
