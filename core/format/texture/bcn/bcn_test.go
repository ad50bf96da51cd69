package bcn_test

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/texture/bcn"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// format is a block format with how to pack and unpack it.
type format struct {
	name     string
	bytes    int
	channels string
	pack     func([]byte, *bcn.Texels, bcn.Quality) []byte
	read     func([]byte) bcn.Texels
}

var formats = []format{
	{"1", 8, "rgb", bcn.BC1, bcn.ReadBC1}, {"2", 16, "rgba", bcn.BC2, bcn.ReadBC2},
	{"3", 16, "rgba", bcn.BC3, bcn.ReadBC3},
	{"4", 8, "r", bcn.BC4, bcn.ReadBC4}, {"5", 16, "rg", bcn.BC5, bcn.ReadBC5}, {"7", 16, "rgba", bcn.BC7, bcn.ReadBC7},
}

// samples are blocks of many kinds: flat, ramps, two materials, noise, cut-outs, soft alpha.
func samples(n int) []bcn.Texels {
	r := rand.New(rand.NewPCG(7, 11))
	list := make([]bcn.Texels, n)
	colour := func() (c [4]float64) {
		for k := range c {
			c[k] = float64(r.IntN(256))
		}
		return c
	}
	for i := range list {
		a, b, c := colour(), colour(), colour()
		noise := []float64{0, 2, 8, 30}[r.IntN(4)]
		kind, alpha := i%6, i/6%4
		slope := r.Float64() * 6
		for j := range list[i] {
			x, y := float64(j%4), float64(j/4)
			t := math.Mod(x*math.Cos(slope)+y*math.Sin(slope)+12, 4.2) / 4.2
			for k := range 4 {
				v := a[k]
				switch kind {
				case 1:
					v = a[k] + (b[k]-a[k])*t
				case 2, 3:
					if x*math.Cos(slope)+y*math.Sin(slope) > 1 {
						v = b[k]
					}
				case 4:
					v = []float64{a[k], b[k], c[k]}[(j/4+int(slope)*j)%3]
				case 5:
					v = float64(r.IntN(256))
				}
				v += (r.Float64() - 0.5) * noise
				if k == 3 {
					v = []float64{255, 255, v, math.Round(v/255) * 255}[alpha]
				}
				list[i][j][k] = uint8(min(max(math.Round(v), 0), 255))
			}
		}
	}
	return list
}

// wrong is the summed squared error of the channels that a format keeps.
func wrong(a, b *bcn.Texels, channels string) (sum int64) {
	for i := range a {
		for _, c := range channels {
			k := strings.IndexRune("rgba", c)
			d := int64(a[i][k]) - int64(b[i][k])
			sum += d * d
		}
	}
	return sum
}

func decibels(sum, texels int64, channels int) float64 {
	return 10 * math.Log10(255*255*float64(texels)*float64(channels)/max(float64(sum), 1e-9))
}

