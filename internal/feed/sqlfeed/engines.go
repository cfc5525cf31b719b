package sqlfeed

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgconn/ctxwatch"
	"github.com/jackc/pgx/v5/pgtype"

	"evenledger/internal/pgdial"
	"evenledger/internal/reach"
)

// hangUp is how long the server may take to end a query whose time is over, before the line is cut.
const hangUp = 5 * time.Second

// dialPostgres connects, over TLS that is verified unless nothing leaves this machine.
func (d *database) dialPostgres(ctx context.Context) (*pgx.Conn, error) {
	config, err := pgdial.Config(d.address, d.ca, d.secret, d.timeout)
	if err != nil {
		return nil, err
	}
	return pgx.ConnectConfig(ctx, config)
}

// readPostgres asks for texts and hands them on: nothing is made of a value that would have
// to be written again.
func (d *database) readPostgres(ctx context.Context, text string, args []any, to *table) (err error) {
	config, err := pgdial.Config(d.address, d.ca, d.secret, d.timeout)
	if err != nil {
		return err
	}
	// Who only hangs up leaves the query running, with whatever it locks.
	config.BuildContextWatcherHandler = func(conn *pgconn.PgConn) ctxwatch.Handler {
		return &pgconn.CancelRequestContextWatcherHandler{Conn: conn, DeadlineDelay: hangUp}
	}
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, conn.Close(context.WithoutCancel(ctx))) }()
	tx, err := conn.BeginTx(ctx, pgx.TxOptions{AccessMode: pgx.ReadOnly})
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	rows, err := tx.Query(ctx, text, append([]any{pgx.QueryResultFormats{pgx.TextFormatCode}}, args...)...)
	if err != nil {
		return refusedBy(err)
	}
	defer rows.Close()
	columns := rows.FieldDescriptions()
	names, kinds := make([]string, len(columns)), make([]uint32, len(columns))
	for i, c := range columns {
		names[i], kinds[i] = c.Name, c.DataTypeOID
	}
	if len(columns) > 0 {
		if err := to.head(names); err != nil {
			return err
		}
	}
	cells := make([]string, len(names))
	for rows.Next() {
		for i, raw := range rows.RawValues() {
			cells[i] = ofPostgres(kinds[i], raw, conn.TypeMap())
		}
		if err := to.row(cells); err != nil {
			return err
		}
	}
	return refusedBy(rows.Err())
}

// ofPostgres is the cell that a text of PostgreSQL comes to.
func ofPostgres(kind uint32, raw []byte, types *pgtype.Map) string {
	switch {
	case raw == nil:
		return ""
	case kind == pgtype.BoolOID && string(raw) == "t":
		return "true"
	case kind == pgtype.BoolOID:
		return "false"
	case kind == pgtype.BPCharOID: // padded to its length
		return strings.TrimRight(string(raw), " ")
	case kind == pgtype.TextArrayOID, kind == pgtype.VarcharArrayOID, kind == pgtype.BPCharArrayOID:
		var list []*string
		if err := types.Scan(kind, pgtype.TextFormatCode, raw, &list); err == nil {
			var items []string
			for _, item := range list {
				if item != nil {
					items = append(items, *item)
				}
			}
			return strings.Join(items, "; ")
		}
	}
	return string(raw)
}

// refusedBy tells the no of a server to a statement from other errors.
func refusedBy(err error) error {
	var pg *pgconn.PgError
	var my *driver.MySQLError
	if errors.As(err, &pg) || errors.As(err, &my) {
		return &refused{err}
	}
	return err
}

// open readies a database of the standard interface; nothing is sent yet.
func (d *database) open(toWrite bool) (*sql.DB, error) {
	if d.scheme == sqlite {
		return d.openSQLite(toWrite)
	}
	config := driver.NewConfig()
	config.User, config.Passwd, config.DBName = d.address.User.Username(), d.secret, strings.TrimPrefix(d.address.Path, "/")
	config.Net, config.Addr = "tcp", d.address.Host
	if d.address.Port() == "" {
		config.Addr = net.JoinHostPort(d.address.Hostname(), "3306")
	}
	if host := d.address.Query().Get("host"); strings.HasPrefix(host, "/") {
		config.Net, config.Addr = "unix", host
	}
	config.DialFunc = reach.Dialer(d.timeout).DialContext
	if !d.local() || d.ca != "" {
		secure, err := reach.Secure(d.ca)
		if err != nil {
			return nil, err
		}
		secure.ServerName = d.address.Hostname()
		config.TLS = secure
	}
	connector, err := driver.NewConnector(config)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
}

