// Package audio reads what a sound file says of itself: RIFF/WAVE (with its sampler chunk, and the
// samples themselves), Ogg (Vorbis I and Opus, RFC 7845), FLAC (RFC 9639) and MPEG audio layer III
// (ISO 11172-3), which is all a release needs to know. It decodes no compressed sound.
package audio

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Form is a form of sound files, named by its usual ending without the dot.
type Form string

// The forms.
const (
	WAV  Form = "wav"
	Ogg  Form = "ogg"
	FLAC Form = "flac"
	MP3  Form = "mp3"
)

// Forms lists all forms.
var Forms = []string{"wav", "ogg", "flac", "mp3"}

// Endings are those of the forms.
var Endings = []string{".wav", ".ogg", ".flac", ".mp3"}

// Info is what a file says of itself.
type Info struct {
	Form     Form   `json:"form"`
	Codec    string `json:"codec"` // such as "PCM", "Vorbis", "Opus"
	Rate     int    `json:"rate"`  // samples a second
	Channels int    `json:"channels"`
	Bits     int    `json:"bits"`    // a sample; 0 where the form has none
	Samples  int64  `json:"samples"` // for each channel; 0 when the file does not say
	// Loop is where it repeats, in samples, when it says so: the first, and the last plus one.
	Loop *[2]int64 `json:"loop,omitempty"`
	// Clipped is how many samples stand at the loudest value with a neighbour there too;
	// SilentStart and SilentEnd how many are silent at the ends, all channels. Known for PCM only,
	// as Heard says.
	Heard       bool  `json:"heard"`
	Clipped     int64 `json:"clipped"`
	SilentStart int64 `json:"silent_start"`
	SilentEnd   int64 `json:"silent_end"`
}

// Length is how long it plays.
func (i Info) Length() time.Duration { return i.Time(i.Samples) }

// Time is how long that many samples play.
func (i Info) Time(samples int64) time.Duration {
	if i.Rate <= 0 {
		return 0
	}
	return time.Duration(float64(samples) / float64(i.Rate) * float64(time.Second))
}

var errCut = errors.New("it is cut off")

// FormOf tells the form by the first bytes; empty for none of them.
func FormOf(data []byte) Form {
	switch {
	case len(data) >= 12 && string(data[:4]) == "RIFF" && string(data[8:12]) == "WAVE":
		return WAV
	case bytes.HasPrefix(data, []byte("OggS")):
		return Ogg
	case bytes.HasPrefix(data, []byte("fLaC")):
		return FLAC
	case bytes.HasPrefix(data, []byte("ID3")), len(data) > 3 && isFrame(data):
		return MP3
	}
	return ""
}

// Read reads a whole file.
func Read(data []byte) (Info, error) {
	switch FormOf(data) {
	case WAV:
		return readWAV(data)
	case Ogg:
		return readOgg(data)
	case FLAC:
		return readFLAC(data)
	case MP3:
		return readMP3(data)
	}
	return Info{}, errors.New("it is none of WAV, Ogg, FLAC and MP3")
}

// plausible refuses values that no sound has.
func (i Info) plausible() error {
	if i.Rate < 1 || i.Rate > 1<<20 || i.Channels < 1 || i.Channels > 255 || i.Samples < 0 {
		return fmt.Errorf("its header is damaged: %d Hz, %d channels", i.Rate, i.Channels)
	}
	return nil
}

func readWAV(data []byte) (Info, error) {
	le := binary.LittleEndian
	i := Info{Form: WAV, Codec: "PCM"}
	var samples []byte
	tag, align := uint16(0), 0
	for at := 12; at+8 <= len(data); {
		id, n := string(data[at:at+4]), int64(le.Uint32(data[at+4:]))
		body := data[at+8:]
		if n > int64(len(body)) {
			if id == "data" && n != math.MaxUint32 {
				return i, errCut
			}
			n = int64(len(body))
		}
		body = body[:n]
		switch {
		case id == "fmt " && n >= 16:
			tag, i.Channels, i.Rate, align, i.Bits = le.Uint16(body), int(le.Uint16(body[2:])),
				int(le.Uint32(body[4:])), int(le.Uint16(body[12:])), int(le.Uint16(body[14:]))
			if tag == 0xfffe && n >= 40 {
				tag = le.Uint16(body[24:])
			}
		case id == "data":
			samples = body
		case id == "smpl" && n >= 60 && le.Uint32(body[28:]) > 0:
			i.Loop = &[2]int64{int64(le.Uint32(body[44:])), int64(le.Uint32(body[48:])) + 1}
		}
		at += 8 + int(n) + int(n&1)
	}
	if tag == 0 || samples == nil {
		return i, errCut
	}
	if err := i.plausible(); err != nil {
		return i, err
	}
	if align == 0 || align != i.Channels*((i.Bits+7)/8) {
		i.Codec = fmt.Sprintf("codec %d", tag)
		return i, nil
	}
	i.Samples = int64(len(samples) / align)
	switch {
	case tag == 3 && (i.Bits == 32 || i.Bits == 64):
		i.Codec = "float"
	case tag == 1 && i.Bits <= 32:
	default:
		i.Codec = fmt.Sprintf("codec %d", tag)
		return i, nil
	}
	i.hear(samples, align, tag == 3)
	return i, nil
}

