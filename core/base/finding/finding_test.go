package finding_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
)

func at(file string, line int) fault.Place { return fault.Place{File: file, Line: line} }

func TestEveryKindSaysWhyAndWhatToDo(t *testing.T) {
	ids := finding.IDs()
	assert.Greater(t, len(ids), 40)
	for _, id := range ids {
		assert.Regexp(t, `^[a-z]+\.[a-z-]+$`, id)
		k := finding.KindOf(id)
		for _, sentence := range []string{k.Why, k.Do} {
			assert.Regexp(t, `^[A-Z].*[.?]$`, sentence, id)
		}
	}
}

func TestAcceptingIsByIDAndPlaceAndNeverAnError(t *testing.T) {
	list := []finding.Finding{
		finding.ModeInside.At(at("maps/a.vnx", 1), "relay in night-relay"),
		finding.ModeInside.At(at("other/b.vnx", 1), "relay in night-relay"),
		finding.SpawnNone.At(at("maps/a.vnx", 2), "no spawn"),
	}
	accepted := []finding.Acceptance{
		{ID: "mode.contained", Where: "maps/**", Reason: "whole words here", Place: at("vornix.toml", 9)},
		{ID: "spawn.none", Reason: "a menu background", Place: at("vornix.toml", 14)},
		{ID: "try.silent", Reason: "later", Place: at("vornix.toml", 20)},
	}
	got := finding.Accept(list, accepted)
	assert.Equal(t, "whole words here", got[0].Accepted)
	assert.Empty(t, got[1].Accepted, "elsewhere it is still said")
	assert.Empty(t, got[2].Accepted, "an error can't be accepted")
	assert.Equal(t, 1, finding.Count(got, finding.Warning), "accepted ones are not counted")
	assert.Equal(t, 1, finding.Count(got, finding.Error))

	unused := finding.UnusedAcceptances(got, accepted, func(id string) bool { return !finding.FromTry(id) })
	require.Len(t, unused, 1, "what the clean room would find is not judged before it has been there")
	assert.Equal(t, "accept.unused", unused[0].ID)
	assert.Equal(t, at("vornix.toml", 14), unused[0].Place,
		"an acceptance that did nothing is reported where it stands")
	assert.Len(t, finding.UnusedAcceptances(got, accepted, func(string) bool { return true }), 2)
}

func TestOrderNeverDependsOnWhoWasFirst(t *testing.T) {
	a, b, c := finding.SpawnNone.At(at("a", 1), "x"), finding.MapEmpty.At(at("a", 1), "y"),
		finding.MapEmpty.At(at("a", 20), "z")
	d := finding.MapEmpty.At(at("b", 3), "z")
	want := []finding.Finding{b, a, c, d}
	for _, list := range [][]finding.Finding{{a, b, c, d}, {d, c, b, a}, {c, a, d, b}} {
		finding.Sort(list)
		assert.Equal(t, want, list)
	}
}

func TestJSON(t *testing.T) {
	f := finding.SpawnNone.At(fault.Place{File: "a.vnx", Line: 3, Column: 7}, "no spawn")
	data, err := json.Marshal(f)
	require.NoError(t, err)
	assert.Contains(t, string(data), `"severity":"error"`)
	var back finding.Finding
	require.NoError(t, json.Unmarshal(data, &back))
	assert.Equal(t, f, back)
	assert.Error(t, json.Unmarshal([]byte(`{"severity":"fatal"}`), &back))
}

func TestFaultKindsHaveTheDocumentedExitCodes(t *testing.T) {
	for kind, code := range map[fault.Kind]int{fault.Failed: 1, fault.Usage: 2, fault.Refused: 3,
		fault.Unreachable: 4} {
		assert.Equal(t, code, kind.ExitCode())
	}
	assert.Equal(t, "a:1:2", fault.Place{File: "a", Line: 1, Column: 2}.String())
	assert.Equal(t, "a:1", fault.Place{File: "a", Line: 1}.String())
	assert.Equal(t, fault.Failed, fault.KindOf(assert.AnError))
}
