package cli

import (
	"github.com/spf13/cobra"
)

func (a *app) build() *cobra.Command {
	var site string
	var limit int
	list := &cobra.Command{
		Use: "list", Short: "List builds, the newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			builds, err := s.Builds(cmd.Context(), site, limit)
			if err != nil {
				return err
			}
			return a.print(map[string]any{"items": builds}, func(t *table) {
				t.row("SITE", "NUMBER", "STATE", "SEQUENCE", "CAUSES", "REQUESTED", "WAITED", "TOOK", "ERROR")
				for _, b := range builds {
					t.row(b.Site, b.Number, b.State, b.Sequence, len(b.Causes), when(&b.FirstRequest), between(&b.FirstRequest, b.Called),
						between(b.Called, b.Finished), short(b.Error, 24))
				}
			})
		},
	}
	list.Flags().StringVar(&site, "site", "", "only builds of this site")
	list.Flags().IntVar(&limit, "limit", 20, "how many at most")
	return noun("build", "Look at the builds of sites", list)
}
