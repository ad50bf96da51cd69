package project

import (
	"fmt"
	"maps"
	"net/url"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"vornix/core/base/credential"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/base/template"
)

// Target is a place that a release goes to.
type Target struct {
	Kind string `toml:"kind" jsonschema:"required,enum=folder,enum=sftp,enum=git,enum=webdav,enum=web,enum=workshop,description=How to reach it"`
	Role string `toml:"role" jsonschema:"enum=server,enum=mirror,enum=downloads,description=What it is: a game server\\, a mirror with compressed copies for game servers\\, or the folder with the index that players download from (default server)"`
	Path string `toml:"path" jsonschema:"description=The server's folder: relative to the project or absolute; with sftp on the server\\, relative to the account's home; with git a working tree of your own\\, instead of url"`
	URL  string `toml:"url" jsonschema:"description=Of git: the repository; of webdav and web: the folder's address; of workshop: its address\\, or a file in the project's folder that holds it"`

	Host        string   `toml:"host" jsonschema:"description=Of sftp: name or address\\, or an alias of your ssh_config"`
	Port        int      `toml:"port" jsonschema:"minimum=0,maximum=65535,description=Of sftp (default: from ssh_config\\, or 22)"`
	User        string   `toml:"user" jsonschema:"description=The account: of sftp (default: from ssh_config\\, or your name on this machine); of webdav (default: none)"`
	Key         string   `toml:"key" jsonschema:"description=Of sftp: file of a private key (default: the agent's keys and those in ~/.ssh)"`
	HostKey     []string `toml:"host_key" jsonschema:"description=Of sftp: fingerprints of the server's key\\, as in SHA256:...; no other is accepted (default: as known_hosts says)"`
	Jump        []string `toml:"jump" jsonschema:"description=Of sftp: servers to go through\\, as user@host:port; [\"none\"] for none (default: as ssh_config says)"`
	PasswordEnv string   `toml:"password_env" jsonschema:"description=Of sftp and webdav: name of the environment variable that holds the password"`
	Command     string   `toml:"command" jsonschema:"description=Of sftp: a command to run on the server after the files are in place"`

	Longest int `toml:"longest" jsonschema:"minimum=0,maximum=3600,description=Of sftp: seconds that the command may take (default 60)"`

	Branch string `toml:"branch" jsonschema:"description=Of git (default: the one that is checked out; of a new clone main)"`
	Folder string `toml:"folder" jsonschema:"description=Of git: folder in the repository (default: its root)"`
	Push   *bool  `toml:"push" jsonschema:"description=Of git: whether the commit is pushed (default true)"`
	Tag    string `toml:"tag" jsonschema:"description=Of git: name of the tag; {name} and {version} are filled in (default: no tag)"`
	Author string `toml:"author" jsonschema:"description=Of git: the commit's author\\, as in Name <address> (default: as Git is set up)"`

	Server   string `toml:"server" jsonschema:"description=Address of the game server's HTTP answer\\, or the name of a file in the target's folder that holds the address; empty: nobody is asked"`
	TokenEnv string `toml:"token_env" jsonschema:"description=Name of the environment variable that holds the token of the server\\, or of the workshop"`
	Wait     int    `toml:"wait" jsonschema:"minimum=0,maximum=3600,description=Seconds that the server may take to notice what is new (default 0; of git 30)"`

	Account         string   `toml:"account" jsonschema:"description=Of workshop: the account that the token must belong to (default: any)"`
	TokenFile       string   `toml:"token_file" jsonschema:"description=Of workshop: file that holds the token\\, which only you may read: absolute\\, from ~/\\, or relative to the project"`
	PlayerTokenEnv  string   `toml:"player_token_env" jsonschema:"description=Of workshop: name of the environment variable that holds the token of a second account\\, with which the item is tried"`
	PlayerTokenFile string   `toml:"player_token_file" jsonschema:"description=Of workshop: file that holds that token"`
	PlainHTTP       bool     `toml:"plain_http" jsonschema:"description=Of workshop: whether the token may go over http to another machine"`
	Testers         []string `toml:"testers" jsonschema:"description=Of workshop: accounts that see the item while it is hidden"`
	Needs           []string `toml:"needs" jsonschema:"description=Of workshop: ids of the items there that players need besides"`

	Maps    []string       `toml:"maps" jsonschema:"description=The only maps that go there (default all)"`
	Without []string       `toml:"without" jsonschema:"description=Maps that do not go there"`
	Page    *bool          `toml:"page" jsonschema:"description=Whether the server's welcome page is written\\, where the game's profile has one (default true)"`
	Keep    int            `toml:"keep" jsonschema:"minimum=0,maximum=100,description=Deployments that can be gone back to (default 5)"`
	Weights map[string]int `toml:"weights" jsonschema:"description=For lists in the order weight: a number for each map\\, also of others; lighter ones stand first"`
}

