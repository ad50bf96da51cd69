package main_test

import (
	"encoding/json"
	"encoding/xml"
	"os"
	"path/filepath"
	"testing"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Findings and results in the forms that programs collect: valid by the standard's schema,
// complete, and with the command's exit code.
func TestFindingsForOtherPrograms(t *testing.T) {
	t.Parallel()
	p := quickly(t, "lower-sidings")
	var plain struct {
		Steps []struct {
			Findings []struct{ ID, Severity string }
		}
	}
	findings := func(args ...string) (*sarif.Run, outcome) {
		t.Helper()
		o := vornix(t, p, append(args, "--format", "sarif")...)
		r, err := sarif.FromString(o.out)
		require.NoError(t, err, o.err)
		require.NoError(t, r.Validate())
		require.Len(t, r.Runs, 1)
		return r.Runs[0], o
	}
	run, o := findings("check")
	assert.Zero(t, o.exit)
	assert.Empty(t, run.Results, "no finding is an empty list")
	assert.True(t, *run.Invocations[0].ExecutionSuccessful)

	edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Depot" titel="x"`)
	require.NoError(t, os.Remove(filepath.Join(p, "page.md")))
	run, o = findings("check")
	require.NoError(t, json.Unmarshal([]byte(vornix(t, p, "check", "--json").out), &plain))
	require.NotEmpty(t, plain.Steps[0].Findings)
	assert.Len(t, run.Results, len(plain.Steps[0].Findings))
	assert.Equal(t, 1, o.exit)
	for i, f := range plain.Steps[0].Findings {
		r := run.Results[i]
		assert.Equal(t, f.ID, *r.RuleID)
		assert.Equal(t, f.Severity, r.Level)
		assert.Equal(t, f.ID, *run.Tool.Driver.Rules[r.RuleIndex].ID)
		at := r.Locations[0].PhysicalLocation
		assert.FileExists(t, filepath.Join(p, filepath.FromSlash(*at.ArtifactLocation.URI)), "paths are the project's")
	}
	_, o = findings("build")
	assert.Equal(t, 1, o.exit)

	// What is no finding is a notification.
	assert.Equal(t, 2, vornix(t, p, "check", "--format", "junit").exit)
	assert.Equal(t, 2, vornix(t, p, "try", "--format", "sarif", "--json").exit)
	require.NoError(t, os.Rename(filepath.Join(p, "vornix.toml"), filepath.Join(p, "vornix.off")))
	run, o = findings("check")
	assert.Equal(t, 2, o.exit)
	assert.False(t, *run.Invocations[0].ExecutionSuccessful)
	assert.Contains(t, *run.Invocations[0].ToolExecutionNotifications[0].Message.Text, "there is no project here")
}

// suites is JUnit XML as its readers know it.
type suites struct {
	Tests    int `xml:"tests,attr"`
	Failures int `xml:"failures,attr"`
	Errors   int `xml:"errors,attr"`
	Suites   []struct {
		Name  string `xml:"name,attr"`
		Cases []struct {
			Name    string `xml:"name,attr"`
			Failure *struct {
				Message string `xml:"message,attr"`
			} `xml:"failure"`
			Error *struct{} `xml:"error"`
		} `xml:"testcase"`
	} `xml:"testsuite"`
}

func TestTriedMapsForOtherPrograms(t *testing.T) {
	t.Parallel()
	p := quickly(t, "lower-sidings")
	tried := func() (s suites, o outcome) {
		o = vornix(t, p, "try", "--format", "junit")
		require.NoError(t, xml.Unmarshal([]byte(o.out), &s), o.out)
		return s, o
	}
	s, o := tried()
	assert.NotZero(t, o.exit)
	assert.Equal(t, 1, s.Errors, "nothing is packed")
	ok(t, p, "pack")
	s, o = tried()
	assert.Zero(t, o.exit)
	assert.Equal(t, [3]int{1, 0, 0}, [3]int{s.Tests, s.Failures, s.Errors})
	assert.Equal(t, "tram_depot", s.Suites[0].Cases[0].Name)
	put(t, filepath.Join(p, "out/bundles/broken.vnm"), "no map")
	o = vornix(t, p, "try", "out/bundles/broken.vnm", "--format", "junit")
	s = suites{}
	require.NoError(t, xml.Unmarshal([]byte(o.out), &s))
	assert.Equal(t, 1, o.exit)
	assert.Positive(t, s.Failures+s.Errors)
}
