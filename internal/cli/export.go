package cli

import (
	"bytes"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"initium/internal/core/draw"
	"initium/internal/host"
)

func (e *env) export() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "export",
		Short: "Write a server down for others: the proof of its last start, its load order, or the start as a chart",
	}
	cmd.AddCommand(e.exportProof(), e.exportUnit(),
		e.drawing("times", "Draw how long all starts took, and which were proved", e.app.DrawTimes),
		e.drawing("order", "Draw the load order with its needs, the sections as bands, the outcomes marked", e.app.DrawOrder),
		e.drawing("start", "Draw the last start as a time chart, beside the last one that was proved", e.app.DrawStart))
	return cmd
}

func (e *env) drawing(name, short string, make func(server string) (*draw.Picture, error)) *cobra.Command {
	var svg, pdf string
	cmd := &cobra.Command{
		Use:   name + " SERVER --svg FILE | --pdf FILE",
		Short: short,
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(_ *cobra.Command, args []string) error {
			if svg == "" && pdf == "" {
				return fmt.Errorf("%w: say where to, with --svg FILE or --pdf FILE", errArgs)
			}
			picture, err := make(args[0])
			if err != nil {
				return err
			}
			for _, out := range []struct {
				file  string
				write func(io.Writer) error
			}{{svg, picture.SVG}, {pdf, picture.PDF}} {
				if out.file == "" {
					continue
				}
				var data bytes.Buffer
				if err := out.write(&data); err != nil {
					return err
				}
				if err := host.WriteExport(out.file, data.Bytes()); err != nil {
					return err
				}
				fmt.Fprintf(e.out, "written to %s\n", out.file)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&svg, "svg", "", "write Scalable Vector Graphics to this file")
	cmd.Flags().StringVar(&pdf, "pdf", "", "write a PDF page, A4 to A0, to this file")
	return cmd
}
