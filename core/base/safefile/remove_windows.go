package safefile

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// unlink removes a file or an empty folder. Deleting below an open folder needs a call that drives
// of some file servers, shared folders of virtual machines and Wine do not have; there the file is
// deleted by its name, once it is sure that its folder lies inside.
func (d *Dir) unlink(name string) error {
	err := d.root.Remove(name)
	if !errors.Is(err, errorInvalidFunction) {
		return err
	}
	if parent := filepath.Dir(name); parent != "." {
		inside, err := d.root.OpenRoot(parent)
		if err != nil {
			return err
		}
		inside.Close()
	}
	return os.Remove(filepath.Join(d.path, name))
}

func (d *Dir) unlinkAll(name string) error {
	err := d.root.RemoveAll(name)
	if !errors.Is(err, errorInvalidFunction) {
		return err
	}
	info, err := d.root.Lstat(name)
	if err == nil && info.IsDir() {
		entries, listErr := fs.ReadDir(d.root.FS(), filepath.ToSlash(name))
		if listErr != nil {
			return listErr
		}
		for _, e := range entries {
			if err := d.unlinkAll(filepath.Join(name, e.Name())); err != nil {
				return err
			}
		}
	}
	if err == nil {
		err = d.unlink(name)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
