package install

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"insegna.example/internal/kind"
	"insegna.example/internal/reach"
)

// Run takes an installation that was begun as far as it goes: to Done, Returned
// or Stuck, each stored and without an error; a *WaitError when the way to the
// server broke off; or the context's error.
func (m *Installer) Run(ctx context.Context, i *Installation) error {
	for !i.State.Ended() {
		err := m.step(ctx, i)
		if err == nil {
			i.Tries = 0
			continue
		}
		if err := m.failed(ctx, i, err); err != nil {
			return err
		}
	}
	return nil
}

// savedError is an error of the records, not of the installation.
type savedError struct{ error }

func (m *Installer) enter(ctx context.Context, i *Installation, next State, step string, words string) error {
	i.State = next
	if err := m.Records.Save(ctx, i, step, Well, words); err != nil {
		return savedError{err}
	}
	return nil
}

func (m *Installer) step(ctx context.Context, i *Installation) error {
	switch i.State {
	case Staging:
		return m.stage(ctx, i)
	case Testing:
		return m.tryCopy(ctx, i)
	case Switching:
		return m.change(ctx, i)
	case Reloading:
		if err := m.reload(ctx, i); err != nil {
			return err
		}
		return m.enter(ctx, i, Looking, "reload", i.Reload)
	case Looking:
		return m.see(ctx, i)
	case Returning:
		return m.back(ctx, i)
	}
	return fmt.Errorf("an installation cannot be %q", i.State)
}

// failed decides what becomes of an installation after an error.
func (m *Installer) failed(ctx context.Context, i *Installation, err error) error {
	var saved savedError
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &saved):
		return saved.error
	case kind.Lost(err) && i.Tries < mostTries:
		i.Tries++
		if err := m.Records.Save(ctx, i, "way", Doing, err.Error()); err != nil {
			return err
		}
		return &WaitError{time.Now().Add(againIn), err}
	}
	advice := "see the reason; what served goes on serving"
	var f *fault
	var changed *ChangedError
	switch {
	case errors.As(err, &f):
		advice = f.advice
	case errors.As(err, &changed):
		advice = "look at a new preview, and install from that"
	}
	step := string(i.State)
	if i.State == Returning || kind.Lost(err) {
		i.State, i.Advice = Stuck, "look at the server by hand: "+i.Folder+" and the files of the preview"
		if i.Reason == "" {
			i.Reason = err.Error()
		} else {
			i.Reason += "; and on the way back: " + err.Error()
		}
		return m.Records.Save(ctx, i, step, Wrong, err.Error())
	}
	i.State, i.Reason, i.Advice = Returning, err.Error(), advice
	return m.Records.Save(ctx, i, step, Wrong, err.Error())
}

// run runs a script of ours on the server.
func (m *Installer) run(ctx context.Context, script string) (string, error) {
	out, err := m.Server.Run(ctx, script, commandLimit)
	if err != nil {
		return "", err
	}
	if out.Exit != 0 {
		return "", &fault{oneLine(out.Text), "see that the service may write there and that there is room", out.Text}
	}
	return out.Text, nil
}

func oneLine(s string) string {
	s = strings.Join(strings.FieldsFunc(s, func(r rune) bool { return r == '\n' || r == '\r' }), "; ")
	const most = 600
	if len(s) > most {
		s = s[:most] + "…"
	}
	return strings.ToValidUTF8(s, "�")
}

// quoted writes a word for the shell.
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// read gives a file of the server; fs.ErrNotExist when there is none.
func (m *Installer) read(p string) ([]byte, fs.FileInfo, error) {
	f, err := m.Server.FS().Open(strings.TrimPrefix(path.Clean(p), "/"))
	if err != nil {
		return nil, nil, err
	}
	defer func() { _ = f.Close() }()
	info, err := f.Stat()
	if err != nil {
		return nil, nil, err
	}
	data, err := io.ReadAll(io.LimitReader(f, fileLimit+1))
	if err == nil && len(data) > fileLimit {
		err = &fault{words: fmt.Sprintf("%s is larger than %d MB", p, fileLimit>>20), advice: "see what that file is"}
	}
	return data, info, err
}

