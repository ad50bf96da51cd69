package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/humanize"
	"vornix/core/base/safefile"
	"vornix/core/make/assembly"
	"vornix/core/make/remoteexec"
	"vornix/core/make/remoteexec/host"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

// farmVariable names the file with the farm's key; where it is set every build takes the farm's help.
const farmVariable = "VORNIX_FARM"

// farmFolder is where this person's host keeps what it needs, and where the key is looked for.
func farmFolder() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", &fault.Fault{What: "there is no folder for what this program keeps for you", Err: err,
			Do: "Name one with --dir, and the key's file in " + farmVariable + "."}
	}
	return filepath.Join(dir, "vornix", "farm"), nil
}

// farmKey is the file with the farm's key: the one that was named, or that in the variable, or the one in its place.
func farmKey(named string) (string, error) {
	if named == "" {
		named = os.Getenv(farmVariable)
	}
	if named != "" {
		return named, nil
	}
	dir, err := farmFolder()
	return filepath.Join(dir, host.KeyFile), err
}

// readFarmKey reads the farm's key.
func readFarmKey(named string) (*remoteexec.Key, error) {
	file, err := farmKey(named)
	if err != nil {
		return nil, err
	}
	return remoteexec.ReadKey(file)
}

// farming is how this machine's builds take the help of a farm without being told to.
func (a *app) farming() assembly.Farming {
	f := assembly.Farming{KeyFile: os.Getenv(farmVariable), Version: farmProgram()}
	if f.KeyFile != "" {
		a.besides()
	}
	return f
}

// farmProgram is this program's version as farms know it: the same on each system.
func farmProgram() string {
	return strings.ReplaceAll(Version(), ", "+defaultSystem(), "")
}

// farmFlags adds the flags of a build with others' help; the function says what they come to.
func (a *app) farmFlags(cmd *cobra.Command) func() (assembly.Farming, error) {
	var on bool
	var key string
	var verify float64
	cmd.Flags().Float64Var(&verify, "verify", 0,
		fmt.Sprintf("with --farm: the `share` of the workers' work that another worker repeats, from %g to 1 (everything)", remoteexec.Rechecked))
	cmd.Flags().BoolVar(&on, "farm", false, "have the workers of a farm do what they can of it; the result is the same")
	cmd.Flags().StringVar(&key, "farm-key", "",
		"with --farm: the `file` with the farm's key (default: that in "+farmVariable+
			", or the one that 'farm host' keeps here)")
	return func() (f assembly.Farming, err error) {
		if key != "" && !on {
			return f, &fault.Fault{Kind: fault.Usage, What: "--farm-key goes with --farm",
				Do: "Add --farm, or leave it out."}
		}
		if cmd.Flags().Changed("verify") && (!on || verify < remoteexec.Rechecked || verify > 1) {
			return f, &fault.Fault{Kind: fault.Usage,
				What: fmt.Sprintf("--verify goes with --farm, and is a share from %g to 1", remoteexec.Rechecked),
				Do:   "Give --farm --verify 1 to have two workers do everything."}
		}
		f = a.farming()
		f.Recheck = verify
		if on {
			a.besides()
			f.KeyFile, err = farmKey(key)
		}
		return f, err
	}
}

// besides leaves room beside the jobs for what is said to other machines: an answer would wait for
// ten milliseconds where each processor is busy with work that does not pause, and there are
// several to a job.
func (a *app) besides() {
	if a.jobs == 0 {
		a.jobs = runtime.GOMAXPROCS(0)
	}
	if os.Getenv("GOMAXPROCS") == "" { // somebody wants no more
		runtime.GOMAXPROCS(max(runtime.GOMAXPROCS(0), a.jobs+2))
	}
}

func (a *app) farmCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "farm host|worker|status",
		Short: "Build with several machines: start a farm's host, or a worker, or look at it",
		Example: `  vornix farm host
  vornix farm worker --key farm.key
  vornix farm status`,
	}
	cmd.AddCommand(a.farmHostCommand(), a.farmWorkerCommand(), a.farmStatusCommand())
	return only(cmd)
}

// hostAnswer is the result of farm host in JSON.
type hostAnswer struct {
	Servers []string `json:"servers"`
	Key     string   `json:"key"` // the file with the key
}