// Mirror says whether the target is one that players download from.
func (t *Target) Mirror() bool { return t.Role == "mirror" }

// Plays says whether the target is a game server, with lists, a welcome page and a server to ask.
func (t *Target) Plays() bool { return !t.Mirror() && !t.Downloads() }

// Downloads says whether the target is the folder with the index, which players download from.
func (t *Target) Downloads() bool { return t.Role == "downloads" }

// Sends says whether the target takes a map.
func (t *Target) Sends(name string) bool {
	return (len(t.Maps) == 0 || slices.Contains(t.Maps, name)) && !slices.Contains(t.Without, name)
}

// Local is the system path of a target that is a folder of this machine, or a working tree of the
// user's own; empty for others.
func (t *Target) Local(p *Project) string {
	if t.Path == "" || t.Kind != "folder" && t.Kind != "git" {
		return ""
	}
	local := filepath.FromSlash(t.Path)
	if filepath.IsAbs(local) {
		return local
	}
	return filepath.Join(p.Dir, local)
}

// SSH is the address of a target that is reached by SSH, for people and for permissions.
func (t *Target) SSH() string {
	address := "ssh://"
	if t.User != "" {
		address += t.User + "@"
	}
	address += t.Host
	if t.Port != 0 {
		address += fmt.Sprintf(":%d", t.Port)
	}
	return address
}

// Login is the address that a password is sent to; empty where none is.
func (t *Target) Login() string {
	switch t.Kind {
	case "sftp":
		return t.SSH()
	case "webdav":
		return t.URL
	}
	return ""
}

// only names the kinds of targets on which a key has an effect. Keys that are not here have one on every kind.
var only = map[string][]string{
	"role": {"folder", "sftp", "git", "webdav", "web"}, "path": {"folder", "sftp", "git"},
	"url":  {"git", "webdav", "web", "workshop"},
	"host": {"sftp"}, "port": {"sftp"}, "user": {"sftp", "webdav"}, "key": {"sftp"}, "host_key": {"sftp"},
	"jump": {"sftp"}, "password_env": {"sftp", "webdav"}, "command": {"sftp"}, "longest": {"sftp"},
	"branch": {"git"}, "folder": {"git"}, "push": {"git"}, "tag": {"git"}, "author": {"git"},
	"server": {"folder", "sftp", "git"}, "token_env": {"folder", "sftp", "git", "workshop"},
	"wait": {"folder", "sftp", "git"}, "page": {"folder", "sftp", "git"}, "keep": {"folder", "sftp", "git", "webdav"},
	"weights": {"folder", "sftp", "git", "web"},
	"account": {"workshop"}, "token_file": {"workshop"}, "player_token_env": {"workshop"},
	"player_token_file": {"workshop"}, "plain_http": {"workshop"}, "testers": {"workshop"}, "needs": {"workshop"},
}

// idle lists the keys of a target that are set and have no effect on its kind; none where the kind is not known.
func (t *Target) idle() (keys []string) {
	if !slices.Contains([]string{"folder", "sftp", "git", "webdav", "web", "workshop"}, t.Kind) {
		return nil
	}
	v := reflect.ValueOf(*t)
	for i := range v.NumField() {
		key := v.Type().Field(i).Tag.Get("toml")
		if kinds := only[key]; kinds != nil && !v.Field(i).IsZero() && !slices.Contains(kinds, t.Kind) {
			keys = append(keys, key)
		}
	}
	return keys
}

