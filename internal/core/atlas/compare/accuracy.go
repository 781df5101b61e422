package compare

import (
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/compile"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/gazetteer"
	"eastporch/internal/core/geo"
	"eastporch/internal/core/plain"
)

// A TestPoint is an address whose true place somebody knows. Empty fields, and
// a nil point, are not known.
type TestPoint struct {
	Line        int
	Addr        netip.Addr
	CountryCode string
	RegionCode  string
	City        string
	Point       *geo.Point
}

// ReadTestPoints reads a table with a head: address, and any of country_code,
// region_code, city, latitude and longitude. A line that cannot be read is in
// rejects. The error is about the head, or that of r.
func ReadTestPoints(r io.Reader) (points []TestPoint, rejects []atlas.Note, err error) {
	rows := csv.NewReader(r)
	rows.FieldsPerRecord, rows.Comment, rows.TrimLeadingSpace = -1, '#', true
	head, err := rows.Read()
	if err != nil {
		return nil, nil, fmt.Errorf("the test points have no head: %w", err)
	}
	at := map[string]int{}
	for i, name := range head {
		at[strings.TrimSpace(strings.TrimPrefix(name, "\ufeff"))] = i
	}
	if _, ok := at["address"]; !ok {
		return nil, nil, fmt.Errorf("test points need a column address; there are %s", strings.Join(head, ", "))
	}
	for {
		fields, err := rows.Read()
		if errors.Is(err, io.EOF) {
			return points, rejects, nil
		}
		line, _ := rows.FieldPos(0)
		var broken *csv.ParseError
		if errors.As(err, &broken) {
			rejects = append(rejects, compile.NoteOf(broken.Line, "", broken.Err.Error()))
			continue
		} else if err != nil {
			return nil, nil, err
		}
		get := func(name string) string {
			if i, ok := at[name]; ok && i < len(fields) {
				return strings.TrimSpace(fields[i])
			}
			return ""
		}
		p, err := testPoint(get)
		if err != nil {
			rejects = append(rejects, compile.NoteOf(line, strings.Join(fields, ","), err.Error()))
			continue
		}
		p.Line = line
		points = append(points, p)
	}
}

func testPoint(get func(string) string) (p TestPoint, err error) {
	if p.Addr, _, err = addr.Read(get("address")); err != nil {
		return p, fmt.Errorf("address: %s", strings.TrimPrefix(err.Error(), addr.ErrSyntax.Error()+": "))
	}
	p.CountryCode, p.RegionCode, p.City = strings.ToUpper(get("country_code")), strings.ToUpper(get("region_code")), plain.Clean(get("city"), 200)
	if current, err := almanac.CurrentRegion(p.RegionCode); err == nil {
		p.RegionCode = current
	}
	if p.CountryCode != "" {
		if err := almanac.CheckCode(p.CountryCode); err != nil {
			return p, fmt.Errorf("country_code: %w", err)
		}
	}
	if p.Point, err = source.ReadPoint(get("latitude"), get("longitude")); err != nil {
		return p, err
	}
	if p.CountryCode == "" && p.Point == nil {
		return p, errors.New("neither country_code nor latitude and longitude are given")
	}
	return p, nil
}

// Score is how well an edition did on some test points. Shares are of those
// points that say what is compared; nil where none does.
type Score struct {
	Name          string    `json:"name"` // of a country or a source; "" for all
	Points        int       `json:"points"`
	Located       int       `json:"located"` // of which the edition gives a country
	CountryRight  *float64  `json:"country_right"`
	RegionRight   *float64  `json:"region_right"`
	CityRight     *float64  `json:"city_right"`
	Km            Quantiles `json:"km"` // from the true point to the one given
	Within10Km    *float64  `json:"within_10_km"`
	Within50Km    *float64  `json:"within_50_km"`
	Within250Km   *float64  `json:"within_250_km"`
	InsideRadius  *float64  `json:"inside_radius"` // truths within the radius that was stated
	compared      [3][2]int // country, region, city: points and right
	distances     []float64
	inside, asked int
}

