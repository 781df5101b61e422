package httpapi

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/compare"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/card"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/plain"
	"eastporch/internal/core/visit"
	"eastporch/internal/editions"
	"eastporch/internal/server/access"
)

// shelf is what the handlers need of the editions.
type shelf interface {
	Current() *atlas.Atlas
	Open(name string) (*atlas.Atlas, error)
	Use(name string) error
	Back() (string, error)
	List() ([]editions.Edition, error)
	Job() editions.Job
	Correct(first *atlas.Source)
}

// atlasStore is what the handlers of the atlas need of the database.
type atlasStore interface {
	Corrections(ctx context.Context) ([]source.Correction, error)
	Correct(ctx context.Context, c *source.Correction) error
	DropCorrection(ctx context.Context, id uuid.UUID) (bool, error)
	EachAddress(ctx context.Context, since time.Time, do func(netip.Addr, int)) error
	Reenrich(ctx context.Context, since time.Time, again func(visit.Visit) (card.Card, bool), progress func(seen, changed int)) error
}

func (a *api) edition() *atlas.Atlas { return a.Shelf.Current() }

func (a *api) getAtlas(c *gin.Context) {
	type source struct {
		Name     string       `json:"name"`
		Rank     int          `json:"rank"`
		Basis    atlas.Basis  `json:"basis"`
		Dated    *string      `json:"dated"`
		Licence  *string      `json:"licence"`
		Credit   *string      `json:"credit"`
		Rows     int          `json:"rows"`
		Accepted int          `json:"accepted"`
		Rejected int          `json:"rejected"`
		Nested   int          `json:"nested"`
		Ranges4  int          `json:"ranges_ipv4"`
		Ranges6  int          `json:"ranges_ipv6"`
		Rejects  []atlas.Note `json:"rejects"`
		Remarks  []atlas.Note `json:"remarks"`
	}
	edition := a.edition()
	sources := []source{}
	for _, s := range edition.Sources() {
		sources = append(sources, source{
			s.Name, s.Rank, s.Basis, plain.Optional(s.Dated), plain.Optional(s.Licence), plain.Optional(s.Credit),
			s.Rows, s.Accepted, s.Rejected, s.Nested, s.Ranges4, s.Ranges6, append([]atlas.Note{}, s.Rejects()...), append([]atlas.Note{}, s.Remarks()...),
		})
	}
	c.JSON(http.StatusOK, gin.H{"name": edition.Name(), "built": edition.Built(), "sources": sources, "credits": edition.Credits()})
}

func (a *api) listEditions(c *gin.Context) {
	list, err := a.Shelf.List()
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, gin.H{"editions": list, "job": a.Shelf.Job()})
}

// buildEdition begins a build; the list of editions says how it goes.
func (a *api) buildEdition(c *gin.Context) {
	if err := a.Rebuild(); err != nil {
		a.fail(c, err)
		return
	}
	a.note(c, "edition asked for", "from the configured sources")
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusAccepted, gin.H{"job": a.Shelf.Job()})
}

func (a *api) activateEdition(c *gin.Context) {
	var body struct {
		Edition string `json:"edition"`
	}
	err := readJSON(c, &body, false)
	if err == nil {
		err = a.Shelf.Use(body.Edition)
	}
	a.used(c, body.Edition, err)
}

func (a *api) backEdition(c *gin.Context) {
	name, err := a.Shelf.Back()
	a.used(c, name, err)
}

func (a *api) used(c *gin.Context, name string, err error) {
	if err != nil {
		a.fail(c, err)
		return
	}
	a.note(c, "edition taken into use", name)
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, gin.H{"edition": name})
}

