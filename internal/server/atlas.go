package server

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"eastporch/internal/config"
	"eastporch/internal/core/addr"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/geofeed"
	"eastporch/internal/core/plain"
	"eastporch/internal/editions"
	"eastporch/internal/fetch"
	"eastporch/internal/files/whole"
	"eastporch/internal/server/atlases"
	"eastporch/internal/server/store"
)

// Sources gives the sources that a configuration names, and what fetches them.
func Sources(cfg *config.Config, in config.Input) ([]editions.SourceConfig, *editions.Fetcher) {
	var list []editions.SourceConfig
	for _, c := range cfg.Atlas.Sources {
		s := editions.SourceConfig{
			About: atlas.About{Name: c.Name, Rank: c.Rank, Dated: c.Dated, Licence: c.Licence, Credit: c.Credit},
			ParseOptions: source.ParseOptions{
				Format: source.Format(c.Format), Columns: c.Columns, Label: c.Label, Postal: c.Postal, Routing: source.Routing{Documentation: c.Documentation},
			},
			Locations: c.Locations(in), Query: c.Query, Names: in.Places(c.Names),
		}
		if c.Format == config.Gather {
			s.Format = source.Geofeed
			s.Gather = &editions.Gather{From: c.From, Owner: c.Referrals(), Plain: c.HTTP, Dir: feedsDir(cfg)}
			if c.RPKI != "" {
				s.Gather.RPKI = in.Path(c.RPKI)
			}
		}
		list = append(list, s)
	}
	return list, &editions.Fetcher{Client: fetch.Client{Cache: filepath.Join(cfg.DataDir, "atlas", "fetched"), Inside: cfg.Atlas.FetchInside, InsideKey: "atlas.fetch_inside"}}
}

// CheckSources says which files of a configuration's sources are not there, or lack a column that is named. What stands
// elsewhere is not asked for.
func CheckSources(cfg *config.Config, in config.Input) error {
	var wrong []error
	for i, c := range cfg.Atlas.Sources {
		key := fmt.Sprintf("atlas.sources.%d (%s)", i, c.Name)
		files := slices.Concat(c.Locations(in), in.Places(c.Names))
		if c.RPKI != "" {
			files = append(files, in.Path(c.RPKI))
		}
		for _, path := range files {
			if strings.HasPrefix(path, "http://") || strings.HasPrefix(path, "https://") {
				continue
			}
			f, err := whole.Open(path)
			if err != nil {
				wrong = append(wrong, fmt.Errorf("%s: %w: put it there, or mend the path", key, err))
				continue
			}
			_ = f.Close() // which was read of nothing
		}
		if len(c.Columns) > 0 && c.File != "" && len(wrong) == 0 {
			if err := lacksColumn(in.Path(c.File), c.Columns); err != nil {
				wrong = append(wrong, fmt.Errorf("%s: %w", key, err))
			}
		}
	}
	return errors.Join(wrong...)
}

// lacksColumn says which named column a table does not have.
func lacksColumn(path string, columns map[string]string) error {
	d, err := editions.Describe(path)
	if err != nil || len(d.Columns) == 0 { // a build says what is wrong with it
		return nil
	}
	var names []string
	for _, column := range d.Columns {
		names = append(names, column.Name)
	}
	for _, fact := range slices.Sorted(maps.Keys(columns)) {
		if name := columns[fact]; !slices.Contains(names, name) {
			return fmt.Errorf("%s has no column %q for %s: its columns are %s", filepath.Base(path), name, fact, strings.Join(names, ", "))
		}
	}
	return nil
}

// feedsDir is where gathered geofeeds are kept.
func feedsDir(cfg *config.Config) string { return filepath.Join(cfg.DataDir, "atlas", "feeds") }

// feeds are the geofeeds that are gathered.
func (s *Server) feeds() atlases.Feeds {
	return atlases.Feeds{Dir: feedsDir(s.opt.Config), Listed: func() (list []geofeed.Referral) {
		for _, source := range s.inUse.Load().cfg.Atlas.Sources {
			list = append(list, source.Referrals()...)
		}
		return list
	}}
}

// openShelf opens the editions, and builds one where the sources have changed
// since the last. Where that fails and an edition is there, it serves on.
func (s *Server) openShelf(ctx context.Context) (err error) {
	cfg := s.opt.Config
	_, fetcher := Sources(cfg, s.opt.Input)
	if s.shelf, err = editions.OpenShelf(filepath.Join(cfg.DataDir, "atlas"), fetcher, time.Now); err != nil {
		return err
	}
	if sources := s.inUse.Load().sources; len(sources) == 0 && s.shelf.Current().Name() == atlas.New().Name() {
		s.opt.Log.Warn("no source of range data is configured: no address will be located", "key", "atlas.sources")
		return nil
	}
	s.shelf.Unread()
	has := len(s.shelf.Current().Sources()) > 0
	if !has && slices.ContainsFunc(s.inUse.Load().sources, editions.SourceConfig.IsRemote) {
		s.opt.Log.Info("the first edition is built while the service runs: until then no address is located")
		return nil // by refreshSources, for it may take minutes, and somebody else's server may be away
	}
	if err = s.refresh(ctx, false); err != nil && has {
		err = nil // which is in the log
	}
	s.opt.Log.Info("edition in use", "edition", s.shelf.Current().Name())
	return err
}

