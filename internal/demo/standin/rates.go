// Package standin has small stand-ins for services outside, so that the product runs,
// is tried and is tested with no network. What they say is invented.
package standin

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math"
	"net/http"
	"slices"
	"strings"
	"time"
)

// around is what one euro is worth in the invented world, before a day's change.
var around = map[string]float64{
	"AED": 3.9, "ARS": 1100, "AUD": 1.65, "BRL": 6.2, "CAD": 1.5, "CHF": 0.95, "CLP": 1020, "CNY": 7.7, "COP": 4500, "CZK": 25, "DKK": 7.46, "EGP": 53,
	"GBP": 0.85, "HUF": 400, "IDR": 17500, "ILS": 4, "INR": 92, "ISK": 148, "JPY": 161, "KES": 140, "KRW": 1480, "KWD": 0.333, "MAD": 10.7, "MXN": 20,
	"MYR": 4.8, "NGN": 1700, "NOK": 11.7, "NZD": 1.8, "PHP": 63, "PLN": 4.3, "RON": 5, "SAR": 4.05, "SEK": 11.4, "SGD": 1.45, "THB": 38, "TND": 3.35,
	"TRY": 36, "TWD": 35, "USD": 1.08, "VND": 27000, "ZAR": 19.8,
}

// Base is the currency that the invented rates are of.
const Base = "EUR"

// RatesOn invents the rates of a day: the same for the same day, and within three per
// cent of what they always are. Each is a decimal number of five digits.
func RatesOn(day time.Time) map[string]string {
	rates := map[string]string{}
	number := float64(day.UTC().Truncate(24*time.Hour).Unix() / 86400)
	for code, middle := range around {
		phase := float64(code[0])*7 + float64(code[1])*3 + float64(code[2])
		value := middle * (1 + 0.02*math.Sin(number/9+phase) + 0.01*math.Sin(number/2.3+2*phase))
		rates[code] = fmt.Sprintf("%.*f", max(0, 4-int(math.Floor(math.Log10(value)))), value)
	}
	return rates
}

// Rates serves the invented rates of a day, today by default, at /rates.json and
// /rates.csv, in the forms of docs/formats/rates.md. Other days are asked for by
// ?date=2026-11-25.
func Rates(now func() time.Time) http.Handler {
	mux := http.NewServeMux()
	day := func(w http.ResponseWriter, r *http.Request) (time.Time, bool) {
		text := r.URL.Query().Get("date")
		if text == "" {
			return now(), true
		}
		d, err := time.Parse(time.DateOnly, text)
		if err != nil {
			http.Error(w, "date: write it like 2026-11-25.", http.StatusBadRequest)
		}
		return d, err == nil
	}
	mux.HandleFunc("GET /rates.json", func(w http.ResponseWriter, r *http.Request) {
		if d, ok := day(w, r); ok {
			w.Header().Set("Content-Type", "application/json")
			_ = json.NewEncoder(w).Encode(map[string]any{"date": d.UTC().Format(time.DateOnly), "base": Base, "rates": RatesOn(d)})
		}
	})
	mux.HandleFunc("GET /rates.csv", func(w http.ResponseWriter, r *http.Request) {
		if d, ok := day(w, r); ok {
			w.Header().Set("Content-Type", "text/csv; charset=utf-8")
			WriteRates(w, d)
		}
	})
	return mux
}

// WriteRates writes the invented rates of a day as CSV.
func WriteRates(w io.Writer, day time.Time) {
	out := csv.NewWriter(w)
	_ = out.Write(strings.Split("date,base,currency,rate", ","))
	rates := RatesOn(day)
	for _, code := range slices.Sorted(maps.Keys(rates)) {
		_ = out.Write([]string{day.UTC().Format(time.DateOnly), Base, code, rates[code]})
	}
	out.Flush()
}
