package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/accesscmd"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/cli/contentcmd"
	"ubiquon/internal/cli/servicecmd"
	"ubiquon/internal/cli/settingscmd"
	"ubiquon/internal/client"
)

// The exit codes.
const (
	exitFine        = 0
	exitFailed      = 1
	exitMisuse      = 2
	exitNotFound    = 3 // what was named is not there
	exitRefused     = 4 // no key, a key that is not good, or one that lacks a grant
	exitUnreachable = 5 // no service answers, or it says that it cannot now
	exitConflict    = 6 // somebody else has changed it, or it does not go with what is there
)

// exitOf is the exit code for an error.
func exitOf(err error) int {
	var wrong command.Misuse
	var problem *api.Problem
	switch {
	case errors.As(err, &wrong), strings.HasPrefix(err.Error(), "unknown command"):
		return exitMisuse
	case errors.Is(err, client.ErrUnreachable):
		return exitUnreachable
	case !errors.As(err, &problem):
		return exitFailed
	}
	switch problem.Status {
	case http.StatusNotFound, http.StatusGone:
		return exitNotFound
	case http.StatusUnauthorized, http.StatusForbidden:
		return exitRefused
	case http.StatusServiceUnavailable, http.StatusGatewayTimeout, http.StatusTooManyRequests:
		return exitUnreachable
	case http.StatusConflict, http.StatusPreconditionFailed:
		return exitConflict
	}
	return exitFailed
}

// app puts the commands together.
type app struct {
	*command.App
	content contentcmd.Commands
	access  accesscmd.Commands
	service servicecmd.Commands
	set     settingscmd.Commands
}

func newApp(in io.Reader, out, errOut io.Writer) *app {
	shared := &command.App{In: in, Out: out, Err: errOut}
	return &app{
		shared,
		contentcmd.Commands{App: shared},
		accesscmd.Commands{App: shared},
		servicecmd.Commands{App: shared},
		settingscmd.Commands{App: shared},
	}
}

// Run runs the command line and returns the exit code, one of those above.
func Run(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	a := newApp(in, out, errOut)
	root := a.Root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitFine
	}
	a.complain(err)
	return exitOf(err)
}

// complain tells of an error: as a problem document (RFC 9457) where the output is JSON.
func (a *app) complain(err error) {
	if a.Output != "json" {
		fmt.Fprintln(a.Err, "ubiquon: "+err.Error())
		return
	}
	var problem *api.Problem
	if !errors.As(err, &problem) {
		problem = &api.Problem{Title: "The command failed", Detail: err.Error()}
		if exitOf(err) == exitMisuse {
			problem.Title = "The command is not used like this"
		}
	}
	enc := json.NewEncoder(a.Err)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(problem) // plain records
}

// Root returns the command ubiquon with all others below it.
func (a *app) Root() *cobra.Command {
	root := &cobra.Command{
		Use:   "ubiquon",
		Short: "A delivery gateway: content out fast, never stale, sites rebuilt on publish",
		Long: `Ubiquon serves published and preview content over REST and GraphQL, keeps
answers in a cache that is never stale, and rebuilds sites when something is
published.

Begin with: ubiquon demo`,
		Version:       versionText(),
		SilenceUsage:  true,
		SilenceErrors: true,
	}
	root.SetVersionTemplate("ubiquon {{.Version}}\n")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return command.Misuse{Err: err} })
	f := root.PersistentFlags()
	f.StringVar(&a.Address, "address", "", "the service's address (UBIQUON_ADDRESS; default http://127.0.0.1:8400)")
	f.StringVar(&a.Key, "key", "", "the key to send (UBIQUON_KEY)")
	f.StringVar(&a.Context, "context", "", "a service that is remembered (UBIQUON_CONTEXT): see ubiquon context")
	f.StringVarP(&a.Output, "output", "o", "table", "table, json or yaml")
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		switch a.Output {
		case "table", "json", "yaml":
			return nil
		}
		return command.Misusef("--output is table, json or yaml, not %q", a.Output)
	}
	root.AddCommand(
		a.service.Demo(),
		a.service.Serve(),
		a.service.Status(),
		a.service.Wake(),
		a.origin(),
		a.content.Read(),
		a.content.Model(),
		a.content.Entry(),
		a.content.Schedule(),
		a.content.Locale(),
		a.content.File(),
		a.service.Event(),
		a.service.Build(),
		a.service.Page(),
		a.service.Cache(),
		a.service.Change(),
		a.access.KeyCommand(),
		a.access.OpenCommand("open"),
		a.access.OpenCommand("close"),
		a.content.PreviewCommand(),
		a.content.Why(),
		a.content.Document(),
		a.access.Account(),
		a.access.Audit(),
		a.content.Generate(),
		a.set.Rule(),
		a.set.Site(),
		a.set.Target(),
		a.set.Mail(),
		a.set.Secret(),
		a.set.Diff(),
		a.set.Apply(),
		a.set.Export(),
		a.set.Shape(),
		a.ContextCommand(),
		a.service.ConfigCommand(),
		a.service.HookCommand(),
		a.version(),
	)
	for _, c := range root.Commands() {
		checkArgs(c)
		a.Complete(c)
	}
	_ = root.RegisterFlagCompletionFunc("context", command.CompleteContexts) // there is such a flag
	_ = root.RegisterFlagCompletionFunc(
		"output", cobra.FixedCompletions([]string{"table", "json", "yaml"}, cobra.ShellCompDirectiveNoFileComp),
	)
	return root
}

// origin is the command origin: how origins are read, and how they are configured.
func (a *app) origin() *cobra.Command {
	c := a.service.OriginCommand()
	c.AddCommand(a.set.OriginVerbs()...)
	return c
}

// checkArgs makes a wrong number of arguments a misuse.
func checkArgs(c *cobra.Command) {
	if check := c.Args; check != nil {
		c.Args = func(cmd *cobra.Command, args []string) error {
			if err := check(cmd, args); err != nil {
				return command.Misusef("%w; see %s --help", err, cmd.CommandPath())
			}
			return nil
		}
	}
	for _, sub := range c.Commands() {
		checkArgs(sub)
	}
}

func (a *app) version() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Print the version",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			v := versionText()
			return a.Print(map[string]string{"version": v}, func(w *command.Table) { w.Line("ubiquon " + v) })
		},
	}
}

func versionText() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	text := info.Main.Version
	for _, s := range info.Settings {
		switch {
		case s.Key == "vcs.revision" && len(s.Value) >= 12:
			text += " " + s.Value[:12]
		case s.Key == "vcs.time":
			text += " " + s.Value
		}
	}
	return strings.TrimSpace(text + " " + info.GoVersion)
}
