package contentcmd

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
)

// Document returns the command document.
func (a *Commands) Document() *cobra.Command {
	c := command.Noun("document", "GraphQL documents that readers name instead of sending them")
	c.AddCommand(&cobra.Command{
		Use: "add FILE…", Short: "Register trusted GraphQL documents, and print their ids",
		Args: cobra.MinimumNArgs(1),
		Long: `Trusts GraphQL documents. Readers name one by documentId instead of sending it;
with graphql: {trustedOnly: true} in the configuration nothing else is answered.
The id is sha256: and the hash of the text, so a build can work it out by itself; a
document can also be named by its file's name. A .json file is a manifest, as code
generators write it: an object of ids and texts. By those ids they are named then.`,
		Example: `  ubiquon document add src/queries/*.graphql
  ubiquon document add persisted.json`,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			var added []api.TrustedDocument
			for _, file := range args {
				src, err := os.ReadFile(file)
				if err != nil {
					return err
				}
				documents := map[string]string{
					strings.TrimSuffix(filepath.Base(file), filepath.Ext(file)): string(src),
				}
				if filepath.Ext(file) == ".json" {
					clear(documents)
					if err := json.Unmarshal(src, &documents); err != nil {
						return fmt.Errorf("%s is no JSON object of ids and texts: %w", file, err)
					}
				}
				for _, name := range slices.Sorted(maps.Keys(documents)) {
					d, err := s.Reads().AddDocument(cmd.Context(), name, documents[name])
					if err != nil {
						return fmt.Errorf("%s, %s: %w", file, name, err)
					}
					added = append(added, d)
				}
			}
			return a.Print(map[string]any{"items": added}, func(t *command.Table) { drawDocuments(t, added) })
		},
	}, &cobra.Command{
		Use: "list", Short: "List the trusted documents", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			all, err := s.Reads().Documents(cmd.Context())
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": all}, func(t *command.Table) { drawDocuments(t, all) })
		},
	}, &cobra.Command{
		Use: "remove ID|NAME", Short: "Remove a trusted document", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if err := s.Reads().RemoveDocument(cmd.Context(), args[0]); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "%s is not trusted any more\n", args[0])
			return nil
		},
	})
	return c
}

func drawDocuments(t *command.Table, all []api.TrustedDocument) {
	if len(all) == 0 {
		t.Line("no document is trusted yet; add some with: ubiquon document add FILE…")
		return
	}
	t.Row("NAME", "ID", "ADDED", "BY")
	for i := range all {
		t.Row(all[i].Name, all[i].ID, command.When(&all[i].Added), all[i].By)
	}
}
