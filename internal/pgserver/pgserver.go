// Package pgserver runs a private PostgreSQL cluster from Debian's packages,
// for the demo and the tests: in a directory of its own, on a free loopback
// port, as an unprivileged user when the caller is root. In production the
// service is given the address of a server that somebody looks after.
//
// A cluster lives as long as its [Server]. When the program is killed, the
// next Start finds what was left behind, ends it and removes it.
package pgserver

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// TestVariable is the environment variable in which the tests find the address
// of the server that they share.
const TestVariable = "ENDEIXIS_TEST_DATABASE"

// prefix names the directories of clusters below the temporary directory.
const prefix = "endeixis-postgres-"

// A Server is a running cluster.
type Server struct {
	dir      string
	lock     *os.File
	process  *exec.Cmd
	exited   chan struct{}
	password string
	port     int
}

// A NotInstalledError reports that PostgreSQL is not on this machine.
type NotInstalledError struct{}

// Error says how to install it.
func (*NotInstalledError) Error() string {
	return "PostgreSQL is not installed; on Debian: apt-get install postgresql-15"
}

// binDir finds the directory with initdb and postgres, the newest version
// first.
func binDir() (string, error) {
	dirs, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	for i := len(dirs) - 1; i >= 0; i-- {
		if _, err := os.Stat(filepath.Join(dirs[i], "initdb")); err == nil {
			return dirs[i], nil
		}
	}
	if path, err := exec.LookPath("initdb"); err == nil {
		return filepath.Dir(path), nil
	}
	return "", &NotInstalledError{}
}

// Start makes a cluster and starts it. It is ready for connections on return.
func Start(ctx context.Context) (*Server, error) {
	bin, err := binDir()
	if err != nil {
		return nil, err
	}
	sweep()
	credential, err := unprivileged()
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", prefix)
	if err != nil {
		return nil, err
	}
	s := &Server{dir: dir, exited: make(chan struct{}), password: randomHex()}
	if s.lock, err = lockFile(filepath.Join(dir, "lock")); err != nil {
		return nil, err
	}
	data, secret := filepath.Join(dir, "data"), filepath.Join(dir, "password")
	if err := os.WriteFile(secret, []byte(s.password), 0o600); err != nil {
		return nil, err
	}
	if credential != nil {
		for _, path := range []string{dir, secret} {
			if err := os.Chown(path, int(credential.Uid), int(credential.Gid)); err != nil {
				return nil, err
			}
		}
	}
	run := func(name string, args ...string) *exec.Cmd {
		cmd := exec.CommandContext(context.WithoutCancel(ctx), filepath.Join(bin, name), args...)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "TZ=UTC")
		// A group of its own keeps Ctrl-C of the terminal away from the
		// server: we stop it ourselves, after its clients.
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		if credential != nil {
			cmd.SysProcAttr.Credential = credential
		}
		return cmd
	}
	if out, err := run(
		"initdb", "--pgdata", data, "--username", "endeixis", "--pwfile", secret, "--auth", "scram-sha-256",
		"--encoding", "UTF8", "--locale", "C.UTF-8", "--no-sync",
	).CombinedOutput(); err != nil {
		s.remove()
		return nil, fmt.Errorf("initdb: %w\n%s", err, out)
	}
	// The port is free when we look and may be taken when the server does:
	// then another is tried.
	for range 5 {
		if s.port, err = freePort(); err != nil {
			s.remove()
			return nil, err
		}
		var log bytes.Buffer
		s.process = run("postgres", "-D", data, "-h", "127.0.0.1", "-p", strconv.Itoa(s.port), "-k", "",
			"-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off",
			"-c", "shared_buffers=256MB", "-c", "max_connections=300", "-c", "max_wal_size=2GB", "-c", "timezone=UTC")
		s.process.Stdout, s.process.Stderr = &log, &log
		if err = s.process.Start(); err != nil {
			s.remove()
			return nil, err
		}
		s.exited = make(chan struct{})
		go func() {
			s.process.Wait() //nolint:errcheck // its log tells more
			close(s.exited)
		}()
		if err = s.ready(ctx); err == nil {
			return s, nil
		}
		s.end()
		err = fmt.Errorf("PostgreSQL did not start: %w\n%s", err, log.String())
	}
	s.remove()
	return nil, err
}

