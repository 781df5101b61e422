package locale

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"eastporch/internal/core/almanac"
	"eastporch/internal/core/jsonout"
)

// A LocalTime is a time as the clock of a place shows it, with the zone's offset. The zero
// LocalTime is null in JSON.
type LocalTime struct{ time.Time }

// String writes it as JSON has it, "" for the zero time.
func (t LocalTime) String() string {
	if t.IsZero() {
		return ""
	}
	return t.Format("2006-01-02T15:04:05-07:00")
}

// MarshalJSON writes it by RFC 3339 in whole seconds, with the offset in numbers.
func (t LocalTime) MarshalJSON() ([]byte, error) { return jsonout.LocalTime(nil, t.Time), nil }

// UnmarshalJSON reads null or a time by RFC 3339, whose offset is kept.
func (t *LocalTime) UnmarshalJSON(data []byte) error {
	var read *time.Time
	if err := json.Unmarshal(data, &read); err != nil {
		return err
	}
	*t = LocalTime{}
	if read != nil {
		_, seconds := read.Zone()
		t.Time = read.In(time.FixedZone("", seconds)) // and not this machine's zone, where the offsets are the same
	}
	return nil
}

// Hours are a site's business hours by the local clock, in minutes after midnight,
// the end not included. The zero Hours are never on.
type Hours struct{ From, To int }

// UsualHours are those of a site that does not say.
var UsualHours = Hours{9 * 60, 17 * 60}

// ErrHours is wrapped by [ParseHours].
var ErrHours = errors.New("these are no business hours, such as 09:00-17:00")

// ParseHours reads hours like 09:00-17:30; they may end at 24:00, and must end after
// they begin.
func ParseHours(text string) (Hours, error) {
	from, to, ok := strings.Cut(text, "-")
	h := Hours{minutes(from), minutes(to)}
	if !ok || h.From < 0 || h.To <= h.From {
		return Hours{}, fmt.Errorf("%w: %.20q", ErrHours, text)
	}
	return h, nil
}

// minutes reads 09:30; -1 for anything else.
func minutes(text string) int {
	h, m, ok := strings.Cut(strings.TrimSpace(text), ":")
	hours, err := strconv.Atoi(h)
	mins, err2 := strconv.Atoi(m)
	if !ok || err != nil || err2 != nil || len(m) != 2 || hours < 0 || mins < 0 || mins > 59 || hours*60+mins > 24*60 {
		return -1
	}
	return hours*60 + mins
}

// String writes what [ParseHours] reads.
func (h Hours) String() string {
	return fmt.Sprintf("%02d:%02d-%02d:%02d", h.From/60, h.From%60, h.To/60, h.To%60)
}

// On says whether a local time is within the hours on a working day of the country,
// which may be nil: then Saturday and Sunday are the weekend.
func (h Hours) On(local time.Time, country *almanac.Country) bool {
	start, end := time.Saturday, time.Sunday
	if country != nil {
		start, end = country.WeekendStart, country.WeekendEnd
	}
	day := local.Weekday()
	if (day-start+7)%7 <= (end-start+7)%7 {
		return false
	}
	at := local.Hour()*60 + local.Minute()
	return at >= h.From && at < h.To
}

// A zone is one of the IANA database with its rule in force, which holds for
// months: reading either takes longer than all the rest of a card.
type zone struct {
	loc *time.Location
	now atomic.Pointer[rule]
}

// rule is an offset and how long it holds.
type rule struct {
	from, to int64 // Unix seconds; 0 for none
	offset   string
	next     *time.Time // nil where none is planned
	fixed    *time.Location
}

// Clocks tell the time at places, and remember their zones, of which there are some 400 in
// the world. They are safe for concurrent use; the zero value is not usable.
type Clocks struct{ zones *lru.Cache[string, *zone] }

// NewClocks makes clocks.
func NewClocks() *Clocks {
	zones, _ := lru.New[string, *zone](1024) // which fails for no size above 0
	return &Clocks{zones}
}

func (k *Clocks) zone(name string) (*zone, bool) {
	if known, ok := k.zones.Get(name); ok {
		return known, true
	}
	loc, err := LoadZone(name)
	if err != nil {
		return nil, false
	}
	z := &zone{loc: loc}
	k.zones.Add(name, z)
	return z, true
}

// LoadZone finds a zone of the IANA database by its name. Local, which is not a place,
// is not one; the error names what was asked for.
func LoadZone(name string) (*time.Location, error) {
	loc, err := time.LoadLocation(name)
	if err != nil || name == "Local" || name == "" {
		return nil, fmt.Errorf("%.40q is not a time zone, such as Europe/Lisbon", name)
	}
	return loc, nil
}

