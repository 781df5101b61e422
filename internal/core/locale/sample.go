package locale

import (
	"time"

	"github.com/shopspring/decimal"
)

// A Sample shows the habits of a language and country by examples.
type Sample struct {
	Language    string  `json:"language"`
	DecimalMark string  `json:"decimal_mark"`
	GroupMark   string  `json:"group_mark"`
	Amount      *string `json:"amount"` // null without a currency
	ShortDate   string  `json:"short_date"`
	DateTime    string  `json:"date_time"`
}

// sampleTime is the moment that samples write: the regatta's first race.
var sampleTime = time.Date(2027, 6, 12, 13, 5, 0, 0, time.UTC)

// SampleOf shows how a language (BCP 47) writes 1234567.5 of a currency, which may be
// "", and the early afternoon of 12 June 2027.
func SampleOf(tag, currency string) Sample {
	h := habitsOf(tag)
	s := Sample{Language: tag, DecimalMark: h[decimalMark], GroupMark: h[groupMark], ShortDate: h.pattern(h[dateShort], sampleTime), DateTime: FormatTime(sampleTime, tag)}
	if currency != "" {
		text := FormatAmount(decimal.New(12345675, -1), currency, tag, Ending{})
		s.Amount = &text
	}
	return s
}
