package seal

import (
	"bytes"
	"errors"
	"strings"
	"testing"
)

func TestSealedValuesOpenUnderTheirNameOnly(t *testing.T) {
	old, current := NewKey(), NewKey()
	first, err := ReadRing(old)
	if err != nil {
		t.Fatal(err)
	}
	sealed := first.Seal("mail", []byte("hunter2"))
	if bytes.Contains(sealed, []byte("hunter2")) {
		t.Fatal("it is not encrypted")
	}
	rotated, err := ReadRing(current + "\n" + old)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := rotated.Open("mail", sealed); err != nil || string(got) != "hunter2" || rotated.Current(sealed) {
		t.Errorf("after a rotation: %q, %v, current %t", got, err, rotated.Current(sealed))
	}
	again := rotated.Seal("mail", []byte("hunter2"))
	if !rotated.Current(again) || bytes.Equal(again, sealed) {
		t.Error("sealing again takes the first key")
	}
	if _, err := first.Open("mail", again); !errors.Is(err, ErrKey) {
		t.Errorf("a key that is not at hand: %v", err)
	}
	if _, err := rotated.Open("slipway", sealed); err == nil {
		t.Error("opened under another name")
	}
	for i := range sealed {
		changed := bytes.Clone(sealed)
		changed[i] ^= 1
		if got, err := rotated.Open("mail", changed); err == nil {
			t.Fatalf("byte %d changed: %q", i, got)
		}
	}
	for cut := range sealed {
		if _, err := rotated.Open("mail", sealed[:cut]); err == nil {
			t.Fatalf("cut off after %d bytes", cut)
		}
	}
}

func TestKeysThatAreNoneAreRefusedWithoutRepeatingThem(t *testing.T) {
	for _, text := range []string{"", " , ", "c2hvcnQ=", "not base64!", NewKey() + ",zzz"} {
		if _, err := ReadRing(text); err == nil || strings.Contains(err.Error(), "zzz") ||
			strings.Contains(err.Error(), "not base64!") {
			t.Errorf("%q: %v", text, err)
		}
	}
}
