//go:build unix

package main_test

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"compress/zlib"
	"context"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/thorough"
)

// What an attack may cost at most, whatever it claims to be.
const (
	maxTime   = 20 * time.Second
	maxMemory = 700 << 20
)

// attack is a set of files that somebody made to do harm, and a command that meets them.
type attack struct {
	name  string
	files map[string][]byte // by slash path; a value that begins with linkTo is a link
	args  string
	exit  int      // 0: it does no harm, and the command goes on without what is wrong
	say   []string // what must be said of it
}

const linkTo = "\x00link:"

// entry is one of an archive that no program of good will would write: what its headers say need not be so.
type entry struct {
	name       string
	data       []byte
	deflate    bool
	claims     uint32 // size that it claims to unpack to; 0: the true one
	mode       uint32 // of a Unix file
	sameAs     int    // with another entry's data: 1 for the first
	crc        uint32
	extra      []byte
	claimsZip  uint32
	centreName string // name in the central directory
}

// zipOf writes an archive byte by byte.
func zipOf(count int, entries ...entry) []byte {
	var b, centre bytes.Buffer
	le := binary.LittleEndian
	offsets := make([]uint32, len(entries))
	for i, e := range entries {
		packed, method := e.data, uint16(0)
		if e.deflate {
			packed, method = deflated(e.data), 8
		}
		size, crc := uint32(len(e.data)), crc32.ChecksumIEEE(e.data)
		if e.claims != 0 {
			size = e.claims
		}
		if e.crc != 0 {
			crc = e.crc
		}
		zipped := uint32(len(packed))
		if e.claimsZip != 0 {
			zipped = e.claimsZip
		}
		offsets[i] = uint32(b.Len())
		head := func(name string, central bool) []byte {
			h := le.AppendUint32(nil, 0x04034b50)
			if central {
				h = le.AppendUint32(nil, 0x02014b50)
				h = le.AppendUint16(h, 3<<8|20)
			}
			for _, v := range []uint16{20, 0x800, method, 0, 0x21} {
				h = le.AppendUint16(h, v)
			}
			for _, v := range []uint32{crc, zipped, size} {
				h = le.AppendUint32(h, v)
			}
			h = le.AppendUint16(h, uint16(len(name)))
			h = le.AppendUint16(h, uint16(len(e.extra)))
			if central {
				h = append(h, make([]byte, 6)...)
				h = le.AppendUint32(h, e.mode<<16)
				at := offsets[i]
				if e.sameAs > 0 {
					at = offsets[e.sameAs-1]
				}
				h = le.AppendUint32(h, at)
			}
			return append(append(h, name...), e.extra...)
		}
		if e.sameAs == 0 {
			b.Write(head(e.name, false))
			b.Write(packed)
		}
		name := e.name
		if e.centreName != "" {
			name = e.centreName
		}
		centre.Write(head(name, true))
	}
	at, n := b.Len(), centre.Len()
	b.Write(centre.Bytes())
	if count < 0 {
		count = len(entries)
	}
	end := le.AppendUint32(nil, 0x06054b50)
	end = append(end, 0, 0, 0, 0)
	end = le.AppendUint16(end, uint16(count))
	end = le.AppendUint16(end, uint16(count))
	end = le.AppendUint32(end, uint32(n))
	end = le.AppendUint32(end, uint32(at))
	b.Write(append(end, 0, 0))
	return b.Bytes()
}

func deflated(data []byte) []byte {
	var b bytes.Buffer
	w, _ := flate.NewWriter(&b, 9)
	_, _ = w.Write(data)
	_ = w.Close()
	return b.Bytes()
}

type endless struct{}

