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
	var data, listen, pages, trouble string
	var dev, verbose bool
	cmd := &cobra.Command{
		Use:   "serve --dev",
		Short: "Serve boards to this machine",
		Long: `serve keeps boards in the directory DATA, and answers for them until it is
interrupted. With --dev there are no tokens: whoever is on this machine may do
everything, and boards come into being on first use. What is answered is on the
disk. --pages serves your own pages from the same origin, beside the boards.
--trouble makes the network as bad as you want to see your app in: each answer late
(slow=2s), some lost (cut=10%), one entry holding what no app expects
(garble=NAME).`,
		Example: "  smallpantry serve --dev --data garden-data\n  smallpantry serve --dev --trouble slow=2s,cut=10%",
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
			o := server.Options{Data: data, Dev: dev, Log: logger, Pages: pages}
			if cmd.Flags().Changed("trouble") {
				var err error
				if o.Trouble, err = server.ParseTrouble(trouble); err != nil {
					return usage("--trouble: %v", err)
				}
			}
			l, err := net.Listen("tcp", listen)
			if err != nil {
				return fmt.Errorf("listen on %s: %w", listen, err)
			}
			s, err := server.New(o)
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
	cmd.Flags().StringVar(&pages, "pages", "", "serve the pages in `DIR` too")
	cmd.Flags().StringVar(&trouble, "trouble", "", "make `TROUBLE`: slow=2s,cut=10%,garble=NAME")
	cmd.Flags().BoolVar(&verbose, "verbose", false, "log every request")
	return cmd
}
