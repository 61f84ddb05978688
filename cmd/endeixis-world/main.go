// Command endeixis-world stands in, on this machine, for what lies outside: the
// mirrors from which manifests can be had, key directories, and gauges. It is for the demo and for trying
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

	"endeixis/internal/version"
	"endeixis/internal/world"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:0", "where to listen; loopback only")
	mirrors := flag.String("mirrors", "", "directory with a folder for each mirror")
	keys := flag.String("directories", "", "directory with a folder of key files for each key directory")
	gauges := flag.String("gauges", "", "directory with a folder for each gauge; empty for none")
	flag.Parse()
	if flag.Arg(0) == "version" {
		fmt.Println("endeixis-world", version.Full())
		return
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	err := run(ctx, *listen, *mirrors, *keys, *gauges)
	stop()
	if err != nil {
		fmt.Fprintln(os.Stderr, "endeixis-world:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, listen, mirrors, keys, gauges string) error {
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
	if gauges != "" {
		if err := serveGauges(ctx, gauges); err != nil {
			return err
		}
	}
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

// serveGauges has each gauge listen on loopback, and says where.
func serveGauges(ctx context.Context, dir string) error {
	all, err := world.ReadGauges(dir)
	if err != nil {
		return err
	}
	for _, g := range all {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		go g.Serve(ctx, listener)
		fmt.Printf("%s is at %s\n", g.Name, listener.Addr())
	}
	return nil
}
