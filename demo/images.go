package demo

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"runtime"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"
)

// painter gives the colour and alpha of a texel in an image of n by n.
type painter func(x, y, n int) (c [3]int, alpha int)

// opaque is a painter without alpha.
func opaque(f func(x, y, n int) [3]int) painter {
	return func(x, y, n int) ([3]int, int) { return f(x, y, n), 255 }
}

// picture is an image file of the demo.
type picture struct {
	file  string // its ending decides between PNG and JPEG
	w, h  int
	paint painter
}

var highlinePictures = []picture{
	{"textures/wood/plank.png", 512, 512, opaque(plank)},
	{"textures/rock/cairn.png", 512, 512, opaque(cairn)},
	{"textures/rock/slab.png", 512, 512, opaque(slab)},
	{"textures/snow/drift.jpg", 512, 512, opaque(drift)},
	{"textures/metal/rail.png", 256, 256, opaque(metal)},
	{"textures/rock/cairn_bumps.png", 512, 512, opaque(cairnBumps)},
	{"textures/sign/highline.png", 256, 128, sign},
	{"textures/metal/grate.png", 128, 128, grate},
	{"textures/glass/amber.png", 128, 128, amber},
	{"textures/lamp/amber.png", 64, 64, opaque(lampGlass)},
	{"textures/water/brine.png", 128, 128, brine},
	{"textures/water/ripples.png", 128, 128, opaque(ripples)},
	{"textures/cloth/sail.png", 256, 256, opaque(sail)},
	{"maps/dawn_ridge.png", ridgeWidth, ridgeWidth / 2, opaque(dawnRidge)},
	{"pictures/ridge.png", 1280, 480,
		opaque(func(x, y, _ int) [3]int { return dawnRidge(x+ridgeWidth*2/5-320, y+ridgeWidth/4-300, ridgeWidth) })},
	{"maps/saltpan.png", 129, 129, opaque(saltpan)},
	{"maps/saltpan_rock.png", 129, 129, opaque(saltpanRock)},
}

var sidingsPictures = []picture{
	{"textures/rock/wall.png", 16, 16, opaque(tileWall)},
	{"textures/rock/ore.png", 16, 16, opaque(tileOre)},
	{"textures/earth/floor.png", 16, 16, opaque(tileFloor)},
	{"textures/earth/moss.png", 16, 16, opaque(tileMoss)},
	{"textures/track/straight.png", 16, 16, opaque(track(true, false))},
	{"textures/track/upright.png", 16, 16, opaque(track(false, true))},
	{"textures/track/cross.png", 16, 16, opaque(track(true, true))},
	{"textures/track/buffer.png", 16, 16, opaque(tileBuffer)},
	{"maps/tunnel.png", 32, 16, opaque(tunnel)},
	{"pictures/board.png", 160, 96, board},
	{"sprites/mole.png", 4 * spriteSide, 4 * spriteSide, moleSheet},
	{"sprites/lamp/glow/1.png", spriteSide, spriteSide, lamp(90)},
	{"sprites/lamp/glow/2.png", spriteSide, spriteSide, lamp(150)},
	{"sprites/lamp/glow/10.png", spriteSide, spriteSide, lamp(210)},
}

// encode paints the picture and writes it in the form that its ending says.
func (p picture) encode(ctx context.Context) ([]byte, error) {
	img := image.NewNRGBA(image.Rect(0, 0, p.w, p.h))
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	const rows = 32
	for first := 0; first < p.h; first += rows {
		group.Go(func() error {
			for y := first; y < min(first+rows, p.h) && ctx.Err() == nil; y++ {
				for x := range p.w {
					c, a := p.paint(x, y, p.w)
					img.SetNRGBA(x, y, color.NRGBA{uint8(c[0]), uint8(c[1]), uint8(c[2]), uint8(a)})
				}
			}
			return nil
		})
	}
	if err := errors.Join(group.Wait(), ctx.Err()); err != nil {
		return nil, err
	}
	var b bytes.Buffer
	var err error
	if strings.HasSuffix(p.file, ".jpg") {
		err = jpeg.Encode(&b, img, &jpeg.Options{Quality: 92})
	} else {
		err = png.Encode(&b, img)
	}
	return b.Bytes(), err
}

