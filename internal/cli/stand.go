package cli

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/config/profile"
	"vornix/core/game/gameserver"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

func (a *app) standCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "stand server|workshop",
		Short: "Play a game server or a workshop, to test against",
		Example: `  vornix stand server ../servers/kestrel
  vornix stand workshop ../workshop`,
	}
	var listen, profileName, tokenEnv, fail string
	var noWatch bool
	var players int
	var round time.Duration
	server := &cobra.Command{
		Use:   "server DIR",
		Short: "Load the bundles in DIR and answer over HTTP what is loaded",
		Long: `The stand-in does what a game server does in the folder DIR: it opens the bundles where the game looks for them, loads
every map with all it needs, reads the lists, and plays the rotation. It notices what changes in DIR, runs until Ctrl-C, and
writes its address into DIR/stand-server.url.

  GET /status        what is loaded, what is missing and why, what is played, how players fare
  POST /reload       load everything anew
  POST /next         play the next map of the rotation
  POST /fail         go wrong, as {"mode": "load", "map": "..."} says; {"mode": ""} ends it
  GET /files/NAME    a bundle, as players get it
  GET /events        what happened

With --token-env, what changes something wants the token as a bearer token. Ways to go wrong:

` + failures(gameserver.Failures),
		Example: `  vornix stand server ../servers/kestrel
  curl -s $(cat ../servers/kestrel/stand-server.url)/status`,
		Args: between(1, 1, "the server's folder"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			prof, err := a.standProfile(profileName)
			if err != nil {
				return err
			}
			mode, name, _ := strings.Cut(fail, ":")
			o := gameserver.Options{Listen: listen, Watch: !noWatch, Players: players, Round: round,
				Fail: gameserver.Failure{Mode: mode, Map: name}}
			if tokenEnv != "" {
				if o.Token = os.Getenv(tokenEnv); o.Token == "" {
					return &fault.Fault{Kind: fault.Usage, What: "the environment variable " + tokenEnv + " is empty",
						Do: "Set it to the token that clients must send."}
				}
			}
			_, missing := os.Stat(args[0])
			s, err := gameserver.Start(args[0], prof, o)
			if err != nil {
				return err
			}
			if missing != nil {
				a.out.Say("The folder %s did not exist; it was created, and is empty.",
					show.Clean(filepath.ToSlash(args[0])))
			}
			a.out.Say("%s stand-in at %s, playing from %s. Ctrl-C stops it.", prof.Game.Title, s.URL, args[0])
			a.mapTable(s.Status().Maps)
			answer.Result = standAnswer{s.URL, prof.Game.Title}
			a.out.Answer(answer, nil, 0)
			select {
			case <-ctx.Done():
			case <-s.Ended():
			}
			if st := s.Status(); st.Players != nil {
				a.out.Say("%s joined %s and got %s; %s failed", release.Count(st.Players.Count, "player"),
					release.Count(st.Players.Joined, "time"), release.Bytes(st.Players.Loaded),
					release.Count(st.Players.Failed, "join"))
			}
			return s.Close()
		}),
	}
	server.Flags().StringVar(&listen, "listen", "", "`address` to listen on (default: a free port of this machine)")
	server.Flags().StringVar(&profileName, "profile", "", "game profile `name` (default: that of the project here)")
	server.Flags().StringVar(&tokenEnv, "token-env", "", "environment `variable` that holds the token for /reload")
	server.Flags().BoolVar(&noWatch, "no-watch", false, "load anew only when told to")
	server.Flags().IntVar(&players, "players", 0, "simulate this `number` of players, who join again and again")
	server.Flags().DurationVar(&round, "round", 0,
		"play each map of the rotation for this `time`, as in 10m (default: until told otherwise)")
	server.Flags().StringVar(&fail, "fail", "", "go wrong from the beginning: `MODE`, or load:MAP")
	_ = server.RegisterFlagCompletionFunc("fail",
		func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return slices.Sorted(maps.Keys(gameserver.Failures)), cobra.ShellCompDirectiveNoFileComp
		})
	cmd.AddCommand(server, a.standWorkshopCommand())
	return only(cmd)
}

// standProfile is the named profile, or that of the project.
func (a *app) standProfile(name string) (*profile.Profile, error) {
	p, err := a.profileNamed(name)
	if err == nil && p == nil {
		_, err = a.load() // which says that there is no project here
	}
	return p, err
}
