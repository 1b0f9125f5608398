package contentcmd

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"sort"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"ubiquon/internal/api"
	"ubiquon/internal/cli/command"
	"ubiquon/internal/client"
	"ubiquon/internal/core/strictyaml"
)

// reading is what the flags of ubiquon read say.
type reading struct {
	q                          api.ReadQuestion
	environment, variables     string
	headers, fresh, all, plans bool
	explain                    bool
	save, saved                string
}

// Read returns the command read.
func (a *Commands) Read() *cobra.Command {
	r := reading{}
	c := &cobra.Command{
		Use:   "read PATH|QUERY|@FILE|-",
		Short: "Read content: a REST path, or a GraphQL query",
		Long: `Reads content: a REST path from the plural on, or a GraphQL query; @FILE takes it
from a file, - from the standard input.

With --explain it tells, instead of the answer, what the answer is made of: its
effort, where the time went, the statements, what it depends on. With --as it is
read as everyone or as another key would read it.`,
		Example: `  ubiquon read '/dispatches?limit=3&fields=title,writer(name)'
  ubiquon read "/notices?filter=severity = 'delay' AND validUntil > now()&fields=title" --explain
  ubiquon read '{ notices(first: 3) { nodes { title severity } } }' --locale nb
  ubiquon read '/notices?limit=200' --all
  ubiquon read --saved 'front page' --as website`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Service()
			if err != nil {
				return err
			}
			if err := r.take(cmd, s, args); err != nil {
				return err
			}
			switch {
			case r.save != "":
				return a.saveRead(cmd.Context(), s, &r)
			case r.explain || r.plans:
				r.q.Explain = r.plans
				out, err := s.Reads().Examine(cmd.Context(), r.q)
				if err != nil {
					return err
				}
				return a.Print(out, func(t *command.Table) { drawExamined(t, &out) })
			case r.all:
				return a.readAll(cmd.Context(), s, &r)
			}
			answer, err := r.ask(cmd.Context(), s)
			if err != nil {
				return err
			}
			return a.printAnswer(answer, r.headers)
		},
	}
	f := c.Flags()
	f.StringVar(&r.q.Edition, "edition", "", "published or preview (default published)")
	f.StringVar(&r.environment, "environment", "main", "the environment")
	f.StringVar(&r.q.Language, "locale", "", "the locale, where the read names none")
	f.StringVar(&r.q.As, "as", "", "read as everyone, or as a key (id or name)")
	f.StringVar(&r.variables, "variables", "", "variables of a GraphQL query, as JSON or @FILE")
	f.StringVar(&r.q.OperationName, "operation", "", "the operation to run of a GraphQL document")
	f.StringVar(&r.q.DocumentID, "document", "", "a trusted GraphQL document, by id, instead of a query")
	f.BoolVar(&r.q.Lenient, "lenient", false, "leave out what may not be read, instead of refusing all")
	f.BoolVar(&r.headers, "headers", false, "print status and headers before the body")
	f.BoolVar(&r.fresh, "fresh", false, "have the answer computed anew")
	f.BoolVar(&r.all, "all", false, "follow a list to its end, and print an entry a line")
	f.BoolVar(&r.explain, "explain", false, "tell what the answer is made of, and what it costs")
	f.BoolVar(&r.plans, "plans", false, "like --explain, with PostgreSQL's plans")
	f.StringVar(&r.save, "save", "", "keep the read under this name instead of running it")
	f.StringVar(&r.saved, "saved", "", "run the read that is kept under this name")
	return c
}

// take reads what is to be read.
func (r *reading) take(cmd *cobra.Command, s *client.Client, args []string) error {
	if (len(args) == 1) == (r.saved != "" || r.q.DocumentID != "") {
		return command.Misusef("name one thing to read: a path, a query, --saved NAME or --document ID")
	}
	if r.saved != "" {
		all, err := s.Reads().SavedReads(cmd.Context())
		if err != nil {
			return err
		}
		var names []string
		for _, one := range all {
			if one.Name == r.saved || one.ID == r.saved {
				flags := r.q
				if err := json.Unmarshal(one.Read, &r.q); err != nil {
					return err
				}
				return r.override(flags)
			}
			names = append(names, one.Name)
		}
		return command.Misusef("no read is kept under %q%s", r.saved, strictyaml.DidYouMean(r.saved, names))
	}
	if len(args) == 1 {
		what, err := textOf(cmd, args[0])
		if err != nil {
			return err
		}
		what = strings.TrimSpace(what)
		if isGraphQL(what) {
			r.q.Query = what
		} else {
			r.q.Request = "/" + strings.TrimPrefix(encoded(what), "/")
		}
	}
	return r.override(api.ReadQuestion{})
}

// override has what the flags say count before what was kept.
func (r *reading) override(flags api.ReadQuestion) error {
	for _, o := range []struct{ into, from *string }{
		{&r.q.Edition, &flags.Edition},
		{&r.q.As, &flags.As},
		{&r.q.Language, &flags.Language},
	} {
		if *o.from != "" {
			*o.into = *o.from
		}
	}
	if r.q.Edition == "" {
		r.q.Edition = "published"
	}
	if r.variables != "" {
		text, err := textOf(nil, r.variables)
		if err != nil {
			return err
		}
		if json.Unmarshal([]byte(text), &r.q.Variables) != nil {
			return command.Misusef("--variables is no JSON object; write it as in '{\"slug\": \"fog\"}'")
		}
	}
	return nil
}

