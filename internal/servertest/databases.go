//go:build linux

package servertest

import (
	"database/sql"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver
	_ "github.com/jackc/pgx/v5/stdlib" // the driver
	"github.com/stretchr/testify/require"
)

// A DatabaseServer is one that a test started.
type DatabaseServer struct {
	Driver  string // as dialects call it: mysql or postgresql
	Port    string // on 127.0.0.1
	Socket  string // on which it listens as well, of MariaDB
	Admin   *sql.DB
	Stop    func()
	connect func(user, password, database string) string
}

// The accounts that every server has: one that may do all in its databases, and one that may only SELECT.
const (
	Owner, OwnerPassword   = "keeper", "marked-password-of-keeper"
	Reader, ReaderPassword = "looker", "marked-password-of-looker"
)

// Open connects as somebody.
func (s *DatabaseServer) Open(t *testing.T, user, password, database string) *sql.DB {
	t.Helper()
	db, err := sql.Open(map[string]string{"mysql": "mysql", "postgresql": "pgx"}[s.Driver], s.connect(user, password, database))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return db
}

// Database makes an empty database with the two accounts, and gives it opened by the owner.
func (s *DatabaseServer) Database(t *testing.T, name string) *sql.DB {
	t.Helper()
	statements := map[string][]string{
		"mysql": {"CREATE DATABASE " + name + " CHARACTER SET utf8mb4",
			fmt.Sprintf("CREATE USER IF NOT EXISTS '%s'@'%%' IDENTIFIED BY '%s'", Owner, OwnerPassword),
			fmt.Sprintf("CREATE USER IF NOT EXISTS '%s'@'%%' IDENTIFIED BY '%s'", Reader, ReaderPassword),
			fmt.Sprintf("GRANT ALL ON %s.* TO '%s'@'%%'", name, Owner), fmt.Sprintf("GRANT SELECT ON %s.* TO '%s'@'%%'", name, Reader)},
		"postgresql": {
			fmt.Sprintf("DO $$ BEGIN CREATE USER %s PASSWORD '%s'; CREATE USER %s PASSWORD '%s'; EXCEPTION WHEN duplicate_object THEN NULL; END $$", Owner, OwnerPassword, Reader, ReaderPassword),
			fmt.Sprintf("CREATE DATABASE %s OWNER %s", name, Owner)},
	}[s.Driver]
	for _, statement := range statements {
		_, err := s.Admin.Exec(statement)
		require.NoError(t, err, statement)
	}
	db := s.Open(t, Owner, OwnerPassword, name)
	if s.Driver == "postgresql" {
		for _, statement := range []string{"ALTER DEFAULT PRIVILEGES GRANT SELECT ON TABLES TO " + Reader} {
			_, err := db.Exec(statement)
			require.NoError(t, err, statement)
		}
	}
	return db
}

// Databases starts MariaDB and PostgreSQL, those that are installed, each in a private folder.
func Databases(t *testing.T) []*DatabaseServer {
	t.Helper()
	var servers []*DatabaseServer
	if _, err := exec.LookPath("mariadbd"); err == nil {
		servers = append(servers, mariaDB(t))
	}
	if bin := postgresFolder(); bin != "" {
		servers = append(servers, postgreSQL(t, bin))
	}
	if len(servers) == 0 {
		t.Skip("neither MariaDB nor PostgreSQL is installed; scripts/test installs them")
	}
	return servers
}

// privateFolder is a short-named folder that belongs to the account a server runs as: the servers refuse to run
// as root, and the names of sockets are bounded.
func privateFolder(t *testing.T, account string) (string, *syscall.SysProcAttr) {
	t.Helper()
	dir, err := os.MkdirTemp("", "wt-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if os.Getuid() != 0 {
		return dir, &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	}
	u, err := user.Lookup(account)
	require.NoError(t, err)
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	require.NoError(t, os.Chown(dir, uid, gid))
	return dir, &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
}