// TestAgainstAnotherDecoder holds what any bits mean, and what is packed here, to Pillow's decoder:
// exactly for BC7, within a step of rounding for the others, and BC6H in the 8 bits that Pillow
// gives.
func TestAgainstAnotherDecoder(t *testing.T) {
	python := peer.Need(t, "/usr/bin/python3")
	if out := peer.Run(t, t.TempDir(), python, "-c",
		"try:\n import PIL.Image; print('here')\nexcept ImportError: pass"); !strings.Contains(out, "here") {
		peer.Missing(t, "Pillow (python3-pil)")
	}
	dir := t.TempDir()
	r := rand.New(rand.NewPCG(1, 2))
	const n = 2048
	data := map[string][]byte{}
	for _, f := range formats {
		for range n {
			b := binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(nil, r.Uint64()), r.Uint64())
			if f.name == "7" { // half of random bits would be mode 0
				mode := r.IntN(8)
				b[0] = b[0]&^byte(1<<(mode+1)-1) | byte(1)<<mode
			}
			data[f.name] = append(data[f.name], b[:f.bytes]...)
		}
		for i, s := range samples(n) {
			data[f.name] = f.pack(data[f.name], &s, []bcn.Quality{bcn.Draft, bcn.Normal, bcn.Best}[i%37%3])
		}
	}
	for range n {
		data["6"] = binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(data["6"], r.Uint64()),
			r.Uint64())
	}
	for i, l := range lights(n) {
		data["6"] = bcn.BC6H(data["6"], &l, []bcn.Quality{bcn.Draft, bcn.Normal, bcn.Best}[i%37%3])
	}
	for name, d := range data {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), d, 0o666))
	}
	peer.Run(t, dir, python, "-c", fmt.Sprintf(`from PIL import Image
for n, mode, size in [(1,'RGBA',8),(2,'RGBA',16),(3,'RGBA',16),(4,'L',8),(5,'RGB',16),(6,'RGB',16),(7,'RGBA',16)]:
    d = open(str(n), 'rb').read()
    open(f'{n}.out', 'wb').write(Image.frombytes(mode, (4, %d * 4), d, 'bcn', n).convert('RGBA').tobytes())`, 2*n))
	read := func(name string) []byte {
		out, err := os.ReadFile(filepath.Join(dir, name+".out"))
		require.NoError(t, err)
		require.Len(t, out, 2*n*64)
		return out
	}
	for _, f := range formats {
		out, worst := read(f.name), 0
		for i := range 2 * n {
			got := f.read(data[f.name][i*f.bytes:][:f.bytes])
			for j, texel := range got {
				for _, c := range f.channels {
					k := strings.IndexRune("rgba", c)
					worst = max(worst, int(math.Abs(float64(texel[k])-float64(out[i*64+j*4+k]))))
				}
			}
		}
		assert.LessOrEqual(t, worst, map[string]int{"7": 0}[f.name]+map[bool]int{true: 0, false: 1}[f.name == "7"],
			"BC"+f.name)
	}
	out := read("6")
	for i := range 2 * n {
		b := data["6"][i*16:][:16]
		if number := b[0] & 31; number&3 > 1 && number&3 == 3 && number > 15 {
			continue // numbers that are no mode: black here
		}
		for j, texel := range bcn.ReadBC6H(b) {
			for k, h := range texel {
				want := min(max(math.Trunc(float(h)*255), 0), 255)
				require.InDelta(t, want, float64(out[i*64+j*4+k]), 1,
					"BC6H block %d (mode bits %05b) texel %d channel %d", i, b[0]&31, j, k)
			}
		}
	}
}

// float is the value of a half float that is no NaN.
func float(h uint16) float64 {
	mantissa, exponent := float64(h&0x3ff), int(h>>10&31)
	if exponent == 0 {
		return math.Ldexp(mantissa, -24)
	}
	return math.Ldexp(mantissa+1024, exponent-25)
}

// half is the bits of a value from 0 to 65504, rounded down.
func half(v float64) uint16 {
	low, high := 0, 0x7bff
	for low < high {
		if m := (low + high + 1) / 2; float(uint16(m)) <= v {
			low = m
		} else {
			high = m - 1
		}
	}
	return uint16(low)
}

// lights are blocks of light: skies, lamps, sharp shadows, noise, over many stops.
func lights(n int) []bcn.Light {
	r := rand.New(rand.NewPCG(3, 5))
	list := make([]bcn.Light, n)
	for i := range list {
		level := math.Pow(2, r.Float64()*16-8)
		a, b := [3]float64{r.Float64(), r.Float64(), r.Float64()}, [3]float64{r.Float64(), r.Float64(), r.Float64()}
		contrast := math.Pow(2, float64(r.IntN(6)))
		slope := r.Float64() * 6
		for j := range list[i] {
			x, y := float64(j%4), float64(j/4)
			s := x*math.Cos(slope) + y*math.Sin(slope)
			for k := range 3 {
				v := a[k]
				switch i % 5 {
				case 1:
					v = a[k] + (b[k]-a[k])*(s+4)/8
				case 2:
					if s > 1 {
						v = b[k] * contrast
					}
				case 3:
					v = a[k] + contrast*math.Exp(-s*s)
				case 4:
					v = r.Float64()
				}
				list[i][j][k] = half(level * v * (1 + 0.02*r.Float64()))
			}
		}
	}
	return list
}

func lightWrong(a, b *bcn.Light) (sum int64) {
	for i := range a {
		for k := range 3 {
			d := int64(a[i][k]) - int64(b[i][k])
			sum += d * d
		}
	}
	return sum
}

// What is opaque stays opaque, exactly, in every format and quality.
func TestOpaqueStaysOpaque(t *testing.T) {
	for i, s := range samples(600) {
		for j := range s {
			s[j][3] = 255
		}
		for _, f := range formats {
			for _, q := range []bcn.Quality{bcn.Draft, bcn.Normal, bcn.Best} {
				if q == bcn.Best && i%10 > 0 {
					continue // it takes long
				}
				for _, texel := range f.read(f.pack(nil, &s, q)) {
					require.EqualValues(t, 255, texel[3], "BC%s %s", f.name, q)
				}
			}
		}
	}
}

