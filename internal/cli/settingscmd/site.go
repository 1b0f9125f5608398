package settingscmd

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/client"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/kit"
)

// Site returns the command site.
func (a *Commands) Site() *cobra.Command {
	return command.Noun("site", "Keep front ends fresh", append([]*cobra.Command{
		a.siteList(), a.siteConnect(), a.siteRebuild(), a.siteTest(),
	}, a.verbs("site", "a site")...)...)
}

func (a *Commands) siteList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the sites, and how their builds go", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			all, err := s.Settings().Sites(cmd.Context())
			if err != nil {
				return err
			}
			return a.Print(map[string]any{"items": all}, func(t *command.Table) {
				t.Row("SITE", "ADDRESS", "KEPT FRESH BY", "LAST BUILD", "STATE", "LIVE (50 / 95 %)", "READS")
				for i := range all {
					drawSite(t, &all[i])
				}
			})
		},
	}
}

func drawSite(t *command.Table, s *api.SiteInfo) {
	by, last, state := "nothing", "–", "–"
	switch {
	case s.Build != nil && s.Refresh != nil:
		by = "build, refresh"
	case s.Build != nil:
		by = "build"
	case s.Refresh != nil:
		by = "refresh"
	}
	if len(s.Builds) > 0 {
		last, state = fmt.Sprint(s.Builds[0].Number), string(s.Builds[0].State)
	}
	switch {
	case s.Off:
		state = "off"
	case s.Failing != nil:
		state = fmt.Sprintf("failing, %d in a row", s.Failing.Failures)
	}
	live := "–"
	if l := s.Liveness; l != nil && l.Pages > 0 {
		live = fmt.Sprintf("%.0f / %.0f ms", l.P50, l.P95)
	}
	t.Row(s.Name, s.Address, by, last, state, live, t.Short(strings.Join(s.Reads, ", "), 22))
	if l := s.Liveness; l != nil && l.Waiting > 0 && l.Trouble != "" {
		t.Line(fmt.Sprintf("◐ not seen yet on %d pages: %s", l.Waiting, l.Trouble))
	}
	if s.Failing != nil {
		t.Line("✗ " + s.Failing.Error)
		t.Line("→ " + s.Failing.Mend)
	}
}

func (a *Commands) siteRebuild() *cobra.Command {
	var now bool
	c := &cobra.Command{
		Use: "rebuild SITE", Short: "Ask for a build of a site", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			b, err := s.Builds().Rebuild(cmd.Context(), args[0], now)
			if err != nil {
				return err
			}
			return a.Print(b, func(t *command.Table) {
				t.Line(
					fmt.Sprintf(
						"✓ Build %d of %s waits. ubiquon build show %[2]s/%[1]d tells how it goes.",
						b.Number,
						b.Site,
					),
				)
			})
		},
	}
	c.Flags().BoolVar(&now, "now", false, "do not wait for further changes, nor until the next try after failures")
	return c
}

func (a *Commands) siteTest() *cobra.Command {
	return &cobra.Command{
		Use: "test SITE", Short: "Call a site as a test, and show its answer", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			out, err := s.Settings().TestSite(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.Print(out, func(t *command.Table) { drawAnswers(t, []api.CallAnswer{out}) })
		},
	}
}

func drawAnswers(t *command.Table, all []api.CallAnswer) {
	for _, one := range all {
		if one.Error != "" {
			t.Line(fmt.Sprintf("✗ %s: %s", one.Address, one.Error))
			continue
		}
		t.Line(
			fmt.Sprintf("✓ %s answered %d in %.0f ms: %s", one.Address, one.Status, one.TookMs, t.Short(one.Text, 60)),
		)
	}
}

// connection is what site connect makes, as JSON.
type connection struct {
	Site   string            `json:"site"`
	Key    string            `json:"key"`
	Env    map[string]string `json:"environment"`
	Rule   string            `json:"rule"`
	Read   bool              `json:"read"`   // the first read has come
	Report bool              `json:"report"` // the first report has come, or the first call was taken
}

func (a *Commands) siteConnect() *cobra.Command {
	var site rebuild.Site
	var build, refresh string
	var wait time.Duration
	c := &cobra.Command{
		Use: "connect SITE", Short: "Connect a front end: make site, key, secret and rule, and wait for its first read",
		Args: cobra.ExactArgs(1),
		Long: `Makes everything that a front end needs to be kept fresh: the site, a key that reads
what is published, a secret that signs the calls, and a rule that calls it whenever
something is published, taken back or deleted. It prints the lines for the front
end's environment, and waits until the site has read content with its key and has
answered the first call.`,
		Example: `  ubiquon site connect skerry-web --site-address https://skerry.example --build https://builder.example/build
  ubiquon site connect skerry-board --site-address https://board.example --refresh https://board.example/refresh`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if (build == "") == (refresh == "") {
				return command.Misusef(
					"say how the site is called: --build for one that is built, --refresh for one that renders on a server",
				)
			}
			s, err := a.Service()
			if err != nil {
				return err
			}
			site.Live = &rebuild.Live{Probe: "pages"}
			if build != "" {
				site.Build = &rebuild.Call{Call: build}
			} else {
				site.Refresh = &rebuild.Refresh{Call: refresh}
			}
			out, err := a.connect(cmd.Context(), s, args[0], site)
			if err != nil {
				return err
			}
			if wait > 0 {
				a.await(cmd.Context(), s, &out, wait)
			}
			return a.Print(out, func(t *command.Table) { drawConnection(t, &out, wait > 0) })
		},
	}
	f := c.Flags()
	f.StringVar(&site.Address, "site-address", "", "where visitors find the site")
	f.StringVar(&build, "build", "", "the address that starts a build")
	f.StringVar(&refresh, "refresh", "", "the address that takes refresh calls")
	f.DurationVar(
		&wait,
		"wait",
		2*time.Minute,
		"how long to wait for the first read and the first report; 0: not at all",
	)
	_ = c.MarkFlagRequired("site-address") // there is such a flag
	return c
}

