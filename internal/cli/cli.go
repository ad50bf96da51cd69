// Package cli is the command layer: flags in, core called, results shown. One file a command.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"runtime/pprof"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"vornix/core/base/fault"
	"vornix/core/base/group"
	"vornix/core/base/safefile"
	"vornix/core/base/suggest"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/game/gameserver"
	"vornix/core/make/assembly"
	"vornix/core/pack/bundle"
	"vornix/core/pack/installer"
	"vornix/core/release"
	"vornix/core/source/assetgraph"
	"vornix/demo"
	"vornix/internal/cli/show"
)

// exitInterrupted is the exit code after Ctrl-C, as shells expect it.
const exitInterrupted = 130

// app is one run of the program.
type app struct {
	out        *show.Out
	projectDir string
	jobs       int
	yes        bool
	in         *bufio.Reader // what somebody types; nil until it is read
	cpuProfile string        // to make Vornix faster
	memProfile string
	format     string            // of findings, where the command has --format
	typed      map[string]string // secrets that were asked for, by question; guarded by asking
	inProject  bool
	command    atomic.Value // string: the one that runs, without the program's name
	ending     atomic.Bool  // the end was reported: by the command, or by endSoon
}

// handled marks an error that has been shown.
type handled struct {
	err  error
	exit int
}

func (h handled) Error() string { return h.err.Error() }

// softMemory is from where on memory is collected eagerly. Images are large and soon done with; left to itself the
// collector would let as much again lie about. GOMEMLIMIT overrides it.
const softMemory = 256 << 20

var (
	growing sync.Mutex
	limit   = int64(softMemory)
)

// grow lets work that really needs more memory have it: else it would be collected again and again without finding any.
func grow(bytes int64) {
	growing.Lock()
	defer growing.Unlock()
	if more := softMemory + 2*bytes; more > limit && os.Getenv("GOMEMLIMIT") == "" {
		limit = more
		debug.SetMemoryLimit(limit)
	}
}

// Main runs the program with its arguments and returns the exit code.
func Main(args []string) int {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(softMemory)
	}
	a := &app{out: show.New(os.Stdout, os.Stderr, os.Getenv)}
	root := a.root(args...)
	if exe, err := os.Executable(); err == nil {
		carried, err := installer.Open(exe)
		if err != nil {
			a.out.Error(err)
			return fault.KindOf(err).ExitCode()
		}
		if carried != nil {
			defer carried.Close()
			root = a.installerRoot(carried)
		}
	}
	root.SetArgs(args)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // a second Ctrl-C ends the program at once
	ended := make(chan struct{})
	defer close(ended)
	context.AfterFunc(ctx, func() { a.endSoon(ended) })
	err := root.ExecuteContext(ctx)
	if err == nil {
		return 0
	}
	var h handled
	if errors.As(err, &h) {
		return h.exit
	}
	// What Cobra refuses by itself: an unknown command or flag, too many arguments.
	what, do, _ := strings.Cut(excluding(err.Error()), "\n\n")
	f := &fault.Fault{Kind: fault.Usage, What: what, Do: strings.Join(strings.Fields(do), " ")}
	if f.Do == "" {
		f.Do = "See: vornix --help"
	}
	for _, arg := range args { // flags were not read, so --json has to be looked for
		a.out.JSON = a.out.JSON || arg == "--json"
	}
	if a.out.JSON {
		a.out.Answer(&show.Answer{Command: "vornix"}, f, fault.Usage.ExitCode())
	} else {
		a.out.Error(f)
	}
	return fault.Usage.ExitCode()
}

// patience is how long an interrupted command may take to end by itself.
const patience = 900 * time.Millisecond

// endSoon ends the program when a command does not heed an interrupt in time: a system call may be
// stuck, or a server. All that is written is safe from a kill at any moment, and the next run
// clears up after it.
func (a *app) endSoon(ended <-chan struct{}) {
	select {
	case <-ended:
		return
	case <-time.After(patience):
	}
	if !a.ending.CompareAndSwap(false, true) {
		return // the command is just saying how it ended
	}
	err := &fault.Fault{What: "interrupted",
		Why: "The command did not end in time and was stopped. What was finished is kept.",
		Do:  "Run the same command again: it first clears up what was half done."}
	command, _ := a.command.Load().(string)
	if a.out.JSON {
		a.out.Answer(&show.Answer{Command: command}, err, exitInterrupted)
	} else {
		a.out.NewLine()
		a.out.Error(err)
	}
	os.Exit(exitInterrupted)
}

