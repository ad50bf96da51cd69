package cli

import (
	"context"
	"os"

	"github.com/spf13/cobra"

	"vornix/core/fault"
	"vornix/core/profile"
	"vornix/core/standin"
	"vornix/internal/cli/show"
)

func (a *app) standCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "stand server",
		Short: "Play a game server, to test against",
		Example: `  vornix stand server ../servers/kestrel
  vornix stand server /tmp/srv --profile burrow-tramways --listen 127.0.0.1:4180`,
	}
	var listen, profileName, tokenEnv string
	server := &cobra.Command{
		Use:   "server DIR",
		Short: "Load the bundles in DIR and answer over HTTP what is loaded",
		Long: `The stand-in does what a game server does when it starts in the folder DIR: it opens the bundles where the game looks
for them, loads every map with all it needs, and reads the lists. It runs until Ctrl-C and writes its address into
DIR/stand-server.url.

  GET /status    what is loaded, what is missing, what is played
  POST /reload   load everything anew (with --token-env: wants the token as a bearer token)`,
		Example: `  vornix stand server ../servers/kestrel
  curl -s $(cat ../servers/kestrel/stand-server.url)/status`,
		Args: between(1, 1, "the server's folder"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			prof, err := a.standProfile(profileName)
			if err != nil {
				return err
			}
			o := standin.Options{Listen: listen}
			if tokenEnv != "" {
				if o.Token = os.Getenv(tokenEnv); o.Token == "" {
					return &fault.Fault{Kind: fault.Usage, What: "the environment variable " + tokenEnv + " is empty", Do: "Set it to the token that clients must send."}
				}
			}
			s, err := standin.Start(args[0], prof, o)
			if err != nil {
				return err
			}
			a.out.Say("%s stand-in at %s, playing from %s. Ctrl-C stops it.", prof.Game.Title, s.URL, args[0])
			a.mapTable(s.Status().Maps)
			answer.Result = map[string]string{"url": s.URL, "game": prof.Game.Title}
			a.out.Answer(answer, nil, 0)
			<-ctx.Done()
			return s.Close()
		}),
	}
	server.Flags().StringVar(&listen, "listen", "", "`address` to listen on (default: a free port of this machine)")
	server.Flags().StringVar(&profileName, "profile", "", "game profile `name` (default: that of the project here)")
	server.Flags().StringVar(&tokenEnv, "token-env", "", "environment `variable` that holds the token for /reload")
	cmd.AddCommand(server)
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
