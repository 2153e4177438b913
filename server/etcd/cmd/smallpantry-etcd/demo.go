package main

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry/internal/cli/serving"
	"github.com/small-pantry/pantry/server/etcd/internal/demo"
	"github.com/small-pantry/pantry/server/etcd/internal/node"
)

func (a *app) demo() *cobra.Command {
	return &cobra.Command{
		Use:   "demo",
		Short: "Kill a node and a server while thirty phones take water, on made-up data",
		Long: `demo runs three nodes of etcd and three servers on this machine, in a temporary
directory. Thirty phones of the Rowan Street community garden take water from the
rain tank; meanwhile the leading node and a server are killed. Every figure is
measured while it runs; it exits with 1 if a litre is lost or counted twice.`,
		Args: exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			self, err := os.Executable()
			if err != nil {
				return err
			}
			return demo.Run(cmd.Context(), a.stdout, func(args ...string) *exec.Cmd { return exec.Command(self, args...) })
		},
	}
}

// node runs one node of etcd, for the demo, tests and measuring.
func (a *app) node() *cobra.Command {
	var m node.Member
	var others []string
	cmd := &cobra.Command{
		Use:    "node",
		Short:  "Run a node of etcd, for the demo",
		Hidden: true,
		Args:   exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			var all []node.Member
			for _, one := range others {
				name, peer, ok := strings.Cut(one, "=")
				if !ok {
					return fmt.Errorf("%w: --member is %q, and must be NAME=HOST:PORT", serving.ErrUsage, one)
				}
				all = append(all, node.Member{Name: name, Peer: peer})
			}
			n, err := node.Start(m, all)
			if err != nil {
				return err
			}
			defer n.Close()
			if err := n.Ready(time.Minute); err != nil {
				return err
			}
			<-cmd.Context().Done()
			return nil
		},
	}
	cmd.Flags().StringVar(&m.Name, "name", "", "its `NAME`")
	cmd.Flags().StringVar(&m.Dir, "dir", "", "its `DIR`")
	cmd.Flags().StringVar(&m.Client, "client", "", "its client `ADDRESS`")
	cmd.Flags().StringVar(&m.Peer, "peer", "", "its peer `ADDRESS`")
	cmd.Flags().Int64Var(&m.Quota, "quota", 0, "how many `BYTES` it takes; 0: as etcd has it")
	cmd.Flags().BoolVar(&m.NoSync, "no-sync", false, "leave writes to the operating system, for tests")
	cmd.Flags().StringVar(&m.Certificates, "certificates", "", "ca.pem, cert.pem and key.pem are in `DIR`")
	cmd.Flags().StringArrayVar(&others, "member", nil, "a node of the cluster, `NAME=PEER`")
	return cmd
}
