// Package cluster runs a private PostgreSQL on loopback for one service: made on first use, started, watched, stopped.
// It needs PostgreSQL's server programs on the machine and imports nothing of ours.
package cluster

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	mathrand "math/rand/v2"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"kembrel/host"
)

// Cluster is a running private PostgreSQL.
type Cluster struct {
	URL    string // as the service, which is no superuser; with the password; only for this machine
	Admin  string // as the cluster's superuser
	folder string
	bin    string
	port   int

	password string // of the superuser
	owner    *host.User
	log      *slog.Logger
	stop     chan struct{}
	done     chan struct{}
}

const (
	account  = "kembrel"         // the superuser
	role     = "kembrel_service" // whom the service is, and to whom the tables belong, but for those of the audit
	database = "kembrel"
)

// ErrNoServer says that PostgreSQL's server programs are not installed.
var ErrNoServer = errors.New("PostgreSQL's server programs are not on this machine; install them with: apt-get install postgresql")

// errSystem says where a database of one's own is.
var errSystem = errors.New("the service runs on Linux and macOS; here are the command line and the recorder, for a service elsewhere (kembrel sign-in --url)")

// Start makes the cluster in folder if it is not there and starts it on a free port of 127.0.0.1. When root, it runs as
// the user postgres, as PostgreSQL refuses root. A server that an earlier process left running is stopped first. Should
// the server die it is started again, on the same port, until Stop.
func Start(ctx context.Context, folder string, log *slog.Logger) (*Cluster, error) {
	if runtime.GOOS == "windows" {
		return nil, errSystem
	}
	bin, err := findPrograms()
	if err != nil {
		return nil, err
	}
	c := &Cluster{folder: folder, bin: bin, log: log, stop: make(chan struct{}), done: make(chan struct{})}
	if err := c.prepareFolder(); err != nil {
		return nil, err
	}
	password, err := c.create(ctx)
	if err != nil {
		return nil, err
	}
	if err := c.endLeftover(); err != nil {
		return nil, err
	}
	if c.port, err = freePort(); err != nil {
		return nil, err
	}
	c.password = password
	service, err := c.secret(serviceSecret)
	if err != nil {
		return nil, err
	}
	c.URL, c.Admin = c.address(role, service, database), c.address(account, password, database)
	started := make(chan error, 1)
	go c.keep(started)
	if err := <-started; err != nil {
		return nil, err
	}
	if err := c.ready(ctx, service); err != nil {
		c.Stop()
		return nil, err
	}
	return c, nil
}

func (c *Cluster) address(role, password, database string) string {
	return (&url.URL{Scheme: "postgres", User: url.UserPassword(role, password),
		Host: "127.0.0.1:" + strconv.Itoa(c.port), Path: database}).String()
}

// Running is the URL of the private database in folder while another process of this machine runs it; "": none does.
func Running(folder string) (string, error) {
	c := &Cluster{folder: folder}
	content, err := os.ReadFile(filepath.Join(c.data(), "postmaster.pid"))
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", fmt.Errorf("private database: %w", err)
	}
	lines := strings.Split(string(content), "\n") // process, folder, time, port, ...
	if len(lines) < 4 {
		return "", nil
	}
	pid, err := strconv.Atoi(strings.TrimSpace(lines[0]))
	if err != nil || pid < 2 || host.Began(pid) == "" {
		return "", nil
	}
	if c.port, err = strconv.Atoi(strings.TrimSpace(lines[3])); err != nil {
		return "", nil
	}
	password, err := os.ReadFile(filepath.Join(folder, serviceSecret))
	if err != nil {
		return "", fmt.Errorf("password of the private database: %w", err)
	}
	return c.address(role, strings.TrimSpace(string(password)), database), nil
}

// The files of the passwords, readable by their owner only.
const (
	adminSecret   = "password"
	serviceSecret = "service-password"
)

