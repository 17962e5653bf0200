package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/recipe"
	"initium/internal/core/text"
)

func (e *env) recipe() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "recipe",
		Short: "What was done to one server, to be done again on another",
		Args:  args(cobra.NoArgs),
		RunE:  func(cmd *cobra.Command, args []string) error { return cmd.Help() },
	}
	cmd.AddCommand(e.recipeSave(), e.recipeShow(), e.recipeRun())
	return cmd
}

func (e *env) recipeSave() *cobra.Command {
	var of app.RecipeOf
	cmd := &cobra.Command{
		Use:   "save SERVER FOLDER [ENTRY..ENTRY]",
		Short: "Make a recipe of what the ledger says was done, in a new folder",
		Args:  args(cobra.RangeArgs(2, 3)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 2 {
				from, to, ranged := strings.Cut(args[2], "..")
				if !ranged {
					to = from
				}
				var err error
				if of.From, err = strconv.Atoi(from); err == nil {
					of.To, err = strconv.Atoi(to)
				}
				if err != nil || of.From < 1 || of.To < of.From {
					return app.UsageError{Err: fmt.Errorf("%q names no entries; write them as 3 or 3..7", args[2])}
				}
			}
			saved, err := e.app.SaveRecipe(cmd.Context(), args[0], args[1], of)
			if err != nil {
				return err
			}
			e.printRecipe(saved.Recipe)
			for i := range saved.Notes {
				e.printNotes(&saved.Notes[i])
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&of.Mod, "mod", "", "only what was done for this mod")
	cmd.Flags().StringVar(&of.About, "about", "", "what it is for, in your words")
	cmd.Flags().StringSliceVar(&of.Await, "await", nil, "a file, below the server's folder, that a first start has to make")
	return cmd
}

func (e *env) recipeShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show FOLDER",
		Short: "Tell what a recipe does, in words",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := app.ReadRecipe(args[0])
			if err != nil {
				return err
			}
			e.printRecipe(r)
			return nil
		},
	}
}

func (e *env) printRecipe(r *recipe.Recipe) {
	fmt.Fprintf(e.out, "%s, for servers of %s\n", text.Clean(r.Name), text.Clean(r.Dialect))
	if r.About != "" {
		fmt.Fprintln(e.out, text.Clean(r.About))
	}
	for i := range r.Steps {
		fmt.Fprintf(e.out, "%4d  %s\n", i+1, r.Steps[i].String())
	}
	for i := range r.Rules {
		fmt.Fprintf(e.out, "rule  %s\n", r.Rules[i].Rule())
	}
	for i := range r.Expects {
		fmt.Fprintf(e.out, "expects that %s\n", r.Expects[i].Expectation())
	}
	for _, p := range r.Await {
		fmt.Fprintf(e.out, "a first start makes %s\n", text.Clean(p))
	}
	for _, o := range r.Own {
		fmt.Fprintf(e.out, "each server's own: %s\n", ownWords(o))
	}
	for _, l := range r.Left {
		fmt.Fprintf(e.out, "left out: %s\n", text.Clean(l))
	}
}

// printNotes shows what of the notes that came with a mod looks like something to be done.
func (e *env) printNotes(n *app.Notes) {
	if n.Lost != "" {
		fmt.Fprintf(e.out, "the notes in %s are not shown: %s\n", n.Source, n.Lost)
		return
	}
	if len(n.Offers) == 0 {
		fmt.Fprintf(e.out, "notes: %s in %s, in which nothing looks like a step\n", n.File, n.Source)
		return
	}
	fmt.Fprintf(e.out, "notes: %s in %s\n", n.File, n.Source)
	for _, o := range n.Offers {
		line := fmt.Sprintf("%4d  %s", o.Line, o.Text)
		switch {
		case o.Done:
			line += "  (so already)"
		case o.Do != "":
			line += "  → " + o.Do
		}
		fmt.Fprintln(e.out, line)
	}
}

func ownWords(o recipe.Own) string {
	words := text.Clean(o.Name)
	if o.File != "" {
		words += " in " + text.Clean(o.File)
	}
	if o.About != "" {
		words += ", " + text.Clean(o.About)
	}
	return words
}

func (e *env) recipeRun() *cobra.Command {
	var from []string
	var show, stage bool
	cmd := &cobra.Command{
		Use:   "run SERVER FOLDER",
		Short: "Do what a recipe says on a server: all as one plan, or nothing",
		Args:  args(cobra.ExactArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			run, err := e.app.PlanRecipe(cmd.Context(), args[0], args[1], from)
			if err != nil {
				return err
			}
			return e.runRecipe(cmd.Context(), args[0], run, show, stage)
		},
	}
	cmd.Flags().StringSliceVar(&from, "from", nil, "a folder in which what comes is looked for, or the archive itself")
	cmd.Flags().BoolVar(&show, "show", false, "only show what would be written")
	stageFlag(cmd, &stage)
	return cmd
}

// runRecipe makes the changes of a recipe, or shows or stages them.
func (e *env) runRecipe(ctx context.Context, server string, run *app.Run, show, stage bool) error {
	for _, p := range run.Passed {
		fmt.Fprintf(e.out, "so already: %s\n", p)
	}
	if len(run.Problems) > 0 {
		for _, p := range run.Problems {
			fmt.Fprintf(e.err, "does not fit: %s\n", text.Clean(p))
		}
		fmt.Fprintln(e.err, "nothing was written")
		return errNo
	}
	var err error
	switch {
	case len(run.Changes) == 0:
		fmt.Fprintln(e.out, "nothing to change: it is so already")
	case show:
		err = e.showChange(ctx, server, run.Changes...)
	default:
		if err = e.change(ctx, server, stage, run.Changes...); app.IsSoAlready(err) {
			err = nil
		}
	}
	if err == nil && !show && !stage {
		err = e.app.FinishRecipe(server, run.Recipe)
	}
	if err == nil {
		e.printOpen(server, run)
	}
	return err
}

// printOpen tells what a recipe leaves to the operator.
func (e *env) printOpen(server string, run *app.Run) {
	for _, o := range run.Own {
		in := ""
		if o.File != "" {
			in = " --in " + text.Clean(filepath.ToSlash(o.File))
		}
		fmt.Fprintf(e.out, "still to be set: %s (initium set %s %s VALUE%s)\n", ownWords(o), server, text.Clean(o.Name), in)
	}
	for _, l := range run.Recipe.Left {
		fmt.Fprintf(e.out, "not in the recipe: %s\n", text.Clean(l))
	}
	if len(run.Recipe.Await) > 0 {
		fmt.Fprintf(e.out, "then: initium prove %s --first --await %s\n", server, text.Clean(strings.Join(run.Recipe.Await, ",")))
	}
}