func (z *zone) rule(now time.Time) *rule {
	at := now.Unix()
	if r := z.now.Load(); r != nil && at >= r.from && (r.to == 0 || at < r.to) {
		return r
	}
	local := now.In(z.loc)
	_, seconds := local.Zone()
	r := &rule{offset: local.Format("-07:00"), fixed: time.FixedZone("", seconds)}
	from, to := local.ZoneBounds()
	if !from.IsZero() {
		r.from = from.Unix()
	} else {
		r.from = -1 << 62
	}
	if !to.IsZero() {
		utc := to.UTC()
		r.to, r.next = to.Unix(), &utc
	}
	z.now.Store(r)
	return r
}

var yes, no = true, false

// At gives the time at now in a zone of the IANA database; name may be nil, and
// an unknown zone counts as none. The country, which may be nil, decides the weekend.
func (k *Clocks) At(name *string, now time.Time, hours Hours, country *almanac.Country) Clock {
	if name == nil {
		return Clock{}
	}
	z, ok := k.zone(*name)
	if !ok {
		return Clock{}
	}
	r := z.rule(now)
	local := now.In(r.fixed)
	c := Clock{TimeZone: name, LocalTime: LocalTime{local.Truncate(time.Second)}, UTCOffset: &r.offset, NextChange: r.next, BusinessHours: &no}
	if hours.On(local, country) {
		c.BusinessHours = &yes
	}
	return c
}

// An Instant is a moment as it reads at a place.
type Instant struct {
	Instant   string `json:"instant"` // RFC 3339 in UTC
	TimeZone  string `json:"time_zone"`
	LocalTime string `json:"local_time"` // RFC 3339, with the zone's offset
	Text      string `json:"text"`       // by the habits of a language
	Language  string `json:"language"`   // whose habits they are
}

// InstantAt says how a moment reads in a zone and a language (BCP 47), by the
// Gregorian calendar. The error is that of [LoadZone].
func InstantAt(at time.Time, zone, tag string) (Instant, error) {
	loc, err := LoadZone(zone)
	if err != nil {
		return Instant{}, err
	}
	local := at.In(loc)
	return Instant{
		Instant: at.UTC().Format(time.RFC3339), TimeZone: zone, LocalTime: local.Format("2006-01-02T15:04:05-07:00"),
		Text: FormatTime(local, tag), Language: tag,
	}, nil
}

// FormatTime writes a local time with its weekday and date as a language does: sábado,
// 12 de junho de 2027 às 10:00.
func FormatTime(local time.Time, tag string) string {
	h := habitsOf(tag)
	date, clock := h.pattern(h[dateFull], local), h.pattern(h[timeShort], local)
	return strings.NewReplacer("{1}", date, "{0}", clock, "'", "").Replace(h[dateAtTime])
}

// pattern writes a time by a pattern of CLDR (UTS #35, part 4), of which short and
// full dates and times need these letters.
func (h *Habits) pattern(pattern string, t time.Time) string {
	var out strings.Builder
	letters := []rune(pattern)
	for i := 0; i < len(letters); {
		r := letters[i]
		if r == '\'' { // quoted text; two quotes are one
			end := i + 1
			for end < len(letters) && letters[end] != '\'' {
				end++
			}
			if end == i+1 {
				out.WriteRune('\'')
			}
			out.WriteString(string(letters[i+1 : end]))
			i = end + 1
			continue
		}
		n := 1
		for i+n < len(letters) && letters[i+n] == r {
			n++
		}
		i += n
		h.letter(&out, r, n, t)
	}
	return out.String()
}

func (h *Habits) letter(out *strings.Builder, r rune, n int, t time.Time) {
	number := func(v, width int) { out.WriteString(h.digits(fmt.Sprintf("%0*d", width, v))) }
	twelve := (t.Hour()+11)%12 + 1
	switch r {
	case 'y', 'u':
		if n == 2 {
			number(t.Year()%100, 2)
			return
		}
		number(t.Year(), n)
	case 'M', 'L':
		if n >= 3 {
			out.WriteString(h.member(monthNames, int(t.Month())-1))
			return
		}
		number(int(t.Month()), n)
	case 'd':
		number(t.Day(), n)
	case 'E', 'c':
		out.WriteString(h.member(dayNames, int(t.Weekday())))
	case 'H':
		number(t.Hour(), n)
	case 'k':
		number((t.Hour()+23)%24+1, n)
	case 'K':
		number(t.Hour()%12, n)
	case 'h':
		number(twelve, n)
	case 'm':
		number(t.Minute(), n)
	case 's':
		number(t.Second(), n)
	case 'B':
		clock := t.Format("15:04")
		members := strings.Split(h[dayPeriods], inner)
		name := members[len(members)-1] // which may last beyond midnight
		for _, m := range members {
			if m[:len(clock)] <= clock {
				name = m
			}
		}
		out.WriteString(name[len(clock)+1:])
	case 'a', 'b':
		if t.Hour() < 12 {
			out.WriteString(h[dayPeriodAM])
		} else {
			out.WriteString(h[dayPeriodPM])
		}
	case 'G':
		out.WriteString(h[era])
	default:
		out.WriteString(strings.Repeat(string(r), n))
	}
}
