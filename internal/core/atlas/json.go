package atlas

import (
	"reflect"
	"strconv"
	"sync"
	"unsafe"

	"eastporch/internal/core/jsonout"
)

// An EncodedResult is a lookup result as JSON, which the cards of all addresses of a node share.
type EncodedResult struct {
	once                        sync.Once
	Location, Network, Evidence []byte
}

// Encoded gives the result as JSON, made when it is first asked. It must not be changed.
func (f *LookupResult) Encoded() *EncodedResult {
	w := f.encoded
	w.once.Do(func() {
		w.Location = f.Location.AppendJSON(nil)
		w.Network = f.Network.AppendJSON(nil)
		w.Evidence = AppendEvidence(nil, f.Evidence)
	})
	return w
}

// IsLocated says whether this is the very location of the result, with nothing of it
// replaced.
func (f *LookupResult) IsLocated(w *Location) bool {
	own := &f.Location
	return w.Level == own.Level && w.ContinentCode == own.ContinentCode && w.CountryCode == own.CountryCode && w.RegionCode == own.RegionCode &&
		w.City == own.City && w.PostalCode == own.PostalCode && w.Latitude == own.Latitude && w.Longitude == own.Longitude && w.RadiusKm == own.RadiusKm &&
		w.TimeZone == own.TimeZone && w.Names == own.Names && oneMap(w.Missing, own.Missing)
}

// IsNetwork says the same of a network.
func (f *LookupResult) IsNetwork(n *Network) bool {
	return n.Range == f.Network.Range && n.ASNumber == f.Network.ASNumber && n.Operator == f.Network.Operator && oneMap(n.Missing, f.Network.Missing)
}

// IsEvidence says the same of evidence.
func (f *LookupResult) IsEvidence(evidence []Evidence) bool {
	return len(evidence) == len(f.Evidence) && unsafe.SliceData(evidence) == unsafe.SliceData(f.Evidence)
}

// oneMap says whether two maps are one.
func oneMap(a, b map[string]string) bool {
	return reflect.ValueOf(a).Pointer() == reflect.ValueOf(b).Pointer()
}

// AppendJSON appends location as JSON, byte for byte as encoding/json writes them.
func (w *Location) AppendJSON(b []byte) []byte {
	b = append(b, `{"level":`...)
	b = jsonout.String(b, string(w.Level))
	for _, f := range [...]struct {
		key   string
		value *string
	}{
		{`,"continent_code":`, w.ContinentCode}, {`,"country_code":`, w.CountryCode}, {`,"region_code":`, w.RegionCode}, {`,"city":`, w.City}, {`,"postal_code":`, w.PostalCode},
	} {
		b = append(b, f.key...)
		b = jsonout.Optional(b, f.value)
	}
	b = append(b, `,"latitude":`...)
	b = jsonout.Number(b, w.Latitude)
	b = append(b, `,"longitude":`...)
	b = jsonout.Number(b, w.Longitude)
	b = append(b, `,"radius_km":`...)
	b = jsonout.Number(b, w.RadiusKm)
	b = append(b, `,"time_zone":`...)
	b = jsonout.Optional(b, w.TimeZone)
	b = append(b, `,"names":{"continent":`...)
	b = jsonout.Optional(b, w.Names.Continent)
	b = append(b, `,"country":`...)
	b = jsonout.Optional(b, w.Names.Country)
	b = append(b, `,"region":`...)
	b = jsonout.Optional(b, w.Names.Region)
	b = append(b, `,"city":`...)
	b = jsonout.Optional(b, w.Names.City)
	b = append(b, `},"missing":`...)
	b = jsonout.Map(b, w.Missing)
	return append(b, '}')
}

// AppendJSON appends a network as JSON.
func (n *Network) AppendJSON(b []byte) []byte {
	b = append(b, `{"range":`...)
	b = jsonout.Optional(b, n.Range)
	b = append(b, `,"as_number":`...)
	if n.ASNumber != nil {
		b = strconv.AppendUint(b, uint64(*n.ASNumber), 10)
	} else {
		b = append(b, "null"...)
	}
	b = append(b, `,"operator":`...)
	b = jsonout.Optional(b, n.Operator)
	b = append(b, `,"missing":`...)
	b = jsonout.Map(b, n.Missing)
	return append(b, '}')
}

// AppendEvidence appends a list of evidence as JSON.
func AppendEvidence(b []byte, list []Evidence) []byte {
	if list == nil {
		return append(b, "null"...)
	}
	b = append(b, '[')
	for i := range list {
		e := &list[i]
		if i > 0 {
			b = append(b, ',')
		}
		b = append(b, `{"facts":`...)
		b = jsonout.Strings(b, e.Facts)
		b = append(b, `,"values":`...)
		b = jsonout.Map(b, e.Values)
		b = append(b, `,"basis":`...)
		b = jsonout.String(b, string(e.Basis))
		b = append(b, `,"source":`...)
		b = jsonout.String(b, e.Source)
		b = append(b, `,"rank":`...)
		b = jsonout.Int(b, e.Rank)
		b = append(b, `,"range":`...)
		b = jsonout.Optional(b, e.Range)
		b = append(b, `,"dated":`...)
		b = jsonout.Optional(b, e.Dated)
		b = append(b, `,"used":`...)
		b = strconv.AppendBool(b, e.Used)
		b = append(b, `,"reason":`...)
		b = jsonout.Optional(b, e.Reason)
		b = append(b, '}')
	}
	return append(b, ']')
}
