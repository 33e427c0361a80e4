// Package process starts the programs that tests, the demo and the stand-ins run
// beside themselves. Such a program ends with whoever started it, even when that
// is killed.
package process

import (
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"time"
)

// Process is a program that was started.
type Process struct {
	cmd  *exec.Cmd
	done chan struct{}
}

// Start starts a command, in a group of its own. When this process dies, the
// program gets the signal end.
func Start(cmd *exec.Cmd, end syscall.Signal) (*Process, error) {
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Setpgid, cmd.SysProcAttr.Pdeathsig = true, end
	p := &Process{cmd: cmd, done: make(chan struct{})}
	started := make(chan error, 1)
	go func() {
		runtime.LockOSThread() // the death signal follows the thread that started the child
		err := cmd.Start()
		if started <- err; err == nil {
			_ = cmd.Wait()
		}
		close(p.done)
	}()
	return p, <-started
}

// Done is closed when the program has ended.
func (p *Process) Done() <-chan struct{} { return p.done }

// ID is the number of the process.
func (p *Process) ID() int { return p.cmd.Process.Pid }

// Signal sends a signal; one to a program that has ended does nothing.
func (p *Process) Signal(s os.Signal) { _ = p.cmd.Process.Signal(s) }

// How long a program is waited for: again is when a signal that got lost while it started
// anew is sent once more, most when it is killed with all it has started.
const (
	again = 15 * time.Second
	most  = 40 * time.Second
)

// Stop sends a signal and waits for the end.
func (p *Process) Stop(s os.Signal) {
	for began := time.Now(); ; {
		p.Signal(s)
		select {
		case <-p.done:
			return
		case <-time.After(again):
		}
		if time.Since(began) > most {
			_ = syscall.Kill(-p.ID(), syscall.SIGKILL)
		}
	}
}
