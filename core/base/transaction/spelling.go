package transaction

import (
	"io/fs"
	"os"
	"path"
	"strings"

	"vornix/core/base/safefile"
)

// On some file systems names that differ only in capitals, or in how their letters are composed
// (Unicode), name one file. There a file that goes under one spelling and one that comes under
// another are a single file, whose content and name change. Such a file has Was in its records;
// what follows finds them, and writes names as they should be. On other file systems nothing here
// does anything.

// findFolds finds out whether the folder is on such a file system. Its own folder is there, in these letters.
func (f *Folder) findFolds() {
	a, err := f.d.Stat(Dir)
	b, err2 := f.d.Stat(strings.ToUpper(Dir))
	f.folds = err == nil && err2 == nil && os.SameFile(a, b)
}

// Same says whether two slash paths name one file in this folder.
func (f *Folder) Same(a, b string) bool {
	return a == b || f.folds && safefile.Fold(a) == safefile.Fold(b)
}

// Folds says whether names that differ only in their spelling name one file in this folder.
func (f *Folder) Folds() bool { return f.folds }

// Spelled is the path of an existing file as the folder spells it; the path itself where no file
// exists. Listings are kept until the folder is changed through f: asking for many files of one
// folder reads it once.
func (f *Folder) Spelled(rel string) string {
	if !f.folds {
		return rel
	}
	at := "."
	for part := range strings.SplitSeq(rel, "/") {
		names := f.spelled[at]
		if names == nil {
			entries, err := fs.ReadDir(f.d.FS(), at)
			if err != nil {
				return rel
			}
			names = map[string]string{}
			for _, e := range entries {
				names[safefile.Fold(e.Name())] = e.Name()
			}
			if f.spelled == nil {
				f.spelled = map[string]map[string]string{}
			}
			f.spelled[at] = names
		}
		name, ok := names[safefile.Fold(part)]
		if !ok {
			return rel
		}
		at = path.Join(at, name)
	}
	return at
}

// joined merges the removal of a file and the addition of the same file under another spelling, and
// notes how the existing file is spelled. Where nothing is removed, the folder's spelling stays:
// other files may be in it.
func (f *Folder) joined(changes []Change) []Change {
	if !f.folds {
		return changes
	}
	came := map[string]bool{}
	for _, c := range changes {
		if c.Staged != "" {
			came[safefile.Fold(c.Path)] = true
		}
	}
	gone := map[string]bool{}
	var list []Change
	for _, c := range changes {
		if c.Staged == "" && came[safefile.Fold(c.Path)] {
			gone[safefile.Fold(c.Path)] = true
			continue
		}
		list = append(list, c)
	}
	for i := range list {
		c := &list[i]
		if c.Staged == "" || c.Old == "" {
			continue
		}
		was := f.Spelled(c.Path)
		if !gone[safefile.Fold(c.Path)] {
			was = path.Join(path.Dir(c.Path), path.Base(was))
		}
		if was != c.Path {
			c.Was = was
		}
	}
	return list
}

// respell changes how the name of a file, and those of the folders that it is in, are spelled. What
// is spelled so already is left as it is.
func (f *Folder) respell(was, now string) error {
	if was == "" || was == now {
		return nil
	}
	old, parts := strings.Split(was, "/"), strings.Split(now, "/")
	if len(old) != len(parts) {
		return nil
	}
	at := "."
	for i, part := range parts {
		to := path.Join(at, part)
		if old[i] != part {
			f.spelled = nil
			from := f.Spelled(to)
			f.spelled = nil
			if from != to && path.Dir(from) == at {
				if err := f.d.Move(from, to); err != nil {
					return err
				}
			}
		}
		at = to
	}
	return nil
}

// apart is a file of a record as this folder needs it: two files where the record is from a folder
// in which both spellings were one, and here they are not, as after the folder was copied to
// another system.
func (f *Folder) apart(files []File) (list []File) {
	for _, file := range files {
		if file.Was == "" || f.folds {
			list = append(list, file)
			continue
		}
		list = append(list, File{Path: file.Path, New: file.New, NewSize: file.NewSize, Text: file.Text},
			File{Path: file.Was, Old: file.Old, OldSize: file.OldSize})
	}
	return list
}
