package library

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"undersail/internal/core/cases"
)

// Cases are the text of a file of cases with the saved offers that it names, by file.
type Cases struct {
	Source string            `json:"source"`
	Offers map[string]string `json:"offers,omitempty"`
}

// ReadCases reads what is kept beside a template file to try it with: NAME.cases.yaml
// beside NAME.sail.yaml, or nil. What is wrong with the text is told by whoever reads it;
// saved offers that are not there are left out.
func ReadCases(files fs.FS, template string) (*Cases, error) {
	file := strings.TrimSuffix(template, Suffix) + cases.Suffix
	source, err := fs.ReadFile(files, file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read cases: %w", err)
	}
	out := &Cases{Source: string(source), Offers: map[string]string{}}
	list, _ := cases.Read(file, source)
	for _, c := range list {
		at := path.Join(path.Dir(file), c.Offers)
		if c.Offers == "" || !fs.ValidPath(at) {
			continue
		}
		saved, err := fs.ReadFile(files, at)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("read the offers of case %q: %w", c.Name, err)
		}
		out.Offers[c.Offers] = string(saved)
	}
	return out, nil
}