// connect makes what a site needs, in an order in which nothing refers to what is not there.
func (a *Commands) connect(
	ctx context.Context, s *client.Client, name string, site rebuild.Site,
) (out connection, err error) {
	out = connection{Site: name, Rule: "Keep " + name + " fresh", Env: map[string]string{}}
	if _, err := s.Settings().Get(ctx, "site", name); err == nil {
		return out, command.Misusef("there is a site %q already; ubiquon site edit changes it", name)
	}
	status, err := s.Status(ctx)
	if err != nil {
		return out, err
	}
	random := make([]byte, 24)
	_, _ = rand.Read(random) // never fails
	secret := "whsec_" + base64.StdEncoding.EncodeToString(random)
	r := rule.Rule{
		Description: "Made by site connect.", On: []string{rule.Published, rule.Unpublish, rule.Deleted},
	}
	if site.Build != nil {
		site.Build.Secret = "secret:" + name
		r.Do = []rule.Step{{Rebuild: &rule.Rebuild{Site: name}}}
	} else {
		site.Refresh.Secret = "secret:" + name
		r.Do = []rule.Step{{Refresh: &rule.Refresh{Site: name, Pages: []string{rule.AllPages}}}}
	}
	if err := s.Settings().SetSecret(ctx, name, secret); err != nil {
		return out, err
	}
	for _, one := range []struct {
		kind, name string
		spec       any
	}{{"site", name, site}, {"rule", out.Rule, r}} {
		src, err := json.Marshal(one.spec)
		if err != nil {
			return out, err
		}
		if _, err := s.Settings().Put(ctx, one.kind, one.name, src, 0, false); err != nil {
			return out, err
		}
	}
	_, key, err := s.Keys().Create(ctx, api.NewKey{Name: name, Site: name, Grants: []string{"read published *"}})
	if err != nil {
		return out, err
	}
	out.Key = key
	out.Env = map[string]string{
		"UBIQUON_CONTENT": strings.TrimSuffix(s.Address, "/") + "/content/" + status.Environment + "/published",
		"UBIQUON_KEY":     key,
		"UBIQUON_SECRET":  secret,
	}
	fmt.Fprintf(
		a.Err,
		"Made the site, its secret, its key and the rule %q. Set these in the front end's environment:\n\n",
		out.Rule,
	)
	for _, line := range []string{"UBIQUON_CONTENT", "UBIQUON_KEY", "UBIQUON_SECRET"} {
		fmt.Fprintf(a.Err, "  %s=%s\n", line, out.Env[line])
	}
	lines := kit.RefreshLines
	if site.Build != nil {
		lines = kit.BuildLines
	}
	fmt.Fprintf(a.Err, "\nIn JavaScript, these lines connect it:\n\n  npm install %s/kit/%s\n\n",
		strings.TrimSuffix(s.Address, "/"), kit.Name)
	for line := range strings.Lines(lines) {
		fmt.Fprint(a.Err, strings.TrimRight("  "+line, " \n")+"\n")
	}
	fmt.Fprintln(a.Err)
	return out, nil
}

// await waits for the first read and the first report of a site.
func (a *Commands) await(ctx context.Context, s *client.Client, out *connection, wait time.Duration) {
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	fmt.Fprintln(a.Err, "Waiting for the first read …")
	asked := false
	for ctx.Err() == nil && !(out.Read && out.Report) {
		all, err := s.Settings().Sites(ctx)
		for i := range all {
			if all[i].Name != out.Site || err != nil {
				continue
			}
			if !out.Read && len(all[i].Reads) > 0 {
				out.Read = true
				fmt.Fprintf(a.Err, "✓ Read %s at %s\n", strings.Join(all[i].Reads, ", "), time.Now().Format("15:04:05"))
				fmt.Fprintln(a.Err, "Calling it, and waiting for its report …")
			}
			if out.Read && !asked {
				asked = true
				if all[i].Build != nil {
					_, _ = s.Builds().Rebuild(ctx, out.Site, true) // that nothing comes is said below
				}
			}
			if !out.Read {
				continue
			}
			if all[i].Build == nil {
				answer, err := s.Settings().TestSite(ctx, out.Site)
				out.Report = err == nil && answer.Error == ""
			} else if len(all[i].Builds) > 0 {
				out.Report = all[i].Builds[0].Started != nil || all[i].Builds[0].State == rebuild.Finished
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(500 * time.Millisecond):
		}
	}
}

func drawConnection(t *command.Table, out *connection, waited bool) {
	if !waited {
		return
	}
	for _, one := range []struct {
		came       bool
		said, lack string
	}{
		{out.Read, "The first read has come.", "No read with the site's key has come: is the front end running " +
			"with these lines in its environment?"},
		{
			out.Report, "It has answered the first call.",
			"No report has come: ubiquon site test " + out.Site + " shows what the call is answered.",
		},
	} {
		if one.came {
			t.Line("✓ " + one.said)
		} else {
			t.Line("✗ " + one.lack)
		}
	}
}
