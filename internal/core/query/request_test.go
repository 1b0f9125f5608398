package query

import "testing"

func TestRequestTextIsReadBack(t *testing.T) {
	for name, r := range map[string]Request{
		"address":      {Address: "/content/main/published/notices?limit=3"},
		"language":     {Address: "/content/main/published/at?path=%2Fnb", Language: "nb, en;q=0.5"},
		"body":         {GraphQL: "{\"query\":\n\"{ notices { totalCount } }\"}", Edition: "preview", Language: "de"},
		"query string": {GraphQL: "query=%7Bnotices%7BtotalCount%7D%7D", Edition: "published"},
	} {
		t.Run(name, func(t *testing.T) {
			if got, err := ParseRequest(r.Text()); err != nil || got != r {
				t.Errorf("%q is read as %+v, %v", r.Text(), got, err)
			}
		})
	}
	for _, text := range []string{"", "notices", "graphql\npublished", "graphql"} {
		if r, err := ParseRequest(text); err == nil {
			t.Errorf("%q is read as %+v", text, r)
		}
	}
}
