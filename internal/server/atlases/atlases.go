// Package atlases answers what is asked of whole editions: what they are made of, what another
// would change, how much they cover, how accurate they are, and what their owner corrects.
package atlases

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"

	"eastporch/api"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/compare"
	"eastporch/internal/core/atlas/compile"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/document"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/geofeed"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/server/documents"
)

// ErrNoTestPoints means that the configuration names no file of them.
var ErrNoTestPoints = errors.New("no test points are configured")

// ErrNoCorrection means that there is none with this id.
var ErrNoCorrection = errors.New("no such correction")

// A Shelf has the editions.
type Shelf interface {
	Current() *atlas.Atlas
	Open(name string) (*atlas.Atlas, error)
	Use(name string) error
	Back() (string, error)
	List() ([]api.Edition, error)
	Job() api.Job
}

// A Workshop changes what is in use.
type Workshop interface {
	// Rebuild begins to make an edition of the configured sources.
	Rebuild() error
	// Publish makes the edition in use answer in SQL, and gives its ranges.
	Publish(ctx context.Context) (int64, error)
}

// store keeps the addresses of visits.
type store interface {
	EachAddress(ctx context.Context, since time.Time, do func(netip.Addr, int)) error
	WithoutAddress(ctx context.Context, since time.Time) (unkept, skipped int, err error)
}

// Options says what the answers are made of. TestPoints is a file, "" for none; all else is
// required.
type Options struct {
	Shelf      Shelf
	Workshop   Workshop
	Store      store
	Documents  *documents.Documents // with corrections
	TestPoints string
	Now        func() time.Time
	Feeds      Feeds
}

// Feeds are the geofeeds that are gathered. The zero Feeds are none.
type Feeds struct {
	Dir    string                    // where they are kept
	Listed func() []geofeed.Referral // by the configuration
}

// Atlases is the service. It is safe for concurrent use.
type Atlases struct {
	Options
	*memory
}

// memory is what was computed about whole editions.
type memory struct {
	computing sync.Mutex // is held while something is computed
	computed  *lru.Cache[string, any]
}

// computedKept is how many answers about whole editions are remembered.
const computedKept = 20

// New makes the service. The error says which option is missing.
func New(opt Options) (*Atlases, error) {
	if opt.Shelf == nil || opt.Workshop == nil || opt.Store == nil || opt.Now == nil {
		return nil, errors.New("atlases: shelf, workshop, store and now are required")
	}
	computed, err := lru.New[string, any](computedKept)
	return &Atlases{opt, &memory{computed: computed}}, err
}

// With is the same service under other options: what it remembers is one memory.
func (s *Atlases) With(opt Options) *Atlases { return &Atlases{opt, s.memory} }

// Named gives the edition of a name, "" for the one in use.
func (s *Atlases) Named(name string) (*atlas.Atlas, error) {
	inUse := s.Shelf.Current()
	if name != "" && name != inUse.Name() {
		return s.Shelf.Open(name)
	}
	return inUse, nil
}

// once remembers what was computed about editions; what failed is not remembered.
func once[T any](s *Atlases, key string, compute func() (T, error)) (T, error) {
	s.computing.Lock()
	defer s.computing.Unlock()
	if known, ok := s.computed.Get(key); ok {
		if value, ok := known.(T); ok {
			return value, nil
		}
	}
	value, err := compute()
	if err == nil {
		s.computed.Add(key, value)
	}
	return value, err
}

// Sources says what the edition in use is made of.
func (s *Atlases) Sources() api.AtlasEdition {
	edition := s.Shelf.Current()
	answer := api.AtlasEdition{Name: edition.Name(), Built: edition.Built(), Credits: edition.Credits(), Sources: []api.Source{}}
	for _, of := range edition.Sources() {
		answer.Sources = append(answer.Sources, api.Source{
			Name: of.Name, Rank: of.Rank, Basis: string(of.Basis), Dated: plain.Optional(of.Dated), Licence: plain.Optional(of.Licence), Credit: plain.Optional(of.Credit),
			Rows: of.Rows, Accepted: of.Accepted, Rejected: of.Rejected, Nested: of.Nested, Ranges4: of.Ranges4, Ranges6: of.Ranges6,
			Rejects: append([]atlas.Note{}, of.Rejects()...), Remarks: append([]atlas.Note{}, of.Remarks()...),
		})
	}
	return answer
}

