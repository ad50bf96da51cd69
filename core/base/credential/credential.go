// Package credential reads what lets somebody in: from a variable of the environment, or from a
// file that nobody else may read. A secret stands in no project file, and is never said.
package credential

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"vornix/core/base/fault"
)

// Most is how long a secret can be, in bytes.
const Limit = 4096

// Check says whether a text can be a token, and gives it back with where it is from.
func Check(token, where string) (string, string, error) {
	if len(token) > Limit || strings.ContainsFunc(token, func(r rune) bool { return r <= ' ' || r > '~' }) {
		return "", "", &fault.Fault{Kind: fault.Usage,
			What:  "what is there is no token: it has spaces, line ends or other characters in it",
			Place: fault.Place{File: where}, Do: "Put the token there alone, on one line."}
	}
	return token, where, nil
}

// Path is a file that vornix.toml names: absolute, in the home folder, or in the project.
func Path(project, home, file string) string {
	if rest, ok := strings.CutPrefix(file, "~/"); ok && home != "" {
		return filepath.Join(home, filepath.FromSlash(rest))
	}
	if filepath.IsAbs(file) {
		return file
	}
	return filepath.Join(project, filepath.FromSlash(file))
}

// Read reads a token's file, which nobody else may read. why says what somebody else could do with it.
func Read(name, why string) ([]byte, error) { return ReadFile(name, Limit+2, why) }

// ReadFile reads a file with secrets in it, of at most so many bytes, which nobody else may read.
// why says what somebody else could do with it.
func ReadFile(name string, limit int64, why string) ([]byte, error) {
	place := fault.Place{File: filepath.ToSlash(name)}
	info, err := os.Stat(name)
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "the token's file can't be read", Place: place,
			Err: errors.Unwrap(err), Do: "Put the token there, or name another file."}
	}
	if runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0 {
		return nil, &fault.Fault{Kind: fault.Refused,
			What:  fmt.Sprintf("others on this machine may read the token's file (%#o)", info.Mode().Perm()),
			Place: place,
			Why:   why, Do: "chmod 600 " + filepath.ToSlash(name)}
	}
	if info.Size() > limit {
		return nil, &fault.Fault{Kind: fault.Usage, What: "the file is too large for a token", Place: place,
			Do: "Put the token there alone."}
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, &fault.Fault{What: "the token's file can't be read", Place: place, Err: err,
			Do: "Check who may read it."}
	}
	return data, nil
}