// plank: four boards with grain along x, dark joints and nails.
func plank(x, y, n int) [3]int {
	board := n / 4
	row, in := y/board, y%board
	shift := int(hash(row, 0, 11)) % n
	sx := (x + (shift+n)%n) % n
	grain := noise(sx, y*6%n, n/8, n, 21+uint32(row))/2 + fractal(sx/4, y*3%n, n/16, n, 31)/2
	c := mix([3]int{112, 78, 50}, [3]int{186, 142, 98}, grain)
	c = shade(c, 225+int(hash(row, 1, 12))%30)
	edge := min(in, board-1-in)
	if edge < 3 {
		c = shade(c, 70+edge*45)
	}
	end := min(sx, n-1-sx)
	if end < 2 {
		c = shade(c, 110)
	}
	if dx, dy := end-8, in-board/2; dx*dx+dy*dy <= 6 {
		c = [3]int{64, 58, 54}
	}
	return c
}

// cairn: rough stones of uneven size.
func cairn(x, y, n int) [3]int {
	first, second, id := cells(x, y, n, 8, 41)
	c := mix([3]int{108, 106, 110}, [3]int{172, 166, 156}, int(id>>24))
	c = shade(c, 190+fractal(x, y, n/8, n, 42)/3)
	if gap := second - first; gap < 14 {
		c = mix([3]int{58, 58, 64}, c, max(gap, 0)*18)
	}
	return c
}

// cairnBumps is how high the stones of cairn stand.
func cairnBumps(x, y, n int) [3]int {
	first, second, id := cells(x, y, n, 8, 41)
	h := 150 + int(id>>28)*4 + fractal(x, y, n/8, n, 42)/8
	if gap := second - first; gap < 24 {
		h = h * (10 + max(gap, 0)) / 34
	}
	h = min(h, 255)
	return [3]int{h, h, h}
}

// cells finds the distances to the nearest and second nearest of points scattered one a cell, and the nearest's number.
func cells(x, y, n, count int, seed uint32) (first, second int, id uint32) {
	width := n / count
	first, second = 1<<20, 1<<20
	for j := -1; j <= 1; j++ {
		for i := -1; i <= 1; i++ {
			cx, cy := x/width+i, y/width+j
			h := hash((cx+count)%count, (cy+count)%count, seed)
			px, py := cx*width+int(h&255)*width/256, cy*width+int(h>>8&255)*width/256
			d := int(math.Sqrt(float64((px-x)*(px-x) + (py-y)*(py-y)))) // exact for whole numbers of this size
			if d < first {
				first, second, id = d, first, h
			} else if d < second {
				second = d
			}
		}
	}
	return first, second, id
}

// slab: courses of cut stone, every other one shifted by half.
func slab(x, y, n int) [3]int {
	height, width := n/6, n/3
	row := y / height
	sx := (x + row%2*width/2) % n
	in, along := y%height, sx%width
	c := mix([3]int{140, 136, 128}, [3]int{184, 178, 166}, int(hash(sx/width, row, 51)>>24))
	c = shade(c, 205+fractal(x, y, n/16, n, 52)/5)
	edge := min(in, height-1-in, along, width-1-along)
	switch {
	case edge < 3:
		c = [3]int{98, 92, 86}
	case edge < 6:
		c = shade(c, 225)
	}
	return c
}

// drift: snow in long, soft waves.
func drift(x, y, n int) [3]int {
	wave := fractal(x, (y*2+noise(x, y, n/4, n, 61)/4)%n, n/4, n, 62)
	c := mix([3]int{198, 212, 230}, [3]int{248, 250, 252}, wave)
	if hash(x, y, 63)>>24 > 252 {
		c = [3]int{255, 255, 255}
	}
	return c
}

