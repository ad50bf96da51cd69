package zipfile

import (
	"archive/zip"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
)

// Fold is safefile.Fold.
func Fold(name string) string { return safefile.Fold(name) }

// nameOf reads an entry's name as its writer meant it: UTF-8 where the archive says so or the name
// is nothing else, else the extra field that carries it, else the old code page 437 of ZIP
// (APPNOTE, appendix D). Writers on old systems used backslashes.
func nameOf(f *zip.File) (name string, guessed bool) {
	name = f.Name
	switch {
	case !f.NonUTF8:
	case unicodeName(f) != "":
		name = unicodeName(f)
	case !utf8.ValidString(name):
		guessed = true
		if s, err := charmap.CodePage437.NewDecoder().String(name); err == nil {
			name = s
		}
	}
	if f.CreatorVersion>>8 == 0 && !strings.Contains(name, "/") { // made on DOS
		name = strings.ReplaceAll(name, `\`, "/")
	}
	return name, guessed
}

// unicodeName is the name in the Info-ZIP Unicode Path extra field, when it belongs to the name in the header.
func unicodeName(f *zip.File) string {
	for e := f.Extra; len(e) >= 4; {
		id, n := binary.LittleEndian.Uint16(e), int(binary.LittleEndian.Uint16(e[2:]))
		if len(e) < 4+n {
			break
		}
		body := e[4 : 4+n]
		e = e[4+n:]
		if id == extraUnicodeName && n > 5 && body[0] == 1 &&
			binary.LittleEndian.Uint32(body[1:]) == crc32.ChecksumIEEE([]byte(f.Name)) && utf8.Valid(body[5:]) {
			return string(body[5:])
		}
	}
	return ""
}

// trouble says why a name must not be written to disk; empty when it may.
func trouble(name string) string {
	err := safefile.CheckForeign(name)
	var f *fault.Fault
	if errors.As(err, &f) {
		return f.What
	}
	return ""
}
