package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/serving"
	"github.com/small-pantry/pantry/server"
)

func (a *app) serve() *cobra.Command {
	var flags serving.Flags
	var data, trouble string
	var o server.Options
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Serve boards to phones, pages and other machines",
		Long: `serve keeps boards in the directory DATA and serves them until it is interrupted.
Each write is on disk before it is acknowledged. A board is reached by a link, which
contains a token. --board creates a board and prints its owner's link; board invite
makes links for others; the token in DATA/admin-token owns every board. --pages also
serves your own pages, and the owner's link then opens them.

With --dev there are no tokens: everybody on this machine can do everything, and a
board is created at its first use. --trouble makes the network unreliable, to test an app: each answer is late
(slow=2s), some are lost (cut=10%), or one entry holds a value of another kind
(garble=NAME).`,
		Example: `  smallpantry serve --board rowan-street
  smallpantry serve --board rowan-street --listen :8437
  smallpantry serve --listen :443 --public https://pantry.example --cert cert.pem --key key.pem
  smallpantry serve --dev --trouble slow=2s,cut=10%`,
		Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if cmd.Flags().Changed("trouble") {
				var err error
				if o.Trouble, err = server.ParseTrouble(trouble); err != nil {
					return usage("--trouble: %v", err)
				}
			}
			if !o.Dev && cmd.Flags().Changed("trouble") {
				return usage("--trouble needs --dev")
			}
			if err := flags.Check(); err != nil {
				return usageError{err}
			}
			return a.runServer(cmd.Context(), &flags, data, o)
		},
	}
	flags.Add(cmd.Flags())
	cmd.Flags().StringVar(&data, "data", "pantry-data", "keep the boards in `DIR`")
	cmd.Flags().BoolVar(&o.Dev, "dev", false, "development mode: no tokens, this machine only")
	cmd.Flags().StringVar(&o.Pages, "pages", "", "also serve the pages in `DIR`")
	cmd.Flags().StringVar(&trouble, "trouble", "", "make `TROUBLE`: slow=2s,cut=10%,garble=NAME; with --dev")
	return cmd
}

// runServer serves the boards in data until ctx ends. flags were checked.
func (a *app) runServer(ctx context.Context, flags *serving.Flags, data string, o server.Options) error {
	l, public, err := flags.Open()
	if err != nil {
		return err
	}
	abs, err := filepath.Abs(data)
	if err != nil {
		abs = data
	}
	o.Data, o.Public, o.Log = abs, public, flags.Logger(a.stderr)
	o.Limits, _ = flags.Limits()
	o.BehindProxy = flags.Proxies
	s, err := server.New(o)
	if err != nil {
		return errors.Join(err, l.Close())
	}
	where := "boards are stored in " + abs
	if o.Dev {
		where = fmt.Sprintf("%s; open them in a browser: http://%s/\ntry: smallpantry put http://%[2]s/boards/rowan-street tank/litres 420", where, l.Addr())
	}
	err = flags.Run(ctx, s, l, serving.Words{Out: a.stdout, Colour: a.out().Colour(), Where: where, Public: public, Pages: hasIndex(o.Pages)})
	if errors.Is(err, server.ErrNotLoopback) {
		err = usageError{err}
	}
	return errors.Join(err, s.Close())
}

// hasIndex reports whether a directory of pages has an index.html.
func hasIndex(dir string) bool {
	if dir == "" {
		return false
	}
	info, err := os.Stat(filepath.Join(dir, "index.html"))
	return err == nil && info.Mode().IsRegular()
}
