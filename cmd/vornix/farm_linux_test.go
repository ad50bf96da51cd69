package main_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/safefile"
	stages "vornix/core/compile/stage"
	"vornix/core/make/assembly"
	"vornix/core/make/remoteexec"
	"vornix/core/make/taskgraph"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// lab is a small network on one machine: some hosts, each a network namespace of its own, on one bridge.
type lab struct {
	t      *testing.T
	bridge string
	number int
	hosts  map[string]string // address, by name
}

// newLab makes a network with some hosts. It takes root, and iproute2.
func newLab(t *testing.T, names ...string) *lab {
	t.Helper()
	ip := peer.Need(t, "ip")
	l := &lab{t: t, number: os.Getpid() % 200, hosts: map[string]string{}}
	l.bridge = fmt.Sprintf("vx%d", os.Getpid()%100000)
	if out, err := exec.Command(ip, "link", "add", l.bridge, "type", "bridge").CombinedOutput(); err != nil {
		t.Skipf("no networks can be made here, for want of root or of the kernel's consent: this test is left out: %s",
			out)
	}
	t.Cleanup(func() { _ = exec.Command(ip, "link", "del", l.bridge).Run() })
	l.ip("addr", "add", l.address(1)+"/24", "dev", l.bridge)
	l.ip("link", "set", l.bridge, "up")
	for i, name := range names {
		ns, here, there := l.name(name), l.end(name), "e"+l.end(name)
		l.ip("netns", "add", ns)
		t.Cleanup(func() { _ = exec.Command(ip, "netns", "del", ns).Run() })
		l.ip("link", "add", here, "type", "veth", "peer", "name", there, "netns", ns)
		l.ip("link", "set", here, "master", l.bridge, "up")
		l.hosts[name] = l.address(10 + i)
		l.ip("-n", ns, "addr", "add", l.hosts[name]+"/24", "dev", there)
		l.ip("-n", ns, "link", "set", there, "up")
		l.ip("-n", ns, "link", "set", "lo", "up")
	}
	return l
}

func (l *lab) address(n int) string    { return fmt.Sprintf("10.213.%d.%d", l.number, n) }
func (l *lab) name(host string) string { return l.bridge + "-" + host }
func (l *lab) end(host string) string  { return l.bridge + host }

func (l *lab) ip(args ...string) {
	l.t.Helper()
	out, err := exec.Command("ip", args...).CombinedOutput()
	require.NoError(l.t, err, "ip %v: %s", args, out)
}

// cut pulls a host's cable, or puts it back.
func (l *lab) cut(host string, off bool) {
	l.ip("link", "set", l.end(host), map[bool]string{true: "down", false: "up"}[off])
}

// on is the program on a host of the lab.
func (l *lab) on(host, dir string, args ...string) *exec.Cmd {
	cmd := exec.Command("ip", append([]string{"netns", "exec", l.name(host), exe}, args...)...)
	cmd.Dir = dir
	return cmd
}

// start starts the program on a host and waits until it says something.
func (l *lab) start(t *testing.T, host, says string, args ...string) *started {
	t.Helper()
	s := &started{cmd: l.on(host, t.TempDir(), args...)}
	s.cmd.Stdout, s.cmd.Stderr = s, s
	require.NoError(t, s.cmd.Start())
	t.Cleanup(func() { s.stop(syscall.SIGKILL) })
	s.await(t, says)
	return s
}

// day is a farm in the lab: a host, and a worker on each of two machines, with one processor each.
type day struct {
	l           *lab
	dir, key    string // of the host
	host        *started
	first, next *started
}

func (l *lab) day(t *testing.T) *day {
	t.Helper()
	d := &day{l: l, dir: t.TempDir()}
	d.key = filepath.Join(d.dir, "farm.key")
	d.startHost(t)
	d.first, d.next = d.worker(t, "one"), d.worker(t, "two")
	return d
}

// startHost starts the host. The server of one that was killed may hold the address for a moment
// longer: then it is tried again.
func (d *day) startHost(t *testing.T) {
	t.Helper()
	said := ""
	for range 5 {
		s := &started{cmd: d.l.on("host", t.TempDir(), "farm", "host", "--dir", d.dir, "--listen",
			d.l.hosts["host"]+":4222")}
		s.cmd.Stdout, s.cmd.Stderr = s, s
		require.NoError(t, s.cmd.Start())
		t.Cleanup(func() { s.stop(syscall.SIGKILL) })
		for until := time.Now().Add(20 * time.Second); time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
			if said = s.said(); strings.Contains(said, "A farm at") {
				d.host = s
				return
			}
			if strings.Contains(said, "stopped:") {
				break
			}
		}
		s.stop(syscall.SIGTERM)
		time.Sleep(time.Second)
	}
	t.Fatalf("the host does not start: %s", said)
}

