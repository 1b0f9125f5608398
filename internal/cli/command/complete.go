package command

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
	"ubiquon/internal/core/content"
)

// completing bounds how long the shell waits for the service.
const completing = 2 * time.Second

// completion gives the words that may stand in a place, as the service has them.
type completion = func(context.Context, *client.Client, string) ([]string, error)

// with is the completion for cobra; the service is asked, and where it does not answer
// there are no words.
func (a *App) with(words completion) cobra.CompletionFunc {
	return func(cmd *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		s, err := a.Service()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		ctx, cancel := context.WithTimeout(context.WithoutCancel(cmd.Context()), completing)
		defer cancel()
		// What comes before the last comma is given already.
		before := begun[:strings.LastIndex(begun, ",")+1]
		all, err := words(ctx, s, strings.TrimPrefix(begun, before))
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		for i := range all {
			all[i] = before + all[i]
		}
		return all, cobra.ShellCompDirectiveNoFileComp
	}
}

func someTypes(ctx context.Context, s *client.Client, _ string) ([]string, error) {
	m, err := s.Models().Present(ctx)
	if err != nil {
		return nil, err
	}
	return m.TypeNames(), nil
}

func someLocales(ctx context.Context, s *client.Client, _ string) ([]string, error) {
	m, err := s.Models().Present(ctx)
	if err != nil {
		return nil, err
	}
	return m.Tags(), nil
}

func someEditions(context.Context, *client.Client, string) ([]string, error) {
	return slices.Clone(content.Editions), nil
}

// someEntries are ids with titles, of entries that the begun word finds.
func someEntries(ctx context.Context, s *client.Client, begun string) ([]string, error) {
	items, _, err := s.Entries().List(ctx, api.EntryFilter{Search: begun, Limit: 50})
	var out []string
	for _, e := range items {
		out = append(out, e.ID+"\t"+e.Title)
	}
	return out, err
}

func someKeys(ctx context.Context, s *client.Client, _ string) ([]string, error) {
	keys, _, err := s.Keys().List(ctx)
	var out []string
	for _, k := range keys {
		if k.Revoked == nil {
			out = append(out, k.ID+"\t"+k.Name)
		}
	}
	return out, err
}

func someSites(ctx context.Context, s *client.Client, _ string) ([]string, error) {
	st, err := s.Status(ctx)
	var out []string
	for _, site := range st.Sites {
		out = append(out, site.Name)
	}
	return out, err
}

func someOrigins(ctx context.Context, s *client.Client, _ string) ([]string, error) {
	all, err := s.Origins().List(ctx)
	var out []string
	for _, o := range all {
		out = append(out, o.Name)
	}
	return out, err
}

// completions are the words for flags and for the first argument, by the word that help
// has for it.
var (
	flagCompletions = map[string]completion{
		"type":      someTypes,
		"locale":    someLocales,
		"missing":   someLocales,
		"edition":   someEditions,
		"origin":    someOrigins,
		"site":      someSites,
		"refers-to": someEntries,
	}
	argCompletions = map[string]completion{
		"ID":     someEntries,
		"ENTRY":  someEntries,
		"TYPE":   someTypes,
		"KEY":    someKeys,
		"SITE":   someSites,
		"ORIGIN": someOrigins,
		"OLD":    someOrigins,
	}
)

// Complete gives every command the completions of its flags and its first argument.
func (a *App) Complete(c *cobra.Command) {
	for name, words := range flagCompletions {
		if c.Flags().Lookup(name) != nil {
			_ = c.RegisterFlagCompletionFunc(name, a.with(words)) // it fails for a flag that has one
		}
	}
	_, args, _ := strings.Cut(c.Use, " ")
	first, _, _ := strings.Cut(args, " ")
	first, _, _ = strings.Cut(strings.Trim(first, "[]…"), "|")
	words := argCompletions[strings.TrimRight(first, "…")]
	if parent := c.Parent(); parent != nil &&
		slices.Contains([]string{"event", "document", "schedule", "preview", "cache", "build"}, parent.Name()) &&
		first != "SITE" {
		words = nil // those are ids and keys of something else
	}
	if words != nil && c.ValidArgsFunction == nil {
		c.ValidArgsFunction = a.with(words)
	}
	for _, sub := range c.Commands() {
		a.Complete(sub)
	}
}
