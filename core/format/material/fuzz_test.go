package material_test

import (
	"testing"

	"vornix/core/format/material"
)

// Any bytes end in a material or in findings; what is compiled of one that is taken can be read by
// what reads compiled ones.
func FuzzParse(f *testing.F) {
	f.Add([]byte("colour = \"rock/slab\"\nnormal = \"rock/slab_normal\"\nsurface = \"rock\"\nsize = 2.5\nluxels = 1\n"))
	f.Add([]byte("base = \"rock/slab\"\nemission = \"a/b\"\nglow = 4\nmask = \"m\"\nalpha = \"cut\"\nwater = true\nmurk = 0.4\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if _, err := material.ParseCompiled("a.toml", data); err != nil && err.Error() == "" {
			t.Fatal("an error that says nothing")
		}
		m, list := material.Parse("a.toml", data)
		if m == nil {
			if len(list) == 0 {
				t.Fatal("no material, and nothing is said")
			}
			return
		}
		m.Check([]string{"rock"})
		whole := material.Resolve([]*material.Material{m})
		out, err := whole.Compile(func(ref string) string { return "textures/" + ref + ".ktx2" }, material.Footing{})
		if err != nil {
			return
		}
		if _, err := material.ParseCompiled("a.toml", out); err != nil {
			t.Fatalf("%q is compiled to %q: %v", data, out, err)
		}
	})
}