// ready waits until the server accepts connections.
func (s *Server) ready(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	for {
		conn, err := pgx.Connect(ctx, s.URL("postgres"))
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-s.exited:
			return fmt.Errorf("it ended at once")
		case <-ctx.Done():
			return err
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// URL returns the address of one of the server's databases.
func (s *Server) URL(database string) string {
	return (&url.URL{
		Scheme: "postgres", User: url.UserPassword("endeixis", s.password),
		Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(s.port)), Path: "/" + database,
	}).String()
}

// Stop ends the server and removes its directory.
func (s *Server) Stop() {
	s.end()
	s.remove()
}

// end stops the server, waiting for it: quickly, as nothing has to be kept.
func (s *Server) end() {
	if s.process == nil || s.process.Process == nil {
		return
	}
	s.process.Process.Signal(syscall.SIGQUIT) //nolint:errcheck // it may have ended
	select {
	case <-s.exited:
	case <-time.After(10 * time.Second):
		s.process.Process.Kill() //nolint:errcheck // it may have ended by itself
		<-s.exited
	}
}

func (s *Server) remove() {
	os.RemoveAll(s.dir)
	s.lock.Close()
}

// CreateDatabase makes an empty database on the server at adminURL and returns
// its address.
func CreateDatabase(ctx context.Context, adminURL string) (string, error) {
	conn, err := pgx.Connect(ctx, adminURL)
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	name := "endeixis_" + randomHex()[:16]
	if _, err := conn.Exec(ctx, "CREATE DATABASE "+name); err != nil {
		return "", err
	}
	u, err := url.Parse(adminURL)
	if err != nil {
		return "", err
	}
	u.Path = "/" + name
	return u.String(), nil
}

// CreateRole makes a role that owns nothing, on the server of the database at
// address, and returns its name and that database's address for it.
func CreateRole(ctx context.Context, address string) (role, forIt string, err error) {
	conn, err := pgx.Connect(ctx, address)
	if err != nil {
		return "", "", err
	}
	defer conn.Close(ctx)
	role, secret := "endeixis_"+randomHex()[:16], randomHex()
	if _, err := conn.Exec(ctx, fmt.Sprintf("CREATE ROLE %s LOGIN PASSWORD '%s'", role, secret)); err != nil {
		return "", "", err
	}
	u, err := url.Parse(address)
	if err != nil {
		return "", "", err
	}
	u.User = url.UserPassword(role, secret)
	return role, u.String(), nil
}

// Refill makes the database at address a copy of the one at from, which nobody
// may be connected to. It does nothing, and returns false, when the two are on
// different servers.
func Refill(ctx context.Context, address, from string) (bool, error) {
	to, err := url.Parse(address)
	if err != nil {
		return false, err
	}
	source, err := url.Parse(from)
	if err != nil || source.Host != to.Host {
		return false, err
	}
	admin := *to
	admin.Path = "/postgres"
	conn, err := pgx.Connect(ctx, admin.String())
	if err != nil {
		return false, err
	}
	defer conn.Close(ctx)
	name := pgx.Identifier{strings.TrimPrefix(to.Path, "/")}.Sanitize()
	if _, err := conn.Exec(ctx, "DROP DATABASE "+name); err != nil {
		return false, err
	}
	_, err = conn.Exec(
		ctx, "CREATE DATABASE "+name+" TEMPLATE "+pgx.Identifier{strings.TrimPrefix(source.Path, "/")}.Sanitize(),
	)
	return err == nil, err
}

// sweep ends and removes clusters whose program is gone. A living program
// holds the lock of its directory, and the kernel lets go of it when the
// program ends, however it ends.
func sweep() {
	dirs, _ := filepath.Glob(filepath.Join(os.TempDir(), prefix+"*"))
	for _, dir := range dirs {
		info, err := os.Stat(dir)
		if err != nil || time.Since(info.ModTime()) < 5*time.Second && !exists(filepath.Join(dir, "lock")) {
			continue // being made at this moment
		}
		lock, err := lockFile(filepath.Join(dir, "lock"))
		if err != nil {
			continue
		}
		endLeftover(filepath.Join(dir, "data"))
		os.RemoveAll(dir)
		lock.Close()
	}
}

// endLeftover ends the server that runs on a data directory, if its command
// line shows that it is one.
func endLeftover(data string) {
	content, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
	if err != nil {
		return
	}
	first, _, _ := strings.Cut(string(content), "\n")
	pid, err := strconv.Atoi(strings.TrimSpace(first))
	if err != nil || pid < 2 {
		return
	}
	commandLine, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil || !bytes.Contains(commandLine, []byte(data)) {
		return
	}
	syscall.Kill(pid, syscall.SIGQUIT) //nolint:errcheck // it may have ended by itself
	for range 100 {
		if syscall.Kill(pid, 0) != nil {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	syscall.Kill(pid, syscall.SIGKILL) //nolint:errcheck // it may have ended by itself
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// lockFile takes an exclusive lock without waiting.
func lockFile(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// unprivileged returns the user to run as when the caller is root, for
// PostgreSQL refuses to run as root, or nil.
func unprivileged() (*syscall.Credential, error) {
	if runtime.GOOS == "windows" || os.Getuid() != 0 {
		return nil, nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
		gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
		if err1 == nil && err2 == nil {
			return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
		}
	}
	return nil, fmt.Errorf("running as root, and there is no user “postgres” or “nobody” to run PostgreSQL as")
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func randomHex() string {
	b := make([]byte, 16)
	rand.Read(b)
	return hex.EncodeToString(b)
}
