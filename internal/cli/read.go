package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/dialect"
	"initium/internal/core/proof"
	"initium/internal/core/text"
)

func (e *env) read() *cobra.Command {
	var opt app.ReadOptions
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "read LOG...",
		Short: "Judge a log that somebody sent, packed or not, with no server at all: what loaded, what failed and why",
		Args:  args(cobra.MinimumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			opt.In = e.in
			if opt.Follow && !asJSON {
				opt.OnLine = e.spoken()
			}
			r, err := e.app.Read(cmd.Context(), args, opt)
			if err != nil {
				return err
			}
			if asJSON {
				err = e.json(r)
			} else {
				e.printReading(r)
			}
			if err == nil && r.Proof.Verdict != proof.Proved {
				err = errNo
			}
			return err
		},
	}
	cmd.Flags().StringVar(&opt.Server, "server", "", "whose log it is, so that its mods are known")
	cmd.Flags().StringVar(&opt.Dialect, "dialect", "", "the family that wrote it; found out when left out")
	cmd.Flags().BoolVar(&opt.Follow, "follow", false, "go on as the last log grows, until Ctrl+C")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// spoken prints each line that says something of a mod as it comes.
func (e *env) spoken() func(proof.Line) {
	return func(l proof.Line) {
		if l.Trouble() || l.Means == dialect.MeansLoaded || l.Means == dialect.MeansReady {
			fmt.Fprintf(e.out, "%7d  %s\n", l.Number, text.Clean(l.Text))
		}
	}
}

func (e *env) printReading(r *app.Reading) {
	starts := ""
	if r.Starts > 1 {
		starts = fmt.Sprintf("; %d starts are in it, and the last is judged", r.Starts)
	}
	fmt.Fprintf(e.out, "%s, read as %s%s\n", count(r.Lines, "line", "lines"), r.Dialect, starts)
	e.printProof(r.Proof)
	for _, w := range r.Weak {
		fmt.Fprintln(e.out, w)
	}
	if len(r.Remarks) > 0 {
		fmt.Fprintln(e.out, "what sounds like trouble besides:")
	}
	const most = 25
	for i, m := range r.Remarks {
		if i == most {
			fmt.Fprintf(e.out, "  and %d more (--json lists all)\n", len(r.Remarks)-most)
			break
		}
		who := ""
		if m.Mod != "" {
			who = fmt.Sprintf("  (%s, by %s)", m.Mod, m.Sure)
		}
		times := ""
		if m.Count > 1 {
			times = fmt.Sprintf(", %s", count(m.Count, "time", "times"))
		}
		fmt.Fprintf(e.out, "  line %d%s: %s%s\n", m.Line, times, text.Clean(m.Text), who)
	}
}
