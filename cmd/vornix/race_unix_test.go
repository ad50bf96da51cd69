//go:build unix

package main_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/release"
	"vornix/core/ship/index"
	"vornix/internal/thorough"
)

// races is how many times two maintainers release at once.
func races() int {
	if n, err := strconv.Atoi(os.Getenv("VORNIX_RACES")); err == nil {
		return n
	}
	return thorough.Or(2, 6)
}

// Two maintainers release at the same time, again and again, with sources that differ, whether or
// not they pulled, the same version or the next, and some are killed on the way. Whatever comes of
// it, each version has one content, in every place, and the index only ever rises.
func TestTwoMaintainersAtOnce(t *testing.T) {
	x := newTeam(t)
	x.env = append(x.env, "VORNIX_TRUST_FILE="+filepath.Join(x.root, "trusted.json"))
	people := []string{x.clone("ada"), x.clone("bo")}
	for _, p := range people {
		x.run(p, 0, "vornix", "trust", "--yes")
		x.run(p, 0, "vornix", "build")
	}
	x.run(people[0], 0, "vornix", "release", "1.0.1", "--yes", "--make-items")
	x.share(people[0])
	x.sync(people[1])
	seed := uint64(time.Now().UnixNano())
	if n, err := strconv.ParseUint(os.Getenv("VORNIX_SEED"), 10, 64); err == nil {
		seed = n
	}
	t.Logf("VORNIX_SEED=%d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	h := &observed{team: x, content: map[string]string{}, where: map[string]string{}, number: map[string]int64{}}
	next := 2
	won := 0
	for round := range races() {
		version := fmt.Sprintf("1.0.%d", next)
		var runs []*racing
		for i, p := range people {
			if r.IntN(4) > 0 {
				x.sync(p)
			}
			retitle(t, p, fmt.Sprintf("Depot %d of %d", round, i))
			v := version
			if r.IntN(3) == 0 {
				v = fmt.Sprintf("1.0.%d", next+1)
			}
			one := &racing{dir: p, args: []string{"release", v, "--yes"},
				after: time.Duration(r.IntN(300)) * time.Millisecond}
			if r.IntN(3) == 0 {
				one.kill = time.Duration(100+r.IntN(2500)) * time.Millisecond
			}
			runs = append(runs, one)
		}
		for _, one := range runs {
			one.start(x)
		}
		for _, one := range runs {
			one.wait()
		}
		h.look(fmt.Sprintf("round %d", round))
		finished := map[string]int{} // releases that ended well, by version
		for i, one := range runs {
			switch {
			case one.exit == 0:
				finished[one.args[1]]++
				x.share(one.dir)
			case one.killed && r.IntN(2) == 0: // whoever was cut off goes on, or is told why not
				again := &racing{dir: one.dir, args: one.args}
				again.start(x)
				if again.wait(); again.exit == 0 {
					finished[one.args[1]]++
					x.share(one.dir)
				} else {
					require.Contains(t, []int{3, 4}, again.exit, again.out.String())
				}
			case !one.killed:
				require.Contains(t, []int{3, 4}, one.exit, "round %d, %s:\n%s", round, people[i], one.out.String())
			}
		}
		h.look(fmt.Sprintf("round %d, after", round))
		for v, n := range finished {
			require.Equal(t, 1, n, "round %d: two people released different contents as version %s", round, v)
		}
		if len(finished) > 0 {
			won++
		}
		// What somebody was cut off in may have reached players: whoever comes next knows, takes
		// the record over, and goes on from there.
		for _, p := range people {
			x.sync(p)
		}
		x.run(people[0], 0, "vornix", "history", "--adopt")
		x.share(people[0])
		x.sync(people[1])
		next = h.highest() + 1
	}
	retitle(t, people[1], "The last one")
	x.run(people[1], 0, "vornix", "release", fmt.Sprintf("1.0.%d", next), "--yes")
	h.look("at the end")
	for place, version := range h.where {
		assert.Equal(t, fmt.Sprintf("1.0.%d", next), version, place)
	}
	x.published()
	want := h.content[fmt.Sprintf("1.0.%d", next)]
	for place, data := range map[string]string{
		"server":  read(t, x.server, "levels/tram_depot.vnm"),
		"website": read(t, x.website, "tram_depot.vnm"),
		"shelf":   read(t, x.shelf, "tram_depot.vnm"),
		"repository": x.run(x.root, 0, "git", "--git-dir", filepath.Join(x.root, "server.git"), "show",
			"main:levels/tram_depot.vnm"),
	} {
		assert.Equal(t, want, fmt.Sprintf("%x", sha256.Sum256([]byte(data))), "what lies at the %s", place)
	}
	t.Logf("%d of %d rounds had a release that came to its end; %d versions in all", won, races(), len(h.content))
}

// retitle gives the map another content.
func retitle(t *testing.T, dir, title string) {
	t.Helper()
	text := regexp.MustCompile(`title="[^"]*"`).ReplaceAllString(read(t, dir, "maps/tram_depot.vnx"),
		fmt.Sprintf("title=%q", title))
	put(t, filepath.Join(dir, "maps", "tram_depot.vnx"), text)
}

// racing is a run of the program that others run beside.
type racing struct {
	dir         string
	args        []string
	after, kill time.Duration
	cmd         *exec.Cmd
	out         bytes.Buffer
	done        chan struct{}
	exit        int
	killed      bool
}

func (r *racing) start(x *team) {
	r.cmd = exec.Command(exe, r.args...)
	r.cmd.Dir, r.cmd.Env = r.dir, x.env
	r.cmd.Stdout, r.cmd.Stderr = &r.out, &r.out
	r.done = make(chan struct{})
	go func() {
		defer close(r.done)
		time.Sleep(r.after)
		if r.cmd.Start() != nil {
			return
		}
		if r.kill > 0 {
			timer := time.AfterFunc(r.kill, func() { r.killed = r.cmd.Process.Signal(syscall.SIGKILL) == nil })
			defer timer.Stop()
		}
		_ = r.cmd.Wait()
	}()
}

func (r *racing) wait() {
	<-r.done
	r.exit = r.cmd.ProcessState.ExitCode()
}

// share commits what a release wrote, on top of what others have pushed.
func (x *team) share(dir string) {
	x.Helper()
	x.run(dir, 0, "git", "add", "--all")
	if strings.TrimSpace(x.run(dir, 0, "git", "status", "--porcelain")) != "" {
		x.run(dir, 0, "git", "commit", "--quiet", "--message", "released")
	}
	x.run(dir, 0, "git", "fetch", "--quiet")
	x.run(dir, 0, "git", "merge", "--quiet", "-X", "ours", "-m", "merged", "origin/main")
	x.run(dir, 0, "git", "push", "--quiet", "origin", "HEAD:main")
}

// sync throws away what was not shared, but for records, and takes over what others have pushed.
func (x *team) sync(dir string) {
	x.Helper()
	x.run(dir, 0, "git", "fetch", "--quiet")
	x.run(dir, 0, "git", "reset", "--quiet", "--hard", "origin/main")
}

// observed is what players could have seen.
type observed struct {
	*team
	content map[string]string // SHA-256 by version
	where   map[string]string // version by place, as it is now
	number  map[string]int64  // of the index, by folder
}

// is notes that a place has, or had, a version with a content.
func (h *observed) is(when, place, version, sum string) {
	h.Helper()
	if was, ok := h.content[version]; ok {
		require.Equal(h, was, sum, "%s: version %s at %s is another one than players have seen", when, version, place)
	}
	h.content[version] = sum
}

// look reads what each place has, without asking the program that is tested more than it must.
func (h *observed) look(when string) {
	h.Helper()
	var answer struct{ Result release.History }
	o := h.run(filepath.Join(h.root, "ada"), 0, "vornix", "history", "--json")
	require.NoError(h, json.Unmarshal([]byte(o[strings.Index(o, "{"):]), &answer), o)
	for _, place := range answer.Result.Places {
		require.Empty(h, place.Error, when)
		last := ""
		for _, v := range place.Versions {
			for _, sum := range v.Files {
				h.is(when, place.Name, v.Version, sum)
				last = v.Version
			}
		}
		if place.Kind != "git" && last != "" {
			h.where[place.Name] = last
		}
	}
	for _, folder := range []string{h.website, h.shelf} {
		data, err := os.ReadFile(filepath.Join(folder, index.FileName))
		if err != nil {
			continue
		}
		i, err := index.Read(data)
		require.NoError(h, err, when)
		require.GreaterOrEqual(h, i.Serial, h.number[folder], "%s: the index went back", when)
		h.number[folder] = i.Serial
		for _, r := range i.Bundles {
			h.is(when, folder, r.Version, r.SHA256)
		}
	}
}

// highest is the last number of all versions that were seen.
func (h *observed) highest() (n int) {
	for v := range h.content {
		if k, err := strconv.Atoi(v[strings.LastIndex(v, ".")+1:]); err == nil {
			n = max(n, k)
		}
	}
	return n
}
