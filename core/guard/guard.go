// Package guard keeps what must not leave the house out of a release: sources, backups and secrets by their names, and by
// content private keys, access tokens and paths of a home folder, in text and in binary files, in bytes and in UTF-16.
//
// Name looks at a path, a Scanner at content as it goes by. Neither ever repeats a secret: what is said of one is its kind, its
// place and its first letters.
package guard

import (
	"bytes"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"
)

// Version is raised when the rules change: what was found clean by older ones is looked at again.
const Version = 2

// Sort is the sort of thing that must not ship.
type Sort string

// The sorts.
const (
	Source Sort = "source" // what the release is made of
	Backup Sort = "backup"
	Secret Sort = "secret"
	Home   Sort = "home" // where somebody lives on his machine, and what he is called there
)

// Hit is one thing that must not ship.
type Hit struct {
	Sort Sort
	What string // such as "a private key", with no full stop
	At   int64  // byte in the file; -1 when the name alone tells
	Line int    // from 1; 0 in a file that is no text
}

func (h Hit) String() string {
	switch {
	case h.At < 0:
		return h.What
	case h.Line > 0:
		return fmt.Sprintf("%s in line %d", h.What, h.Line)
	}
	return fmt.Sprintf("%s at byte %d", h.What, h.At)
}

// names are patterns of file names, in small letters.
var names = []struct {
	sort    Sort
	what    string
	pattern string
}{
	{Source, "a map source", "*.vnx"}, {Source, "the project file", "vornix.toml"}, {Source, "how a texture is made", "*.texture.toml"},
	{Source, "a layered image, which is a source", "*.{psd,psb,xcf,kra,ora}"}, {Source, "a scene of a modelling program, which is a source", "*.{blend,blend1,max,ma,mb,c4d}"},
	{Source, "a sound project, which is a source", "*.{aup,aup3,rpp}"},
	{Backup, "an editor's backup", "{*~,#*#,.#*,*.swp,*.swo}"}, {Backup, "a backup", "*.{bak,orig,old,rej}"}, {Backup, "a temporary file", "*.{tmp,temp,part}"}, {Backup, "a log", "*.log"},
	{Backup, "a file of the system", "{thumbs.db,desktop.ini,.ds_store,ehthumbs.db}"},
	{Secret, "a file that holds keys", "*.{pem,key,p12,pfx,jks,keystore,kdbx,ppk,token}"}, {Secret, "an SSH key", "id_{rsa,dsa,ecdsa,ed25519}"},
	{Secret, "a file of passwords", "{.env,.env.*,.netrc,_netrc,.npmrc,.htpasswd,.git-credentials,.pgpass}"},
}

// endings are those that the patterns of names speak of.
var endings = sync.OnceValue(func() map[string]bool {
	m := map[string]bool{}
	for _, n := range names {
		_, list, ok := strings.Cut(n.pattern, ".")
		if list = strings.Trim(list, "{}"); ok && strings.HasPrefix(n.pattern, "*.") {
			for e := range strings.SplitSeq(list, ",") {
				m["."+e[strings.LastIndex(e, ".")+1:]] = true
			}
		}
	}
	for _, e := range []string{".db", ".ini", ".swp", ".swo"} {
		m[e] = true
	}
	return m
})

// odd are the letters that the others begin or end with.
const odd = "~#._"

// plain says quickly of nearly all names that no pattern matches them.
func plain(base string) bool {
	return base != "" && !endings()[path.Ext(base)] && !strings.ContainsRune(odd, rune(base[0])) && !strings.ContainsRune(odd, rune(base[len(base)-1])) && !strings.HasPrefix(base, "id_") && base != "vornix.toml"
}

// folders are parts of a path that no release has.
var folders = map[string]Hit{
	".git":    {Source, "a part of the repository", -1, 0},
	".ssh":    {Secret, "a part of a folder of keys", -1, 0},
	".gnupg":  {Secret, "a part of a folder of keys", -1, 0},
	".vornix": {Backup, "what Vornix keeps for itself", -1, 0},
}

// Name says whether a file's name alone tells that it must not ship.
func Name(file string) (Hit, bool) {
	parts := strings.Split(strings.ToLower(file), "/")
	for _, part := range parts[:len(parts)-1] {
		if h, ok := folders[part]; ok {
			return h, true
		}
	}
	base := parts[len(parts)-1]
	if plain(base) {
		return Hit{}, false
	}
	for _, n := range names {
		if ok, _ := doublestar.Match(n.pattern, base); ok {
			return Hit{n.sort, n.what, -1, 0}, true
		}
	}
	return Hit{}, false
}

// rule finds a thing by a piece of it that is quick to search for.
type rule struct {
	piece string // which begins it
	sort  Sort
	judge func(rest string) string // what it is, from what stands behind the piece; empty for nothing
}

