package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"

	"vornix/internal/cli/show"
)

func (a *app) unlockCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "unlock TARGET",
		Short: "Break the lock of a run that has ended without letting go of a target",
		Long: `A target is locked while something is deployed to it. A run of this machine that was killed is noticed by the next one;
one of another machine is not. Unlock shows who holds the target, and breaks the lock when told. Should that run live all the
same, it notices before it changes anything.`,
		Example: `  vornix deploy unlock practice
  vornix deploy unlock practice --yes`,
		Args:              between(1, 1, "the name of one target"),
		ValidArgsFunction: a.completeTargets,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			_, t, err := a.oneTarget(ctx, args[0])
			if err != nil {
				return err
			}
			defer t.Close()
			h, err := t.Locked(ctx)
			if err != nil {
				return err
			}
			answer.Result = lockAnswer{t.Name, h}
			if h == nil {
				a.out.Say("Nobody holds %s.", t.Name)
				return nil
			}
			a.out.Say("%s is held by %s: '%s', process %d, since %s; last sign of life %s ago.", t.Name,
				show.Clean(h.By), show.Clean(h.Command), h.PID, h.Since.Local().Format("2006-01-02 15:04:05"),
				h.Quiet.Round(time.Second))
			if err := a.confirm(ctx, "Break the lock?"); err != nil {
				return err
			}
			if err := t.Unlock(ctx, h); err != nil {
				return err
			}
			a.out.Say("The lock is broken. What that run left half done is undone by the next deployment.")
			return nil
		}),
	}
	cmd.Flags().BoolVar(&a.yes, "yes", false, "break it without asking")
	return cmd
}
