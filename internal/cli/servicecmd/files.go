package servicecmd

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/blob"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/files"
)

// filesConfig is what ubiquon.yaml says of files.
type filesConfig struct {
	Address    string              `yaml:"address"`    // put before addresses of files in answers; default publicAddress, else none
	Directory  string              `yaml:"directory"`  // default: files, in data
	MaxBytes   strictyaml.Bytes    `yaml:"maxBytes"`   // bound of one file, as in 200MB; default 5GB
	Quota      strictyaml.Bytes    `yaml:"quota"`      // bound of all; default none
	Renditions strictyaml.Bytes    `yaml:"renditions"` // bound of pictures made of others; default 10GB
	Ladder     []int               `yaml:"ladder"`     // widths in which anybody may have pictures
	Scan       string              `yaml:"scan"`       // address of a virus scanner that gets what is uploaded
	Grace      strictyaml.Duration `yaml:"grace"`      // how long unused bytes are kept; default 24h
	Objects    struct {
		Address   string `yaml:"address"` // of a store that speaks the S3 protocol
		Bucket    string `yaml:"bucket"`
		Prefix    string `yaml:"prefix"`
		Region    string `yaml:"region"`
		AccessKey string `yaml:"accessKey"` // env:NAME, or itself
		Secret    string `yaml:"secret"`    // likewise
	} `yaml:"objects"`
}

// read checks the values, and takes those of variables.
func (f *filesConfig) read() (err error) {
	for _, a := range []struct{ name, value string }{
		{"address", f.Address}, {"scan", f.Scan}, {"objects.address", f.Objects.Address},
	} {
		if u, err := url.Parse(a.value); a.value != "" &&
			(err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https") {
			return fmt.Errorf("files.%s: %q is no address; write it as in https://files.example", a.name, a.value)
		}
	}
	if !slices.IsSorted(f.Ladder) || len(slices.Compact(slices.Clone(f.Ladder))) != len(f.Ladder) ||
		len(f.Ladder) > 50 {
		return fmt.Errorf("files.ladder: give up to 50 widths, each larger than the one before it")
	}
	for _, w := range f.Ladder {
		if w < 1 || w > model.MaxPicture {
			return fmt.Errorf("files.ladder: %d is no width; give 1 to %d pixels", w, model.MaxPicture)
		}
	}
	if f.Objects.Address != "" && f.Objects.Bucket == "" {
		return fmt.Errorf("files.objects: name the bucket")
	}
	if f.Objects.AccessKey, err = fromEnvironment(f.Objects.AccessKey); err != nil {
		return fmt.Errorf("files.objects.accessKey: %w", err)
	}
	if f.Objects.Secret, err = fromEnvironment(f.Objects.Secret); err != nil {
		return fmt.Errorf("files.objects.secret: %w", err)
	}
	return nil
}

// config is what the library of files is told.
func (f *filesConfig) config(public string) files.Config {
	if f.Address == "" {
		f.Address = public
	}
	return files.Config{
		Address: strings.TrimSuffix(
			f.Address,
			"/",
		), Ladder: f.Ladder, MaxBytes: int64(f.MaxBytes), Quota: int64(f.Quota),
		RenditionBytes: int64(f.Renditions), Grace: time.Duration(f.Grace), Scan: f.Scan,
	}
}

func (f *filesConfig) objects() blob.ObjectStore {
	o := f.Objects
	return blob.ObjectStore{
		Address: o.Address, Bucket: o.Bucket, Prefix: o.Prefix, Region: o.Region, AccessKey: o.AccessKey, Secret: o.Secret,
	}
}
