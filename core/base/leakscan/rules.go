package leakscan

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode/utf16"
	"unicode/utf8"
)

// rule finds a thing by a piece of it that is quick to search for.
type rule struct {
	piece string // which begins it
	sort  Sort
	// judge says what it is, from what stands behind the piece and before it; empty for nothing. Of
	// UTF-16 it does not get what stands before.
	judge func(rest string, before []byte) string
}

// lazily compiles an expression when it is first needed: most commands never do.
func lazily(form string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(?:` + form + `)`) })
}

func token(form string) func(string, []byte) string { return named("an access token", form) }

func named(what, form string) func(string, []byte) string {
	re := lazily(form)
	return func(rest string, _ []byte) string {
		if re().MatchString(rest) {
			return what
		}
		return ""
	}
}

func always(what string) func(string, []byte) string {
	return func(string, []byte) string { return what }
}

// impersonal lists account names of examples and systems, which reveal no person.
var impersonal = []string{"user", "username", "users", "name", "you", "yourname", "your name", "me", "player", "shared",
	"public", "default", "example", "guest", "runner", "builder", "somebody", "someone", "gopher", "some-user",
	"all users", "default user"}

// person is a name of an account, as systems allow it: letters of all languages, and spaces within.
var person = lazily(`([\p{L}\p{N}_][\p{L}\p{N}\p{M}_.'-]{0,31}(?: [\p{L}\p{N}][\p{L}\p{N}\p{M}_.'-]{0,31}){0,3})[/\\]`)

func home(rest string, before []byte) string {
	m := person().FindStringSubmatch(rest)
	if m == nil || slices.Contains(impersonal, strings.ToLower(m[1])) || inAddress(before) {
		return ""
	}
	return "a path of a home folder"
}

// inAddress says whether what follows is the path in an address of a server, which is nobody's home.
func inAddress(before []byte) bool {
	at := bytes.LastIndex(before, []byte("://"))
	return at >= 0 && !bytes.ContainsAny(before[at:], " \t\r\n\"'<>()") &&
		!bytes.HasSuffix(bytes.ToLower(before[:at]), []byte("file")) && len(before)-at > 3
}

// login is what stands between scheme:// and the host in an address with a password (RFC 3986, section 3.2.1).
var login = lazily(`[A-Za-z0-9._~%+-]{1,64}:([^@/\s"'<>{}$\\]{4,128})@[A-Za-z0-9.-]+`)

func address(rest string, _ []byte) string {
	m := login().FindStringSubmatch(rest)
	if m == nil || slices.Contains([]string{"password", "passwd", "pass", "secret", "token", "xxxx", "pwd", "user",
		"user2", "password1"}, strings.ToLower(m[1])) || strings.Trim(m[1], "x*.") == "" {
		return ""
	}
	return "a password in an address"
}

// encoded is a private key that was encoded as Base64 once more: some settings want it so.
func encoded(offset int, piece string) func(string, []byte) string {
	return func(rest string, _ []byte) string {
		text := piece + rest
		if end := strings.IndexFunc(text, func(r rune) bool {
			return (r < 'A' || r > 'Z') && (r < 'a' || r > 'z') && (r < '0' || r > '9') && r != '+' && r != '/'
		}); end >= 0 {
			text = text[:end]
		}
		text = text[offset:]
		data, _ := base64.RawStdEncoding.DecodeString(text[:len(text)/4*4])
		if bytes.Contains(data[:min(len(data), 80)], []byte("PRIVATE KEY")) {
			return "a private key, encoded as Base64"
		}
		return ""
	}
}

// rules are searched for in every file. Shapes of tokens are those that their issuers document, so
// that they can be found.
var rules = []rule{
	{"-----BEGIN ", Secret, named("a private key", `(?:[A-Z0-9]+ ){0,3}PRIVATE KEY(?: BLOCK)?-----`)},
	{"PuTTY-User-Key-File-", Secret, always("a private key")},
	{"openssh-key-v1\x00", Secret, always("a private key")},
	{"AGE-SECRET-KEY-1", Secret, named("a private key", `[A-Z0-9]{58}`)},
	{"LS0tLS1CRUdJTi", Secret, encoded(0, "LS0tLS1CRUdJTi")}, {"0tLS0tQkVHSU4g", Secret, encoded(2, "0tLS0tQkVHSU4g")},
	{"tLS0tLUJFR0lOI", Secret, encoded(1, "tLS0tLUJFR0lOI")},
	{"/home/", Home, home}, {"/Users/", Home, home}, {`:\Users\`, Home, home},
	{`:\\Users\\`, Home,
		func(rest string, before []byte) string { return home(strings.Replace(rest, `\\`, `\`, 1), before) }},
	{"://", Secret, address},
	{"Bearer ", Secret, bearer}, {"bearer ", Secret, bearer},
	{"uthorization: Basic ", Secret, named("a password in a header", `[A-Za-z0-9+/]{12,}={0,2}`)},

	// Code hosts and registries.
	{"ghp_", Secret, token(`[A-Za-z0-9]{36}`)}, {"gho_", Secret, token(`[A-Za-z0-9]{36}`)},
	{"ghu_", Secret, token(`[A-Za-z0-9]{36}`)}, {"ghs_", Secret, token(`[A-Za-z0-9]{36}`)},
	{"ghr_", Secret, token(`[A-Za-z0-9]{36}`)},
	{"github_pat_", Secret, token(`[A-Za-z0-9_]{40}`)}, {"glpat-", Secret, token(`[A-Za-z0-9_-]{20}`)},
	{"gldt-", Secret, token(`[A-Za-z0-9_-]{20}`)}, {"glrt-", Secret, token(`[A-Za-z0-9_-]{20}`)},
	{"npm_", Secret, token(`[A-Za-z0-9]{36}`)}, {"pypi-AgE", Secret, token(`[A-Za-z0-9_-]{50}`)},
	{"dckr_pat_", Secret, token(`[A-Za-z0-9_-]{20}`)}, {"ATATT3", Secret, token(`[A-Za-z0-9_=-]{50}`)},
	// Clouds.
	{"AKIA", Secret, token(`[A-Z0-9]{16}(?:[^A-Za-z0-9]|$)`)},
	{"ASIA", Secret, token(`[A-Z0-9]{16}(?:[^A-Za-z0-9]|$)`)},
	{"AIza", Secret, token(`[A-Za-z0-9_-]{35}(?:[^A-Za-z0-9_-]|$)`)}, {"ya29.", Secret, token(`[A-Za-z0-9_-]{30}`)},
	{"AccountKey=", Secret, token(`[A-Za-z0-9+/]{60,}={0,2}`)}, {"dop_v1_", Secret, token(`[a-f0-9]{64}`)},
	{"hvs.", Secret, token(`[A-Za-z0-9_-]{24}`)}, {"shpat_", Secret, token(`[a-fA-F0-9]{32}`)},
	{"glsa_", Secret, token(`[A-Za-z0-9]{32}`)},
	// Chat.
	{"xoxb-", Secret, token(`[0-9]{6,}-[0-9A-Za-z-]{10}`)}, {"xoxp-", Secret, token(`[0-9]{6,}-[0-9A-Za-z-]{10}`)},
	{"xoxa-", Secret, token(`[0-9]{1,}-[0-9A-Za-z-]{10}`)},
	{"xapp-", Secret, token(`[0-9]-[A-Z0-9]{8,}-[0-9]{8,}-[a-z0-9]{20}`)},
	{"hooks.slack.com/services/", Secret, token(`T[A-Z0-9]{6,}/B[A-Z0-9]{6,}/[A-Za-z0-9]{16}`)},
	{"discord.com/api/webhooks/", Secret, token(`[0-9]{15,}/[A-Za-z0-9_-]{40}`)},
	{"discordapp.com/api/webhooks/", Secret, token(`[0-9]{15,}/[A-Za-z0-9_-]{40}`)},
	{"api.telegram.org/bot", Secret, token(`[0-9]{8,10}:[A-Za-z0-9_-]{35}`)},
	// Payment and mail.
	{"sk_live_", Secret, token(`[A-Za-z0-9]{20}`)}, {"rk_live_", Secret, token(`[A-Za-z0-9]{20}`)},
	{"SG.", Secret, token(`[A-Za-z0-9_-]{22}\.[A-Za-z0-9_-]{43}`)},
	// AI services.
	{"sk-proj-", Secret, token(`[A-Za-z0-9_-]{40}`)}, {"sk-ant-", Secret, token(`[A-Za-z0-9_-]{40}`)},
	{"hf_", Secret, token(`[A-Za-z0-9]{34}(?:[^A-Za-z0-9_]|$)`)}, {"T3BlbkFJ", Secret, token(`[A-Za-z0-9]{20}`)},
	// Any: JSON Web Tokens (RFC 7519), and Vornix's own.
	{"eyJ", Secret, token(`[A-Za-z0-9_-]{12,}\.eyJ[A-Za-z0-9_-]{12,}\.[A-Za-z0-9_-]{16}`)},
	{"vornix-token-", Secret, token(`[a-z0-9]{20}`)},

	{"PK\x03\x04", Packed, nil}, {"\x1f\x8b\x08", Packed, nil}, {"zTXt", Packed, nil}, {"iTXt", Packed, nil},
}

var bearing = lazily(`([A-Za-z0-9._~+/-]{16,})`)

// bearer is a token in a header (RFC 6750).
func bearer(rest string, _ []byte) string {
	if m := bearing().FindStringSubmatch(rest); m != nil && !placeholder(m[1]) {
		return "an access token"
	}
	return ""
}

// wide is a piece as UTF-16 has it, in either order of bytes: without the zero at either end.
func wide(s string) []byte {
	b := make([]byte, 0, 2*len(s))
	for i := range len(s) {
		b = append(b, s[i], 0)
	}
	return b[:len(b)-1]
}

// widened is what stands behind a piece in UTF-16, in the order of bytes in which it makes sense.
func widened(rest []byte) string {
	decode := func(b []byte, order binary.ByteOrder) string {
		units := make([]uint16, 0, len(b)/2)
		for ; len(b) >= 2; b = b[2:] {
			units = append(units, order.Uint16(b))
		}
		return string(utf16.Decode(units))
	}
	if len(rest) < 2 {
		return ""
	}
	little, big := decode(rest[1:], binary.LittleEndian), decode(rest, binary.BigEndian)
	if ascii(little) >= ascii(big) {
		return little
	}
	return big
}

// ascii counts the characters of ASCII.
func ascii(s string) (n int) {
	for _, r := range s {
		if r < utf8.RuneSelf {
			n++
		}
	}
	return n
}

type needle struct {
	bytes []byte
	wide  bool
	rule  *rule
}

// needles are the pieces by their first two bytes, the second one high.
var needles = sync.OnceValue(func() map[int][]needle {
	m := map[int][]needle{}
	add := func(n needle) {
		pair := int(n.bytes[0]) | int(n.bytes[1])<<8
		m[pair] = append(m[pair], n)
	}
	for i := range rules {
		r := &rules[i]
		add(needle{[]byte(r.piece), false, r})
		if r.sort != Packed && !strings.Contains(r.piece, "\x00") {
			add(needle{wide(r.piece), true, r})
		}
	}
	return m
})
