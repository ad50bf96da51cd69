package deploy

import (
	"context"
	"io"
	"maps"
	"path"
	"time"
)

// Finished is a version that a release brought to a target: players may have it, so its content
// must not change any more.
type Finished struct {
	Version string            `json:"version"`
	Files   map[string]string `json:"files"` // SHA-256 of the bundles that the target got, by file name
	Sizes   map[string]int64  `json:"sizes"` // of them, in bytes
	Commit  string            `json:"commit,omitempty"`
	By      string            `json:"by"`
	Time    time.Time         `json:"time"`
}

// Finished lists the versions that releases brought to the target, the oldest first, as far as it
// remembers. It changes nothing.
func (t *Target) Finished(ctx context.Context) ([]Finished, error) {
	s, _, err := t.undoneState(ctx)
	if err != nil {
		return nil, err
	}
	var list []Finished
	for i, r := range s.records {
		if r.Kind != Deploying || !r.Release {
			continue
		}
		f := Finished{Version: r.Version, Files: map[string]string{}, Sizes: map[string]int64{}, Commit: r.Commit,
			By: r.By, Time: r.Time}
		for name, file := range s.after(i).Files {
			if file.Role == Bundle && !file.Older {
				f.Files[path.Base(name)], f.Sizes[path.Base(name)] = file.SHA256, file.Size
			}
		}
		list = append(list, f)
	}
	return list, nil
}

// Bundles are the bundles that the target has of the project, of any version: where they lie there, by SHA-256.
func (t *Target) Bundles(ctx context.Context) (map[string]string, error) {
	s, _, err := t.undoneState(ctx)
	if err != nil {
		return nil, err
	}
	list := map[string]string{}
	for i := max(0, len(s.records)-1-t.keep); i < len(s.records); i++ { // replaced ones are kept to go back to
		for _, f := range s.after(i).Files {
			if f.Role == Bundle {
				list[f.SHA256] = t.safe(f.SHA256)
			}
		}
	}
	there := map[string]string{}
	for name, f := range s.now().Files {
		if f.Role == Bundle {
			there[f.SHA256] = name
		}
	}
	maps.Copy(list, there)
	return list, nil
}

// Get writes the content of a file there to w. The caller checks the hash.
func (t *Target) Get(ctx context.Context, rel string, w io.Writer) error {
	if err := t.site.Get(ctx, rel, w); err != nil {
		return t.explain("read", rel, err)
	}
	return nil
}

// Writable says whether something could be brought to the target: login works, it is not locked,
// and its records can be read. It changes nothing.
func (t *Target) Writable(ctx context.Context) error {
	if t.readOnly() {
		_, err := t.site.Stat(ctx, ".")
		if absent(err) {
			err = nil // a web folder shows no list
		}
		return err
	}
	if err := t.consent(); err != nil {
		return err
	}
	if _, _, err := t.undoneState(ctx); err != nil {
		return err
	}
	return t.Free(ctx)
}
