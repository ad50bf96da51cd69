//go:build unix

package main_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The first Ctrl-C or SIGTERM ends a command soon, whatever it is at, with its own exit code.
func TestInterruptsAreQuick(t *testing.T) {
	p := project(t, "highline")
	require.NoError(t, os.RemoveAll(filepath.Join(p, ".vornix")))
	dir := t.TempDir()
	noise := make([]byte, 48<<20)
	state := uint32(1)
	for i := range noise {
		state = state*1664525 + 1013904223
		noise[i] = byte(state >> 24)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.bin"), noise, 0o600))
	for i := range 400 {
		noise[i*100003]++
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "b.bin"), noise, 0o600))
	header := append([]byte("PK\x03\x04\x14\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x64\x00\x00\x00\x64\x00\x00\x00\x01\x00\x00\x00"), 'a')
	require.NoError(t, os.WriteFile(filepath.Join(dir, "f.zip"), []byte(strings.Repeat(string(header), 200000)), 0o600))
	for _, c := range []struct {
		dir, args string
		after     time.Duration
		signal    syscall.Signal
	}{
		{p, "build", 700 * time.Millisecond, syscall.SIGINT},
		{p, "build", 2500 * time.Millisecond, syscall.SIGTERM},
		{p, "release --dry --yes", 1500 * time.Millisecond, syscall.SIGINT},
		{p, "build --watch --draft", time.Second, syscall.SIGTERM},
		{dir, "demo out", 500 * time.Millisecond, syscall.SIGINT},
		{dir, "demo out", 1500 * time.Millisecond, syscall.SIGTERM},
		{dir, "delta make a.bin b.bin c.vcdiff", 300 * time.Millisecond, syscall.SIGINT},
		{dir, "salvage f.zip g.zip", 500 * time.Millisecond, syscall.SIGINT},
		{dir, "stand server s --profile kestrel-post", 500 * time.Millisecond, syscall.SIGTERM},
	} {
		t.Run(fmt.Sprint(c.args, " ", c.signal), func(t *testing.T) {
			cmd := command(c.dir, strings.Fields(c.args)...)
			require.NoError(t, cmd.Start())
			ended := make(chan error, 1)
			go func() { ended <- cmd.Wait() }()
			select {
			case <-ended:
				t.Skip("it was done before it was interrupted")
			case <-time.After(c.after):
			}
			begin := time.Now()
			require.NoError(t, cmd.Process.Signal(c.signal))
			select {
			case <-ended:
				assert.Less(t, time.Since(begin), 3*time.Second, "a second, and patience for a busy machine")
				assert.Contains(t, []int{0, 130}, cmd.ProcessState.ExitCode())
			case <-time.After(20 * time.Second):
				_ = cmd.Process.Kill()
				<-ended
				t.Fatal("it does not end")
			}
			noTemps(t, c.dir)
		})
	}
}

// A command that is stuck where nothing can interrupt it, here on a pipe that nobody writes, ends
// in time too, and says so.
func TestAStuckCommandEnds(t *testing.T) {
	dir := t.TempDir()
	pipe := filepath.Join(dir, "stuck.zip")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	for _, args := range []string{"inspect stuck.zip", "inspect stuck.zip --json", "extract stuck.zip --to out",
		"salvage stuck.zip whole.zip", "delta apply stuck.zip stuck.zip new.bin", "patch apply stuck.zip"} {
		t.Run(args, func(t *testing.T) {
			r := interrupted(t, dir, args)
			if r.exit == 2 || r.exit == 1 {
				return // a pipe is refused at once
			}
			assert.Equal(t, 130, r.exit)
			if strings.Contains(args, "--json") {
				var answer struct {
					Command string
					Error   struct{ Exit int }
				}
				require.NoError(t, json.Unmarshal([]byte(r.out), &answer), r.out)
				assert.Equal(t, "inspect", answer.Command)
				assert.Equal(t, 130, answer.Error.Exit)
				return
			}
			assert.Contains(t, r.err, "did not end in time")
		})
	}
}

// interrupted runs a command, interrupts it, and says how it ended.
func interrupted(t *testing.T, dir, args string) outcome {
	t.Helper()
	cmd := command(dir, strings.Fields(args)...)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	require.NoError(t, cmd.Start())
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	select {
	case <-ended:
		return outcome{out: out.String(), err: errs.String(), exit: cmd.ProcessState.ExitCode()}
	case <-time.After(time.Second):
	}
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		_ = cmd.Process.Kill()
		<-ended
		t.Error("it does not end")
	}
	return outcome{out: out.String(), err: errs.String(), exit: cmd.ProcessState.ExitCode()}
}
