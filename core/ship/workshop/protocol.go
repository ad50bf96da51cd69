// Package workshop is Vornix's protocol for workshops, places where players find mods: HTTP with JSON, described in
// docs/workshop/openapi.yaml (OpenAPI 3.1); errors are problem details (RFC 9457).
//
// protocol.go has what goes over the line, limits.go holds a page to what a workshop takes,
// markdown.go reads descriptions, page.go shows a page as players see it, client.go speaks. Package
// workshop/stand is the other side: a small workshop to test against.
//
// An item is made hidden. What changes goes into a draft: the page, and the files and pictures as
// lists of chunks, of which only those are sent that the workshop lacks. When all is there, one
// request checks it and makes it the item's next state, all at once. An item has a revision that
// each change raises; who wants to change it says which one was seen, and another's change in
// between is refused, not overwritten.
package workshop

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"vornix/core/format/cdc"
)

// Protocol is the number of the protocol that is spoken here.
const Protocol = 1

// Visibility says who finds an item.
type Visibility string

// An item is made Hidden: only its owner and its testers see it.
const (
	Hidden Visibility = "hidden"
	Link   Visibility = "link" // whoever has its address
	Public Visibility = "public"
)

// About is what a workshop says of itself.
type About struct {
	Protocol int               `json:"protocol"`
	ID       string            `json:"id"` // stays the same when its address changes
	Name     string            `json:"name"`
	Account  string            `json:"account,omitempty"` // whose token it was asked with
	Kinds    map[string]Limits `json:"kinds"`             // of items
}

// Item is a thing that a workshop offers.
type Item struct {
	ID         string      `json:"id"`
	Key        string      `json:"key,omitempty"` // by which its owner finds it again; only the owner sees it
	Kind       string      `json:"kind"`
	Owner      string      `json:"owner"`
	Visibility Visibility  `json:"visibility"`
	Revision   int         `json:"revision"` // raised by each change
	Page       Page        `json:"page"`
	Current    int         `json:"current"`           // number of the version that players get; 0 for none
	Version    string      `json:"version,omitempty"` // what its maker calls it
	Size       int64       `json:"size,omitempty"`    // of its files, in bytes
	Withdrawn  *Withdrawal `json:"withdrawn,omitempty"`
	Followers  int         `json:"followers"`
	Downloads  int         `json:"downloads"`
	Following  bool        `json:"following"` // whoever asks follows it
	Made       time.Time   `json:"made"`
	Changed    time.Time   `json:"changed"`
	By         string      `json:"by"` // program that changed it last
	// Own are hashes of the parts of the page as its maker's program wrote them last, by part; only
	// the owner sees them.
	Own map[string]string `json:"own,omitempty"`
}

// Page is what people read of an item.
type Page struct {
	Title       string    `json:"title"`
	Description string    `json:"description"` // Markdown
	Tags        []string  `json:"tags"`
	Modes       []string  `json:"modes"`
	Needs       []string  `json:"needs"`   // ids of items that it can't be played without
	Testers     []string  `json:"testers"` // accounts that see it while it is hidden; only the owner sees them
	Pictures    []Picture `json:"pictures"`
}

// Picture is a picture of a page. The first is the one that stands in lists.
type Picture struct {
	Name   string      `json:"name"`
	Text   string      `json:"text"` // for those who don't see it
	SHA256 string      `json:"sha256"`
	Size   int64       `json:"size"`
	Chunks []cdc.Chunk `json:"chunks,omitempty"`
	Form   string      `json:"form,omitempty"` // png or jpeg; found out by the workshop, as are its sides in pixels
	Width  int         `json:"width,omitempty"`
	Height int         `json:"height,omitempty"`
}

// File is a file that players get.
type File struct {
	Name   string      `json:"name"`
	SHA256 string      `json:"sha256"`
	Size   int64       `json:"size"`
	Chunks []cdc.Chunk `json:"chunks,omitempty"` // where one version is asked for
}

// Version is a state of an item's files.
type Version struct {
	Number    int         `json:"number"` // from 1, in the order in which they came
	Version   string      `json:"version"`
	Notes     string      `json:"notes"` // Markdown
	Files     []File      `json:"files"`
	Time      time.Time   `json:"time"`
	Draft     string      `json:"draft,omitempty"`
	Withdrawn *Withdrawal `json:"withdrawn,omitempty"`
}

// Withdrawal says why something is not to be had any more.
type Withdrawal struct {
	Reason string    `json:"reason"`
	Time   time.Time `json:"time"`
}

// NewItem makes an item, which is hidden. Of one account only one has the key: asking twice gives the same item.
type NewItem struct {
	Key   string `json:"key"`
	Kind  string `json:"kind"`
	Title string `json:"title"`
}

// NewDraft is what an item is to become. The same draft twice is one.
type NewDraft struct {
	Page    Page   `json:"page"`
	Version string `json:"version,omitempty"`
	Notes   string `json:"notes,omitempty"`
	Files   []File `json:"files,omitempty"` // none: only the page changes
	// Own is kept with the page for later runs of the program, wherever they are; without it, what
	// was kept before stays. The workshop does not read it.
	Own map[string]string `json:"own,omitempty"`
}

