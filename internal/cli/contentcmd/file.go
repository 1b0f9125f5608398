package contentcmd

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/client"
)

// File manages the library of files.
func (a *Commands) File() *cobra.Command {
	return command.Noun("file", "Manage pictures and other files",
		a.fileList(), a.fileShow(), a.fileAdd(), a.fileReplace(), a.fileDescribe(), a.fileRemove(), a.fileCheck())
}

func (a *Commands) fileList() *cobra.Command {
	var f api.FileFilter
	c := &cobra.Command{
		Use: "list", Short: "List files, those changed last first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			all, err := s.Files().List(cmd.Context(), f)
			if err != nil {
				return err
			}
			return a.Print(all, func(t *command.Table) {
				t.Row("ID", "NAME", "TYPE", "SIZE", "PIXELS", "DESCRIPTION", "STATE")
				for _, one := range all.Items {
					t.Row(one.ID, t.Short(one.Name, 30), one.MediaType, sizeText(one.Bytes), pixels(one),
						t.Short(command.OrDash(altOf(one)), 32), fileState(one))
				}
				if n := len(all.Items); all.Total > n {
					t.Line(fmt.Sprintf("%d of %d; the next ones: --offset %d", n, all.Total, f.Offset+n))
				}
				if all.Total == 0 {
					t.Line("There are none. Add one with: ubiquon file add harbour.jpg")
				}
			})
		},
	}
	c.Flags().StringVar(&f.Search, "search", "", "those with this text in name or description")
	c.Flags().StringVar(&f.Type, "type", "", "of a media type, as in image/*")
	c.Flags().StringVar(&f.Tag, "tag", "", "those with a tag")
	c.Flags().StringVar(&f.Use, "use", "", "used or unused")
	c.Flags().BoolVar(&f.Undescribed, "undescribed", false, "pictures without a description")
	c.Flags().StringVar(&f.Sort, "sort", "", "updated, name or bytes, descending with a minus before it")
	c.Flags().IntVar(&f.Limit, "limit", 50, "how many, 500 at most")
	c.Flags().IntVar(&f.Offset, "offset", 0, "how many to leave out")
	return c
}

func fileState(f api.File) string {
	if f.Published {
		return "published"
	}
	return "draft"
}

// sizeText is a number of bytes for people.
func sizeText(n int64) string {
	for _, unit := range []struct {
		name string
		size int64
	}{{"GB", 1e9}, {"MB", 1e6}, {"KB", 1e3}} {
		if n >= unit.size {
			return strconv.FormatFloat(float64(n)/float64(unit.size), 'f', 1, 64) + " " + unit.name
		}
	}
	return strconv.FormatInt(n, 10) + " B"
}

func pixels(f api.File) string {
	if f.Width == 0 {
		return "–"
	}
	return fmt.Sprintf("%d × %d", f.Width, f.Height)
}

// altOf is what a picture is described by, in whatever locale.
func altOf(f api.File) string {
	if f.Description["decorative"] == true {
		return "(decorative)"
	}
	per, _ := f.Description["alt"].(map[string]any)
	for _, tag := range slices.Sorted(maps.Keys(per)) {
		return fmt.Sprint(per[tag])
	}
	return ""
}

func (a *Commands) fileShow() *cobra.Command {
	return &cobra.Command{
		Use: "show ID", Short: "Show a file, its addresses and where it is used", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			f, err := s.Files().Get(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.Print(f, func(t *command.Table) {
				drawFile(t, f.File)
				for i, use := range f.UsedBy {
					head := ""
					if i == 0 {
						head = "used by"
					}
					t.Row(head, t.Short(use.Title, 40)+"  "+use.Type+"."+use.Field+"  "+use.Entry)
				}
				if len(f.UsedBy) == 0 {
					t.Row("used by", "nothing")
				}
			})
		},
	}
}

func drawFile(t *command.Table, f api.File) {
	t.Row("id", f.ID)
	t.Row("name", f.Name)
	t.Row("type", f.MediaType+", "+sizeText(f.Bytes)+", "+pixels(f))
	t.Row("state", fileState(f))
	for _, name := range []string{"alt", "caption", "credit", "tags", "focus"} {
		if v := f.Description[name]; v != nil {
			src, _ := json.Marshal(v) // it came out of JSON
			t.Row(name, string(src))
		}
	}
	t.Row("address", f.URL)
	if f.Image != "" {
		t.Row("pictures", f.Image+"/full/640,/0/default.jpg")
	}
}

// piecewiseFrom is the size from which files are uploaded in pieces.
const piecewiseFrom = 16 << 20

// sendFile uploads one file, in pieces if it is large.
func (a *Commands) sendFile(
	ctx context.Context,
	s *client.Client,
	path, name, replace string,
	publish bool,
) (api.File, error) {
	f, err := os.Open(path)
	if err != nil {
		return api.File{}, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return api.File{}, err
	}
	if info.IsDir() {
		return api.File{}, fmt.Errorf("%s is a directory; name files", path)
	}
	if info.Size() < piecewiseFrom {
		if replace != "" {
			return s.Files().Replace(ctx, f, api.FileReplacement{ID: replace, Name: name, Publish: publish})
		}
		return s.Files().Upload(ctx, f, api.FileUpload{Name: name, Publish: publish})
	}
	status, err := s.Status(ctx)
	if err != nil {
		return api.File{}, err
	}
	progress := a.Progress()
	defer progress.End()
	return s.Files().UploadPiecewise(ctx, client.Piecewise{
		Body: f, Bytes: info.Size(), Name: name, Replace: replace, Publish: publish, Environment: status.Environment,
		Progress: func(sent int64) { progress.Show("%s: %s of %s", name, sizeText(sent), sizeText(info.Size())) },
	})
}

