package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"initium/internal/core/lineup"
)

func (e *env) merge() *cobra.Command {
	var c lineup.Choices
	var into string
	var show, away, stage bool
	cmd := &cobra.Command{
		Use:   "merge SERVER MOD [FILE]",
		Short: "Add the entries of a mod to the server's tables, from its own files or from one that came beside it",
		Args:  args(cobra.RangeArgs(2, 3)),
		RunE: func(cmd *cobra.Command, args []string) error {
			file := ""
			if len(args) > 2 {
				file = args[2]
			}
			change, err := e.app.MergeChange(args[0], args[1], file, into, c)
			if away {
				change, err = e.app.UnmergeChange(args[0], args[1], into)
			}
			if err != nil {
				return err
			}
			if show {
				return e.showChange(cmd.Context(), args[0], change)
			}
			return e.change(cmd.Context(), args[0], stage, change)
		},
	}
	cmd.Flags().StringVar(&into, "table", "", "the table, named from the server's folder, where there are several")
	cmd.Flags().StringVar(&c.Base, "base", "", "a file that the table begins from, when it is not there yet")
	cmd.Flags().StringSliceVar(&c.Take, "take", nil, "of entries that are there and say something else, take the mod's: TABLE:ENTRY, the table, or all")
	cmd.Flags().StringSliceVar(&c.Keep, "keep", nil, "or keep the table's")
	cmd.Flags().BoolVar(&show, "show", false, "only show what would be written")
	cmd.Flags().BoolVar(&away, "away", false, "take its entries out instead, but those that somebody has changed since")
	stageFlag(cmd, &stage)
	return cmd
}

func (e *env) sql() *cobra.Command {
	var mod string
	var show, again, stage bool
	cmd := &cobra.Command{
		Use:   "sql SERVER SOURCE [PATH]",
		Short: "Run a script on the server's database, once: a file, or a path in the archive that it came in; initium undo brings back what was there",
		Args:  args(cobra.RangeArgs(2, 3)),
		RunE: func(cmd *cobra.Command, args []string) error {
			name := ""
			if len(args) > 2 {
				name = args[2]
			}
			c, err := e.app.ScriptChange(args[0], mod, args[1], name, again)
			if err != nil {
				return err
			}
			if show {
				return e.showChange(cmd.Context(), args[0], c)
			}
			return e.change(cmd.Context(), args[0], stage, c)
		},
	}
	cmd.Flags().StringVar(&mod, "mod", "", "the mod that it is for")
	cmd.Flags().BoolVar(&show, "show", false, "only show what it does to which tables; it is tried on a copy")
	cmd.Flags().BoolVar(&again, "again", false, "although this very script was run already")
	stageFlag(cmd, &stage)
	return cmd
}

// showChange shows what changes would write, on top of what is staged.
func (e *env) showChange(ctx context.Context, server string, changes ...lineup.Change) error {
	staged, err := e.app.Staged(server)
	if err != nil {
		return err
	}
	p, _, err := e.app.Plan(ctx, server, append(staged, changes...))
	if err != nil {
		return err
	}
	if p.Empty() {
		fmt.Fprintln(e.out, "nothing to change: it is so already")
		return nil
	}
	s, err := e.app.Server(server)
	if err != nil {
		return err
	}
	e.printPlan(s.Record.Dir, p)
	return nil
}