func (a *app) farmHostCommand() *cobra.Command {
	var dir, listen, most, server string
	var names []string
	var plain bool
	var keep time.Duration
	cmd := &cobra.Command{
		Use:   "host",
		Short: "Run the server of a farm, to which workers and builds connect",
		Long: `Host runs the message server nats-server until Ctrl-C. The server keeps a queue of work and the contents that are on their way. It
computes nothing itself: start a worker beside it if the machine is to work too.

The program nats-server (NATS, version 2.9 or later) has to be installed on this machine only; workers and builds do not need it.

The first time it makes a token, a certificate and the farm's key, a file with both and with this machine's addresses. Copy that
file to each machine that works or builds, and to nobody else. What it keeps is in --dir; stopped and started again, it goes on.

A team that has a NATS server of its own needs no host: docs/farm.md says what its key looks like.`,
		Example: `  vornix farm host
  vornix farm host --listen :7422 --name build.local --keep 72h`,
		Args: noArgs,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			o := host.Options{Listen: listen, Names: names, Plain: plain, Limits: remoteexec.Limits{Keep: keep},
				Dir: dir, Server: server}
			var err error
			if o.Dir == "" {
				if o.Dir, err = farmFolder(); err != nil {
					return err
				}
			}
			if most != "" {
				if o.Limits.Bytes, err = parseSize(most); err != nil {
					return err
				}
			}
			if keep < time.Hour {
				return &fault.Fault{Kind: fault.Usage,
					What: "--keep is too short: builds would lose what they are made of",
					Do:   "Give an hour or more, as in 24h."}
			}
			var saying sync.Mutex
			o.Said = func(text string) {
				saying.Lock()
				defer saying.Unlock()
				fmt.Fprintln(a.out.Stderr, show.Clean(text))
			}
			h, err := host.Start(ctx, o)
			if err != nil {
				return err
			}
			defer h.Stop()
			file := filepath.ToSlash(h.File)
			a.out.Say("A farm at %s. Ctrl-C stops it.", strings.Join(h.Key.Servers, ", "))
			a.out.Say("Its key is %s: copy it to each machine that works or builds.", file)
			a.out.Say("  there, to work:  vornix farm worker --key farm.key")
			a.out.Say("  and to build:    vornix build --farm --farm-key farm.key")
			if plain {
				a.out.Say("Nothing is encrypted, the token neither: only for a network of your own.")
			}
			answer.Result = hostAnswer{h.Key.Servers, file}
			a.out.Answer(answer, nil, 0)
			select {
			case <-ctx.Done():
				return nil
			case <-h.Gone():
			}
			if ctx.Err() != nil { // Ctrl-C in a terminal reaches the server too
				return nil
			}
			select { // and may reach it first
			case <-ctx.Done():
				return nil
			case <-time.After(time.Second):
				return h.Failure()
			}
		}),
	}
	cmd.Flags().StringVar(&server, "server", "", "the `program` nats-server (default: the one in PATH)")
	cmd.Flags().StringVar(&dir, "dir", "", "`folder` for what it keeps (default: vornix/farm in your settings)")
	cmd.Flags().StringVar(&listen, "listen", fmt.Sprintf(":%d", host.DefaultPort), "`address` to listen at")
	cmd.Flags().StringArrayVar(&names, "name", nil,
		"`name` or address by which others reach this machine, for the key; can be given several times (default: its addresses)")
	cmd.Flags().BoolVar(&plain, "plain", false, "without encryption")
	cmd.Flags().DurationVar(&keep, "keep", 24*time.Hour, "how `long` contents are kept")
	cmd.Flags().StringVar(&most, "max-size", "", "`size` of all contents at most, such as 20G (default: no limit)")
	return cmd
}