func (endless) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// pngOf writes the chunks of a PNG with their checksums.
func pngOf(wide, high uint32, chunks ...any) []byte {
	b := []byte("\x89PNG\r\n\x1a\n")
	put := func(kind string, data []byte) {
		b = binary.BigEndian.AppendUint32(b, uint32(len(data)))
		from := len(b)
		b = append(append(b, kind...), data...)
		b = binary.BigEndian.AppendUint32(b, crc32.ChecksumIEEE(b[from:]))
	}
	head := binary.BigEndian.AppendUint32(nil, wide)
	head = binary.BigEndian.AppendUint32(head, high)
	put("IHDR", append(head, 8, 6, 0, 0, 0))
	for i := 0; i < len(chunks); i += 2 {
		put(chunks[i].(string), chunks[i+1].([]byte))
	}
	put("IEND", nil)
	return b
}

func zlibZeros(n int64) []byte {
	var b bytes.Buffer
	w := zlib.NewWriter(&b)
	_, _ = io.CopyN(w, endless{}, n)
	_ = w.Close()
	return b.Bytes()
}

// ktx2 writes a header with one level that lies where it says.
func ktx2(wide, high, layers, levels uint32, super uint32, offset, length, whole uint64, data []byte) []byte {
	b := []byte("\xabKTX 20\xbb\r\n\x1a\n")
	for _, v := range []uint32{131, 1, wide, high, 0, layers, 1, levels, super, 0, 0, 0, 0} {
		b = binary.LittleEndian.AppendUint32(b, v)
	}
	b = append(b, make([]byte, 16)...)
	for _, v := range []uint64{offset, length, whole} {
		b = binary.LittleEndian.AppendUint64(b, v)
	}
	return append(b, data...)
}

func zstdZeros(n int64) []byte {
	var b bytes.Buffer
	w, _ := zstd.NewWriter(&b)
	_, _ = io.CopyN(w, endless{}, n)
	_ = w.Close()
	return b.Bytes()
}

const (
	hostileHead = "[project]\nname = \"bad\"\ntitle = \"Bad\"\nversion = \"1.0.0\"\nprofile = \"kestrel-post\"\n"
	repaint     = "\x1b[2J\x1b]0;owned\a\u202e" // clears the screen, names the window, turns the reading direction
)

// inProject are files beside a project file.
func inProject(more ...any) map[string][]byte {
	files := map[string][]byte{"vornix.toml": []byte(hostileHead)}
	for i := 0; i < len(more); i += 2 {
		switch data := more[i+1].(type) {
		case string:
			files[more[i].(string)] = []byte(data)
		case []byte:
			files[more[i].(string)] = data
		}
	}
	return files
}

func one(name string, data []byte) map[string][]byte { return map[string][]byte{name: data} }

