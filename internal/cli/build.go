package cli

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/core/rebuild"
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
			builds, err := s.Builds().List(cmd.Context(), site, limit)
			if err != nil {
				return err
			}
			return a.print(map[string]any{"items": builds}, func(t *table) {
				t.row("SITE", "NUMBER", "STATE", "SEQUENCE", "CAUSES", "REQUESTED", "WAITED", "TOOK", "ERROR")
				for _, b := range builds {
					t.row(
						b.Site, b.Number, b.State, b.Sequence, len(b.Causes), when(&b.FirstRequest),
						between(&b.FirstRequest, b.Called), between(b.Called, b.Finished), t.short(b.Error, 24),
					)
				}
			})
		},
	}
	list.Flags().StringVar(&site, "site", "", "only builds of this site")
	list.Flags().IntVar(&limit, "limit", 20, "how many at most")
	show := &cobra.Command{
		Use: "show SITE/NUMBER|ID", Short: "Show one build: what was tried, and what comes next",
		Args:    cobra.ExactArgs(1),
		Example: "  ubiquon build show skerry-web/5",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			id := args[0]
			if site, number, is := strings.Cut(id, "/"); is {
				all, err := s.Builds().List(cmd.Context(), site, 500)
				if err != nil {
					return err
				}
				i := slices.IndexFunc(
					all, func(b rebuild.Build) bool { return strconv.FormatInt(b.Number, 10) == number },
				)
				if i < 0 {
					return fmt.Errorf(
						"there is no build %s of %s among the last 500; ubiquon build list --site %[2]s lists them",
						number, site,
					)
				}
				id = all[i].ID
			}
			b, err := s.Builds().Get(cmd.Context(), id)
			if err != nil {
				return err
			}
			return a.print(b, func(t *table) { drawBuild(t, &b) })
		},
	}
	var now bool
	start := &cobra.Command{
		Use: "start SITE", Short: "Ask for a build of a site", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			b, err := s.Builds().Rebuild(cmd.Context(), args[0], now)
			if err != nil {
				return err
			}
			return a.print(b, func(t *table) { drawBuild(t, &b) })
		},
	}
	start.Flags().
		BoolVar(&now, "now", false, "do not wait for further changes, nor until the next try after failures")
	return noun("build", "Look at the builds of sites, and ask for one", list, show, start)
}

func drawBuild(t *table, b *rebuild.Build) {
	t.row("id", b.ID)
	t.row("build", fmt.Sprintf("%d of %s, %s", b.Number, b.Site, b.State))
	t.row("reads from", fmt.Sprintf("sequence %d", b.Sequence))
	for _, what := range slices.Sorted(maps.Keys(b.Counts)) {
		t.row("caused by", fmt.Sprintf("%d × %s", b.Counts[what], what))
	}
	if b.Failures > 0 {
		t.row("after", fmt.Sprintf("%d builds in a row that failed", b.Failures))
	}
	for _, l := range b.Log {
		next := ""
		if l.Next != nil {
			next = "next try " + when(l.Next)
		}
		t.row(when(&l.At), l.What, next)
	}
}