// metal: brushed, with rust that gathers at the lower edge.
func metal(x, y, n int) [3]int {
	c := mix([3]int{104, 110, 118}, [3]int{156, 162, 168}, noise(x*8%n, y, n/4, n, 71)/2+int(hash(x/3, y, 72)>>25))
	rust := fractal(x, y, n/8, n, 73) + (y-n/2)*160/n
	if rust > 170 {
		c = mix(c, [3]int{136, 76, 44}, (rust-170)*5)
	}
	return c
}

// grate: flat bars with holes between them.
func grate(x, y, n int) ([3]int, int) {
	const bar = 7
	in, along := x%(n/4), y%(n/2)
	c := mix([3]int{84, 88, 94}, [3]int{134, 138, 142}, noise(x, y, n/8, n, 101))
	if edge := min(in, along); edge == 0 || edge == bar-1 {
		c = shade(c, 170)
	}
	if in >= bar && along >= bar {
		return c, 0
	}
	return c, 255
}

// amber: old glass in lead, uneven and not very clear.
func amber(x, y, n int) ([3]int, int) {
	pane := n / 2
	u, v := x%pane, y%pane
	if a, b := (u+v)%pane, (u-v+n)%pane; min(a, pane-a) < 4 || min(b, pane-b) < 4 {
		return [3]int{52, 50, 54}, 255
	}
	return mix([3]int{236, 150, 58}, [3]int{255, 206, 120}, fractal(x, y, n/4, n, 102)), 64 + noise(x, y, n/8, n, 103)/6
}

// brine: clear water with the green of salt.
func brine(x, y, n int) ([3]int, int) {
	return mix([3]int{96, 138, 142}, [3]int{124, 164, 160}, fractal(x, y, n/2, n, 142)), 26
}

// ripples is how high brine stands when a light wind goes over it.
func ripples(x, y, n int) [3]int {
	h := (fractal(x, y*2%n, n/4, n, 143) + noise((x+y)%n, (y*2+n-x)%n, n/8, n, 144)) / 2
	return [3]int{h, h, h}
}

// lampGlass: a milky pane in a frame of metal.
func lampGlass(x, y, n int) [3]int {
	if edge := min(x, y, n-1-x, n-1-y); edge < n/12 {
		return [3]int{58, 52, 48}
	}
	dx, dy := 2*x-n, 2*y-n
	return mix([3]int{255, 236, 190}, [3]int{255, 176, 92}, (dx*dx+dy*dy)*255/(2*n*n))
}

// sail: canvas in broad stripes, with seams.
func sail(x, y, n int) [3]int {
	c := [3]int{232, 224, 204}
	if y/(n/4)%2 == 1 {
		c = [3]int{46, 92, 148}
	}
	c = shade(c, 215+int(hash(x/2, y/2, 104)>>27)+fractal(x, y, n/8, n, 105)/12)
	if y%(n/4) < 2 || x%(n/2) < 2 {
		c = shade(c, 190)
	}
	return c
}

// ridge is the heights of a column's ridges and of its clouds' upper edge, in sixteenths of a pixel.
type ridge struct {
	heights [3]int // the further ones are higher
	clouds  int
}

// ridgeWidth is how wide the picture of dawnRidge is.
const ridgeWidth = 2048

var ridges = sync.OnceValue(func() []ridge {
	const n = ridgeWidth
	list := make([]ridge, n)
	for x := range list {
		for k := range list[x].heights {
			list[x].heights[k] = 16*((5-k)*n/170-n/64) + noise(x, k, n/(8+6*k), n, 113+uint32(k))*n*16/(5200+1700*k) +
				jagged(x, n, uint32(k))*n*16/9000
		}
		list[x].clouds = fractal(x, 40, n/16, n, 131)*n*16/11000 - n*16/100
	}
	return list
})

