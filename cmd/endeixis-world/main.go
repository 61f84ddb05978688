// Command endeixis-world stands in, on this machine, for what lies outside: the
// mirrors from which manifests can be had, and key directories. It is for the demo and for trying
// things out; it holds nothing real.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/signal"
	"syscall"
	"time"

	"endeixis/internal/world"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:0", "where to listen; loopback only")
	mirrors := flag.String("mirrors", "", "directory with a folder for each mirror")
	keys := flag.String("directories", "", "directory with a folder of key files for each key directory")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	err := run(ctx, *listen, *mirrors, *keys)
	stop()
	if err != nil {
		fmt.Fprintln(os.Stderr, "endeixis-world:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, listen, mirrors, keys string) error {
	host, _, err := net.SplitHostPort(listen)
	if err != nil || !net.ParseIP(host).IsLoopback() {
		return fmt.Errorf("%q is not a loopback address with a port, such as 127.0.0.1:7480", listen)
	}
	root, err := os.OpenRoot(mirrors)
	if err != nil {
		return err
	}
	defer root.Close()
	rings, err := os.OpenRoot(keys)
	if err != nil {
		return err
	}
	defer rings.Close()
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		return err
	}
	server := &http.Server{Handler: world.Handler(root.FS(), rings.FS()), ReadHeaderTimeout: 5 * time.Second}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(listener) }()
	fmt.Printf("The world is at http://%s\n", listener.Addr())
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	if err := server.Close(); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