const (
	visitDays     = 30 // how far back stored visits are compared
	visitExamples = 50
)

// Changes says what an edition would change against another, "" for the one in use, in its
// ranges and in how the visits of the last 30 days read.
func (s *Atlases) Changes(ctx context.Context, nowName, thenName string) (api.Changes, error) {
	now, err := s.Named(nowName)
	if err != nil {
		return api.Changes{}, err
	}
	next, err := s.Shelf.Open(thenName)
	if err != nil {
		return api.Changes{}, err
	}
	changes, err := once(s, "changes "+now.Checksum()+" "+next.Checksum(), func() (compare.Changes, error) {
		return compare.Diff(now, next, func(float64) bool { return ctx.Err() == nil }), ctx.Err()
	})
	if err != nil {
		return api.Changes{}, err
	}
	visits, err := s.visitsRead(ctx, now, next)
	return api.Changes{Changes: changes, Visits: visits}, err
}

func (s *Atlases) visitsRead(ctx context.Context, now, next *atlas.Atlas) (api.VisitsRead, error) {
	v := api.VisitsRead{Days: visitDays, Differently: api.ReadDifferentlyIn{Counts: map[string]int{}, Examples: []api.ReadDifferently{}}}
	comparison := compare.NewComparison(now, next)
	err := s.Store.EachAddress(ctx, s.Now().AddDate(0, 0, -visitDays), func(address netip.Addr, visits int) {
		v.Addresses++
		v.Visits += visits
		difference, before, after, km := comparison.At(address)
		if difference == "" {
			return
		}
		d := &v.Differently
		d.Addresses++
		d.Visits += visits
		d.Counts[string(difference)] += visits
		if len(d.Examples) < visitExamples {
			d.Examples = append(d.Examples, api.ReadDifferently{Address: address.String(), Visits: visits, Difference: difference, Now: before, Then: after, Km: km})
		}
	})
	return v, err
}

// Coverage says how much an edition covers, by country, the most addresses first.
func (s *Atlases) Coverage(name string) (api.CoverageAnswer, error) {
	edition, err := s.Named(name)
	if err != nil {
		return api.CoverageAnswer{}, err
	}
	coverage, err := once(s, "coverage "+edition.Checksum(), func() (atlas.Coverage, error) { return compare.Cover(edition), nil })
	answer := api.CoverageAnswer{Edition: edition.Name(), Total: coverage.Total(), Nowhere: coverage.Nowhere, Countries: []api.CountryCovered{}}
	for code, covered := range coverage.Countries {
		one := api.CountryCovered{CountryCode: code, Country: code, Covered: *covered}
		if known, ok := almanac.ByCode(code); ok {
			one.Country = known.Name
		}
		if area, ok := gazetteer.Country(code); ok {
			one.Latitude, one.Longitude = &area.Middle.Latitude, &area.Middle.Longitude
		}
		answer.Countries = append(answer.Countries, one)
	}
	slices.SortFunc(answer.Countries, func(x, y api.CountryCovered) int {
		return cmp.Or(cmp.Compare(y.IPv4, x.IPv4), cmp.Compare(y.IPv6, x.IPv6), cmp.Compare(x.CountryCode, y.CountryCode))
	})
	return answer, err
}

// Accuracy holds an edition against test points: those of a reader, or with nil those that the
// configuration names.
func (s *Atlases) Accuracy(name string, points io.Reader) (api.Accuracy, error) {
	edition, err := s.Named(name)
	if err != nil {
		return api.Accuracy{}, err
	}
	if points == nil {
		if s.TestPoints == "" {
			return api.Accuracy{}, ErrNoTestPoints
		}
		f, err := os.Open(s.TestPoints)
		if err != nil {
			return api.Accuracy{}, err
		}
		defer f.Close()
		points = f
	}
	list, rejects, err := compare.ReadTestPoints(points)
	if err != nil {
		return api.Accuracy{}, invalid.Field("test points", err.Error(), "Send a CSV with the columns address, country_code, city, latitude, longitude.")
	}
	return api.Accuracy{Accuracy: compare.Measure(edition, list), Rejects: append([]atlas.Note{}, rejects...)}, nil
}

