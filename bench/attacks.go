package main

import (
	"bytes"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"ubiquon/internal/demo"
)

// attacks are what an audit found to be dear, each as it was.
func attacks(card *demo.ConnectionInfo) []attack {
	send := func(method, path, key, body string) *http.Request {
		req, err := http.NewRequest(method, "http://x"+path, strings.NewReader(body))
		if err != nil {
			panic(err) // they are written here
		}
		req.Header.Set("Content-Type", "application/json")
		if key != "" {
			req.Header.Set("Authorization", "Bearer "+key)
		}
		return req
	}
	const base = "/content/main/published/"
	keys := card.Keys
	graphql := func(query string) func(int) *http.Request {
		return func(i int) *http.Request {
			return send(
				"POST", base+"graphql", keys.Published, fmt.Sprintf(`{"query": %q}`, query+fmt.Sprintf(" #%d", i)),
			)
		}
	}
	var doubling, schemas, wide bytes.Buffer
	doubling.WriteString("{ notices { nodes { ...F0 } } }\n")
	for i := range 24 {
		fmt.Fprintf(
			&doubling,
			"fragment F%d on Notice { a%[1]d: routes { notices { nodes { ...F%[2]d } } } b%[1]d: routes { notices "+
				"{ nodes { ...F%[2]d } } } }\n",
			i, i+1,
		)
	}
	doubling.WriteString("fragment F24 on Notice { title }")
	schemas.WriteString("{")
	wide.WriteString("{")
	for i := range 200 {
		fmt.Fprintf(&schemas, " a%d: __schema { types { name fields { name type { name } } } }", i)
	}
	for i := range 60 {
		fmt.Fprintf(&wide, " a%d: dispatches(first: 100) { nodes { text { html inline tree commonmark plain } } }", i)
	}
	schemas.WriteString("}")
	wide.WriteString("}")
	long := strings.Repeat("x", 8<<20)
	signIn := `{"email": "` + long + `", "password": "x"}`
	dear := strings.Repeat(strings.Repeat("_a*", 1_300)+"\n\n", 4)
	return []attack{
		{name: "GraphQL fragments that double", request: graphql(doubling.String())},
		{
			name:    "GraphQL fields, repeated",
			request: graphql("{ notices { nodes { " + strings.Repeat("title ", 4800) + "} } }"),
		},
		{name: "the schema, 200 times", request: graphql(schemas.String())},
		{name: "answers of many megabytes", request: graphql(wide.String())},
		{name: "reads of nobody, each another", request: func(i int) *http.Request {
			return send("GET", fmt.Sprintf("%sfares?limit=1&x=%d%s", base, i, long[:8000]), "", "")
		}},
		{name: "sign-ins of 8 MiB", request: func(int) *http.Request {
			return send("POST", "/control/v1/session", "", signIn)
		}},
		{name: "passwords guessed", request: func(i int) *http.Request {
			return send(
				"POST", "/control/v1/session", "",
				fmt.Sprintf(`{"email": "a%d@skerry.example", "password": "a guess at it"}`, i),
			)
		}},
		{
			name:    "keys guessed",
			request: func(i int) *http.Request { return send("GET", base+"notices", fmt.Sprint("ubq_guess", i), "") },
		},
		{name: "filters that read everything", request: func(i int) *http.Request {
			return send(
				"GET",
				fmt.Sprintf(
					"%snotices?limit=1&filter=%s", base,
					url.QueryEscape(fmt.Sprintf("routes.notices.title LIKE '%%x%d%%'", i)),
				),
				keys.Published,
				"",
			)
		}},
		{name: "prose that is dear", request: func(i int) *http.Request {
			return send(
				"POST",
				"/control/v1/edits",
				keys.Admin,
				fmt.Sprintf(
					`{"edits": [{"id": "dear%d", "type": "notice", "save": {"title": {"en": "Dear"}, "text": {"en": %q}}}]}`,
					i, dear,
				),
			)
		}},
		{name: "announcements without proof", request: func(i int) *http.Request {
			return send(
				"POST", "/hooks/harbour-office", "",
				fmt.Sprintf(`{"specversion": "1.0", "id": "%d", "x": "%s"}`, i, long[:4000]),
			)
		}},
		{
			name:    "streams, ever more",
			streams: true,
			request: func(int) *http.Request { return send("GET", base+"changes", keys.Published, "") },
		},
		{
			name:    "the whole change log",
			request: func(int) *http.Request { return send("GET", base+"changes?after=0", keys.Published, "") },
		},
		{name: "models of aliases", request: func(int) *http.Request {
			return send(
				"POST", "/control/v1/model/plan", keys.Admin,
				`{"files": {"m.yaml": "a: &a [x,x,x,x]\nb: &b [*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b]\nd: [*c,*c,*c]"}}`,
			)
		}},
	}
}
