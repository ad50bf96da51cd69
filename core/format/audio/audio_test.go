package audio_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/audio"
	"vornix/internal/peer"
)

var le = binary.LittleEndian

// wav writes a file of 16-bit samples with chunks of others before and behind.
func wav(rate, channels int, samples []int16, loop *[2]uint32) []byte {
	var data bytes.Buffer
	_ = binary.Write(&data, le, samples)
	chunk := func(id string, body []byte) []byte {
		b := append([]byte(id), le.AppendUint32(nil, uint32(len(body)))...)
		if b = append(b, body...); len(body)%2 == 1 {
			b = append(b, 0)
		}
		return b
	}
	format := le.AppendUint16(nil, 1)
	format = le.AppendUint16(format, uint16(channels))
	format = le.AppendUint32(format, uint32(rate))
	format = le.AppendUint32(format, uint32(rate*channels*2))
	format = le.AppendUint16(format, uint16(channels*2))
	format = le.AppendUint16(format, 16)
	body := append([]byte("WAVE"), chunk("LIST", []byte("odd"))...)
	body = append(append(body, chunk("fmt ", format)...), chunk("data", data.Bytes())...)
	if loop != nil {
		s := make([]byte, 60)
		le.PutUint32(s[28:], 1)
		le.PutUint32(s[44:], loop[0])
		le.PutUint32(s[48:], loop[1])
		body = append(body, chunk("smpl", s)...)
	}
	return append(append([]byte("RIFF"), le.AppendUint32(nil, uint32(len(body)))...), body...)
}

func TestWAV(t *testing.T) {
	samples := make([]int16, 2*1000) // two channels
	for i := 100; i < 900; i++ {
		samples[2*i] = int16(20000 * math.Sin(float64(i)))
		samples[2*i+1] = 3000
	}
	for i := 400; i < 405; i++ {
		samples[2*i] = math.MaxInt16
	}
	samples[2*600+1] = math.MinInt16 // alone it is a peak, and no clipping
	i, err := audio.Read(wav(22050, 2, samples, &[2]uint32{100, 899}))
	require.NoError(t, err)
	assert.Equal(t, audio.Info{Form: audio.WAV, Codec: "PCM", Rate: 22050, Channels: 2, Bits: 16, Samples: 1000,
		Loop: &[2]int64{100, 900}, Heard: true, Clipped: 4, SilentStart: 100, SilentEnd: 100}, i)
	i, err = audio.Read(wav(8000, 1, make([]int16, 4000), nil))
	require.NoError(t, err)
	assert.Equal(t, 500*time.Millisecond, i.Length())
	assert.Equal(t, int64(4000), i.SilentStart)
	assert.Equal(t, int64(4000), i.SilentEnd)
	whole := wav(8000, 1, make([]int16, 400), nil)
	for n := range whole {
		_, err := audio.Read(whole[:n])
		assert.Error(t, err, "cut at %d", n)
	}
}

// page is an Ogg page with one packet a body.
func page(serial uint32, granule int64, packets ...[]byte) []byte {
	b := append([]byte("OggS\x00\x00"), le.AppendUint64(nil, uint64(granule))...)
	b = le.AppendUint32(b, serial)
	b = append(b, make([]byte, 8)...)
	var lacing, body []byte
	for _, p := range packets {
		for n := len(p); ; n -= 255 {
			lacing = append(lacing, byte(min(n, 255)))
			if n < 255 {
				break
			}
		}
		body = append(body, p...)
	}
	return append(append(append(b, byte(len(lacing))), lacing...), body...)
}

func comments(head string, list ...string) []byte {
	b := append([]byte(head), le.AppendUint32(nil, 3)...)
	b = append(b, "own"...)
	b = le.AppendUint32(b, uint32(len(list)))
	for _, s := range list {
		b = append(le.AppendUint32(b, uint32(len(s))), s...)
	}
	return b
}