func run(t *testing.T, as *syscall.SysProcAttr, dir, name string, args ...string) {
	t.Helper()
	command := exec.Command(name, args...)
	command.SysProcAttr, command.Dir = as, dir
	out, err := command.CombinedOutput()
	require.NoError(t, err, "%s: %s", name, out)
}

func start(t *testing.T, as *syscall.SysProcAttr, dir string, admin func() *sql.DB, name string, args ...string) (*sql.DB, func()) {
	t.Helper()
	command := exec.Command(name, args...)
	command.SysProcAttr, command.Dir = as, dir
	require.NoError(t, command.Start())
	stopped := false
	stop := func() {
		if !stopped {
			stopped = true
			_ = command.Process.Kill()
			_ = command.Wait()
		}
	}
	t.Cleanup(stop)
	var db *sql.DB
	require.Eventually(t, func() bool {
		db = admin()
		if db.Ping() == nil {
			return true
		}
		db.Close()
		return false
	}, 60*time.Second, 100*time.Millisecond, "%s does not answer", name)
	t.Cleanup(func() { db.Close() })
	return db, stop
}

// MariaDB starts that one, in a private folder.
func MariaDB(t *testing.T) *DatabaseServer {
	t.Helper()
	Program(t, "mariadbd")
	return mariaDB(t)
}

func mariaDB(t *testing.T) *DatabaseServer {
	t.Helper()
	dir, as := privateFolder(t, "mysql")
	_, port, err := net.SplitHostPort(FreeAddress(t))
	require.NoError(t, err)
	data, socket := filepath.Join(dir, "data"), filepath.Join(dir, "s")
	run(t, as, dir, "mariadb-install-db", "--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db", "--datadir="+data)
	s := &DatabaseServer{Driver: "mysql", Port: port, Socket: socket, connect: func(user, password, database string) string {
		return fmt.Sprintf("%s:%s@tcp(127.0.0.1:%s)/%s", user, password, port, database)
	}}
	s.Admin, s.Stop = start(t, as, dir, func() *sql.DB {
		db, err := sql.Open("mysql", "root@unix("+socket+")/")
		require.NoError(t, err)
		return db
	}, "mariadbd", "--no-defaults", "--datadir="+data, "--socket="+socket, "--bind-address=127.0.0.1", "--port="+port,
		"--skip-log-bin", "--innodb-flush-log-at-trx-commit=0", "--innodb-buffer-pool-size=32M", "--performance-schema=off", "--skip-name-resolve")
	return s
}

// postgresFolder is where Debian keeps the programs of PostgreSQL.
func postgresFolder() string {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return ""
	}
	return filepath.Dir(found[len(found)-1])
}

func postgreSQL(t *testing.T, bin string) *DatabaseServer {
	t.Helper()
	dir, as := privateFolder(t, "postgres")
	_, port, err := net.SplitHostPort(FreeAddress(t))
	require.NoError(t, err)
	data := filepath.Join(dir, "data")
	run(t, as, dir, filepath.Join(bin, "initdb"), "-D", data, "-U", "admin", "--auth-local=trust", "--auth-host=md5", "-E", "UTF8", "--locale=C", "-N")
	s := &DatabaseServer{Driver: "postgresql", Port: port, connect: func(user, password, database string) string {
		return fmt.Sprintf("host=127.0.0.1 port=%s user=%s password=%s dbname=%s sslmode=disable default_query_exec_mode=simple_protocol", port, user, password, database)
	}}
	s.Admin, s.Stop = start(t, as, dir, func() *sql.DB {
		db, err := sql.Open("pgx", strings.Join([]string{"host=" + dir, "port=" + port, "user=admin", "dbname=postgres", "sslmode=disable"}, " "))
		require.NoError(t, err)
		return db
	}, filepath.Join(bin, "postgres"), "-D", data, "-p", port, "-k", dir, "-c", "listen_addresses=127.0.0.1", "-c", "password_encryption=md5", "-c", "fsync=off", "-c", "shared_buffers=16MB")
	return s
}