// Accuracy holds an edition against test points.
type Accuracy struct {
	Edition   string       `json:"edition"`
	All       Score        `json:"all"`
	Countries []Score      `json:"countries"` // by true country, most points first
	Sources   []Score      `json:"sources"`   // by the source that located it
	Curve     []CurvePoint `json:"curve"`
	Wrong     []Miss       `json:"wrong"` // the worst, at most 100
}

// A CurvePoint says which share of the test points lies within a distance of
// where the edition puts them. Points without a location count as never within.
type CurvePoint struct {
	Km    float64 `json:"km"`
	Share float64 `json:"share"`
}

// A Miss is a test point that the edition puts elsewhere.
type Miss struct {
	Address string     `json:"address"`
	True    atlas.Spot `json:"truth"`
	Given   atlas.Spot `json:"given"`
	Km      *float64   `json:"km"`
	Source  string     `json:"source"`
}

// curveKm are the distances of the curve.
var curveKm = []float64{1, 2, 3, 5, 7, 10, 15, 20, 30, 50, 70, 100, 150, 250, 350, 500, 700, 1000, 1500, 2000}

// Measure holds an edition against test points.
func Measure(a *atlas.Atlas, points []TestPoint) Accuracy {
	out := Accuracy{Edition: a.Name(), Curve: make([]CurvePoint, len(curveKm)), Wrong: []Miss{}}
	countries, sources := map[string]*Score{}, map[string]*Score{}
	of := func(m map[string]*Score, name string) *Score {
		if m[name] == nil {
			m[name] = &Score{Name: name}
		}
		return m[name]
	}
	for _, p := range points {
		f := a.Lookup(p.Addr)
		source := "no source"
		if len(f.Evidence) > 0 && f.Location.CountryCode != nil {
			source = f.Evidence[0].Source
		}
		w := f.Location
		given := atlas.Spot{CountryCode: plain.Value(w.CountryCode), RegionCode: plain.Value(w.RegionCode), City: plain.Value(w.City)}
		var km *float64
		if w.Latitude != nil {
			given.Point = &geo.Point{Latitude: *w.Latitude, Longitude: *w.Longitude}
			if p.Point != nil {
				v := geo.DistanceKm(*p.Point, *given.Point)
				km = &v
			}
		}
		for _, s := range []*Score{&out.All, of(countries, p.CountryCode), of(sources, source)} {
			s.add(p, given, km, w.RadiusKm)
		}
		if p.CountryCode != "" && p.CountryCode != given.CountryCode || km != nil && *km > 250 {
			out.Wrong = append(out.Wrong, Miss{p.Addr.String(), atlas.Spot{CountryCode: p.CountryCode, RegionCode: p.RegionCode, City: p.City, Point: p.Point}, given, km, source})
		}
	}
	out.All.finish()
	withPoint := 0
	for _, p := range points {
		if p.Point != nil {
			withPoint++
		}
	}
	for i, km := range curveKm {
		n, _ := slices.BinarySearch(out.All.distances, km+1e-9)
		out.Curve[i] = CurvePoint{Km: km}
		if withPoint > 0 {
			out.Curve[i].Share = float64(n) / float64(withPoint)
		}
	}
	slices.SortStableFunc(out.Wrong, func(x, y Miss) int { return cmp.Compare(orZero(y.Km), orZero(x.Km)) })
	out.Wrong = out.Wrong[:min(len(out.Wrong), 100)]
	out.Countries, out.Sources = finishAll(countries), finishAll(sources)
	return out
}

func orZero(v *float64) float64 {
	if v == nil {
		return 0
	}
	return *v
}

func finishAll(m map[string]*Score) []Score {
	list := []Score{}
	for _, s := range slices.SortedFunc(maps.Values(m), func(a, b *Score) int {
		return cmp.Or(cmp.Compare(b.Points, a.Points), cmp.Compare(a.Name, b.Name))
	}) {
		s.finish()
		list = append(list, *s)
	}
	return list
}

