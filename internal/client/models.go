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
	return out, ms.c.call(ctx, http.MethodPost, "/model/plan", api.ModelFiles{Files: files}, &out)
}

// Apply makes the files the model, telling how far it has come.
func (ms *Models) Apply(
	ctx context.Context, files map[string]string, allowLoss bool, ifVersion int64, tell func(api.ConversionProgress),
) error {
	return ms.convert(
		ctx, "/model/apply", api.ModelFiles{Files: files, AllowLoss: allowLoss, IfVersion: ifVersion}, tell,
	)
}

// EditLocales changes the locales, telling how far it has come.
func (ms *Models) EditLocales(ctx context.Context, e api.LocaleEdit, tell func(api.ConversionProgress)) error {
	return ms.convert(ctx, "/locales", e, tell)
}

func (ms *Models) convert(ctx context.Context, path string, body any, tell func(api.ConversionProgress)) error {
	src, err := json.Marshal(body)
	if err != nil {
		return err
	}
	return ms.c.stream(ctx, path, "application/json", bytes.NewReader(src), func(line []byte) error {
		var p api.ConversionProgress
		err := json.Unmarshal(line, &p)
		if err == nil && tell != nil {
			tell(p)
		}
		return err
	})
}