func token(form string) func(string) string {
	re := sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^` + form) }) // most commands never need it
	return func(rest string) string {
		if re().MatchString(rest) {
			return "an access token"
		}
		return ""
	}
}

// nobody are names that stand for no person in a path.
var nobody = []string{"user", "username", "users", "name", "you", "yourname", "me", "player", "shared", "public", "default", "example", "guest"}

var person = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^([A-Za-z0-9_][A-Za-z0-9_.-]{0,31})[/\\]`) })

func home(rest string) string {
	m := person().FindStringSubmatch(rest)
	if m == nil || slices.Contains(nobody, strings.ToLower(m[1])) {
		return ""
	}
	return "a path of a home folder"
}

var pem = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(?:[A-Z0-9]+ ){0,3}PRIVATE KEY(?: BLOCK)?-----`) })

// rules are searched for in every file. The pieces tell little about who made a token, and the text about it nothing.
var rules = []rule{
	{"-----BEGIN ", Secret, func(rest string) string {
		if pem().MatchString(rest) {
			return "a private key"
		}
		return ""
	}},
	{"PuTTY-User-Key-File-", Secret, func(string) string { return "a private key" }},
	{"openssh-key-v1\x00", Secret, func(string) string { return "a private key" }},
	{"/home/", Home, home}, {"/Users/", Home, home}, {`:\Users\`, Home, home}, {`:\\Users\\`, Home, func(rest string) string { return home(strings.Replace(rest, `\\`, `\`, 1)) }},
	{"ghp_", Secret, token(`[A-Za-z0-9]{36}`)}, {"gho_", Secret, token(`[A-Za-z0-9]{36}`)}, {"ghs_", Secret, token(`[A-Za-z0-9]{36}`)}, {"github_pat_", Secret, token(`[A-Za-z0-9_]{40}`)},
	{"glpat-", Secret, token(`[A-Za-z0-9_-]{20}`)}, {"xoxb-", Secret, token(`[0-9]{6,}-[0-9A-Za-z-]{10}`)}, {"xoxp-", Secret, token(`[0-9]{6,}-[0-9A-Za-z-]{10}`)}, {"AKIA", Secret, token(`[A-Z0-9]{16}(?:[^A-Za-z0-9]|$)`)}, {"sk_live_", Secret, token(`[A-Za-z0-9]{20}`)},
	{"vornix-token-", Secret, token(`[a-z0-9]{20}`)}, {"npm_", Secret, token(`[A-Za-z0-9]{36}`)}, {"eyJ", Secret, token(`[A-Za-z0-9_-]{12,}\.eyJ[A-Za-z0-9_-]{12,}\.[A-Za-z0-9_-]{16}`)},
}

// wide is a piece as UTF-16 has it, low byte first.
func wide(s string) []byte {
	b := make([]byte, 0, 2*len(s))
	for i := range len(s) {
		b = append(b, s[i], 0)
	}
	return b
}

type needle struct {
	bytes []byte
	step  int
	rule  *rule
}

var needles = sync.OnceValue(func() (list []needle) {
	for i := range rules {
		list = append(list, needle{[]byte(rules[i].piece), 1, &rules[i]})
		if rules[i].sort == Home || rules[i].piece == "-----BEGIN " {
			list = append(list, needle{wide(rules[i].piece), 2, &rules[i]})
		}
	}
	return list
})

// settings are the ends of the names under which a text sets passwords and keys, in small letters.
var settings = []string{"password", "passwd", "passphrase", "secret", "api_key", "api-key", "apikey", "access_key", "access-key", "accesskey", "auth_token", "auth-token", "authtoken",
	"access_token", "access-token", "accesstoken", "private_key", "private-key", "privatekey"}

var value = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[ \t]*["']?([A-Za-z0-9+/_.~!@#$%^&*-]{8,})`) })

// set says whether a password or key is set at the = or : at data[i]. Most are told apart by the letter before it.
func set(data []byte, i int) bool {
	end := i
	for end > 0 && i-end < 8 && (data[end-1] == ' ' || data[end-1] == '\t' || data[end-1] == '"' || data[end-1] == '\'') {
		end--
	}
	if end == 0 {
		return false
	}
	switch data[end-1] | 0x20 {
	case 'd', 'e', 't', 'y', 'n': // the last letters of settings
	default:
		return false
	}
	name := strings.ToLower(string(data[max(0, end-16):end]))
	for _, s := range settings {
		if before, ok := strings.CutSuffix(name, s); ok {
			if n := len(before); n > 0 && before[n-1] >= 'a' && before[n-1] <= 'z' {
				continue
			}
			m := value().FindSubmatch(data[i+1 : min(len(data), i+reach)])
			return m != nil && !placeholder(string(m[1]))
		}
	}
	return false
}

