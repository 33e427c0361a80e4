package store

import (
	"errors"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
)

// Trouble says in words what keeps the database from doing anything at all, and
// whether its disk is full; "" when an error is no such thing. Codes are those of
// PostgreSQL's appendix A.
func Trouble(err error) (why string, full bool) {
	const diskFull, outOfResources, shutdown = "53100", "53", "57P"
	var pg *pgconn.PgError
	var connect *pgconn.ConnectError
	switch {
	case errors.As(err, &pg) && pg.Code == diskFull:
		return "the disk of the database is full: " + text(pg.Message), true
	case errors.As(err, &pg) && (strings.HasPrefix(pg.Code, outOfResources) || strings.HasPrefix(pg.Code, shutdown)):
		return "the database says: " + text(pg.Message), false
	case pg != nil:
		return "", false
	case errors.As(err, &connect), pgconn.SafeToRetry(err):
		return "the database does not answer", false
	}
	return "", false
}