// dawnRidge is all that is around Cairn Station shortly after sunrise: a sky with streaks of cloud,
// ridges, and a sea of clouds below. The sun itself is the compiler's.
func dawnRidge(x, y, n int) (c [3]int) {
	up := n/4 - y                          // from the horizon; a pixel is 360/n degrees
	aside := (x - n*152/360 + n + n/2) % n // from the sun's direction
	aside = max(aside-n/2, n/2-aside)
	toward := max(255-aside*255/(n*2/5), 0)
	low := mix([3]int{196, 176, 196}, [3]int{255, 208, 158}, toward)
	column := &ridges()[x]
	sea := (column.clouds - up*16) * 6
	if sea < 255 {
		c = ridgeSky(x, y, n, up, aside, toward, low)
		for k, height := range column.heights {
			cover := (height - up*16) * 16 // a ridge's edge lies between pixels
			if height /= 16; cover <= 0 {
				continue
			}
			rock := mix([3]int{148, 156, 188}, [3]int{74, 84, 112}, k*120)
			c = mix(c, mix(rock, low, min((height-up)*6, 120)), cover)
		}
	}
	if sea > 0 {
		deep := min(sea/6*16/(n/5), 255)
		white := mix([3]int{222, 218, 228}, [3]int{255, 232, 210}, toward)
		white = mix(white, [3]int{142, 158, 192}, deep)
		c = mix(c, shade(white, 210+fractal(x, (y*3)%n, max(n/12-deep/8, 16), n, 132)/5), sea)
	}
	return c
}

// ridgeSky is the sky of dawnRidge.
func ridgeSky(x, y, n, up, aside, toward int, low [3]int) [3]int {
	c := mix(low, [3]int{132, 164, 208}, up*255/(n/14))
	c = mix(c, [3]int{62, 98, 160}, (up-n/20)*255/(n/5))
	if up > n/90 {
		streak := fractal(x, (y*5+noise(x, y, n/16, n, 111)/12)%n, n/8, n, 112)
		c = mix(c, mix([3]int{226, 214, 222}, [3]int{255, 236, 214}, toward), (streak-120)*2*min(up-n/90, n/20)/(n/20))
	}
	far := max(aside*aside+(up-n*22/360)*(up-n*22/360), 1)
	return mix(c, [3]int{255, 244, 214}, 255*n*n/3000/far)
}

// jagged is the finer part of a ridge's height: 0 to 255.
func jagged(x, n int, seed uint32) int {
	return (4*noise(x, 3, n/32, n, 117+seed) + 2*noise(x, 5, n/64, n, 127+seed) + noise(x, 7, n/128, n, 137+seed)) / 7
}

// board: two planks on a post, chalked upon, with a soft shadow below.
func board(x, y, n int) ([3]int, int) {
	h := n * 3 / 5
	dx, dy := max(n/12-x, x-(n-1-n/12), 0), max(h/10-y, y-(h-1-h/5), 0)
	if dx == 0 && dy == 0 {
		c := plank(x*2, y*2+h/7, n*2)
		if row := (y - h/4) % (h / 6); y > h/4 && y < h*2/3 && row >= 0 && row < 3 && x > n/5 && x < n*4/5-(y*7)%(n/5) {
			c = mix(c, [3]int{226, 224, 214}, 90+noise(x*4%n, y, n/8, n, 141)/2)
		}
		return c, 255
	}
	if far := dx*dx + dy*dy; y > h/10 && far < h*h/64 {
		return [3]int{12, 10, 8}, 150 - 150*far*64/(h*h)
	}
	return [3]int{12, 10, 8}, 0
}