// Kind is how corrections are kept.
func (s *Atlases) Kind() documents.Kind {
	return documents.Kind{Word: "corrections", None: ErrNoCorrection, Restore: func(ctx context.Context, _ document.Key, body json.RawMessage, by string) error {
		var c source.Correction
		err := json.Unmarshal(body, &c)
		if err == nil {
			_, err = s.Correct(ctx, c, by)
		}
		return err
	}}
}

func keyOf(span string) document.Key { return document.Key{Kind: document.Correction, Name: span} }

// Corrected are the corrections of documents, the newest first.
func Corrected(docs *document.Set) (list []source.Correction, err error) {
	for _, d := range docs.All(document.Correction) {
		c, wrong := document.Read[source.Correction](d)
		if err = errors.Join(err, wrong); wrong == nil {
			list = append(list, c)
		}
	}
	slices.SortFunc(list, func(a, b source.Correction) int {
		return cmp.Or(b.MadeAt.Compare(a.MadeAt), cmp.Compare(b.ID.String(), a.ID.String()))
	})
	return list, err
}

// Corrections lists what the owner knows better.
func (s *Atlases) Corrections() ([]source.Correction, error) {
	list, err := Corrected(s.Documents.Set())
	return append([]source.Correction{}, list...), err
}

// Correct checks a correction, keeps it in place of one of the same range, whose id it takes, and puts it into use. by is
// who makes it.
func (s *Atlases) Correct(ctx context.Context, c source.Correction, by string) (source.Correction, error) {
	if err := c.Check(); err != nil {
		field, reason, _ := strings.Cut(err.Error(), ": ")
		return c, invalid.Field(field, reason, "A correction has a range, and a country_code or do_not_locate.")
	}
	id, err := uuid.NewV7()
	if err != nil {
		return c, err
	}
	if before, old, err := documents.Get[source.Correction](s.Documents, keyOf(c.Range)); before != nil && err == nil {
		id = old.ID
	}
	c.ID, c.MadeBy, c.MadeAt = id, by, s.Now().UTC().Truncate(time.Millisecond)
	_, err = s.Documents.Save(ctx, keyOf(c.Range), c, documents.Saving{By: by})
	return c, err
}

// Uncorrect drops a correction. The error is [ErrNoCorrection] where there is none.
func (s *Atlases) Uncorrect(ctx context.Context, id uuid.UUID, by string) error {
	list, err := s.Corrections()
	if err != nil {
		return err
	}
	at := slices.IndexFunc(list, func(c source.Correction) bool { return c.ID == id })
	if at < 0 {
		return ErrNoCorrection
	}
	return s.Documents.Drop(ctx, keyOf(list[at].Range), by)
}

// CheckGeofeed says what is wrong with a geofeed (RFC 8805).
func CheckGeofeed(r io.Reader) (api.FeedCheck, error) {
	feed, err := source.Read(r, source.ParseOptions{Format: source.Geofeed}, atlas.About{Name: "geofeed", Rank: 1})
	if err != nil && !errors.Is(err, compile.ErrTooManyRejects) {
		return api.FeedCheck{}, invalid.Field("file", err.Error(), "Send a geofeed (RFC 8805).")
	}
	return api.FeedCheck{
		Valid: feed.Rejected == 0, Rows: feed.Rows, Accepted: feed.Accepted,
		Rejects: append([]atlas.Note{}, feed.Rejects()...), Remarks: append([]atlas.Note{}, feed.Remarks()...),
	}, nil
}

// ExportFormat reads the word of a format that editions are exported in.
func ExportFormat(word string) (source.Format, error) {
	format := source.Format(word)
	if format != source.CSV && format != source.Geofeed {
		return "", invalid.Field("format", fmt.Sprintf("%.20q is not a format of an export", word), "Give csv or geofeed.")
	}
	return format, nil
}
