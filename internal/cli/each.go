package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"initium/internal/app"
)

func (e *env) each() *cobra.Command {
	var asJSON bool
	acts := app.Acts()
	cmd := &cobra.Command{
		Use:   "each (check | rehearse | prove | apply) [SERVER...]",
		Short: "Do the same to several servers, or to all, one after the other; exit status 1 if one is not good",
		Long: "All but check stops at the first server that is not proved; those after it are left as they are. prove starts each and stops it again; of one that\n" +
			"runs already it tells how its start was judged. apply makes what is staged, starts the server and proves it, or goes back.",
		Example: "  initium each check\n  initium each apply test live-1 live-2",
		Args:    args(cobra.MinimumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			act := app.Act(args[0])
			if !slices.Contains(acts, act) {
				return fmt.Errorf("%w: %q is not one of check, rehearse, prove, apply", errArgs, args[0])
			}
			servers := args[1:]
			if len(servers) == 0 {
				var err error
				if servers, err = e.app.Home.Servers(); err != nil {
					return err
				}
			}
			return e.through(cmd.Context(), act, servers, asJSON)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// through goes through servers and tells how each fares.
func (e *env) through(ctx context.Context, act app.Act, servers []string, asJSON bool) error {
	wide, last := 0, ""
	for _, name := range servers {
		wide = max(wide, len(name))
	}
	tell := func(server, words string) {
		if now := server + words; !asJSON && now != last {
			last = now
			fmt.Fprintf(e.out, "%-*s  %s\n", wide, server, words)
		}
	}
	phase := func(server, words string) {
		if strings.HasPrefix(words, "start it at ") { // which nobody else does
			tell(server, words)
		}
	}
	done, err := e.app.Several(ctx, act, servers, phase, func(f app.Fared) { tell(f.Server, f.Words) })
	if err != nil {
		return err
	}
	left := servers[len(done):]
	if asJSON {
		err = e.json(map[string]any{"act": act, "servers": done, "left": append([]string{}, left...)})
	} else if len(left) > 0 {
		fmt.Fprintf(e.out, "left as they are: %s\n", strings.Join(left, ", "))
	}
	if err == nil && (len(left) > 0 || slices.ContainsFunc(done, func(f app.Fared) bool { return !f.Good && !f.Passed })) {
		err = errNo
	}
	return err
}
