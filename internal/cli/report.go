package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/draw"
	"initium/internal/core/proof"
)

func (e *env) say() *cobra.Command {
	return &cobra.Command{
		Use:   "say SERVER WORD...",
		Short: "Type a line on a running server's console and show what it says right after",
		Args:  args(cobra.MinimumNArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			said, err := e.app.Say(cmd.Context(), args[0], strings.Join(args[1:], " "))
			for _, line := range said {
				fmt.Fprintln(e.out, line)
			}
			return err
		},
	}
}

func (e *env) compare() *cobra.Command {
	var asJSON, base bool
	cmd := &cobra.Command{
		Use:   "compare SERVER [THEN [NOW]]",
		Short: "Tell what differs between two starts: the newest and the last proved one, or those with these numbers; exit status 1 if something does",
		Args:  args(cobra.RangeArgs(1, 3)),
		RunE: func(cmd *cobra.Command, args []string) error {
			numbers := [2]int{}
			for i, s := range args[1:] {
				n, err := strconv.Atoi(s)
				if err != nil || n < 1 {
					return fmt.Errorf("%w: %q is no number of a start; initium ledger %s lists them", errArgs, s, args[0])
				}
				numbers[i] = n
			}
			if base && len(args) > 1 {
				return fmt.Errorf("%w: --base says which start it is compared with", errArgs)
			}
			compare := func() (*proof.Comparison, error) {
				if base {
					return e.app.CompareBase(cmd.Context(), args[0])
				}
				return e.app.Compare(cmd.Context(), args[0], numbers[0], numbers[1])
			}
			c, err := compare()
			if err != nil {
				return err
			}
			if asJSON {
				err = e.json(c)
			} else {
				e.printComparison(c)
			}
			if err == nil && !c.Same() {
				err = errNo
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	cmd.Flags().BoolVar(&base, "base", false, "the newest with the last proved one that was made without any mod")
	return cmd
}

func (e *env) printComparison(c *proof.Comparison) {
	fmt.Fprintf(e.out, "start %d (%s) and start %d (%s)\n", c.Starts[0], c.Verdicts[0], c.Starts[1], c.Verdicts[1])
	for _, line := range c.Words() {
		fmt.Fprintln(e.out, line)
	}
	if c.ReadyMS[0] > 0 && c.ReadyMS[1] > 0 {
		fmt.Fprintf(e.out, "ready after %.2f s, was %.2f s\n", float64(c.ReadyMS[1])/1000, float64(c.ReadyMS[0])/1000)
	}
	for _, r := range c.Old {
		fmt.Fprintf(e.out, "no more: %s\n", r.Text)
	}
	if c.Same() {
		fmt.Fprintln(e.out, "nothing of note differs")
	}
}

// exportProof writes the proof of a start for others.
func (e *env) exportProof() *cobra.Command {
	var page, markdown, junit, svg, pdf string
	var number int
	cmd := &cobra.Command{
		Use:   "proof SERVER... --html FILE | --md FILE | --svg FILE | --pdf FILE | --junit FILE",
		Short: "Write the proof of the last start down for others, of several servers on one page: what was loaded, by which evidence, what changed since the last proof",
		Args:  args(cobra.MinimumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if page+markdown+junit+svg+pdf == "" {
				return fmt.Errorf("%w: say where to, with --html FILE, --md FILE, --svg FILE, --pdf FILE or --junit FILE", errArgs)
			}
			if len(args) > 1 {
				if svg+pdf != "" || number != 0 {
					return fmt.Errorf("%w: several servers go onto one page of --html, --md or --junit, each with its last start", errArgs)
				}
				all, err := e.app.ReportAll(cmd.Context(), args)
				if err != nil {
					return err
				}
				return e.writeAll([]output{{page, all.HTML}, {markdown, func() ([]byte, error) { return all.Markdown(), nil }}, {junit, all.JUnit}})
			}
			r, err := e.app.Report(cmd.Context(), args[0], number)
			if err != nil {
				return err
			}
			picture := r.Draw()
			return e.writeAll([]output{{page, r.HTML}, {markdown, func() ([]byte, error) { return r.Markdown(), nil }}, {svg, drawn(picture, (*draw.Picture).SVG)}, {pdf, drawn(picture, (*draw.Picture).PDF)}, {junit, r.JUnit}})
		},
	}
	cmd.Flags().StringVar(&page, "html", "", "write one page of HTML to this file; - is standard output, here and below")
	cmd.Flags().StringVar(&markdown, "md", "", "write Markdown to this file")
	cmd.Flags().StringVar(&svg, "svg", "", "write one page as Scalable Vector Graphics to this file")
	cmd.Flags().StringVar(&pdf, "pdf", "", "write one page of PDF to this file")
	cmd.Flags().StringVar(&junit, "junit", "", "write results for a build server to this file")
	cmd.Flags().IntVar(&number, "start", 0, "the number of the start; the newest when left out")
	return cmd
}

// output is a file, and what is written into it.
type output struct {
	file  string
	write func() ([]byte, error)
}

func (e *env) writeAll(list []output) error {
	for _, out := range list {
		if err := e.writeOut(out.file, out.write); err != nil {
			return err
		}
	}
	return nil
}

// writeOut writes what is exported into a file, or with - to standard output. Without a
// file it is not wanted.
func (e *env) writeOut(file string, write func() ([]byte, error)) error {
	if file == "" {
		return nil
	}
	data, err := write()
	if err != nil {
		return err
	}
	if file == "-" {
		_, err = e.out.Write(data)
		return err
	}
	if err := app.WriteReport(file, data); err != nil {
		return err
	}
	fmt.Fprintf(e.out, "written to %s\n", file)
	return nil
}

// drawn writes a picture in one of its forms.
func drawn(picture *draw.Picture, write func(*draw.Picture, io.Writer) error) func() ([]byte, error) {
	return func() ([]byte, error) {
		var b bytes.Buffer
		err := write(picture, &b)
		return b.Bytes(), err
	}
}

// exportUnit writes a service of the machine that runs a server.
func (e *env) exportUnit() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:   "unit SERVER",
		Short: "Write a systemd service that runs a server under a keeper, to standard output or a file",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(_ *cobra.Command, args []string) error {
			data, err := e.app.Unit(args[0])
			if err != nil {
				return err
			}
			if file != "" {
				return e.writeOut(file, func() ([]byte, error) { return data, nil })
			}
			_, err = e.out.Write(data)
			return err
		},
	}
	cmd.Flags().StringVar(&file, "file", "", "where to write it, such as /etc/systemd/system/NAME.service")
	return cmd
}

// exportScript writes what starts a server without Initium.
func (e *env) exportScript() *cobra.Command {
	var file string
	var batch bool
	cmd := &cobra.Command{
		Use:   "script SERVER",
		Short: "Write a script that starts a server as it is started from here, to standard output or a file: where it goes, what it runs, with what",
		Long:  "Secrets are not written down: the script wants them in its environment, and says so. Beside the server it finds its files from there, wherever that folder is put.",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(_ *cobra.Command, args []string) error {
			data, err := e.app.StartScript(args[0], file, batch)
			if err != nil {
				return err
			}
			if file == "" {
				_, err = e.out.Write(data)
				return err
			}
			if err := e.writeOut(file, func() ([]byte, error) { return data, nil }); err != nil || batch || file == "-" {
				return err
			}
			return os.Chmod(file, 0o755)
		},
	}
	cmd.Flags().StringVar(&file, "file", "", "where to write it, such as start.sh in the server's folder")
	cmd.Flags().BoolVar(&batch, "batch", false, "a batch file for Windows, and not one for sh")
	return cmd
}
