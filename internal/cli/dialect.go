package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"initium/internal/core/dialect"
	"initium/internal/core/text"
)

func (e *env) dialect() *cobra.Command {
	cmd := &cobra.Command{Use: "dialect", Short: "List, show and check dialects: what Initium knows of a family of servers"}
	cmd.AddCommand(&cobra.Command{
		Use:   "list",
		Short: "List the dialects, yours and those that ship with Initium",
		Args:  args(cobra.NoArgs),
		RunE: func(*cobra.Command, []string) error {
			list, err := e.app.Dialects()
			if err != nil {
				return err
			}
			return e.table(func(w io.Writer) {
				for _, d := range list {
					from, about := "ships with Initium", ""
					if d.Own {
						from = d.File
					}
					if d.Err != nil {
						about = "has faults: initium dialect check " + d.File
					} else {
						about = text.Clean(d.Dialect.About)
					}
					fmt.Fprintf(w, "%s\t%s\t%s\n", text.Clean(d.Name), text.Clean(from), about)
				}
			})
		},
	}, &cobra.Command{
		Use:   "show NAME",
		Short: "Print a dialect, for instance to begin one of your own with it",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(_ *cobra.Command, args []string) error {
			d, err := e.app.Dialect(args[0])
			if err != nil {
				return err
			}
			_, err = e.out.Write(d.Data)
			return err
		},
	}, &cobra.Command{
		Use:   "check FILE | NAME",
		Short: "Read a dialect and say what is wrong with it, by line and key",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			d, err := e.app.CheckDialect(args[0])
			if problems, ok := err.(dialect.Problems); ok {
				for _, p := range problems {
					fmt.Fprintln(e.out, text.Clean(p.Error()))
				}
				return errNo
			}
			if err != nil {
				return err
			}
			fmt.Fprintf(e.out, "%s: no faults\n", d.Name)
			for _, r := range d.Remarks() {
				fmt.Fprintln(e.out, r.Error())
			}
			weak, err := e.app.WeakRules(cmd.Context(), d)
			for _, w := range weak {
				fmt.Fprintln(e.out, w)
			}
			return err
		},
	})
	return cmd
}
