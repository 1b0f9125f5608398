package servicecmd

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ubiquon/console"
	"ubiquon/internal/cache"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/outbound"
	"ubiquon/internal/service"
)

func newLog(w io.Writer, level, format string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, command.Misusef("the log level is debug, info, warn or error, not %q", level)
	}
	o := &slog.HandlerOptions{Level: l}
	switch format {
	case "text":
		return slog.New(slog.NewTextHandler(w, o)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(w, o)), nil
	}
	return nil, command.Misusef("the log format is text or json, not %q", format)
}

// Serve returns the command serve.
func (a *Commands) Serve() *cobra.Command {
	var file string
	given := map[string]*string{}
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the service",
		Long: `Runs the service with a configuration file. Every setting can also come from a
variable (UBIQUON_LISTEN, UBIQUON_DATABASE, …) or from a flag; a flag counts
before a variable, a variable before the file. Without a database of yours a
private PostgreSQL is started under the data directory.

At the first start a key that may do everything is printed, once, and a link at
which the first account of the console is made.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			flags := map[string]string{}
			for name, v := range given {
				if cmd.Flags().Changed(name) {
					flags[name] = *v
				}
			}
			conf, err := LoadConfig(file, flags)
			if err != nil {
				return command.Misuse{Err: err}
			}
			for _, w := range conf.Warnings {
				fmt.Fprintln(a.Err, "ubiquon: "+w)
			}
			return a.runService(cmd.Context(), conf)
		},
	}
	f := c.Flags()
	f.StringVar(&file, "config", "", "the configuration file, such as ubiquon.yaml")
	for _, s := range knobs {
		given[s.flag()] = f.String(s.flag(), "", fmt.Sprintf("%s (%s)", s.says, s.variable()))
		if s.key == "quietCopy" {
			f.Lookup(s.flag()).NoOptDefVal = "true"
		}
	}
	return c
}

func (a *Commands) runService(ctx context.Context, conf *config) error {
	log, err := newLog(a.Err, conf.Log.Level, conf.Log.Format)
	if err != nil {
		return err
	}
	l, err := service.Listen(conf.Listen, "listen")
	if err != nil {
		return err
	}
	options := conf.serviceOptions()
	options.Listener, options.Console, options.Log = l, console.Files(), log
	s, err := service.Open(ctx, options)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := s.Start(ctx); err != nil {
		return err
	}
	secret, err := s.FirstKey(ctx)
	if err != nil {
		return err
	}
	if secret != "" {
		fmt.Fprintf(a.Out, "First start. This key may do everything; it is shown only now:\n\n  %s\n\n", secret)
	}
	link, err := s.FirstLink(ctx)
	if err != nil {
		return err
	}
	if link != "" {
		fmt.Fprintf(
			a.Out,
			"Nobody can sign in to the console yet. Make the first account here; the link is good once, for an "+
				"hour:\n\n  %s\n\n",
			link,
		)
	}
	fmt.Fprintf(a.Out, "Serving %s at %s, console at %s/console/\n", conf.Environment, s.Address, s.Address)
	select {
	case <-ctx.Done():
		log.Info("stopping: finishing the requests at hand")
		return nil
	case err := <-s.Failed():
		return errors.Join(errors.New("serving ended"), err)
	}
}

// serviceOptions are what the configuration says of the service.
func (conf *config) serviceOptions() service.Options {
	return service.Options{
		Database:    conf.Database,
		Data:        conf.Data,
		Environment: conf.Environment,
		Address:     conf.PublicAddress,
		Model:       conf.model,
		ApplyModel:  conf.ApplyModel,
		Settings:    conf.seed,
		SecretKey:   conf.secretKey,
		Cache:       cache.Options{Bytes: conf.CacheBytes},
		Folders:     conf.Folders,
		Outbound: outbound.Options{
			Private: conf.Outbound.Private,
			Allow:   conf.outbound,
		},
		Files:          conf.Files.config(conf.PublicAddress),
		FilesDirectory: conf.Files.Directory,
		Objects:        conf.Files.objects(),
		Limits:         conf.Limits,
		SessionIdle:    time.Duration(conf.Sessions.Idle),
		SessionLongest: time.Duration(conf.Sessions.Longest),
		KeepEvents:     time.Duration(conf.Keep.Events),
		KeepAudit:      time.Duration(conf.Keep.Audit),
		Quiet:          conf.QuietCopy,
		Drain:          conf.Drain.Or(2 * time.Second),
		Metrics:        conf.metrics,
		Issuer:         conf.Tokens,
		Batch:          conf.GraphQL.Batch,
		TrustedOnly:    conf.GraphQL.TrustedOnly,
		ReadTimeout:    time.Duration(conf.ReadTimeout),
		KeepChanges:    time.Duration(conf.Changes.Keep),
		Proxies:        conf.proxies,
	}
}

// setting is one value of the configuration that variables and flags set too.
type setting struct {
	key  string // as in log.level
	says string
	set  func(*config, string) error
}

func (s setting) flag() string {
	var b strings.Builder
	for _, r := range strings.ReplaceAll(s.key, ".", "-") {
		if r >= 'A' && r <= 'Z' {
			b.WriteString("-" + strings.ToLower(string(r)))
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

func (s setting) variable() string {
	return "UBIQUON_" + strings.ToUpper(strings.ReplaceAll(s.flag(), "-", "_"))
}

// ConfigCommand looks at configurations without starting anything.
func (a *Commands) ConfigCommand() *cobra.Command {
	var file string
	check := &cobra.Command{
		Use: "check", Short: "Check a configuration: errors and warnings", Args: cobra.NoArgs,
		Long: `Reads a configuration as serve does, with the files that it names and the variables,
and starts nothing. Unlike serve it fails for variables that are unknown.`,
		RunE: func(*cobra.Command, []string) error {
			conf, err := LoadConfig(file, nil)
			if err != nil {
				return command.Misuse{Err: err}
			}
			if len(conf.Warnings) > 0 {
				return command.Misusef("%s", strings.Join(conf.Warnings, "\n"))
			}
			types := 0
			if conf.model != nil {
				types = len(conf.model.Types)
			}
			return a.Print(
				map[string]any{
					"types":   types,
					"origins": len(conf.seed.Origins),
					"sites":   len(conf.seed.Sites),
					"rules":   len(conf.seed.Rules),
				},
				func(t *command.Table) {
					t.Line(
						fmt.Sprintf(
							"✓ nothing is wrong: %d types, %d origins, %d sites, %d rules.",
							types,
							len(conf.seed.Origins),
							len(conf.seed.Sites),
							len(conf.seed.Rules),
						),
					)
				},
			)
		},
	}
	check.Flags().StringVar(&file, "config", "", "the configuration file")
	return command.Noun("config", "Check configurations", check)
}
