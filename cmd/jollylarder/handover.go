package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

// successor gives what checks the program as it is installed now, with the arguments of this process, and starts it so that
// it takes over from this process.
func successor() func() (*exec.Cmd, error) {
	program, err := os.Executable() // by its path: another version may lie there by then
	if err != nil {                 // as where no /proc is mounted
		program, err = exec.LookPath(os.Args[0])
	}
	args := os.Args[1:]
	return func() (*exec.Cmd, error) {
		if err != nil {
			return nil, fmt.Errorf("finding the program: %w", err)
		}
		if out, err := exec.Command(program, append(slices.Clone(args), "--check")...).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%s would not start with this configuration: %w: %s", program, err, strings.TrimSpace(string(out)))
		}
		cmd := exec.Command(program, append(slices.Clone(args), "--take-over")...)
		cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
		// What a service manager says to this process alone would have the other one be silent.
		cmd.Env = slices.DeleteFunc(os.Environ(), func(v string) bool {
			name, _, _ := strings.Cut(v, "=")
			return slices.Contains([]string{"WATCHDOG_PID", "LISTEN_PID", "LISTEN_FDS", "LISTEN_FDNAMES"}, name)
		})
		if err := cmd.Start(); err != nil {
			return nil, fmt.Errorf("starting %s: %w", program, err)
		}
		return cmd, nil
	}
}

// longestSuccession is how long hand-over waits for the other process.
const longestSuccession = 2 * time.Minute

func handOverCommand() *cobra.Command {
	var to *toLarder
	c := &cobra.Command{
		Use:   "hand-over [--control SOCKET|URL]",
		Short: "Replace the running process by the program as it is installed now",
		Long: `Has the larder that runs start its program anew, with the same arguments, and hand its clients' sockets over to it. Nobody
is refused: clients that connect meanwhile wait for a moment. Clients that are connected are served by the first process
until they are at rest; it ends with the last of them, or after handover_timeout. Until then nothing is cached.

The first process goes on if the program or its configuration has an error. Both need state in the configuration.`,
		Example: `  jollylarder hand-over --control /run/jollylarder/larder.sock`,
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			client, err := to.client()
			if err != nil {
				return err
			}
			ctx, cancel := interrupted()
			defer cancel()
			ctx, cancel = context.WithTimeout(ctx, longestSuccession)
			defer cancel()
			x, err := client.Succeed(ctx)
			if err != nil {
				return err
			}
			for {
				// The control socket is gone for a moment, and then the other process's.
				st, err := client.Status(ctx)
				switch {
				case err == nil && st.Process == x.Process:
					fmt.Fprintf(c.OutOrStdout(), "Process %d has taken over. The process before ends with its last clients; nothing is cached until then.\n", x.Process)
					return nil
				case err == nil && st.Successor != nil && st.Successor.Process == x.Process && st.Successor.Problem != "":
					return fmt.Errorf("process %d has not taken over, and the one before goes on: %s", x.Process, st.Successor.Problem)
				}
				select {
				case <-ctx.Done():
					return errors.Join(fmt.Errorf("process %d has not answered within %s: its log has the reason; try again, or restart the larder", x.Process, longestSuccession), err)
				case <-time.After(50 * time.Millisecond):
				}
			}
		},
	}
	to = connecting(c)
	return c
}
