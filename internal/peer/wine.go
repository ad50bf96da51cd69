package peer

import (
	"bytes"
	"debug/pe"
	"encoding/binary"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

// Windows runs programs for Windows by Wine, in a Windows of its own that is thrown away.
type Windows struct {
	wine, prefix string
}

var windows struct {
	sync.Mutex
	at *Windows
}

// NewWindows sets Wine up, once a test binary. Without Wine the test is skipped and says so.
func NewWindows(t testing.TB) *Windows {
	t.Helper()
	wine := Need(t, "wine")
	windows.Lock()
	defer windows.Unlock()
	if windows.at != nil {
		return windows.at
	}
	prefix, err := os.MkdirTemp("", "vornix-wine-")
	if err != nil {
		t.Fatal(err)
	}
	w := &Windows{wine, prefix}
	// Its servers live on, so nothing that anybody waits for may be open in them. What it says is
	// of the 32-bit half, which is not needed.
	_ = w.command("wineserver", "--persistent").Run()
	_ = w.command("wineboot", "--init").Run()
	if _, err := os.Stat(filepath.Join(prefix, "drive_c", "windows", "system32")); err != nil {
		Missing(t, "wine64")
	}
	dll := filepath.Join(prefix, "drive_c", "windows", "system32", "bcryptprimitives.dll")
	if _, err := os.Stat(dll); err != nil {
		if err := os.WriteFile(dll, randomLibrary(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	windows.at = w
	return w
}

// CloseWindows throws the Windows away.
func CloseWindows() {
	windows.Lock()
	defer windows.Unlock()
	if windows.at != nil {
		_ = windows.at.command("wineserver", "--kill").Run()
		_ = os.RemoveAll(windows.at.prefix)
		windows.at = nil
	}
}

func (w *Windows) command(program string, args ...string) *exec.Cmd {
	cmd := exec.Command(w.wine, append([]string{program}, args...)...)
	if program == "wineserver" {
		cmd = exec.Command("wineserver", args...)
	}
	cmd.Env = append(os.Environ(), "WINEPREFIX="+w.prefix, "WINEDEBUG=-all", "WINEDLLOVERRIDES=mscoree,mshtml=")
	return cmd
}

// Run runs a program for Windows in a folder of this system, and gives what it printed and its exit
// code. Its output goes into files: Wine's servers, which live on, would hold a pipe open.
func (w *Windows) Run(t testing.TB, dir, program string, args ...string) (out, errs string, exit int) {
	t.Helper()
	cmd := w.command(program, args...)
	cmd.Dir = dir
	var files [2]*os.File
	for i := range files {
		f, err := os.CreateTemp(t.TempDir(), "said")
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		files[i] = f
	}
	cmd.Stdout, cmd.Stderr = files[0], files[1]
	var ended *exec.ExitError
	if err := cmd.Run(); err != nil && !errors.As(err, &ended) {
		t.Fatal(err)
	}
	var said [2]string
	for i, f := range files {
		data, err := os.ReadFile(f.Name())
		if err != nil {
			t.Fatal(err)
		}
		said[i] = strings.ReplaceAll(string(data), "\r\n", "\n")
	}
	return said[0], said[1], cmd.ProcessState.ExitCode()
}

// Path is a path of this system as programs for Windows know it: all of it is drive Z.
func (w *Windows) Path(path string) string { return "Z:" + strings.ReplaceAll(path, "/", `\`) }

// randomLibrary is a library that Wine lacks before version 9: bcryptprimitives.dll, of which Go
// wants one function. It holds no code, but passes on to the function of advapi32 that does the
// same (PE format, export forwarding).
func randomLibrary() []byte {
	const rva, page = 0x1000, 0x200
	le := binary.LittleEndian
	name, function, to := "bcryptprimitives.dll\x00", "ProcessPrng\x00", "advapi32.SystemFunction036\x00"
	const head = 40 + 4 + 4 + 4
	nameAt := uint32(rva + head)
	functionAt := nameAt + uint32(len(name))
	toAt := functionAt + uint32(len(function))
	var exports, f bytes.Buffer
	put := func(b *bytes.Buffer, v any) { _ = binary.Write(b, le, v) } // a buffer takes every write
	put(&exports, []uint32{0, 0, 0, nameAt, 1, 1, 1, rva + 40, rva + 44, rva + 48, toAt, functionAt, 0})
	exports.WriteString(name + function + to)
	dos := make([]byte, 64)
	copy(dos, "MZ")
	le.PutUint32(dos[60:], 64)
	f.Write(dos)
	f.WriteString("PE\x00\x00")
	o := pe.OptionalHeader64{Magic: 0x20b, SizeOfInitializedData: page, ImageBase: 0x180000000,
		SectionAlignment: 0x1000, FileAlignment: page, MajorOperatingSystemVersion: 6,
		MajorSubsystemVersion: 6, SizeOfImage: 0x2000, SizeOfHeaders: page, Subsystem: 2, DllCharacteristics: 0x100,
		NumberOfRvaAndSizes: 16}
	o.DataDirectory[0] = pe.DataDirectory{VirtualAddress: rva, Size: uint32(exports.Len())}
	put(&f, pe.FileHeader{Machine: pe.IMAGE_FILE_MACHINE_AMD64, NumberOfSections: 1,
		SizeOfOptionalHeader: uint16(binary.Size(o)), Characteristics: 0x2022})
	put(&f, o)
	s := pe.SectionHeader32{VirtualSize: uint32(exports.Len()), VirtualAddress: rva, SizeOfRawData: page,
		PointerToRawData: page, Characteristics: 0x40000040}
	copy(s.Name[:], ".edata")
	put(&f, s)
	f.Write(make([]byte, page-f.Len()))
	f.Write(exports.Bytes())
	f.Write(make([]byte, 2*page-f.Len()))
	return f.Bytes()
}
