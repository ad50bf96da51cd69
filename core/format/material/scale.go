package material

import "math"

// Repeats is how often a texture is laid along a length when a repeat should take so much: a whole
// number, at least one. All in metres.
func Repeats(length, repeat float64) float64 { return max(math.Round(length/repeat), 1) }

// Scale is how a texture goes onto a surface along one side.
type Scale struct {
	Length  float64 `json:"length_m"`
	Texels  int     `json:"texels"`
	Exact   float64 `json:"exact_repeat_m"` // metres of a repeat at just the wanted density
	Repeats int     `json:"repeats"`        // the whole number nearest to it
	Repeat  float64 `json:"repeat_m"`       // metres of a repeat then
	Density float64 `json:"density"`        // texels a metre then
}

// Fit answers which scale lays whole repeats of an image side of so many texels on a length in
// metres, at a density as near as can be to the wanted one, in texels a metre. It is what fit=yes
// does in a map.
func Fit(length float64, texels int, density float64) Scale {
	s := Scale{Length: length, Texels: texels, Exact: float64(texels) / density}
	n := Repeats(length, s.Exact)
	s.Repeats, s.Repeat = int(n), length/n
	s.Density = float64(texels) / s.Repeat
	return s
}
