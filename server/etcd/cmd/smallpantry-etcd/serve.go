package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/serving"
	"github.com/small-pantry/pantry/internal/cli/term"
	"github.com/small-pantry/pantry/internal/engine"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/store"
	"github.com/small-pantry/pantry/server"
	"github.com/small-pantry/pantry/server/etcd"
)

// serveOptions are how a server among several runs.
type serveOptions struct {
	data, peer, peerCA string
	replaceAdmin       bool
}

func (a *app) serve() *cobra.Command {
	var flags serving.Flags
	var o serveOptions
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Serve boards, beside other servers",
		Long: `serve answers for the boards in etcd until it is interrupted, beside any number of
other servers that do the same. What is answered lies on most of etcd's nodes.

Each server needs the same admin token: the first one draws it, into DIR/admin-token;
copy that file to the others before they start. Each is reached by the others at --peer,
since a board is written to by one of them as long as that one answers.`,
		Example: `  smallpantry-etcd serve --endpoints 10.0.0.1:2379,10.0.0.2:2379,10.0.0.3:2379 \
      --listen 10.0.0.1:8437 --public https://pantry.example --board rowan-street`,
		Args: exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error { return a.runServer(cmd.Context(), &flags, o) },
	}
	a.flags.add(cmd.Flags())
	flags.Add(cmd.Flags())
	cmd.Flags().StringVar(&o.data, "data", "pantry-etcd", "keep the admin token in `DIR`")
	cmd.Flags().StringVar(&o.peer, "peer", "", "how the other servers reach this one, `http(s)://HOST:PORT`; else at its --listen address")
	cmd.Flags().StringVar(&o.peerCA, "peer-ca", "", "the other servers' certificates are signed by the authority in `FILE`")
	cmd.Flags().BoolVar(&o.replaceAdmin, "replace-admin", false, "have the token in DIR/admin-token be the admin's from now on, in place of another")
	return cmd
}

func (a *app) runServer(ctx context.Context, flags *serving.Flags, o serveOptions) (err error) {
	if err := flags.Check(); err != nil {
		return err
	}
	peerOptions, err1 := o.peers()
	so, err2 := a.flags.options()
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	data, err := filepath.Abs(o.data)
	if err == nil {
		err = journal.MakeDir(journal.OS, data)
	}
	if err != nil {
		return err
	}
	l, public, err := flags.Open()
	if err != nil {
		return err
	}
	// The server that uses it closes it; here it is closed only if none starts.
	serves := false
	defer func() {
		if !serves {
			err = errors.Join(err, l.Close())
		}
	}()
	if peerOptions.Address == "" {
		if peerOptions.Address, err = addressOf(l, flags.Cert != ""); err != nil {
			return err
		}
	}
	log := flags.Logger(a.stderr)
	limits, err := flags.Limits()
	if err != nil {
		return err
	}
	var st *etcd.Store
	s, err := engine.Serve[*server.Server](server.Options{Data: data, Public: public, Limits: limits, Log: log, BehindProxy: flags.Proxies}, func(boards int, problem func(string, error)) (store.Store, error) {
		so.Boards, so.Problem = boards, problem
		st, err = o.openStore(ctx, so, data)
		return st, err
	})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	token, err := os.ReadFile(s.AdminPath())
	if err != nil {
		return err
	}
	if err := st.AdminHash(ctx, string(token), o.replaceAdmin); err != nil {
		return adminError(err, data)
	}
	peerOptions.Secret = strings.TrimSpace(string(token))
	defer st.Join(peerOptions).Leave()
	serves = true
	where := fmt.Sprintf("boards are stored in etcd at %s; other servers reach this one at %s", strings.Join(so.Endpoints, ", "), peerOptions.Address)
	return flags.Run(ctx, s, l, serving.Words{Out: a.stdout, Colour: term.Out{Writer: a.stdout}.Colour(), Where: where, Public: public})
}

// openStore opens the boards. It refuses if this server would draw another admin token than the first one.
func (o serveOptions) openStore(ctx context.Context, so etcd.Options, data string) (*etcd.Store, error) {
	st, err := etcd.Open(ctx, so)
	if err != nil {
		return nil, err
	}
	if err := mayDrawAdmin(ctx, st, data, o.replaceAdmin); err != nil {
		return nil, errors.Join(err, st.Close())
	}
	return st, nil
}

// addressOf returns how other servers reach a listener. It needs a host.
func addressOf(l net.Listener, encrypted bool) (string, error) {
	address := "http://" + l.Addr().String()
	if encrypted {
		address = "https://" + l.Addr().String()
	}
	if u, err := url.Parse(address); err != nil || strings.Trim(u.Hostname(), "0.:") == "" {
		return "", fmt.Errorf("%w: --listen names no HOST, so --peer must say how the other servers reach this one", serving.ErrUsage)
	}
	return address, nil
}

// peers reads how other servers are reached. The error is a serving.ErrUsage or the file
// system's.
func (o serveOptions) peers() (p etcd.PeerOptions, err error) {
	p.Address = o.peer
	if u, err := url.Parse(o.peer); o.peer != "" && (err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || strings.Trim(u.Path, "/") != "") {
		return p, fmt.Errorf("%w: --peer is %q, and must be as http://HOST:PORT or https://HOST:PORT", serving.ErrUsage, o.peer)
	}
	if o.peerCA != "" {
		trust, err := serving.LoadTrust(o.peerCA, "", "")
		if err != nil {
			return p, err
		}
		p.TLS = trust.Config
	}
	return p, nil
}

// mayDrawAdmin says whether the first server's admin token is to be drawn here.
func mayDrawAdmin(ctx context.Context, s *etcd.Store, data string, replace bool) error {
	_, err := os.Stat(filepath.Join(data, "admin-token"))
	if !errors.Is(err, fs.ErrNotExist) || replace {
		return err
	}
	known, err := s.HasAdmin(ctx)
	if err == nil && known {
		err = adminError(etcd.ErrOtherAdmin, data)
	}
	return err
}

func adminError(err error, data string) error {
	if errors.Is(err, etcd.ErrOtherAdmin) {
		return fmt.Errorf("%w: copy admin-token from one of them to %s, or have this one's be everybody's with --replace-admin", err, data)
	}
	return err
}
