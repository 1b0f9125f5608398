package command

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/shape"
)

// ReadModel reads the model files below a directory.
func ReadModel(dir string) (*model.Model, error) {
	files, err := ModelFiles(dir)
	if err != nil {
		return nil, err
	}
	m, err := model.Read(files)
	if err != nil {
		return nil, err
	}
	if wrong := shape.Check(m); len(wrong) > 0 {
		return nil, errors.New(strings.Join(wrong, "\n"))
	}
	return m, nil
}

// ModelFiles reads the YAML files below a directory, by their path.
func ModelFiles(dir string) (map[string][]byte, error) {
	files := map[string][]byte{}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || (filepath.Ext(path) != ".yaml" && filepath.Ext(path) != ".yml") {
			return err
		}
		files[path], err = os.ReadFile(path)
		return err
	})
	if err != nil {
		return nil, err
	}
	if len(files) == 0 {
		return nil, fmt.Errorf("there are no .yaml files in the model's directory %s", dir)
	}
	return files, nil
}
