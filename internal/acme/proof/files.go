package proof

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"insegna.example/internal/reach"
)

// Folder is where one server has the files of the well-known path.
type Folder struct {
	Server string                                          // as the estate names it
	Path   string                                          // absolute, on that server
	Open   func(context.Context) (reach.Connection, error) // connects anew; called once for all files of an act
}

// Files puts proofs up as files on servers.
type Files struct {
	Folders func(host string) ([]Folder, error) // where a host's files belong
}

const (
	// fileMode lets the server's own user read the proof, which is public.
	fileMode  = 0o644
	stepLimit = 30 * time.Second // for one command on a server
)

// each does something with every file of every server, over one connection a
// server.
func (f *Files) each(ctx context.Context, list []Publication, what string,
	do func(reach.Connection, string, Publication) error) error {
	machines := map[string]reach.Connection{}
	defer func() {
		for _, m := range machines {
			_ = m.Close()
		}
	}()
	var all []error
	for _, p := range list {
		folders, err := f.Folders(p.Name)
		if err != nil {
			return err
		}
		for _, folder := range folders {
			m := machines[folder.Server]
			if m == nil {
				if m, err = folder.Open(ctx); err != nil {
					all = append(all, &PublishError{what, folder.Server, err})
					continue
				}
				machines[folder.Server] = m
			}
			at := folder.Path
			if err := do(m, at, p); err != nil {
				all = append(all, &PublishError{what, folder.Server + " " + path.Join(at, p.Token), err})
			}
		}
	}
	return errors.Join(all...)
}

// Publish implements Prover.
func (f *Files) Publish(ctx context.Context, list []Publication) error {
	return f.each(ctx, list, "put the file up", func(m reach.Connection, at string, p Publication) error {
		if out, err := m.Run(ctx, "umask 022 && mkdir -p -- "+reach.Quoted(at), stepLimit); err != nil {
			return err
		} else if out.Exit != 0 {
			return fmt.Errorf("making the folder: %s", strings.TrimSpace(out.Text))
		}
		return m.Write(path.Join(at, p.Token), []byte(p.Content), reach.Attributes{Mode: fileMode})
	})
}

// Await implements Prover: a file is there at once.
func (f *Files) Await(context.Context, []Publication) error { return nil }

// Withdraw implements Prover.
func (f *Files) Withdraw(ctx context.Context, list []Publication) error {
	return f.each(ctx, list, "take the file down", func(m reach.Connection, at string, p Publication) error {
		out, err := m.Run(ctx, "rm -f -- "+reach.Quoted(path.Join(at, p.Token)), stepLimit)
		if err == nil && out.Exit != 0 {
			err = errors.New(strings.TrimSpace(out.Text))
		}
		return err
	})
}
