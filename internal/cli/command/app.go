// Package command is what all commands of the command line share: flags, the service that
// is meant, output as a table, JSON or YAML, completion, and errors of usage.
package command

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/client"
)

// App is what all commands share. It is for one run of the command line.
type App struct {
	In       io.Reader
	Out, Err io.Writer
	// Address, Key and Context are the flags that name the service; Output is table, json or
	// yaml.
	Address, Key, Context, Output string
}

// Misuse is an error of how the command was called.
type Misuse struct{ Err error }

// Error implements error.
func (m Misuse) Error() string { return m.Err.Error() }

// Unwrap returns what is wrong.
func (m Misuse) Unwrap() error { return m.Err }

// Misusef returns a Misuse with a formatted text.
func Misusef(format string, args ...any) error { return Misuse{fmt.Errorf(format, args...)} }

// Service is the client of the running service: of flags, variables and the context that
// is in use, the first that says something counts, for the address and the key apart. A
// context that is named counts before the variables.
func (a *App) Service() (*client.Client, error) {
	c := &client.Client{Address: a.Address, Key: a.Key}
	named := cmp.Or(a.Context, os.Getenv("UBIQUON_CONTEXT"))
	known, dir, err := readContexts()
	if err != nil && named != "" {
		return nil, err
	}
	if named == "" {
		c.Address, c.Key = cmp.Or(c.Address, os.Getenv("UBIQUON_ADDRESS")), cmp.Or(c.Key, os.Getenv("UBIQUON_KEY"))
		if err == nil && (c.Address == "" || c.Key == "") {
			named = known.Current
		}
	}
	// The key of a context is for its address alone.
	if named != "" && c.Address == "" {
		address, key, err := known.named(dir, named)
		if err != nil {
			return nil, err
		}
		c.Address, c.Key = address, cmp.Or(c.Key, key)
	}
	if c.Address == "" {
		c.Address = "http://127.0.0.1:8400"
	}
	if !strings.Contains(c.Address, "://") {
		c.Address = "http://" + c.Address
	}
	// What readers have in UBIQUON_ADDRESS leads to an edition.
	c.Address, _, _ = strings.Cut(c.Address, "/content/")
	c.Address = strings.TrimSuffix(c.Address, "/")
	if c.Key == "" {
		return nil, Misusef(
			"no key; give one with --key or UBIQUON_KEY, or remember one with ubiquon context add (the demo's are " +
				"in .ubiquon/demo.json)",
		)
	}
	return c, nil
}

// Noun makes the command that groups a noun's verbs.
func Noun(use, short string, verbs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		return Misusef("say what to do with it; see %s --help", cmd.CommandPath())
	}}
	c.AddCommand(verbs...)
	return c
}

// Find returns the id of an entry that is named by id, or as type/slug.
func (a *App) Find(ctx context.Context, s *client.Client, name string) (string, error) {
	typ, slug, bySlug := strings.Cut(name, "/")
	if !bySlug {
		return name, nil
	}
	items, _, err := s.Entries().List(ctx, api.EntryFilter{Type: typ, Search: slug, Limit: 2})
	if err != nil {
		return "", err
	}
	if len(items) != 1 {
		return "", &api.Problem{
			Status: http.StatusNotFound,
			Title:  "Not found",
			Detail: fmt.Sprintf(
				"%d entries of type %q fit %q; name one by its id, see: ubiquon entry list --type %s --search %s",
				len(items), typ, slug, typ, slug,
			),
		}
	}
	return items[0].ID, nil
}

// ShortFrom is Short for a text whose end says more than its beginning.
func (t *Table) ShortFrom(text []rune, from int) string {
	if t.width > 0 && from > 0 && from < len(text) {
		return "…" + t.Short(string(text[from:]), 33)
	}
	return OrDash(t.Short(string(text), 34))
}

// Confirm asks a question on the terminal and reports whether the answer is yes.
func (a *App) Confirm(question string) bool {
	fmt.Fprintf(a.Err, "%s [y/N] ", question)
	answer, _ := bufio.NewReader(a.In).ReadString('\n') // no answer is a no
	answer = strings.ToLower(strings.TrimSpace(answer))
	return answer == "y" || answer == "yes"
}
