package client

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"

	"ubiquon/internal/api"
	"ubiquon/internal/core/model"
)

// Present returns the model.
func (ms *Models) Present(ctx context.Context) (*model.Model, error) {
	var src json.RawMessage
	if err := ms.c.call(ctx, http.MethodGet, "/model", nil, &src); err != nil {
		return nil, err
	}
	return model.FromJSON(src)
}

// Plan returns what applying the model in the files would do.
func (ms *Models) Plan(ctx context.Context, files map[string]string) (out api.ModelPlan, err error) {
	return out, ms.c.call(ctx, http.MethodPost, "/model/plan", map[string]any{"files": files}, &out)
}

// Conversion is how far a change of the model has come.
type Conversion struct {
	Done, Total int
	Applied     bool
	Version     int64
}

// Apply makes the files the model, telling how far it has come.
func (ms *Models) Apply(
	ctx context.Context, files map[string]string, allowLoss bool, ifVersion int64, tell func(Conversion),
) error {
	return ms.convert(
		ctx, "/model/apply", map[string]any{"files": files, "allowLoss": allowLoss, "ifVersion": ifVersion}, tell,
	)
}

// LocaleEdit is one change of the locales: add, change, retire or restore one,
// or order all.
type LocaleEdit struct {
	Do       string   `json:"do"`
	Tag      string   `json:"tag,omitempty"`
	Name     string   `json:"name,omitempty"`
	Fallback []string `json:"fallback,omitempty"`
	Order    []string `json:"order,omitempty"`
}

// EditLocales changes the locales, telling how far it has come.
func (ms *Models) EditLocales(ctx context.Context, e LocaleEdit, tell func(Conversion)) error {
	return ms.convert(ctx, "/locales", e, tell)
}

func (ms *Models) convert(ctx context.Context, path string, body any, tell func(Conversion)) error {
	src, err := json.Marshal(body)
	if err != nil {
		return err
	}
	return ms.c.stream(ctx, path, "application/json", bytes.NewReader(src), func(line []byte) error {
		var p Conversion
		err := json.Unmarshal(line, &p)
		if err == nil && tell != nil {
			tell(p)
		}
		return err
	})
}
