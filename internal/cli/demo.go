package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/check"
	"initium/internal/core/lineup"
	"initium/internal/core/proof"
	"initium/internal/tui"
)

func (e *env) demo() *cobra.Command {
	var run, fresh bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Open the screen on a made-up server, in a scratch folder that goes afterwards",
		Args:  args(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			dir, err := os.MkdirTemp("", "initium-demo-")
			if err != nil {
				return err
			}
			defer os.RemoveAll(dir)
			var demo *app.App
			var name string
			if fresh {
				demo, err = e.app.DemoEmpty(dir)
			} else {
				demo, name, err = e.app.Demo(dir)
			}
			if err != nil {
				return err
			}
			defer func() {
				demo.StopAll(func(name string) { demo.Stop(context.Background(), name) })
				demo.Close()
			}()
			if !run {
				return tui.Run(cmd.Context(), demo, name)
			}
			story := &env{demo, e.in, e.out, e.err, e.secrets}
			if fresh {
				return story.fromNothing(cmd.Context(), filepath.Join(dir, "fair"))
			}
			return story.story(cmd.Context(), name)
		},
	}
	cmd.Flags().BoolVar(&fresh, "new", false, "begin without a server, and with downloads from which one can be begun")
	cmd.Flags().BoolVar(&run, "run", false, "tell the whole story without a screen")
	return cmd
}

// title begins a chapter of a story.
func (e *env) title(s string) { fmt.Fprintf(e.out, "\n%s\n%s\n", s, strings.Repeat("-", len(s))) }

// fromNothing begins a fair in an empty folder, with an engine that turns out to be too old, and goes on to its first
// proof.
func (e *env) fromNothing(ctx context.Context, dir string) error {
	from := func(name string) string { return filepath.Join(e.app.Downloads, name) }
	e.title("Begin: a fair, from an engine and its rides")
	made, err := e.app.NewServer(ctx, app.Beginning{Dir: dir, Dialect: "cogwheel-fair", From: []string{from("engine-2.zip"), from("rides.zip")}}, false, nil)
	if err != nil {
		return err
	}
	e.printPlan(made.Dir, made.Plan)
	e.beforeFirst(made)
	e.title("Another engine, laid beside the first and used")
	lay, err := e.app.LayOf(ctx, made.Server, "engine", from("engine-4.zip"), "", lineup.Choices{})
	if err == nil {
		err = e.foreseen(ctx, made.Server, false, false, lay...)
	}
	if err != nil {
		return err
	}
	use, err := e.app.UseOf(made.Server, "engine", "4")
	if err == nil {
		err = e.foreseen(ctx, made.Server, false, false, use)
	}
	if err == nil {
		err = e.listBuilds(made.Server, "", false)
	}
	if err != nil {
		return err
	}
	e.title("Start it, for the first time")
	p, err := e.app.Prove(ctx, made.Server, app.ProveOptions{OnStep: e.progress()})
	if err != nil {
		return err
	}
	e.printProof(p)
	if p.Verdict != proof.Proved {
		return errNo
	}
	return nil
}

// story goes the whole way on the demo's server, from survey to proof.
func (e *env) story(ctx context.Context, name string) error {
	title := e.title
	look, err := e.app.Look(name)
	if err != nil {
		return err
	}
	title("Survey: what is on the server")
	if err := e.printSurvey(look.Survey); err != nil {
		return err
	}
	title("Check: what is wrong with it")
	e.printFindings(look)
	title("Start, as it stands")
	first, err := e.app.Prove(ctx, name, app.ProveOptions{OnStep: e.progress()})
	if err != nil {
		return err
	}
	e.printProof(first)
	if ctx.Err() != nil {
		return errNo
	}
	title("Remedy: what would mend it")
	var changes []lineup.Change
	for _, f := range look.Findings {
		if f.Severity == check.Error && len(f.Changes) > 0 {
			fmt.Fprintf(e.out, "%s: %s\n", f.Message, f.Remedy)
			changes = append(changes, f.Changes...)
		}
	}
	title("Plan: the lines that change")
	p, _, err := e.app.Plan(ctx, name, changes)
	if err != nil {
		return err
	}
	e.printPlan(look.Server.Record.Dir, p)
	if err := e.app.Apply(ctx, name, p, nil); err != nil {
		return err
	}
	title("Start again")
	second, err := e.app.Prove(ctx, name, app.ProveOptions{OnStep: e.progress()})
	if err != nil {
		return err
	}
	e.printProof(second)
	if second.Verdict != proof.Proved {
		return errNo
	}
	return nil
}
