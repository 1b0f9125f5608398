package command

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/core/strictyaml"
)

// contexts are the services that somebody works with, by name: a file in the user's
// configuration directory, and beside it a file for each key, which nobody else can read.
type contexts struct {
	Current   string            `json:"current,omitempty"`
	Addresses map[string]string `json:"addresses"`
}

var contextName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

func contextDir() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no configuration directory: %w", err)
	}
	return filepath.Join(dir, "ubiquon"), nil
}

func readContexts() (c contexts, dir string, err error) {
	c.Addresses = map[string]string{}
	if dir, err = contextDir(); err != nil {
		return c, dir, err
	}
	src, err := os.ReadFile(filepath.Join(dir, "contexts.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return c, dir, nil
	}
	if err == nil {
		err = json.Unmarshal(src, &c)
	}
	if err != nil {
		return c, dir, fmt.Errorf("%s: %w", filepath.Join(dir, "contexts.json"), err)
	}
	return c, dir, nil
}

func (c contexts) write(dir string) error {
	src, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return err
	}
	return writePrivate(filepath.Join(dir, "contexts.json"), append(src, '\n'))
}

// writePrivate writes a file that only the user can read.
func writePrivate(file string, src []byte) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(file+".new", src, 0o600); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

func keyFile(dir, name string) string { return filepath.Join(dir, "keys", name) }

// named returns the address and the key of a context.
func (c contexts) named(dir, name string) (address, key string, err error) {
	address, known := c.Addresses[name]
	if !known {
		return "", "", Misusef(
			"there is no context %q%s; see ubiquon context list", name,
			strictyaml.DidYouMean(name, slices.Sorted(maps.Keys(c.Addresses))),
		)
	}
	file := keyFile(dir, name)
	info, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) {
		return address, "", nil
	}
	if err == nil && info.Mode().Perm()&0o077 != 0 {
		return "", "", fmt.Errorf("others can read the key in %s; chmod 600 it", file)
	}
	src, err := os.ReadFile(file)
	return address, strings.TrimSpace(string(src)), err
}

// ContextCommand returns the command context.
func (a *App) ContextCommand() *cobra.Command {
	return Noun("context", "Remember services and their keys by names", a.contextAdd(), a.contextUse(),
		a.contextList(), a.contextRemove())
}

func (a *App) contextAdd() *cobra.Command {
	add := &cobra.Command{
		Use: "add NAME", Short: "Remember a service by a name, with its key", Args: cobra.ExactArgs(1),
		Long: `Remembers --address and --key (or UBIQUON_ADDRESS and UBIQUON_KEY) by a name, in the
user's configuration directory; the key in a file of its own that nobody else can read.
The first one is used from then on.`,
		Example: "  ubiquon context add line --address https://gateway.skerry.example --key ubq_…",
		RunE: func(_ *cobra.Command, args []string) error {
			name := args[0]
			if !contextName.MatchString(name) {
				return Misusef("%q is no name for a context; use a-z, 0-9 and hyphens, 40 at most", name)
			}
			a.Context = ""
			s, err := a.Service()
			if err != nil {
				return err
			}
			c, dir, err := readContexts()
			if err != nil {
				return err
			}
			if c.Addresses[name] = s.Address; c.Current == "" {
				c.Current = name
			}
			if err := writePrivate(keyFile(dir, name), []byte(s.Key+"\n")); err != nil {
				return err
			}
			if err := c.write(dir); err != nil {
				return err
			}
			return a.Print(
				map[string]any{"name": name, "address": s.Address, "current": c.Current == name},
				func(t *Table) {
					t.Line(fmt.Sprintf("%s is %s, with the key in %s.", name, s.Address, keyFile(dir, name)))
					if c.Current != name {
						t.Line("→ ubiquon context use " + name)
					}
				},
			)
		},
	}
	return add
}

func (a *App) contextUse() *cobra.Command {
	use := &cobra.Command{
		Use: "use NAME", Short: "Switch to a remembered service", Args: cobra.ExactArgs(1),
		ValidArgsFunction: CompleteContexts,
		RunE: func(_ *cobra.Command, args []string) error {
			c, dir, err := readContexts()
			if err != nil {
				return err
			}
			if _, _, err := c.named(dir, args[0]); err != nil {
				return err
			}
			c.Current = args[0]
			if err := c.write(dir); err != nil {
				return err
			}
			return a.Print(
				map[string]string{"current": c.Current},
				func(t *Table) { t.Line("Commands go to " + c.Addresses[c.Current] + " now.") },
			)
		},
	}
	return use
}

func (a *App) contextList() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List remembered services", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			c, _, err := readContexts()
			if err != nil {
				return err
			}
			items := []map[string]any{}
			for _, name := range slices.Sorted(maps.Keys(c.Addresses)) {
				items = append(
					items, map[string]any{"name": name, "address": c.Addresses[name], "current": name == c.Current},
				)
			}
			return a.Print(map[string]any{"items": items}, func(t *Table) {
				t.Row("", "NAME", "ADDRESS")
				for _, one := range items {
					mark := ""
					if one["current"] == true {
						mark = "→"
					}
					t.Row(mark, one["name"], one["address"])
				}
			})
		},
	}
	return list
}

func (a *App) contextRemove() *cobra.Command {
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Remove a remembered service and its key", Args: cobra.ExactArgs(1),
		ValidArgsFunction: CompleteContexts,
		RunE: func(_ *cobra.Command, args []string) error {
			c, dir, err := readContexts()
			if err != nil {
				return err
			}
			if _, known := c.Addresses[args[0]]; !known {
				_, _, err := c.named(dir, args[0])
				return err
			}
			if delete(c.Addresses, args[0]); c.Current == args[0] {
				c.Current = ""
			}
			if err := os.Remove(keyFile(dir, args[0])); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			if err := c.write(dir); err != nil {
				return err
			}
			return a.Print(
				map[string]string{"removed": args[0]}, func(t *Table) { t.Line(args[0] + " is forgotten.") },
			)
		},
	}
	return remove
}

// CompleteContexts completes the names of remembered services.
func CompleteContexts(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	c, _, err := readContexts()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	return slices.Sorted(maps.Keys(c.Addresses)), cobra.ShellCompDirectiveNoFileComp
}
