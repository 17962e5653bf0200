package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/differ"
)

func (e *env) differ() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "differ A B",
		Short: "Tell what two servers of one family have otherwise; exit status 1 if there is anything that is not each one's own",
		Args:  args(cobra.ExactArgs(2)),
		RunE: func(_ *cobra.Command, args []string) error {
			list, err := e.app.Differ(args[0], args[1])
			if err != nil {
				return err
			}
			own := 0
			for _, d := range list {
				if d.Own {
					own++
				}
			}
			if asJSON {
				if err := e.json(map[string]any{"a": args[0], "b": args[1], "differences": append([]differ.Difference{}, list...)}); err != nil {
					return err
				}
			} else {
				e.printDifferences(args[0], args[1], list)
			}
			if own < len(list) {
				return errNo
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// printDifferences tells what is otherwise, and apart from that what each server has of its own.
func (e *env) printDifferences(a, b string, list []differ.Difference) {
	fmt.Fprintf(e.out, "%s | %s\n", a, b)
	apart := false
	for i, d := range list {
		if d.Own && !apart {
			if apart = true; i == 0 {
				fmt.Fprintln(e.out, "nothing but what is each one's own:")
			} else {
				fmt.Fprintln(e.out, "each one's own:")
			}
		}
		fmt.Fprintf(e.out, "  %s\n", d)
	}
	switch {
	case len(list) == 0:
		fmt.Fprintln(e.out, "nothing is otherwise")
	case !list[0].Own:
		fmt.Fprintf(e.out, "initium carry %s %s gives %[2]s what %[1]s has, and the other way round\n", a, b)
	}
}

// writeCarried writes down what no plan does, or tells that it will be.
func (e *env) writeCarried(from, to string, c *app.Carried, show, later bool) (err error) {
	var written []string
	switch n := len(c.Rules) + len(c.Expects); {
	case show:
		for _, r := range c.Rules {
			written = append(written, r.String())
		}
		for _, x := range c.Expects {
			written = append(written, "expected: "+x.String())
		}
	case later && n > 0:
		fmt.Fprintf(e.out, "left for afterwards: %s; once it is applied, initium carry %s %s writes that down too\n", count(n, "rule or expectation", "rules and expectations"), from, to)
	case !later:
		written, err = e.app.WriteCarried(to, c)
	}
	for _, said := range written {
		fmt.Fprintf(e.out, "written down: %s\n", said)
	}
	return err
}

func (e *env) own() *cobra.Command {
	var not bool
	cmd := &cobra.Command{
		Use:   "own SERVER SETTING...",
		Short: "Say that a setting is a server's own: differ sets it apart, and carry leaves it as it is",
		Long:  "Keys, passwords, ports, titles and what the dialect knows as a server's own are that already.",
		Args:  args(cobra.MinimumNArgs(2)),
		RunE: func(_ *cobra.Command, args []string) error {
			for _, name := range args[1:] {
				if err := e.app.SetOwn(args[0], name, !not); err != nil {
					return err
				}
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&not, "not", false, "say that it is not")
	return cmd
}

func (e *env) carry() *cobra.Command {
	var show, stage bool
	cmd := &cobra.Command{
		Use:   "carry FROM TO [MOD...]",
		Short: "Give one server what another has: mods with their files and places, and what is set, but never what is its own",
		Long: "It is one plan and one entry of the ledger, on which undo goes back. With names of mods it is about those alone. With --stage it is gathered, and\n" +
			"initium apply TO --prove --or-return makes it, starts the server, and goes back to the last proved state where it is not proved.",
		Example: "  initium carry test live --show\n  initium carry test live tides",
		Args:    args(cobra.MinimumNArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := e.app.PlanCarry(cmd.Context(), args[0], args[1], args[2:])
			if err != nil {
				return err
			}
			switch {
			case c.Nothing():
				fmt.Fprintln(e.out, "nothing to carry: it is so already")
			case len(c.Changes) == 0: // but rules and expectations
			case show:
				err = e.showChange(cmd.Context(), args[1], c.Changes...)
			default:
				if err = e.change(cmd.Context(), args[1], stage, c.Changes...); app.IsSoAlready(err) {
					err = nil
				}
			}
			if err != nil {
				return err
			}
			if err := e.writeCarried(args[0], args[1], c, show, stage && len(c.Changes) > 0); err != nil {
				return err
			}
			for _, l := range c.Left {
				fmt.Fprintf(e.out, "left as it is: %s\n", l)
			}
			if ms, err := e.app.Downtime(args[1]); err == nil && ms > 0 && len(c.Changes) > 0 {
				fmt.Fprintf(e.out, "a start of %s took %s lately; so long nobody can play\n", args[1], (time.Duration(ms) * time.Millisecond).Round(10*time.Millisecond))
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&show, "show", false, "only show what would be written")
	stageFlag(cmd, &stage)
	return cmd
}