// hear looks at every sample. What is softer than -60 dB counts as silent.
func (i *Info) hear(data []byte, align int, float bool) {
	i.Heard = true
	const soft = 0.001
	wide := align / i.Channels
	first, last := i.Samples, int64(-1)
	before := make([]bool, i.Channels)
	loudest := 1.0
	if !float {
		loudest = float64(int64(1)<<(i.Bits-1)-1) / float64(int64(1)<<(i.Bits-1))
	}
	for n := range i.Samples {
		for c := range i.Channels {
			v := sample(data[int(n)*align+c*wide:], wide, i.Bits, float)
			if v > soft || v < -soft {
				first, last = min(first, n), n
			}
			full := v >= loudest || v <= -loudest
			if full && before[c] {
				i.Clipped++
			}
			before[c] = full
		}
	}
	i.SilentStart, i.SilentEnd = first, i.Samples-1-last
	if last < 0 {
		i.SilentEnd = i.Samples
	}
}

// sample is a sample from -1 to 1.
func sample(b []byte, wide, bits int, float bool) float64 {
	le := binary.LittleEndian
	switch {
	case float && wide == 8:
		return math.Float64frombits(le.Uint64(b))
	case float:
		return float64(math.Float32frombits(le.Uint32(b)))
	}
	switch wide {
	case 1: // the only size without a sign
		return (float64(b[0]) - 128) / 128
	case 2:
		return float64(int16(le.Uint16(b))) / 32768
	case 3:
		return float64(int32(uint32(b[0])<<8|uint32(b[1])<<16|uint32(b[2])<<24)) / (1 << 31)
	}
	return float64(int32(le.Uint32(b))) / (1 << 31)
}

func readOgg(data []byte) (Info, error) {
	le := binary.LittleEndian
	i := Info{Form: Ogg}
	var packet []byte
	packets := 0
	serial := uint32(0)
	skip := int64(0)
	for at := 0; at < len(data); {
		if at+27 > len(data) || string(data[at:at+4]) != "OggS" {
			if packets == 0 {
				return i, errCut
			}
			break // what stands behind the last page is none of ours
		}
		lacing := int(data[at+26])
		if at+27+lacing > len(data) {
			return i, errCut
		}
		segments := data[at+27 : at+27+lacing]
		body := at + 27 + lacing
		mine := packets == 0 && packet == nil || le.Uint32(data[at+14:]) == serial
		if packets == 0 && packet == nil {
			serial = le.Uint32(data[at+14:])
		}
		if granule := int64(le.Uint64(data[at+6:])); mine && granule > 0 {
			i.Samples = granule
		}
		for _, s := range segments {
			if body+int(s) > len(data) {
				return i, errCut
			}
			if mine && packets < 2 {
				packet = append(packet, data[body:body+int(s)]...)
				if s < 255 {
					var err error
					if skip, err = i.packet(packet, packets, skip); err != nil {
						return i, err
					}
					packet, packets = []byte{}, packets+1
				}
			}
			body += int(s)
		}
		at = body
	}
	if packets < 2 {
		return i, errCut
	}
	i.Samples = max(0, i.Samples-skip)
	return i, i.plausible()
}

// packet reads one of the two first packets of an Ogg stream. skip is how many samples a player
// leaves out at the beginning.
func (i *Info) packet(p []byte, n int, skip int64) (int64, error) {
	le := binary.LittleEndian
	switch {
	case n == 0 && bytes.HasPrefix(p, []byte("\x01vorbis")) && len(p) >= 16:
		i.Codec, i.Channels, i.Rate = "Vorbis", int(p[11]), int(le.Uint32(p[12:]))
	case n == 0 && bytes.HasPrefix(p, []byte("OpusHead")) && len(p) >= 16:
		i.Codec, i.Channels, i.Rate = "Opus", int(p[9]), 48000
		return int64(le.Uint16(p[10:])), nil
	case n == 0:
		return 0, errors.New("it is Ogg, and neither Vorbis nor Opus")
	default:
		for _, head := range []string{"\x03vorbis", "OpusTags"} {
			if rest, ok := bytes.CutPrefix(p, []byte(head)); ok {
				i.comments(rest)
			}
		}
	}
	return skip, nil
}

