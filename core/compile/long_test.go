package compile_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/compile"
	"vornix/core/compile/lightmap"
	"vornix/core/compile/navmesh"
	"vornix/core/compile/radiance"
	"vornix/core/compile/reflections"
	"vornix/core/compile/stage"
	"vornix/core/format/mapfile"
	"vornix/core/source/maplang"
)

func long(t *testing.T, source string, env stage.Env, change ...func(*compile.Long)) (*compile.Result, []string) {
	t.Helper()
	m, findings := maplang.Read("m.vnx", []byte(source), maplang.Options{})
	require.NotNil(t, m, "%v", findings)
	l := &compile.Long{Env: env}
	for _, c := range change {
		c(l)
	}
	r, err := compile.Compile(context.Background(), m,
		compile.Options{MaterialSize: func(string) float64 { return 1 }, Long: l})
	require.NoError(t, err)
	var said []string
	for _, f := range r.Findings {
		said = append(said, f.Text)
	}
	return r, said
}

// Maps that no sane person makes end in their finding, in bounded time, with what can be made made.
func TestBadMapsInTheLongStages(t *testing.T) {
	lamps := func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, "light l%d point %d,%d,2 power=1\n", i, i%100, i/100%100)
		}
		return b.String()
	}
	ground := "map m title=\"M\" players=1..2\nsolid g box 0,0,-1 6,6,0 material=g\n"
	all := []string{stage.Visibility, stage.Lighting, stage.Reflections, stage.Navigation}
	for _, c := range []struct {
		name, source string
		memory       int64
		say          string
		made         []string
	}{
		{"very many lights", ground + lamps(20001), 0, "the map has 20001 lights; at most 20000 are taken",
			[]string{stage.Visibility, stage.Navigation}},
		{"many lights", ground + lamps(15000), 0, "", all},
		{"a light in a solid", ground + "light l point 3,3,-0.5 power=10\n", 0, `the light "l" lies in the solid "g"`,
			all},
		{"no light", ground, 0, "the map has neither a sky nor lights nor surfaces that glow",
			[]string{stage.Visibility, stage.Navigation}},
		{"a sky and no light of it", ground + "sky s sun=40,0 power=0 glow=0\n", 0, "", all},
		{"one giant face",
			"map m title=\"M\" players=1..2 luxels=0.1\nsolid g hull 0,0,0 60000,0,0 0,60,0 0,0,10 material=g\nlight l point 9,9,30 power=50\n", 1 << 30, "too large for the luxels", []string{stage.Visibility, stage.Lighting, stage.Reflections}},
		{"a giant face and little memory",
			"map m title=\"M\" players=1..2\nsolid g box 0,0,-1 4000,4000,0 material=g\nlight l point 9,9,3 power=50\n",
			64 << 20, "may have 64 MB", []string{stage.Visibility}},
		{"a hundred kilometres out",
			strings.ReplaceAll(ground, "0,0,-1 6,6,0", "100000,100000,-1 100006,100006,0") +
				"light l point 100003,100003,2 power=50\nspawn s at=100003,100003,0\nprobe p at=100003,100003,1 reach=5\n", 0, "the map reaches 100 km from its middle", all},
		{"nothing but a light", "map m title=\"M\" players=1..2\nlight l point 0,0,2 power=5\n", 0, "", nil},
		{"a tile map without floor",
			"map m title=\"M\" players=1..2\nlegend # tile=a solid=yes\ngrid g cells=2,1\n  row ##\nlight l point 0,0,0 power=5\n", 0, "", []string{stage.Lighting, stage.Navigation}},
	} {
		t.Run(c.name, func(t *testing.T) {
			begin := time.Now()
			// As a draft: what is looked at here is the same in full, which would take long.
			r, said := long(t, c.source, stage.Env{Draft: true, Memory: c.memory})
			assert.Less(t, time.Since(begin), time.Minute)
			if c.say == "" {
				for _, s := range said {
					assert.NotContains(t, s, "light")
				}
			} else {
				assert.Contains(t, strings.Join(said, "\n"), c.say)
			}
			for _, s := range stage.Names {
				if len(c.made) > 0 && s != stage.Navigation {
					assert.Equal(t, contains(c.made, s), r.Map.Meta.Stages[s] != "", "%s: %v", s, said)
				}
			}
			data, err := mapfile.Encode(r.Map)
			require.NoError(t, err)
			again, err := mapfile.Read(data)
			require.NoError(t, err)
			assert.Equal(t, r.Map.Lightmap, again.Lightmap)
		})
	}
}

func contains(list []string, s string) bool { return strings.Contains(strings.Join(list, " "), s) }

// Faces that have become a line or a point, as rounding makes them, hurt no stage.
func TestFacesWithoutAnArea(t *testing.T) {
	m := compileSource(t,
		"map m\nsky s sun=40,0\nsolid a box 0,0,0 4,4,1 material=a\nsolid b box 1,1,1 2,2,3 material=b\nprobe p at=3,3,2 reach=5\n", 1)
	for k, f := range m.Faces[:6] {
		for i := range f.Vertices {
			v := &m.Vertices[f.FirstVertex+i]
			v.Position[k%3] = 1
			if k > 2 {
				v.Position = [3]float32{1, 1, 1}
			}
		}
	}
	s := radiance.New(m, nil, nil)
	ctx, env := context.Background(), &stage.Env{}
	_, err := lightmap.Build(ctx, env, m, s, lightmap.Options{})
	require.NoError(t, err)
	_, err = reflections.Build(ctx, env, m, s, reflections.Options{})
	require.NoError(t, err)
	require.NoError(t, navmesh.Build(ctx, env, m, navmesh.Options{}))
	data, err := mapfile.Encode(m) // which takes finite numbers only
	require.NoError(t, err)
	_, err = mapfile.Read(data)
	require.NoError(t, err)
}

// Each stage can be run alone and be left out, and what it makes does not depend on the others.
func TestStagesAloneAndTogether(t *testing.T) {
	source := "map m title=\"M\" players=1..2\nsky s sun=40,0\nsolid a box 0,0,0 4,4,1 material=a\nsolid b box 1,1,1 2,2,3 material=b\nprobe p at=3,3,2 reach=5\nspawn s at=3,1,1\n"
	whole, _ := long(t, source, stage.Env{})
	assert.Len(t, whole.Map.Meta.Stages, 4)
	none, _ := long(t, source, stage.Env{Only: []string{}})
	assert.Empty(t, none.Map.Meta.Stages)
	assert.Nil(t, none.Map.Lightmap)
	one, _ := long(t, source, stage.Env{Only: []string{stage.Visibility}})
	assert.Equal(t, whole.Map.Visibility, one.Map.Visibility)
	one, _ = long(t, source, stage.Env{Only: []string{stage.Lighting}})
	assert.Equal(t, whole.Map.Lightmap, one.Map.Lightmap)
	assert.Equal(t, map[string]string{stage.Lighting: stage.Full}, one.Map.Meta.Stages)
	one, _ = long(t, source, stage.Env{Only: []string{stage.Navigation}})
	assert.Equal(t, whole.Map.Navigation, one.Map.Navigation)
	draft, _ := long(t, source, stage.Env{Draft: true})
	assert.Equal(t, stage.Draft, draft.Map.Meta.Stages[stage.Lighting])
	assert.NotEqual(t, whole.Map.Lightmap, draft.Map.Lightmap)
	assert.Zero(t, finding.Count(whole.Findings, finding.Warning))
}
