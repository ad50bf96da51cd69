package material_test

import (
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/material"
)

func parse(t *testing.T, name, text string) *material.Material {
	t.Helper()
	m, list := material.Parse(name, []byte(text))
	require.Empty(t, list)
	return m
}

// What is written last wins, false and zero included; what nobody says has the documented default.
func TestResolveAndCompile(t *testing.T) {
	folder := parse(t, "materials/defaults.toml",
		"surface = 'rock'\nsolid = false\ncontrast = 2\ndouble_sided = true\nsize = 4\n")
	base := parse(t, "materials/a.toml",
		"colour = 'a/b'\nnormal = 'a/n'\ndetail = 'a/d'\nemission = 'a/e'\ntint = '#102030'\ncontrast = 0\n")
	own := parse(t, "materials/c.toml",
		"inherits = 'a'\ndouble_sided = false\nmask = 'a/m'\nshading = 'unlit'\nsee_through = 'soft'\n")
	m := material.Resolve([]*material.Material{folder, base, own})
	assert.Empty(t, m.Check([]string{"rock"}))
	assert.Len(t, m.Check([]string{"wood"}), 1)
	assert.Equal(t, "materials/defaults.toml", m.Check([]string{"wood"})[0].Place.File,
		"a mistake is shown where it stands")
	data, err := m.Compile(func(s string) string { return "T/" + s + ".dds" },
		material.Footing{Friction: 0.5, Footstep: "gravel"})
	require.NoError(t, err)
	var got map[string]any
	require.NoError(t, toml.Unmarshal(data, &got))
	assert.Equal(t, map[string]any{"version": int64(1), "surface": "rock", "shading": "unlit", "colour": "T/a/b.dds",
		"normal": "T/a/n.dds", "detail": "T/a/d.dds",
		"detail_repeat": 8.0, "detail_strength": 0.5, "mask": "T/a/m.dds", "emission": "T/a/e.dds",
		"emission_power": 1.0, "tint": "#102030", "contrast": 0.0, "saturation": 1.0,
		"see_through": "soft", "double_sided": false, "solid": false, "size": 4.0, "friction": 0.5,
		"footstep": "gravel"}, got)
	textures, err := material.ParseCompiled("c.toml", data)
	require.NoError(t, err)
	assert.Equal(t, []string{"T/a/b.dds", "T/a/n.dds", "T/a/d.dds", "T/a/m.dds", "T/a/e.dds"}, textures)
	_, err = material.ParseCompiled("c.toml", []byte("version = 2\n"))
	assert.Error(t, err)
	_, list := material.Parse("materials/x/defaults.toml", []byte("inherits = 'a'\n"))
	assert.Len(t, list, 1)
	assert.Len(t, material.Resolve([]*material.Material{parse(t, "m.toml", "size = 1\n")}).Check(nil), 1,
		"without a colour")
}

func TestBadReferences(t *testing.T) {
	for ref, want := range map[string][2]string{
		"rock/slab": {"", "rock/slab"}, "rock/slab.png": {"reference.ending", "rock/slab"},
		"rock/slab.KTX2":        {"reference.ending", "rock/slab"},
		"/rock/slab":            {"reference.absolute", "rock/slab"},
		`C:\mods\rock\slab.tga`: {"reference.absolute", "mods/rock/slab"}, `rock\slab`: {"reference.form", "rock/slab"},
		"../textures/rock/slab": {"reference.form", "textures/rock/slab"},
	} {
		k, _, meant := material.BadReference(ref)
		id := ""
		if k != nil {
			id = k.ID
		}
		assert.Equal(t, want, [2]string{id, meant}, ref)
	}
}

// The calculator: whole repeats, as near to the wanted sharpness as they come.
func TestScale(t *testing.T) {
	for _, c := range []struct {
		length  float64
		texels  int
		density float64
		repeats int
		repeat  float64
		got     float64
	}{{6, 512, 128, 2, 3, 512.0 / 3}, {4, 512, 128, 1, 4, 128}, {0.5, 512, 128, 1, 0.5, 1024},
		{10, 256, 256, 10, 1, 256}, {7.5, 512, 200, 3, 2.5, 204.8}} {
		s := material.Fit(c.length, c.texels, c.density)
		assert.Equal(t, c.repeats, s.Repeats, "%+v", c)
		assert.InDelta(t, c.repeat, s.Repeat, 1e-9)
		assert.InDelta(t, c.got, s.Density, 1e-9)
	}
}
