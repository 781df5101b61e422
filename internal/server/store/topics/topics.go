// Package topics has what instances tell each other by way of the database: that something of a topic has changed, after the
// transaction that changed it.
package topics

import (
	"context"

	"github.com/jackc/pgx/v5/pgconn"
)

// A Topic is something that instances read again when it has changed.
type Topic string

// The topics. Each has a sequence told_… that counts, so that what was told to nobody is noticed.
const (
	Visits     Topic = "visits"     // were stored
	Documents  Topic = "documents"  // that owners wrote
	Keys       Topic = "keys"       // and whether they are in force
	Links      Topic = "links"      // with a limit redirected
	Companions Topic = "companions" // were asked
	Notices    Topic = "notices"    // were met, or have something to send
	Leader     Topic = "leader"     // has stopped
)

// All are the topics.
func All() []Topic { return []Topic{Visits, Documents, Keys, Links, Companions, Notices, Leader} }

// Channel is what the database calls them all by.
const Channel = "eastporch"

type execer interface {
	Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
}

// Tell tells a topic once the transaction commits.
func Tell(ctx context.Context, tx execer, topic Topic) error {
	_, err := tx.Exec(ctx, `SELECT tell($1)`, string(topic))
	return err
}
