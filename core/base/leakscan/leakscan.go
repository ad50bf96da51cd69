// Package leakscan keeps what must not leave the house out of a release: sources, backups and
// secrets by their names, and by content private keys, access tokens, passwords and paths of a home
// folder: in text and in binary files, in bytes and in UTF-16, and in compressed content that they
// hold (ZIP, gzip, zlib), within bounds. So it sees into the metadata of images and sounds too
// (EXIF, XMP, ID3, RIFF INFO, PNG text).
//
// Name looks at a path, a Scanner at content as it goes by. Neither ever repeats a secret: what is
// said of one is its kind, its place and its first letters.
package leakscan

import (
	"bytes"
	"fmt"
	"math"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"
)

// Version is raised when the rules change: what was found clean by older ones is looked at again.
const Version = 3

// Sort is the sort of thing that must not ship.
type Sort string

// The sorts.
const (
	Source Sort = "source" // what the release is made of
	Backup Sort = "backup"
	Secret Sort = "secret"
	Home   Sort = "home" // where somebody lives on his machine, and what he is called there

	Packed Sort = "packed" // of rules: the beginning of compressed content, which is looked into
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
	{Source, "a map source", "*.vnx"}, {Source, "the project file", "vornix.toml"},
	{Source, "how a texture is made", "*.texture.toml"},
	{Source, "a layered image, which is a source", "*.{psd,psb,xcf,kra,ora}"},
	{Source, "a scene of a modelling program, which is a source", "*.{blend,blend1,max,ma,mb,c4d}"},
	{Source, "a sound project, which is a source", "*.{aup,aup3,rpp}"},
	{Backup, "an editor's backup", "{*~,#*#,.#*,*.swp,*.swo}"}, {Backup, "a backup", "*.{bak,orig,old,rej}"},
	{Backup, "a temporary file", "*.{tmp,temp,part}"}, {Backup, "a log", "*.log"},
	{Backup, "a file of the system", "{thumbs.db,desktop.ini,.ds_store,ehthumbs.db}"},
	{Secret, "a file that holds keys", "*.{key,p12,pfx,jks,keystore,kdbx,ppk,token}"},
	{Secret, "an SSH key", "id_{rsa,dsa,ecdsa,ed25519}"},
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
	return base != "" && !endings()[path.Ext(base)] && !strings.ContainsRune(odd, rune(base[0])) &&
		!strings.ContainsRune(odd, rune(base[len(base)-1])) && !strings.HasPrefix(base, "id_") && base != "vornix.toml"
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

// settings are the ends of the names under which a text sets passwords and keys, in small letters.
var settings = []string{"password", "passwd", "passphrase", "secret", "api_key", "api-key", "apikey", "access_key",
	"access-key", "accesskey", "auth_token", "auth-token", "authtoken",
	"access_token", "access-token", "accesstoken", "private_key", "private-key", "privatekey"}

// value is what is set: one word, or several of a passphrase.
var (
	value = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^[ \t]*["']?([A-Za-z0-9+/_.~!@#$%^&*-]{8,})`)
	})
	phrase = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^[ \t]*["']?([A-Za-z0-9]{2,14}(?:[ -][A-Za-z0-9]{2,14}){3,9})["']?[ \t]*[,;]?[ \t]*(?:\r?\n|$)`)
	})
)

// function are words that sentences are made of, and passphrases are not.
var function = strings.Fields("a an and are as at be been but by can do does enter field file for form from has have here if in into is it its key may more must name new no not of on one only or other password " +
	"please set should so string such text than that the their them then there these they this to too type up used user uses using value was what when where which who will with without you your")

// passphrase says whether several words are drawn by chance, and no sentence.
func passphrase(words string) bool {
	list := strings.FieldsFunc(strings.ToLower(words), func(r rune) bool { return r == ' ' || r == '-' })
	for i, w := range list {
		if slices.Contains(function, w) || slices.Contains(list[:i], w) {
			return false
		}
	}
	return len(list) >= 4
}