func TestOggFLACAndMP3(t *testing.T) {
	first := append([]byte("\x01vorbis\x00\x00\x00\x00\x02"), le.AppendUint32(nil, 44100)...)
	first = append(first, make([]byte, 20)...)
	long := comments("\x03vorbis", "TITLE="+string(bytes.Repeat([]byte("x"), 600)), "loopstart=100", "LOOPLENGTH=4000")
	ogg := append(page(7, 0, first), page(9, 99_999_999, []byte("other stream"))...)
	ogg = append(append(ogg, page(7, 0, long)...), page(7, 88200, []byte("music"))...)
	i, err := audio.Read(ogg)
	require.NoError(t, err)
	assert.Equal(t, audio.Info{Form: audio.Ogg, Codec: "Vorbis", Rate: 44100, Channels: 2, Samples: 88200,
		Loop: &[2]int64{100, 4100}}, i)
	opus := append([]byte("OpusHead\x01\x01"), 0x38, 1, 0, 0, 0, 0, 0, 0, 0)
	i, err = audio.Read(append(append(page(1, 0, opus), page(1, 0, comments("OpusTags"))...),
		page(1, 48000+312, []byte("x"))...))
	require.NoError(t, err)
	assert.Equal(t, "Opus", i.Codec)
	assert.Equal(t, time.Second, i.Length())
	_, err = audio.Read(page(1, 0, []byte("\x80theora")))
	assert.ErrorContains(t, err, "neither")

	info := make([]byte, 34)
	binary.BigEndian.PutUint64(info[10:], 48000<<44|1<<41|23<<36|96000)
	flac := append([]byte("fLaC\x00\x00\x00\x22"), info...)
	tags := comments("", "LOOPSTART=5", "LOOPEND=50")
	flac = append(append(flac, 0x84, 0, 0, byte(len(tags))), tags...)
	i, err = audio.Read(flac)
	require.NoError(t, err)
	assert.Equal(t, audio.Info{Form: audio.FLAC, Codec: "FLAC", Rate: 48000, Channels: 2, Bits: 24, Samples: 96000,
		Loop: &[2]int64{5, 50}}, i)

	// 128 kbit/s, 44,100 Hz, one channel: 417 bytes
	frame := append([]byte{0xff, 0xfb, 0x90, 0xc0}, make([]byte, 413)...)
	mp3 := append([]byte("ID3\x04\x00\x00\x00\x00\x00\x05"), "tags!"...)
	for range 10 {
		mp3 = append(mp3, frame...)
	}
	i, err = audio.Read(append(mp3, "TAG at the end"...))
	require.NoError(t, err)
	assert.Equal(t, audio.Info{Form: audio.MP3, Codec: "MPEG layer III", Rate: 44100, Channels: 1, Samples: 11520}, i)
	_, err = audio.Read([]byte("plain text"))
	assert.ErrorContains(t, err, "none of")
}

// Python's wave module writes what we read, in each size of a sample.
func TestAgainstPython(t *testing.T) {
	python := peer.Need(t, "python3")
	for _, wide := range []int{1, 2, 3, 4} {
		file := filepath.Join(t.TempDir(), "a.wav")
		peer.Run(t, "", python, "-c", fmt.Sprintf(`
import wave,math
w=wave.open(%q,"wb"); w.setnchannels(2); w.setsampwidth(%[2]d); w.setframerate(32000)
top=2**(8*%[2]d-1)
for i in range(3200):
    v=int(0.5*top*math.sin(i/9)) if 320<=i<1600 else 0
    w.writeframes(b"".join([(v+128).to_bytes(1,"little") if %[2]d==1 else v.to_bytes(%[2]d,"little",signed=True)]*2))
w.close()`, file, wide))
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		i, err := audio.Read(data)
		require.NoError(t, err)
		assert.Equal(t, int64(3200), i.Samples)
		assert.Equal(t, 8*wide, i.Bits)
		assert.InDelta(t, 320, i.SilentStart, 1)
		assert.InDelta(t, 1600, i.SilentEnd, 1)
		assert.Zero(t, i.Clipped)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(wav(8000, 1, make([]int16, 40), &[2]uint32{1, 2}))
	f.Add(page(1, 5, append([]byte("\x01vorbis\x00\x00\x00\x00\x02"), make([]byte, 20)...),
		comments("\x03vorbis", "LOOPSTART=1")))
	f.Add([]byte("fLaC\x84\x00\x00\x04abcd"))
	f.Add(append([]byte{0xff, 0xfb, 0x90, 0xc0}, make([]byte, 413)...))
	f.Fuzz(func(t *testing.T, data []byte) {
		if i, err := audio.Read(data); err == nil && (i.Rate < 1 || i.Channels < 1 || i.Samples < 0) {
			t.Fatalf("%+v", i)
		}
	})
}
