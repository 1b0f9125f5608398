package office

import (
	"html/template"
	"maps"
	"net/http"
	"slices"
)

var deskPage = template.Must(template.New("desk").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Harbour office</title>
<style>
body{font:15px/1.5 Georgia,serif;margin:0;background:#efece4;color:#2a2a26}
header{background:#5b4636;color:#fff;padding:.8rem 1.5rem} header a{color:#fff;margin-right:1rem}
main{display:flex;gap:2rem;padding:1.5rem;max-width:70rem}
nav{width:22rem;flex:none} nav a{display:block;padding:.25rem .5rem;color:inherit;text-decoration:none} nav a.here{background:#ddd5c3}
label{display:block;font-weight:bold;margin-top:.8rem} input,textarea{width:100%;font:inherit;padding:.35rem;box-sizing:border-box} textarea{height:9rem}
small{color:#776} button{font:inherit;padding:.4rem 1rem;margin:1rem .5rem 0 0}
</style></head><body>
<header><b>Harbour office</b> &nbsp; {{range .Kinds}}<a href="/?kind={{.}}">{{.}}</a>{{end}}</header>
<main><nav>{{range .Items}}<a href="/?kind={{.Kind}}&ref={{.Ref}}"{{if eq .Ref $.Ref}} class="here"{{end}}>{{.Name}} <small>{{.Status}}</small></a>{{end}}</nav>
{{with .Chosen}}<form method="post" action="/desk/{{.Kind}}/{{.Ref}}" style="flex:1">
<small>{{.Kind}}/{{.Ref}} · {{.Status}}</small>
{{range .Fields}}<label for="{{.Name}}">{{.Name}}</label>{{if eq .Form "text"}}<textarea id="{{.Name}}" name="{{.Name}}">{{.Value}}</textarea>{{else}}<input id="{{.Name}}" name="{{.Name}}" value="{{.Value}}">{{end}}{{end}}
<button name="do" value="save">Save draft</button><button name="do" value="publish">Save and publish</button><button name="do" value="unpublish">Unpublish</button>
</form>{{end}}</main></body></html>`))

type deskField struct{ Name, Form, Value string }

type deskItem struct {
	Kind, Ref, Name, Status string
	Fields                  []deskField
}

func deskOf(i *Item) deskItem {
	out := deskItem{Kind: i.Kind, Ref: i.Ref, Status: i.status()}
	for _, name := range []string{"headline", "fullName", "heading"} {
		if s, ok := i.Working[name].(string); ok {
			out.Name = s
		}
	}
	for _, name := range slices.Sorted(maps.Keys(kinds[i.Kind])) {
		if form := kinds[i.Kind][name]; form == "line" || form == "text" {
			value, _ := i.Working[name].(string)
			out.Fields = append(out.Fields, deskField{name, form, value})
		}
	}
	return out
}

// page is where editors write: lines and texts; the rest goes through the
// interface.
func (f *Office) page(w http.ResponseWriter, r *http.Request) {
	f.mu.Lock()
	defer f.mu.Unlock()
	kind := r.URL.Query().Get("kind")
	if kinds[kind] == nil {
		kind = "reports"
	}
	data := struct {
		Kinds  []string
		Items  []deskItem
		Ref    string
		Chosen *deskItem
	}{Kinds: Kinds(), Ref: r.URL.Query().Get("ref")}
	for _, key := range slices.Sorted(maps.Keys(f.state.Items)) {
		item := f.state.Items[key]
		if item.Kind != kind {
			continue
		}
		d := deskOf(item)
		data.Items = append(data.Items, d)
		if item.Ref == data.Ref {
			data.Chosen = &d
		}
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	// The reader may be gone; nothing can be done about that.
	_ = deskPage.Execute(w, data)
}

// desk takes the form of the page.
func (f *Office) desk(w http.ResponseWriter, r *http.Request) {
	f.mu.Lock()
	defer f.mu.Unlock()
	item := f.state.Items[r.PathValue("kind")+"/"+r.PathValue("ref")]
	if item == nil || r.ParseForm() != nil {
		writeError(w, 404, "there is no such item")
		return
	}
	in := Fields{}
	for name, form := range kinds[item.Kind] {
		if (form == "line" || form == "text") && r.PostForm.Has(name) {
			in[name] = r.PostForm.Get(name)
		}
	}
	if err := item.merge(in); err != nil {
		writeError(w, 422, err.Error())
		return
	}
	what := "saved"
	switch r.PostForm.Get("do") {
	case "publish":
		item.Live, what = maps.Clone(item.Working), "published"
	case "unpublish":
		item.Live, what = nil, "unpublished"
	}
	if err := f.happened(item, what); err != nil {
		writeError(w, 500, err.Error())
		return
	}
	http.Redirect(w, r, "/?kind="+item.Kind+"&ref="+item.Ref, http.StatusSeeOther)
}
