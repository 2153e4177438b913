package main

import (
	"cmp"
	"crypto/tls"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/serving"
	"github.com/small-pantry/pantry/internal/cli/term"
	"github.com/small-pantry/pantry/server/etcd"
)

func (a *app) status() *cobra.Command {
	var peerCA string
	cmd := &cobra.Command{
		Use:     "status",
		Example: "  smallpantry-etcd status --endpoints 10.0.0.1:2379,10.0.0.2:2379,10.0.0.3:2379",
		Short:   "Show the nodes and servers, and what needs attention",
		Long: `status asks every node of etcd and every registered server. It shows the space of each node, the leader of
each group, the shards of boards that each server is the home of, and when certificates end. It needs no
majority of the nodes. The exit code is 1 if something needs attention.`,
		Args: exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			o, err := a.flags.options()
			if err != nil {
				return err
			}
			var peer func(host string) *tls.Config
			if peerCA != "" {
				trust, err := serving.LoadTrust(peerCA, "", "")
				if err != nil {
					return err
				}
				peer = trust.Config
			}
			s, err := etcd.ReadStatus(cmd.Context(), o, peer)
			if err != nil {
				return err
			}
			a.printStatus(s)
			if len(s.Findings) > 0 {
				return fmt.Errorf("%s attention", term.Counted(len(s.Findings), "thing needs", "things need"))
			}
			return nil
		},
	}
	a.flags.add(cmd.Flags())
	cmd.Flags().StringVar(&peerCA, "peer-ca", "", "the authority in `FILE` has signed the servers' certificates")
	return cmd
}

func (a *app) printStatus(s etcd.Status) {
	nodes := term.Out{Writer: a.stdout}.Table("node", "group", "etcd", "role", "space", "certificate")
	for _, n := range s.Nodes {
		role, space := "follower", term.Size(n.InUse)
		switch {
		case n.Err != nil:
			role, space = "no answer", "–"
		case n.Leader:
			role = "leader"
		}
		if n.Err == nil && n.Quota > 0 {
			space += " of " + term.Size(n.Quota)
		}
		nodes.Row(n.Endpoint, cmp.Or(n.Group, "first"), cmp.Or(n.Version, "–"), role, space, date(n.Ends))
	}
	nodes.Print()
	servers := term.Out{Writer: a.stdout}.Table("server", "state", "home of", "certificate")
	for _, one := range s.Servers {
		state := "ready"
		switch {
		case one.Err != nil:
			state = "no answer"
		case !one.Ready:
			state = "not ready"
		}
		servers.Row(one.Address, state, fmt.Sprintf("%d of 64 shards", one.Homes), date(one.Ends))
	}
	fmt.Fprintln(a.stdout)
	servers.Print()
	for _, f := range s.Findings {
		fmt.Fprintln(a.stdout, f)
	}
	if len(s.Findings) == 0 {
		fmt.Fprintln(a.stdout, "nothing needs attention")
	}
}

// date returns the day of a time, or a dash for none.
func date(t time.Time) string {
	if t.IsZero() {
		return "–"
	}
	return t.Format(time.DateOnly)
}
