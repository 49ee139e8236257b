package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
)

// connectTime bounds the making of a connection.
const connectTime = 5 * time.Second

// openServer connects to MariaDB, MySQL or PostgreSQL, and begins a transaction that cannot write.
func (s *Installation) openServer(ctx context.Context, spec dialect.Database) (*database, error) {
	db, err := s.connect(spec)
	if err != nil {
		return nil, err
	}
	// One transaction for everything, so that all rows are of one moment. The drivers bound how long connecting takes.
	tx, err := db.pool.BeginTx(context.WithoutCancel(ctx), &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		db.close()
		return nil, explain(err)
	}
	db.conn, db.done = tx, func() { _ = tx.Rollback() }
	if spec.Driver == dialect.MySQL {
		boundMySQL(ctx, tx)
	}
	return db, nil
}

// boundMySQL has the server itself end what takes too long, since it would go on after a connection is closed: MariaDB
// counts seconds, MySQL milliseconds.
func boundMySQL(ctx context.Context, conn querier) {
	if _, err := conn.ExecContext(ctx, fmt.Sprintf("SET SESSION max_statement_time = %d", int(askedTime.Seconds()))); err != nil {
		_, _ = conn.ExecContext(ctx, fmt.Sprintf("SET SESSION max_execution_time = %d", askedTime.Milliseconds()))
	}
}

// connect makes a pool of one connection, once the host is one that may be connected to.
func (s *Installation) connect(spec dialect.Database) (*database, error) {
	network, address, err := s.address(spec)
	if err != nil {
		return nil, err
	}
	if s.Offline {
		return nil, facts.Refusal("it is on a server, and --offline lets nothing connect")
	}
	host, _, _ := net.SplitHostPort(address)
	if network == "unix" {
		host = "this host"
	}
	db := &database{name: fmt.Sprintf("%s on %s", spec.Name, host), driver: spec.Driver, check: func() error { return nil }}
	switch spec.Driver {
	case dialect.MySQL:
		db.pool, err = openMySQL(spec, network, address)
	case dialect.PostgreSQL:
		db.pool, err = openPostgreSQL(spec, network, address)
	}
	if err != nil {
		return nil, errors.New("what the configuration says of the database makes no sense to its driver")
	}
	db.pool.SetMaxOpenConns(1)
	db.begin = func(ctx context.Context) (*sql.Tx, error) { return db.pool.BeginTx(ctx, nil) }
	return db, nil
}

// address works out where the server is, and refuses what is neither this host nor one that the site file names.
func (s *Installation) address(spec dialect.Database) (network, address string, err error) {
	host, port := spec.Host, spec.Port
	if h, p, err := net.SplitHostPort(host); err == nil {
		host, port = h, p
		if strings.HasPrefix(p, "/") { // localhost:/run/mysqld/mysqld.sock
			host, port = p, ""
		}
	}
	host = strings.Trim(host, "[]")
	socket := spec.Socket
	if strings.HasPrefix(host, "/") {
		socket = host
	}
	if port == "" {
		port = map[string]string{dialect.MySQL: "3306", dialect.PostgreSQL: "5432"}[spec.Driver]
	}
	if n, err := strconv.Atoi(port); err != nil || n < 1 || n > 65535 {
		return "", "", errors.New("the configuration gives it no port that exists")
	}
	if socket == "" && (host == "" || host == "localhost") && spec.Port == "" {
		socket = usualSocket(spec.Driver)
	}
	if socket != "" {
		if stat, err := os.Stat(socket); err == nil && stat.IsDir() && spec.Driver == dialect.PostgreSQL {
			socket = fmt.Sprintf("%s/.s.PGSQL.%s", strings.TrimRight(socket, "/"), port)
		}
		return "unix", socket, nil
	}
	if host == "" {
		host = "127.0.0.1"
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) && !slices.Contains(s.Hosts, host) {
		return "", "", facts.Refusal(fmt.Sprintf("it is on the host %s; say hosts: [%s] under sources.settings if it may be connected to", host, host))
	}
	return "tcp", net.JoinHostPort(host, port), nil
}

// usualSocket is where Debian and others have a server listen, if one does.
func usualSocket(driver string) string {
	for _, socket := range map[string][]string{
		dialect.MySQL:      {"/run/mysqld/mysqld.sock", "/var/lib/mysql/mysql.sock", "/tmp/mysql.sock"},
		dialect.PostgreSQL: {"/run/postgresql/.s.PGSQL.5432", "/tmp/.s.PGSQL.5432"},
	}[driver] {
		if _, err := os.Stat(socket); err == nil {
			return socket
		}
	}
	return ""
}

func openMySQL(spec dialect.Database, network, address string) (*sql.DB, error) {
	c := mysql.NewConfig()
	c.Net, c.Addr, c.DBName, c.User, c.Passwd = network, address, spec.Name, spec.User, spec.Password
	c.Timeout, c.ReadTimeout, c.WriteTimeout = connectTime, queryTime, queryTime
	c.Logger = &mysql.NopLogger{}
	if network == "tcp" {
		c.TLSConfig = "preferred"
	}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
}

func openPostgreSQL(spec dialect.Database, network, address string) (*sql.DB, error) {
	quote := func(text string) string { return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(text) + "'" }
	host, port, _ := net.SplitHostPort(address)
	if network == "unix" {
		folder, name, _ := strings.Cut(address, "/.s.PGSQL.")
		host, port = folder, name
		if port == "" {
			port = "5432"
		}
	}
	// Everything is said, so that nothing is taken from the environment of whoever runs this.
	c, err := pgx.ParseConfig(fmt.Sprintf("host=%s port=%s dbname=%s user=%s password=%s sslmode=prefer connect_timeout=%d passfile=/dev/null application_name=weltaxis",
		quote(host), quote(port), quote(spec.Name), quote(spec.User), quote(spec.Password), int(connectTime.Seconds())))
	if err != nil {
		return nil, err
	}
	c.RuntimeParams["statement_timeout"] = strconv.FormatInt(askedTime.Milliseconds(), 10)
	// Values are exchanged as text, whatever the types of the columns are.
	c.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	return stdlib.OpenDB(*c), nil
}