// InUse gives the version a folder's link leads to; "" when there is none.
func InUse(fsys fs.FS, folder string) (string, error) {
	to, err := fs.ReadLink(fsys, strings.TrimPrefix(path.Join(folder, "now"), "/"))
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	} else if err != nil {
		return "", err
	}
	return path.Base(to), nil
}

func (i *Installation) version(name string) string { return path.Join(i.Folder, "versions", name) }

// stage lays the new version beside the old one.
func (m *Installer) stage(ctx context.Context, i *Installation) error {
	if err := m.unchanged(i); err != nil {
		return err
	}
	folder := i.version(i.Version)
	anew := "umask 022 && mkdir -p -- " + quoted(folder)
	if i.Version != i.Before { // what a try before has left there is half at best
		anew = "rm -rf -- " + quoted(folder) + " && " + anew
	}
	if _, err := m.run(ctx, anew); err != nil {
		return err
	}
	const private, open = 0o600, 0o644
	for _, f := range []struct {
		name string
		data []byte
		mode fs.FileMode
	}{{"chain.pem", i.Chain, open}, {"key.pem", i.Key, private}} {
		at := path.Join(folder, f.name)
		if err := m.Server.Write(at, f.data, reach.Attributes{Mode: f.mode}); err != nil {
			return err
		}
		if back, info, err := m.read(at); err != nil {
			return err
		} else if string(back) != string(f.data) || info.Mode().Perm() != f.mode {
			return &fault{words: at + " was written and reads back otherwise", advice: "see the file system of the server"}
		}
	}
	return m.enter(ctx, i, Testing, "stage", folder)
}

// unchanged says whether link and files are as previewed.
func (m *Installer) unchanged(i *Installation) error {
	for _, e := range i.Edits {
		data, _, err := m.read(e.Path)
		if kind.Lost(err) {
			return err
		}
		if err != nil || string(data) != e.Before {
			return &ChangedError{e.Path}
		}
	}
	at, err := InUse(m.Server.FS(), i.Folder)
	if err == nil && at != i.Before {
		err = &ChangedError{path.Join(i.Folder, "now")}
	}
	return err
}

// tryCopy has the server test what it is to take in, before it is.
func (m *Installer) tryCopy(ctx context.Context, i *Installation) error {
	words, err := m.onCopy(ctx, i)
	var f *fault
	if errors.As(err, &f) {
		if asItIs := m.test(ctx, i); errors.As(asItIs, &f) {
			f.words = "the server's own test fails before anything was changed: " + f.words
			f.advice = "mend the configuration first; insegna survey start reads it anew"
			return f
		} else if asItIs != nil {
			return asItIs
		}
	}
	switch {
	case err != nil:
		return err
	case i.Rehearsal:
		if err := m.clear(ctx, i); err != nil {
			return err
		}
		return m.enter(ctx, i, Rehearsed, "test", words+"; nothing was changed")
	}
	i.Switched = true
	return m.enter(ctx, i, Switching, "test", words)
}

// onCopy lays the copy, has it tested, and takes it away again.
func (m *Installer) onCopy(ctx context.Context, i *Installation) (words string, err error) {
	if m.Copy == nil {
		return "the server's own test passes", m.test(ctx, i)
	}
	// Another name each time: what a way that broke off has still running on the
	// server may take the copy before away late.
	at := i.Copy + rand.Text()[:unnamed]
	c, err := m.Copy(i, at)
	var part *kind.Problem
	switch {
	case errors.As(err, &part):
		return "the server's own test passes as things are; no copy could be tested: " + err.Error(), m.test(ctx, i)
	case err != nil:
		return "", err
	case c == nil:
		return "the server's own test passes as things are; the command names no file, so that it cannot test a copy", m.test(ctx, i)
	}
	const private = 0o600
	if err := m.Server.Write(at, c.Text, reach.Attributes{Mode: private}); err != nil {
		return "", err
	}
	defer func() {
		if _, gone := m.run(ctx, "rm -f -- "+quoted(at)); err == nil {
			err = gone
		}
	}()
	err = m.command(ctx, c.Test, "mend what it names; nothing was changed")
	var f *fault
	switch {
	case errors.As(err, &f) && f.said != "" && !strings.Contains(f.said, at): // it was not the server that spoke
		return "the server's own test passes as things are; no copy could be tested: " + oneLine(f.said), m.test(ctx, i)
	case f != nil:
		f.words = "the server's own test of a staged copy fails: " + c.Translate(f.words)
	}
	return "the server's own test of a staged copy passes", err
}