func (a *app) farmWorkerCommand() *cobra.Command {
	var key, dir, most, name string
	var own bool
	var memory string
	cmd := &cobra.Command{
		Use:   "worker",
		Short: "Do work for the builds of a farm, until Ctrl-C",
		Long: `A worker takes maps, textures, sprites and pictures, and pieces of the long stages of maps, from the farm's queue, does them and hands
in what came of them. It comes and goes as it likes: what it has not handed in is done by others. It only works for builds of the
same version of Vornix, and says why it declines.

It runs no commands of projects. With --own-steps it runs those steps of a project's own that the project allows to be run elsewhere:
do that only where you trust everybody who has the farm's key with this machine.`,
		Example: `  vornix farm worker --key farm.key
  vornix farm worker --jobs 4 --name attic --max-size 50G`,
		Args: noArgs,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			k, err := readFarmKey(key)
			if err != nil {
				return err
			}
			a.besides()
			o := remoteexec.WorkerOptions{Key: k, Version: assembly.FarmVersion(farmProgram()), Name: name,
				System: defaultSystem(), Slots: a.jobs, Own: own, Most: 10 << 30}
			if o.Name == "" {
				if o.Name, err = os.Hostname(); err != nil || o.Name == "" {
					return &fault.Fault{Kind: fault.Usage, What: "this machine has no name", Err: err,
						Do: "Give the worker one with --name."}
				}
			}
			if most != "" {
				if o.Most, err = parseSize(most); err != nil {
					return err
				}
			}
			stages := assembly.Stages{Grows: grow}
			if memory != "" {
				if stages.Memory, err = parseSize(memory); err != nil {
					return err
				}
			}
			if dir == "" {
				cache, err := os.UserCacheDir()
				if err != nil {
					return &fault.Fault{What: "there is no folder for what can be made again", Err: err,
						Do: "Name one with --dir."}
				}
				dir = filepath.Join(cache, "vornix", "farm-worker")
			}
			if o.Dir, err = safefile.MakeDir(dir); err != nil {
				return err
			}
			defer o.Dir.Close()
			var steps *assembly.Own
			if own {
				s := a.own()
				steps = &s
			}
			o.Do = assembly.NewHand(1, stages, steps, dir)
			lock, err := safefile.Acquire(dir, "vornix farm worker")
			if err != nil {
				var held *fault.Fault
				if errors.As(err, &held) && held.Kind == fault.Refused {
					held.Why, held.Do = "Each would remove contents from "+humanize.Printable(dir)+
						" that the other one needs.", "Give this worker a folder of its own with --dir."
				}
				return err
			}
			defer lock.Release()
			a.out.Say("A worker for the farm at %s, %s. Ctrl-C stops it.", show.Clean(k.Where()),
				release.Count(o.Slots, "job")+" at once")
			var saying sync.Mutex
			o.OnEvent = func(e remoteexec.Event) {
				saying.Lock()
				defer saying.Unlock()
				if a.out.JSON {
					a.out.Line(&show.Answer{Command: answer.Command, Result: e}, nil, 0)
				} else {
					a.workerSays(e)
				}
			}
			return remoteexec.Work(ctx, o)
		}),
	}
	cmd.Flags().StringVar(&key, "key", "",
		"the `file` with the farm's key (default: that in "+farmVariable+", or the one that 'farm host' keeps here)")
	cmd.Flags().StringVar(&name, "name", "",
		"`name` in the farm; a number is added where another worker has it (default: this machine's)")
	cmd.Flags().StringVar(&dir, "dir", "", "`folder` for contents (default: vornix/farm-worker in your cache)")
	cmd.Flags().StringVar(&most, "max-size", "",
		"`size` of the contents that are kept for later, such as 50G (default 10G)")
	cmd.Flags().StringVar(&memory, "memory", "",
		"`size` of memory that a stage may take, such as 500M or 8G (default 4G)")
	cmd.Flags().BoolVar(&own, "own-steps", false, "also run steps of projects' own that may be run elsewhere")
	return cmd
}

// workerSays prints what a worker tells, in a line.
func (a *app) workerSays(e remoteexec.Event) {
	what := show.Clean(e.Job)
	if e.Part != "" {
		what += ", pieces " + e.Part
	}
	at := time.Now().Format("15:04:05")
	switch e.What {
	case "joined":
		a.out.Say("%s  joined the farm as %s", at, show.Clean(e.Worker))
	case "away":
		a.out.Say("%s  the farm is away, and is waited for: %s", at, show.Clean(e.Why))
	case "did":
		a.out.Say("%s  did %s  (%.1f s)", at, what, e.Seconds)
	case "failed":
		a.out.Say("%s  could not do %s: %s", at, what, show.Clean(e.Why))
	case "declined":
		a.out.Say("%s  declined: %s", at, show.Clean(e.Why))
	case "resting":
		a.out.Say("%s  takes nothing for a while: %s", at, show.Clean(e.Why))
	}
}

func (a *app) farmStatusCommand() *cobra.Command {
	var key string
	cmd := &cobra.Command{
		Use:   "status",
		Short: "Who is in the farm, what they do, and what waits",
		Example: `  vornix farm status
  vornix farm status --key farm.key --json | jq '.result.workers[].worker'`,
		Args: noArgs,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			k, err := readFarmKey(key)
			if err != nil {
				return err
			}
			s, err := remoteexec.Inspect(ctx, k, assembly.FarmVersion(farmProgram()))
			if err != nil {
				return err
			}
			answer.Result = s
			a.out.Say("The farm at %s, %.1f ms away: %d waiting, %d being done, %s of contents.", show.Clean(k.Where()),
				1000*s.Trip, s.Waiting, s.Working, release.Bytes(s.Bytes))
			var rows [][]string
			for _, w := range s.Workers {
				doing := "nothing"
				switch {
				case w.Declines != "":
					doing = "declines: " + w.Declines
				case w.Resting != "":
					doing = "rests: " + w.Resting
				case len(w.Doing) > 0:
					doing = strings.Join(w.Doing, ", ")
				}
				rows = append(rows,
					[]string{show.Clean(w.Worker), show.Clean(w.System), fmt.Sprint(w.Slots),
						map[bool]string{true: "yes", false: "no"}[w.Own], show.Clean(doing)})
			}
			if len(rows) == 0 {
				a.out.Say("No worker is there. Start one: vornix farm worker")
				return nil
			}
			a.out.Table([]string{"worker", "system", "at once", "own steps", "doing"}, rows)
			return nil
		}),
	}
	cmd.Flags().StringVar(&key, "key", "",
		"the `file` with the farm's key (default: that in "+farmVariable+", or the one that 'farm host' keeps here)")
	return cmd
}