// placeholder says that a value is none.
func placeholder(value string) bool {
	v := strings.ToLower(value)
	if strings.Trim(v, "x*.-_") == "" {
		return true
	}
	letter, digit := false, false
	for _, r := range v {
		letter, digit = letter || r >= 'a' && r <= 'z', digit || r >= '0' && r <= '9'
	}
	return !letter || !digit // a word is a word; what was drawn by chance has both
}

// reach is how much behind a piece is looked at, and how far two parts of a file are looked at together.
const reach = 512

// Scanner looks at a file's content, written to it in order.
type Scanner struct {
	Hits []Hit
	text bool
	seen int64
	line int
	tail []byte // the end of what was written
}

// Write looks at the next bytes; it never fails.
func (s *Scanner) Write(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	if s.seen == 0 {
		s.text, s.line = !bytes.Contains(p[:min(len(p), 8<<10)], []byte{0}), 1
	}
	if len(s.tail) > 0 { // what lies across the border
		joined := append(slices.Clone(s.tail), p[:min(len(p), reach)]...)
		s.look(joined, s.seen-int64(len(s.tail)), len(s.tail), s.line-bytes.Count(s.tail, []byte("\n")))
	}
	s.look(p, s.seen, -1, s.line)
	if s.text {
		s.line += bytes.Count(p, []byte("\n"))
	}
	s.seen += int64(len(p))
	if len(p) >= reach {
		s.tail = append(s.tail[:0], p[len(p)-reach:]...)
	} else {
		s.tail = append(s.tail, p...)
		s.tail = s.tail[max(0, len(s.tail)-reach):]
	}
	return len(p), nil
}

// What may begin with two bytes: a piece of a rule, or a setting.
const (
	piece   = 1
	setting = 2
)

// first says of each two bytes what may begin with them: one look at a byte tells nearly all that is harmless.
var first = sync.OnceValue(func() *[1 << 16]uint8 {
	var t [1 << 16]uint8
	for _, n := range needles() {
		t[int(n.bytes[0])|int(n.bytes[1])<<8] = piece
	}
	for second := range 256 {
		t['='|second<<8] |= setting
		t[':'|second<<8] |= setting
	}
	return &t
})

// look searches data, which begins at the byte at and in that line. With border >= 0 only what reaches across it counts.
func (s *Scanner) look(data []byte, at int64, border, line int) {
	end := len(data) - 1
	if border >= 0 {
		end = min(end, border)
	}
	if end <= 0 {
		return
	}
	begins := first()
	for i, pair := 0, int(data[0])<<8; i < end; i++ {
		pair = pair>>8 | int(data[i+1])<<8
		switch what := begins[pair]; {
		case what&piece != 0:
			s.begins(data, i, at, line)
		case what != 0 && s.text && set(data, i):
			s.setting(data, i, at, line)
		}
	}
}

// begins looks closer at what may begin at data[i].
func (s *Scanner) begins(data []byte, i int, at int64, line int) {
	list := needles()
	for k := range list {
		n := &list[k]
		if n.bytes[0] != data[i] || !bytes.HasPrefix(data[i:], n.bytes) {
			continue
		}
		rest := data[i+len(n.bytes):]
		rest = rest[:min(len(rest), reach)]
		if n.step == 2 {
			narrow := make([]byte, 0, len(rest)/2)
			for k := 0; k+1 < len(rest) && rest[k+1] == 0; k += 2 {
				narrow = append(narrow, rest[k])
			}
			rest = narrow
		}
		if what := n.rule.judge(string(rest)); what != "" {
			s.add(Hit{n.rule.sort, what, at + int64(i), s.lineAt(data, i, line)})
		}
	}
	if data[i] == ':' && s.text && set(data, i) { // which some pieces begin with too
		s.setting(data, i, at, line)
	}
}

func (s *Scanner) setting(data []byte, i int, at int64, line int) {
	s.add(Hit{Secret, "a password or key in a setting", at + int64(i), s.lineAt(data, i, line)})
}

func (s *Scanner) lineAt(data []byte, i, line int) int {
	if !s.text {
		return 0
	}
	return line + bytes.Count(data[:i], []byte("\n"))
}

// mostHits is how many are noted of one file.
const mostHits = 20

func (s *Scanner) add(h Hit) {
	if len(s.Hits) < mostHits && !slices.ContainsFunc(s.Hits, func(o Hit) bool { return o.At == h.At && o.Sort == h.Sort }) {
		s.Hits = append(s.Hits, h)
	}
}

// Scan looks at content that is whole in memory.
func Scan(data []byte) []Hit {
	var s Scanner
	_, _ = s.Write(data)
	return s.Hits
}

// IsSource says whether a name's ending is that of something that a release is made of.
func IsSource(file string) bool {
	h, ok := Name(path.Base(file))
	return ok && h.Sort == Source
}
