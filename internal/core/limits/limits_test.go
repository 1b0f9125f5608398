package limits

import (
	"reflect"
	"strings"
	"testing"

	"ubiquon/internal/core/strictyaml"
)

func TestDefaultsFillUnsetFields(t *testing.T) {
	var read struct {
		Limits Limits `yaml:"limits"`
	}
	if err := strictyaml.Decode("ubiquon.yaml", []byte("limits: {answer: 2MB, computing: 20, patience: 500ms}"),
		&read); err != nil {
		t.Fatal(err)
	}
	l := read.Limits.WithDefaults()
	if l.Answer != 2<<20 || l.Computing != 20 || l.ComputingPerPrincipal != 10 ||
		l.Patience.Or(0).Milliseconds() != 500 {
		t.Errorf("%+v", l)
	}
	v := reflect.ValueOf(l)
	for i := range v.NumField() {
		if name := v.Type().Field(i).Name; v.Field(i).IsZero() && name != "AnonymousPerMinute" {
			t.Errorf("%s has no default", name)
		}
	}
	if err := l.Check(); err != nil {
		t.Error(err)
	}
	for name, bad := range map[string]Limits{"limits.streams": {Streams: -1}, "limits.computing": {Computing: 201}} {
		if err := bad.Check(); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := strictyaml.Decode("ubiquon.yaml", []byte("limits: {answer: much}"), &read); err == nil ||
		!strings.Contains(err.Error(), "256MB") {
		t.Errorf("what is no size: %v", err)
	}
}
