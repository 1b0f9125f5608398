package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"ubiquon/internal/client"
	"ubiquon/internal/core/rebuild"
)

// The origins that swap places.
const (
	fromOffice = "harbour-office"
	fromFolder = "dispatch-folder"
)

// swap moves the dispatches from the harbour office to a folder of Markdown, and has the site built before
// and after: its files must be the same. An origin that has been swapped is left as it is.
func (d *Demo) swap(ctx context.Context, data string, say func(string, ...any)) error {
	admin := &client.Client{Address: d.Connection.Gateway, Key: d.Connection.Keys.Admin}
	all, err := admin.Origins().List(ctx)
	if err != nil {
		return err
	}
	for _, o := range all {
		if o.Name == fromFolder && o.Entries > 0 {
			say("The dispatches are read from the folder already")
			return nil
		}
	}
	dir, err := filepath.Abs(filepath.Join(data, "dispatches"))
	if err != nil {
		return err
	}
	n, err := d.writeDispatches(ctx, dir)
	if err != nil {
		return fmt.Errorf("writing the dispatches into %s: %w", dir, err)
	}
	say("Wrote %d dispatches of the office as Markdown into %s", n, dir)
	spec, err := folderOrigin(dir)
	if err != nil {
		return err
	}
	if _, err := admin.Settings().Put(ctx, "origin", fromFolder, spec, 0, false); err != nil {
		return err
	}
	before, err := d.builtSite(ctx, admin, data)
	if err != nil {
		return err
	}
	rehearsed, err := admin.Origins().Swap(ctx, fromOffice, fromFolder, "", false, nil)
	if err != nil {
		return err
	}
	if of := rehearsed.Differences; of.DifferentAll+of.MissingAll+of.NotTakenAll > 0 {
		return fmt.Errorf("%d dispatches would differ, %d would be new, %d not taken: %+v", of.DifferentAll,
			of.MissingAll, of.NotTakenAll, of)
	}
	say("Rehearsed: %d dispatches would change hands, and readers see no difference", rehearsed.Adoption.Adopted)
	if _, err := admin.Origins().Swap(ctx, fromOffice, fromFolder, "", true, nil); err != nil {
		return err
	}
	after, err := d.builtSite(ctx, admin, data)
	if err != nil {
		return err
	}
	for name := range after {
		if before[name] != after[name] {
			return fmt.Errorf("%s of the site is another one since the folder is read", name)
		}
	}
	if len(before) != len(after) {
		return fmt.Errorf("the site has %d files since the folder is read, and had %d", len(after), len(before))
	}
	say("Swapped: the site was built again, and its %d files are the same, byte by byte", len(after))
	say("  take it back: ubiquon origin swap %s %s --apply", fromFolder, fromOffice)
	return nil
}

// followOffice says where the harbour office is now, if its origin was swapped: its configuration is no longer
// the one that a start gives.
func (d *Demo) followOffice(ctx context.Context) error {
	admin := &client.Client{Address: d.Connection.Gateway, Key: d.Connection.Keys.Admin}
	saved, err := admin.Settings().Get(ctx, "origin", fromOffice)
	if err != nil {
		return err
	}
	var spec struct {
		Pull struct{ HTTP string }
	}
	if err := json.Unmarshal(saved.Spec, &spec); err != nil {
		return err
	}
	was := strings.TrimSuffix(spec.Pull.HTTP, "/api")
	if was == d.Connection.Office {
		return nil
	}
	now := bytes.ReplaceAll(saved.Spec, []byte(was), []byte(d.Connection.Office))
	_, err = admin.Settings().Put(ctx, "origin", fromOffice, now, 0, false)
	return err
}

// folderOrigin is the configuration of the origin that reads the folder, as JSON.
func folderOrigin(dir string) ([]byte, error) {
	src, err := skerry.ReadFile("skerry/swap.yaml")
	if err != nil {
		return nil, err
	}
	var f struct {
		Origins map[string]json.RawMessage `json:"origins"`
	}
	asJSON, err := yaml.YAMLToJSON(bytes.ReplaceAll(src, []byte("/demo/dispatches"), []byte(dir)))
	if err == nil {
		err = json.Unmarshal(asJSON, &f)
	}
	return f.Origins[fromFolder], err
}

