package command

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"ubiquon/internal/core/model"
)

// ReadModel reads the model files below a directory.
func ReadModel(dir string) (*model.Model, error) {
	files, err := ModelFiles(dir)
	if err != nil {
		return nil, err
	}
	return model.Read(files)
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
