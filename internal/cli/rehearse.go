package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/proof"
)

func (e *env) rehearse() *cobra.Command {
	var opt app.RehearseOptions
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "rehearse SERVER",
		Short: "Start a copy of a server with what is staged, judge it and take it away, whatever the server itself does meanwhile; exit status 1 if it is not proved",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !asJSON {
				opt.OnPhase = func(s string) { fmt.Fprintf(e.out, "%s …\n", s) }
				opt.OnNote = func(s string) { fmt.Fprintln(e.out, s) }
				opt.OnStep = e.progress()
			}
			r, err := e.app.Rehearse(cmd.Context(), args[0], opt)
			if err != nil {
				return err
			}
			if asJSON {
				err = e.json(r)
			} else {
				e.printRehearsal(r)
			}
			if err == nil && r.Proof.Verdict != proof.Proved {
				err = errNo
			}
			return err
		},
	}
	cmd.Flags().StringToStringVar(&opt.Set, "set", nil, "a value or setting that the copy has instead, as `NAME=VALUE`; may be given several times")
	cmd.Flags().DurationVar(&opt.Within, "timeout", 0, "how long the copy may take to become ready; the dialect says when left out")
	cmd.Flags().DurationVar(&opt.Stay, "stay", 0, "how long it has to stay up once it is ready; the dialect says when left out")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func (e *env) printRehearsal(r *app.Rehearsal) {
	e.printProof(r.Proof)
	where := "in a network of its own, in which it could reach nobody"
	if !r.Isolated {
		where = "in the network of this machine"
	}
	if r.Port != "" {
		where += ", on port " + r.Port
	}
	fmt.Fprintf(e.out, "rehearsed on a copy, %s\n", where)
	if len(r.Changes) > 0 {
		fmt.Fprintf(e.out, "with what is staged: %s\n", strings.Join(r.Changes, "; "))
	}
	for _, f := range r.Faults {
		fmt.Fprintf(e.out, "its own look through its startup files finds: %s\n", placed(f))
	}
	switch {
	case r.Against > 0 && len(r.Differs) == 0:
		fmt.Fprintf(e.out, "nothing of note is other than at start %d, the last that was proved\n", r.Against)
	case r.Against > 0:
		fmt.Fprintf(e.out, "other than at start %d, the last that was proved:\n", r.Against)
		for _, d := range r.Differs {
			fmt.Fprintf(e.out, "  %s\n", d)
		}
	}
}
