package httpapi

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"

	"github.com/gin-gonic/gin"

	"eastporch/api"
	"eastporch/internal/core/document"
	"eastporch/internal/core/invalid"
	"eastporch/internal/server/request"
)

// documentOf is the document that a request for a history is about.
func (h *handlers) documentOf(c *gin.Context) (key document.Key, err error) {
	key = document.Key{Kind: document.Kind(c.Param("kind")), Name: c.Query("name")}
	switch named := key.Kind != document.Gate; {
	case !slices.Contains(document.Kinds(), key.Kind):
		return key, invalid.Word("kind", string(key.Kind), document.Words())
	case named == (key.Name == ""):
		return key, invalid.Field("name", "a document of this kind has one, and rules of gates have none", "Give the name of a document that has one: of a link the code, of a correction the range.")
	case key.Kind == document.Correction: // which holds for all sites
		return key, nil
	}
	site, err := h.ownSite(c)
	if err == nil {
		key.Site = site.Host
	}
	return key, err
}

func shownRevision(d *document.Document) api.DocumentRevision {
	r := api.DocumentRevision{Revision: d.Revision, Dropped: d.Body == nil, Said: d.Body, Changes: append([]string{}, d.Changes...), MadeBy: d.MadeBy, MadeAt: d.MadeAt}
	if r.Dropped {
		r.Said = json.RawMessage("null")
	}
	return r
}

// listHistory lists the revisions of a document.
func (h *handlers) listHistory(c *gin.Context) {
	key, err := h.documentOf(c)
	limit, wrong := request.Int(c, "limit", 50, 1, 200)
	before, wrongToo := request.Int(c, "before", 0, 0, 1<<52)
	answer := api.DocumentHistory{Revisions: []api.DocumentRevision{}}
	if err = errors.Join(err, wrong, wrongToo); err == nil {
		var list []document.Document
		list, err = h.Content.Documents.History(c, key, int64(before), limit)
		for i := range list {
			answer.Revisions = append(answer.Revisions, shownRevision(&list[i]))
		}
	}
	h.replyJSON(c, http.StatusOK, answer, err)
}

// returnDocument puts an earlier revision of a document in force again.
func (h *handlers) returnDocument(c *gin.Context) {
	key, err := h.documentOf(c)
	number, wrong := strconv.ParseInt(c.Param("revision"), 10, 64)
	if err == nil && wrong != nil {
		err = document.ErrRevision
	}
	if err == nil {
		err = h.Content.Documents.Return(c, key, number, callerOf(c).Actor())
	}
	var list []document.Document
	if err == nil {
		h.note(c, "document returned", fmt.Sprintf("%s %s %s to revision %d", key.Site, key.Kind, key.Name, number))
		list, err = h.Content.Documents.History(c, key, 0, 1)
	}
	var answer api.DocumentRevision
	if err == nil {
		answer = shownRevision(&list[0])
	}
	h.replyJSON(c, http.StatusOK, answer, err)
}
