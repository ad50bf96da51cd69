package render

import (
	"context"
	"math"
	"runtime"
	"sync/atomic"

	"vornix/core/base/group"
	"vornix/core/format/bvh"
	"vornix/core/format/imaging"
)

// Version is raised whenever the same map and camera would give another picture.
const Version = 1

// Shown says what of a lit map a picture shows.
type Shown int

// What a picture can show.
const (
	All       Shown = iota // as in the game
	OnlyLight              // the light that lies on surfaces, as if all were white
	OnlyPaint              // surfaces as they are painted, as if light came evenly
)

// Options for Shoot.
type Options struct {
	Width, Height int
	Draft         bool // quick and rough
	Shown         Shown
	Workers       int // 0: one a processor
	// Progress is told how many of all rows are done, from any goroutine; nil: nobody is.
	Progress func(done, total int64)
}

// rounds are how many samples a pixel has after each round; only pixels that still need them take part in later ones.
var (
	fullRounds  = []int{1, 4, 12, 48}
	draftRounds = []int{1, 4}
	// Through an open lens each sample sees something else, and few of them tell little.
	fullLens  = []int{16, 48, 96}
	draftLens = []int{4, 16}
)

const (
	// enough is how much of white a pixel may be off, by the spread of its samples, before it gets more of them.
	enough = 0.015
	// edgy is how much of white neighbours may differ before both get more samples.
	edgy = 0.08
)

// lens makes rays of places on a picture, 0 to 1 from its upper left corner, and of places on a camera's opening.
type lens struct {
	at, ahead, right, up bvh.Vec
	half, ratio          float32 // tangent of half the field of view, height by width
	opening, focus       float32
	spread               float32 // how wide a pixel becomes a metre
	light                float32 // factor
}

func newLens(c Camera, w, h int) lens {
	l := lens{at: c.At, ahead: c.Look.Sub(c.At).Unit(), ratio: float32(h) / float32(w), opening: float32(c.Lens),
		focus: float32(c.Focus), light: float32(math.Exp2(c.Exposure))}
	if l.focus <= 0 {
		l.focus = c.Look.Sub(c.At).Length()
	}
	l.right, l.up = axes(l.ahead)
	l.half = float32(math.Tan(c.FOV / 2 * math.Pi / 180))
	l.spread = 2 * l.half / float32(w)
	return l
}

// axes are what lies to the right and up of a direction; straight up and down, north is up.
func axes(ahead bvh.Vec) (right, up bvh.Vec) {
	right = ahead.Cross(bvh.Vec{0, 0, 1})
	if right.Length() < 1e-4 {
		right = bvh.Vec{1, 0, 0}
	}
	right = right.Unit()
	return right, right.Cross(ahead)
}

// ray is where a ray begins and where it goes. a and b, 0 to 1, choose the place on the opening.
func (l *lens) ray(x, y, a, b float32) (from, dir bvh.Vec) {
	dir = l.ahead.Add(l.right.Scale((2*x - 1) * l.half)).Add(l.up.Scale((1 - 2*y) * l.half * l.ratio))
	if l.opening <= 0 {
		return l.at, dir.Unit()
	}
	r, phi := float64(l.opening)*math.Sqrt(float64(a)), 2*math.Pi*float64(b)
	from = l.at.Add(l.right.Scale(float32(r * math.Cos(phi)))).Add(l.up.Scale(float32(r * math.Sin(phi))))
	return from, l.at.Add(dir.Scale(l.focus)).Sub(from).Unit()
}

// Shoot takes a picture of a map. The same map and camera give the same picture, with any number of workers.
func (s *Scene) Shoot(ctx context.Context, c Camera, o Options) (*imaging.RGB48, error) {
	l := newLens(c, o.Width, o.Height)
	return s.expose(ctx, o, func(e *eye, x, y, a, b float32) bvh.Vec {
		from, dir := l.ray(x, y, a, b)
		return shown(e.see(from, dir, l.spread, 0, 0).Scale(l.light))
	}, l.opening > 0, nil)
}

// sum is what the samples of a pixel saw.
type sum struct {
	light   bvh.Vec
	b, b2   float32 // how bright they were to the eye, and the squares of that
	samples int32
}

func (s *sum) mean() float32 { return s.b / float32(s.samples) }

// off is about how far the pixel's mean may be from the truth, as its samples differ.
func (s *sum) off() float32 {
	n := float32(s.samples)
	variance := s.b2/n - float32(s.mean()*s.mean())
	return float32(math.Sqrt(float64(max(variance, 0) / n)))
}

