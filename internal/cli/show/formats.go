package show

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"github.com/jstemmer/go-junit-report/v2/junit"
	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/game/gameserver"
)

// Formats of a command's findings and results, for programs that collect those of many tools.
const (
	TextFormat  = "text"
	SARIFFormat = "sarif" // OASIS SARIF 2.1.0
	JUnitFormat = "junit" // JUnit XML, one test case for each map
)

// SARIF writes all findings of an answer as a SARIF 2.1.0 log. A command that failed for another
// reason than findings says why in a notification. Paths are relative to the project's folder.
func SARIF(w io.Writer, version string, a *Answer, failed error) error {
	run := sarif.NewRunWithInformationURI("vornix", "")
	run.Tool.Driver.InformationURI = nil
	run.Tool.Driver.WithVersion(version)
	run.WithColumnKind("unicodeCodePoints")
	run.Results = []*sarif.Result{}
	n := 0
	for _, step := range a.Steps {
		for _, f := range step.Findings {
			if f.Severity == finding.Error && f.Accepted == "" {
				n++
			}
			addResult(run, f)
		}
	}
	var failure *finding.Failure
	if errors.As(failed, &failure) {
		for _, f := range failure.Findings {
			n++
			addResult(run, f)
		}
	}
	i := sarif.NewInvocation().WithExecutionSuccessful(failed == nil || n > 0)
	if failed != nil && n == 0 {
		note := sarif.NewNotification().WithLevel("error").WithMessage(sarif.NewTextMessage(sentences(failed)))
		var f *fault.Fault
		if errors.As(failed, &f) && f.Place.File != "" {
			note.AddLocation(location(f.Place))
		}
		i.AddToolExecutionNotification(note)
	}
	run.AddInvocation(i)
	report := sarif.NewReport()
	report.AddRun(run)
	return report.PrettyWrite(w)
}

func addResult(run *sarif.Run, f finding.Finding) {
	rule := run.AddRule(f.ID).WithName(f.ID)
	if f.Why != "" {
		rule.WithFullDescription(sarif.NewMultiformatMessageString().WithText(f.Why))
	}
	rule.WithShortDescription(sarif.NewMultiformatMessageString().WithText(cmp.Or(f.Why, f.ID)))
	rule.WithHelp(sarif.NewMultiformatMessageString().WithText(strings.TrimSpace(f.Do + " See: vornix explain " +
		f.ID)))
	r := run.CreateResultForRule(f.ID).WithLevel(map[finding.Severity]string{finding.Error: "error",
		finding.Warning: "warning", finding.Note: "note"}[f.Severity]).
		WithMessage(sarif.NewTextMessage(strings.TrimSpace(f.Text + ". " + f.Do)))
	if f.Place.File != "" {
		r.AddLocation(location(f.Place))
	}
	for _, wanted := range f.Wanted {
		if at, ok := parsePlace(wanted); ok {
			r.AddRelatedLocation(location(at).WithMessage(sarif.NewTextMessage("asks for it")))
		}
	}
	if f.Accepted != "" {
		r.AddSuppression(
			sarif.NewSuppression().WithKind("external").WithStatus("accepted").WithJustification(f.Accepted))
	}
}

// location is a place in a file, as an address relative to the project's folder.
func location(p fault.Place) *sarif.Location {
	address := url.URL{Path: filepath.ToSlash(p.File)}
	uri := address.String()
	if filepath.IsAbs(p.File) {
		if !strings.HasPrefix(address.Path, "/") { // a drive
			address.Path = "/" + address.Path
		}
		address.Scheme = "file"
		uri = address.String()
	}
	at := sarif.NewPhysicalLocation().WithArtifactLocation(sarif.NewSimpleArtifactLocation(strings.TrimPrefix(uri,
		"./")))
	if p.Line > 0 {
		region := sarif.NewRegion().WithStartLine(p.Line)
		if p.Column > 0 {
			region.WithStartColumn(p.Column)
		}
		at.WithRegion(region)
	}
	return sarif.NewLocationWithPhysicalLocation(at)
}

// parsePlace reads "maps/b.vnx:14:9".
func parsePlace(s string) (p fault.Place, ok bool) {
	parts := strings.Split(s, ":")
	if len(parts) != 3 {
		return p, false
	}
	_, err := fmt.Sscanf(parts[1]+" "+parts[2], "%d %d", &p.Line, &p.Column)
	p.File = parts[0]
	return p, err == nil
}

// sentences is an error with what to do, in one text.
func sentences(err error) string {
	text := err.Error()
	var f *fault.Fault
	if errors.As(err, &f) {
		text = strings.TrimSpace(strings.Join([]string{text + ".", f.Why, f.Do}, " "))
	}
	return text
}

// JUnit writes the result of loading maps as JUnit XML: one test suite with a test case for each
// map, in the class of its bundle, and one for each other error. The time of the suite is that of
// the command; maps are not timed one by one.
func JUnit(w io.Writer, maps []gameserver.MapStatus, a *Answer, failed error) error {
	suite := junit.Testsuite{Name: "vornix try"}
	for _, m := range maps {
		test := junit.Testcase{Name: m.Name, Classname: m.Bundle}
		if !m.Loaded {
			test.Failure = &junit.Result{Message: cmp.Or(Clean(m.Error), "it can't be played from the bundle alone"),
				Type: "map", Data: Clean(notLoaded(&m))}
		}
		suite.AddTestcase(test)
	}
	seconds := 0.0
	for _, step := range a.Steps {
		seconds += step.Seconds
		for _, f := range step.Findings {
			if f.Severity != finding.Error || f.Accepted != "" {
				continue
			}
			suite.AddTestcase(junit.Testcase{Name: f.ID + " " + f.Place.String(), Classname: "findings",
				Failure: &junit.Result{Message: Clean(f.Text), Type: f.ID,
					Data: Clean(strings.TrimSpace(f.Why + " " + f.Do))}})
		}
	}
	if failed != nil && len(suite.Testcases) == 0 {
		suite.AddTestcase(junit.Testcase{Name: "try", Classname: "vornix",
			Error: &junit.Result{Message: Clean(failed.Error()), Type: "error", Data: Clean(sentences(failed))}})
	}
	suite.Time = fmt.Sprintf("%.3f", seconds)
	all := junit.Testsuites{Name: suite.Name, Time: suite.Time}
	all.AddSuite(suite)
	if _, err := io.WriteString(w, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"); err != nil {
		return err
	}
	return all.WriteXML(w)
}

// notLoaded says what keeps a map from being played.
func notLoaded(m *gameserver.MapStatus) string {
	var list []string
	for _, x := range m.Missing {
		list = append(list, fmt.Sprintf("%s, wanted by %s: %s", x.Path, x.By, x.Why))
	}
	if n := m.Bots - m.Arrived; n > 0 {
		list = append(list, fmt.Sprintf("%d of %d bots did not arrive", n, m.Bots))
	}
	slices.Sort(list)
	return strings.Join(list, "; ")
}
