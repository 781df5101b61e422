package httpapi

import (
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"eastporch/api"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/core/invalid"
	"eastporch/internal/editions"
	editionfile "eastporch/internal/files/edition"
	"eastporch/internal/server/atlases"
	"eastporch/internal/server/request"
	"eastporch/internal/server/respond"
)

func (h *handlers) getAtlas(c *gin.Context) { c.JSON(http.StatusOK, h.Atlas.Service.Sources()) }

func (h *handlers) listEditions(c *gin.Context) {
	list, err := h.Atlas.Service.Shelf.List()
	h.replyJSON(c, http.StatusOK, api.Editions{Editions: list, Job: h.Atlas.Service.Shelf.Job()}, err)
}

// buildEdition begins a build; the list of editions says how it goes.
func (h *handlers) buildEdition(c *gin.Context) {
	err := h.Atlas.Service.Workshop.Rebuild()
	if err == nil {
		h.note(c, "edition asked for", "from the configured sources")
	}
	h.replyJSON(c, http.StatusAccepted, api.JobAnswer{Job: h.Atlas.Service.Shelf.Job()}, err)
}

func (h *handlers) activateEdition(c *gin.Context) {
	var body api.Used
	err := request.JSON(c, &body, false)
	if err == nil {
		err = h.Atlas.Service.Shelf.Use(body.Edition)
	}
	h.used(c, body.Edition, err)
}

func (h *handlers) backEdition(c *gin.Context) {
	name, err := h.Atlas.Service.Shelf.Back()
	h.used(c, name, err)
}

func (h *handlers) used(c *gin.Context, name string, err error) {
	if err == nil {
		h.note(c, "edition taken into use", name)
	}
	h.replyJSON(c, http.StatusOK, api.Used{Edition: name}, err)
}

// publishEdition fills the tables of the SQL function locate.
func (h *handlers) publishEdition(c *gin.Context) {
	name := h.Atlas.Service.Shelf.Current().Name()
	n, err := h.Atlas.Service.Workshop.Publish(c)
	if err == nil {
		h.note(c, "edition published in SQL", name)
	}
	h.replyJSON(c, http.StatusOK, api.Published{Edition: name, Ranges: n}, err)
}

func (h *handlers) getChanges(c *gin.Context) {
	changes, err := h.Atlas.Service.Changes(c, c.Query("now"), c.Query("then"))
	h.replyJSON(c, http.StatusOK, changes, err)
}

func (h *handlers) getCoverage(c *gin.Context) {
	answer, err := h.Atlas.Service.Coverage(c.Query("edition"))
	h.replyList(c, "countries", answer, err)
}

func (h *handlers) getAccuracy(c *gin.Context) {
	answer, err := h.Atlas.Service.Accuracy(c.Query("edition"), nil)
	h.replyJSON(c, http.StatusOK, answer, err)
}

func (h *handlers) measureAccuracy(c *gin.Context) {
	answer, err := h.Atlas.Service.Accuracy(c.Query("edition"), c.Request.Body)
	h.replyJSON(c, http.StatusOK, answer, err)
}

func (h *handlers) describeFile(c *gin.Context) {
	d, err := editions.DescribeText(c.Request.Body)
	var tooLarge *http.MaxBytesError
	if err != nil && !errors.As(err, &tooLarge) {
		err = invalid.Field("file", err.Error(), "Send the file itself, plain or packed with gzip, bzip2 or zstd.")
	}
	h.replyJSON(c, http.StatusOK, d, err)
}

// maxSamples bounds how many sample addresses are given at once.
const maxSamples = 1000

func (h *handlers) getSamples(c *gin.Context) {
	count, err := request.Int(c, "count", 10, 1, maxSamples)
	seed := 0
	if err == nil {
		seed, err = request.Int(c, "seed", 1, 0, 1<<53)
	}
	var answer api.Samples
	if err == nil {
		answer, err = h.Atlas.Lookup.Samples(strings.ToUpper(c.Query("country_code")), c.Query("city"), count, uint64(seed))
	}
	h.replyList(c, "samples", answer, err)
}

func (h *handlers) exportEdition(c *gin.Context) {
	edition, err := h.Atlas.Service.Named(c.Query("edition"))
	var format source.Format
	if err == nil {
		format, err = atlases.ExportFormat(c.DefaultQuery("format", "csv"))
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	respond.Attachment(c, "text/csv; charset=utf-8", fmt.Sprintf("%s-%s.csv", edition.Name(), format))
	if err := editionfile.Export(edition, respond.Steady(c), format, c.Query("raw") == "true", nil); err != nil {
		h.breakOff(c, err)
	}
}

func (h *handlers) listCorrections(c *gin.Context) {
	list, err := h.Atlas.Service.Corrections()
	respond.NoStore(c)
	if c.Query("format") != "geofeed" || err != nil {
		h.replyList(c, "corrections", api.Corrections{Corrections: list}, err)
		return
	}
	respond.Attachment(c, "text/csv; charset=utf-8", "corrections-geofeed.csv")
	if err := source.WriteGeofeed(respond.Steady(c), list, h.Service.Now()); err != nil {
		h.breakOff(c, err)
	}
}

func (h *handlers) addCorrection(c *gin.Context) {
	var body source.Correction
	err := request.JSON(c, &body, false)
	if err == nil {
		body, err = h.Atlas.Service.Correct(c, body, callerOf(c).Actor())
	}
	if err != nil {
		h.fail(c, err)
		return
	}
	h.note(c, "correction made", body.Range)
	c.JSON(http.StatusCreated, body)
}

func (h *handlers) dropCorrection(c *gin.Context) {
	id, err := request.ID(c)
	if err == nil {
		if err = h.Atlas.Service.Uncorrect(c, id, callerOf(c).Actor()); err == nil {
			h.note(c, "correction dropped", id.String())
		}
	}
	h.done(c, err)
}

func (h *handlers) checkGeofeed(c *gin.Context) {
	answer, err := atlases.CheckGeofeed(c.Request.Body)
	h.replyJSON(c, http.StatusOK, answer, err)
}

// getVisitCoverage says how well an edition knows the addresses of visits.
func (h *handlers) getVisitCoverage(c *gin.Context) {
	answer, err := h.Atlas.Service.Visits(c, c.Query("edition"))
	h.replyJSON(c, http.StatusOK, answer, err)
}

// listFeeds lists the geofeeds that are gathered.
func (h *handlers) listFeeds(c *gin.Context) {
	limit, err := request.Int(c, "limit", 100, 1, 1000)
	var answer api.FeedList
	if err == nil {
		answer, err = h.Atlas.Service.GatheredFeeds(atlases.FeedQuestion{State: c.Query("state"), Address: c.Query("address"), After: c.Query("cursor"), Limit: limit})
	}
	h.replyJSON(c, http.StatusOK, answer, err)
}