// attacks is the hostile set.
func attacks() []attack {
	var list []attack
	add := func(name string, files map[string][]byte, args string, exit int, say ...string) {
		list = append(list, attack{name, files, args, exit, say})
	}
	x := []byte("owned\n")
	for name, path := range map[string]string{"up": "../../victim.txt", "up within": "a/../../../victim.txt",
		"absolute": "/tmp/vornix-owned.txt", "drive": "C:\\owned.txt", "backslash": "..\\..\\victim.txt",
		"device": "aux.txt", "repaint": "a" + repaint + ".txt", "line end": "a\nb.txt", "empty": "",
		"dots at the end": "a../b. ", "stream": "a.txt:hidden", "nul": "a\x00b"} {
		for command, args := range map[string]string{"inspect": "inspect a.zip", "extract": "extract a.zip --to out",
			"salvage": "salvage a.zip b.zip", "diff": "diff a.zip good.zip"} {
			files := one("a.zip", zipOf(-1, entry{name: "good.txt", data: x}, entry{name: path, data: x}))
			files["good.zip"] = zipOf(-1, entry{name: "good.txt", data: x})
			exit := 1
			if command == "salvage" || command == "diff" {
				exit = -1
			}
			add("zip "+name+" "+command, files, args, exit)
		}
	}
	for name, data := range map[string][]byte{
		"a link out": zipOf(-1, entry{name: "l", data: []byte("/etc"), mode: 0o120777},
			entry{name: "l/passwd", data: x}),
		"a link up": zipOf(-1, entry{name: "l", data: []byte(".."), mode: 0o120777},
			entry{name: "l/victim.txt", data: x}),
		"a device file": zipOf(-1, entry{name: "d", data: nil, mode: 0o060666}),
		"two of one name": zipOf(-1, entry{name: "a", data: x},
			entry{name: "a", data: []byte("other")}),
		"two that differ in case": zipOf(-1, entry{name: "Readme", data: x}, entry{name: "README", data: x}),
		"a file that is a folder": zipOf(-1, entry{name: "a", data: x}, entry{name: "a/b", data: x}),
		"two names for one":       zipOf(-1, entry{name: "good.txt", centreName: "../../victim.txt", data: x}),
		"entries over each other": zipOf(-1,
			append([]entry{{name: "0", data: bytes.Repeat([]byte{0}, 1<<20), deflate: true}},
				slices.Collect(overlapping(2000, 1<<20))...)...),
		"it claims ten bytes": zipOf(-1,
			entry{name: "a", data: make([]byte, 300<<20), deflate: true, claims: 10}),
		"it claims four gigabytes":    zipOf(-1, entry{name: "a", data: x, deflate: true, claims: 0xfffffff0}),
		"a wrong checksum":            zipOf(-1, entry{name: "a", data: x, crc: 1}),
		"more entries than there are": zipOf(65000, entry{name: "a", data: x}),
		"packed data beyond the end":  zipOf(-1, entry{name: "a", data: x, claimsZip: 1 << 30, claims: 1 << 30}),
		"Zip64 sizes of 2^63": zipOf(-1,
			entry{name: "a", data: x, claims: 0xffffffff, claimsZip: 0xffffffff,
				extra: append([]byte{1, 0, 16, 0}, bytes.Repeat([]byte{0xff}, 16)...)}),
		"an extra field beyond its end": zipOf(-1, entry{name: "a", data: x, extra: []byte{1, 0, 255, 255}}),
		"an end without a beginning":    append([]byte("PK\x05\x06"), bytes.Repeat([]byte{0xff}, 18)...),
		"a directory that points nowhere": append([]byte("PK\x05\x06\x00\x00\x00\x00\x01\x00\x01\x00"), 0xff, 0xff,
			0xff, 0x7f, 0xff, 0xff, 0xff, 0x7f, 0, 0),
	} {
		exit := 1
		if name == "an extra field beyond its end" { // which nobody needs: the file in it is whole
			exit = 0
		}
		add("zip: "+name, one("a.zip", data), "extract a.zip --to out", exit)
		add("zip looked at: "+name, one("a.zip", data), "inspect a.zip", -1)
		add("zip saved: "+name, one("a.zip", data), "salvage a.zip b.zip", -1)
	}

	idat, level := zlibZeros(200<<20), zstdZeros(1<<30)
	for name, data := range map[string][]byte{
		"png.60000":     pngOf(60000, 60000, "IDAT", zlibZeros(1000)),
		"png.16384":     pngOf(16384, 16384, "IDAT", zlibZeros(1000)),
		"png.negative":  pngOf(1<<31, 1<<31, "IDAT", zlibZeros(1000)),
		"png.bomb":      pngOf(4, 4, "IDAT", idat),
		"png.text-bomb": pngOf(4, 4, "zTXt", append([]byte("Comment\x00\x00"), idat...), "IDAT", zlibZeros(68)),
		"png.no-data":   pngOf(4, 4),
		"png.loop": append([]byte("\x89PNG\r\n\x1a\n"),
			bytes.Repeat([]byte("\x00\x00\x00\x00IHDR\x00\x00\x00\x00"), 10000)...),
		"jpg.huge":  []byte("\xff\xd8\xff\xc0\x00\x11\x08\xff\xff\xff\xff\x03\x01\x22\x00\x02\x11\x01\x03\x11\x01\xff\xda"),
		"jpg.short": []byte("\xff\xd8\xff\xe0\x00\x01"),
		"tga.huge": append([]byte{0, 0, 10, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff, 0xff, 0xff, 32, 8},
			bytes.Repeat([]byte{0xff, 1, 2, 3, 4}, 1000)...),
		"bmp.huge":    append([]byte("BM\x3a\x00\x00\x00\x00\x00\x00\x00\x36\x00\x00\x00\x28\x00\x00\x00\xff\xff\xff\x7f\xff\xff\xff\x7f\x01\x00\x18\x00"), make([]byte, 40)...),
		"hdr.huge":    []byte("#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 2000000000 +X 2000000000\n\x02\x02\x00\x08"),
		"hdr.endless": append([]byte("#?RADIANCE\n"), bytes.Repeat([]byte("A=b\n"), 3<<20)...),
		"dds.huge":    ddsOf(1<<31-1, 1<<31-1, 32),
		"dds.levels":  ddsOf(4, 4, 1<<31-1),
		"ktx2.huge":   ktx2(1<<30, 1<<30, 0, 31, 0, 104, 1<<60, 1<<60, nil),
		"ktx2.layers": ktx2(4, 4, 1<<31, 1, 0, 104, 8, 8, make([]byte, 8)),
		"ktx2.beyond": ktx2(4, 4, 0, 1, 0, 1<<63, 1<<63, 8, make([]byte, 8)),
		"ktx2.bomb":   ktx2(4, 4, 0, 1, 2, 104, uint64(len(level)), 8, level),
	} {
		kind, _, _ := strings.Cut(name, ".")
		file := "bad." + kind
		if name == "png.text-bomb" { // nobody unpacks it
			add("image "+name+": texture", one(file, data), "texture "+file+" out.ktx2", 0)
			continue
		}
		add("image "+name+": texture", one(file, data), "texture "+file+" out.ktx2", 1, "bad."+kind)
		add("image "+name+": inspect", one(file, data), "inspect "+file, -1)
		if kind != "dds" && kind != "ktx2" {
			add("image "+name+": in a project",
				inProject("textures/bad."+kind, data, "materials/m.toml", "colour = \"bad\"\nsurface = \"rock\"\n"),
				"build", 1, "textures/bad."+kind)
		}
	}

	vnx := func(text string) map[string][]byte { return inProject("maps/m.vnx", "map m\n"+text) }
	nested := func(n int) string {
		var b strings.Builder
		for i := range n {
			b.WriteString(strings.Repeat(" ", min(2*i, 400)) + "group g at=0,0,0\n")
		}
		return b.String()
	}
	laughs := func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, "prefab p%d\n", i)
			for range 10 {
				fmt.Fprintf(&b, "  use p%d at=0,0,0\n", i+1)
			}
		}
		fmt.Fprintf(&b, "prefab p%d\n  item i at=0,0,0\nuse p0 at=0,0,0\n", n)
		return b.String()
	}
	for name, c := range map[string]struct {
		text string
		say  string
	}{
		"ten thousand groups in each other": {nested(10000), "maps/m.vnx:"},
		"prefabs of prefabs of prefabs":     {laughs(12), "maps/m.vnx:"},
		"a prefab of itself":                {"prefab p\n  use p at=0,0,0\nuse p at=0,0,0\n", "made of itself"},
		"brackets in brackets": {"const a " + strings.Repeat("(", 200000) + "1" + strings.Repeat(")",
			200000) + "\n", "maps/m.vnx:2"},
		"a line of forty megabytes":      {"// " + strings.Repeat("x", 40<<20) + "\nsolid\n", "maps/m.vnx"},
		"a million lines that are wrong": {strings.Repeat("solid\n", 1_000_000), "maps/m.vnx:2"},
		"a grid of ten thousand million": {"legend . colour=#000000\ngrid g cells=100000,100000\n  row .\n",
			"maps/m.vnx:"},
		"an image outside": {"legend . colour=#000000\ngrid g from=../../../../../../etc/passwd\n",
			"maps/m.vnx:"},
		"a prefab outside": {"use ../../../../../../etc/passwd at=0,0,0\n", "maps/m.vnx:"},
		"a model outside":  {"prop p model=../../../../../../etc/passwd at=0,0,0\n", "maps/m.vnx:"},
		"a material outside": {"solid s box 0,0,0 1,1,1 material=../../../../../../etc/passwd\n",
			"maps/m.vnx:"},
		"no number":               {"solid s box 0,0,0 1e308*10,1,1 material=a\n", "maps/m.vnx:2"},
		"names that repaint":      {"solid s" + repaint + " box 0,0,0 1,1,1 material=a\n", "maps/m.vnx:2"},
		"what repaints in a text": {"spawn a at=0,0,0 team=\"" + repaint + "\"\n", "maps/m.vnx"},
	} {
		add("map: "+name, vnx(c.text), "build", 1, c.say)
		add("map checked: "+name, vnx(c.text), "check", 1, c.say)
	}
	gltf := func(nodes string, more string) []byte {
		return []byte(`{"asset":{"version":"2.0"},"scene":0,"scenes":[{"nodes":[0]}],"nodes":[` + nodes + `]` + more +
			`}`)
	}
	chain := func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, `{"name":"n%d","children":[%d]},`, i, i+1)
		}
		return b.String() + `{"name":"end"}`
	}
	for name, data := range map[string][]byte{
		"nodes in a circle": gltf(`{"name":"a","children":[1]},{"name":"b","children":[0]}`, ""),
		"a child of two": gltf(`{"children":[1,1,1,1]},{"children":[2,2,2,2]},{"children":[3,3,3,3]},{}`,
			""),
		"a hundred thousand children": gltf(chain(100000), ""),
		"a buffer outside": gltf(`{"mesh":0}`,
			`,"buffers":[{"uri":"../../../../../../etc/passwd","byteLength":10}],"bufferViews":[{"buffer":0,"byteLength":10}],"accessors":[{"bufferView":0,"componentType":5126,"type":"VEC3","count":1}],"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}]`),
		"a buffer from the network": gltf(`{"mesh":0}`,
			`,"buffers":[{"uri":"http://127.0.0.1:1/x","byteLength":10}],"bufferViews":[{"buffer":0,"byteLength":10}],"accessors":[{"bufferView":0,"componentType":5126,"type":"VEC3","count":1}],"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}]`),
		"four thousand million points": gltf(`{"mesh":0}`,
			`,"accessors":[{"componentType":5126,"type":"VEC3","count":4294967295}],"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}]`),
		"a buffer of exabytes": gltf(`{"mesh":0}`,
			`,"buffers":[{"uri":"data:application/octet-stream;base64,AAAA","byteLength":1152921504606846976}],"bufferViews":[{"buffer":0,"byteLength":1152921504606846976}],"accessors":[{"bufferView":0,"componentType":5126,"type":"VEC3","count":1}],"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}]`),
		"a deep JSON": []byte(strings.Repeat(`{"a":[`, 200000)),
	} {
		add("scene: "+name, inProject("maps/m.gltf", data), "build", 1, "maps/m.gltf")
		add("model: "+name, inProject("models/m.gltf", data, "maps/m.vnx", "map m\nprop p model=m at=0,0,0\n"), "build",
			1, "m")
	}
	for name, files := range map[string]map[string][]byte{
		"a link in the sources": inProject("maps/m.vnx", "map m\n", "textures/l.png", linkTo+"/etc/passwd"),
		"a link to a folder":    inProject("maps/m.vnx", "map m\n", "textures/l", linkTo+"/etc"),
		"a link to itself":      inProject("maps/m.vnx", "map m\n", "textures/l", linkTo+"."),
	} {
		add("project: "+name, files, "build", -1)
	}
	for name, c := range map[string]struct{ text, say string }{
		"sources from elsewhere": {hostileHead + "[sources]\nmaps = \"../..\"\n", "vornix.toml:7"},
		"a name that leads away": {strings.Replace(hostileHead, `"bad"`, `"../../bad"`, 1), "vornix.toml:2"},
		"a title that repaints": {strings.Replace(hostileHead, `"Bad"`, `"\u001b[2J\u001b]0;owned\u0007"`,
			1), "vornix.toml"},
		"brackets in brackets": {hostileHead + "x = " + strings.Repeat("[", 100000) + "\n", "vornix.toml"},
		"tables in tables":     {hostileHead + "[" + strings.Repeat("a.", 100000) + "a]\n", "vornix.toml"},
		"a key that repaints":  {hostileHead + "\"\\u001b[2J\" = 1\n", "vornix.toml:6"},
		"a pattern that takes for ever": {hostileHead + "include = [\"" + strings.Repeat("**/*", 2000) + "\"]\n",
			"vornix.toml"},
		"a profile from elsewhere": {strings.Replace(hostileHead, "kestrel-post", "../../../../etc/passwd", 1),
			"vornix.toml"},
		"a step of one's own, not trusted": {hostileHead +
			"[[step]]\nname = \"s\"\ncommand = [\"touch\", \"../../../victim.txt\"]\ninputs = [\"vornix.toml\"]\noutputs = [\"textures/a.png\"]\n", "vornix trust"},
		"a step that writes elsewhere": {hostileHead +
			"[[step]]\nname = \"s\"\ncommand = [\"true\"]\ninputs = [\"vornix.toml\"]\noutputs = [\"../../victim.txt\"]\n", "vornix.toml"},
	} {
		add("project: "+name, map[string][]byte{"vornix.toml": []byte(c.text), "maps/m.vnx": []byte("map m\n")},
			"build", -2, c.say)
	}
	sum := strings.Repeat("0a", 32)
	head := `{"kind":"vornix index","format":2,"project":"a","title":"%s","game":"g","serial":1,"base":"%s","bundles":[{"name":"a","version":"1.0.0","file":"%s","url":"%s","size":%s,"sha256":"` + sum + `"}]}`
	for name, c := range map[string]string{
		"a file outside":        fmt.Sprintf(head, "A", "", "../../victim.txt", "a", "1"),
		"an absolute file":      fmt.Sprintf(head, "A", "", "/tmp/vornix-owned.txt", "a", "1"),
		"a device":              fmt.Sprintf(head, "A", "", "nul", "a", "1"),
		"our own records":       fmt.Sprintf(head, "A", "", "vornix-fetched/a/state.json", "a", "1"),
		"a title that repaints": fmt.Sprintf(head, `\u001b[2J`, "", "a", "a", "1"),
		"an address of files":   fmt.Sprintf(head, "A", "file:///etc/", "a", "passwd", "1"),
		"a file of exabytes":    fmt.Sprintf(head, "A", "", "a", "a", "4611686018427387904"),
		"a deep JSON":           strings.Repeat(`{"a":[`, 200000),
		"less than nothing":     fmt.Sprintf(head, "A", "", "a", "a", "-5"),
	} {
		add("index: "+name,
			map[string][]byte{"public/index.json": []byte(c), "public/a": []byte("x"), "player/keep.txt": x},
			"fetch {url} player", -2)
	}
	for name, data := range map[string][]byte{
		"a target of exabytes": {0xd6, 0xc3, 0xc4, 0, 0, 0, 20, 0x90, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x7f, 0, 0, 0,
			0},
		"cut short": {0xd6, 0xc3, 0xc4, 0},
		"a source beyond": {0xd6, 0xc3, 0xc4, 0, 0, 1, 0xff, 0xff, 0xff, 0x7f, 0xff, 0xff, 0x7f, 10, 5, 0, 0, 0,
			0},
	} {
		add("delta: "+name, map[string][]byte{"old": x, "d.vcdiff": data}, "delta apply old d.vcdiff new", 1)
	}
	for name, data := range map[string][]byte{
		"huge parts": append([]byte("VNM\x00"), bytes.Repeat([]byte{0xff}, 4000)...), "nothing": {},
		"a text": []byte("hello"),
	} {
		add("compiled map: "+name, one("m.vnm", data), "inspect m.vnm", 1)
		add("patch: "+name, one("p.vnp", data), "patch inspect p.vnp", 1)
		add("patch applied: "+name, map[string][]byte{"p.vnp": data, "game/a": x}, "patch apply p.vnp game", 1)
	}
	moreAttacks(add)
	slices.SortFunc(list, func(a, b attack) int { return strings.Compare(a.name, b.name) })
	return list
}

