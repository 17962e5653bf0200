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
			if untrue := d.Untrue(); len(untrue) > 0 {
				for _, p := range untrue {
					p.File = args[0]
					fmt.Fprintln(e.out, text.Clean(p.Error()))
				}
				return errNo
			}
			fmt.Fprintf(e.out, "%s: no faults\n", d.Name)
			if n := len(d.Examples); n > 0 {
				fmt.Fprintf(e.out, "%d examples are read as they say\n", n)
			}
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
	cmd.AddCommand(e.addDialect(), e.exportDialect(), e.tryDialect())
	return cmd
}

func (e *env) addDialect() *cobra.Command {
	var anew bool
	cmd := &cobra.Command{
		Use:   "add FILE",
		Short: "Take in a dialect that somebody else has written",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(_ *cobra.Command, args []string) error {
			d, err := e.app.AddDialect(args[0], anew)
			if problems, ok := err.(dialect.Problems); ok {
				for _, p := range problems {
					p.File = args[0]
					fmt.Fprintln(e.out, text.Clean(p.Error()))
				}
				return errNo
			}
			if err != nil {
				return err
			}
			fmt.Fprintf(e.out, "%s is among your dialects\n", text.Clean(d.Name))
			return nil
		},
	}
	cmd.Flags().BoolVar(&anew, "anew", false, "write over one of this name that is there already")
	return cmd
}

func (e *env) exportDialect() *cobra.Command {
	return &cobra.Command{
		Use:   "export NAME",
		Short: "Print a dialect to be handed on, with lines of the last starts of its servers as examples; what its rules leave open in them is taken out",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			data, _, err := e.app.ExportDialect(cmd.Context(), args[0])
			if err == nil {
				_, err = e.out.Write(data)
			}
			return err
		},
	}
}

func (e *env) tryDialect() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "try NAME DIR [LOG...]",
		Short: "Tell how far a dialect, by its name or file, fits the server in DIR and logs of it: what it reads, and what it leaves",
		Args:  args(cobra.MinimumNArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := e.app.TryDialect(cmd.Context(), args[0], args[1], args[2:])
			if err != nil {
				return err
			}
			if asJSON {
				return e.json(f)
			}
			for _, name := range f.Missing {
				fmt.Fprintf(e.out, "the folder has no %s, by which it would be recognised\n", name)
			}
			fmt.Fprintf(e.out, "mods that are registered: %d, of which %d are there\n", len(f.Mods), f.There)
			for _, name := range f.Mods {
				fmt.Fprintf(e.out, "  %s\n", name)
			}
			for _, place := range f.Unread {
				fmt.Fprintf(e.out, "cannot be read: %s\n", place)
			}
			if len(args) > 2 {
				fmt.Fprintf(e.out, "lines that a rule fits: %d of %d\n", f.Known, f.Lines)
			}
			for _, kind := range f.Left {
				fmt.Fprintf(e.out, "  left: %s\n", kind)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}