// comments reads loop points from Vorbis comments, as games write them.
func (i *Info) comments(b []byte) {
	le := binary.LittleEndian
	next := func() []byte {
		if len(b) < 4 || int64(le.Uint32(b)) > int64(len(b)-4) {
			b = nil
			return nil
		}
		n := int(le.Uint32(b))
		s := b[4 : 4+n]
		b = b[4+n:]
		return s
	}
	next() // who made it
	if len(b) < 4 {
		return
	}
	count := le.Uint32(b)
	b = b[4:]
	start, length, end := int64(-1), int64(-1), int64(-1)
	for ; count > 0 && b != nil; count-- {
		key, value, _ := strings.Cut(string(next()), "=")
		v, err := strconv.ParseInt(value, 10, 64)
		if err != nil || v < 0 {
			continue
		}
		switch strings.ToUpper(key) {
		case "LOOPSTART", "LOOP_START":
			start = v
		case "LOOPLENGTH", "LOOP_LENGTH":
			length = v
		case "LOOPEND", "LOOP_END":
			end = v
		}
	}
	switch {
	case start >= 0 && length > 0:
		i.Loop = &[2]int64{start, start + length}
	case start >= 0:
		i.Loop = &[2]int64{start, max(end, 0)}
	}
}

func readFLAC(data []byte) (Info, error) {
	i := Info{Form: FLAC, Codec: "FLAC"}
	found := false
	for at := 4; ; {
		if at+4 > len(data) {
			return i, errCut
		}
		kind, n := data[at]&0x7f, int(data[at+1])<<16|int(data[at+2])<<8|int(data[at+3])
		last := data[at]&0x80 != 0
		at += 4
		if at+n > len(data) {
			return i, errCut
		}
		b := data[at : at+n]
		switch {
		case kind == 0 && n >= 34:
			v := binary.BigEndian.Uint64(b[10:])
			i.Rate, i.Channels, i.Bits, i.Samples = int(v>>44), int(v>>41&7)+1, int(v>>36&31)+1, int64(v&(1<<36-1))
			found = true
		case kind == 4:
			i.comments(b)
		}
		if at += n; last {
			break
		}
	}
	if !found {
		return i, errCut
	}
	return i, i.plausible()
}

// Tables of MPEG audio layer III: rates in Hz by version, kilobits a second by version.
var (
	mpegRates = [4][3]int{{11025, 12000, 8000}, {}, {22050, 24000, 16000}, {44100, 48000, 32000}}
	mpeg1Bits = [15]int{0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320}
	mpeg2Bits = [15]int{0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160}
)

// isFrame says whether a frame of layer III may begin here.
func isFrame(b []byte) bool {
	return len(b) >= 4 && b[0] == 0xff && b[1]&0xe6 == 0xe2 && b[1]>>3&3 != 1 && b[2]>>4 != 15 && b[2]>>4 != 0 &&
		b[2]>>2&3 != 3
}

func readMP3(data []byte) (Info, error) {
	i := Info{Form: MP3, Codec: "MPEG layer III"}
	at := 0
	if len(data) >= 10 && string(data[:3]) == "ID3" { // sizes of seven bits a byte
		at = 10 + int(data[6]&0x7f)<<21 + int(data[7]&0x7f)<<14 + int(data[8]&0x7f)<<7 + int(data[9]&0x7f)
	}
	frames := 0
	for at+4 <= len(data) {
		b := data[at:]
		if !isFrame(b) {
			if frames == 0 {
				at++
				continue
			}
			break // a tag at the end
		}
		version := b[1] >> 3 & 3
		rate, bits, each := mpegRates[version][b[2]>>2&3], mpeg2Bits[b[2]>>4], 576
		if version == 3 {
			bits, each = mpeg1Bits[b[2]>>4], 1152
		}
		size := each/8*bits*1000/rate + int(b[2]>>1&1)
		if frames == 0 {
			i.Rate, i.Channels = rate, 2
			if b[3]>>6 == 3 {
				i.Channels = 1
			}
			if size > len(b) || len(b) > size+4 && !isFrame(b[size:]) { // by chance
				at++
				continue
			}
		}
		if size > len(b) {
			break
		}
		if frames == 0 &&
			(bytes.Contains(b[:min(size, 64)], []byte("Xing")) || bytes.Contains(b[:min(size, 64)], []byte("Info"))) {
			i.Samples -= int64(each) // it tells about the others and plays nothing
		}
		frames++
		i.Samples += int64(each)
		at += size
	}
	if frames == 0 {
		return i, errCut
	}
	return i, i.plausible()
}
