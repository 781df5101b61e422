package httpapi

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"eastporch/api"
	"eastporch/internal/core/almanac"
	"eastporch/internal/core/handover"
	"eastporch/internal/core/invalid"
	"eastporch/internal/core/plain"
	"eastporch/internal/flags"
	"eastporch/internal/server/localize"
	"eastporch/internal/server/page"
	"eastporch/internal/server/problem"
	"eastporch/internal/server/request"
	"eastporch/internal/server/respond"
)

// getHandover answers a reverse proxy that asks about the visitor of another request.
func (h *handlers) getHandover(c *gin.Context) {
	card, ok := h.decided(c)
	if !ok {
		return
	}
	facts := handover.Of(&card)
	for i, value := range facts.Values() {
		if value != "" {
			c.Header(handover.Fields[i], value)
		}
	}
	if c.Query("cookie") == "1" {
		lasts := h.Public.Handover.Lasts
		http.SetCookie(c.Writer, &http.Cookie{
			Name: handover.CookieName, Value: handover.Sign(facts, h.Public.Handover.Key, h.Service.Now().Add(lasts)), Path: "/", MaxAge: int(lasts.Seconds()),
			HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: c.GetHeader("X-Forwarded-Proto") == "https",
		})
	}
	c.Status(http.StatusNoContent)
}

// getLocale localizes for somebody who is described, not for the caller.
func (h *handlers) getLocale(c *gin.Context) {
	site, err := request.Site(c, h.Public.Sites)
	var answer api.LocaleAnswer
	if err == nil {
		req := h.requestContext(c, nil, site)
		req.AcceptLanguage = c.Query("accept_language")
		answer, err = h.Public.Localize.Locale(localize.Subject{Address: c.Query("address"), CountryCode: c.Query("country_code"), TimeZone: c.Query("time_zone"), At: c.Query("at")}, req)
	}
	respond.Own(c)
	h.reply(c, answer, err)
}

// convert gives amounts in another currency; on the public listener, by default, in the
// visitor's own and by the habits of the visitor's language.
func (h *handlers) convert(c *gin.Context) {
	site, err := request.Site(c, h.Public.Sites)
	if err != nil {
		h.fail(c, err)
		return
	}
	ask := localize.Exchange{Amounts: c.QueryArray("amount"), From: c.Query("from"), To: c.Query("to"), Language: "en"}
	if site != nil && ask.From == "" {
		ask.From = site.Local.Currency
	}
	if h.listener == PublicListener {
		card, trouble := h.visitorCard(c, false)
		if trouble != nil {
			h.fail(c, trouble)
			return
		}
		ask.Language = card.Locale.Formatting
		if ask.To == "" {
			ask.To = plain.Value(card.Money.CurrencyCode)
		}
		respond.Private(c)
	} else {
		respond.Own(c)
	}
	var answer api.Conversions
	if ask.Language, err = request.Language(c, ask.Language); err == nil {
		answer, err = h.Public.Localize.Convert(ask, site)
	}
	h.replyList(c, "conversions", answer, err)
}

func (h *handlers) getRates(c *gin.Context) {
	h.replyJSON(c, http.StatusOK, h.Public.Localize.ExchangeRates(), nil)
}

// factsLast is how long facts and flags of countries may be kept, which change with
// the version of the service only.
const factsLast = "public, max-age=86400"

// mayAsk holds whoever asks without a key to the visitor's limit, on the public listener:
// lists take longer than pictures. Where it gives false the answer is written.
func (h *handlers) mayAsk(c *gin.Context) bool {
	return h.listener != PublicListener || h.within(c, "visitor", h.Access.Limits.Visitors, h.from(c))
}

func (h *handlers) listCountries(c *gin.Context) {
	if !h.mayAsk(c) {
		return
	}
	tag, err := request.Language(c, "en")
	var answer api.CountryChoices
	if err == nil {
		answer, err = h.Public.Localize.Countries(tag, c.Query("group"), c.Query("continent_code"))
	}
	h.forAll(c, factsLast)
	h.replyList(c, "countries", answer, err)
}

// countryOf reads the code in the path, in capitals or not.
func countryOf(c *gin.Context) (*almanac.Country, error) {
	code := c.Param("code")
	country, ok := almanac.ByCode(strings.ToUpper(code))
	if ok {
		return country, nil
	}
	return nil, problem.NotFound("no-such-country", "No such country", plain.UpperFirst(almanac.CheckCode(code).Error()), "GET /v1/countries lists them.")
}

func (h *handlers) getCountry(c *gin.Context) {
	if !h.mayAsk(c) {
		return
	}
	country, err := countryOf(c)
	tag := ""
	if err == nil {
		tag, err = request.Language(c, "en")
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	h.forAll(c, factsLast)
	h.reply(c, h.Public.Localize.Country(country, tag), nil)
}

func (h *handlers) getFlag(c *gin.Context) {
	country, err := countryOf(c)
	tag, shape := "", c.DefaultQuery("shape", "wide")
	if err == nil {
		tag, err = request.Language(c, "en")
	}
	if err == nil && !slices.Contains(flags.Shapes, shape) {
		err = invalid.Field("shape", fmt.Sprintf("%.20q is not a shape of a flag", shape), "Give wide, square or round.")
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	svg, _ := flags.SVG(country.Code, shape, almanac.FlagAlt(country.Code, tag))
	h.forAll(c, factsLast)
	c.Header("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	c.Data(http.StatusOK, "image/svg+xml", []byte(svg))
}

// scriptLasts is how long browsers may keep the script for pages before they ask whether
// it has changed.
const scriptLasts = "public, max-age=3600"

func (h *handlers) getScript(c *gin.Context) {
	h.forAll(c, scriptLasts)
	page.ScriptFile().ServeHTTP(c.Writer, c.Request)
}

func (h *handlers) getScriptTypes(c *gin.Context) {
	h.forAll(c, scriptLasts)
	page.TypesFile().ServeHTTP(c.Writer, c.Request)
}
