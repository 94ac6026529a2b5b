package demo

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/signal"
	"syscall"
	"time"
)

// FunctionCommand is the command under which the program serves one of the
// demo's functions.
const FunctionCommand = "demo-function"

// Serve serves a function of the demo on the port in PORT, until SIGTERM.
func Serve(name string) error {
	build := map[string]func() http.Handler{"quote": newQuote, "boarding": newBoarding, "manifest": newManifest,
		"position": newPosition, "tides": newTides, "berths": newBerths}[name]
	if build == nil {
		return fmt.Errorf("the demo has no function %q", name)
	}
	handler := build() // the initial work comes before the port is opened
	l, err := net.Listen("tcp", "127.0.0.1:"+os.Getenv("PORT"))
	if err != nil {
		return err
	}
	fmt.Printf("%s listens on %s\n", name, l.Addr())
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, os.Interrupt)
	defer stop()
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}
	go func() {
		<-ctx.Done()
		end, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		_ = server.Shutdown(end) // what is open then is cut off
	}()
	if err := server.Serve(l); err != http.ErrServerClosed {
		return err
	}
	return nil
}
