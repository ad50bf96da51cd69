package assembly

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"vornix/core/base/credential"
	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/humanize"
	"vornix/core/base/safefile"
	"vornix/core/base/storeurl"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/make/remotecache"
)

// Sharing is how this machine takes part in the shared results of projects.
type Sharing struct {
	Mode string              // "off", "read" or "write"; empty: as the project says
	Env  func(string) string // nil: there are no variables
	Home string
}

// Modes are what Sharing.Mode can be.
var Modes = []string{"off", "read", "write"}

// line opens the shared results of a project; nil when there are none, or none that may be used.
// Why not stands in the findings: it keeps nobody from building.
func (s Sharing) line(ctx context.Context, p *project.Project, own Own) (*remotecache.Client, []finding.Finding) {
	about, ok := trust.Shared(p)
	if !ok || s.Mode == "off" {
		return nil, nil
	}
	place := p.Doc.At("shared", "url")
	away := func(err error) (*remotecache.Client, []finding.Finding) {
		f := finding.SharedAway.At(place, "they are left alone: %s", humanize.Printable(err.Error()))
		var known *fault.Fault
		if errors.As(err, &known) {
			f.Do = cmp.Or(known.Do, f.Do)
		}
		return nil, []finding.Finding{f}
	}
	if s.Mode != "" && !slices.Contains(Modes, s.Mode) {
		return away(fmt.Errorf("%q is not a mode: VORNIX_SHARED can be off, read or write", s.Mode))
	}
	missing, err := own.Trust.Missing(p, about)
	if err != nil {
		return away(err)
	}
	if len(missing) > 0 {
		return nil, []finding.Finding{finding.SharedUntrusted.At(place,
			"consent is missing on this machine; the project %s", humanize.Printable(strings.Join(about.Lines, ", ")))}
	}
	at := remotecache.Location{Address: p.SharedAt(), Plain: p.File.Shared.PlainHTTP, ReadOnly: s.readOnly(p),
		Limits: remotecache.Limits{Bytes: p.File.Shared.MostMB * 1e6, Days: p.File.Shared.KeepDays}}
	if err := s.secret(p, &at); err != nil {
		return away(err)
	}
	store, err := remotecache.Open(at)
	if err != nil {
		return away(err)
	}
	return remotecache.NewClient(ctx, store,
		remotecache.ClientOptions{Write: !at.ReadOnly, All: isNew(p), Largest: p.File.Shared.LargestMB * 1e6}), nil
}

// isNew says whether no build of the project on this machine came to its end with the shared results that it names.
func isNew(p *project.Project) bool {
	state, err := safefile.OpenDir(p.State())
	if err != nil {
		return true
	}
	defer state.Close()
	h := remotecache.ReadHistory(state)
	return h == nil || h.Where != p.File.Shared.URL || !h.Begun
}

// begins says whether the next build is the first that shares results: it gives what was made here
// before, so there is more to do than it looks.
func (s Sharing) begins(p *project.Project, own Own) bool {
	about, ok := trust.Shared(p)
	if !ok || s.Mode == "off" || !isNew(p) {
		return false
	}
	missing, err := own.Trust.Missing(p, about)
	return err == nil && len(missing) == 0
}

func (s Sharing) readOnly(p *project.Project) bool {
	return s.Mode == "read" || s.Mode == "" && p.File.Shared.ReadOnly
}

// secret finds what lets in at a place.
func (s Sharing) secret(p *project.Project, at *remotecache.Location) error {
	c := &p.File.Shared
	var data []byte
	from := c.TokenEnv
	switch {
	case c.TokenEnv != "" && s.Env != nil:
		data = []byte(s.Env(c.TokenEnv))
	case c.TokenFile != "":
		from = credential.Path(p.Dir, s.Home, c.TokenFile)
		var err error
		if data, err = credential.Read(from,
			"Whoever has the token can put results of his own into your releases."); err != nil {
			return err
		}
	}
	if storeurl.Kind(at.Address) == "nats" && bytes.Contains(data, []byte("-----BEGIN NATS USER JWT-----")) {
		at.Credentials = data
		return nil
	}
	var err error
	at.Secret, _, err = credential.Check(strings.TrimSpace(string(data)), from)
	return err
}

// hangUp waits for what is still to be given, and says what was wrong.
func hangUp(ctx context.Context, dir *safefile.Dir, p *project.Project,
	line *remotecache.Client) (list []finding.Finding,
	err error) {
	if line == nil {
		return nil, nil
	}
	ended := line.Close(ctx)
	state, err := safefile.OpenDir(dir.Join(project.StateDir))
	if err != nil {
		return nil, err
	}
	defer state.Close()
	place := p.Doc.At("shared", "url")
	if len(ended.Rejected) > 0 {
		list = append(list,
			finding.SharedWrong.At(place, "%s there %s not what the name says, and was not taken",
				humanize.Printable(ended.Rejected[0]),
				map[bool]string{true: "is", false: "and others are"}[len(ended.Rejected) == 1]))
	}
	if ended.Off != nil {
		list = append(list,
			finding.SharedAway.At(place, "they are left alone: %s", humanize.Printable(ended.Off.Error())))
	}
	return list, remotecache.RecordHistory(state, p.File.Shared.URL, ended)
}