// excluding says in Vornix's words that two flags can't be given together.
func excluding(message string) string {
	_, both, found := strings.Cut(message, "none of the others can be; [")
	if !strings.HasPrefix(message, "if any flags in the group [") || !found {
		return message
	}
	names := strings.Fields(strings.TrimSuffix(both, "] were all set"))
	return "--" + strings.Join(names, " and --") + " exclude each other\n\nGive one of them."
}

const longHelp = `Vornix takes a folder of map sources, textures and sounds to a release that players can load: it checks, compiles,
packs, tries the packed result alone, writes metadata and the version index, and deploys to servers.

A project is a folder with a vornix.toml; a game profile describes the game. Begin with 'vornix demo'.`

// command is one of the program's, which is made when it is asked for: to make them all takes half
// a millisecond of the five that a start takes.
type command struct {
	group, name string
	make        func() *cobra.Command
}

// commands lists every command, in the order of the work.
func (a *app) commands() []command {
	return []command{
		{"start", "demo", a.demoCommand}, {"start", "new", a.newCommand}, {"start", "man", a.manCommand},
		{"make", "check", a.checkCommand}, {"make", "build", a.buildCommand}, {"make", "shoot", a.shootCommand},
		{"make", "pack", a.packCommand}, {"make", "try", a.tryCommand},
		{"make", "sweep", a.sweepCommand}, {"make", "restore", a.restoreCommand}, {"make", "trust", a.trustCommand},
		{"make", "farm", a.farmCommand},
		{"ship", "addon", a.addonCommand}, {"ship", "patch", a.patchCommand}, {"ship", "index", a.indexCommand},
		{"ship", "deploy", a.deployCommand}, {"ship", "publish", a.publishCommand},
		{"ship", "release", a.releaseCommand}, {"ship", "status", a.statusCommand},
		{"ship", "history", a.versionsCommand}, {"ship", "handover", a.handoverCommand}, {"ship", "key", a.keyCommand},
		{"ship", "fetch", a.fetchCommand},
		{"look", "explain", a.explainCommand}, {"look", "inspect", a.inspectCommand}, {"look", "diff", a.diffCommand},
		{"look", "needs", a.needsCommand}, {"look", "extract", a.extractCommand},
		{"look", "salvage", a.salvageCommand}, {"look", "map", a.mapCommand}, {"look", "texture", a.textureCommand},
		{"look", "sprite", a.spriteCommand}, {"look", "delta", a.deltaCommand},
		{"look", "scale", a.scaleCommand}, {"look", "fmt", a.fmtCommand},
		{"stand", "stand", a.standCommand},
	}
}

