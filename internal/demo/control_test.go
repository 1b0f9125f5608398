package demo_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"reflect"
	"strings"
	"testing"

	"ubiquon/internal/api"
	"ubiquon/internal/server/controlapi"
	"ubiquon/internal/testkit/conformity"
)

// The examples of the control endpoints' document work on the demo's content, in the order of
// the document.
func TestControlExamples(t *testing.T) {
	checker := conformity.New(t)
	t.Cleanup(func() {
		// What the examples have made is in the way of other tests.
		ctx := context.Background()
		reads, err := admin().Reads().SavedReads(ctx)
		for _, one := range reads {
			err = errors.Join(err, admin().Reads().ForgetRead(ctx, one.ID))
		}
		drafts, _, listing := admin().Entries().List(ctx, api.EntryFilter{Type: "notice", Search: "Ice on the piers"})
		err = errors.Join(err, listing)
		for _, one := range drafts {
			_, deleting := admin().Entries().Edit(ctx, api.Edit{ID: one.ID, Do: "delete"})
			err = errors.Join(err, deleting)
		}
		if err != nil || len(drafts) != 2 {
			t.Errorf("%d drafts, %v", len(drafts), err)
		}
	})
	ran := 0
	for _, op := range controlapi.Operations() {
		if op.Example == nil {
			continue
		}
		ran++
		path, query, body := op.Path, url.Values{}, any(nil)
		v := reflect.ValueOf(op.Example)
		for _, f := range reflect.VisibleFields(v.Type()) {
			value := v.FieldByIndex(f.Index)
			text := fmt.Sprint(value.Interface())
			if list, ok := value.Interface().([]string); ok {
				text = strings.Join(list, ",")
			}
			switch {
			case f.Anonymous:
			case f.Tag.Get("path") != "":
				path = strings.ReplaceAll(path, "{"+f.Tag.Get("path")+"}", url.PathEscape(text))
			case f.Tag.Get("query") != "" && !value.IsZero():
				query.Set(f.Tag.Get("query"), text)
			}
		}
		if op.Method != http.MethodGet && op.Method != http.MethodDelete {
			body = op.Example
		}
		a, err := admin().Do(t.Context(), op.Method, "/control/v1"+path+"?"+query.Encode(), nil, body)
		if err != nil {
			t.Fatal(err)
		}
		if a.Err() != nil {
			t.Errorf("%s: %s %s?%s: %d %s", op.ID, op.Method, path, query.Encode(), a.Status, a.Body)
			continue
		}
		checker.Check(op.Method, op.Path, a.Status, a.Header, a.Body)
		var last struct{ Problem json.RawMessage }
		lines := strings.Split(strings.TrimSpace(string(a.Body)), "\n")
		if json.Unmarshal([]byte(lines[len(lines)-1]), &last) == nil && last.Problem != nil {
			t.Errorf("%s: %s", op.ID, last.Problem)
		}
	}
	if ran < 50 {
		t.Errorf("only %d operations have an example", ran)
	}
}