// publishEdition fills the tables of the SQL function locate.
func (a *api) publishEdition(c *gin.Context) {
	_ = http.NewResponseController(c.Writer).SetWriteDeadline(time.Time{}) // it takes as long as it takes
	name := a.edition().Name()
	n, err := a.Publish(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	a.note(c, "edition published in SQL", name)
	c.JSON(http.StatusOK, gin.H{"edition": name, "ranges": n})
}

// note writes a line into the audit log; what was done stands where that fails.
func (a *api) note(c *gin.Context, what, detail string) {
	event, err := access.NewEvent(a.Now(), what, callerOf(c).actor(), detail)
	if err == nil {
		err = a.Audit.AddEvent(c, event)
	}
	if err != nil {
		a.Log.Warn("not in the audit log", "what", what, "request_id", requestID(c), "error", err)
	}
}

// visitsRead is how stored visits would read in another edition.
type visitsRead struct {
	Days        int `json:"days"`
	Addresses   int `json:"addresses"`
	Visits      int `json:"visits"`
	Differently struct {
		Addresses int                        `json:"addresses"`
		Visits    int                        `json:"visits"`
		Counts    map[compare.ChangeKind]int `json:"counts"` // visits
		Examples  []differently              `json:"examples"`
	} `json:"differently"`
}

type differently struct {
	Address    string             `json:"address"`
	Visits     int                `json:"visits"`
	Difference compare.ChangeKind `json:"difference"`
	Now        atlas.Spot         `json:"now"`
	Then       atlas.Spot         `json:"then"`
	Km         *float64           `json:"km"`
}

// visitDays is how far back stored visits are compared, in days.
const visitDays = 30

func (a *api) getChanges(c *gin.Context) {
	now, err := a.named(c, "now")
	if err != nil {
		a.fail(c, err)
		return
	}
	then, err := a.Shelf.Open(c.Query("then"))
	if err != nil {
		a.fail(c, err)
		return
	}
	value, err := a.cached("changes "+now.Name()+" "+then.Name(), now, func() (any, error) {
		ctx := c.Request.Context()
		return compare.Diff(now, then, func(float64) bool { return ctx.Err() == nil }), ctx.Err()
	})
	if err != nil {
		a.fail(c, err)
		return
	}
	changes, _ := value.(compare.Changes)
	visits, err := a.visitsDiffer(c, now, then)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, struct {
		compare.Changes
		Visits visitsRead `json:"visits"`
	}{changes, visits})
}

func (a *api) visitsDiffer(ctx context.Context, now, then *atlas.Atlas) (v visitsRead, err error) {
	v.Days = visitDays
	v.Differently.Counts, v.Differently.Examples = map[compare.ChangeKind]int{}, []differently{}
	compare := compare.NewComparison(now, then)
	err = a.AtlasStore.EachAddress(ctx, a.Now().AddDate(0, 0, -visitDays), func(address netip.Addr, visits int) {
		v.Addresses++
		v.Visits += visits
		difference, before, after, km := compare.At(address)
		if difference == "" {
			return
		}
		v.Differently.Addresses++
		v.Differently.Visits += visits
		v.Differently.Counts[difference] += visits
		if len(v.Differently.Examples) < 50 {
			v.Differently.Examples = append(v.Differently.Examples, differently{address.String(), visits, difference, before, after, km})
		}
	})
	return v, err
}

// cached remembers what was computed about an edition, until another is in use;
// what failed is not remembered.
func (a *api) cached(key string, edition *atlas.Atlas, make func() (any, error)) (any, error) {
	a.computed.lock.Lock()
	defer a.computed.lock.Unlock()
	if v, ok := a.computed.of[key]; ok && v.edition == edition {
		return v.value, nil
	}
	if len(a.computed.of) > 20 {
		clear(a.computed.of)
	}
	v, err := make()
	if err == nil {
		a.computed.of[key] = computedValue{edition, v}
	}
	return v, err
}

type computed struct {
	lock sync.Mutex
	of   map[string]computedValue
}

type computedValue struct {
	edition *atlas.Atlas
	value   any
}

func (a *api) getCoverage(c *gin.Context) {
	edition, err := a.named(c, "edition")
	if err != nil {
		a.fail(c, err)
		return
	}
	value, _ := a.cached("coverage "+edition.Name(), edition, func() (any, error) { return compare.Cover(edition), nil })
	coverage, _ := value.(atlas.Coverage)
	type country struct {
		CountryCode string   `json:"country_code"`
		Country     string   `json:"country"`
		Latitude    *float64 `json:"latitude"` // of its middle, by people
		Longitude   *float64 `json:"longitude"`
		atlas.Covered
	}
	countries := []country{}
	for code, v := range coverage.Countries {
		name := code
		if known, ok := almanac.ByCode(code); ok {
			name = known.Name
		}
		one := country{CountryCode: code, Country: name, Covered: *v}
		if area, ok := gazetteer.Country(code); ok {
			one.Latitude, one.Longitude = &area.Middle.Latitude, &area.Middle.Longitude
		}
		countries = append(countries, one)
	}
	slices.SortFunc(countries, func(x, y country) int {
		return cmp.Or(cmp.Compare(y.IPv4, x.IPv4), cmp.Compare(y.IPv6, x.IPv6), cmp.Compare(x.CountryCode, y.CountryCode))
	})
	a.answerList(c, "countries", gin.H{"edition": edition.Name(), "total": coverage.Total(), "nowhere": coverage.Nowhere, "countries": countries})
}

