package client_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"

	"ubiquon/internal/client"
)

// Do sends a request with the key; the answer keeps status, headers and body as they came.
func ExampleClient_Do() {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Status", "Ubiquon; hit")
		fmt.Fprintf(w, `{"name":"Mella","key":%q}`, r.Header.Get("Authorization"))
	}))
	defer service.Close()
	c := &client.Client{Address: service.URL, Key: "ubq_example"}
	a, err := c.Do(context.Background(), http.MethodGet, "/content/main/published/piers/mella", nil, nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(a.Status, a.Header.Get("Cache-Status"))
	fmt.Println(string(a.Body))
	// Output:
	// 200 Ubiquon; hit
	// {"name":"Mella","key":"Bearer ubq_example"}
}