// textOf is an argument, or what is in the file that it names with an @.
func textOf(cmd *cobra.Command, arg string) (string, error) {
	if arg == "-" && cmd != nil {
		src, err := io.ReadAll(cmd.InOrStdin())
		return string(src), err
	}
	if file, named := strings.CutPrefix(arg, "@"); named {
		src, err := os.ReadFile(file)
		return string(src), err
	}
	return arg, nil
}

// isGraphQL tells whether a read is spelled in GraphQL.
func isGraphQL(what string) bool {
	for _, begins := range []string{"{", "query", "fragment", "#"} {
		if strings.HasPrefix(what, begins) {
			return true
		}
	}
	return false
}

// ask sends the read as it would come from a site; or, to read as somebody else,
// has the service answer as it would them.
func (r *reading) ask(ctx context.Context, s *client.Client) (*client.Answer, error) {
	if r.q.As != "" {
		out, err := s.Reads().Examine(ctx, r.q)
		return &client.Answer{Status: out.Status, Header: out.Header, Body: []byte(out.Body)}, err
	}
	base := "/content/" + url.PathEscape(r.environment) + "/" + url.PathEscape(r.q.Edition)
	header := http.Header{}
	if r.fresh {
		header.Add("Prefer", "recompute")
	}
	if r.q.Language != "" {
		header.Set("Accept-Language", r.q.Language)
	}
	if r.q.Lenient {
		header.Add("Prefer", "handling=lenient")
	}
	if r.q.Request != "" {
		return s.Do(ctx, http.MethodGet, base+r.q.Request, header, nil)
	}
	header.Set("Accept", "application/graphql-response+json, application/json")
	body := map[string]any{}
	for name, v := range map[string]string{
		"query": r.q.Query, "documentId": r.q.DocumentID,
		"operationName": r.q.OperationName,
	} {
		if v != "" {
			body[name] = v
		}
	}
	if r.q.Variables != nil {
		body["variables"] = r.q.Variables
	}
	return s.Do(ctx, http.MethodPost, base+"/graphql", header, body)
}

// readAll prints a list's entries, page after page.
func (a *Commands) readAll(ctx context.Context, s *client.Client, r *reading) error {
	if r.q.Request == "" {
		return command.Misusef("--all is for lists of REST; ask GraphQL page by page, with after")
	}
	for {
		answer, err := r.ask(ctx, s)
		if err == nil {
			err = answer.Err()
		}
		if err != nil {
			return err
		}
		var page struct {
			Items  []json.RawMessage
			Window *struct{ Next string }
		}
		if json.Unmarshal(answer.Body, &page) != nil || page.Window == nil {
			return command.Misusef("--all is for lists; %s is none", r.q.Request)
		}
		for _, item := range page.Items {
			fmt.Fprintf(a.Out, "%s\n", item)
		}
		if page.Window.Next == "" {
			return nil
		}
		u, err := url.Parse(r.q.Request)
		if err != nil {
			return err
		}
		q := u.Query()
		q.Del("offset")
		q.Set("after", page.Window.Next)
		u.RawQuery = q.Encode()
		r.q.Request = u.String()
	}
}

func (a *Commands) saveRead(ctx context.Context, s *client.Client, r *reading) error {
	src, err := json.Marshal(r.q)
	if err != nil {
		return err
	}
	kept, err := s.Reads().SaveRead(ctx, r.save, src)
	if err != nil {
		return err
	}
	return a.Print(kept, func(t *command.Table) {
		t.Line(
			fmt.Sprintf(
				"kept as %q; run it with: ubiquon read --saved %q, or look at it at %s/console/explorer?saved=%s",
				kept.Name, kept.Name, s.Address, kept.ID,
			),
		)
	})
}

// encoded encodes what people write into an address as it is: spaces, quotes,
// percent signs that encode nothing.
func encoded(address string) string {
	var b strings.Builder
	for i := range len(address) {
		switch c := address[i]; {
		case c == '%' && i+2 < len(address) && isHex(address[i+1]) && isHex(address[i+2]):
			b.WriteByte(c)
		case c <= ' ' || c >= 0x7f || strings.IndexByte("\"<>%\\^`{|}+", c) >= 0:
			fmt.Fprintf(&b, "%%%02X", c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

func (a *Commands) printAnswer(answer *client.Answer, headers bool) error {
	if headers {
		fmt.Fprintf(a.Out, "%d %s\n", answer.Status, http.StatusText(answer.Status))
		var names []string
		for name := range answer.Header {
			names = append(names, name)
		}
		sort.Strings(names)
		for _, name := range names {
			fmt.Fprintf(a.Out, "%s: %s\n", name, strings.Join(answer.Header[name], ", "))
		}
		fmt.Fprintln(a.Out)
	}
	if answer.Status >= 400 && !headers {
		return answer.Err()
	}
	if a.Output == "yaml" {
		src, err := yaml.JSONToYAML(answer.Body)
		if err != nil {
			return err
		}
		_, err = a.Out.Write(src)
		return err
	}
	var pretty bytes.Buffer
	if json.Indent(&pretty, bytes.TrimSpace(answer.Body), "", "  ") != nil {
		pretty.Reset()
		pretty.Write(answer.Body)
	}
	pretty.WriteByte('\n')
	if _, err := a.Out.Write(pretty.Bytes()); err != nil {
		return err
	}
	if answer.Status >= 400 {
		return fmt.Errorf("the service answered %d", answer.Status)
	}
	return nil
}
