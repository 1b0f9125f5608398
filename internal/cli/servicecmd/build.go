package servicecmd

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ubiquon/internal/cli/command"
	"ubiquon/internal/core/rebuild"
)

// Build returns the command build.
func (a *Commands) Build() *cobra.Command {
	var site string
	var limit int
	list := &cobra.Command{
		Use: "list", Short: "List builds, the newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			builds, err := s.Builds().List(cmd.Context(), site, limit)
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": builds}, func(t *command.Table) {
				t.Row("SITE", "NUMBER", "STATE", "SEQUENCE", "CAUSES", "PAGES", "REQUESTED", "WAITED", "TOOK", "ERROR")
				for _, b := range builds {
					t.Row(
						b.Site, b.Number, b.State, b.Sequence, len(b.Causes), pagesOf(&b), command.When(&b.FirstRequest),
						command.Between(&b.FirstRequest, b.Called), command.Between(b.Called, b.Finished),
						t.Short(b.Error, 24),
					)
				}
			})
		},
	}
	list.Flags().StringVar(&site, "site", "", "only builds of this site")
	list.Flags().IntVar(&limit, "limit", 20, "how many at most")
	show := &cobra.Command{
		Use: "show SITE/NUMBER|ID", Short: "Show one build: its attempts, and what comes next",
		Args:    cobra.ExactArgs(1),
		Example: "  ubiquon build show skerry-web/5",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
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
			return a.Print(b, func(t *command.Table) { drawBuild(t, &b) })
		},
	}
	return command.Noun("build", "Show the builds of sites, start one, or take it back", list, show,
		a.buildStart(), a.buildCancel())
}

func (a *Commands) buildStart() *cobra.Command {
	var now bool
	start := &cobra.Command{
		Use: "start SITE", Short: "Start a build of a site", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			b, err := s.Builds().Rebuild(cmd.Context(), args[0], now)
			if err != nil {
				return err
			}
			return a.Print(b, func(t *command.Table) { drawBuild(t, &b) })
		},
	}
	start.Flags().
		BoolVar(&now, "now", false, "do not wait for further changes, nor until the next try after failures")
	return start
}

func (a *Commands) buildCancel() *cobra.Command {
	return &cobra.Command{
		Use: "cancel ID", Short: "Take a waiting build back", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			b, err := s.Settings().CancelBuild(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.Print(b, func(t *command.Table) { drawBuild(t, &b) })
		},
	}
}

// mostShown bounds the pages of a build that are listed.
const mostShown = 20

// pagesOf is of how many pages a build is.
func pagesOf(b *rebuild.Build) string {
	switch {
	case len(b.Pages) == 0:
		return "–"
	case b.Pages.IsAll():
		return "all"
	}
	return strconv.Itoa(len(b.Pages))
}

func drawBuild(t *command.Table, b *rebuild.Build) {
	t.Row("id", b.ID)
	t.Row("build", fmt.Sprintf("%d of %s, %s", b.Number, b.Site, b.State))
	if len(b.Pages) > 0 {
		t.Row("pages", strings.Join(b.Pages[:min(len(b.Pages), mostShown)], ", "))
	}
	t.Row("reads from", fmt.Sprintf("sequence %d", b.Sequence))
	for _, what := range slices.Sorted(maps.Keys(b.Counts)) {
		t.Row("caused by", fmt.Sprintf("%d × %s", b.Counts[what], what))
	}
	if b.Failures > 0 {
		t.Row("after", fmt.Sprintf("%d builds in a row that failed", b.Failures))
	}
	if b.Link != "" {
		t.Row("builder", b.Link)
	}
	for _, l := range b.Log {
		next := ""
		if l.Next != nil {
			next = "next try " + command.When(l.Next)
		}
		t.Row(command.When(&l.At), l.What, next)
	}
}
