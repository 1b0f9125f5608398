package demo

import (
	"bytes"
	"context"
	"embed"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/environment"
	"ubiquon/internal/files"
	"ubiquon/internal/settings"
	"ubiquon/internal/standin/office"
	"ubiquon/internal/store/writing"
)

//go:embed skerry
var skerry embed.FS

// Model returns the Skerry Line's model.
func Model() (*model.Model, error) {
	files := map[string][]byte{}
	err := fs.WalkDir(skerry, "skerry/model", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		files[strings.TrimPrefix(path, "skerry/")], err = skerry.ReadFile(path)
		return err
	})
	if err != nil {
		return nil, err
	}
	return model.Read(files)
}

// Settings reads the line's settings; replacements are applied to their text before, in pairs:
// the addresses they are written with and the real ones, and the names of their secrets with
// their values.
func Settings(replacements ...string) (settings.Seed, error) {
	files := map[string][]byte{}
	for _, name := range []string{"origins.yaml", "sites.yaml", "rules.yaml", "settings.yaml"} {
		src, err := skerry.ReadFile("skerry/" + name)
		if err != nil {
			return settings.Seed{}, err
		}
		files[name] = []byte(strings.NewReplacer(replacements...).Replace(string(src)))
	}
	f, err := settings.ReadFolder(files)
	if err != nil {
		return settings.Seed{}, err
	}
	return settings.Seed{
		Origins: f.Set.Origins, Sites: f.Set.Sites, Rules: f.Set.Rules, Targets: f.Set.Targets, Mail: f.Set.Mail,
		Apply: true, // addresses may be others at every start
	}, nil
}

// LoadContent writes the line's own content, as far as it is not there yet.
// Pictures are drawn and uploaded.
func LoadContent(ctx context.Context, g *environment.Environment) (int, error) {
	src, err := skerry.ReadFile("skerry/content.yaml")
	if err != nil {
		return 0, err
	}
	var all map[string][]content.Fields
	if err := yaml.Unmarshal(src, &all); err != nil {
		return 0, err
	}
	var edits []writing.Edit
	for _, typ := range slices.Sorted(maps.Keys(all)) {
		t := g.Replica.Model().Type(typ)
		for _, fields := range all[typ] {
			key, _ := fields["key"].(string)
			edit := writing.Edit{
				ID:        content.MakeID(content.Local, typ, key),
				Type:      typ,
				Origin:    content.Local,
				OriginKey: key,
				Live:      writing.PublishNewest,
			}
			if fields["draft"] == true {
				edit.Live = writing.KeepLive
			}
			delete(fields, "key")
			delete(fields, "draft")
			if _, err := g.Diagnosis.Entry(ctx, edit.ID); err == nil {
				continue // what was written since is not overwritten
			}
			if edit.Save, err = resolve(ctx, g, t, fields); err != nil {
				return 0, err
			}
			edits = append(edits, edit)
		}
	}
	if len(edits) == 0 {
		return 0, nil
	}
	_, err = g.Authoring.Apply(ctx, edits, "demo", content.Cause{Kind: "import", Name: "demo"})
	return len(edits), err
}

// resolve turns the short names of linked entries and pictures into what is
// stored.
func resolve(
	ctx context.Context, g *environment.Environment, t *model.Type, fields content.Fields,
) (content.Fields, error) {
	for name, v := range fields {
		f := t.Field(name)
		if f == nil {
			continue
		}
		switch f.Kind {
		case model.Reference:
			if list, ok := v.([]any); ok {
				for i := range list {
					list[i] = content.MakeID(content.Local, f.Types[0], fmt.Sprint(list[i]))
				}
			} else {
				fields[name] = content.MakeID(content.Local, f.Types[0], fmt.Sprint(v))
			}
		case model.File:
			id, err := uploadPicture(ctx, g, fmt.Sprint(v), fmt.Sprint(fields["name"]))
			if err != nil {
				return nil, err
			}
			fields[name] = map[string]any{"file": id}
		}
	}
	return fields, nil
}

// uploadPicture draws a picture and uploads it, unless it is there.
func uploadPicture(ctx context.Context, g *environment.Environment, name, shows string) (string, error) {
	id := content.MakeID(content.Local, model.FileType, name)
	if _, err := g.Files.Get(ctx, id); err == nil {
		return id, nil
	}
	src, boat := Picture(name)
	description := content.Fields{"credit": "Skerry Line", "focus": boat}
	if shows != "<nil>" {
		description["alt"] = map[string]any{"en": "A boat off " + shows, "nb": "En båt utenfor " + shows}
	}
	_, err := g.Files.Add(ctx, bytes.NewReader(src), files.Upload{
		ID: id, Name: name + ".jpg", Publish: true, Description: description, By: "demo",
		Cause: content.Cause{Kind: "import", Name: "demo"},
	})
	return id, err
}

// resolveParts turns the short names of pictures and pages within the parts of a
// page into what the office holds.
func resolveParts(item map[string]any, pictures string) {
	parts, _ := item["parts"].([]any)
	for _, one := range parts {
		part, _ := one.(map[string]any)
		photos, _ := part["photos"].([]any)
		for _, p := range photos {
			photo, _ := p.(map[string]any)
			photo["href"] = pictures + fmt.Sprint(photo["href"]) + ".jpg"
		}
		if words, ok := part["copy"].(string); ok {
			part["copy"] = strings.ReplaceAll(
				words, "ref:PAGE-P-1", "ref:"+content.MakeID("harbour-office", "page", "P-1"),
			)
		}
	}
	translations, _ := item["translations"].(map[string]any)
	for _, t := range translations {
		if inner, ok := t.(map[string]any); ok {
			resolveParts(inner, pictures)
		}
	}
}

// OfficeSeed returns what the harbour office holds at its first start.
func OfficeSeed(pictures string) (map[string][]office.Fields, error) {
	src, err := skerry.ReadFile("skerry/office.yaml")
	if err != nil {
		return nil, err
	}
	var all map[string][]office.Fields
	if err := yaml.Unmarshal(src, &all); err != nil {
		return nil, err
	}
	for _, items := range all {
		for _, item := range items {
			resolveParts(item, pictures)
			if photo, ok := item["photo"].(map[string]any); ok {
				photo["href"] = pictures + fmt.Sprint(photo["href"]) + ".jpg"
			}
			if portrait, ok := item["portrait"].(string); ok {
				item["portrait"] = map[string]any{
					"href":    pictures + portrait + ".jpg",
					"caption": fmt.Sprint(item["fullName"]),
				}
			}
		}
	}
	return all, nil
}
