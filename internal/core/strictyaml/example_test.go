package strictyaml_test

import (
	"fmt"

	"ubiquon/internal/core/strictyaml"
)

func ExampleDecode() {
	var boat struct {
		Name  string `yaml:"name"`
		Berth int    `yaml:"berth"`
	}
	err := strictyaml.Decode("boat.yaml", []byte("name: Storm Petrel\nberht: 3\n"), &boat)
	fmt.Println(err)
	// Output:
	// boat.yaml:2:1: unknown key "berht"; did you mean "berth"?
}