// named opens the edition that a parameter names, or gives the one in use.
func (a *api) named(c *gin.Context, parameter string) (*atlas.Atlas, error) {
	inUse := a.edition()
	if name := c.Query(parameter); name != "" && name != inUse.Name() {
		return a.Shelf.Open(name)
	}
	return inUse, nil
}

func (a *api) getAccuracy(c *gin.Context) {
	edition, err := a.named(c, "edition")
	if err != nil {
		a.fail(c, err)
		return
	}
	if a.TestPoints == "" {
		p := badRequest("no-test-points", "No test points", "An edition is held against points whose true place you know.", "Name their file with atlas.test_points, or send them with POST.")
		p.Status = http.StatusNotFound
		a.fail(c, p)
		return
	}
	f, err := os.Open(a.TestPoints)
	if err != nil {
		a.fail(c, err)
		return
	}
	defer f.Close()
	points, rejects, err := compare.ReadTestPoints(f)
	a.measured(c, edition, points, rejects, err)
}

func (a *api) measureAccuracy(c *gin.Context) {
	edition, err := a.named(c, "edition")
	if err != nil {
		a.fail(c, err)
		return
	}
	points, rejects, err := compare.ReadTestPoints(c.Request.Body)
	a.measured(c, edition, points, rejects, err)
}

func (a *api) measured(c *gin.Context, edition *atlas.Atlas, points []compare.TestPoint, rejects []atlas.Note, err error) {
	if err != nil {
		a.fail(c, invalidField("test points", err.Error(), "Send a CSV with the columns address, country_code, city, latitude, longitude."))
		return
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, struct {
		compare.Accuracy
		Rejects []atlas.Note `json:"rejects"`
	}{compare.Measure(edition, points), append([]atlas.Note{}, rejects...)})
}

func (a *api) describeFile(c *gin.Context) {
	d, err := editions.DescribeText(c.Request.Body)
	var tooLarge *http.MaxBytesError
	if errors.As(err, &tooLarge) {
		a.fail(c, err)
		return
	}
	if err != nil {
		a.fail(c, invalidField("file", err.Error(), "Send the file itself, plain or packed with gzip or zstd."))
		return
	}
	c.JSON(http.StatusOK, d)
}

// maxSamples bounds how many sample addresses are given at once.
const maxSamples = 1000

func (a *api) getSamples(c *gin.Context) {
	country := strings.ToUpper(c.Query("country_code"))
	if err := almanac.CheckCode(country); err != nil {
		a.fail(c, invalidField("country_code", err.Error(), "Give a code of ISO 3166-1."))
		return
	}
	count, err := intOf(c, "count", 10, 1, maxSamples)
	if err != nil {
		a.fail(c, err)
		return
	}
	seed, err := intOf(c, "seed", 1, 0, 1<<53)
	if err != nil {
		a.fail(c, err)
		return
	}
	type sample struct {
		Address string `json:"address"`
		Family  int    `json:"family"`
	}
	samples, edition := []sample{}, a.edition()
	for _, ip := range edition.Sample(country, c.Query("city"), count, uint64(seed)) {
		samples = append(samples, sample{ip.String(), map[bool]int{true: 4, false: 6}[ip.Is4()]})
	}
	a.answerList(c, "samples", gin.H{"edition": edition.Name(), "samples": samples})
}

