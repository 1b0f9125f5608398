package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"sort"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"ubiquon/internal/client"
)

func (a *app) read() *cobra.Command {
	var edition, environment string
	var headers, fresh bool
	c := &cobra.Command{
		Use:   "read PATH|QUERY",
		Short: "Read content: a REST path, or a GraphQL query",
		Example: `  ubiquon read '/dispatches?limit=3&fields=title,writer(name)'
  ubiquon read "/notices?filter=severity = 'delay' AND validUntil > now()&fields=title"
  ubiquon read '{ notices(first: 3) { nodes { title severity } } }'`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.service()
			if err != nil {
				return err
			}
			base := "/content/" + url.PathEscape(environment) + "/" + url.PathEscape(edition)
			header := http.Header{}
			if fresh {
				header.Set("Cache-Control", "no-cache")
			}
			var answer *client.Answer
			if what := strings.TrimSpace(args[0]); strings.HasPrefix(what, "{") || strings.HasPrefix(what, "query") {
				header.Set("Accept", "application/graphql-response+json, application/json")
				answer, err = s.Do(cmd.Context(), http.MethodPost, base+"/graphql", header, map[string]string{"query": what})
			} else {
				answer, err = s.Do(cmd.Context(), http.MethodGet, base+"/"+strings.TrimPrefix(encoded(what), "/"), header, nil)
			}
			if err != nil {
				return err
			}
			return a.printAnswer(answer, headers)
		},
	}
	f := c.Flags()
	f.StringVar(&edition, "edition", "published", "published or preview")
	f.StringVar(&environment, "environment", "main", "the environment")
	f.BoolVar(&headers, "headers", false, "print status and headers before the body")
	f.BoolVar(&fresh, "fresh", false, "have the answer computed anew")
	return c
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

func (a *app) printAnswer(answer *client.Answer, headers bool) error {
	if headers {
		fmt.Fprintf(a.out, "%d %s\n", answer.Status, http.StatusText(answer.Status))
		var names []string
		for name := range answer.Header {
			names = append(names, name)
		}
		sort.Strings(names)
		for _, name := range names {
			fmt.Fprintf(a.out, "%s: %s\n", name, strings.Join(answer.Header[name], ", "))
		}
		fmt.Fprintln(a.out)
	}
	if answer.Status >= 400 && !headers {
		return answer.Err()
	}
	if a.output == "yaml" {
		src, err := yaml.JSONToYAML(answer.Body)
		if err != nil {
			return err
		}
		_, err = a.out.Write(src)
		return err
	}
	var pretty bytes.Buffer
	if json.Indent(&pretty, bytes.TrimSpace(answer.Body), "", "  ") != nil {
		pretty.Reset()
		pretty.Write(answer.Body)
	}
	pretty.WriteByte('\n')
	if _, err := a.out.Write(pretty.Bytes()); err != nil {
		return err
	}
	if answer.Status >= 400 {
		return fmt.Errorf("the service answered %d", answer.Status)
	}
	return nil
}
