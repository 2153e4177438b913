package main

import (
	"errors"
	"fmt"
	"log/slog"
	"net"
	"path/filepath"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/server"
)

func (a *app) serve() *cobra.Command {
	var data, listen string
	var dev, verbose bool
	cmd := &cobra.Command{
		Use:   "serve --dev",
		Short: "Serve boards to this machine",
		Long: `serve keeps boards in the directory DATA, and answers for them until it is
interrupted. With --dev there are no tokens: whoever is on this machine may do
everything, and boards come into being on first use. What is answered is on the
disk.`,
		Example: "  smallpantry serve --dev --data garden-data",
		Args:    exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			level := slog.LevelInfo
			if verbose {
				level = slog.LevelDebug
			}
			logger := slog.New(slog.NewTextHandler(a.stderr, &slog.HandlerOptions{Level: level}))
			if !dev {
				return usageError{fmt.Errorf("%w; add --dev", server.ErrNoTokens)}
			}
			l, err := net.Listen("tcp", listen)
			if err != nil {
				return fmt.Errorf("listen on %s: %w", listen, err)
			}
			s, err := server.New(server.Options{Data: data, Dev: dev, Log: logger})
			if err != nil {
				return errors.Join(err, l.Close())
			}
			abs, err := filepath.Abs(data)
			if err != nil {
				abs = data
			}
			err = s.Check(l)
			if err == nil {
				fmt.Fprintf(a.stdout, "serving on http://%s\n", l.Addr())
				fmt.Fprintf(a.stdout, "boards lie in %s; try: smallpantry put http://%s/boards/rowan-street tank/litres 420\n", abs, l.Addr())
			}
			if err = s.Serve(cmd.Context(), l); errors.Is(err, server.ErrNotLoopback) {
				err = usageError{err}
			}
			return errors.Join(err, s.Close())
		},
	}
	cmd.Flags().StringVar(&data, "data", "pantry-data", "keep the boards in `DIR`")
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:8437", "answer at `HOST:PORT`; port 0 takes any that is free")
	cmd.Flags().BoolVar(&dev, "dev", false, "development mode: no tokens, this machine only")
	cmd.Flags().BoolVar(&verbose, "verbose", false, "log every request")
	return cmd
}