// root is the program's command line; of commands that are named first in args it has only that one.
func (a *app) root(args ...string) *cobra.Command {
	root := &cobra.Command{
		Use:           "vornix",
		Short:         "From map sources to a server that plays the map",
		Long:          longHelp,
		Version:       Version(),
		SilenceErrors: true,
		SilenceUsage:  true,
		Example: `  vornix demo
  vornix new my_maps --profile kestrel-post && cd my_maps && vornix release --yes`,
	}
	root.SetVersionTemplate("{{.Version}}\n")
	flags := root.PersistentFlags()
	flags.StringVar(&a.projectDir, "project", "", "the project's `folder` (default: the nearest one at or above here)")
	flags.BoolVar(&a.out.JSON, "json", false, "print one JSON object and nothing else on standard output")
	flags.BoolVar(&a.out.Quiet, "quiet", false, "print errors only")
	flags.BoolVar(&a.out.Verbose, "verbose", false, "list everything, however long")
	flags.IntVar(&a.jobs, "jobs", 0, "run this `number` of jobs at once (default: one a processor)")
	flags.StringVar(&a.cpuProfile, "cpu-profile", "", "write a profile of the processors to this `file`")
	flags.StringVar(&a.memProfile, "memory-profile", "",
		"write a profile of all that was allocated, and of what is in use at the end, to this `file`")
	_, _ = flags.MarkHidden("cpu-profile"), flags.MarkHidden("memory-profile") // they exist
	root.SetFlagErrorFunc(suggestFlag)
	root.AddGroup(&cobra.Group{ID: "start", Title: "Start:"}, &cobra.Group{ID: "make", Title: "Make:"},
		&cobra.Group{ID: "ship", Title: "Ship:"},
		&cobra.Group{ID: "look", Title: "Look:"}, &cobra.Group{ID: "stand", Title: "Stand-ins:"})
	cobra.EnableCommandSorting = false // they stand in the order of the work
	root.SetHelpCommandGroupID("start")
	root.SetCompletionCommandGroupID("start")
	var only string
	if len(args) > 0 &&
		(args[0] == "--version" ||
			slices.ContainsFunc(a.commands(), func(c command) bool { return c.name == args[0] })) {
		only = args[0]
	}
	for _, c := range a.commands() {
		if only == "" || c.name == only {
			cmd := c.make()
			cmd.GroupID = c.group
			root.AddCommand(cmd)
		}
	}
	if only != "" {
		root.CompletionOptions.DisableDefaultCmd = true
		return root
	}
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	for _, c := range root.Commands() { // what Cobra brings along, in Vornix's words
		switch c.Name() {
		case "help":
			c.Short = "Say more about a command"
		case "completion":
			c.Short = "What a shell needs to complete commands, maps, targets, versions and findings"
		}
	}
	return root
}

// suggestFlag adds the flag that was probably meant.
func suggestFlag(cmd *cobra.Command, err error) error {
	got, unknown := strings.CutPrefix(err.Error(), "unknown flag: --")
	if !unknown {
		return err
	}
	var known []string
	cmd.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, f.Name) })
	if near := suggest.Word(got, known); near != "" {
		return fmt.Errorf("%w\n\nDid you mean --%s?", err, near)
	}
	return fmt.Errorf("%w\n\nSee: %s --help", err, cmd.CommandPath())
}

// run wraps a command's work: it shows what comes of it and turns the error into an exit code.
func (a *app) run(work func(ctx context.Context, answer *show.Answer, args []string) error) func(*cobra.Command,
	[]string) error {
	return func(cmd *cobra.Command, args []string) error {
		answer := &show.Answer{Command: strings.TrimPrefix(cmd.CommandPath(), "vornix ")}
		a.command.Store(answer.Command)
		err := error(nil)
		if a.jobs < 0 {
			err = &fault.Fault{Kind: fault.Usage, What: "--jobs must be a number from 1",
				Do: "Leave it out to use every processor."}
		} else {
			err = a.formatted(cmd.Annotations["formats"])
		}
		if err == nil {
			err = a.profiled(func() error { return guarded(func() error { return work(cmd.Context(), answer, args) }) })
		}
		if !a.ending.CompareAndSwap(false, true) {
			select {} // endSoon says how it ended, and ends the program
		}
		exit := 0
		if err != nil {
			exit = fault.KindOf(err).ExitCode()
			if cmd.Context().Err() != nil {
				exit = exitInterrupted
				err = &fault.Fault{What: "interrupted", Why: "Nothing is half written; what was finished is kept.",
					Do: "Run the same command again to go on."}
			}
		}
		var f *fault.Fault
		if a.inProject && safefile.IsDiskFull(err) && errors.As(err, &f) {
			f.Do += " In the project, out/ and .vornix/cache can be deleted: a build restores them."
		}
		switch {
		case a.format == show.SARIFFormat:
			_ = show.SARIF(a.out.Stdout, Version(), answer, err) // a closed standard output can't be told to anybody
		case a.format == show.JUnitFormat:
			maps, _ := answer.Result.([]gameserver.MapStatus)
			_ = show.JUnit(a.out.Stdout, maps, answer, err)
		case a.out.JSON:
			a.out.Answer(answer, err, exit)
		}
		if err != nil && !a.out.JSON {
			a.out.Error(err)
		}
		if err != nil {
			return handled{err, exit}
		}
		return nil
	}
}