// secret reads a password, and makes it on first use.
func (c *Cluster) secret(name string) (string, error) {
	path := filepath.Join(c.folder, name)
	content, err := os.ReadFile(path)
	if err == nil {
		return strings.TrimSpace(string(content)), nil
	}
	if !errors.Is(err, os.ErrNotExist) {
		return "", fmt.Errorf("password of the private database: %w", err)
	}
	password := rand.Text()
	if err := os.WriteFile(path, []byte(password+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("password of the private database: %w", err)
	}
	if c.owner != nil {
		if err := os.Chown(path, c.owner.UID, c.owner.GID); err != nil {
			return "", err
		}
	}
	return password, nil
}

// Programs is the folder of PostgreSQL's programs.
func Programs() (string, error) { return findPrograms() }

// findPrograms returns the folder of the newest initdb and postgres.
func findPrograms() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	sort.Slice(found, func(i, j int) bool { return version(found[i]) < version(found[j]) })
	if n := len(found); n > 0 {
		return filepath.Dir(found[n-1]), nil
	}
	if path, err := exec.LookPath("initdb"); err == nil {
		return filepath.Dir(path), nil
	}
	return "", ErrNoServer
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

func (c *Cluster) prepareFolder() error {
	if err := os.MkdirAll(c.folder, 0o700); err != nil {
		return fmt.Errorf("folder of the database: %w", err)
	}
	if os.Geteuid() != 0 {
		return nil
	}
	owner, known := host.OwnerOf(c.data())
	if !known || owner.UID == 0 { // root goes on with a database as the user who made it
		u, err := user.Lookup("postgres")
		if err != nil {
			return fmt.Errorf("PostgreSQL refuses to run as root and there is no user postgres: %w", err)
		}
		owner.UID, _ = strconv.Atoi(u.Uid)
		owner.GID, _ = strconv.Atoi(u.Gid)
	}
	c.owner = &owner
	if err := os.Chown(c.folder, owner.UID, owner.GID); err != nil {
		return fmt.Errorf("folder of the database: %w", err)
	}
	check := exec.Command("test", "-w", c.folder)
	host.As(check, owner)
	check.Dir = "/"
	if check.Run() != nil {
		return fmt.Errorf("the user with number %d, as whom PostgreSQL runs, cannot reach %s; choose a data folder "+
			"outside private folders (--data), such as /var/lib/kembrel", owner.UID, c.folder)
	}
	return nil
}

func (c *Cluster) command(ctx context.Context, program string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, filepath.Join(c.bin, program), args...)
	cmd.Dir = c.folder
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "TZ=UTC")
	host.OwnGroup(cmd)
	if c.owner != nil {
		host.As(cmd, *c.owner)
	}
	return cmd
}

func (c *Cluster) data() string { return filepath.Join(c.folder, "data") }

// create makes the cluster, whole or not at all, and returns its password.
func (c *Cluster) create(ctx context.Context) (string, error) {
	if _, err := os.Stat(filepath.Join(c.data(), "PG_VERSION")); err == nil {
		if _, err := os.Stat(filepath.Join(c.folder, adminSecret)); err != nil {
			return "", fmt.Errorf("password of the private database: %w", err)
		}
		return c.secret(adminSecret)
	}
	password, err := c.secret(adminSecret)
	if err != nil {
		return "", err
	}
	making := c.data() + ".making"
	os.RemoveAll(making)
	out, err := c.command(ctx, "initdb", "--pgdata", making, "--username", account, "--pwfile",
		filepath.Join(c.folder, adminSecret),
		"--auth", "scram-sha-256", "--encoding", "UTF8", "--locale", "C.UTF-8", "--data-checksums").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("make the private database: %w: %s", err, lastLine(out))
	}
	return password, os.Rename(making, c.data())
}

func lastLine(out []byte) string {
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	for i, l := range lines {
		if strings.Contains(l, "error") || strings.Contains(l, "FATAL") {
			return strings.Join(lines[i:], " ")
		}
	}
	return lines[len(lines)-1]
}

// endLeftover stops a server that an earlier process of ours left behind.
func (c *Cluster) endLeftover() error {
	content, err := os.ReadFile(filepath.Join(c.data(), "postmaster.pid"))
	if err != nil {
		return nil
	}
	line, _, _ := strings.Cut(string(content), "\n")
	pid, err := strconv.Atoi(strings.TrimSpace(line))
	if err != nil || pid <= 1 {
		return nil
	}
	exe, _ := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid))
	if filepath.Base(exe) != "postgres" {
		return nil
	}
	if left, err := os.FindProcess(pid); err == nil {
		left.Signal(syscall.SIGINT)
	}
	for range 200 {
		if host.Began(pid) == "" {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("a PostgreSQL server (process %d) still runs on %s; is another kembrel using this data folder?",
		pid, c.data())
}

// freePort finds a port below those that the system gives to outgoing connections, so that it is still free when the
// server has to be started again.
func freePort() (int, error) {
	for try := 0; ; try++ {
		l, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(20_000+mathrand.IntN(10_000)))
		if err != nil && try < 100 {
			continue
		}
		if err != nil {
			return 0, fmt.Errorf("find a port for the private database: %w", err)
		}
		defer l.Close()
		return l.Addr().(*net.TCPAddr).Port, nil
	}
}

