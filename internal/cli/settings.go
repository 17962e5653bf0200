package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/lineup"
)

func (e *env) settings() *cobra.Command {
	var file string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "settings SERVER [WORD...]",
		Short: "List what is set in the files of a server, by words of its name and value",
		Args:  args(cobra.MinimumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			found, err := e.app.Settings(args[0], file, args[1:])
			if err != nil {
				return err
			}
			if asJSON {
				return e.json(found)
			}
			e.printSettings(found)
			return nil
		},
	}
	cmd.Flags().StringVar(&file, "file", "", "only those in this file, named from the server's folder")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func (e *env) printSettings(found *app.Settings) {
	longest := 0
	for _, s := range found.List {
		longest = max(longest, min(len(s.Name), 40))
	}
	file := ""
	for _, s := range found.List {
		if s.File != file {
			file = s.File
			fmt.Fprintln(e.out, file)
		}
		value, note := s.Value, ""
		if value == "" {
			value = "(nothing)"
		}
		switch {
		case s.Off:
			note = "in a comment"
		case s.Again > 0:
			note = "again on line " + strconv.Itoa(s.Again)
		case len(s.ReadBy) > 0:
			note = "read by " + strings.Join(s.ReadBy, ", ")
		case s.Idle:
			note = "nothing known reads it"
		}
		if s.About != "" {
			note = strings.TrimPrefix(note+"; "+s.About, "; ")
		}
		line := fmt.Sprintf("%5d  %-*s  %s", s.Line, longest, s.Name, value)
		if note != "" {
			line += "  (" + note + ")"
		}
		fmt.Fprintln(e.out, line)
	}
	fmt.Fprintf(e.out, "%s in %s\n", count(len(found.List), "setting", "settings"), count(found.Files, "file", "files"))
	if found.Cut {
		fmt.Fprintln(e.out, "there are more files than are looked through; name one with --file")
	}
	for _, u := range found.Unread {
		fmt.Fprintln(e.out, "not understood: "+u)
	}
}

func (e *env) set() *cobra.Command {
	var file string
	var line int
	var asSaid, stage bool
	cmd := &cobra.Command{
		Use:   "set SERVER NAME VALUE",
		Short: "Set something in a file of a server, written as what stands there; a VALUE of - is read from standard input, so that a key stands in no history",
		Args:  args(cobra.ExactArgs(3)),
		RunE: func(cmd *cobra.Command, args []string) error {
			value := args[2]
			if value == "-" && !asSaid {
				said, err := bufio.NewReader(io.LimitReader(e.in, maxValue)).ReadString('\n')
				if err != nil && !errors.Is(err, io.EOF) {
					return fmt.Errorf("read the value: %w", err)
				}
				value = strings.TrimRight(said, "\r\n")
			}
			c, err := e.app.SettingChange(args[0], args[1], &value, file, line, asSaid)
			if err != nil {
				return err
			}
			return e.change(cmd.Context(), args[0], stage, c)
		},
	}
	settingFlags(cmd, &file, &line)
	cmd.Flags().BoolVar(&asSaid, "as-said", false, "write the value as it is said, though what stands there is a number or a yes or no")
	stageFlag(cmd, &stage)
	return cmd
}

func (e *env) unset() *cobra.Command {
	var file string
	var line int
	var stage bool
	cmd := &cobra.Command{
		Use:   "unset SERVER NAME",
		Short: "Take a setting out of a file of a server",
		Args:  args(cobra.ExactArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := e.app.SettingChange(args[0], args[1], nil, file, line, false)
			if err != nil {
				return err
			}
			return e.change(cmd.Context(), args[0], stage, c)
		},
	}
	settingFlags(cmd, &file, &line)
	stageFlag(cmd, &stage)
	return cmd
}

func (e *env) edit() *cobra.Command {
	var stage bool
	cmd := &cobra.Command{
		Use:   "edit SERVER FILE",
		Short: "Edit a whole file of a server in your editor ($VISUAL or $EDITOR); what was changed goes through plan and ledger",
		Args:  args(cobra.ExactArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			edit, err := e.app.BeginEdit(args[0], args[1])
			if err != nil {
				return err
			}
			program := edit.Command()
			program.Stdin, program.Stdout, program.Stderr = e.in, e.out, e.err
			ran := program.Run()
			c, changed, err := edit.Done()
			switch {
			case ran != nil:
				return fmt.Errorf("the editor failed, and nothing is changed: %w", ran)
			case err != nil:
				return err
			case !changed:
				fmt.Fprintln(e.out, "nothing was changed")
				return nil
			}
			return e.change(cmd.Context(), args[0], stage, c)
		},
	}
	stageFlag(cmd, &stage)
	return cmd
}

func (e *env) put() *cobra.Command {
	var source, block, into, at string
	var show, stage, scale bool
	cmd := &cobra.Command{
		Use:   "put SERVER FILE --with SOURCE",
		Short: "Put the text of a file into one of the server's: instead of a block, at the end of one, at a key of JSON, or as the whole",
		Args:  args(cobra.ExactArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if source == "" {
				return app.UsageError{Err: errors.New("say with --with SOURCE what is to be put there")}
			}
			if scale && block+into+at != "" {
				return fmt.Errorf("%w: --scale is about a picture as a whole", errArgs)
			}
			put := func() (lineup.Change, error) {
				if scale {
					return e.app.IconChange(args[0], args[1], source)
				}
				return e.app.PutChange(args[0], args[1], source, block, into, at)
			}
			c, err := put()
			if err != nil {
				return err
			}
			if show {
				return e.showChange(cmd.Context(), args[0], c)
			}
			return e.change(cmd.Context(), args[0], stage, c)
		},
	}
	cmd.Flags().StringVar(&source, "with", "", "the file that holds the text")
	cmd.Flags().StringVar(&block, "block", "", "instead of the block that begins with this line; its brackets tell where it ends")
	cmd.Flags().StringVar(&into, "into", "", "at the end of the block that begins with this line")
	cmd.Flags().StringVar(&at, "at", "", "in the place of the value at these keys of a JSON document, with dots between them")
	cmd.Flags().BoolVar(&scale, "scale", false, "the source is a picture: it is brought to the exact size that the server's icon has to have")
	cmd.Flags().BoolVar(&show, "show", false, "only show what would be written")
	stageFlag(cmd, &stage)
	return cmd
}

// maxValue is the longest value that is read from standard input, in bytes.
const maxValue = 1 << 20

func settingFlags(cmd *cobra.Command, file *string, line *int) {
	cmd.Flags().StringVar(file, "in", "", "the file, named from the server's folder; found where the name is set in one file only")
	cmd.Flags().IntVar(line, "line", 0, "the line, where it is set more than once in that file")
}
