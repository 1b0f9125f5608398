package environment_test

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"ubiquon/internal/api"
	"ubiquon/internal/blob"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/environment"
	"ubiquon/internal/files"
	"ubiquon/internal/outbound"
	"ubiquon/internal/testkit"
)

const piers = `
locales: {en: {}, nb: {fallback: [en]}, ja: {}}
types:
  pier:
    path: /piers/{slug}
    fields:
      name: {kind: text, required: true}
      slug: {kind: slug, madeFrom: name}
      picture: {kind: file, types: [image/*], maxBytes: 3000000, minWidth: 100, renditions: {card: {width: 300, height: 300}}}
      papers: {kind: file, several: true}
      more: {kind: record, fields: {plan: {kind: file}}}
`

// drawn is a picture of one colour with a red spot at the right.
func drawn(t testing.TB, w, h int, format string) []byte {
	t.Helper()
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			c := color.RGBA{20, 90, uint8(120 + y%80), 255}
			if x > w*8/10 && y > h*4/10 && y < h*6/10 {
				c = color.RGBA{230, 20, 20, 255}
			}
			img.Set(x, y, c)
		}
	}
	var b bytes.Buffer
	var err error
	if format == "png" {
		err = png.Encode(&b, img)
	} else {
		err = jpeg.Encode(&b, img, nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// call makes a request with the node's key, or without one.
func (n node) call(t testing.TB, method, address string, h http.Header, body []byte) (*http.Response, []byte) {
	t.Helper()
	if !strings.HasPrefix(address, "http") {
		address = n.client.Address + address
	}
	req, err := http.NewRequestWithContext(t.Context(), method, address, bytes.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	for name, v := range h {
		req.Header[name] = v
	}
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := client.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	out, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return resp, out
}

func (n node) keyed() http.Header { return http.Header{"Authorization": {"Bearer " + n.client.Key}} }

// upload uploads a file and returns it.
func (n node) upload(t testing.TB, query string, body []byte) api.File {
	t.Helper()
	resp, out := n.call(t, "POST", "/control/v1/files?"+query, n.keyed(), body)
	if resp.StatusCode != http.StatusCreated {
		t.Fatalf("%s: %s", resp.Status, out)
	}
	var f api.File
	if err := json.Unmarshal(out, &f); err != nil {
		t.Fatal(err)
	}
	return f
}

// save writes entries, and publishes them if so asked.
func (n node) save(t testing.TB, publish bool, id, typ string, fields content.Fields) api.EditOutcome {
	t.Helper()
	e := api.Edit{ID: id, Type: typ, Save: fields}
	if publish {
		e.Do = "publish"
	}
	out, err := n.client.Entries().Edit(t.Context(), e)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// member reads a JSON answer, and what is at a path of names and numbers in it.
func member(t testing.TB, body []byte, path ...any) any {
	t.Helper()
	var v any
	if err := json.Unmarshal(body, &v); err != nil {
		t.Fatalf("%v: %s", err, body)
	}
	for _, p := range path {
		switch x := v.(type) {
		case map[string]any:
			v = x[p.(string)]
		case []any:
			if i := p.(int); i < len(x) {
				v = x[i]
			} else {
				t.Fatalf("%v has no %d", v, i)
			}
		default:
			return nil
		}
	}
	return v
}

func pierNode(t *testing.T, o environment.Options) (node, string) {
	t.Helper()
	if o.Store == nil {
		o.Store = testkit.Store(t, testkit.Model(t, piers))
	}
	n := start(t, o, access.NewSecret())
	if _, err := n.client.Keys().ChangePublicGrants(
		t.Context(), []string{"read published pier", "read published file"}, nil,
	); err != nil {
		t.Fatal(err)
	}
	return n, "/content/" + n.Replica.Environment()
}

// TestAPictureGoesFromAnUploadToReaders uploads a picture, shows it in an entry and publishes that.
func TestAPictureGoesFromAnUploadToReaders(t *testing.T) {
	n, base := pierNode(t, environment.Options{})
	src := drawn(t, 1200, 800, "png")
	f := n.upload(t, "name=../harbour.png&alt=The+harbour", src)
	if f.Name != "harbour.png" || f.MediaType != "image/png" || f.Width != 1200 || f.Height != 800 ||
		f.Bytes != int64(len(src)) || f.Published || f.Image == "" || f.Color == "" || f.Placeholder == "" {
		t.Fatalf("%+v", f)
	}
	n.save(
		t,
		false,
		"p1",
		"pier",
		content.Fields{"name": "Mella", "picture": f.ID, "more": map[string]any{"plan": f.ID}},
	)

	// Nobody sees it before the entry is published: the address of preview is signed.
	_, body := n.call(t, "GET", base+"/preview/piers/mella?fields=picture(url,alt,width)", n.keyed(), nil)
	draft, _ := member(t, body, "picture", "url").(string)
	if !strings.Contains(draft, "sig=") || member(t, body, "picture", "alt") != "The harbour" {
		t.Fatalf("%s", body)
	}
	bare, _, _ := strings.Cut(draft, "?")
	for address, want := range map[string]int{draft: 200, bare: 404, strings.Replace(draft, "sig=", "sig=A", 1): 404} {
		if resp, _ := n.call(t, "GET", address, nil, nil); resp.StatusCode != want {
			t.Errorf("%s: %s, want %d", address, resp.Status, want)
		}
	}
	if resp, _ := n.call(t, "GET", bare, n.keyed(), nil); resp.StatusCode != 200 {
		t.Errorf("with a key: %s", resp.Status)
	}

	n.save(
		t,
		true,
		"p1",
		"pier",
		content.Fields{"name": "Mella", "picture": f.ID, "more": map[string]any{"plan": f.ID}},
	)
	const fields = "picture[width=600,height=400,fit=cover](url,width,height),more(plan(url,alt))"
	_, body = n.call(t, "GET", base+"/published/piers/mella?fields="+fields, nil, nil)
	crop, _ := member(t, body, "picture", "url").(string)
	if member(t, body, "picture", "width") != 600.0 || member(t, body, "more", "plan", "alt") != "The harbour" {
		t.Fatalf("%s", body)
	}
	resp, made := n.call(t, "GET", crop, http.Header{"Accept": {"image/webp,*/*"}}, nil)
	if resp.StatusCode != 200 || !strings.Contains(resp.Header.Get("Vary"), "Accept") ||
		!strings.Contains(resp.Header.Get("Cache-Control"), "immutable") || len(made) == 0 {
		t.Errorf("%s: %s %v", crop, resp.Status, resp.Header)
	}
	if resp, got := n.call(t, "GET", bare, nil, nil); resp.StatusCode != 200 || !bytes.Equal(got, src) ||
		resp.Header.Get("Content-Type") != "image/png" || resp.Header.Get("X-Content-Type-Options") != "nosniff" {
		t.Errorf("the file: %s %v", resp.Status, resp.Header)
	}
	if resp, got := n.call(t, "GET", bare, http.Header{"Range": {"bytes=10-19"}}, nil); resp.StatusCode != 206 ||
		!bytes.Equal(got, src[10:20]) {
		t.Errorf("a range: %s, %d bytes", resp.Status, len(got))
	}

	// The same by its default form, by name, in a list, and over GraphQL.
	_, body = n.call(t, "GET", base+"/published/piers", nil, nil)
	if got := fmt.Sprint(member(t, body, "items", 0, "picture", "mediaType")); got != "image/png" {
		t.Errorf("%s", body)
	}
	_, body = n.call(t, "GET", base+"/published/piers?fields=picture(card,srcset)", nil, nil)
	if member(t, body, "items", 0, "picture", "card", "height") != 300.0 ||
		member(t, body, "items", 0, "picture", "srcset", 1, "type") != "image/webp" {
		t.Errorf("%s", body)
	}
	_, body = n.call(
		t,
		"GET",
		base+"/published/files?fields=name,file[width=320](url,width)&filter=width>1000",
		nil,
		nil,
	)
	if member(t, body, "items", 0, "name") != "harbour.png" || member(t, body, "items", 0, "file", "width") != 320.0 {
		t.Errorf("%s", body)
	}
	_, body = n.call(
		t,
		"POST",
		base+"/published/graphql",
		http.Header{"Content-Type": {"application/json"}},
		[]byte(
			`{"query": "{ pier(slug: \"mella\") { picture(width: 600, height: 400, fit: COVER) { url width alt srcset { type } card { width } } } }"}`,
		),
	)
	if member(t, body, "data", "pier", "picture", "url") != crop ||
		member(t, body, "data", "pier", "picture", "card", "width") != 300.0 ||
		member(t, body, "data", "pier", "picture", "srcset", 0, "type") != "image/avif" {
		t.Errorf("%s", body)
	}

	// It is shown, so it stays.
	_, err := n.client.Entries().Edit(t.Context(), api.Edit{ID: f.ID, Do: "delete"})
	if err == nil || !strings.Contains(err.Error(), "refer") {
		t.Errorf("deleting a file that is shown: %v", err)
	}
	_, body = n.call(t, "GET", "/control/v1/files/"+f.ID, n.keyed(), nil)
	if member(t, body, "usedBy", 0, "entry") != "p1" || member(t, body, "published") != true {
		t.Errorf("%s", body)
	}
}

// TestDescriptionsExpireWhatShowsThem changes a file's description, focal region and bytes, and looks
// which answers are computed anew.
func TestDescriptionsExpireWhatShowsThem(t *testing.T) {
	n, base := pierNode(t, environment.Options{})
	f := n.upload(t, "name=harbour.png", drawn(t, 1200, 800, "png"))
	other := n.upload(t, "name=other.png", drawn(t, 400, 300, "png"))
	n.save(t, true, "p1", "pier", content.Fields{"name": "Mella", "picture": f.ID})
	n.save(t, true, "p2", "pier", content.Fields{"name": "Losgata", "picture": other.ID})
	reads := map[string]string{
		"alt":     "/piers/mella?fields=picture(alt)",
		"address": "/piers/mella?fields=picture(url)",
		"crop":    "/piers/mella?fields=picture(card)",
		"whole":   "/piers/mella?fields=picture[width=320](url)",
		"list":    "/piers?fields=picture(alt)",
		"other":   "/piers/losgata?fields=picture(url,alt,card)",
		"name":    "/piers?fields=name",
		"files":   "/files?fields=name",
	}
	held := func() string {
		t.Helper()
		var out []string
		for _, name := range []string{"address", "alt", "crop", "files", "list", "name", "other", "whole"} {
			resp, _ := n.call(t, "GET", base+"/published"+reads[name], nil, nil)
			if !testkit.Hit(resp.Header.Get("Cache-Status")) {
				out = append(out, name)
			}
		}
		return strings.Join(out, " ")
	}
	held()
	if got := held(); got != "" {
		t.Fatalf("not held: %s", got)
	}
	save := func(change func(content.Fields)) {
		t.Helper()
		d, err := n.client.Entries().Get(t.Context(), f.ID)
		if err != nil {
			t.Fatal(err)
		}
		change(d.Newest)
		n.save(t, true, f.ID, "file", d.Newest)
	}
	save(func(f content.Fields) { f["alt"] = map[string]any{"en": "The harbour", "ja": "港"} })
	if got := held(); got != "alt list" {
		t.Errorf("the description: computed anew are %s", got)
	}
	save(func(f content.Fields) {
		f["focus"] = map[string]any{"x": .8, "y": .4, "width": .2, "height": .2}
	})
	if got := held(); got != "crop" {
		t.Errorf("the focal region: computed anew are %s", got)
	}
	_, body := n.call(t, "GET", base+"/published/piers/mella?fields=picture(card,alt)&locale=ja", nil, nil)
	if url, _ := member(t, body, "picture", "card", "url").(string); !strings.Contains(url, "/400,0,800,800/") ||
		member(t, body, "picture", "alt") != "港" {
		t.Errorf("the crop does not follow the focus: %s", body)
	}
	save(func(f content.Fields) { f["credit"] = "Skerry Line" })
	if got := held(); got != "" {
		t.Errorf("the credit: computed anew are %s", got)
	}
	resp, out := n.call(
		t,
		"PUT",
		"/control/v1/files/"+f.ID+"/bytes?publish=true",
		n.keyed(),
		drawn(t, 1000, 500, "jpg"),
	)
	if resp.StatusCode != 200 {
		t.Fatalf("%s: %s", resp.Status, out)
	}
	if got := held(); got != "address crop whole" {
		t.Errorf("other bytes: computed anew are %s", got)
	}

	// A field may say something else for its own use.
	n.save(t, true, "p1", "pier", content.Fields{"name": "Mella", "picture": map[string]any{
		"file": f.ID, "alt": "From the sea", "focus": map[string]any{"x": 0, "y": 0, "width": .1, "height": .1},
	}})
	_, body = n.call(t, "GET", base+"/published/piers/mella?fields=picture(card,alt)", nil, nil)
	if url, _ := member(t, body, "picture", "card", "url").(string); !strings.Contains(url, "/0,0,500,500/") ||
		member(t, body, "picture", "alt") != "From the sea" {
		t.Errorf("%s", body)
	}
}

// TestBadFilesAreRefused sends what cannot be taken; nothing of it is kept.
func TestBadFilesAreRefused(t *testing.T) {
	n, base := pierNode(t, environment.Options{Files: files.Config{MaxBytes: 400_000, Quota: 500_000}})
	good := drawn(t, 300, 200, "png")
	for name, c := range map[string]struct {
		query string
		body  []byte
		kind  string
		code  int
	}{
		"no name":           {"", good, "parameter", 400},
		"nothing":           {"name=a.png", nil, "broken-file", 422},
		"text as a picture": {"name=a.png", []byte("this is no picture"), "broken-file", 422},
		"cut off":           {"name=a.png", good[:len(good)/2], "broken-file", 422},
		"too large":         {"name=a.bin", bytes.Repeat([]byte("x"), 400_001), "too-large", 413},
		"a wrong parameter": {"name=a.png&public=yes", good, "parameter", 400},
	} {
		resp, out := n.call(t, "POST", "/control/v1/files?"+c.query, n.keyed(), c.body)
		kind, _ := member(t, out, "type").(string)
		if resp.StatusCode != c.code || !strings.HasSuffix(kind, "/"+c.kind) || member(t, out, "detail") == nil {
			t.Errorf("%s: %s %s; want %d %s", name, resp.Status, out, c.code, c.kind)
		}
	}
	list := func() float64 {
		_, out := n.call(t, "GET", "/control/v1/files", n.keyed(), nil)
		return member(t, out, "total").(float64)
	}
	if list() != 0 {
		t.Errorf("%v files are kept of what was refused", list())
	}
	n.upload(t, "name=large.bin", bytes.Repeat([]byte("y"), 390_000))
	resp, out := n.call(t, "POST", "/control/v1/files?name=b.bin", n.keyed(), bytes.Repeat([]byte("z"), 390_000))
	if resp.StatusCode != http.StatusInsufficientStorage {
		t.Errorf("beyond the quota: %s %s", resp.Status, out)
	}
	// The same bytes again take no room.
	n.upload(t, "name=again.bin", bytes.Repeat([]byte("y"), 390_000))

	// Files are imported like other entries, as long as their bytes are here.
	again := n.upload(t, "name=tide.txt", []byte("high at noon"))
	lines := fmt.Sprintf(`{"id":"tide-2","type":"file","fields":{"name":"tide 2.txt","hash":%q}}`+"\n"+
		`{"id":"tide-3","type":"file","fields":{"name":"tide 3.txt","hash":%q}}`, again.Hash, strings.Repeat("0", 64))
	var last api.ImportProgress
	if err := n.client.Entries().Import(t.Context(), strings.NewReader(lines), api.ImportOptions{},
		func(p api.ImportProgress) { last = p }); err != nil || last.Written != 1 || last.Bad != 1 {
		t.Errorf("%+v, %v; want the one whose bytes are here", last, err)
	}

	// Drawings may hold scripts: they are delivered so that those do nothing.
	svg := n.upload(
		t,
		"name=boat.svg&publish=true",
		[]byte(`<svg xmlns="http://www.w3.org/2000/svg"><script>alert(1)</script></svg>`),
	)
	resp, _ = n.call(t, "GET", svg.URL, nil, nil)
	if !strings.Contains(resp.Header.Get("Content-Security-Policy"), "sandbox") ||
		!strings.HasPrefix(resp.Header.Get("Content-Disposition"), "attachment") {
		t.Errorf("a drawing: %v", resp.Header)
	}
	// What a field does not allow is named.
	small := n.upload(t, "name=small.png", drawn(t, 50, 50, "png"))
	for id, says := range map[string]string{svg.ID: "", small.ID: "50 pixels wide", "nothing-here": "there is no entry"} {
		_, err := n.client.Entries().Edit(t.Context(),
			api.Edit{ID: "p1", Type: "pier", Save: content.Fields{"name": "Mella", "picture": id}})
		if (err == nil) != (says == "") || err != nil && !strings.Contains(err.Error(), says) {
			t.Errorf("%s as the picture: %v, want %q", id, err, says)
		}
	}
	for path, code := range map[string]int{
		base + "/published/piers?fields=picture[width=0](url)":                            400,
		base + "/published/piers?fields=picture[width=9000](url)":                         400,
		base + "/published/piers?fields=picture[fit=stretch,width=5]":                     400,
		base + "/published/piers?fields=picture[size=5](url)":                             400,
		base + "/published/piers?fields=picture(cards)":                                   400,
		base + "/published/piers?fields=name[width=5]":                                    400,
		"/images/" + n.Replica.Environment() + "/" + svg.Hash + "/full/max/0/default.png": 404,
		"/files/other/" + svg.Hash + "/boat.svg":                                          404,
		"/files/" + n.Replica.Environment() + "/../../etc/passwd":                         404,
	} {
		if resp, out := n.call(t, "GET", path, nil, nil); resp.StatusCode != code || member(t, out, "detail") == nil {
			t.Errorf("%s: %s %s, want %d", path, resp.Status, out, code)
		}
	}
}

// TestPicturesAreMadeOnce has two nodes asked for the same picture many times at once, and for
// every part of the IIIF Image API that strangers may use.
func TestPicturesAreMadeOnce(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, piers))
	blobs, err := blob.OpenDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	a, _ := pierNode(t, environment.Options{Store: s, Blobs: blobs})
	b, _ := pierNode(t, environment.Options{Store: s, Blobs: blobs})
	f := a.upload(t, "name=harbour.jpg&publish=true", drawn(t, 1600, 1200, "jpg"))
	path := "/images/" + a.Replica.Environment() + "/" + f.Hash
	var all sync.WaitGroup
	for i := range 60 {
		all.Go(func() {
			n := []node{a, b}[i%2]
			resp, out := n.call(t, "GET", path+"/full/640,/0/default.jpg", nil, nil)
			if resp.StatusCode != 200 || resp.Header.Get("Content-Type") != "image/jpeg" || len(out) < 500 {
				t.Errorf("%s, %d bytes", resp.Status, len(out))
			}
		})
	}
	all.Wait()
	if made := a.Files.Made() + b.Files.Made(); made != 1 {
		t.Errorf("%d were made", made)
	}
	size := func(n node, h http.Header, rest string) string {
		t.Helper()
		resp, out := n.call(t, "GET", path+rest, h, nil)
		if resp.StatusCode != 200 {
			return fmt.Sprint(resp.StatusCode)
		}
		c, format, err := image.DecodeConfig(bytes.NewReader(out))
		if err != nil {
			return resp.Header.Get("Content-Type")
		}
		return fmt.Sprintf("%s %d × %d", format, c.Width, c.Height)
	}
	for rest, want := range map[string]string{
		"/full/640,/0/default.jpg":        "jpeg 640 × 480",
		"/full/613,/0/default.jpg":        "302",
		"/square/320,/90/gray.png":        "png 320 × 320",
		"/0,0,512,512/512,/0/default.jpg": "jpeg 512 × 512",
		"/5,5,600,600/320,/0/default.jpg": "400",
		"/full/max/0/default.gif":         "400",
		"":                                "303",
	} {
		if got := size(b, nil, rest); got != want {
			t.Errorf("%s is %s, want %s", rest, got, want)
		}
	}
	// Who has a key gets just what is asked for.
	for rest, want := range map[string]string{
		"/full/613,/0/default.jpg":                  "jpeg 613 × 460",
		"/5,5,600,600/320,/0/default.png":           "png 320 × 320",
		"/pct:50,50,50,50/!100,100/180/default.png": "png 100 × 75",
		"/full/^2000,/0/default.jpg":                "jpeg 2000 × 1500",
	} {
		if got := size(b, b.keyed(), rest); got != want {
			t.Errorf("%s with a key is %s, want %s", rest, got, want)
		}
	}
	resp, out := a.call(t, "GET", path+"/info.json", http.Header{"Accept": {"application/ld+json"}}, nil)
	if member(t, out, "profile") != "level2" || member(t, out, "width") != 1600.0 ||
		!strings.HasPrefix(resp.Header.Get("Content-Type"), "application/ld+json") ||
		resp.Header.Get(
			"Access-Control-Allow-Origin",
		) != "*" || !strings.HasSuffix(fmt.Sprint(member(t, out, "id")), path) {
		t.Errorf("%v %s", resp.Header, out)
	}
	resp, _ = a.call(t, "GET", path+"/full/640,/0/default.jpg", http.Header{"If-None-Match": {`"` + "x" + `"`}}, nil)
	tag := resp.Header.Get("ETag")
	resp, _ = b.call(t, "GET", path+"/full/640,/0/default.jpg", http.Header{"If-None-Match": {tag}}, nil)
	if resp.StatusCode != http.StatusNotModified {
		t.Errorf("with its entity tag: %s", resp.Status)
	}
}

// TestUploadsGoOnWhereTheyBrokeOff sends half a file, ends the node and sends the rest to the next one.
func TestUploadsGoOnWhereTheyBrokeOff(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, piers))
	dir := t.TempDir()
	on := func() node {
		blobs, err := blob.OpenDirectory(dir + "/blobs")
		if err != nil {
			t.Fatal(err)
		}
		n, _ := pierNode(t, environment.Options{Store: s, Blobs: blobs})
		return n
	}
	n := on()
	src := drawn(t, 900, 700, "png")
	h := n.keyed()
	h.Set("Tus-Resumable", "1.0.0")
	with := func(pairs ...string) http.Header {
		out := h.Clone()
		for i := 0; i < len(pairs); i += 2 {
			out.Set(pairs[i], pairs[i+1])
		}
		return out
	}
	metadata := "filename " + base64.StdEncoding.EncodeToString([]byte("harbour.png"))
	uploads := "/control/v1/environments/" + n.Replica.Environment() + "/uploads"
	resp, out := n.call(
		t,
		"POST",
		uploads,
		with("Upload-Length", fmt.Sprint(len(src)), "Upload-Metadata", metadata),
		nil,
	)
	if resp.StatusCode != http.StatusCreated {
		t.Fatalf("%s: %s", resp.Status, out)
	}
	at := resp.Header.Get("Location")
	at = at[strings.Index(at, "/control/"):]
	patch := func(n node, from int, body []byte) (*http.Response, []byte) {
		t.Helper()
		h := with("Upload-Offset", fmt.Sprint(from), "Content-Type", "application/offset+octet-stream")
		h.Set("Authorization", "Bearer "+n.client.Key)
		return n.call(t, "PATCH", at, h, body)
	}
	half := len(src) / 2
	if resp, out = patch(n, 0, src[:half]); resp.StatusCode != http.StatusNoContent {
		t.Fatalf("%s: %s", resp.Status, out)
	}
	n.Close()
	n = on()
	h = n.keyed()
	h.Set("Tus-Resumable", "1.0.0")
	resp, _ = n.call(t, "HEAD", at, h, nil)
	if resp.Header.Get("Upload-Offset") != fmt.Sprint(half) {
		t.Fatalf("%s, at %s of %d", resp.Status, resp.Header.Get("Upload-Offset"), half)
	}
	if resp, out = patch(n, half, src[half:]); resp.StatusCode != 200 || member(t, out, "name") != "harbour.png" ||
		member(t, out, "width") != 900.0 || resp.Header.Get("Ubiquon-File") == "" {
		t.Fatalf("%s: %s", resp.Status, out)
	}
	for name, c := range map[string]struct {
		h    http.Header
		code int
	}{
		"no name":     {with("Upload-Length", "10"), 400},
		"too large":   {with("Upload-Length", "99999999999", "Upload-Metadata", metadata), 413},
		"no key":      {http.Header{"Tus-Resumable": {"1.0.0"}, "Upload-Length": {"10"}}, 401},
		"no length":   {with("Upload-Defer-Length", "1", "Upload-Metadata", metadata), 400},
		"old version": {with("Tus-Resumable", "0.2.0", "Upload-Length", "10"), 412},
	} {
		if resp, out := n.call(t, "POST", uploads, c.h, nil); resp.StatusCode != c.code {
			t.Errorf("%s: %s %s, want %d", name, resp.Status, out, c.code)
		}
	}
}

