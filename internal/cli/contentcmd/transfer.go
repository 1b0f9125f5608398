package contentcmd

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/client"
)

func (a *Commands) entryImport() *cobra.Command {
	var o api.ImportOptions
	var stopAtBad, all bool
	c := &cobra.Command{
		Use: "import FILE", Short: "Write the entries of an NDJSON file, as export has written it",
		Args: cobra.ExactArgs(1),
		Long: `Writes the entries of an NDJSON file (- reads standard input). A line that is not
good is reported by its number, and the rest goes on; with --all-or-nothing the
whole file is checked first, and nothing is written unless every line is good.
An entry that is held in the same state already is left alone: after an
interruption run it again, or go on with --after LINE.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if all && args[0] == "-" {
				return command.Misusef("--all-or-nothing reads the file twice, so it cannot be standard input")
			}
			if stopAtBad {
				o.Bad = "stop"
			}
			begin := time.Now()
			bad := 0
			run := func(o api.ImportOptions, what string) (api.ImportProgress, error) {
				last, n, err := a.importFile(cmd.Context(), s, args[0], o, what)
				bad += n
				return last, err
			}
			if all {
				check := o
				check.Check = true
				if _, err := run(check, "Checking"); err != nil {
					return err
				}
				if bad > 0 {
					return fmt.Errorf("%d lines are not good; nothing was written", bad)
				}
			}
			last, err := run(o, "Importing")
			if err != nil {
				if last.Line > 0 {
					return fmt.Errorf(
						"%w\nEverything up to line %d is dealt with; go on with: ubiquon entry import %s --after %d",
						err, last.Line, args[0], last.Line,
					)
				}
				return err
			}
			if err := a.Print(last, func(t *command.Table) {
				t.Line(fmt.Sprintf("%d entries written, %d the same as before, %d lines not good, in %s.",
					last.Written, last.Same, last.Bad, command.Span(time.Since(begin))))
			}); err != nil {
				return err
			}
			if last.Bad > 0 {
				return errors.New("some lines were not good; the rest is written")
			}
			return nil
		},
	}
	c.Flags().IntVar(&o.After, "after", 0, "leave out the lines up to this one")
	c.Flags().BoolVar(&stopAtBad, "stop-at-bad", false, "stop at the first line that is not good")
	c.Flags().
		BoolVar(&all, "all-or-nothing", false, "check the whole file first, and write nothing unless all of it is good")
	return c
}

// importFile imports a file and shows how far it has come. bad counts the lines that are
// not good.
func (a *Commands) importFile(
	ctx context.Context, s *client.Client, file string, o api.ImportOptions, what string,
) (last api.ImportProgress, bad int, err error) {
	in, err := a.open(file)
	if err != nil {
		return last, 0, err
	}
	defer in.Close()
	progress := a.Progress()
	defer progress.End()
	err = s.Entries().Import(ctx, in, o, func(p api.ImportProgress) {
		last = p
		for _, b := range p.BadLines {
			bad++
			progress.Line("line %d: %s", b.Line, b.Reason)
		}
		progress.Show("%s: line %d, %d written, %d the same, %d bad", what, p.Line, p.Written, p.Same, p.Bad)
	})
	return last, bad, err
}

func (a *Commands) open(name string) (io.ReadCloser, error) {
	if name == "-" {
		return io.NopCloser(a.In), nil
	}
	return os.Open(name)
}

func (a *Commands) entryExport() *cobra.Command {
	var types []string
	var origin, to string
	var revisions bool
	c := &cobra.Command{
		Use: "export", Short: "Write entries as NDJSON, one a line", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if to == "" {
				return s.Entries().Export(cmd.Context(), a.Out, types, origin, revisions)
			}
			f, err := os.Create(to + ".part")
			if err != nil {
				return err
			}
			err = errors.Join(s.Entries().Export(cmd.Context(), f, types, origin, revisions), f.Close())
			if err != nil {
				os.Remove(to + ".part")
				return err
			}
			return os.Rename(to+".part", to)
		},
	}
	c.Flags().StringSliceVar(&types, "type", nil, "only these types")
	c.Flags().StringVar(&origin, "origin", "", "entries of this origin instead of our own")
	c.Flags().StringVar(&to, "to", "", "write to this file instead of standard output")
	c.Flags().BoolVar(&revisions, "revisions", false, "with all earlier revisions")
	return c
}
