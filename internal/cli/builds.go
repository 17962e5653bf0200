package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/lineup"
	"initium/internal/core/text"
)

func (e *env) builds() *cobra.Command {
	var add, as, of string
	var asJSON, show, stage bool
	var choices lineup.Choices
	cmd := &cobra.Command{
		Use:   "builds SERVER",
		Short: "List the builds and runtimes that lie side by side and the loader that lies over the server, which one the start uses, and which mods are not made for each",
		Long: "With --add another one is laid beside them, in a folder named by its version; nothing is laid over what is there. It is used once initium use says so.\n" +
			"A loader is laid over the server instead: what an earlier one has brought goes, and initium remove SERVER with the part's name takes it out, so that all is as it was before.\n" +
			"What a server consists of, and where that lies, its dialect says ([[part]]).",
		Example: "  initium builds mill\n  initium builds mill --add downloads/mill-1.10.tar.gz\n  initium use mill 1.10",
		Args:    args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if add == "" {
				if as != "" || show || stage {
					return fmt.Errorf("%w: --as, --show and --stage belong to --add", errArgs)
				}
				return e.listBuilds(args[0], of, asJSON)
			}
			changes, err := e.app.LayOf(cmd.Context(), args[0], of, add, as, choices)
			if err != nil {
				return err
			}
			return e.foreseen(cmd.Context(), args[0], show, stage, changes...)
		},
	}
	cmd.Flags().StringVar(&add, "add", "", "lay the one that is in this archive or folder beside the others")
	answerFlags(cmd, &choices)
	cmd.Flags().StringVar(&as, "as", "", "its version, where its name does not say that")
	cmd.Flags().StringVar(&of, "of", "", "the part that it is about, by its name in the dialect")
	cmd.Flags().BoolVar(&show, "show", false, "only show what would change, and what is foretold then")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the list as JSON")
	stageFlag(cmd, &stage)
	return cmd
}

func (e *env) use() *cobra.Command {
	var of string
	var show, stage bool
	cmd := &cobra.Command{
		Use:   "use SERVER VERSION",
		Short: "Use another build or runtime: wherever the start names one, in scripts and units, or as a value",
		Long:  "VERSION is one that initium builds lists, or its path. It is one entry of the ledger, and initium undo takes it back. What check says of it before the start is told.",
		Args:  args(cobra.ExactArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := e.app.UseOf(args[0], of, args[1])
			if err != nil {
				return err
			}
			return e.foreseen(cmd.Context(), args[0], show, stage, c)
		},
	}
	cmd.Flags().StringVar(&of, "of", "", "the part that it is about, where several have such a version")
	cmd.Flags().BoolVar(&show, "show", false, "only show what would change, and what is foretold then")
	stageFlag(cmd, &stage)
	return cmd
}

func (e *env) renew() *cobra.Command {
	var list, show, stage, backup bool
	cmd := &cobra.Command{
		Use:   "renew SERVER [WHAT...]",
		Short: "Set aside what a server makes anew by itself: its world, or what its dialect calls so, such as caches",
		Long:  "What is there goes into the ledger, and initium undo brings it back. With --backup the world is backed up as well, before.",
		Args:  args(cobra.MinimumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if list {
				all, err := e.app.Renewables(args[0])
				if err != nil {
					return err
				}
				s, err := e.app.Server(args[0])
				if err != nil {
					return err
				}
				return e.table(func(w io.Writer) {
					for _, r := range all {
						var paths []string
						for _, p := range r.Paths {
							paths = append(paths, short(s.Record.Dir, p))
						}
						fmt.Fprintf(w, "%s\t%s\t%s\n", r.Name, text.Clean(cmp.Or(strings.Join(paths, ", "), "nothing there")), r.About)
					}
				})
			}
			changes, err := e.app.RenewOf(args[0], args[1:])
			if err != nil {
				return err
			}
			if show {
				return e.showChange(cmd.Context(), args[0], changes...)
			}
			if backup {
				if err := e.makeBackup(cmd.Context(), args[0], "before it is begun anew"); err != nil {
					return err
				}
			}
			return e.change(cmd.Context(), args[0], stage, changes...)
		},
	}
	cmd.Flags().BoolVar(&list, "list", false, "list what can be begun anew, with what of it is there")
	cmd.Flags().BoolVar(&show, "show", false, "only show what would be set aside")
	cmd.Flags().BoolVar(&backup, "backup", false, "back the world up first")
	stageFlag(cmd, &stage)
	return cmd
}

// foreseen shows what changes come to with what is foretold then, and makes them.
func (e *env) foreseen(ctx context.Context, server string, show, stage bool, changes ...lineup.Change) error {
	f, err := e.app.Foresee(ctx, server, changes...)
	if err != nil {
		return err
	}
	if f.Plan.Empty() {
		fmt.Fprintln(e.out, "nothing to change: it is so already")
		return nil
	}
	if show {
		s, err := e.app.Server(server)
		if err != nil {
			return err
		}
		e.printPlan(s.Record.Dir, f.Plan)
	} else if err := e.change(ctx, server, stage, changes...); err != nil {
		return err
	}
	for _, c := range f.Plan.Changes {
		for _, o := range c.Owed {
			fmt.Fprintf(e.out, "left to you: %s, %s\n", text.Clean(o.Path), text.Clean(o.About))
		}
	}
	for _, c := range f.Comes {
		fmt.Fprintf(e.out, "then: %s: %s\n", c.Severity, text.Clean(c.Message))
	}
	for _, c := range f.Mended {
		fmt.Fprintf(e.out, "no more: %s: %s\n", c.Severity, text.Clean(c.Message))
	}
	return nil
}

// listBuilds lists what lies side by side.
func (e *env) listBuilds(server, of string, asJSON bool) error {
	list, err := e.app.Builds(server)
	if err != nil {
		return err
	}
	if of != "" {
		rest := []app.PartThere{}
		for _, b := range list {
			if b.Part == of {
				rest = append(rest, b)
			}
		}
		list = rest
	}
	if asJSON {
		return e.json(list)
	}
	s, err := e.app.Server(server)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		fmt.Fprintf(e.out, "the dialect %s tells of none, or none is there\n", s.Dialect.Name)
		return nil
	}
	return e.table(func(w io.Writer) {
		fmt.Fprintln(w, "PART\tVERSION\tUSED\tCHANGED\tWHERE\tDOES NOT FIT")
		for _, b := range list {
			used := ""
			if b.Used {
				used = "used"
				if b.Said != "" {
					used += " (" + b.Said + ")"
				}
			}
			day := ""
			if !b.Changed.IsZero() {
				day = b.Changed.Format("2006-01-02")
			}
			fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s\n", b.Part, cmp.Or(b.Version, map[bool]string{true: "none", false: "?"}[b.Absent]), used, day, short(s.Record.Dir, filepath.Clean(b.Path)), fit(&b))
		}
	})
}

// fit says in words what is not made for one of a part.
func fit(b *app.PartThere) string {
	var words []string
	if b.Problem != "" {
		words = append(words, b.Problem)
	}
	if b.Wants != "" {
		words = append(words, "the server wants "+b.Wants)
	}
	if len(b.Unfit) > 0 {
		var names []string
		for _, name := range sortedNames(b.Unfit) {
			names = append(names, name+" wants "+b.Unfit[name])
		}
		words = append(words, strings.Join(names, ", "))
	}
	return strings.Join(words, "; ")
}