// TestFilesOfOthers fetches files from an address and mirrors them.
func TestFilesOfOthers(t *testing.T) {
	var mu sync.Mutex
	src, asked, whole := drawn(t, 400, 300, "png"), 0, 0
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		asked++
		switch r.URL.Path {
		case "/quay.png":
			tag := fmt.Sprintf(`"%d"`, len(src))
			w.Header().Set("ETag", tag)
			if r.Header.Get("If-None-Match") == tag {
				w.WriteHeader(http.StatusNotModified)
				return
			}
			whole++
			_, _ = w.Write(src)
		case "/moved":
			http.Redirect(w, r, "http://192.0.2.1/secret", http.StatusFound)
		default:
			http.NotFound(w, r)
		}
	}))
	defer web.Close()
	n, _ := pierNode(t, environment.Options{Outbound: outbound.Options{Private: true}})
	fetch := func(n node, address string) (*http.Response, []byte) {
		body, _ := json.Marshal(api.FileFetch{Address: address})
		h := n.keyed()
		h.Set("Content-Type", "application/json")
		return n.call(t, "POST", "/control/v1/files/fetch", h, body)
	}
	resp, out := fetch(n, web.URL+"/quay.png")
	if resp.StatusCode != 201 || member(t, out, "name") != "quay.png" || member(t, out, "width") != 400.0 {
		t.Fatalf("%s: %s", resp.Status, out)
	}
	for _, address := range []string{
		web.URL + "/nothing", web.URL + "/moved", "ftp://a/b", "file:///etc/passwd", "", "http://u:p@" + web.URL[7:],
	} {
		if resp, out := fetch(n, address); resp.StatusCode != 422 || member(t, out, "detail") == nil {
			t.Errorf("%q: %s %s", address, resp.Status, out)
		}
	}
	guarded, _ := pierNode(t, environment.Options{})
	if resp, out := fetch(guarded, web.URL+"/quay.png"); resp.StatusCode != 422 ||
		!strings.Contains(string(out), "private") {
		t.Errorf("into a private network: %s %s", resp.Status, out)
	}

	mirror := func() string {
		t.Helper()
		id, err := n.Files.Mirror(
			t.Context(),
			web.URL+"/quay.png",
			"The quay",
			"test",
			content.Cause{Kind: "event", Name: "office"},
		)
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	id := mirror()
	mu.Lock()
	before := whole
	mu.Unlock()
	if again := mirror(); again != id {
		t.Errorf("mirrored again it is %s, not %s", again, id)
	}
	mu.Lock()
	if whole != before {
		t.Errorf("what has not changed was sent again")
	}
	src = drawn(t, 500, 300, "png")
	mu.Unlock()
	if mirror() != id {
		t.Error("other bytes have another id")
	}
	_, out = n.call(t, "GET", "/control/v1/files/"+id, n.keyed(), nil)
	if member(t, out, "width") != 500.0 || member(t, out, "published") != true {
		t.Errorf("%s", out)
	}
}