// sequenceMark says of which state of the content a page was made.
var sequenceMark = regexp.MustCompile(`<meta name="ubiquon-sequence" content="\d+">`)

// builtSite has the site built, and returns its files, without the mark of the state that they were made of.
func (d *Demo) builtSite(ctx context.Context, admin *client.Client, data string) (map[string]string, error) {
	b, err := admin.Builds().Rebuild(ctx, "skerry-web", true)
	for err == nil && b.State != rebuild.Finished {
		if b.State == rebuild.Failed || b.State == rebuild.Cancelled {
			return nil, fmt.Errorf("the build is %s: %s", b.State, b.Error)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
		b, err = admin.Builds().Get(ctx, b.ID)
	}
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	site := os.DirFS(filepath.Join(data, "slipway", "current"))
	return out, fs.WalkDir(site, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		src, err := fs.ReadFile(site, name)
		out[name] = sequenceMark.ReplaceAllString(string(src), "")
		return err
	})
}

// report is an item of the harbour office as its interface has it, one of its staff in as far as needed.
type report struct {
	Ref, Status, Headline, Address, Standfirst, Copy, By string
	WentLive                                             string
	Topics                                               []string
	Photo                                                struct{ Href, Caption string }
	Translations                                         map[string]report
	Live                                                 *report
}

// writeDispatches writes the reports of the harbour office as files of Markdown, with their pictures beside
// them and translations in files of their own, and returns how many.
func (d *Demo) writeDispatches(ctx context.Context, dir string) (int, error) {
	var staff, reports []report
	for kind, into := range map[string]*[]report{"staff": &staff, "reports": &reports} {
		for page := 0; ; page++ {
			var list map[string]json.RawMessage
			var some []report
			err := d.callOffice(ctx, http.MethodGet, fmt.Sprintf("/api/%s?page=%d", kind, page), nil, &list)
			if err == nil {
				err = json.Unmarshal(list[kind], &some)
			}
			if err != nil {
				return 0, err
			}
			if len(some) == 0 {
				break
			}
			*into = append(*into, some...)
		}
	}
	slugs := map[string]string{}
	for _, s := range staff {
		slugs[s.Ref] = s.Address
	}
	if err := os.MkdirAll(filepath.Join(dir, "pictures"), 0o755); err != nil {
		return 0, err
	}
	for _, r := range reports {
		live := r.Live
		if live == nil {
			live = &r
		}
		front := yaml.MapSlice{{Key: "title", Value: live.Headline}}
		add := func(key string, value any, is bool) {
			if is {
				front = append(front, yaml.MapItem{Key: key, Value: value})
			}
		}
		add("lead", live.Standfirst, live.Standfirst != "")
		add("status", "draft", r.Live == nil && r.Status != "live")
		add("published", r.WentLive, r.WentLive != "")
		add("writer", slugs[live.By], live.By != "")
		add("topics", live.Topics, len(live.Topics) > 0)
		if live.Photo.Href != "" {
			name := path.Base(live.Photo.Href)
			src, _ := Picture(strings.TrimSuffix(name, ".jpg"))
			if err := os.WriteFile(filepath.Join(dir, "pictures", name), src, 0o600); err != nil {
				return 0, err
			}
			add("picture", "pictures/"+name, true)
			add("alt", live.Photo.Caption, true)
		}
		if err := writeMarkdown(dir, live.Address+".md", front, live.Copy); err != nil {
			return 0, err
		}
		for _, tag := range slices.Sorted(maps.Keys(live.Translations)) {
			t := live.Translations[tag]
			front = yaml.MapSlice{{Key: "title", Value: t.Headline}}
			add("lead", t.Standfirst, t.Standfirst != "")
			if err := writeMarkdown(dir, live.Address+"."+tag+".md", front, t.Copy); err != nil {
				return 0, err
			}
		}
	}
	return len(reports), nil
}

func writeMarkdown(dir, name string, front yaml.MapSlice, text string) error {
	src, err := yaml.Marshal(front)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, name), []byte("---\n"+string(src)+"---\n"+text), 0o600)
}