func overlapping(n, size int) func(func(entry) bool) {
	return func(yield func(entry) bool) {
		data := bytes.Repeat([]byte{0}, size)
		packed := uint32(len(deflated(data)))
		for i := range n {
			if !yield(entry{name: fmt.Sprintf("e%d", i), deflate: true, sameAs: 1, claims: uint32(size),
				claimsZip: packed, crc: crc32.ChecksumIEEE(data)}) {
				return
			}
		}
	}
}

func ddsOf(wide, high, levels uint32) []byte {
	b := []byte("DDS ")
	head := make([]uint32, 31)
	head[0], head[1], head[2], head[3], head[6] = 124, 0xa1007, high, wide, levels
	head[18], head[19], head[20] = 32, 4, 0x31545844 // DXT1
	for _, v := range head {
		b = binary.LittleEndian.AppendUint32(b, v)
	}
	return append(b, make([]byte, 16)...)
}

// arena is a folder with a victim in it, and the attack two folders below: what changes outside of that is found.
func (a attack) arena(t *testing.T) (dir string, outside func() map[string]string) {
	t.Helper()
	top := t.TempDir()
	dir = filepath.Join(top, "of", "somebody")
	put(t, filepath.Join(top, "victim.txt"), "mine\n")
	put(t, filepath.Join(top, "of", "victim.txt"), "mine too\n")
	require.NoError(t, os.MkdirAll(dir, 0o777))
	for rel, data := range a.files {
		name := filepath.Join(dir, filepath.FromSlash(rel))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o777))
		if to, is := strings.CutPrefix(string(data), linkTo); is {
			require.NoError(t, os.Symlink(to, name))
			continue
		}
		require.NoError(t, os.WriteFile(name, data, 0o666))
	}
	return dir, func() map[string]string {
		all := map[string]string{}
		require.NoError(t, filepath.WalkDir(top, func(p string, e fs.DirEntry, err error) error {
			if p == dir {
				return filepath.SkipDir
			}
			if err == nil && !e.IsDir() {
				all[p] = read(t, p)
			}
			return err
		}))
		_, err := os.Lstat("/tmp/vornix-owned.txt")
		all["/tmp/vornix-owned.txt"] = fmt.Sprint(err)
		return all
	}
}