func intOf(c *gin.Context, name string, normal, least, most int) (int, error) {
	text := c.Query(name)
	if text == "" {
		return normal, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < least || n > most {
		return 0, invalidField(name, fmt.Sprintf("%.20q is not a number from %d to %d", text, least, most), "Leave it out for "+strconv.Itoa(normal)+".")
	}
	return n, nil
}

func (a *api) exportEdition(c *gin.Context) {
	edition, err := a.named(c, "edition")
	if err != nil {
		a.fail(c, err)
		return
	}
	format := source.Format(c.DefaultQuery("format", "csv"))
	if format != source.CSV && format != source.Geofeed {
		a.fail(c, invalidField("format", fmt.Sprintf("%.20q is not a format of an export", string(format)), "Give csv or geofeed."))
		return
	}
	c.Header("Content-Type", "text/csv; charset=utf-8")
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", edition.Name()+"-"+string(format)+".csv"))
	if err := source.Export(edition, steady(c), format, c.Query("raw") == "true", nil); err != nil {
		a.breakOff(c, err)
	}
}

func (a *api) listCorrections(c *gin.Context) {
	list, err := a.AtlasStore.Corrections(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Cache-Control", "no-store")
	if c.Query("format") == "geofeed" {
		c.Header("Content-Type", "text/csv; charset=utf-8")
		c.Header("Content-Disposition", `attachment; filename="corrections-geofeed.csv"`)
		if err := source.WriteGeofeed(steady(c), list, a.Now()); err != nil {
			a.breakOff(c, err)
		}
		return
	}
	a.answerList(c, "corrections", gin.H{"corrections": append([]source.Correction{}, list...)})
}

func (a *api) addCorrection(c *gin.Context) {
	var body source.Correction
	if err := readJSON(c, &body, false); err != nil {
		a.fail(c, err)
		return
	}
	if err := body.Check(); err != nil {
		field, reason, _ := strings.Cut(err.Error(), ": ")
		a.fail(c, invalidField(field, reason, "A correction has a range, and a country_code or do_not_locate."))
		return
	}
	id, err := uuid.NewV7()
	if err != nil {
		a.fail(c, err)
		return
	}
	body.ID, body.MadeBy, body.MadeAt = id, callerOf(c).actor(), a.Now().UTC().Truncate(time.Millisecond)
	if err = a.AtlasStore.Correct(c, &body); err == nil {
		err = a.Recorrect(c)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	a.note(c, "correction made", body.Range)
	c.JSON(http.StatusCreated, body)
}

func (a *api) dropCorrection(c *gin.Context) {
	id, err := idOf(c)
	ok := false
	if err == nil {
		ok, err = a.AtlasStore.DropCorrection(c, id)
	}
	if err == nil && !ok {
		p := badRequest("no-such-id", "No such id", "It was never there, or was dropped.", "List them first.")
		p.Status = http.StatusNotFound
		err = p
	}
	if err == nil {
		err = a.Recorrect(c)
		a.note(c, "correction dropped", id.String())
	}
	a.done(c, err)
}

func (a *api) checkGeofeed(c *gin.Context) {
	s, err := source.Read(c.Request.Body, source.ParseOptions{Format: source.Geofeed}, atlas.About{Name: "geofeed", Rank: 1})
	if err != nil && !errors.Is(err, source.ErrTooManyRejects) {
		a.fail(c, invalidField("file", err.Error(), "Send a geofeed (RFC 8805)."))
		return
	}
	c.JSON(http.StatusOK, gin.H{
		"valid": s.Rejected == 0, "rows": s.Rows, "accepted": s.Accepted,
		"rejects": append([]atlas.Note{}, s.Rejects()...), "remarks": append([]atlas.Note{}, s.Remarks()...),
	})
}

// reenrichVisits reads stored visits again from the edition in use.
func (a *api) reenrichVisits(c *gin.Context) {
	var body struct {
		Since *time.Time `json:"since"`
	}
	if err := readJSON(c, &body, true); err != nil {
		a.fail(c, err)
		return
	}
	since := a.Now().AddDate(0, 0, -visitDays)
	if body.Since != nil {
		since = *body.Since
	}
	answer := struct {
		Edition  string `json:"edition"`
		Seen     int    `json:"seen"`
		Reenrich int    `json:"reenriched"`
	}{Edition: a.edition().Name()}
	again := func(v visit.Visit) (card.Card, bool) { return visit.Reenrich(a.Enrich, answer.Edition, v) }
	err := a.AtlasStore.Reenrich(c, since, again, func(seen, changed int) { answer.Seen, answer.Reenrich = seen, changed })
	if err != nil {
		a.fail(c, err)
		return
	}
	a.note(c, "visits read again", fmt.Sprintf("%d of %d, with edition %s", answer.Reenrich, answer.Seen, answer.Edition))
	c.JSON(http.StatusOK, answer)
}