func (s *Score) add(p TestPoint, given atlas.Spot, km, radius *float64) {
	s.Points++
	if given.CountryCode != "" {
		s.Located++
	}
	for i, pair := range [][2]string{{p.CountryCode, given.CountryCode}, {p.RegionCode, given.RegionCode}, {p.City, given.City}} {
		if pair[0] != "" {
			s.compared[i][0]++
			if pair[0] == pair[1] || i == 2 && gazetteer.SamePlace(given.CountryCode, cmp.Or(p.RegionCode, given.RegionCode), pair[0], pair[1]) {
				s.compared[i][1]++
			}
		}
	}
	if km == nil {
		return
	}
	s.distances = append(s.distances, *km)
	if radius != nil {
		s.asked++
		if *km <= *radius {
			s.inside++
		}
	}
}

func (s *Score) finish() {
	share := func(part, whole int) *float64 {
		if whole == 0 {
			return nil
		}
		v := float64(part) / float64(whole)
		return &v
	}
	s.CountryRight = share(s.compared[0][1], s.compared[0][0])
	s.RegionRight = share(s.compared[1][1], s.compared[1][0])
	s.CityRight = share(s.compared[2][1], s.compared[2][0])
	s.Km = quantiles(s.distances)
	within := func(km float64) *float64 {
		n, _ := slices.BinarySearch(s.distances, km+1e-9)
		return share(n, len(s.distances))
	}
	s.Within10Km, s.Within50Km, s.Within250Km = within(10), within(50), within(250)
	s.InsideRadius = share(s.inside, s.asked)
}

// An Expectation is a line of a user's own checks: an address and the country
// that it must be in.
type Expectation struct {
	Line                 int
	Address, CountryCode string
}

// ReadExpectations reads lines of address,country_code, with comments behind #
// and a head or none. NONE in place of a code expects no country. The error names
// the line.
func ReadExpectations(r io.Reader) ([]Expectation, error) {
	rows := csv.NewReader(r)
	rows.FieldsPerRecord, rows.Comment, rows.TrimLeadingSpace = -1, '#', true
	var list []Expectation
	for {
		fields, err := rows.Read()
		if errors.Is(err, io.EOF) {
			return list, nil
		} else if err != nil {
			return nil, err
		}
		line, _ := rows.FieldPos(0)
		if len(fields) < 2 {
			return nil, fmt.Errorf("line %d: an expectation is address,country_code", line)
		}
		e := Expectation{line, strings.TrimSpace(fields[0]), strings.ToUpper(strings.TrimSpace(fields[1]))}
		if len(list) == 0 && e.Address == "address" {
			continue
		}
		if _, _, err := addr.Read(e.Address); err != nil {
			return nil, fmt.Errorf("line %d: %w", line, err)
		}
		if e.CountryCode != "NONE" {
			if err := almanac.CheckCode(e.CountryCode); err != nil {
				return nil, fmt.Errorf("line %d: %w", line, err)
			}
		}
		list = append(list, e)
	}
}

// Failure is an expectation that an edition does not meet.
type Failure struct {
	Line     int    `json:"line"`
	Address  string `json:"address"`
	Expected string `json:"expected"`
	Found    string `json:"found"`
	Source   string `json:"source"`
}

// Check gives the expectations that an edition does not meet.
func Check(a *atlas.Atlas, list []Expectation) []Failure {
	failures := []Failure{}
	for _, e := range list {
		ip, _, _ := addr.Read(e.Address)
		rec, from, ok := a.Located(addr.Canonical(ip))
		found, source := "NONE", ""
		if ok {
			found, source = rec.Country, from.Name
		}
		if found != e.CountryCode {
			failures = append(failures, Failure{e.Line, e.Address, e.CountryCode, found, source})
		}
	}
	return failures
}
