package store

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"gorm.io/gorm"
)

// tx runs fn in one transaction, seen by GORM and, as a pgx.Tx, by the job
// queue: what is stored and what is enqueued are committed together. Once begun
// it is not broken off with the context: database/sql would roll back in a
// goroutine of its own, on the connection that is being used here.
func (s *Store) tx(ctx context.Context, fn func(db *gorm.DB, tx pgx.Tx) error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	return s.db.WithContext(context.WithoutCancel(ctx)).Connection(func(c *gorm.DB) error {
		conn, ok := c.Statement.ConnPool.(*sql.Conn)
		if !ok {
			return errors.New("store: no connection to run a transaction on")
		}
		return c.Transaction(func(db *gorm.DB) error { return fn(db, &connTx{conn}) })
	})
}

// Tx is a transaction of the store, lent to whoever commits something of its
// own together with it, such as the job queue.
type Tx struct{ tx pgx.Tx }

// Pgx is the transaction as the driver knows it. It is begun and ended by the
// store.
func (t Tx) Pgx() pgx.Tx { return t.tx }

// connTx lends the pgx connection under GORM's transaction out as a pgx.Tx.
// Beginning and ending stay with GORM.
type connTx struct{ conn *sql.Conn }

// errOwned keeps job code from ending a transaction that is not its own.
var errOwned = errors.New("store: the transaction is begun and ended by the store")

// raw lends the pgx connection under the standard library's.
func (t *connTx) raw(f func(*pgx.Conn) error) error {
	return t.conn.Raw(func(dc any) error {
		c, ok := dc.(*stdlib.Conn)
		if !ok {
			return errors.New("store: not a pgx connection")
		}
		return f(c.Conn())
	})
}

// Conn is nil once the connection is gone.
func (t *connTx) Conn() (conn *pgx.Conn) {
	_ = t.raw(func(c *pgx.Conn) error { conn = c; return nil })
	return conn
}

// Exec runs in the store's transaction, as the following do.
func (t *connTx) Exec(ctx context.Context, q string, args ...any) (pgconn.CommandTag, error) {
	return t.Conn().Exec(ctx, q, args...)
}

// Query runs in the store's transaction.
func (t *connTx) Query(ctx context.Context, q string, args ...any) (pgx.Rows, error) {
	return t.Conn().Query(ctx, q, args...)
}

// QueryRow runs in the store's transaction.
func (t *connTx) QueryRow(ctx context.Context, q string, args ...any) pgx.Row {
	return t.Conn().QueryRow(ctx, q, args...)
}

// SendBatch runs in the store's transaction.
func (t *connTx) SendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults {
	return t.Conn().SendBatch(ctx, b)
}

// Prepare prepares on the store's connection.
func (t *connTx) Prepare(ctx context.Context, name, q string) (*pgconn.StatementDescription, error) {
	return t.Conn().Prepare(ctx, name, q)
}

// CopyFrom copies in the store's transaction.
func (t *connTx) CopyFrom(ctx context.Context, table pgx.Identifier, columns []string,
	src pgx.CopyFromSource) (int64, error) {
	return t.Conn().CopyFrom(ctx, table, columns, src)
}

// LargeObjects is not for use.
func (t *connTx) LargeObjects() pgx.LargeObjects { panic(errOwned) }

// Begin is refused.
func (t *connTx) Begin(context.Context) (pgx.Tx, error) { return nil, errOwned }

// Commit is refused.
func (t *connTx) Commit(context.Context) error { return errOwned }

// Rollback is refused.
func (t *connTx) Rollback(context.Context) error { return errOwned }