func (d *database) openSQLite(toWrite bool) (*sql.DB, error) {
	if info, err := os.Stat(d.file); err != nil || !info.Mode().IsRegular() {
		return nil, &reach.Unavailable{Message: fmt.Sprintf("there is no database %s", d.file), Remedy: "Look at the url in evenledger.yaml; the path is taken from its folder."}
	}
	options := "mode=ro&_pragma=query_only(1)&_pragma=busy_timeout(10000)"
	if toWrite {
		options = "mode=rw&_pragma=busy_timeout(10000)&_pragma=foreign_keys(1)"
	}
	at := url.URL{Scheme: "file", Opaque: (&url.URL{Path: d.file}).EscapedPath(), RawQuery: options}
	return sql.Open("sqlite", at.String())
}

// readRows reads a query's rows by the standard interface.
func (d *database) readRows(ctx context.Context, text string, args []any, to *table) error {
	db, err := d.open(false)
	if err != nil {
		return err
	}
	defer db.Close()
	if err := db.PingContext(ctx); err != nil {
		return err
	}
	if d.scheme == mysql {
		// What commits by itself, as statements about tables do, ends the transaction: the session must
		// not write either.
		db.SetMaxOpenConns(1)
		if _, err := db.ExecContext(ctx, "SET SESSION TRANSACTION READ ONLY"); err != nil {
			return &refused{err}
		}
		var session int64
		if err := db.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&session); err != nil {
			return &refused{err}
		}
		defer d.endWhenOver(ctx, session)()
	}
	tx, err := db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	rows, err := tx.QueryContext(ctx, text, args...)
	if err != nil {
		return &refused{err}
	}
	defer rows.Close()
	columns, err := rows.ColumnTypes()
	if err != nil {
		return err
	}
	names, days := make([]string, len(columns)), make([]bool, len(columns))
	for i, c := range columns {
		names[i], days[i] = c.Name(), strings.EqualFold(c.DatabaseTypeName(), "DATE")
	}
	if len(names) > 0 {
		if err := to.head(names); err != nil {
			return err
		}
	}
	values, places, cells := make([]any, len(names)), make([]any, len(names)), make([]string, len(names))
	for i := range values {
		places[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(places...); err != nil {
			return err
		}
		for i, value := range values {
			cells[i] = cellOf(value, days[i])
		}
		if err := to.row(cells); err != nil {
			return err
		}
	}
	return refusedBy(rows.Err())
}

// endWhenOver has the server end what a session is at when its time is over: who only hangs up leaves
// it running, with whatever it locks. What it returns waits for that.
func (d *database) endWhenOver(ctx context.Context, session int64) (done func()) {
	ended := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		defer close(ended)
		db, err := d.open(false)
		if err != nil {
			return // the server notices at last that nobody listens
		}
		defer db.Close()
		after, cancel := context.WithTimeout(context.WithoutCancel(ctx), hangUp)
		defer cancel()
		_, _ = db.ExecContext(after, fmt.Sprintf("KILL %d", session))
	})
	return func() {
		if !stop() {
			<-ended
		}
	}
}

// cellOf is the cell that a value comes to.
func cellOf(value any, day bool) string {
	switch v := value.(type) {
	case nil:
		return ""
	case string:
		return noDate(v)
	case []byte:
		if len(v) == 1 && v[0] < 2 { // a bit
			return strconv.Itoa(int(v[0]))
		}
		return noDate(string(v))
	case int64:
		return strconv.FormatInt(v, 10)
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case bool:
		return strconv.FormatBool(v)
	case time.Time:
		if day {
			return v.Format(time.DateOnly)
		}
		return v.Format("2006-01-02 15:04:05")
	}
	return fmt.Sprint(value)
}

// noDate is the text, but for what MySQL writes where there is no date.
func noDate(text string) string {
	if strings.HasPrefix(text, "0000-00-00") {
		return ""
	}
	return text
}
