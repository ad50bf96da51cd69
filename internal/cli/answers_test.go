package cli

import (
	"encoding/json"
	"maps"
	"os"
	"path"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	reflector "github.com/invopop/jsonschema"
	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/base/quarantine"
	"vornix/core/base/transaction"
	"vornix/core/config/trust"
	"vornix/core/format/mapfile"
	"vornix/core/format/material"
	"vornix/core/format/zipfile"
	"vornix/core/game/gameserver"
	"vornix/core/game/overlay"
	"vornix/core/game/salvage"
	"vornix/core/game/smoketest"
	"vornix/core/make/metadata"
	"vornix/core/make/remoteexec"
	"vornix/core/make/sweep"
	"vornix/core/pack/bundle"
	"vornix/core/pack/installer"
	"vornix/core/pack/patch"
	"vornix/core/release"
	"vornix/core/ship/deploy"
	"vornix/core/ship/fetch"
	"vornix/core/ship/index"
	"vornix/core/ship/publish"
	"vornix/core/ship/workshop"
	"vornix/internal/cli/show"
)

// results are what each command can say as its result with --json.
var results = map[string][]any{
	"addon write":     {editedAnswer{}, []standingFile{}},
	"addon check":     {[]metadataFile{}, []standingFile{}},
	"addon import":    {[]metadata.Taken{}},
	"pack":            {[]bundle.Bundle{}, packedAnswer{}},
	"build":           {watchAnswer{}},
	"check":           {profileAnswer{}},
	"delta make":      {deltaAnswer{}},
	"delta apply":     {deltaAnswer{}},
	"demo":            {[]demoAnswer{}},
	"deploy":          {deployAnswer{}},
	"deploy rollback": {deploy.Plan{}},
	"deploy withdraw": {deploy.Plan{}, []*deploy.Plan{}},
	"deploy history":  {[]deploy.Past{}},
	"deploy preview":  {welcomeAnswer{}},
	"deploy unlock":   {lockAnswer{}},
	"diff":            {diffAnswer{}, []mapfile.Change{}},
	"explain":         {explainAnswer{}, []explainAnswer{}},
	"farm host":       {hostAnswer{}},
	"farm status":     {remoteexec.State{}},
	"farm worker":     {remoteexec.Event{}},
	"extract":         {[]zipfile.Written{}},
	"salvage":         {salvage.Result{}},
	"fetch":           {fetch.Result{}, []fetch.Installed{}},
	"index write":     {collected{}},
	"index sign":      {index.Index{}},
	"index check":     {fetch.Checked{}, index.Index{}},
	"index retract":   {retractAnswer{}},
	"inspect": {bundleAnswer{}, deltaAbout{}, folderAnswer{}, textureAnswer{}, index.Index{}, mapAnswer{},
		modelAnswer{}, patchAnswer{}, soundAnswer{}, sourceAnswer{}, spriteIndexAnswer{}, textAnswer{}},
	"key new":            {keyAnswer{}},
	"key show":           {keyAnswer{}},
	"map":                {mapMade{}},
	"needs":              {needAnswer{}},
	"new":                {newAnswer{}},
	"patch overlay":      {overlay.Plan{}, overlayAnswer{}},
	"patch apply":        {patch.Plan{}, appliedAnswer{}, patch.WrongBaseError{}, patch.ConflictError{}},
	"patch list":         {[]changesAt{}},
	"patch undo":         {[]transaction.Drift{}, []transaction.Record{}},
	"patch make":         {patch.Made{}, []*patch.Made{}},
	"patch inspect":      {patchAnswer{}},
	"patch sign":         {patchAnswer{}},
	"publish":            {publishAnswer{}},
	"publish edit":       {publishAnswer{}},
	"publish images":     {publishAnswer{}},
	"publish try":        {[]*release.Tried{}},
	"publish visibility": {[]*publish.Show{}},
	"publish show":       {[]publishShown{}},
	"publish history":    {[]historyAnswer{}},
	"publish withdraw":   {workshop.Item{}},
	"publish preview":    {pagesAnswer{}},
	"publish login":      {loginAnswer{}},
	"release":            {releaseAnswer{}},
	"scale":              {[]material.Scale{}},
	"shoot":              {[]release.PlanView{}, release.Shots{}},
	"sprite":             {[]stateAnswer{}, statePlayed{}},
	"stand server":       {standAnswer{}},
	"stand workshop":     {standWorkshopAnswer{}},
	"status":             {release.Overview{}},
	"history":            {versionsAnswer{}},
	"handover":           {[]release.Need{}},
	"sweep":              {sweep.Plan{}},
	"restore":            {[]quarantine.Restored{}, []quarantine.Batch{}},
	"texture":            {textureMade{}},
	"trust":              {[]trust.Trusted{}, trustAnswer{}},
	"try":                {[]gameserver.MapStatus{}, []smoketest.Loose{}, []quarantine.Restored{}},
	"vornix":             {[]installer.FileChange{}}, // an installer, and a wrong use of any command
	"publish logout":     nil,
	"fmt":                nil,
	"man":                nil,
}