// keep runs the server until Stop. Its goroutine keeps its thread, as the kernel ties the parent's death to the thread.
func (c *Cluster) keep(started chan<- error) {
	runtime.LockOSThread()
	defer close(c.done)
	for first := true; ; first = false {
		cmd := c.command(context.Background(), "postgres", "-D", c.data(), "-p", strconv.Itoa(c.port),
			"-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=", "-c", "max_connections=100",
			"-c", "shared_buffers=256MB", "-c", "max_wal_size=2GB", "-c", "wal_compression=on", "-c", "jit=off")
		host.EndWithUs(cmd)
		logFile, err := os.OpenFile(filepath.Join(c.folder, "log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
		if err == nil {
			if info, _ := logFile.Stat(); info != nil && info.Size() > 16<<20 {
				logFile.Truncate(0)
			}
			cmd.Stdout, cmd.Stderr = io.Writer(logFile), io.Writer(logFile)
			err = cmd.Start()
			logFile.Close()
		}
		if first {
			if err != nil {
				err = fmt.Errorf("start PostgreSQL: %w", err)
			}
			started <- err
			if err != nil {
				return
			}
		}
		exited := make(chan error, 1)
		if err == nil {
			go func() { exited <- cmd.Wait() }()
		} else {
			exited <- err
		}
		select {
		case <-c.stop:
			if cmd.Process != nil {
				cmd.Process.Signal(syscall.SIGINT)
				select {
				case <-exited:
				case <-time.After(20 * time.Second):
					cmd.Process.Signal(syscall.SIGQUIT)
					<-exited
				}
			}
			return
		case err := <-exited:
			c.log.Warn("private PostgreSQL ended; starting it again", "err", err)
			select {
			case <-c.stop:
				return
			case <-time.After(500 * time.Millisecond):
			}
		}
	}
}

// ready waits until the database answers, and makes it and the service's role if they are new.
func (c *Cluster) ready(ctx context.Context, service string) error {
	deadline := time.Now().Add(60 * time.Second)
	for {
		err := c.makeDatabase(ctx, service)
		if err == nil {
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("PostgreSQL does not answer; its log is %s: %w", filepath.Join(c.folder, "log"), err)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

func (c *Cluster) makeDatabase(ctx context.Context, service string) error {
	admin, err := pgx.Connect(ctx, c.address(account, c.password, "postgres"))
	if err != nil {
		return err
	}
	defer admin.Close(context.WithoutCancel(ctx))
	var known, there bool
	err = admin.QueryRow(ctx, "select exists (select from pg_roles where rolname = $1), exists (select from pg_database where datname = $2)", role, database).Scan(&known, &there)
	if err != nil {
		return err
	}
	command := "create"
	if known {
		command = "alter"
	}
	// The password is made of letters and digits, so it needs no quoting; the statement takes no parameters.
	if _, err := admin.Exec(ctx, fmt.Sprintf("%s role %s with login nosuperuser nocreatedb nocreaterole password '%s'",
		command, role, service)); err != nil {
		return err
	}
	if !there {
		if _, err = admin.Exec(ctx, "create database "+database); err != nil {
			return err
		}
	}
	conn, err := pgx.Connect(ctx, c.Admin)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	_, err = conn.Exec(ctx, handOver)
	return err
}

// handOver gives the service's role what the superuser owns in the database, but not the database and its first schema,
// whose owner can take away anything in them: the superuser takes the events again when the tables are of this version.
const handOver = `do $$
declare one record;
begin
	execute format('alter database %I owner to current_user', current_database());
	execute format('grant create, connect, temporary on database %I to ` + role + `', current_database());
	alter schema public owner to current_user;
	grant usage, create on schema public to ` + role + `;
	for one in select nspname from pg_namespace where nspname !~ '^(pg_|information_schema)' and nspname <> 'public' and nspowner <> '` + role + `'::regrole loop
		execute format('alter schema %I owner to ` + role + `', one.nspname);
	end loop;
	for one in select n.nspname, c.relname from pg_class c join pg_namespace n on n.oid = c.relnamespace
			where n.nspname !~ '^(pg_|information_schema)' and c.relkind in ('r', 'p', 'v', 'm', 'S') and c.relowner <> '` + role + `'::regrole
			and not exists (select from pg_depend d where d.objid = c.oid and d.deptype in ('a', 'i') and c.relkind = 'S') loop
		execute format('alter table %I.%I owner to ` + role + `', one.nspname, one.relname);
	end loop;
	for one in select n.nspname, t.typname from pg_type t join pg_namespace n on n.oid = t.typnamespace
			where n.nspname !~ '^(pg_|information_schema)' and t.typtype in ('e', 'd') and t.typowner <> '` + role + `'::regrole loop
		execute format('alter type %I.%I owner to ` + role + `', one.nspname, one.typname);
	end loop;
	for one in select p.oid::regprocedure::text as name from pg_proc p join pg_namespace n on n.oid = p.pronamespace
			where n.nspname !~ '^(pg_|information_schema)' and p.proowner <> '` + role + `'::regrole loop
		execute format('alter function %s owner to ` + role + `', one.name);
	end loop;
end $$`

// Stop ends the server and returns when it has ended.
func (c *Cluster) Stop() {
	close(c.stop)
	<-c.done
}
