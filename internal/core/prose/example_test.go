package prose_test

import (
	"fmt"

	"ubiquon/internal/core/prose"
)

func ExampleRender() {
	forms := prose.Render("The boat of 8 is **late**. <script>x</script>", nil).Forms(nil)
	fmt.Println(forms["html"])
	fmt.Println(forms["plain"])
	// Output:
	// <p>The boat of 8 is <strong>late</strong>. x</p>
	// The boat of 8 is late. x
}

func ExampleFromHTML() {
	text, lost, err := prose.FromHTML("<h2>Piers</h2><p>Mella &amp; Sula</p><form>x</form>", nil)
	fmt.Printf("%s\n%v %v\n", text, lost, err)
	// Output:
	// ## Piers
	//
	// Mella & Sula
	// [<form>] <nil>
}