// TestNearTheBestThereIs holds each quality to an exhaustive search on sampled blocks: best within 0.3 dB, and each
// quality no worse than the one below it.
func TestNearTheBestThereIs(t *testing.T) {
	thorough.Only(t)
	qualities := []bcn.Quality{bcn.Draft, bcn.Normal, bcn.Best, bcn.Exhaustive}
	within := map[string][3]float64{"1": {0.5, 0.2, 0.1}, "2": {0.5, 0.2, 0.1}, "3": {0.5, 0.2, 0.1},
		"4": {2.5, 0.7, 0.3}, "5": {2.5, 0.7, 0.3}, "7": {5, 0.6, 0.3}}
	list := samples(30)
	figure := func(f format, q bcn.Quality) float64 {
		var sum int64
		for i := range list {
			b := f.read(f.pack(nil, &list[i], q))
			sum += wrong(&list[i], &b, f.channels)
		}
		return decibels(sum, int64(16*len(list)), len(f.channels))
	}
	for _, f := range formats {
		var got []float64
		for _, q := range qualities {
			got = append(got, figure(f, q))
		}
		t.Logf("BC%s: %.2f dB", f.name, got)
		assert.IsNonDecreasing(t, got, f.name)
		for i, limit := range within[f.name] {
			assert.LessOrEqual(t, got[3]-got[i], limit, "BC%s %s", f.name, qualities[i])
		}
	}
	var got []float64
	ls := lights(15)
	for _, q := range qualities {
		var sum int64
		for i := range ls {
			b := bcn.ReadBC6H(bcn.BC6H(nil, &ls[i], q))
			sum += lightWrong(&ls[i], &b)
		}
		got = append(got, 10*math.Log10(float64(0x7bff*0x7bff)/(float64(sum)/float64(48*len(ls)))))
	}
	t.Logf("BC6H: %.2f dB", got)
	assert.IsNonDecreasing(t, got)
	for i, limit := range []float64{6, 0.6, 0.3} {
		assert.LessOrEqual(t, got[3]-got[i], limit, "BC6H %s", qualities[i])
	}
}

// Any bits unpack, and what they say is packed again nearly as well as it was known to be possible.
func FuzzPackedAgain(f *testing.F) {
	f.Add(uint8(0), []byte("sixteen bytes...sixteen bytes..."))
	for i := range formats {
		f.Add(uint8(i), []byte{0x40, 0x81, 0xff, 0x00, 0x12, 0x77, 0x31, 0x9a, 0xe1, 0x55, 0x0f, 0x3c, 0xd2, 0x68, 0xb7,
			0x2e})
	}
	f.Fuzz(func(t *testing.T, which uint8, data []byte) {
		form := formats[int(which)%len(formats)]
		if len(data) < form.bytes {
			return
		}
		if colours := data[max(form.bytes-8, 0):]; form.name < "4" &&
			binary.LittleEndian.Uint16(colours) <= binary.LittleEndian.Uint16(colours[2:]) {
			return // three colours and nothing: another format, or no order that is chosen here
		}
		want := form.read(data)
		got := form.read(form.pack(nil, &want, bcn.Best))
		// The search is no proof, but it must come near what it is known to be able to say.
		if sum := wrong(&want, &got, form.channels); sum > 16*int64(len(form.channels))*160 {
			t.Fatalf("BC%s % x: off by %d", form.name, data[:form.bytes], sum)
		}
		light := bcn.ReadBC6H(append(data[:form.bytes:form.bytes], data[:16-form.bytes]...))
		bcn.ReadBC6H(bcn.BC6H(nil, &light, bcn.Normal))
	})
}

func BenchmarkPack(b *testing.B) {
	list, ls := samples(600), lights(600)
	for _, q := range []bcn.Quality{bcn.Draft, bcn.Normal, bcn.Best} {
		for _, f := range formats {
			b.Run("BC"+f.name+"/"+q.String(), func(b *testing.B) {
				i := 0
				var out []byte
				for b.Loop() {
					out = f.pack(out[:0], &list[i%600], q)
					i++
				}
				b.ReportMetric(16e3/float64(b.Elapsed().Nanoseconds())*float64(i), "Mtexel/s")
			})
		}
		b.Run("BC6H/"+q.String(), func(b *testing.B) {
			i := 0
			var out []byte
			for b.Loop() {
				out = bcn.BC6H(out[:0], &ls[i%600], q)
				i++
			}
			b.ReportMetric(16e3/float64(b.Elapsed().Nanoseconds())*float64(i), "Mtexel/s")
		})
	}
}
