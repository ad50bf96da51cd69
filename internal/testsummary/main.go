// Package main is the command testsummary. It reads what 'go test -json' prints, and shows it for
// people: a line per package, the whole output of what failed, and at the end a table of the tests
// that were skipped, by reason. Its exit code is 1 when a test failed or a skipped test gave no
// reason.
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"
)

// event is one line of 'go test -json' (go doc test2json).
type event struct {
	Action, Package, Test, Output, ImportPath string
}

func main() {
	failed, err := summarise(os.Stdin, os.Stdout)
	if err != nil {
		fmt.Fprintln(os.Stderr, "testsummary:", err)
	}
	if failed || err != nil {
		os.Exit(1)
	}
}

// place is where `t.Skip` puts the file and line before its message.
var place = regexp.MustCompile(`^\s+\S+\.go:\d+: `)

// frame are the lines that the test runner itself prints around a test.
var frame = regexp.MustCompile(`^\s*(=== |--- )`)

func summarise(in io.Reader, out io.Writer) (failed bool, err error) {
	said := map[string][]string{} // by package and test
	reasons := map[string][]string{}
	passed, broken, skipped := 0, 0, 0
	lines := bufio.NewReader(in)
	for {
		line, readErr := lines.ReadBytes('\n')
		if len(line) > 0 {
			var e event
			if json.Unmarshal(line, &e) != nil {
				fmt.Fprintf(out, "%s", line)
				continue
			}
			key := e.Package + " " + e.Test
			switch e.Action {
			case "output", "build-output":
				if e.Test == "" && e.Action == "output" && !strings.HasPrefix(e.Output, "PASS") ||
					e.Action == "build-output" {
					fmt.Fprint(out, e.Output)
				}
				said[key] = append(said[key], e.Output)
			case "pass":
				if e.Test != "" {
					passed++
				}
				delete(said, key)
			case "fail", "build-fail":
				failed = true
				if e.Test != "" {
					broken++
					fmt.Fprintf(out, "FAILED %s\n%s", key, strings.Join(said[key], ""))
				}
			case "skip":
				if e.Test == "" { // a package without tests
					continue
				}
				skipped++
				why := reason(said[key])
				if why == "" {
					why, failed = "NO REASON GIVEN", true
				}
				reasons[why] = append(reasons[why], strings.TrimPrefix(key, "vornix/"))
			}
		}
		if readErr == io.EOF {
			break
		}
		if readErr != nil {
			return true, readErr
		}
	}
	table(out, reasons)
	fmt.Fprintf(out, "tests: %d passed, %d failed, %d skipped\n", passed, broken, skipped)
	return failed || passed == 0, nil
}

// reason is the message of a skipped test.
func reason(output []string) string {
	text := ""
	for _, l := range output {
		switch {
		case frame.MatchString(l):
		case place.MatchString(l): // the last message of a test is why it was skipped
			text = place.ReplaceAllString(l, "")
		case text != "":
			text += " " + strings.TrimSpace(l)
		}
	}
	return strings.TrimSpace(text)
}

func table(out io.Writer, reasons map[string][]string) {
	names := make([]string, 0, len(reasons))
	for why := range reasons {
		names = append(names, why)
	}
	slices.SortFunc(names, func(a, b string) int {
		if d := len(reasons[b]) - len(reasons[a]); d != 0 {
			return d
		}
		return strings.Compare(a, b)
	})
	if len(names) > 0 {
		fmt.Fprintln(out, "\nskipped  reason, and the first of the tests")
	}
	for _, why := range names {
		slices.Sort(reasons[why])
		fmt.Fprintf(out, "%7d  %s\n         %s\n", len(reasons[why]), why, reasons[why][0])
	}
}
