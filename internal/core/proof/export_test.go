package proof

import (
	"testing"

	"github.com/dunglas/httpsfv"
)

// parsed reads what a signature covers, and the signature.
func parsed(t *testing.T, input, signature string) (httpsfv.InnerList, []byte) {
	t.Helper()
	inputs, err := httpsfv.UnmarshalDictionary([]string{input})
	if err != nil {
		t.Fatal(err)
	}
	signatures, err := httpsfv.UnmarshalDictionary([]string{signature})
	if err != nil {
		t.Fatal(err)
	}
	covered, _ := inputs.Get(inputs.Names()[0])
	item, _ := signatures.Get(inputs.Names()[0])
	return covered.(httpsfv.InnerList), item.(httpsfv.Item).Value.([]byte)
}