// test runs the server's own test.
func (m *Installer) test(ctx context.Context, i *Installation) error {
	return m.command(ctx, i.Test, "mend what it names; nothing of the new certificate is in use")
}

func (m *Installer) reload(ctx context.Context, i *Installation) error {
	return m.command(ctx, i.Reload, "see that the server runs, and the command reload of the estate file")
}

func (m *Installer) command(ctx context.Context, command, advice string) error {
	limit := m.Limit
	if limit == 0 {
		limit = commandLimit
	}
	out, err := m.Server.Run(ctx, command, limit)
	var late *reach.TimeError
	if errors.As(err, &late) {
		return &fault{words: late.Error(), advice: advice}
	} else if err != nil {
		return err
	}
	if out.Exit != 0 {
		return &fault{fmt.Sprintf("%s ends with %d: %s", command, out.Exit, oneLine(out.Text)), advice, out.Text}
	}
	return nil
}

// change renames the link, writes the files, and has the server test what it
// would take in.
func (m *Installer) change(ctx context.Context, i *Installation) error {
	if err := m.lead(ctx, i, i.Version); err != nil {
		return err
	}
	for _, e := range i.Edits {
		if err := m.replace(e.Path, e.Before, e.After); err != nil {
			return err
		}
	}
	if err := m.test(ctx, i); err != nil {
		return err
	}
	return m.enter(ctx, i, Reloading, "switch", m.switched(i))
}

func (m *Installer) switched(i *Installation) string {
	words := fmt.Sprintf("%s leads to versions/%s", path.Join(i.Folder, "now"), i.Version)
	for _, e := range i.Edits {
		words += "\n" + e.Path
	}
	return words
}

// lead lets the link lead to a version, in one rename; "" takes it away.
func (m *Installer) lead(ctx context.Context, i *Installation, version string) error {
	script := "cd " + quoted(i.Folder) + " && rm -f now"
	if version != "" {
		script = "cd " + quoted(i.Folder) + " && test -f " + quoted("versions/"+version+"/key.pem") + " && ln -sfn " + quoted("versions/"+version) + " .now.$$ && mv -T .now.$$ now"
	}
	_, err := m.run(ctx, script)
	return err
}

// replace writes a file that is as it was before; one that is as wanted stays.
func (m *Installer) replace(at, before, after string) error {
	data, info, err := m.read(at)
	switch {
	case err != nil && kind.Lost(err):
		return err
	case err != nil, string(data) != before && string(data) != after:
		return &ChangedError{at}
	case string(data) == after:
		return nil
	}
	return m.Server.Write(at, []byte(after), reach.Attributes{Mode: info.Mode().Perm()})
}