// Each attack ends in one clear refusal or does nothing, soon, with little memory, writes nothing
// outside its folder, and what is said of it is only text.
func TestTheHostileSet(t *testing.T) {
	t.Parallel()
	program, err := breakable()
	require.NoError(t, err)
	list := attacks()
	assert.Greater(t, len(list), 200)
	for i, a := range list {
		if i%thorough.Or(8, 1) != 0 {
			continue
		}
		t.Run(a.name, func(t *testing.T) {
			dir, outside := a.arena(t)
			before := outside()
			args := a.args
			if strings.Contains(args, "{url}") {
				args = strings.ReplaceAll(args, "{url}", serveFolder(t, filepath.Join(dir, "public")))
			}
			ctx, end := context.WithTimeout(context.Background(), maxTime)
			defer end()
			peak := filepath.Join(t.TempDir(), "peak")
			cmd := exec.CommandContext(ctx, program, strings.Fields(args)...)
			cmd.Dir = dir
			cmd.Env = append(os.Environ(), "VORNIX_TRUST_FILE="+filepath.Join(t.TempDir(), "trust.json"),
				"VORNIX_PEAK="+peak)
			o := run(t, cmd)
			require.NoError(t, ctx.Err(), "it takes longer than %s", maxTime)
			switch {
			case a.exit == -1: // taken or refused
				assert.Contains(t, []int{0, 1, 3}, o.exit, "%s%s", o.out, o.err)
			case a.exit == -3: // whatever it says, it ends
				assert.Contains(t, []int{0, 1, 2, 3, 4}, o.exit, "%s%s", o.out, o.err)
			case a.exit == -2: // refused, one way or another
				assert.Contains(t, []int{1, 2, 3, 4}, o.exit, "%s%s", o.out, o.err)
			case a.exit == 0:
				assert.Zero(t, o.exit, "%s%s", o.out, o.err)
			default:
				assert.Contains(t, []int{a.exit, 3}, o.exit, "%s%s", o.out, o.err)
			}
			if o.exit != 0 && !strings.Contains(a.args, "--json") {
				assert.Regexp(t, `(error +\S|stopped: \S)`, o.err)
			}
			for _, say := range a.say {
				assert.Contains(t, o.err, say)
			}
			assert.NotContains(t, o.err, "goroutine ")
			assert.NotContains(t, o.err, "a fault in Vornix itself")
			assert.Less(t, len(o.err)+len(o.out), 200_000, "it floods the terminal")
			for _, r := range o.out + o.err {
				if r != '\n' && r != '\t' && unicode.IsControl(r) || r >= 0x202a && r <= 0x202e {
					t.Fatalf("it repaints the terminal with %q", r)
				}
			}
			if runtime.GOOS == "linux" {
				_, limit, found := strings.Cut(read(t, peak), "VmHWM:")
				var kilobytes int64
				_, err := fmt.Sscan(limit, &kilobytes)
				require.True(t, found && err == nil, limit)
				assert.Less(t, kilobytes<<10, int64(maxMemory), "memory")
			}
			assert.Equal(t, before, outside(), "something outside was changed")
			noTemps(t, dir)
			_ = filepath.WalkDir(dir, func(p string, e fs.DirEntry, _ error) error {
				if info, err := os.Stat(p); err == nil && info.Mode().IsRegular() && info.Size() > 64<<20 &&
					a.files[filepath.Base(p)] == nil && !strings.HasSuffix(p, "m.vnx") {
					t.Errorf("%s has %d bytes", p, info.Size())
				}
				return nil
			})
		})
	}
}

