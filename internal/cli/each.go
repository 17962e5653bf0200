package cli

import (
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
			wide, last := 0, ""
			for _, name := range servers {
				wide = max(wide, len(name))
			}
			phase := func(server, words string) {
				if now := server + words; now != last && !asJSON && strings.HasPrefix(words, "start it at ") {
					last = now
					fmt.Fprintf(e.out, "%-*s  %s\n", wide, server, words)
				}
			}
			done, err := e.app.Several(cmd.Context(), act, servers, phase, func(f app.Fared) {
				if !asJSON {
					fmt.Fprintf(e.out, "%-*s  %s\n", wide, f.Server, f.Words)
				}
			})
			if err != nil {
				return err
			}
			good := len(done) == len(servers)
			for _, f := range done {
				good = good && (f.Good || f.Passed)
			}
			left := servers[len(done):]
			if asJSON {
				if err := e.json(map[string]any{"act": act, "servers": done, "left": append([]string{}, left...)}); err != nil {
					return err
				}
			} else if len(left) > 0 {
				fmt.Fprintf(e.out, "left as they are: %s\n", strings.Join(left, ", "))
			}
			if !good {
				return errNo
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}
