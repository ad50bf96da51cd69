package project

import (
	"path/filepath"

	"vornix/core/base/finding"
	"vornix/core/base/storeurl"
)

// Shared says where results of builds are kept for all who work on the project.
type Shared struct {
	URL       string `toml:"url" jsonschema:"description=Where results are kept: a folder (relative to the project or absolute)\\, the address of a web server that takes PUT\\, or nats://HOST/BUCKET"`
	ReadOnly  bool   `toml:"read_only" jsonschema:"description=Whether results are only taken from there; what this machine makes stays here"`
	TokenEnv  string `toml:"token_env" jsonschema:"description=Name of the environment variable that holds the token\\, or user:password"`
	TokenFile string `toml:"token_file" jsonschema:"description=File that holds the token\\, user:password\\, or a NATS user's credentials\\, which only you may read: absolute\\, from ~/\\, or relative to the project"`
	PlainHTTP bool   `toml:"plain_http" jsonschema:"description=Whether the token may go to another machine without encryption"`
	LargestMB int64  `toml:"largest_mb" jsonschema:"minimum=0,maximum=1000000,description=Results with a file larger than this\\, in megabytes\\, are not shared (default 2048)"`
	MostMB    int64  `toml:"most_mb" jsonschema:"minimum=0,description=Of a folder\\, or of a bucket when it is made: megabytes of all that is kept; what nobody asked for the longest goes first (default 0: no limit)"`
	KeepDays  int    `toml:"keep_days" jsonschema:"minimum=0,maximum=3650,description=Of a folder\\, or of a bucket when it is made: days that something is kept which nobody asks for (default 0: no limit)"`
}

// shared checks what the project says of shared results.
func (p *Project) shared() (list []finding.Finding) {
	s := &p.File.Shared
	wrong := func(key, format string, args ...any) {
		list = append(list, p.Doc.Wrong([]any{"shared", key}, format, args...))
	}
	if *s == (Shared{}) {
		return nil
	}
	if s.URL == "" {
		wrong("url", "url is missing: a folder, https://... or nats://HOST/BUCKET")
		return list
	}
	if why := storeurl.Check(s.URL); why != "" {
		wrong("url", "%q can't keep results: %s", s.URL, why)
	}
	if s.TokenEnv != "" && s.TokenFile != "" {
		wrong("token_file", "the token is in token_env or in token_file, not in both")
	}
	if storeurl.Kind(s.URL) == "folder" && (s.TokenEnv != "" || s.TokenFile != "" || s.PlainHTTP) {
		wrong("url", "a folder takes no token")
	}
	if storeurl.Kind(s.URL) == "web" && (s.MostMB != 0 || s.KeepDays != 0) {
		wrong("url", "most_mb and keep_days are for folders and buckets; a web server looks after its own files")
	}
	for _, n := range []struct {
		key   string
		value int64
		most  int64
	}{{"largest_mb", s.LargestMB, 1e6}, {"most_mb", s.MostMB, 1e12}, {"keep_days", int64(s.KeepDays), 3650}} {
		if n.value < 0 || n.value > n.most {
			wrong(n.key, "%s must lie between 0 and %d, and is %d", n.key, n.most, n.value)
		}
	}
	return list
}

// SharedAt is where shared results are, with a folder as a system path; empty for nowhere.
func (p *Project) SharedAt() string {
	url := p.File.Shared.URL
	if url == "" || storeurl.Kind(url) != "folder" || filepath.IsAbs(url) {
		return url
	}
	return p.Join(url)
}
