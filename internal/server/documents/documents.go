// Package documents is the service of what owners write down: every kind of document is saved, dropped, listed by its
// revisions and gone back to in the same way. What a document means is for the service of its kind. Begin with [Documents].
package documents

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"eastporch/internal/core/document"
	"eastporch/internal/core/invalid"
)

// rows keep documents. Errors may be those of package document and wrap [visit.ErrAway].
type rows interface {
	Since(ctx context.Context, change int64) ([]document.Document, error)
	Save(ctx context.Context, d document.Document, on *int64, most int) (document.Document, error)
	History(ctx context.Context, key document.Key, before int64, limit int) ([]document.Document, error)
	Revision(ctx context.Context, key document.Key, number int64) (document.Document, error)
}

// Options says what the service is made of; every field is required.
type Options struct {
	Rows rows
	// Set gives the documents that run, and Take puts revisions into them: all that runs is exchanged at once. It is called
	// by one goroutine at a time, perhaps with revisions that run already.
	Set  func() *document.Set
	Take func(ctx context.Context, list []document.Document) error
	Kind func(kind document.Kind) Kind // what is particular about one
	Now  func() time.Time
}

// Documents is the service. It is safe for concurrent use.
type Documents struct {
	Options
	mu     sync.Mutex // is held while what has changed is read or taken
	change int64      // up to which everything was read
}

// A Kind says what is particular about one kind of document.
type Kind struct {
	Most int    // of a site; 0 for no bound
	Word string // for several of them, such as companions
	// None and Changed are the errors where there is no document, and where it was changed meanwhile; those of package
	// document where they are nil.
	None, Changed error
	// Restore saves what a body says, as a save of its owner's would: nothing that is wrong by now comes back into force.
	Restore func(ctx context.Context, key document.Key, body json.RawMessage, by string) error
}

// New makes the service. No document runs before [Documents.Read].
func New(opt Options) *Documents { return &Documents{Options: opt} }

// Read puts what has changed since it was last called into what runs.
func (d *Documents) Read(ctx context.Context) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	list, err := d.Rows.Since(ctx, d.change)
	if err != nil {
		return err
	}
	return d.take(ctx, list)
}

// take puts what was read into what runs.
func (d *Documents) take(ctx context.Context, list []document.Document) error {
	if len(list) == 0 {
		return nil
	}
	if err := d.Take(ctx, list); err != nil {
		return err
	}
	d.change = list[len(list)-1].Change
	return nil
}

// A Saving is how a document is saved.
type Saving struct {
	On      *int64   // the revision that it was made on, 0 for none; nil whatever there is
	By      string   // who saves it
	Changes []string // since the revision before, in sentences
}

// Save keeps a document, and returns when it runs here. Its body has been checked.
func (d *Documents) Save(ctx context.Context, key document.Key, body any, how Saving) (document.Document, error) {
	text, err := json.Marshal(body)
	if err != nil {
		return document.Document{}, err
	}
	return d.put(ctx, document.Document{Key: key, Body: text, MadeBy: how.By, Changes: how.Changes}, how.On)
}

// Drop drops a document, and returns when it runs here no more.
func (d *Documents) Drop(ctx context.Context, key document.Key, by string) error {
	_, err := d.put(ctx, document.Document{Key: key, MadeBy: by}, nil)
	return err
}

func (d *Documents) put(ctx context.Context, of document.Document, on *int64) (document.Document, error) {
	kind := d.Kind(of.Key.Kind)
	of.MadeAt = d.Now().UTC().Truncate(time.Millisecond)
	saved, err := d.Rows.Save(ctx, of, on, kind.Most)
	switch {
	case errors.Is(err, document.ErrFull):
		return saved, invalid.Field("name", fmt.Sprintf("the site has %d %s already", kind.Most, kind.Word), "Drop one first.")
	case err != nil:
		return saved, kind.own(err)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	ctx = context.WithoutCancel(ctx) // it is kept: that whoever asked has gone meanwhile changes nothing of what runs
	if list, err := d.Rows.Since(ctx, d.change); err == nil {
		return saved, d.take(ctx, list)
	}
	return saved, d.Take(ctx, []document.Document{saved}) // the rest comes when the database answers again
}

// own gives the kind's own error.
func (k Kind) own(err error) error {
	switch {
	case errors.Is(err, document.ErrNone) && k.None != nil:
		return k.None
	case errors.Is(err, document.ErrChanged) && k.Changed != nil:
		return k.Changed
	}
	return err
}

// Get gives a document that runs, and what it says; the error is the kind's own where there is none.
func Get[T any](d *Documents, key document.Key) (*document.Document, T, error) {
	var body T
	of := d.Set().Get(key)
	if of == nil {
		return nil, body, d.Kind(key.Kind).own(document.ErrNone)
	}
	body, err := document.Read[T](of)
	return of, body, err
}

// History lists the revisions of a document, the newest first, older than before where that is not 0.
func (d *Documents) History(ctx context.Context, key document.Key, before int64, limit int) ([]document.Document, error) {
	list, err := d.Rows.History(ctx, key, before, limit)
	if err == nil && len(list) == 0 && before == 0 {
		err = d.Kind(key.Kind).own(document.ErrNone)
	}
	return list, err
}

// Revision gives one revision of a document that says something; [document.ErrRevision] where there is none.
func (d *Documents) Revision(ctx context.Context, key document.Key, number int64) (document.Document, error) {
	older, err := d.Rows.Revision(ctx, key, number)
	if err == nil && older.Body == nil {
		err = document.ErrRevision
	}
	return older, err
}

// Return puts an older revision in force again, as a new one; what is wrong with it by now is the error. Where the
// document was dropped with that revision, it is dropped again.
func (d *Documents) Return(ctx context.Context, key document.Key, number int64, by string) error {
	older, err := d.Rows.Revision(ctx, key, number)
	if err != nil {
		return err
	}
	if older.Body == nil {
		return d.Drop(ctx, key, by)
	}
	restore := d.Kind(key.Kind).Restore
	if restore == nil {
		return document.ErrRevision
	}
	return restore(ctx, key, older.Body, by)
}
