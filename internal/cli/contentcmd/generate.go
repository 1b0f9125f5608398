package contentcmd

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ubiquon/internal/cli/command"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/describe"
	"ubiquon/internal/core/generate"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
)

// Generate returns the command generate.
func (a *Commands) Generate() *cobra.Command {
	var files, to, pkg, edition string
	var watch, check bool
	c := &cobra.Command{
		Use: "generate ts|go|json-schema", Short: "Generate types of the content for a front end",
		Args: cobra.ExactArgs(1),
		Long: `Writes types for every content type, choice, record, block and locale: for
TypeScript with a small typed reader on fetch, for Go, or as JSON Schema. The
model is that of the running service, or that of model files, which needs no
service and no key.`,
		Example: `  ubiquon generate ts --to src/content.ts --watch
  ubiquon generate go --model model --to internal/content/content.go
  ubiquon generate ts --to src/content.ts --check`,
		RunE: func(cmd *cobra.Command, args []string) error {
			write, known := map[string]func(*model.Model) ([]byte, error){
				"ts": func(m *model.Model) ([]byte, error) { return generate.TypeScript(m, edition), nil },
				"go": func(m *model.Model) ([]byte, error) { return generate.Go(m, packageName(pkg, to)) },
				"json-schema": func(m *model.Model) ([]byte, error) {
					return json.MarshalIndent(describe.Schema(m, "urn:ubiquon:content"), "", "  ")
				},
			}[args[0]]
			if !known {
				return command.Misusef("there is nothing to write for %q; say ts, go or json-schema", args[0])
			}
			if edition != content.Published && edition != content.Preview {
				return command.Misusef("there is no edition %q%s", edition,
					strictyaml.DidYouMean(edition, content.Editions))
			}
			if (watch || check) && to == "" {
				return command.Misusef("say which file, with --to")
			}
			once := func() error { return a.generateOnce(cmd.Context(), files, to, check, write) }
			if !watch {
				return once()
			}
			for {
				if err := once(); err != nil {
					fmt.Fprintln(a.Err, "ubiquon: "+err.Error())
				}
				select {
				case <-cmd.Context().Done():
					return nil
				case <-time.After(time.Second):
				}
			}
		},
	}
	f := c.Flags()
	f.StringVar(&files, "model", "", "a directory of model files, instead of the service's model")
	f.StringVar(&to, "to", "", "the file to write; none: print it")
	f.StringVar(&pkg, "package", "", "go: the name of the package (default: of the file's directory)")
	f.StringVar(
		&edition, "edition", content.Published,
		"ts: what it is for; with preview a required field may be null, since a draft may lack it",
	)
	f.BoolVar(&watch, "watch", false, "go on, and write whenever the model changes")
	f.BoolVar(&check, "check", false, "write nothing, and fail when the file is behind the model")
	return c
}

func (a *Commands) generateOnce(
	ctx context.Context, files, to string, check bool, write func(*model.Model) ([]byte, error),
) error {
	var m *model.Model
	var err error
	if files != "" {
		m, err = command.ReadModel(files)
	} else if s, wrong := a.Service(); wrong != nil {
		return wrong
	} else {
		m, err = s.Models().Present(ctx)
	}
	if err != nil {
		return err
	}
	src, err := write(m)
	if err != nil {
		return err
	}
	if to == "" {
		_, err := a.Out.Write(src)
		return err
	}
	present, err := os.ReadFile(to)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	switch {
	case bytes.Equal(present, src):
		return nil
	case check:
		return fmt.Errorf("%s is behind the model; write it anew without --check", to)
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(to, src, 0o644); err != nil {
		return err
	}
	fmt.Fprintf(a.Err, "wrote %s\n", to)
	return nil
}

// packageName is the name of a Go package for a file.
func packageName(given, to string) string {
	if given != "" {
		return given
	}
	if at, err := filepath.Abs(to); to != "" && err == nil {
		if name := strings.Map(func(r rune) rune {
			if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
				return r
			}
			return -1
		}, strings.ToLower(filepath.Base(filepath.Dir(at)))); name != "" && (name[0] < '0' || name[0] > '9') {
			return name
		}
	}
	return "content"
}
