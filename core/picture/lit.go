package picture

import (
	"context"
	"image"
	"image/color"
	"math"
	"runtime"
	"sync"
	"sync/atomic"

	"vornix/core/geom/ray"
	"vornix/core/light"
	"vornix/core/mapfile"
)

// Camera is where a picture is taken from.
type Camera struct {
	At, Look ray.Vec
	FOV      float64 // across, degrees
}

// CameraOf is one of a map's cameras, or, for an empty name, the first; without any, one that sees all of the map.
func CameraOf(m *mapfile.Map, s *light.Scene, name string) (Camera, bool) {
	for _, o := range m.Objects {
		if o.Kind == "camera" && (name == "" || o.Name == name) {
			return Camera{At: o.A, Look: o.B, FOV: float64(o.Angle)}, true
		}
	}
	box, ok := s.Box()
	if name != "" || !ok {
		return Camera{}, false
	}
	middle, size := box.Middle(), box.Max.Sub(box.Min)
	reach := size.Length() * 0.8
	return Camera{At: ray.Vec{float32(middle.X - reach/2), float32(middle.Y - reach), float32(middle.Z + reach/2)}, Look: ray.Vec{float32(middle.X), float32(middle.Y), float32(middle.Z)}, FOV: 60}, true
}

// Shown says what of a lit map a picture shows.
type Shown int

// What a picture can show.
const (
	All       Shown = iota // as in the game
	OnlyLight              // the light that lies on surfaces, as if all were white
)

// Lit draws a lit map as a camera sees it, each pixel the mean of samples x samples rays. Light above white is eased off instead
// of cut off.
func Lit(ctx context.Context, s *light.Scene, c Camera, w, h, samples int, what Shown) (*image.RGBA, error) {
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	ahead := c.Look.Sub(c.At).Unit()
	right := ahead.Cross(ray.Vec{0, 0, 1})
	if right.Length() < 1e-4 { // straight up or down: north is up
		right = ray.Vec{1, 0, 0}
	}
	right = right.Unit()
	up := right.Cross(ahead)
	half := float32(math.Tan(c.FOV / 2 * math.Pi / 180))
	var next atomic.Int64
	var wait sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for ctx.Err() == nil {
				y := int(next.Add(1)) - 1
				if y >= h {
					return
				}
				for x := range w {
					sum := ray.Vec{}
					for k := range samples * samples {
						px := (float32(x) + (float32(k%samples)+0.5)/float32(samples)) / float32(w)
						py := (float32(y) + (float32(k/samples)+0.5)/float32(samples)) / float32(w)
						dir := ahead.Add(right.Scale((2*px - 1) * half)).Add(up.Scale((float32(h)/float32(w) - 2*py) * half))
						seen := s.See(c.At, dir)
						lit := seen.Light
						if what == OnlyLight && seen.Hit {
							lit = seen.On
						}
						sum = sum.Add(shown(lit))
					}
					p := sum.Scale(1 / float32(samples*samples))
					img.SetRGBA(x, y, color.RGBA{screen(p[0]), screen(p[1]), screen(p[2]), 255})
				}
			}
		})
	}
	wait.Wait()
	return img, ctx.Err()
}

// knee is the brightness from which light is eased off.
const knee = 0.7

// shown brings light of any brightness to what a screen can show.
func shown(c ray.Vec) ray.Vec {
	for k, v := range c {
		if v > knee {
			c[k] = knee + (1-knee)*(1-1/(1+(v-knee)/(1-knee)))
		}
	}
	return c
}

// screen is a part of white in sRGB.
func screen(v float32) uint8 {
	f := float64(v)
	if f <= 0.0031308 {
		f *= 12.92
	} else {
		f = 1.055*math.Pow(f, 1/2.4) - 0.055
	}
	return uint8(math.Round(min(max(f, 0), 1) * 255))
}
