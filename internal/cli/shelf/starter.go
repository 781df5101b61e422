package shelf

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"eastporch/internal/cli/terminal"
	"eastporch/internal/config"
	"eastporch/internal/core/opendata"
	"eastporch/internal/fetch"
)

func atlasStarterCommand(a *terminal.App) *cobra.Command {
	var regions []string
	var offline, catalog, file string
	var write bool
	cmd := &cobra.Command{
		Use:   "starter",
		Short: "Write a configuration for range data that is published openly",
		Long: `Prints a configuration, with comments, for the range data that registries and networks publish:
countries by registration everywhere, towns where a network says them, operators once you add a routing
table. It says how much is fetched, how long a build takes, and what each region lacks. Nothing is fetched
before you put it into your configuration, which --write does: sources of yours stay as they are.

--region picks some, by region or registry. --offline DIR prints which files to fetch elsewhere and carry
into DIR, and a configuration that reads them there. --catalog is another list of files than the one built
in: a file, or an address; its columns are what, registry, region, url, compressed, about_megabytes, note.`,
		Example: `  eastporch atlas starter
  eastporch atlas starter --region europe --region africa --write --config eastporch.yaml
  eastporch atlas starter --offline /srv/range-data`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			files, err := catalogOf(cmd, catalog)
			if err != nil {
				return err
			}
			if files, err = opendata.Regions(files, regions); err != nil {
				return terminal.Usage(err)
			}
			if offline != "" {
				if offline, err = filepath.Abs(offline); err != nil {
					return err
				}
			}
			text, err := opendata.Starter(files, offline)
			if err != nil {
				return err
			}
			if offline != "" {
				drawCarried(a, files, offline, write)
			}
			if !write {
				fmt.Fprint(a.Out, text)
				return nil
			}
			before, err := os.ReadFile(file)
			if err != nil && !os.IsNotExist(err) {
				return err
			}
			return addSources(a, file, before, []byte(text))
		},
	}
	cmd.Flags().StringArrayVar(&regions, "region", nil, "only this region or registry; may be given again")
	cmd.Flags().StringVar(&offline, "offline", "", "the directory that files are carried into")
	cmd.Flags().StringVar(&catalog, "catalog", "", "another list of files: a file, or an address of HTTP")
	cmd.Flags().BoolVar(&write, "write", false, "put the sources into the configuration")
	cmd.Flags().StringVar(&file, "config", "eastporch.yaml", "the configuration that --write changes")
	return cmd
}

// catalogOf gives the files of a catalog; "" is the one built in.
func catalogOf(cmd *cobra.Command, catalog string) ([]opendata.File, error) {
	if catalog == "" {
		return opendata.Known(), nil
	}
	var text []byte
	var err error
	if strings.HasPrefix(catalog, "http://") || strings.HasPrefix(catalog, "https://") {
		client := fetch.Client{Inside: true} // the owner names it here and now
		var path string
		if path, err = client.Get(cmd.Context(), catalog); err == nil {
			defer os.Remove(path)
			text, err = os.ReadFile(path)
		}
	} else {
		text, err = os.ReadFile(catalog)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", catalog, err)
	}
	files, err := opendata.Read(bytes.NewReader(text))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", catalog, err)
	}
	return files, nil
}

// drawCarried says which files to fetch elsewhere: as comments, so that all of it stays a
// configuration.
func drawCarried(a *terminal.App, files []opendata.File, dir string, write bool) {
	comment := "# "
	if write {
		comment = ""
	}
	fmt.Fprintf(a.Out, "%sOn a machine with Internet, fetch these, and carry them into %s:\n", comment, dir)
	for _, f := range files {
		fmt.Fprintf(a.Out, "%s  curl -fL -o %s %s\n", comment, filepath.Base(opendata.Carried(files, f, dir)), f.URL)
	}
	fmt.Fprintln(a.Out, strings.TrimSpace(comment))
}

// addSources puts sources into a configuration file, and says which.
func addSources(a *terminal.App, file string, before, from []byte) error {
	text, added, err := config.AddSources(before, from)
	if err != nil {
		return fmt.Errorf("%s: %w: mend it first, it is left as it stands", file, err)
	}
	if len(added) == 0 {
		fmt.Fprintf(a.Out, "%s names all of these sources already.\n", file)
		return nil
	}
	if _, err := WriteConfig(a, file, before, text); err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "Its new sources: %s. Read the terms of their publishers, then start the service, or run eastporch reload.\n", strings.Join(added, ", "))
	return nil
}

// WithOpenData puts the sources of open data into the text of a configuration.
func WithOpenData(a *terminal.App, before []byte) ([]byte, error) {
	starter, err := opendata.Starter(opendata.Known(), "")
	if err != nil {
		return nil, err
	}
	text, added, err := config.AddSources(before, []byte(starter))
	if err == nil && len(added) > 0 {
		fmt.Fprintf(a.Out, "Sources of open data: %s.\nNothing is fetched before the service starts. Read the terms of their publishers first; eastporch atlas starter\nprints what it costs and what each region lacks.\n", strings.Join(slices.Compact(added), ", "))
	}
	return text, err
}

// WriteConfig checks a configuration before it takes the place of another, which is kept beside it. Who may
// read it stays; a new one is for its owner alone, for it may come to hold a password.
func WriteConfig(a *terminal.App, file string, before, text []byte) (*config.Config, error) {
	next, mode := file+".new", os.FileMode(0o600)
	if info, err := os.Stat(file); err == nil {
		mode = info.Mode().Perm()
	}
	if err := writeAs(next, text, mode); err != nil {
		return nil, err
	}
	defer os.Remove(next)
	cfg, err := config.Load(config.Input{File: next, Getenv: a.Getenv})
	if err != nil {
		return nil, fmt.Errorf("%s is left as it stands: %w", file, err)
	}
	if bytes.Equal(before, text) {
		fmt.Fprintf(a.Out, "%s says so already.\n", file)
		return cfg, nil
	}
	if len(before) > 0 {
		if err := writeAs(file+".before", before, mode); err != nil {
			return nil, err
		}
	}
	if err := os.Rename(next, file); err != nil {
		return nil, err
	}
	if len(before) > 0 {
		fmt.Fprintf(a.Out, "%s is changed; %s.before is as it was.\n", file, file)
	} else {
		fmt.Fprintf(a.Out, "%s is written.\n", file)
	}
	return cfg, nil
}

// writeAs writes a file of exactly a mode.
func writeAs(file string, text []byte, mode os.FileMode) error {
	if err := os.Remove(file); err != nil && !os.IsNotExist(err) { // which may be readable to more
		return err
	}
	if err := os.WriteFile(file, text, mode); err != nil {
		return err
	}
	return os.Chmod(file, mode) // whatever the umask
}