func (a *Commands) fileAdd() *cobra.Command {
	var publish bool
	var d description
	c := &cobra.Command{
		Use: "add FILE|ADDRESS...", Short: "Upload files, or have the service fetch them", Args: cobra.MinimumNArgs(1),
		Long: `Uploads files to the library; what begins with http:// or https:// the service
fetches itself. A file is published with the first entry that shows it, or at once
with --publish. Large files go in pieces, and go on where they were after an
interruption.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if err := d.check(); err != nil {
				return err
			}
			var all []api.File
			for _, path := range args {
				var f api.File
				if strings.HasPrefix(path, "http://") || strings.HasPrefix(path, "https://") {
					f, err = s.Files().Fetch(cmd.Context(), api.FileFetch{Address: path, Publish: publish})
				} else {
					f, err = a.sendFile(cmd.Context(), s, path, filepath.Base(path), "", publish)
				}
				if err == nil && d.isGiven() {
					f, err = a.describe(cmd, s, f.ID, &d, publish)
				}
				if err != nil {
					return fmt.Errorf("%s: %w", path, err)
				}
				all = append(all, f)
			}
			return a.Print(map[string]any{"items": all}, func(t *command.Table) {
				t.Row("ID", "NAME", "TYPE", "SIZE", "PIXELS", "STATE")
				for _, f := range all {
					t.Row(f.ID, f.Name, f.MediaType, sizeText(f.Bytes), pixels(f), fileState(f))
				}
			})
		},
	}
	c.Flags().BoolVar(&publish, "publish", false, "show them to readers at once")
	d.flags(c)
	return c
}

func (a *Commands) fileReplace() *cobra.Command {
	var publish, keepName bool
	c := &cobra.Command{
		Use: "replace ID FILE", Short: "Give a file other bytes; its id, description and uses stay", Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			name := filepath.Base(args[1])
			if keepName {
				d, err := s.Files().Get(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				name = d.Name
			}
			f, err := a.sendFile(cmd.Context(), s, args[1], name, args[0], publish)
			if err != nil {
				return err
			}
			return a.Print(f, func(t *command.Table) { drawFile(t, f) })
		},
	}
	c.Flags().BoolVar(&publish, "publish", false, "show the new bytes to readers at once; else they are a draft")
	c.Flags().BoolVar(&keepName, "keep-name", false, "keep the name that it has")
	return c
}

func (a *Commands) fileRemove() *cobra.Command {
	var evenIfUsed bool
	c := &cobra.Command{
		Use: "remove ID...", Short: "Delete files that nothing shows", Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			edits := make([]api.Edit, len(args))
			for i, id := range args {
				if _, err := s.Files().Get(cmd.Context(), id); err != nil {
					return fmt.Errorf("file %s: %w", id, err)
				}
				edits[i] = api.Edit{ID: id, Do: "delete", EvenIfReferred: evenIfUsed}
			}
			out, err := s.Entries().Edit(cmd.Context(), edits...)
			var p *api.Problem
			if errors.As(err, &p) && len(p.ReferredBy) > 0 {
				return fmt.Errorf("%w\nShown by %s (%s), for one; take it out there, or say --even-if-used", err,
					p.ReferredBy[0].Title, p.ReferredBy[0].Entry)
			}
			if err != nil {
				return err
			}
			return a.Print(out, func(t *command.Table) { t.Line(fmt.Sprintf("Deleted: %s", strings.Join(args, ", "))) })
		},
	}
	c.Flags().BoolVar(&evenIfUsed, "even-if-used", false, "delete them although entries show them")
	return c
}

func (a *Commands) fileCheck() *cobra.Command {
	var o api.FileCheckOptions
	c := &cobra.Command{
		Use: "check", Args: cobra.NoArgs,
		Short: "Compare what is kept of files with what is noted, and collect what nobody uses",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			var last api.FileCheck
			progress := a.Progress()
			err = s.Files().Check(cmd.Context(), o, func(c api.FileCheck) {
				last = c
				progress.Show("%d files checked", c.Checked)
			})
			progress.End()
			if err != nil {
				return err
			}
			if err := a.Print(last, func(t *command.Table) {
				t.Row("checked", fmt.Sprintf("%d files, %s", last.Checked, sizeText(last.Bytes)))
				t.Row("missing", hashes(last.Missing))
				t.Row("damaged", hashes(last.Damaged))
				t.Row("orphans", hashes(last.Orphans))
				t.Row("collected", strconv.Itoa(last.Collected))
				t.Row("renderer", last.Renderer)
			}); err != nil {
				return err
			}
			if n := len(last.Missing) + len(last.Damaged); n > 0 {
				return fmt.Errorf("%d files are missing or damaged; bring back their bytes from a backup", n)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&o.Hashes, "hashes", false, "read all bytes and compare their hashes")
	c.Flags().BoolVar(&o.Collect, "collect", false, "remove what nobody uses any more")
	return c
}

func hashes(all []string) string {
	if len(all) == 0 {
		return "none"
	}
	return strings.Join(all, " ")
}