func (d *day) worker(t *testing.T, on string, more ...string) *started {
	return d.l.start(t, on, "joined",
		append([]string{"farm", "worker", "--key", d.key, "--name", on, "--jobs", "1", "--dir",
			filepath.Join(t.TempDir(), "contents")}, more...)...)
}

// The same bytes, whatever happens to a farm of several machines while it builds.
func TestAFarmOfSeveralMachines(t *testing.T) {
	thorough.Only(t)
	peer.Need(t, "nats-server")
	l := newLab(t, "host", "one", "two", "home", "other")
	source := machineOf(t, project(t, "highline"))
	alone := machineOf(t, source)
	const what = "saltpan_relay"
	ok(t, alone, "build", what, "--draft")
	want := must(os.ReadFile(filepath.Join(alone, "out", "tree", "maps", what+".vnm")))

	// begin begins a build with the farm's help on a machine; end waits for it and compares.
	begin := func(t *testing.T, d *day, on string) (running *started, p string) {
		p = machineOf(t, source)
		s := &started{cmd: l.on(on, p, "build", what, "--draft", "--farm", "--farm-key", d.key, "--jobs", "1")}
		s.cmd.Stdout, s.cmd.Stderr = s, s
		require.NoError(t, s.cmd.Start())
		return s, p
	}
	end := func(t *testing.T, s *started, p string) string {
		t.Helper()
		require.NoError(t, s.cmd.Wait(), s.said())
		assert.Equal(t, want, must(os.ReadFile(filepath.Join(p, "out", "tree", "maps", what+".vnm"))))
		noTemps(t, p)
		return s.said()
	}
	for kind, run := range map[string]func(t *testing.T, d *day) (said string){
		"all is well": func(t *testing.T, d *day) string {
			s, p := begin(t, d, "home")
			said := end(t, s, p)
			assert.Regexp(t, "with (one|two): ", said)
			assert.NotContains(t, said, "farm.")
			status, err := l.on("other", p, "farm", "status", "--key", d.key).CombinedOutput()
			require.NoError(t, err)
			assert.Regexp(t, `(?s)0 waiting, 0 being done.*one .*two `, string(status))
			return said
		},
		"a worker is killed, another comes": func(t *testing.T, d *day) string {
			d.first.stop(syscall.SIGKILL)
			s, p := begin(t, d, "home")
			d.next.await(t, "pieces")
			d.next.stop(syscall.SIGKILL)
			d.worker(t, "one")
			return end(t, s, p)
		},
		"the host is killed and comes back": func(t *testing.T, d *day) string {
			s, p := begin(t, d, "home")
			d.first.await(t, "pieces")
			d.host.stop(syscall.SIGKILL)
			time.Sleep(300 * time.Millisecond)
			d.startHost(t)
			said := end(t, s, p)
			again, p := begin(t, d, "home")
			assert.Regexp(t, "with (one|two): ", end(t, again, p), "the workers have found it again")
			return said
		},
		"a worker's cable is pulled": func(t *testing.T, d *day) string {
			s, p := begin(t, d, "home")
			d.first.await(t, "pieces")
			l.cut("one", true)
			defer l.cut("one", false)
			return end(t, s, p)
		},
		"the builder's cable is pulled": func(t *testing.T, d *day) string {
			s, p := begin(t, d, "home")
			d.first.await(t, "pieces")
			l.cut("home", true)
			defer l.cut("home", false)
			return end(t, s, p)
		},
		"a slow line": func(t *testing.T, d *day) string {
			d.key = l.slow(t, d, 15*time.Millisecond, 4<<20)
			s, p := begin(t, d, "home")
			return end(t, s, p)
		},
		"a worker is wrong": func(t *testing.T, d *day) string {
			d.next.stop(syscall.SIGTERM)
			l.wrong(t, d)
			s, p := begin(t, d, "home")
			said := end(t, s, p)
			assert.Contains(t, said, "farm.wrong")
			assert.Contains(t, said, "the worker wrong: parts of map saltpan_relay came out with other bytes than here")
			return said
		},
		"two builds at once": func(t *testing.T, d *day) string {
			s, p := begin(t, d, "home")
			again, q := begin(t, d, "other")
			return end(t, s, p) + end(t, again, q)
		},
		"a worker's disk is full": func(t *testing.T, d *day) string {
			d.first.stop(syscall.SIGTERM)
			d.next.stop(syscall.SIGTERM)
			full := filepath.Join(t.TempDir(), "full")
			tiny(t, full)
			w := d.worker(t, "two", "--dir", full)
			s, p := begin(t, d, "home")
			said := end(t, s, p)
			assert.Contains(t, w.said(), "disk is full")
			return said
		},
		"the host's disk is full": func(t *testing.T, d *day) string {
			d.host.stop(syscall.SIGTERM)
			d.dir = filepath.Join(t.TempDir(), "full")
			tiny(t, d.dir)
			d.startHost(t)
			d.key = filepath.Join(d.dir, "farm.key")
			d.worker(t, "one")
			s, p := begin(t, d, "home")
			return end(t, s, p)
		},
	} {
		t.Run(kind, func(t *testing.T) { t.Log(run(t, l.day(t))) })
	}
}

