package httpapi

import (
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/shopspring/decimal"

	"eastporch/internal/core/locale"
	"eastporch/internal/core/plain"
	"eastporch/internal/server/rates"
)

// rateFeed has the exchange rates.
type rateFeed interface {
	State() rates.State
	Stale(now time.Time) bool
}

// maxAmounts bounds how many amounts one request converts.
const maxAmounts = 50

// convert gives amounts in another currency; on the public listener, by default, in the
// visitor's own and by the habits of the visitor's language.
func (a *api) convert(c *gin.Context) {
	site, err := a.siteOf(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	from, to, tag := c.Query("from"), c.Query("to"), "en"
	endings := map[string]locale.Ending{}
	if site != nil {
		endings = site.Local.Endings
		if from == "" {
			from = site.Local.Currency
		}
	}
	if a.listener == PublicListener {
		card, trouble := a.visitorCard(c)
		if err = trouble; err == nil {
			tag = card.Locale.Formatting
			if to == "" && card.Money.CurrencyCode != nil {
				to = *card.Money.CurrencyCode
			}
		}
		private(c)
	} else {
		c.Header("Cache-Control", "private, no-store")
	}
	if err == nil {
		tag, err = languageOf(c, tag)
	}
	var values []decimal.Decimal
	if err == nil {
		if from, err = currencyOf("from", from); err == nil {
			to, err = currencyOf("to", to)
		}
	}
	texts := c.QueryArray("amount")
	if err == nil && (len(texts) == 0 || len(texts) > maxAmounts) {
		err = invalidField("amount", fmt.Sprintf("there are %d", len(texts)), fmt.Sprintf("Give 1 to %d, such as amount=85&amount=120.", maxAmounts))
	}
	for _, text := range texts {
		value, wrong := locale.ParseAmount(text)
		if wrong != nil && err == nil {
			err = invalidField("amount", without(wrong, locale.ErrAmount), "Write a decimal number with a point, such as 12.50.")
		}
		values = append(values, value)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	conversions := make([]locale.Conversion, len(values))
	for i, value := range values {
		if conversions[i], err = a.Rates.State().Rates.Convert(value, from, to, endings[to], tag, a.Now()); err != nil {
			a.fail(c, err)
			return
		}
	}
	a.answerList(c, "conversions", gin.H{"stale": a.Rates.Stale(a.Now()), "conversions": conversions})
}

func currencyOf(field, text string) (string, error) {
	if text == "" {
		return "", invalidField(field, "no currency is given, and none follows from elsewhere", "Give three letters, such as EUR.")
	}
	code, err := locale.ParseCurrency(text)
	if err != nil {
		return "", invalidField(field, without(err, locale.ErrAmount), "Give three letters, such as EUR.")
	}
	return code, nil
}

func (a *api) getRates(c *gin.Context) {
	state, now := a.Rates.State(), a.Now()
	r := state.Rates
	answer := struct {
		Base    *string                    `json:"base"`
		Dated   *string                    `json:"dated"`
		AgeDays *int                       `json:"age_days"`
		Stale   bool                       `json:"stale"`
		Source  *string                    `json:"source"`
		ReadAt  *time.Time                 `json:"read_at"`
		Problem *string                    `json:"problem"`
		Rejects []string                   `json:"rejects"`
		Rates   map[string]decimal.Decimal `json:"rates"`
	}{Problem: plain.Optional(state.Problem), Rejects: append([]string{}, r.Rejects...), Rates: map[string]decimal.Decimal{}, Stale: a.Rates.Stale(now)}
	if r.Base != "" {
		dated, age := r.Dated.Format(time.DateOnly), r.AgeDays(now)
		answer.Base, answer.Dated, answer.AgeDays, answer.Source = &r.Base, &dated, &age, plain.Optional(r.Source)
		answer.ReadAt, answer.Rates = &state.ReadAt, r.Of
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, answer)
}

// noRate is the problem of a currency without a rate.
func noRate(err error) problem {
	p := badRequest("no-rate", "No exchange rate", upperFirst(without(err, locale.ErrRates))+".", "GET /v1/rates lists those that there are; rates in the configuration says where they come from.")
	p.Status = http.StatusUnprocessableEntity
	return p
}
