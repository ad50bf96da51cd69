package peer

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"vornix/internal/peer/foldfs"
)

// foldVariable tells this program to be the server of a file system that folds names. It is a
// process of its own: one that waits for itself can't end.
const foldVariable = "VORNIX_TEST_FOLDFS"

func init() {
	folders := os.Getenv(foldVariable)
	if folders == "" {
		return
	}
	part := strings.Split(folders, "|")
	below, at := part[0], part[1]
	unmount, err := foldfs.Mount(below, at, part[2] == "true")
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	fmt.Println("ready")
	_, _ = io.Copy(io.Discard, os.Stdin) // until the test ends, in whatever way
	if unmount() != nil {
		_ = syscall.Unmount(at, syscall.MNT_DETACH)
	}
	os.Exit(0)
}

// Folding is a folder on a file system that takes names which differ in capitals, or in how their
// letters are composed, for one. keeps says that a file which is replaced by a renaming keeps its
// own spelling. The folder is there until the test ends.
func Folding(t testing.TB, keeps bool) string {
	t.Helper()
	if _, err := os.Stat("/dev/fuse"); err != nil || os.Getuid() != 0 {
		t.Skip("mounting a small file system needs root on Linux, and /dev/fuse")
	}
	dir := t.TempDir()
	below, at := filepath.Join(dir, "below"), filepath.Join(dir, "at")
	for _, d := range []string{below, at} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(self)
	cmd.Env = append(os.Environ(), fmt.Sprintf("%s=%s|%s|%t", foldVariable, below, at, keeps))
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	end := func() {
		in.Close()
		kill := time.AfterFunc(20*time.Second, func() { _ = cmd.Process.Kill() })
		defer kill.Stop()
		_ = cmd.Wait()
		_ = syscall.Unmount(at, syscall.MNT_DETACH) // where it could not do so itself
	}
	if line, _ := bufio.NewReader(out).ReadString('\n'); strings.TrimSpace(line) != "ready" {
		end()
		if slices.ContainsFunc([]string{"not permitted", "permission denied", "no such device", "not supported"},
			func(why string) bool { return strings.Contains(line, why) }) {
			t.Skipf("mounting a small file system needs root on Linux, and /dev/fuse: %s", line)
		}
		t.Fatalf("the file system that folds names does not start: %s", line)
	}
	t.Cleanup(end)
	return at
}
