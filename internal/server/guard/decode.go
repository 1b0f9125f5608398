package guard

import (
	"net/http"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/authoring"
	"ubiquon/internal/core/access"
)

// Decode reads a request into the struct that in points to: fields with a path or query tag
// from the address, those with a json tag from the body. Parameters and members that the struct
// does not have are refused. Its error is an api.Problem or a *query.Error.
func Decode(r *http.Request, in any) error {
	v := reflect.ValueOf(in).Elem()
	fields := wireFields(v.Type(), nil)
	var known []string
	body := false
	for _, f := range fields {
		if name := f.tag.Get("query"); name != "" {
			known = append(known, name)
		}
		body = body || f.member
	}
	values, err := QueryValues(r, known...)
	if err != nil {
		return err
	}
	if body {
		if err := ReadBody(r, in); err != nil {
			return err
		}
	}
	for _, f := range fields {
		field := v.FieldByIndex(f.index)
		if name := f.tag.Get("path"); name != "" && setField(field, chi.URLParam(r, name)) != nil {
			return api.Problem{
				Kind: "not-found", Status: http.StatusNotFound, Detail: "there is nothing at " + r.URL.Path,
			}
		}
		name := f.tag.Get("query")
		if text := values[name]; name != "" && text != "" {
			if err := setField(field, text); err != nil {
				return api.Problem{
					Kind: "parameter", Status: http.StatusBadRequest, Parameter: name,
					Detail: strconv.Quote(access.Printable(text)) + " is not " + err.Error(),
				}
			}
		}
	}
	return nil
}

// wireField is a field of a request type.
type wireField struct {
	index  []int
	tag    reflect.StructTag
	member bool // of the body
}

// wireFields lists the fields of a request type, those of embedded types too.
func wireFields(t reflect.Type, at []int) (out []wireField) {
	for i := range t.NumField() {
		f := t.Field(i)
		index := append(at[:len(at):len(at)], i)
		if f.Anonymous && f.Type.Kind() == reflect.Struct {
			out = append(out, wireFields(f.Type, index)...)
			continue
		}
		out = append(out, wireField{index: index, tag: f.Tag, member: f.Tag.Get("json") != "-"})
	}
	return out
}

// form is what a value should look like.
type form string

// Error implements error.
func (f form) Error() string { return string(f) }

// setField sets a field to the value of a parameter. Its error says what that may be.
func setField(field reflect.Value, text string) error {
	switch field.Interface().(type) {
	case time.Time:
		at, _, err := authoring.ParseMoment(text, "")
		if err != nil {
			return form("a time: " + err.Error())
		}
		field.Set(reflect.ValueOf(at))
		return nil
	case []string:
		field.Set(reflect.ValueOf(strings.Split(text, ",")))
		return nil
	}
	switch field.Kind() {
	case reflect.Pointer:
		field.Set(reflect.New(field.Type().Elem()))
		return setField(field.Elem(), text)
	case reflect.Bool:
		if text != "true" && text != "false" {
			return form("true or false")
		}
		field.SetBool(text == "true")
	case reflect.Int:
		n, err := strconv.ParseInt(text, 10, 32)
		if err != nil || n < 0 {
			return form("a number from 0 to 2147483647")
		}
		field.SetInt(n)
	case reflect.Int64:
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil || n < 0 {
			return form("a number from 0 to 9223372036854775807")
		}
		field.SetInt(n)
	default:
		field.SetString(text)
	}
	return nil
}