// set says whether a password or key is set at the = or : at data[i]. Most are told apart by the letter before it.
func set(data []byte, i int) bool {
	end := i
	for end > 0 && i-end < 8 &&
		(data[end-1] == ' ' || data[end-1] == '\t' || data[end-1] == '"' || data[end-1] == '\'') {
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
			rest := data[i+1 : min(len(data), i+reach)]
			if m := phrase().FindSubmatch(rest); m != nil && passphrase(string(m[1])) {
				return true
			}
			m := value().FindSubmatchIndex(rest)
			// a call or a type in a program
			if m == nil || m[3] < len(rest) && strings.IndexByte("({[", rest[m[3]]) >= 0 {
				return false
			}
			text := string(rest[m[2]:m[3]])
			// PrivateKey: testPrivateKey
			if quoted := m[2] > 0 && strings.IndexByte("\"'`", rest[m[2]-1]) >= 0; !quoted &&
				!strings.Contains(s, "pass") && strings.HasSuffix(strings.ToLower(text), s) {
				return false
			}
			return !placeholder(text)
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
	if letter && digit {
		return false
	}
	return !letter || !chance(value) // a word is a word; what was drawn by chance mostly has both
}

// chance says whether letters alone look as if they were drawn by chance: many, in both cases, of
// nearly all kinds, with capitals where no word has them.
func chance(value string) bool {
	if len(value) < 16 || strings.ContainsAny(value, "._-/ ") {
		return false
	}
	var counts [256]int
	changes := 0
	for i := range len(value) {
		counts[value[i]]++
		if i > 0 && (value[i] >= 'a') != (value[i-1] >= 'a') {
			changes++
		}
	}
	bits := 0.0
	for _, n := range counts {
		if n > 0 {
			p := float64(n) / float64(len(value))
			bits -= float64(p * math.Log2(p))
		}
	}
	return bits > 3.5 && changes*5 >= len(value)*2 // names of programs change case once in five letters
}

// reach is how much behind a piece is looked at, and how far two parts of a file are looked at together.
const reach = 512

// Scanner looks at a file's content, written to it in order. Done is called at its end, before Hits counts.
type Scanner struct {
	Hits []Hit
	text bool
	seen int64
	line int
	tail []byte // the end of what was written

	packed []*packed // what may be compressed content, as far as it has come
	left   int64     // bytes that may still be unpacked
	depth  int       // how deep this content was packed
	wide   *Scanner  // looks at the same in single bytes, when the file is a text in UTF-16
	order  int       // of the bytes of UTF-16: which of two is the high one
	half   []byte    // of a character that is cut

	base   int64  // where what is being looked at begins
	joined []byte // while a border is looked at: the part behind it
	border int
}

// Write looks at the next bytes; it never fails.
func (s *Scanner) Write(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	if s.seen == 0 {
		s.text, s.line = !bytes.Contains(p[:min(len(p), 8<<10)], []byte{0}), 1
		if s.left == 0 && s.depth == 0 {
			s.left = maxUnpacked
		}
	}
	if s.wide != nil {
		s.narrow(p)
	} else if s.seen < 2 && s.depth == 0 {
		begin := append(slices.Clone(s.tail), p...)
		if order := byteOrder(begin); order >= 0 {
			s.wide, s.order = &Scanner{depth: 1}, order
			s.narrow(begin)
		}
	}
	s.collect(p)
	if len(s.tail) > 0 { // what lies across the border
		joined := append(slices.Clone(s.tail), p[:min(len(p), reach)]...)
		s.joined, s.border = p, len(s.tail)
		s.look(joined, s.seen-int64(len(s.tail)), len(s.tail), s.line-bytes.Count(s.tail, []byte("\n")))
	}
	s.joined = nil
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
	for pair := range needles() {
		t[pair] = piece
	}
	for second := range 256 {
		t['='|second<<8] |= setting
		t[':'|second<<8] |= setting
	}
	return &t
})

// look searches data, which begins at the byte at and in that line. With border >= 0 only what
// reaches across it counts.
func (s *Scanner) look(data []byte, at int64, border, line int) {
	end := len(data) - 1
	if border >= 0 {
		end = min(end, border)
	}
	if end <= 0 {
		return
	}
	s.base = at
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
	list := needles()[int(data[i])|int(data[i+1])<<8]
	for k := range list {
		n := &list[k]
		if !bytes.HasPrefix(data[i:], n.bytes) {
			continue
		}
		rest := data[i+len(n.bytes):]
		rest = rest[:min(len(rest), reach)]
		before := data[max(0, i-reach/2):i]
		text := ""
		if n.wide {
			text, before = widened(rest), nil
		} else {
			text = string(rest)
		}
		if n.rule.sort == Packed {
			s.unpacks(n.rule, data, i)
			continue
		}
		if what := n.rule.judge(text, before); what != "" {
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

// maxHits is how many are noted of one file.
const maxHits = 20

func (s *Scanner) add(h Hit) {
	said := func(o Hit) bool {
		// one hit for each line
		return o.Sort == h.Sort && (max(o.At-h.At, h.At-o.At) < 4 || h.Line > 0 && o.Line == h.Line && o.What == h.What)
	}
	if len(s.Hits) < maxHits && !slices.ContainsFunc(s.Hits, said) {
		s.Hits = append(s.Hits, h)
	}
}

// Scan looks at content that is whole in memory.
func Scan(data []byte) []Hit {
	var s Scanner
	_, _ = s.Write(data)
	s.Done()
	return s.Hits
}
