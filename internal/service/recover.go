package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"time"

	"insegna.example/internal/store"
	"insegna.example/internal/store/cluster"
)

// Recover gives somebody a new one-time link, for whoever may read the data
// directory, or knows the database: no sign-in is asked. The service may run
// meanwhile.
func Recover(ctx context.Context, cfg Config, name string) (Invitation, error) {
	dsn := cfg.Database
	if dsn == "" {
		dir := filepath.Join(cfg.Data, "postgres")
		if _, err := os.Stat(filepath.Join(dir, "data")); errors.Is(err, os.ErrNotExist) {
			return Invitation{}, fmt.Errorf("%s holds no database of a service; name its data directory with --data", cfg.Data)
		} else if err != nil {
			return Invitation{}, err
		}
		var err error
		if dsn, err = cluster.Running(ctx, dir); err != nil {
			return Invitation{}, err
		}
		if dsn == "" { // the service does not run
			c, err := cluster.Start(ctx, dir, cluster.Options{})
			if err != nil {
				return Invitation{}, err
			}
			defer c.Stop()
			dsn = c.DSN()
		}
	}
	s, err := store.Open(ctx, dsn)
	if err != nil {
		return Invitation{}, err
	}
	defer s.Close()
	now := time.Now().UTC()
	secret, i := invite(now)
	err = s.Invite(ctx, name, secret, i.ExpiresAt,
		&store.Act{Actor: itself, Action: "person.recover", Subject: name, Detail: map[string]any{"by": systemUser()}}, now)
	if errors.Is(err, store.ErrNotFound) {
		people, err := s.People(ctx)
		var admins []string
		for _, p := range people {
			if p.Role == string(Admin) {
				admins = append(admins, p.Name)
			}
		}
		return Invitation{}, errors.Join(err, fmt.Errorf("nobody is called %q; the admins are: %s", name,
			strings.Join(admins, ", ")))
	}
	return i, err
}

// systemUser is who runs this program, for the journal.
func systemUser() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return fmt.Sprintf("user %d", os.Geteuid())
}
