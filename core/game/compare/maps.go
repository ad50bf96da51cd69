package compare

import (
	"os"
	"path/filepath"
	"slices"

	"vornix/core/format/mapfile"
	"vornix/core/game/gamefs"
)

// Maps says in words what changed inside a compiled map that is on both sides, each named as for
// Load; nil when one of the two can't be read.
func Maps(old, now, file string) []mapfile.Change {
	var m [2]*mapfile.Map
	for i, name := range []string{old, now} {
		data, err := within(name, file)
		if err != nil {
			return nil
		}
		if m[i], err = mapfile.Read(data); err != nil {
			return nil
		}
	}
	return mapfile.Diff(m[0], m[1])
}

// within reads a file out of a bundle, a folder, or a folder of bundles.
func within(name, file string) ([]byte, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		return inBundle(name, file)
	}
	data, err := os.ReadFile(filepath.Join(name, filepath.FromSlash(file)))
	if err == nil {
		return data, nil
	}
	entries, _ := os.ReadDir(name)
	for _, e := range entries {
		if data, err := inBundle(filepath.Join(name, e.Name()), file); err == nil {
			return data, nil
		}
	}
	return nil, err
}

func inBundle(name, file string) ([]byte, error) {
	b, err := gamefs.OpenAny(name)
	if err != nil {
		return nil, err
	}
	defer b.Close()
	if b.MapData != nil && filepath.Base(name) == file {
		return slices.Clone(b.MapData), nil
	}
	return b.ReadFile(file)
}