// addFormat adds the flag that chooses the form of findings and results.
func (a *app) addFormat(cmd *cobra.Command, formats ...string) {
	cmd.Flags().StringVar(&a.format, "format", "",
		"print findings in this `form` on standard output: text, "+strings.Join(formats, ", "))
	formats = append([]string{show.TextFormat}, formats...)
	cmd.Annotations = map[string]string{"formats": strings.Join(formats, ", ")}
	_ = cmd.RegisterFlagCompletionFunc("format", fixed(formats)) // it exists
}

// formatted looks at --format. With another form than text, nothing else goes to standard output.
func (a *app) formatted(formats string) error {
	if a.format == "" || a.format == show.TextFormat && !a.out.JSON {
		return nil
	}
	f := &fault.Fault{Kind: fault.Usage, Do: "Choose one of " + formats + "."}
	switch {
	case !slices.Contains(strings.Split(formats, ", "), a.format):
		f.What, a.format = fmt.Sprintf("%q is not a known form", a.format), ""
		return f
	case a.out.JSON:
		f.What, f.Do, a.format = "--json and --format exclude each other", "Give one of them.", ""
		return f
	}
	a.out.Quiet = true
	return nil
}

// guarded is the last guard: a fault of the program's own ends in an error that says so and how to
// report it, and not in a page for programmers. What was being written is beside its place and is
// cleared away by the next run, as after any other end.
func guarded(work func() error) (err error) {
	defer func() {
		r := recover()
		if r == nil {
			return
		}
		f := &fault.Fault{What: "a fault in Vornix itself: " + strings.TrimPrefix(fmt.Sprint(r), "runtime error: "),
			Why: "The command could not finish. Nothing is half written.",
			Do:  "Please tell Vornix's authors, with the command and, if you can, the file that it read."}
		stack := debug.Stack()
		if p, ok := r.(*group.Panic); ok {
			stack = p.Stack
		}
		if file, writeErr := writeTrace(r, stack); writeErr == nil {
			f.Do = "Please send Vornix's authors " + file +
				", which says where it happened, with the command and, if you can, the file that it read."
		}
		err = f
	}()
	return work()
}

// writeTrace writes down where a fault happened, in the system's folder of temporary files.
func writeTrace(what any, stack []byte) (string, error) {
	d, err := safefile.OpenDir(os.TempDir())
	if err != nil {
		return "", err
	}
	defer d.Close()
	name := fmt.Sprintf("vornix-fault-%d-%d.txt", os.Getpid(), time.Now().UnixNano())
	return filepath.ToSlash(d.Join(name)),
		d.WritePrivate(name, fmt.Appendf(nil, "%s\n%v\n\n%s", Version(), what, stack))
}

// profiled runs work, and writes down with --cpu-profile what the processors do meanwhile, and with
// --memory-profile what was allocated where.
func (a *app) profiled(work func() error) error {
	if a.memProfile != "" {
		whole := work
		work = func() error {
			err := whole()
			runtime.GC() // what is in use is counted by the last collection
			return errors.Join(err,
				writeProfile(a.memProfile, func(f io.Writer) error { return pprof.Lookup("allocs").WriteTo(f, 0) }))
		}
	}
	if a.cpuProfile == "" {
		return work()
	}
	var worked error
	return errors.Join(writeProfile(a.cpuProfile, func(f io.Writer) error {
		if err := pprof.StartCPUProfile(f); err != nil {
			return err
		}
		worked = work()
		pprof.StopCPUProfile()
		return nil
	}), worked)
}

// writeProfile writes a profile into a file.
func writeProfile(name string, write func(io.Writer) error) error {
	out, err := createOut(name, true)
	if err != nil {
		return err
	}
	defer out.close()
	if err := write(out); err != nil {
		return err
	}
	return out.CommitCache()
}