// targets checks what the project says of its targets.
func (p *Project) targets() (list []finding.Finding) {
	for _, name := range slices.Sorted(maps.Keys(p.File.Targets)) {
		t := p.File.Targets[name]
		wrong := func(key, format string, args ...any) {
			list = append(list, p.Doc.Wrong([]any{"target", name, key}, format, args...))
		}
		for _, key := range t.idle() {
			wrong(key, "%s has no effect on a target of kind %q; it belongs to: %s", key, t.Kind,
				strings.Join(only[key], ", "))
		}
		switch t.Kind {
		case "folder":
			if t.Path == "" {
				wrong("path", "path is missing: the server's folder")
			}
		case "sftp":
			if t.Host == "" || strings.HasPrefix(t.Host, "-") {
				wrong("host", "host is missing: the server's name or address")
			}
			if t.Path == "" {
				wrong("path", "path is missing: the folder on the server")
			}
			for _, pin := range t.HostKey {
				if !strings.HasPrefix(pin, "SHA256:") {
					wrong("host_key", "a fingerprint begins with SHA256:, as ssh-keygen -l prints it; %q does not", pin)
				}
			}
		case "git":
			if (t.Path == "") == (t.URL == "") {
				wrong("url", "either url (the repository) or path (a working tree of your own) is needed")
			}
			if strings.Contains(t.URL, "::") {
				wrong("url", "an address with :: would have Git run a program; write a path, or an address that begins with https:// or ssh://")
			}
			if strings.HasPrefix(t.URL, "-") || strings.HasPrefix(t.Branch, "-") {
				wrong("url", "it can't begin with -")
			}
			if t.Folder != "" && safefile.CheckPath(t.Folder) != nil {
				wrong("folder", "%q is no folder inside the repository", t.Folder)
			}
			for _, place := range template.Places(t.Tag) {
				if place != "name" && place != "version" {
					wrong("tag", "{%s} is not known here; {name} and {version} are", place)
				}
			}
		case "webdav":
			u, err := url.Parse(t.URL)
			switch {
			case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.RawQuery != "" ||
				u.Fragment != "":
				wrong("url", "url must be the folder's address, beginning with https://")
			case u.User != nil:
				wrong("url", "a name and password do not belong here; use user and password_env")
			case t.User != "" && credential.Encrypted(t.URL, false, "") != nil:
				wrong("url", "the password would be sent without encryption; use the server's https address")
			}
			if t.PasswordEnv != "" && t.User == "" {
				wrong("user", "user is missing: the account that the password belongs to")
			}
			if t.Plays() {
				wrong("role", "role must be downloads or mirror: a WebDAV server can't switch several files of a game server as one")
			}
		case "web":
			if !strings.HasPrefix(t.URL, "http://") && !strings.HasPrefix(t.URL, "https://") {
				wrong("url", "url is missing: the folder's address, beginning with https://")
			}
		case "workshop":
			if t.URL == "" {
				wrong("url", "url is missing: the workshop's address, or a file that holds it")
			}
			if u, err := url.Parse(t.URL); err == nil && u.User != nil {
				wrong("url", "a token does not belong here; use token_env, token_file or 'vornix publish login %s'",
					name)
			}
		default:
			wrong("kind", "kind must be folder, sftp, git, webdav, web or workshop, and is %q", t.Kind)
		}
		if t.Server != "" && t.TokenEnv != "" && !strings.Contains(t.Server, "://") && t.Local(p) == "" {
			wrong("server", "with token_env the server's whole address belongs here: consent to send the token is for an address, and this one is only known on the target")
		}
		if !slices.Contains([]string{"", "server", "mirror", "downloads"}, t.Role) {
			wrong("role", "role must be server, mirror or downloads, and is %q", t.Role)
		}
		if t.Downloads() {
			for key, set := range map[string]bool{"maps": len(t.Maps) > 0, "without": len(t.Without) > 0,
				"server": t.Server != "", "page": t.Page != nil, "weights": len(t.Weights) > 0} {
				if set {
					wrong(key, "%s has no effect on a target that players download from: it has everything that the index names", key)
				}
			}
			if t.Kind == "web" {
				wrong("role", "nothing can be brought to a target of kind \"web\"; describe the folder behind it (folder, sftp, git or webdav)")
			}
		}
	}
	return list
}