// expose makes a picture of what sample sees at places of it; open says that samples of one place
// differ. removed is what is taken away of the map, or nil.
func (s *Scene) expose(ctx context.Context, o Options, sample func(e *eye, x, y, a, b float32) bvh.Vec, open bool,
	removed *cut) (*imaging.RGB48, error) {
	w, h := o.Width, o.Height
	rounds, sharp := fullRounds, float32(0.25)
	switch {
	case open && o.Draft:
		rounds, sharp = draftLens, 0
	case open:
		rounds = fullLens
	case o.Draft:
		rounds, sharp = draftRounds, 0
	}
	workers := o.Workers
	if workers <= 0 {
		workers = runtime.GOMAXPROCS(0)
	}
	sums := make([]sum, w*h)
	var wanted []bool // nil: all
	var done atomic.Int64
	for round, until := range rounds {
		var next atomic.Int64
		var wait group.All
		for range workers {
			wait.Go(func() {
				e := &eye{s: s, what: o.Shown, sharp: sharp, cut: removed}
				for ctx.Err() == nil {
					y := int(next.Add(1)) - 1
					if y >= h {
						return
					}
					for x := range w {
						i := y*w + x
						if wanted != nil && !wanted[i] {
							continue
						}
						p := &sums[i]
						seed := scramble(uint32(i) + 0x51ed270b)
						for k := int(p.samples); k < until; k++ {
							e.hash = scramble(seed + uint32(k))
							px, py := within(k)
							c := sample(e, (float32(x)+px)/float32(w), (float32(y)+py)/float32(h), float32(e.chance()),
								float32(e.chance()))
							b := float32(math.Sqrt(float64(brightness(c)))) // as the eye has it, about
							p.light, p.b, p.b2 = p.light.Add(c), p.b+b, p.b2+float32(b*b)
						}
						p.samples = int32(until)
					}
					if o.Progress != nil {
						o.Progress(done.Add(1), int64(h*len(rounds)))
					}
				}
			})
		}
		wait.Wait()
		if round+1 < len(rounds) {
			wanted = unsettled(sums, w, h, round == 0)
		}
	}
	out := &imaging.RGB48{W: w, H: h, Pix: make([]uint16, 3*w*h)}
	for i := range sums {
		c := sums[i].light.Scale(1 / float32(max(sums[i].samples, 1)))
		p := out.Pix[3*i:][:3]
		p[0], p[1], p[2] = screen16(c[0]), screen16(c[1]), screen16(c[2])
	}
	return out, ctx.Err()
}

// within is where the k-th sample lies in a pixel: the first in its middle, the others by the additive sequence of the
// plastic number (Roberts 2018), which fills the square evenly.
func within(k int) (x, y float32) {
	x, y = 0.5+float32(0.7548776662*float32(k)), 0.5+float32(0.5698402910*float32(k))
	return x - float32(int(x)), y - float32(int(y))
}

// unsettled are the pixels that need more samples: those whose samples differ, and, after the first
// round, those that differ from their neighbours, between which an edge runs that few samples may
// have missed.
func unsettled(sums []sum, w, h int, edges bool) []bool {
	list := make([]bool, len(sums))
	for y := range h {
		for x := range w {
			i := y*w + x
			if sums[i].off() > enough {
				list[i] = true
			}
			if !edges {
				continue
			}
			for _, j := range [2]int{i + 1, i + w} {
				if j == i+1 && x+1 == w || j >= len(sums) {
					continue
				}
				if d := sums[i].mean() - sums[j].mean(); d > edgy || d < -edgy {
					list[i], list[j] = true, true
				}
			}
		}
	}
	if !edges {
		return list
	}
	// What is thinner than a pixel is met now and then: its neighbours are asked too.
	wide := make([]bool, len(list))
	for y := range h {
		for x := range w {
			for j := max(y-1, 0); j <= min(y+1, h-1) && !wide[y*w+x]; j++ {
				for i := max(x-1, 0); i <= min(x+1, w-1); i++ {
					wide[y*w+x] = wide[y*w+x] || list[j*w+i]
				}
			}
		}
	}
	return wide
}

func brightness(c bvh.Vec) float32 {
	return float32(0.2126*c[0]) + float32(0.7152*c[1]) + float32(0.0722*c[2])
}

// knee is the brightness from which light is eased off: below it a picture has the very colours of the map.
const knee = 0.7

// shown brings light of any brightness to what a screen can show.
func shown(c bvh.Vec) bvh.Vec {
	for k, v := range c {
		if v > knee {
			c[k] = knee + float32((1-knee)*(1-1/(1+(v-knee)/(1-knee))))
		}
	}
	return c
}

func screen16(v float32) uint16 { return uint16(float32(imaging.SRGB(v)*65535) + 0.5) }