// sign: an enamel board with rounded corners, a frame and a glider's silhouette over ridges.
func sign(x, y, n int) ([3]int, int) {
	w, h := n, n/2
	corner := n / 12
	dx := max(corner-x, x-(w-1-corner), 0)
	dy := max(corner-y, y-(h-1-corner), 0)
	if dx*dx+dy*dy > corner*corner {
		return [3]int{40, 60, 92}, 0
	}
	edge := min(x, y, w-1-x, h-1-y)
	if edge < n/32 || dx*dx+dy*dy > (corner-n/32)*(corner-n/32) && dx > 0 && dy > 0 {
		return [3]int{232, 214, 168}, 255
	}
	ridge := h*5/8 + noise(x, 0, n/6, n, 81)*h/1000 - noise(x, 5, n/12, n, 82)*h/2000
	c := mix([3]int{36, 62, 104}, [3]int{222, 142, 92}, y*255/h)
	if y > ridge {
		c = [3]int{28, 34, 52}
	}
	cx, cy := x-w/2, y-h*3/8
	wing := w / 4
	if a := max(cx, -cx); a < wing && cy > -a/6 && cy < h/24-a/12+2 || a < w/60 && cy > -h/10 && cy < h/7 {
		c = [3]int{250, 244, 230}
	}
	return c, 255
}

// saltpan is the height of a dry lake: flat in the middle, rising to hills around it.
func saltpan(x, y, n int) [3]int {
	dx, dy := 2*x-n+1, (2*y-n+1)*5/4
	far := (dx*dx + dy*dy) * 256 / (n * n) // 256 at the middle of an edge
	rise := min(max(far-130, 0), 256)
	h := 52 + fractal(x, y, 32, 256, 91)/24 + rise*rise/256*(96+fractal(x, y, 32, 256, 92)/2)/256
	return [3]int{min(h, 255), min(h, 255), min(h, 255)}
}

// saltpanRock is where rock shows through, on the steep parts.
func saltpanRock(x, y, n int) [3]int {
	slope := 0
	for _, d := range [][2]int{{2, 0}, {0, 2}} {
		a, b := saltpan(max(x-d[0], 0), max(y-d[1], 0), n), saltpan(min(x+d[0], n-1), min(y+d[1], n-1), n)
		slope = max(slope, max(a[0]-b[0], b[0]-a[0]))
	}
	v := min(max((slope-7)*40, 0), 255)
	return [3]int{v, v, v}
}

// tunnel is a level of Tram Depot, a pixel a cell: rock, with a winding gallery around a shaft.
func tunnel(x, y, _ int) [3]int {
	wall, floor, moss := [3]int{0x40, 0x40, 0x48}, [3]int{0xb0, 0x94, 0x68}, [3]int{0x5c, 0x8a, 0x3c}
	shaft := x >= 14 && x <= 17 && y >= 5 && y <= 8
	ring := x >= 10 && x <= 21 && y >= 3 && y <= 11
	gallery := y >= 6 && y <= 7 && x > 0 && x < 31
	switch {
	case x == 0 || y == 0 || x == 31 || y == 15:
		return wall
	case shaft || ring && hash(x, y, 77)%9 == 0:
		return moss
	case ring || gallery:
		return floor
	}
	return wall
}

func tileWall(x, y, n int) [3]int {
	c := mix([3]int{58, 50, 52}, [3]int{98, 86, 82}, noise(x, y, 4, n, 91))
	if y%8 == 7 || (x+y/8*4)%8 == 0 {
		c = [3]int{38, 32, 36}
	}
	if y%8 == 0 {
		c = shade(c, 300)
	}
	return c
}

// tileOre is rock with crystals in it.
func tileOre(x, y, n int) [3]int {
	c := mix([3]int{58, 50, 52}, [3]int{98, 86, 82}, noise(x, y, 4, n, 91))
	for _, s := range [][3]int{{5, 5, 3}, {10, 4, 2}, {9, 11, 3}, {3, 12, 2}} {
		if d := max(x-s[0], s[0]-x) + max(y-s[1], s[1]-y); d < s[2] {
			c = mix([3]int{190, 236, 255}, [3]int{58, 140, 200}, d*255/s[2])
		}
	}
	return c
}