// until looks at every binding until all have been as wanted for a while: for a
// moment after a reload a server's old workers take connections as well (nginx
// leaves them a tenth of a second). It gives the bindings that were not when its
// time was over.
func (m *Installer) until(ctx context.Context, i *Installation, wanted func(d *Binding, leaf string) bool) (wrong []string, err error) {
	limit := m.Patience
	if limit == 0 {
		limit = patience
	}
	began := time.Now()
	for good := time.Now(); ; {
		wrong = wrong[:0]
		for n := range i.Bindings {
			d := &i.Bindings[n]
			if leaf, seen := m.Look(ctx, d); !wanted(d, leaf) {
				wrong = append(wrong, d.String()+" shows "+seen)
			}
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		pause := between
		if len(wrong) > 0 {
			if good = time.Now(); good.Sub(began) > limit {
				return wrong, nil
			}
			pause = min(max(between, time.Since(began)/10), longest)
		} else if len(i.Bindings) == 0 || time.Since(good) > steady {
			return nil, nil
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// see waits until visitors get the new certificate; then it is done, and what
// is too old is taken away.
func (m *Installer) see(ctx context.Context, i *Installation) error {
	wrong, err := m.until(ctx, i, func(_ *Binding, leaf string) bool { return leaf == i.Leaf })
	if err != nil {
		return err
	}
	if len(wrong) > 0 {
		return &fault{words: "the new certificate is not seen: " + strings.Join(wrong, "; "), advice: "see which server answers at that address, and whether its reload takes the files in"}
	}
	var seen []string
	for n := range i.Bindings {
		seen = append(seen, i.Bindings[n].String())
	}
	if err := m.enter(ctx, i, Done, "look", "the new certificate is seen: "+strings.Join(seen, ", ")); err != nil {
		return err
	}
	// What stays too long is taken away by the next installation.
	if err := m.prune(ctx, i); err != nil && ctx.Err() == nil {
		if err := m.Records.Save(ctx, i, "prune", Wrong, err.Error()); err != nil {
			return savedError{err}
		}
	}
	return nil
}

// prune keeps the newest versions, and those this installation needs, and has
// the link written to the disk.
func (m *Installer) prune(ctx context.Context, i *Installation) error {
	n := m.Keep
	if n == 0 {
		n = keep
	}
	_, err := m.run(ctx, fmt.Sprintf("cd %s && rm -f -- ../.now.* %s && sync .. && ls -1t | tail -n +%d | while IFS= read -r v; do [ \"$v\" = %s ] || [ \"$v\" = %s ] || rm -rf -- \"$v\"; done",
		quoted(path.Join(i.Folder, "versions")), i.unfinished(), n+1, quoted(i.Version), quoted(i.Before)))
	return err
}

// back makes everything as it was: files, link, what the server has taken in.
func (m *Installer) back(ctx context.Context, i *Installation) error {
	if !i.Switched {
		if err := m.clear(ctx, i); err != nil {
			return err
		}
		return m.enter(ctx, i, Returned, "back", "nothing had been changed; what was staged is taken away")
	}
	for n := len(i.Edits) - 1; n >= 0; n-- {
		e := i.Edits[n]
		if err := m.replace(e.Path, e.After, e.Before); err != nil {
			return err
		}
	}
	at, err := InUse(m.Server.FS(), i.Folder)
	if err != nil {
		return err
	}
	if at == i.Version {
		if err := m.lead(ctx, i, i.Before); err != nil {
			return err
		}
	} else if at != i.Before {
		return &ChangedError{path.Join(i.Folder, "now")}
	}
	words := "files and link are as they were"
	if err := m.reload(ctx, i); err != nil {
		if ctx.Err() != nil || kind.Lost(err) {
			return err
		}
		words += "; the reload fails as well: " + oneLine(err.Error())
	} else {
		words += ", and the server has taken them in"
	}
	wrong, err := m.until(ctx, i, func(d *Binding, leaf string) bool { return leaf != i.Leaf || d.Before == i.Leaf })
	if err != nil {
		return err
	}
	if len(wrong) > 0 {
		return &fault{words: "the new certificate is still seen: " + strings.Join(wrong, "; ")}
	}
	if err := m.clear(ctx, i); err != nil {
		return err
	}
	return m.enter(ctx, i, Returned, "back", words)
}

// unnamed is how many signs, of those of rand.Text, make a name that nobody
// uses; those of a file that is being written end so.
const unnamed = 12

// unfinished are files that a process that was killed may have left: the copy, and
// what was not renamed yet of it and of the files of the configuration.
func (i *Installation) unfinished() (list string) {
	signs := strings.Repeat("[A-Z2-7]", unnamed)
	half := func(at string) string { return " " + quoted(path.Join(path.Dir(at), "."+path.Base(at)+".")) + signs }
	for _, e := range i.Edits {
		list += half(e.Path)
	}
	if i.Copy == "" {
		return list
	}
	return list + " " + quoted(i.Copy) + signs + " " + quoted(path.Join(path.Dir(i.Copy), "."+path.Base(i.Copy))) + signs + "." + signs
}

// clear takes away what was staged, and folders that are empty then.
func (m *Installer) clear(ctx context.Context, i *Installation) error {
	if i.Version == i.Before {
		return nil
	}
	folder := quoted(i.version(i.Version))
	_, err := m.run(ctx, "rm -rf -- "+folder+"; rm -f -- "+quoted(path.Join(i.Folder, ".now."))+"*"+i.unfinished()+"; rmdir -- "+quoted(path.Join(i.Folder, "versions"))+" "+quoted(i.Folder)+" "+quoted(path.Dir(i.Folder))+" 2>/dev/null; test ! -e "+folder)
	return err
}