// tiny makes a folder with room for hardly anything.
func tiny(t *testing.T, dir string) {
	t.Helper()
	require.NoError(t, os.Mkdir(dir, 0o700))
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=256k", "tmpfs", dir).CombinedOutput(); err != nil {
		t.Skipf("no small disk can be had here: this test is left out: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", dir).Run() })
}

// slow is a key for a line to the host that delays what goes over it, and lets only so many bytes a second through.
func (l *lab) slow(t *testing.T, d *day, delay time.Duration, rate int) (key string) {
	t.Helper()
	listener, err := net.Listen("tcp", l.address(1)+":0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			from, err := listener.Accept()
			if err != nil {
				return
			}
			to, err := net.Dial("tcp", l.hosts["host"]+":4222")
			if err != nil {
				from.Close()
				continue
			}
			go slowly(to, from, delay, rate)
			go slowly(from, to, delay, rate)
		}
	}()
	text := string(must(os.ReadFile(d.key)))
	text = strings.ReplaceAll(text, l.hosts["host"]+":4222", listener.Addr().String())
	key = filepath.Join(t.TempDir(), "slow.key")
	require.NoError(t, os.WriteFile(key, []byte(text), 0o600))
	return key
}

// slowly copies what comes after a delay, at a rate.
func slowly(to, from net.Conn, delay time.Duration, rate int) {
	type piece struct {
		data []byte
		at   time.Time
	}
	line := make(chan piece, 1<<10)
	go func() {
		defer close(line)
		for {
			b := make([]byte, 16<<10)
			n, err := from.Read(b)
			if n > 0 {
				line <- piece{b[:n], time.Now().Add(delay)}
			}
			if err != nil {
				return
			}
		}
	}()
	defer to.Close()
	for p := range line {
		time.Sleep(time.Until(p.at))
		if _, err := to.Write(p.data); err != nil {
			_, _ = io.Copy(io.Discard, from)
			return
		}
		time.Sleep(time.Duration(len(p.data)) * time.Second / time.Duration(rate))
	}
}

// wrong is a worker in the lab's network that computes as any other, but for a bit now and then.
func (l *lab) wrong(t *testing.T, d *day) {
	t.Helper()
	key, err := remoteexec.ReadKey(d.key)
	require.NoError(t, err)
	dir, err := safefile.OpenDir(t.TempDir())
	require.NoError(t, err)
	status := parse(t, run(t, l.on("other", t.TempDir(), "farm", "status", "--key", d.key, "--json")))
	var state remoteexec.State
	require.NoError(t, json.Unmarshal(status.Result, &state))
	require.NotEmpty(t, state.Workers)
	ctx, cancel := context.WithCancel(context.Background())
	joined, ended := make(chan bool, 8), make(chan bool)
	go func() {
		defer close(ended)
		_ = remoteexec.Work(ctx,
			remoteexec.WorkerOptions{Key: key, Version: state.Workers[0].Version, Name: "wrong", Slots: 1, Dir: dir,
				Most: 1 << 30, Do: bent{assembly.NewHand(1, assembly.Stages{}, nil, "")},
				OnEvent: func(e remoteexec.Event) {
					if e.What == "joined" {
						joined <- true
					}
				}})
	}()
	t.Cleanup(func() { cancel(); <-ended; dir.Close() })
	select {
	case <-joined:
	case <-ended:
		t.Fatal("the wrong worker ended before it joined")
	case <-time.After(time.Minute):
		t.Fatal("the wrong worker does not join")
	}
}

// bent does jobs, and gets a bit of each piece wrong.
type bent struct{ remoteexec.Runner }

func (b bent) Do(ctx context.Context, o *taskgraph.Action, t *taskgraph.Task, crew stages.Distributor) error {
	if crew != nil {
		crew = bentCrew{crew}
	}
	return b.Runner.Do(ctx, o, t, crew)
}

type bentCrew struct{ stages.Distributor }

func (b bentCrew) Serve(ctx context.Context, key string, p *stages.Parts) (bool, error) {
	q := *p
	q.Pack = func(first, last int) []byte {
		data := p.Pack(first, last)
		for i := 0; i < len(data); i += 8 {
			data[i] ^= 1
		}
		return data
	}
	return b.Distributor.Serve(ctx, key, &q)
}