// dir is the project's folder: the one that was named, or the nearest at or above here.
func (a *app) dir() (string, error) {
	if a.projectDir != "" {
		return a.projectDir, nil
	}
	return project.Find(".")
}

// load finds and reads the project.
func (a *app) load() (*project.Project, error) {
	dir, err := a.dir()
	if err != nil {
		return nil, err
	}
	a.inProject = true
	return project.Load(dir, demo.Profiles())
}

// scanned loads the project and reads its maps and materials.
func (a *app) scanned(ctx context.Context) (*project.Project, *assetgraph.Graph, error) {
	p, err := a.load()
	if err != nil {
		return nil, nil, err
	}
	g, err := assetgraph.ScanProject(ctx, p)
	return p, g, err
}

func (a *app) options() release.Options {
	help := a.farming() // before anybody asks how many jobs there are
	return release.Options{Workers: a.jobs, Progress: a.out.Progress(), Program: programID(), Access: a.access(),
		Publish: a.publishing(), Own: a.own(), Sharing: sharing(), Farming: help, Stages: assembly.Stages{Grows: grow}}
}

// loadReaching loads the project for a command that reaches targets. Those in Git repositories
// leave a clone in the state folder: a new one is this machine's own.
func (a *app) loadReaching() (*project.Project, error) {
	p, err := a.load()
	if err != nil {
		return nil, err
	}
	clones := false
	for _, t := range p.File.Targets {
		clones = clones || t.Kind == "git" && t.URL != ""
	}
	if _, err := os.Lstat(p.State()); !clones || !errors.Is(err, fs.ErrNotExist) {
		return p, nil
	}
	if s, err := states(); err == nil {
		_, _ = s.Adopt(p) // otherwise the next command removes what this one remembers
	}
	return p, nil
}

// session loads and locks the project.
func (a *app) session(command string, change func(*release.Options)) (*release.Session, error) {
	p, err := a.load()
	if err != nil {
		return nil, err
	}
	o := a.options()
	if change != nil {
		change(&o)
	}
	return a.opened(p, "vornix "+command, o)
}

// stateVariable makes a project's state folder count as this machine's own, as continuous
// integration wants that restores it.
const stateVariable = "VORNIX_STATE"

// opened locks a project, and sees to it that nothing is used that another machine left in its state folder.
func (a *app) opened(p *project.Project, command string, o release.Options) (*release.Session, error) {
	s, err := release.Open(p, command, o)
	if err != nil || os.Getenv(stateVariable) == "any" {
		return s, err
	}
	states, err := states()
	if err != nil {
		return s, nil // there is no place to remember anything
	}
	foreign, err := states.Adopt(p)
	if err != nil {
		s.Close()
		return nil, err
	}
	if foreign && !a.out.Quiet {
		fmt.Fprintf(a.out.Stderr,
			"The build cache in %s was not written on this machine, so it was removed. (%s=any would have kept it.)\n",
			show.Clean(filepath.ToSlash(p.State())), stateVariable)
	}
	return s, nil
}

// states knows which state folders are this machine's own.
func states() (trust.States, error) {
	store, err := trusting()
	if err != nil {
		return trust.States{}, err
	}
	return trust.States{File: filepath.Join(filepath.Dir(store.File), "states")}, nil
}

// ready gives the bundles that may go out as the project's version. Bundles that another machine
// packed, or a stranger, do not count.
func (a *app) ready(ctx context.Context, p *project.Project) ([]bundle.Bundle, error) {
	if s, err := states(); err == nil && os.Getenv(stateVariable) != "any" {
		foreign, err := s.Foreign(p)
		if err != nil {
			return nil, err
		}
		if _, packed := bundle.Packed(p); foreign && packed == nil {
			return nil, &fault.Fault{Kind: fault.Refused, What: "nothing was packed on this machine",
				Place: fault.Place{File: filepath.ToSlash(p.Join(bundle.Dir))},
				Why:   "Bundles from elsewhere may hold anything.", Do: "Run 'vornix pack' first."}
		}
	}
	return release.Ready(ctx, p, a.options())
}