// Current gives the edition in use, with the owner's corrections before its sources.
func (s *Server) Current() *atlas.Atlas { return s.shelf.Current() }

func (s *Server) refresh(ctx context.Context, always bool) error {
	return s.built(s.shelf.Refresh(ctx, s.inUse.Load().sources, always, s.inUse.Load().cfg.Atlas.Activate == "auto"))
}

// built writes into the log how a build went.
func (s *Server) built(made bool, err error) error {
	switch {
	case errors.Is(err, editions.ErrShrunk):
		s.opt.Log.Warn("the edition in use stays", "reason", err)
		return nil
	case err != nil && !made:
		s.opt.Log.Error("no edition was built", "error", err)
	case err != nil:
		s.opt.Log.Error("the edition is not of all sources as they are now", "edition", s.shelf.Job().Edition, "error", err)
	case made:
		s.opt.Log.Info("edition built", "edition", s.shelf.Job().Edition)
	}
	return err
}

// checkAtlas are findings about range data that is configured and not there, or older than it should be.
func (s *Server) checkAtlas() []checkup.Diagnostic {
	job := s.shelf.Job()
	f := checkup.Diagnostic{Name: "atlas", State: checkup.Attention, Lines: []string{}}
	switch {
	case len(s.inUse.Load().sources) == 0:
		return nil
	case len(s.shelf.Current().Sources()) == 0 && job.Running:
		f.Title, f.Text = "The first edition of range data is being built.", "Until then no address is located."
	case len(s.shelf.Current().Sources()) == 0:
		f.Title, f.Text = "Range data is configured, but none could be read: no address is located.", plain.UpperFirst(cmp.Or(job.Failed, "eastporch atlas list says why"))+"."
	case job.Failed != "":
		f.Title, f.Text = "The last build of range data failed: an older edition is in use.", plain.UpperFirst(job.Failed)+"."
	default:
		return nil
	}
	return []checkup.Diagnostic{f}
}

// lookAgain is how soon sources are looked at that the configuration names later.
const lookAgain = time.Minute

// refreshSources looks for changed sources as often as the configuration says, until ctx
// ends.
func (s *Server) refreshSources(ctx context.Context) error {
	isEmpty := func() bool { return len(s.shelf.Current().Sources()) == 0 && len(s.inUse.Load().sources) > 0 }
	if isEmpty() {
		s.shelf.Unread()
		_ = s.refresh(ctx, false) // which is in the log
	}
	for {
		interval := s.inUse.Load().cfg.Atlas.RefreshInterval
		if interval == 0 || isEmpty() {
			interval = lookAgain
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(interval):
		}
		if set := s.inUse.Load(); (set.cfg.Atlas.RefreshInterval > 0 || isEmpty()) && len(set.sources) > 0 {
			_ = s.refresh(ctx, false) // which is in the log
		}
	}
}

// publish makes the edition in use answer in SQL, with the labels of the configuration.
func (s *Server) publish(ctx context.Context, labels map[string][]netip.Prefix) (int64, error) {
	edition := s.shelf.Current()
	decide := addr.NewPolicy(s.inUse.Load().cfg.Rules()...)
	terms := store.Terms{Embeddings: addr.Embeddings(s.inUse.Load().cfg.Translators()...), Labels: labels}
	for _, r := range decide.ByPrefix() {
		terms.Policy = append(terms.Policy, store.Policy{Prefix: r.Prefix, Own: true, Skipped: r.Action == addr.Skip})
	}
	for _, b := range append(addr.Blocks(), addr.Elsewhere()...) {
		terms.Policy = append(terms.Policy, store.Policy{Prefix: b.Prefix, Kind: b.Kind, Skipped: decide.OfKind(b.Kind).Action == addr.Skip})
	}
	return s.store.Publish(ctx, edition.Name(), terms, edition.Stretches)
}

// readAreas reads the owner's areas; one name may stand once in all files.
func (s *Server) readAreas(cfg *config.Config) (areas []geo.Area, err error) {
	names := map[string]bool{}
	for _, file := range cfg.Areas {
		text, err := whole.Read(s.opt.Input.Path(file))
		if err != nil {
			return nil, fmt.Errorf("areas: %w", err)
		}
		list, err := geo.ReadAreas(text)
		if err != nil {
			return nil, fmt.Errorf("areas: %s: %w", file, err)
		}
		for _, a := range list {
			if names[a.Name] {
				return nil, fmt.Errorf("areas: %s: the name %q stands in another file too", file, a.Name)
			}
			names[a.Name] = true
			if a.Remark != "" {
				s.opt.Log.Warn("an area is taken otherwise than it is written", "file", file, "area", a.Name, "remark", a.Remark)
			}
		}
		areas = append(areas, list...)
	}
	return areas, nil
}

// lookUpWithin bounds how long the addresses of a name are waited for.
const lookUpWithin = 3 * time.Second

// lookUp finds the addresses of host names, where the configuration allows it.
func (set *settings) lookUp() func(context.Context, string) ([]netip.Addr, error) {
	if !set.cfg.ResolveNames {
		return nil
	}
	return func(ctx context.Context, host string) ([]netip.Addr, error) {
		ctx, cancel := context.WithTimeout(ctx, lookUpWithin)
		defer cancel()
		return net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	}
}
