// Command smallpantry-etcd serves boards that are stored in etcd, as one of several servers, and backs up,
// checks and moves them.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"github.com/small-pantry/pantry/internal/cli"
	"github.com/small-pantry/pantry/internal/cli/serving"
	"github.com/small-pantry/pantry/internal/journal"
	"github.com/small-pantry/pantry/internal/wire"
	"github.com/small-pantry/pantry/server/etcd"
)

func main() {
	os.Exit(run(os.Args[1:], os.Stdout, os.Stderr))
}

// The exit codes, of those that smallpantry has.
const (
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitUnreachable = 6
)

// app is one call of the command.
type app struct {
	stdout, stderr io.Writer
	running        bool // the call was in order
	flags          storeFlags
}

// run is the whole command, for main and for tests.
func run(args []string, stdout, stderr io.Writer) int {
	out := cli.NewOutput(stdout)
	a := &app{stdout: out, stderr: stderr}
	root := a.root()
	root.SetArgs(args)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	err := root.ExecuteContext(ctx)
	if out.Err() != nil {
		a.running, err = true, out.Err() // the arguments were valid
	}
	if err == nil {
		return exitDone
	}
	fmt.Fprintf(stderr, "smallpantry-etcd: %v\n", err)
	switch {
	case !a.running, errors.Is(err, serving.ErrUsage):
		return exitUsage
	case errors.Is(err, journal.ErrBusy), errors.Is(err, wire.ErrUnreachable):
		return exitUnreachable
	}
	return exitFailed
}

func init() {
	cobra.EnableCommandSorting = false // they are listed in the order in which they are used
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "smallpantry-etcd",
		Short: "Serve boards from etcd, with several servers on several machines",
		Long: `smallpantry-etcd serves boards as smallpantry serve does, but keeps them in etcd:
several servers answer for the same boards, and one of them may stop at any moment.
A link is a link: smallpantry, phones and pages notice nothing.

Exit codes: 0 done, 1 failed or has findings, 2 wrong usage, 6 etcd does not answer.`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 0 {
				return fmt.Errorf("there is no command %q", args[0])
			}
			return nil
		},
		RunE:             func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
		PersistentPreRun: func(*cobra.Command, []string) { a.running = true },
	}
	root.SetOut(a.stdout)
	root.SetErr(a.stderr)
	root.AddCommand(a.serve(), a.status(), a.backup(), a.restore(), a.check(), a.move(), a.importData(), a.exportData(), a.demo(), a.node())
	root.SetHelpCommand(&cobra.Command{Hidden: true})
	cli.Help(root)
	root.CompletionOptions.DisableDefaultCmd = true
	return root
}

// storeFlags say where etcd is.
type storeFlags struct {
	endpoints     []string
	prefix        string
	ca, cert, key string
	groups        []string
	groupTLS      []string
}

func (f *storeFlags) add(to *pflag.FlagSet) {
	to.StringSliceVar(&f.endpoints, "endpoints", []string{"127.0.0.1:2379"}, "the nodes of etcd, `HOST:PORT`, separated by commas")
	to.StringArrayVar(&f.groups, "group", nil, "a further etcd among which boards are spread, `NAME=HOST:PORT,...`; may be repeated")
	to.StringArrayVar(&f.groupTLS, "group-tls", nil, "what a further etcd has in place of --etcd-ca, --etcd-cert and --etcd-key, `NAME=CA[,CERT,KEY]`; may be repeated")
	to.StringVar(&f.prefix, "prefix", etcd.DefaultPrefix, "what all keys in etcd begin with, `TEXT`")
	to.StringVar(&f.ca, "etcd-ca", "", "encrypt what goes to etcd, whose certificates the authority in `FILE` has signed")
	to.StringVar(&f.cert, "etcd-cert", "", "show etcd the certificate in `FILE`")
	to.StringVar(&f.key, "etcd-key", "", "the certificate's key, in `FILE`")
}

// options returns them as a store takes them. The error is a serving.ErrUsage or the file
// system's.
func (f *storeFlags) options() (o etcd.Options, err error) {
	if len(f.endpoints) == 0 || strings.Join(f.endpoints, "") == "" {
		return o, fmt.Errorf("%w: --endpoints names no node", serving.ErrUsage)
	}
	if (f.cert == "") != (f.key == "") || f.cert != "" && f.ca == "" {
		return o, fmt.Errorf("%w: --etcd-cert and --etcd-key go together, and with --etcd-ca", serving.ErrUsage)
	}
	o.Endpoints, o.Prefix = f.endpoints, f.prefix
	for _, s := range f.groups {
		name, endpoints, ok := strings.Cut(s, "=")
		if !ok || name == "" || endpoints == "" || slices.ContainsFunc(o.Groups, func(g etcd.Group) bool { return g.Name == name }) {
			return o, fmt.Errorf("%w: --group is %q, and must be NAME=HOST:PORT,..., each name once", serving.ErrUsage, s)
		}
		o.Groups = append(o.Groups, etcd.Group{Name: name, Endpoints: strings.Split(endpoints, ",")})
	}
	if f.ca != "" {
		trust, err := serving.LoadTrust(f.ca, f.cert, f.key)
		if err != nil {
			return o, err
		}
		o.TLS = trust.Config
	}
	for _, s := range f.groupTLS {
		name, files, _ := strings.Cut(s, "=")
		i := slices.IndexFunc(o.Groups, func(g etcd.Group) bool { return g.Name == name })
		parts := strings.Split(files, ",")
		if i < 0 || files == "" || len(parts) != 1 && len(parts) != 3 {
			return o, fmt.Errorf("%w: --group-tls is %q, and must be NAME=CA or NAME=CA,CERT,KEY, with the NAME of a --group", serving.ErrUsage, s)
		}
		trust, err := serving.LoadTrust(parts[0], strings.Join(parts[1:min(2, len(parts))], ""), strings.Join(parts[min(2, len(parts)):], ""))
		if err != nil {
			return o, err
		}
		o.Groups[i].TLS = trust.Config
	}
	return o, nil
}

// store opens the store for as long as f runs.
func (a *app) store(ctx context.Context, f func(s *etcd.Store) error) error {
	o, err := a.flags.options()
	if err != nil {
		return err
	}
	o.Problem = func(board string, err error) { fmt.Fprintf(a.stderr, "smallpantry-etcd: %s: %v\n", board, err) }
	s, err := etcd.Open(ctx, o)
	if err != nil {
		return err
	}
	return errors.Join(f(s), s.Close())
}

// exactly takes n arguments.
func exactly(n int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != n {
			return fmt.Errorf("%s takes %s, and was given %d arguments: %s", cmd.Name(), what, len(args), cmd.UseLine())
		}
		return nil
	}
}
