package schema_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/config/profile"
)

// node is a part of a JSON Schema.
type node struct {
	Ref         string           `json:"$ref"`
	Defs        map[string]*node `json:"$defs"`
	Description string           `json:"description"`
	Properties  map[string]*node `json:"properties"`
	Items       *node            `json:"items"`
	More        json.RawMessage  `json:"additionalProperties"`
}

// describe finds what a schema says of a key, given as its parts.
func (root *node) describe(parts []string) string {
	at, said := root, ""
	for _, part := range parts {
		for at != nil && (at.Ref != "" || at.Items != nil) {
			if at.Items != nil {
				at = at.Items
				continue
			}
			at = root.Defs[strings.TrimPrefix(at.Ref, "#/$defs/")]
		}
		if at == nil {
			return ""
		}
		next := at.Properties[part]
		if next == nil && len(at.More) > 0 {
			var any node
			if json.Unmarshal(at.More, &any) != nil {
				return ""
			}
			next = &any
		}
		if at = next; at != nil && at.Description != "" {
			said = at.Description
		}
	}
	if at == nil {
		return ""
	}
	return at.Description + map[bool]string{true: said}[at.Description == ""]
}

var (
	tableLine = regexp.MustCompile(`^\[+([A-Za-z0-9_.\-]+)\]+`)
	keyLine   = regexp.MustCompile(`^"?([A-Za-z0-9_@\-]+)"? *= *`)
)

// explained is a profile, block by block, with what each key says where it stands first.
func explained(t *testing.T, schema *node, source string) string {
	t.Helper()
	var out strings.Builder
	said := map[string]bool{}
	table := ""
	inText := false
	for block := range strings.SplitSeq(strings.TrimSpace(source), "\n\n") {
		var keys []string
		for line := range strings.SplitSeq(block, "\n") {
			switch m := tableLine.FindStringSubmatch(line); {
			case inText:
			case m != nil:
				table = m[1]
				keys = append(keys, table)
			default:
				if m := keyLine.FindStringSubmatch(line); m != nil {
					keys = append(keys, strings.TrimPrefix(table+"."+m[1], "."))
				}
			}
			if strings.Count(line, `"""`) == 1 {
				inText = !inText
			}
		}
		fmt.Fprintf(&out, "```toml\n%s\n```\n\n", block)
		wrote := false
		for _, key := range keys {
			what := schema.describe(strings.Split(key, "."))
			if what == "" || said[what] {
				continue
			}
			said[what], wrote = true, true
			fmt.Fprintf(&out, "- `%s`: %s%s.\n", key, strings.ToLower(what[:1]), what[1:])
		}
		if wrote {
			out.WriteString("\n")
		}
	}
	return out.String()
}

// Both demo profiles are explained line by line, in the words of the schema: each key where it stands first.
func TestTheDemoProfilesAreExplained(t *testing.T) {
	data, err := os.ReadFile("profile.json")
	require.NoError(t, err)
	var schema node
	require.NoError(t, json.Unmarshal(data, &schema))
	text := `# The two demo profiles, line by line

Made from the profiles of [Kestrel Post](../demo/profiles/kestrel-post.toml) and [Burrow Tramways](../demo/profiles/burrow-tramways.toml) and the [schema](schema/profile.json). What a key says stands under the block in which it comes first.
How to write one of your own is in [describing your game](your-game.md).
`
	for _, name := range []string{"kestrel-post", "burrow-tramways"} {
		source, err := os.ReadFile(filepath.Join("..", "..", "demo", "profiles", name+".toml"))
		require.NoError(t, err)
		p, err := profile.Parse(name+".toml", source)
		require.NoError(t, err)
		text += fmt.Sprintf("\n## %s\n\n%s", p.Game.Title, explained(t, &schema, string(source)))
	}
	text = strings.TrimRight(text, "\n") + "\n"
	file := filepath.Join("..", "demo-profiles.md")
	if os.Getenv("VORNIX_UPDATE") != "" {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o666))
	}
	got, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, text, string(got),
		"docs/demo-profiles.md is behind; write it with VORNIX_UPDATE=1 go test ./docs/schema")
	assert.Greater(t, strings.Count(text, "\n- `"), 120, "nearly every key says something")
}

// The example has every key that there is, and is right.
func TestTheExampleHasEveryKey(t *testing.T) {
	source, err := os.ReadFile(filepath.Join("..", "every-key", "every-key.toml"))
	require.NoError(t, err)
	assert.Equal(t, profile.Keys(), profile.Used(source))
	p, err := profile.Parse("every-key.toml", source)
	require.NoError(t, err)
	assert.Empty(t, p.Lint())
	for _, key := range profile.Keys() {
		last := key[strings.LastIndex(key, ".")+1:]
		if last != "*" {
			assert.Regexp(t, `(?m)\b`+regexp.QuoteMeta(last)+` *=|\b`+regexp.QuoteMeta(last)+` *\]`, string(source),
				key)
		}
	}
}

// What a profile says without effect is found, each with its line.
func TestLinting(t *testing.T) {
	base := "[game]\nid = \"a\"\ntitle = \"A\"\nform = \"solids\"\n"
	for text, want := range map[string]string{
		"[map]\nlimits = { winhc = 3 }\n[map.items.winch]\n":                                                                          `profile.no-effect 6 the limit speaks of "winhc", which the profile does not have | Did you mean "winch"?`,
		"[map]\nrequired = [\"flag\"]\n[map.items.flog]\n":                                                                            `profile.no-effect 6 what every map must have speaks of "flag"`,
		"[[game.since]]\nversion = \"1.1\"\nwhat = \"x\"\nmodes = [\"a\"]\n":                                                          `profile.no-effect 8 what only later versions know speaks of "a"`,
		"[[sounds.rule]]\nmatch = \"**\"\n[[sounds.rule]]\nmatch = \"a\"\n":                                                           `profile.no-effect 7 the rules for sounds from here on never count`,
		"[map]\nheadroom = 1.5\n[map.agents.a]\nheight = 1.8\n":                                                                       `profile.contradicts 8 a is 1.8 m high, and a spawn needs only 1.5 m of headroom`,
		"[map]\nspawn_width = 0.5\n[map.agents.a]\nradius = 0.35\n":                                                                   `profile.contradicts 8 a is 0.7 m wide, and a spawn needs only 0.5 m`,
		"[map]\nmodes = [\"relay\", \"night-relay\"]\n":                                                                               `profile.mode-contained 6 the mode "relay" is found inside "night-relay"`,
		"[[addon.field]]\nname = \"x\"\ntype = \"text\"\n[[addon.file]]\npath = \"a.json\"\nform = \"json\"\nstructure = { y = 1 }\n": `profile.no-effect 5 the field "x" stands in no metadata file`,
		"[pack]\nname = \"{name}\"\n":                                                                                                 `profile.contradicts 6 bundles have no ending`,
	} {
		p, err := profile.Parse("a.toml", []byte(base+text))
		require.NoError(t, err, text)
		list := p.Lint()
		if assert.Len(t, list, 1, text) {
			f := list[0]
			got := fmt.Sprintf("%s %d %s | %s", f.ID, f.Place.Line, f.Text, f.Do)
			assert.Contains(t, got, strings.SplitN(want, " | ", 2)[0], text)
			if _, do, more := strings.Cut(want, " | "); more {
				assert.Equal(t, do, f.Do)
			}
			assert.NotNil(t, finding.KindOf(f.ID))
		}
	}
	p, err := profile.Parse("a.toml", []byte(base))
	require.NoError(t, err)
	assert.Empty(t, p.Lint(), "the least that works has nothing wrong with it")
}
