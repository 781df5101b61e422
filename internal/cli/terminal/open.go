package terminal

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/editions"
	"eastporch/internal/files/edition"
)

// OpenAtlas opens an edition file, or reads a source into an edition of its own:
// what the file is is seen from its contents.
func OpenAtlas(a *App, file string) (*atlas.Atlas, error) {
	edition, err := edition.Open(file)
	if err == nil || !errors.Is(err, atlas.ErrEdition) || beginsAsEdition(file) {
		return edition, err
	}
	source, err := Described(file, 1)
	if err != nil {
		return nil, err
	}
	built, err := editions.Build(context.Background(), []editions.SourceConfig{source}, editions.BuildOptions{Fetcher: &editions.Fetcher{}})
	if err != nil {
		return nil, err
	}
	for _, s := range built.Report.Sources {
		for _, r := range append(s.RejectReasons, s.RemarkReasons...) {
			for _, n := range r.First {
				a.Note(fmt.Sprintf("%s line %d: %s", file, n.Line, n.Reason))
			}
			if more := r.Count - len(r.First); more > 0 {
				a.Note(fmt.Sprintf("%s: and %d more like these", file, more))
			}
		}
	}
	return built.Atlas, nil
}

func beginsAsEdition(file string) bool {
	f, err := os.Open(file)
	if err != nil {
		return false
	}
	defer f.Close()
	b := make([]byte, 16)
	_, err = io.ReadFull(f, b)
	return err == nil && string(b) == "EAST PORCH ATLAS"
}

// Described makes a source of a file by what is in it.
func Described(file string, rank int) (editions.SourceConfig, error) {
	d, err := editions.Describe(file)
	if err != nil {
		return editions.SourceConfig{}, fmt.Errorf("%s: %w", file, err)
	}
	path, err := filepath.Abs(file)
	if err != nil {
		return editions.SourceConfig{}, err
	}
	name := filepath.Base(file)
	return editions.SourceConfig{
		About:        atlas.About{Name: name, Rank: rank},
		ParseOptions: source.ParseOptions{Format: d.Format, Columns: d.Mapping, Label: strings.TrimSuffix(name, filepath.Ext(name))}, Locations: []string{path},
	}, nil
}
