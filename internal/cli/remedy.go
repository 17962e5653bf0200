package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	"initium/internal/core/remedy"
)

func (e *env) remedy() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "remedy SERVER [MOD [NUMBER]]",
		Short: "Tell what would mend what the last start did not confirm; with a number, stage it to be planned and applied",
		Args:  args(cobra.RangeArgs(1, 3)),
		RunE: func(cmd *cobra.Command, args []string) error {
			mends, err := e.app.RemediesOf(args[0])
			if err != nil {
				return err
			}
			list := mends.ByMod
			if len(args) == 3 {
				return e.stageRemedy(cmd, args[0], list[args[1]], args[2])
			}
			if asJSON {
				if len(args) > 1 {
					return e.json(orEmpty(list[args[1]]))
				}
				return e.json(list)
			}
			e.printMends(args[0], mends, args[1:])
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// printMends lists what would mend what a start did not confirm: of all mods, or of one.
func (e *env) printMends(server string, mends *app.Mends, only []string) {
	about := func(mod, words string) {
		list := mends.ByMod[mod]
		if len(list) == 0 || len(only) > 0 && mod != only[0] {
			return
		}
		fmt.Fprintf(e.out, "%s: %s\n", mod, words)
		for n, r := range list {
			fmt.Fprintf(e.out, "  %d  %s%s\n", n+1, r.Text, howTo(server, &r))
		}
	}
	last := mends.Last
	for i := range last.Mods {
		m := &last.Mods[i]
		about(m.Name, fmt.Sprintf("%s, %s", m.Outcome, m.Reason))
	}
	for _, gone := range last.Gone {
		about(gone.Mod, fmt.Sprintf("gone since start %d was proved; %s", gone.Start, gone.Why))
	}
	switch {
	case len(mends.ByMod) > 0:
	case last.Verdict == proof.Proved:
		fmt.Fprintf(e.out, "nothing to mend: start %d was proved\n", last.Number)
	case mends.Changed:
		fmt.Fprintf(e.out, "the line-up is another one by now than at start %d, which was not proved: start it once more (initium prove %s)\n", last.Number, server)
	default:
		fmt.Fprintf(e.out, "start %d was not proved, because %s; no change is known that would mend that\n", last.Number, last.Reason)
	}
}

// howTo says how a remedy is carried out that is not staged.
func howTo(server string, r *remedy.Remedy) string {
	switch {
	case r.Back:
		return fmt.Sprintf("   (initium undo %s --proved)", server)
	case len(r.Changes) == 0:
		return "   (by hand)"
	}
	return ""
}

// stageRemedy stages one remedy.
func (e *env) stageRemedy(cmd *cobra.Command, server string, list []remedy.Remedy, number string) error {
	var n int
	if _, err := fmt.Sscan(number, &n); err != nil || n < 1 || n > len(list) {
		return fmt.Errorf("%w: there is no remedy %s; there are %d", errArgs, number, len(list))
	}
	r := list[n-1]
	if len(r.Changes) == 0 {
		return fmt.Errorf("%w: this is not a change to stage: %s%s", errArgs, r.Text, howTo(server, &r))
	}
	if _, err := e.app.Stage(cmd.Context(), server, r.Changes...); err != nil {
		return err
	}
	words := make([]string, len(r.Changes))
	for i, c := range r.Changes {
		words[i] = lineup.Change.String(c)
	}
	fmt.Fprintf(e.out, "staged: %s; initium plan %s shows it, initium apply %s writes it\n", strings.Join(words, ", then "), server, server)
	return nil
}
