package patch

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"vornix/core/base/charset"
	"vornix/core/base/confedit"
	"vornix/core/base/diff"
	"vornix/core/base/fault"
)

// Conflicts say what is done where a text was changed by the patch and by somebody else.
type Conflicts string

// What is done with conflicts.
const (
	Refuse Conflicts = ""     // nothing is changed
	Keep   Conflicts = "keep" // what is there stays
	Take   Conflicts = "take" // the patch's comes
)

// Contradiction is a file in which the patch and somebody else changed the same.
type Contradiction struct {
	Path   string          `json:"path"`
	Places []diff.Conflict `json:"places"`
}

// ConflictError says that texts can't be merged.
type ConflictError struct {
	Files []Contradiction `json:"files"`
}

func (e *ConflictError) Error() string {
	n := 0
	for _, f := range e.Files {
		n += len(f.Places)
	}
	return fmt.Sprintf("the patch and somebody else changed the same (places: %d, files: %d)", n, len(e.Files))
}

// readText reads a text of any of the encodings that tell themselves, or of Windows' old one.
func readText(data []byte) (*charset.Text, error) { return charset.Read(data, "windows-1252") }

// style is how a text that was read is written again.
func style(t *charset.Text) charset.Style {
	if t.CRLF > 0 && t.LF == 0 {
		return charset.Style{Lines: "crlf"}
	}
	return charset.Style{}
}

// words is a text's content with plain line ends, unless it has both kinds: those stay where they are.
func words(t *charset.Text) string {
	if t.LF > 0 {
		return t.Content
	}
	return lf(t.Content)
}

func lf(s string) string { return strings.ReplaceAll(s, "\r\n", "\n") }

// edit does an edit step. have is the text as it is; when that is not what it was, the change is merged into it.
func (o *Opened) edit(s *Step, have []byte, policy Conflicts) (out []byte, places []diff.Conflict, err error) {
	change, err := o.content(s.Data, 4*maxText)
	if err != nil {
		return nil, nil, err
	}
	was, err := o.content(s.Was, maxText)
	if err != nil {
		return nil, nil, err
	}
	a, err := charset.Read(was, "")
	if err != nil {
		return nil, nil, o.damaged(s.Was, err)
	}
	b, err := diff.Apply(a.Content, string(change))
	if err != nil {
		return nil, nil, o.damaged(s.Data, err)
	}
	if bytes.Equal(have, was) {
		out, err := a.WithContent(b).Write(charset.Style{})
		return out, nil, err
	}
	t, err := readText(have)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", s.Path, err)
	}
	base, ours, theirs := lf(a.Content), words(t), lf(b)
	merged, places, done := mergeKeys(s.Form, base, ours, theirs, policy)
	if !done {
		merged, places = diff.Merge(base, ours, theirs)
		if len(places) > 0 && policy == Take {
			merged, _ = diff.Merge(base, theirs, ours) // the other way round, where they contradict the patch's stands
		}
	}
	if len(places) > 0 && policy == Refuse {
		return nil, places, nil
	}
	out, err = t.WithContent(merged).Write(style(t))
	return out, places, err
}

// mergeKeys merges settings key by key, where keys say all that changed: lines that only stand side
// by side are no contradiction.
func mergeKeys(form, base, ours, theirs string, policy Conflicts) (string, []diff.Conflict, bool) {
	list, ok := confedit.KeyChanges(form, base, theirs)
	if !ok {
		return "", nil, false
	}
	merged, places, err := confedit.ChangeKeys(form, ours, list)
	if err != nil {
		return "", nil, false
	}
	if policy == Take {
		for _, c := range list {
			if c.New == nil {
				merged, err = confedit.Remove(form, merged, c.Path)
			} else {
				merged, err = confedit.Set(form, merged, c.Path, *c.New)
			}
			if err != nil {
				return "", nil, false
			}
		}
	}
	return merged, places, true
}

// settings does a settings step on whatever the file is. It says what it did; nothing when all was so already.
func settings(s *Step, have []byte, there bool) (out []byte, did []string, err error) {
	t := &charset.Text{Encoding: "utf-8"}
	if there {
		if t, err = readText(have); err != nil {
			return nil, nil, fmt.Errorf("%s: %w", s.Path, err)
		}
	}
	content := words(t)
	for _, l := range s.Lines {
		var added bool
		if content, added = diff.AddLine(content, l.Add, l.After); added {
			did = append(did, "line added: "+l.Add)
		}
	}
	for _, k := range s.Set {
		old, there, err := confedit.Get(s.Form, content, k.Key)
		if err == nil && (!there || old != k.Value) {
			content, err = confedit.Set(s.Form, content, k.Key, k.Value)
			did = append(did,
				strings.TrimSpace(fmt.Sprintf("%s: %s to %s", confedit.Name(k.Key), orNothing(old), k.Value)))
		}
		if err != nil {
			return nil, nil, settingsFault(s, err)
		}
	}
	for _, key := range s.Remove {
		after, err := confedit.Remove(s.Form, content, key)
		if err != nil {
			return nil, nil, settingsFault(s, err)
		}
		if after != content {
			content = after
			did = append(did, confedit.Name(key)+": removed")
		}
	}
	if len(did) == 0 {
		return have, nil, nil
	}
	out, err = t.WithContent(content).Write(style(t))
	return out, did, err
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

func settingsFault(s *Step, err error) error {
	return &fault.Fault{Kind: fault.Refused, What: "the settings can't be changed", Place: fault.Place{File: s.Path},
		Err: err, Why: "Nothing was changed.",
		Do: "Correct the file, or start the game once so that it writes it anew."}
}

// readIfThere reads a file that need not be there.
func readIfThere(name string) (data []byte, there bool, err error) {
	info, err := os.Stat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, false, nil
	}
	if err == nil && info.Size() > maxText {
		err = &fault.Fault{Kind: fault.Refused, What: "the file is too large for settings",
			Place: fault.Place{File: filepath.ToSlash(name)}, Do: "Look whether it is the right one."}
	}
	if err != nil {
		return nil, true, err
	}
	data, err = os.ReadFile(name)
	return data, true, err
}