// The shape of every command's --json is published as a JSON Schema, made from the types that it is
// made of. The tests of the program hold every answer that they read to it.
func TestAnswersArePublished(t *testing.T) {
	defs := map[string]any{}
	r := &reflector.Reflector{FieldNameTag: "json", RequiredFromJSONSchemaTags: true, Anonymous: true,
		Namer: func(t reflect.Type) string {
			if t.Name() == "" {
				return ""
			}
			return strings.ReplaceAll(path.Base(t.PkgPath()), "-", "_") + "_" + t.Name()
		}, Mapper: func(t reflect.Type) *reflector.Schema {
			if t == reflect.TypeFor[finding.Severity]() {
				return &reflector.Schema{Type: "string", Enum: []any{"note", "warning", "error"}}
			}
			if t != reflect.TypeFor[time.Time]() &&
				(t.Implements(reflect.TypeFor[json.Marshaler]()) ||
					reflect.PointerTo(t).Implements(reflect.TypeFor[json.Marshaler]())) &&
				t.Kind() != reflect.Interface {
				return &reflector.Schema{} // it says by itself how it is written
			}
			switch t.Kind() { // what no schema can say, and no answer has by itself
			case reflect.Interface, reflect.Chan, reflect.Func:
				return &reflector.Schema{}
			}
			return nil
		}}
	of := func(v any) map[string]any {
		data, err := json.Marshal(r.Reflect(v))
		require.NoError(t, err)
		var schema map[string]any
		require.NoError(t, json.Unmarshal(data, &schema))
		more, _ := schema["$defs"].(map[string]any)
		maps.Copy(defs, more)
		for _, key := range []string{"$schema", "$defs", "$id"} {
			delete(schema, key)
		}
		return schema
	}
	whole := of(show.Answer{})
	answers := map[string]any{}
	for command, list := range results {
		one := map[string]any{"type": "object", "required": []string{"command", "ok"}, "additionalProperties": false}
		properties := map[string]any{"command": map[string]any{"const": command},
			"ok": map[string]any{"type": "boolean"}}
		answer := defs["show_Answer"].(map[string]any)["properties"].(map[string]any)
		for _, key := range []string{"steps", "error"} {
			properties[key] = answer[key]
		}
		anyOf := []map[string]any{{"type": "null"}}
		for _, v := range list {
			anyOf = append(anyOf, of(v))
		}
		properties["result"] = map[string]any{"anyOf": anyOf}
		one["properties"] = properties
		answers[command] = one
	}
	require.NotEmpty(t, whole)
	delete(defs, "show_Answer")
	loosen(defs)
	published := map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema",
		"title": "What Vornix prints with --json, by command", "$defs": defs, "properties": answers}
	data, err := json.MarshalIndent(published, "", "  ")
	require.NoError(t, err)
	data = append(data, '\n')
	file := filepath.Join("..", "..", "docs", "schema", "answers.json")
	if os.Getenv("VORNIX_UPDATE") != "" {
		require.NoError(t, os.WriteFile(file, data, 0o666))
	}
	got, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(data), string(got),
		"docs/schema/answers.json is behind the types; write it with VORNIX_UPDATE=1 go test ./internal/cli")

	var missing []string
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, below := range c.Commands() {
			walk(below)
		}
		name := strings.TrimPrefix(c.CommandPath(), "vornix ")
		// which say nothing in JSON
		if _, ok := results[name]; !ok && c.Runnable() && !c.HasSubCommands() && name != "help" &&
			!strings.HasPrefix(name, "completion") {
			missing = append(missing, name)
		}
	}
	walk((&app{out: &show.Out{}}).root())
	slices.Sort(missing)
	assert.Empty(t, missing, "these commands have no published shape")
}

// loosen lets lists and tables be null, as Go writes those that hold nothing.
func loosen(v any) {
	switch v := v.(type) {
	case map[string]any:
		if kind, ok := v["type"].(string); ok && (kind == "array" || kind == "object" && v["properties"] == nil) {
			v["type"] = []string{kind, "null"}
		}
		if ref, ok := v["$ref"]; ok && len(v) == 1 {
			delete(v, "$ref")
			v["anyOf"] = []any{map[string]any{"$ref": ref}, map[string]any{"type": "null"}}
			return
		}
		for _, x := range v {
			loosen(x)
		}
	case []any:
		for _, x := range v {
			loosen(x)
		}
	}
}

// A command that is made alone is the one that stands among all the others.
func TestACommandMadeAloneIsTheSame(t *testing.T) {
	all := (&app{out: &show.Out{}}).root()
	for _, c := range (&app{}).commands() {
		alone := (&app{out: &show.Out{}}).root(c.name)
		if len(alone.Commands()) != 1 {
			t.Fatalf("%s: %d commands are made", c.name, len(alone.Commands()))
		}
		one, _, err := all.Find([]string{c.name})
		if err != nil || one.Name() != c.name || alone.Commands()[0].Name() != c.name {
			t.Errorf("%s is called %s (%v)", c.name, alone.Commands()[0].Name(), err)
			continue
		}
		if got, want := alone.Commands()[0].UsageString(), one.UsageString(); got != want {
			t.Errorf("%s says of itself\n%s\nand not\n%s", c.name, got, want)
		}
	}
}