func tileFloor(x, y, n int) [3]int {
	c := mix([3]int{112, 82, 56}, [3]int{140, 106, 74}, noise(x, y, 4, n, 92)/2+int(hash(x, y, 93)>>25))
	if hash(x, y, 94)>>24 > 247 {
		c = [3]int{164, 134, 100}
	}
	return c
}

func tileMoss(x, y, n int) [3]int {
	c := tileFloor(x, y, n)
	if noise(x, y, 4, n, 95) > 96 {
		c = mix([3]int{74, 104, 52}, [3]int{112, 146, 74}, int(hash(x, y, 96)>>24))
	}
	return c
}

// track lays sleepers and rails over the floor, along x, along y, or both.
func track(along, upright bool) func(x, y, n int) [3]int {
	return func(x, y, n int) [3]int {
		c := tileFloor(x, y, n)
		sleeper := func(u, v int) {
			if u%4 < 2 && v > 2 && v < 13 {
				c = [3]int{84, 60, 42}
			}
		}
		rail := func(v int) {
			switch v {
			case 4, 11:
				c = [3]int{176, 180, 186}
			case 5, 12:
				c = [3]int{66, 62, 66}
			}
		}
		if along {
			sleeper(x, y)
		}
		if upright {
			sleeper(y, x)
			rail(x)
		}
		if along {
			rail(y)
		}
		return c
	}
}

func tileBuffer(x, y, n int) [3]int {
	c := tileFloor(x, y, n)
	if x > 4 && x < 11 && y > 1 && y < 14 {
		c = [3]int{150, 52, 40}
		if y/2%2 == 0 {
			c = [3]int{224, 204, 150}
		}
	}
	return c
}

// tone makes a sound: a WAV of 16-bit samples, one channel, 22,050 a second. wave gives the sample
// at a time in seconds, from -1 to 1.
func tone(seconds float64, wave func(t float64) float64) []byte {
	const rate = 22050
	n := int(seconds * rate)
	le := binary.LittleEndian
	b := []byte("RIFF")
	b = le.AppendUint32(b, uint32(36+2*n))
	b = append(b, "WAVEfmt "...)
	b = le.AppendUint32(b, 16)
	b = le.AppendUint16(b, 1)
	b = le.AppendUint16(b, 1)
	b = le.AppendUint32(b, rate)
	b = le.AppendUint32(b, 2*rate)
	b = le.AppendUint16(b, 2)
	b = le.AppendUint16(b, 16)
	b = append(b, "data"...)
	b = le.AppendUint32(b, uint32(2*n))
	for i := range n {
		b = le.AppendUint16(b, uint16(int16(math.Round(30000*wave(float64(i)/rate)))))
	}
	return b
}

// hum is the station's generator: a low note with two overtones that beats twice a second and loops without a click.
func hum(t float64) float64 {
	s := func(f float64) float64 { return math.Sin(2 * math.Pi * f * t) }
	return (0.5*s(55) + 0.25*s(110) + 0.12*s(165)) * (0.8 + 0.2*s(2))
}

// drip is a drop into a pool: a note that falls and dies away.
func drip(t float64) float64 {
	return 0.6 * math.Exp(-9*t) * math.Sin(2*math.Pi*(900*t-180*t*t))
}

// gust is wind: noise that swells and dies away.
func gust(t float64) float64 {
	n := float64(hash(int(t*5000), 7, 5)>>16)/32768 - 1
	return 0.3 * n * math.Sin(math.Pi*t)
}

// RepaintedTexture is the texture of the demo that the second week of its story changes.
const RepaintedTexture = "textures/rock/slab.png"

// Repaint paints that texture anew, otherwise in every week.
func Repaint(week int) ([]byte, error) {
	wet := 236 - 24*(week%4)
	return picture{RepaintedTexture, 512, 512, opaque(func(x, y, n int) [3]int {
		c := shade(slab(x, y, n), wet)
		if fractal(x, y, n/8, n, uint32(77+week)) > 150 { // lichen
			c = mix(c, [3]int{128, 140, 96}, 120)
		}
		return c
	})}.encode(context.Background())
}