// step shows a step and adds it to the answer; it passes the error on.
func (a *app) step(answer *show.Answer, s *release.Step, err error) error {
	if s != nil {
		answer.Steps = append(answer.Steps, *s)
		a.out.Step(*s)
	}
	return err
}

// asks says whether somebody is there to be asked.
func (a *app) asks() bool {
	return !a.out.JSON && a.out.Terminal && term.IsTerminal(int(os.Stdin.Fd()))
}

// ask asks for a line; an empty one is what otherwise says.
func (a *app) ask(ctx context.Context, question, otherwise string) (string, error) {
	if otherwise != "" {
		question += " (" + otherwise + ")"
	}
	fmt.Fprintf(a.out.Stderr, "%s: ", question)
	line, err := a.line(ctx)
	return first(line, otherwise), err
}

// line is what somebody types.
func (a *app) line(ctx context.Context) (string, error) {
	if a.in == nil {
		a.in = bufio.NewReader(os.Stdin)
	}
	typed := make(chan string, 1)
	go func() { // reading can't be interrupted; it ends with the program
		line, _ := a.in.ReadString('\n')
		typed <- strings.TrimSpace(line)
	}()
	select {
	case <-ctx.Done():
		return "", ctx.Err()
	case line := <-typed:
		return line, nil
	}
}

// confirm asks before something outward or destructive happens. The plan has been shown.
func (a *app) confirm(ctx context.Context, question string) error {
	if a.yes {
		return nil
	}
	if !a.asks() {
		return &fault.Fault{Kind: fault.Usage, What: "nothing was done: this needs a yes",
			Why: "There is no terminal to ask at.", Do: "Add --yes to do it, or --plan to see it only."}
	}
	fmt.Fprintf(a.out.Stderr, "%s [y/N] ", question)
	line, err := a.line(ctx)
	if err != nil {
		return err
	}
	if line = strings.ToLower(line); line == "y" || line == "yes" {
		return nil
	}
	return &fault.Fault{Kind: fault.Refused, What: "nothing was done"}
}

// only makes a command one that does nothing itself: without one of its subcommands it is a wrong use.
func only(cmd *cobra.Command) *cobra.Command {
	cmd.Args = cobra.ArbitraryArgs
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		var known []string
		for _, c := range cmd.Commands() {
			if c.IsAvailableCommand() {
				known = append(known, c.Name())
			}
		}
		if len(args) == 0 {
			return fmt.Errorf("'%s' needs one word more\n\nIt takes: %s", cmd.CommandPath(),
				strings.Join(known, " or "))
		}
		if near := suggest.Word(args[0], known); near != "" {
			return fmt.Errorf("unknown command %q for %q\n\nDid you mean %s?", args[0], cmd.CommandPath(), near)
		}
		return fmt.Errorf("unknown command %q for %q\n\nIt takes: %s", args[0], cmd.CommandPath(),
			strings.Join(known, " or "))
	}
	return cmd
}

// inProject turns a path as it was typed, which counts from where one stands, into one that counts from the project's
// folder. What is no file there stays as it is: it may be a name.
func inProject(p *project.Project, typed string) string {
	abs, err := filepath.Abs(typed)
	if err != nil {
		return typed
	}
	if _, err := os.Stat(abs); err != nil {
		return typed
	}
	root, err := filepath.Abs(p.Dir)
	if err != nil {
		return typed
	}
	rel, err := filepath.Rel(root, abs)
	if err != nil || rel == ".." || strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
		return typed
	}
	return filepath.ToSlash(rel)
}

// noArgs, and some, refuse arguments in Vornix's words.
func noArgs(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		return fmt.Errorf("'%s' takes no argument, and there is %q\n\nSee: %s --help", cmd.CommandPath(), args[0],
			cmd.CommandPath())
	}
	return nil
}

func between(low, high int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < low || high >= 0 && len(args) > high {
			return fmt.Errorf("'%s' takes %s\n\nSee: %s --help", cmd.CommandPath(), what, cmd.CommandPath())
		}
		return nil
	}
}

// defaultSystem names the system for --version.
func defaultSystem() string { return runtime.GOOS + "/" + runtime.GOARCH }
