package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/text"
)

func (e *env) begin() *cobra.Command {
	var b app.Beginning
	var sets []string
	var show bool
	cmd := &cobra.Command{
		Use:   "new DIR",
		Short: "Begin a server in an empty folder: its program and data from archives, the files it begins with, a port of its own",
		Long: "What a server of a family consists of, its dialect says ([[part]]). Builds are laid in folders named by their version, mods are taken in, and each is looked\n" +
			"into first. All is one entry of the ledger. Afterwards it is told what still has to be said before the first start: keys, placeholders, settings.",
		Example: "  initium new fair --dialect cogwheel-fair --from engine-4.zip --from rides.zip\n  initium new sound --dialect harrow-sound --set licence=… --set title='Evening sound'",
		Args:    args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			set, err := assignments(sets)
			if err != nil {
				return err
			}
			if b.Dialect == "" {
				return fmt.Errorf("%w: say of which family it is, with --dialect (initium dialect list)", errArgs)
			}
			b.Dir, b.Set = args[0], set
			progress, end := e.copying()
			made, err := e.app.NewServer(cmd.Context(), b, show, progress)
			end()
			if err != nil {
				return err
			}
			verb := "made"
			if show {
				verb = "would make"
			}
			fmt.Fprintf(e.out, "%s %s in %s (%s)\n", verb, made.Server, text.Clean(made.Dir), made.Family)
			e.printPlan(made.Dir, made.Plan)
			for _, c := range made.Then {
				fmt.Fprintf(e.out, "then, over that: %s\n", c)
			}
			e.beforeFirst(made)
			return nil
		},
	}
	cmd.Flags().StringVar(&b.Dialect, "dialect", "", "the family of the server")
	cmd.Flags().StringVar(&b.As, "as", "", "the name to call it by; the folder's name when left out")
	cmd.Flags().StringArrayVar(&b.From, "from", nil, "an archive or a folder with its program, its data or mods; may be repeated")
	cmd.Flags().StringArrayVar(&sets, "set", nil, "a value that the family asks for, or a setting of its startup file, as KEY=VALUE; may be repeated")
	cmd.Flags().BoolVar(&show, "show", false, "only show what would be made")
	return cmd
}

// beforeFirst tells what has to be done before the first start.
func (e *env) beforeFirst(made *app.Begun) {
	first := true
	for _, f := range made.Findings {
		if f.Severity == check.Note && f.Code != check.CodeVersionUnknown {
			continue
		}
		if first {
			fmt.Fprintln(e.out, "\nbefore the first start:")
			first = false
		}
		fmt.Fprintf(e.out, "  %-8s %s\n", f.Severity, text.Clean(f.Message))
		if f.Remedy != "" {
			fmt.Fprintf(e.out, "           %s\n", text.Clean(f.Remedy))
		}
	}
	if first {
		fmt.Fprintf(e.out, "\nnothing stands in the way of its first start: initium prove %s\n", made.Server)
	}
}