// Draft is how far a draft is.
type Draft struct {
	ID       string    `json:"id"`
	State    string    `json:"state"`             // one of the States
	Missing  []string  `json:"missing"`           // hashes of chunks that must be sent
	Version  int       `json:"version,omitempty"` // number of the version that it became
	Revision int       `json:"revision,omitempty"`
	Expires  time.Time `json:"expires,omitzero"` // when what was sent for it is forgotten
	Problem  *Problem  `json:"problem,omitempty"`
}

// States of a draft.
const (
	Open      = "open"
	Checking  = "checking"
	Published = "published"
	Refused   = "refused"
)

// Publish makes a draft the item's next state, when the item has still the revision that was seen.
type Publish struct {
	After int `json:"after"`
}

// Event is something that happened to an item.
type Event struct {
	Time     time.Time `json:"time"`
	By       string    `json:"by"` // account and program
	What     string    `json:"what"`
	Revision int       `json:"revision"`
	Version  string    `json:"version,omitempty"`
}

// Problem is why a request was refused (RFC 9457).
type Problem struct {
	Type     string   `json:"type"` // one of the Problems
	Title    string   `json:"title"`
	Status   int      `json:"status"`
	Detail   string   `json:"detail,omitempty"`
	Fields   []Wrong  `json:"fields,omitempty"`
	Revision int      `json:"revision,omitempty"` // of the item now, when another one was expected
	Missing  []string `json:"missing,omitempty"`
}

func (p *Problem) Error() string {
	if p.Detail != "" {
		return fmt.Sprintf("%s: %s", p.Title, p.Detail)
	}
	return p.Title
}

// Types of problems, as relative addresses (RFC 9457, section 3.1.1).
const (
	NotLetIn    = "/problems/not-let-in"   // no token, or one that is not known
	NotYours    = "/problems/not-yours"    // somebody else's item
	NotThere    = "/problems/not-there"    // no such item, or hidden from whoever asks
	Gone        = "/problems/gone"         // it was deleted
	Conflict    = "/problems/conflict"     // it was changed meanwhile
	Unfinished  = "/problems/unfinished"   // chunks are missing
	Invalid     = "/problems/invalid"      // the limits are not kept; Fields says where
	WrongHash   = "/problems/wrong-hash"   // content is not what its hash says
	TooLarge    = "/problems/too-large"    // more than is taken
	TooSlow     = "/problems/too-slow"     // a request that does not end
	Malformed   = "/problems/malformed"    // a request that is none
	NotPossible = "/problems/not-possible" // not in the state that the item is in
	Busy        = "/problems/busy"         // try again later
	Failed      = "/problems/failed"       // the workshop itself has a fault
)

// Most is what no workshop takes more of, in bytes.
const (
	MaxMessage = 16 << 20
	MaxChunk   = cdc.Limit
)

// word says whether s begins with a letter or a digit and has only letters, digits and these
// characters, at least so many and at most so many. It is no regular expression because those are
// made when the program starts, whatever it does.
func word(s, more string, capitals bool, lowest, limit int) bool {
	if len(s) < lowest || len(s) > limit {
		return false
	}
	for i := range len(s) {
		c := s[i]
		plain := c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || capitals && c >= 'A' && c <= 'Z'
		if !plain && (i == 0 || strings.IndexByte(more, c) < 0) {
			return false
		}
	}
	return true
}

// IsID says whether a string can be an item's id.
func IsID(s string) bool { return word(s, "", false, 6, 40) }

// IsHash says whether a string can be a SHA-256.
func IsHash(s string) bool { return len(s) == 64 && strings.Trim(s, "0123456789abcdef") == "" }

// IsKey says whether a string can be a key.
func IsKey(s string) bool { return word(s, "_./-", false, 1, 120) }

// IsAccount says whether a string can be an account's name.
func IsAccount(s string) bool { return word(s, "_-", false, 1, 40) }

// isName says whether a string can be a file's or a picture's name.
func isName(s string) bool { return word(s, "_.-", true, 1, 120) }

// Changed names the parts of a page in which two differ, in the order of Page's members.
func Changed(a, b *Page) (list []string) {
	if a.Title != b.Title {
		list = append(list, "title")
	}
	if a.Description != b.Description {
		list = append(list, "description")
	}
	for _, x := range []struct {
		name string
		a, b []string
	}{{"tags", a.Tags, b.Tags}, {"modes", a.Modes, b.Modes}, {"needs", a.Needs, b.Needs},
		{"testers", a.Testers, b.Testers}} {
		if !slices.Equal(x.a, x.b) {
			list = append(list, x.name)
		}
	}
	if !slices.EqualFunc(a.Pictures, b.Pictures,
		func(p, q Picture) bool { return p.Name == q.Name && p.SHA256 == q.SHA256 && p.Text == q.Text }) {
		list = append(list, "pictures")
	}
	return list
}
