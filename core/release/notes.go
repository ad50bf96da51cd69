package release

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/config/ledger"
	"vornix/core/config/profile"
	"vornix/core/config/project"
)

// NotesFile is where the project keeps what is new in a version, as a path in the project.
func NotesFile(p *project.Project, version string) string {
	return profile.Fill(p.File.Index.Notes, map[string]string{"version": version})
}

// WriteNotes writes what is new in a version. Notes of a finished version are not altered, and
// others only with replace.
func (s *Session) WriteNotes(version string, text []byte, replace bool) error {
	rel := NotesFile(s.P, version)
	text = append(bytes.TrimSpace(bytes.ReplaceAll(bytes.TrimPrefix(text, []byte("\ufeff")), []byte("\r\n"),
		[]byte("\n"))), '\n')
	if len(text) == 1 {
		return &fault.Fault{Kind: fault.Refused, What: "there are no notes",
			Why: "An empty file tells players nothing. Nothing was done.",
			Do:  "Write what is new for them, or release without notes."}
	}
	d, err := safefile.OpenDir(s.P.Dir)
	if err != nil {
		return err
	}
	defer d.Close()
	old, err := d.ReadFile(rel)
	if err == nil && bytes.Equal(old, text) {
		return nil
	}
	events, ledgerErr := ledger.Read(s.P)
	if ledgerErr != nil {
		return ledgerErr
	}
	place := fault.Place{File: rel}
	if ledger.Release(events, version) != nil {
		return &fault.Fault{Kind: fault.Refused,
			What: fmt.Sprintf("version %s is finished, and its notes would be others", version), Place: place,
			Why: "A finished version is never altered.", Do: "Release a later version with them."}
	}
	if err == nil && !replace {
		return &fault.Fault{Kind: fault.Refused, What: "there are other notes for this version already", Place: place,
			Why: "They would be lost. Nothing was done.", Do: "Edit that file, or remove it."}
	}
	if s.rehearses {
		if err := d.WriteFile(rehearsalNotes, text); err != nil {
			return err
		}
	}
	return d.WriteFile(rel, text)
}

// Remarks in notes are for whoever writes them, and never go out.
const (
	remarkBegin = "<!-- vornix:"
	remarkEnd   = "-->"
)

// NotesDraft is what an editor begins with: the notes that there are, and a remark that says what
// is different from the last release.
func NotesDraft(p *project.Project, version string, old []byte, changes []string) []byte {
	var b bytes.Buffer
	b.Write(bytes.TrimRight(old, "\r\n"))
	fmt.Fprintf(&b, "\n\n%s what is new in %s %s, for players, in Markdown. This remark is taken out.\n", remarkBegin,
		p.File.Project.Title, version)
	if len(changes) > 0 {
		b.WriteString("Made anew since the last build:\n")
		for _, c := range changes[:min(len(changes), 30)] {
			fmt.Fprintf(&b, "  %s\n", strings.ReplaceAll(c, remarkEnd, ""))
		}
		if n := len(changes) - 30; n > 0 {
			fmt.Fprintf(&b, "  and %d more\n", n)
		}
	}
	b.WriteString(remarkEnd + "\n")
	return b.Bytes()
}

// NotesDone takes the remarks out of what an editor leaves.
func NotesDone(text []byte) []byte {
	for {
		begin := bytes.Index(text, []byte(remarkBegin))
		if begin < 0 {
			return bytes.TrimSpace(text)
		}
		end := bytes.Index(text[begin:], []byte(remarkEnd))
		if end < 0 {
			return bytes.TrimSpace(text[:begin])
		}
		text = slices.Delete(slices.Clone(text), begin, begin+end+len(remarkEnd))
	}
}
