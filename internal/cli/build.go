package cli

import (
	"fmt"

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

func (a *app) cache() *cobra.Command {
	stats := &cobra.Command{
		Use: "stats", Short: "Say what the cache holds and has done", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			st, err := s.CacheStats(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(st, func(t *table) {
				share := "–"
				if all := st.Hits + st.Misses + st.Joined; all > 0 {
					share = fmt.Sprintf("%.1f %%", 100*float64(st.Hits)/float64(all))
				}
				t.row("responses", st.Responses)
				t.row("bytes", fmt.Sprintf("%d of %d", st.Bytes, st.Limit))
				t.row("hits", st.Hits, share)
				t.row("misses", st.Misses)
				t.row("waited for another's", st.Joined)
				t.row("expired by a change", st.Expired)
				t.row("evicted for room", st.Evicted)
				t.row("not stored", st.Refused)
				t.row("applied sequence", st.Applied)
			})
		},
	}
	purge := &cobra.Command{
		Use: "purge", Short: "Throw away every cached answer", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			n, err := s.Purge(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(map[string]int{"purged": n}, func(t *table) { t.line(fmt.Sprintf("%d answers thrown away", n)) })
		},
	}
	return noun("cache", "Look after the cache", stats, purge)
}