// TestGarbageIsCollected deletes a file, and looks when its bytes go.
func TestGarbageIsCollected(t *testing.T) {
	s := testkit.Store(t, testkit.Model(t, piers))
	blobs, err := blob.OpenDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	n, _ := pierNode(t, environment.Options{Store: s, Blobs: blobs, Files: files.Config{Grace: 1}})
	f := n.upload(t, "name=harbour.png&publish=true", drawn(t, 800, 600, "png"))
	kept := n.upload(t, "name=quay.png", drawn(t, 300, 200, "png"))
	path := "/images/" + n.Replica.Environment() + "/" + f.Hash + "/full/320,/0/default.png"
	if resp, _ := n.call(t, "GET", path, nil, nil); resp.StatusCode != 200 {
		t.Fatal(resp.Status)
	}
	check := func(o api.FileCheckOptions) (last api.FileCheck) {
		t.Helper()
		if err := n.Files.Check(t.Context(), o, func(c api.FileCheck) { last = c }); err != nil {
			t.Fatal(err)
		}
		return last
	}
	if c := check(api.FileCheckOptions{Hashes: true, Collect: true}); c.Checked != 2 || c.Collected != 0 ||
		len(c.Missing)+len(c.Damaged)+len(c.Orphans) != 0 || !c.Done {
		t.Errorf("before: %+v", c)
	}
	// One that could not be made, an hour ago.
	_, err = s.DB.Pool.Exec(t.Context(), `insert into rendition (environment, hash, name, problem, claimed)
		values ($1, $2, 'x', 'it cannot be decoded', clock_timestamp() - interval '1 hour')`, s.Environment, f.Hash)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := n.client.Entries().Edit(t.Context(), api.Edit{ID: f.ID, Do: "delete"}); err != nil {
		t.Fatal(err)
	}
	if resp, _ := n.call(t, "GET", path, nil, nil); resp.StatusCode != 404 {
		t.Errorf("a picture of a deleted file: %s", resp.Status)
	}
	// The file, the picture made of it, and the note.
	if c := check(api.FileCheckOptions{Collect: true}); c.Collected != 3 {
		t.Errorf("collected: %+v", c)
	}
	var left []string
	for _, prefix := range []string{"file/", "picture/"} {
		if err := blobs.List(t.Context(), prefix, func(i blob.Item) error {
			left = append(left, i.Key)
			return nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	if len(left) != 1 || left[0] != "file/"+kept.Hash {
		t.Errorf("kept are %v", left)
	}
	if err := blobs.Delete(t.Context(), "file/"+kept.Hash); err != nil {
		t.Fatal(err)
	}
	if c := check(api.FileCheckOptions{}); len(c.Missing) != 1 || c.Missing[0] != kept.Hash {
		t.Errorf("bytes that are gone: %+v", c)
	}
}

// TestTheSameBytesElsewhereAreOneFile mirrors a picture from two addresses, until one of them changes.
func TestTheSameBytesElsewhereAreOneFile(t *testing.T) {
	bytes := map[string]string{"/a/pier.txt": "the pier", "/b/quay.txt": "the pier"}
	var mu sync.Mutex
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		_, _ = w.Write([]byte(bytes[r.URL.Path]))
	}))
	t.Cleanup(web.Close)
	n := reading(t, nil, "")
	mirror := func(path string) string {
		t.Helper()
		id, err := n.Files.Mirror(t.Context(), web.URL+path, "", "test", content.Cause{Kind: "event"})
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	a := mirror("/a/pier.txt")
	would, err := n.Files.MirrorOf(t.Context(), web.URL+"/b/quay.txt")
	if b := mirror("/b/quay.txt"); err != nil || would != a || b != a {
		t.Fatalf("%s and %s, foretold %s %v", a, b, would, err)
	}
	mu.Lock()
	bytes["/a/pier.txt"] = "the pier, painted"
	mu.Unlock()
	changed := mirror("/a/pier.txt")
	if b := mirror("/b/quay.txt"); changed == a || b != a {
		t.Errorf("after a change of one: %s and %s, both were %s", changed, b, a)
	}
	if again := mirror("/a/pier.txt"); again != changed {
		t.Errorf("%s is another file each time: %s", changed, again)
	}
}
