package terminal

import (
	"fmt"
	"strings"

	"eastporch/internal/core/plain"
)

// Share writes a share as per cent, a dash for none.
func Share(v *float64) string {
	if v == nil {
		return "–"
	}
	return fmt.Sprintf("%.0f %%", 100**v)
}

// Km writes a distance, a dash for none.
func Km(v *float64) string {
	if v == nil {
		return "–"
	}
	return fmt.Sprintf("%.0f km", *v)
}

// Cut shortens a text to n characters.
func Cut(s string, n int) string {
	r := []rune(s)
	if len(r) <= n {
		return s
	}
	return string(r[:n-1]) + "…"
}

// Count words a count, with commas: 1 visit, 12,345 visits.
func Count[N int | int64](n N, noun string) string {
	return Thousands(n) + " " + plain.Plural(n, noun)
}

// Visits words a count of visits.
func Visits[N int | int64](n N) string { return Count(n, "visit") }

// Thousands writes a count with commas.
func Thousands[N int | int64](n N) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Amount writes a count of addresses.
func Amount(v float64) string {
	switch {
	case v == 0:
		return "–"
	case v < 1:
		return "<1"
	case v >= 1e9:
		return fmt.Sprintf("%.2f billion", v/1e9)
	case v >= 1e6:
		return fmt.Sprintf("%.2f million", v/1e6)
	}
	return Thousands(int64(v))
}

// Percent writes a part as per cent of the whole.
func Percent(part, whole float64) string {
	if whole == 0 {
		return "–"
	}
	return fmt.Sprintf("%.0f %%", 100*part/whole)
}

// Fine writes a share that may be very small.
func Fine(v float64) string {
	if v > 0 && v < 0.0001 {
		return "less than 0.01 %"
	}
	return plain.Decimal(float64(int(v*10000+.5))/100) + " %"
}

// Missing says that a fact is absent, and why.
func Missing(what, reason string) string {
	if reason == "" {
		return what
	}
	return what + ", " + reason
}

// Join joins the parts that are not empty.
func Join(sep string, parts ...string) string {
	var kept []string
	for _, p := range parts {
		if p != "" {
			kept = append(kept, p)
		}
	}
	return strings.Join(kept, sep)
}

// Coordinates writes a point, "" for none.
func Coordinates(lat, lon *float64) string {
	if lat == nil || lon == nil {
		return ""
	}
	return fmt.Sprintf("%s, %s", plain.Decimal(*lat), plain.Decimal(*lon))
}

// SharePercent writes a share as per cent.
func SharePercent(share float64) string { return fmt.Sprintf("%.1f %%", 100*share) }

// Shorten leaves out the middle of a text that is too long.
func Shorten(s string, most int) string {
	runes := []rune(s)
	if len(runes) <= most {
		return s
	}
	return string(runes[:most-1]) + "…"
}