// A patch is a ZIP with a head in JSON: one that was changed is refused, and the game stays as it is.
func TestHostilePatches(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	patched(t, dir)
	for _, change := range [][2]string{{`"moved/f00.bin"`, `"../f00.bin"`}, {`"f02.bin"`, `"/tmp/vornix-owned.txt"`},
		{`"f02.bin"`, `"aux"`}, {`"f02.bin"`, `"a\u001b[2J"`}} {
		var b bytes.Buffer
		from, err := zip.OpenReader(filepath.Join(dir, "p.vnp"))
		require.NoError(t, err)
		from.RegisterDecompressor(93, func(r io.Reader) io.ReadCloser { // Zstandard (APPNOTE 4.4.5)
			d, err := zstd.NewReader(r)
			require.NoError(t, err)
			return d.IOReadCloser()
		})
		to := zip.NewWriter(&b)
		changed := false
		for _, f := range from.File {
			r, err := f.Open()
			require.NoError(t, err)
			data, err := io.ReadAll(r)
			require.NoError(t, err)
			now := bytes.ReplaceAll(data, []byte(change[0]), []byte(change[1]))
			changed = changed || !bytes.Equal(now, data)
			w, err := to.CreateHeader(&zip.FileHeader{Name: f.Name, Method: zip.Store})
			require.NoError(t, err)
			_, err = w.Write(now)
			require.NoError(t, err)
		}
		require.NoError(t, to.Close())
		require.NoError(t, from.Close())
		require.True(t, changed, "%s stands in a patch", change[0])
		put(t, filepath.Join(dir, "bad.vnp"), b.String())
		game := filepath.Join(t.TempDir(), "game")
		require.NoError(t, os.CopyFS(game, os.DirFS(filepath.Join(dir, "old"))))
		for _, args := range [][]string{{"patch", "inspect", "bad.vnp"}, {"patch", "apply", "bad.vnp", game}} {
			o := vornix(t, dir, args...)
			assert.Contains(t, []int{1, 3}, o.exit, "%v\n%s%s", change, o.out, o.err)
			assert.NotContains(t, o.err+o.out, "\x1b")
		}
		assert.NoFileExists(t, "/tmp/vornix-owned.txt")
		assert.Equal(t, read(t, dir, "old", "f02.bin"), read(t, game, "f02.bin"))
	}
}
