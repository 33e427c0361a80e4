// Package files is the destination of servers that read certificate and key
// from files named in their configuration, are tested and reloaded by commands,
// and are reached as a connection.
//
// On the server a mandate has a folder: below versions one folder for each
// certificate, with the list as TLS sends it (RFC 8446 section 4.4.2: leaf
// first, then its issuers) and the private key, and now, a link to the one in
// use. Certificate and key change together, by one rename of that link. What a
// kind's configuration looks like is known to the kind alone.
package files

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"strings"
	"time"

	"insegna.example/internal/install"
	"insegna.example/internal/kind"
	"insegna.example/internal/reach"
)

// Names of the files in a version's folder.
const (
	certificatesFile = "certificates.pem"
	keyFile          = "private-key.pem"
	combinedFile     = "certificates-and-key.pem"
	stapleEnd        = ".ocsp" // of the file beside the certificates
)

// Names of the files in folders laid by earlier versions of this program. A
// folder keeps its names, since the server's configuration names them.
const (
	formerCertificatesFile = "chain.pem"
	formerKeyFile          = "key.pem"
)

// Bounds of the acts.
const (
	commandLimit = 30 * time.Second
	liveLimit    = time.Minute
	keep         = 5       // versions that stay
	fileLimit    = 4 << 20 // bytes of a file of the configuration
)

// Destination is a server of files. Safe for concurrent use, though one server
// is for one installation at a time.
type Destination struct {
	Over   reach.Connection // the way to the server
	Reader kind.Reader      // of its kind
	Editor kind.Editor      // of its kind
	Main   string           // file of the configuration
	Test   string           // command that tests the configuration
	Reload string           // command that takes it in
	// Lenient says that the test passes what ends the server at a reload; then what
	// the reader finds refused counts beside it
	Lenient  bool
	Combined bool // certificates and key go in one file
	// Verifies are lines that name CAs for servers behind alone; nil where none are known
	Verifies *regexp.Regexp
	Live     Live          // nil: what lies there is taken in by a reload alone
	Limit    time.Duration // of a command; half a minute when 0
	Keep     int           // versions that stay; 5 when 0
}

// Live exchanges certificates in a server that runs, so that it needs no reload.
type Live interface {
	// Plan says how, for what edits change, and in words; nil when only a reload takes
	// that in.
	Plan(r *kind.Reading, edits *kind.Edits) (own json.RawMessage, words string)
	// TakeIn makes the running server show what lies on its disk, new or old. An
	// *install.FaultError is what the server has against the certificate; any other
	// error says that it could not be told, and that it has to be reloaded.
	TakeIn(ctx context.Context, over reach.Connection, own json.RawMessage) (string, error)
}

// layout is this destination's own part of a plan.
type layout struct {
	Folder       string `json:"folder"`       // of the mandate
	Version      string `json:"version"`      // name of the new version's folder
	Before       string `json:"before"`       // of the one in use; "" for none
	Certificates string `json:"certificates"` // file, leaf first
	Key          string `json:"key"`          // file
	// what the path of a copy of the configuration begins with: in the main file's folder
	Copy   string `json:"copy"`
	Test   string `json:"test"`           // command
	Reload string `json:"reload"`         // command
	Only   bool   `json:"only,omitempty"` // nothing but files of the configuration changes
	// Quiet says that nothing of it is for the running server: no copy, no reload
	Quiet bool `json:"quiet,omitempty"`
	// Mends says that the configuration may be one now that the server would not
	// outlive: that may be what is mended
	Mends bool `json:"mends,omitempty"`

	Combined bool            `json:"combined,omitempty"`  // both are in one file
	KeyThere bool            `json:"key_there,omitempty"` // it was made on the server, and nobody else has it
	Staple   *install.Staple `json:"staple,omitempty"`    // lies beside the certificates; nil for none
	Loads    []string        `json:"loads,omitempty"`     // paths of the configuration the certificate comes to
	Live     json.RawMessage `json:"live,omitempty"`      // how the running server takes it in
	Lively   string          `json:"-"`                   // that in words
}

// read gives the own part of a plan.
func read(p *install.Plan) (*layout, error) {
	l := &layout{}
	if err := json.Unmarshal(p.Own, l); err != nil {
		return nil, fmt.Errorf("the plan of an installation cannot be read: %w", err)
	}
	return l, nil
}

// in is a path below the mandate's folder.
func (l *layout) in(names ...string) string {
	return path.Join(append([]string{l.Folder}, names...)...)
}

// staged is a path in the new version's folder.
func (l *layout) staged(name string) string { return l.in("versions", l.Version, name) }

// inUse is the path a configuration names.
func (l *layout) inUse(name string) string { return l.in("now", name) }

// linked gives the version the folder's link leads to; "" when there is none.
func (d *Destination) linked(l *layout) (string, error) {
	to, err := fs.ReadLink(d.Over.FS(), strings.TrimPrefix(l.in("now"), "/"))
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	} else if err != nil {
		return "", err
	}
	return path.Base(to), nil
}

// Stage implements install.Destination: it lays the new version beside the old.
func (d *Destination) Stage(ctx context.Context, p *install.Plan, m *install.Material) (string, error) {
	l, err := read(p)
	if err != nil {
		return "", err
	}
	if err := d.unchanged(l, p); err != nil {
		return "", err
	}
	if l.Only {
		return "nothing has to be laid on the server", nil
	}
	folder := l.in("versions", l.Version)
	anew := "umask 022 && mkdir -p -- " + reach.Quoted(folder)
	if l.Version != l.Before { // what a try before has left there is half at best
		there, err := d.exists(folder)
		if err != nil {
			return "", err
		}
		if there { // only then: a command of a try whose connection broke off may run late, and must not take away what is laid now
			anew = "rm -rf -- " + reach.Quoted(folder) + " && " + anew
		}
	}
	if _, err := d.run(ctx, anew); err != nil {
		return "", err
	}
	const private, open = 0o600, 0o644
	type staged struct {
		name string
		data []byte
		mode fs.FileMode
	}
	list := []staged{{l.Certificates, m.Chain, open}, {l.Key, m.Key, private}}
	switch {
	case l.KeyThere && l.Combined:
		list = nil
	case l.KeyThere:
		list = list[:1]
	case l.Combined:
		both := append(append(bytes.TrimRight(bytes.Clone(m.Chain), "\n"), '\n'), m.Key...)
		list = []staged{{l.Key, both, private}}
	}
	if l.Staple != nil {
		if !time.Now().Before(l.Staple.Until) {
			return "", &install.FaultError{Words: "the OCSP response was in force until " + l.Staple.Until.Format(time.RFC3339),
				Advice: "preview the installation anew, which asks for a new one"}
		}
		list = append(list, staged{l.Certificates + stapleEnd, l.Staple.Response, open})
	}
	if l.KeyThere {
		if err := d.takeKey(ctx, l, m.Chain); err != nil {
			return "", err
		}
	}
	for _, f := range list {
		at := l.staged(f.name)
		if err := d.Over.Write(at, f.data, reach.Attributes{Mode: f.mode}); err != nil {
			return "", err
		}
		if back, info, err := d.file(at); err != nil {
			return "", err
		} else if string(back) != string(f.data) || info.Mode().Perm() != f.mode {
			return "", &install.FaultError{Words: at + " was written and reads back otherwise",
				Advice: "see the file system of the server"}
		}
	}
	return folder, nil
}

// unchanged says whether link and files are as previewed.
func (d *Destination) unchanged(l *layout, p *install.Plan) error {
	for _, f := range p.Files {
		data, _, err := d.file(f.Path)
		if kind.Lost(err) {
			return err
		}
		if err != nil || string(data) != f.Before {
			return &install.ChangedError{What: f.Path}
		}
	}
	for _, x := range p.Links {
		if err := d.asPlanned(&x); err != nil {
			return err
		}
	}
	for _, x := range p.Modes {
		if is, of, err := d.mode(x.Path); err != nil {
			return err
		} else if is != x.Before || x.To != "" && of != x.From {
			return &install.ChangedError{What: x.Path}
		}
	}
	if l.Only {
		return nil
	}
	at, err := d.linked(l)
	if err == nil && at != l.Before {
		err = &install.ChangedError{What: l.in("now")}
	}
	return err
}

// asPlanned says whether what a link takes the place of is as it was.
func (d *Destination) asPlanned(x *install.Link) error {
	_, err := fs.Lstat(d.Over.FS(), strings.TrimPrefix(x.Path, "/"))
	switch {
	case kind.Lost(err):
		return err
	case x.Kept == "":
		if err == nil {
			return &install.ChangedError{What: x.Path}
		}
		return nil
	case err != nil:
		return &install.ChangedError{What: x.Path}
	}
	sum, err := d.sum(x.Path)
	if kind.Lost(err) {
		return err
	}
	if err != nil || sum != x.Sum {
		return &install.ChangedError{What: x.Path}
	}
	return nil
}

// sum is the SHA-256 of a file, or of where a link leads that leads to nothing.
func (d *Destination) sum(p string) (string, error) {
	data, _, err := d.file(p)
	if to, dangles := d.dangling(p); err != nil && dangles {
		data, err = []byte("link to "+to), nil
	}
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:]), nil
}

// dangling says whether a path is a link that leads to nothing, and where.
func (d *Destination) dangling(p string) (to string, is bool) {
	name := strings.TrimPrefix(p, "/")
	to, err := fs.ReadLink(d.Over.FS(), name)
	if err != nil {
		return "", false
	}
	_, err = fs.Stat(d.Over.FS(), name)
	return to, errors.Is(err, fs.ErrNotExist)
}

// Try implements install.Destination: the server tests a copy, or what it has
// where its command cannot be led to a copy.
func (d *Destination) Try(ctx context.Context, p *install.Plan) (string, error) {
	l, err := read(p)
	if err != nil {
		return "", err
	}
	if l.Quiet { // whoever runs the test has to be able to read the files afterwards as well
		err := d.command(ctx, l.Test, "mend the configuration first")
		if f := (*install.FaultError)(nil); errors.As(err, &f) {
			f.Words = "the server's own test fails before anything was changed: " + f.Words
		}
		return "the server's own test passes", err
	}
	words, err := d.onCopy(ctx, l, p)
	if err == nil && d.Lenient && !l.Mends {
		err = d.test(ctx, l)
	}
	var f *install.FaultError
	if errors.As(err, &f) {
		if asItIs := d.test(ctx, l); errors.As(asItIs, &f) {
			f.Words = "the server's own test fails before anything was changed: " + f.Words
			f.Advice = "mend the configuration first; insegna survey start reads it anew"
			return "", f
		} else if asItIs != nil {
			return "", asItIs
		}
	}
	return words, err
}

// onCopy lays the copy, has it tested, and takes it away again.
func (d *Destination) onCopy(ctx context.Context, l *layout, p *install.Plan) (words string, err error) {
	// Another name each time: what a way that broke off has still running on the
	// server may take the copy before away late.
	at := l.Copy + rand.Text()[:randomLength]
	command := d.Editor.OnFile(l.Test, d.Main, at)
	if command == "" {
		return "the server's own test passes as things are; the command names no file, so that it cannot test a copy",
			d.test(ctx, l)
	}
	paths := map[string]string{
		l.inUse(l.Certificates): l.staged(l.Certificates),
		l.inUse(l.Key):          l.staged(l.Key),
	}
	laid := map[string]string{} // there is something, when it is there
	for _, p := range l.Loads {
		paths[p], laid[p] = l.staged(l.Certificates), ""
	}
	c, err := d.Editor.Copy(kind.Laid(d.Over.FS(), p.Links, laid), d.Main, p.Files, paths)
	var part *kind.Problem
	switch {
	case errors.As(err, &part):
		return "the server's own test passes as things are; no copy could be tested: " + err.Error(), d.test(ctx, l)
	case err != nil:
		return "", err
	}
	const private = 0o600
	remove := "rm -f -- " + reach.Quoted(at)
	defer func() {
		if _, gone := d.run(ctx, remove); err == nil {
			err = gone
		}
	}()
	for n, b := range c.Beside {
		beside := fmt.Sprintf("%s.%d", at, n)
		remove += " " + reach.Quoted(beside)
		c.Text = strings.ReplaceAll(c.Text, b.Mark, beside)
		if err := d.Over.Write(beside, []byte(b.Text), reach.Attributes{Mode: private}); err != nil {
			return "", err
		}
	}
	if err := d.Over.Write(at, []byte(c.Text), reach.Attributes{Mode: private}); err != nil {
		return "", err
	}
	err = d.command(ctx, command, "mend what it names; nothing was changed")
	var f *install.FaultError
	switch {
	case errors.As(err, &f) && f.Said != "" && !strings.Contains(f.Said, at): // it was not the server that spoke
		return "the server's own test passes as things are; no copy could be tested: " + oneLine(f.Said), d.test(ctx, l)
	case f != nil:
		f.Words = "the server's own test of a staged copy fails: " + c.Translate(f.Words, at)
	}
	return "the server's own test of a staged copy passes", err
}

// test runs the server's own test.
func (d *Destination) test(ctx context.Context, l *layout) error {
	if err := d.command(ctx, l.Test, "mend what it names; nothing of the new certificate is in use"); err != nil {
		return err
	}
	return d.survives("mend that first; nothing of the new certificate is in use")
}

// survives says why a reload would end a server whose own test is lenient.
func (d *Destination) survives(advice string) error {
	if !d.Lenient {
		return nil
	}
	r, err := d.Reader.Read(d.Over.FS(), d.Main)
	if err != nil {
		return err
	}
	if p := r.Ends(); p != nil {
		return &install.FaultError{
			Words:  "the server's own test passes, and a reload would end the server all the same: " + p.Error(),
			Advice: advice}
	}
	return nil
}

// Switch implements install.Destination: it renames the link, writes the files,
// and has the server test what it would take in.
func (d *Destination) Switch(ctx context.Context, p *install.Plan) (string, error) {
	l, err := read(p)
	if err != nil {
		return "", err
	}
	words := "the configuration is written"
	if !l.Only {
		if err := d.lead(ctx, l, l.Version); err != nil {
			return "", err
		}
		words = fmt.Sprintf("%s leads to versions/%s", l.in("now"), l.Version)
	}
	for _, f := range p.Files {
		if err := d.replace(f.Path, f.Before, f.After); err != nil {
			return "", err
		}
	}
	for _, x := range p.Links {
		if err := d.link(ctx, x); err != nil {
			return "", err
		}
	}
	for _, x := range p.Modes {
		if err := d.setMode(ctx, &x); err != nil {
			return "", err
		}
	}
	if l.Quiet {
		words = "the modes are set, and the server's own test passes"
		if err := d.command(ctx, l.Test, "let the server read the file as its owner, or by its group: chown, chgrp"); err != nil {
			return "", err
		}
	} else if err := d.test(ctx, l); err != nil {
		return "", err
	}
	for _, f := range p.Files {
		words += "\n" + f.Path
	}
	for _, x := range p.Links {
		words += "\n" + x.String()
	}
	for _, x := range p.Modes {
		words += "\n" + x.Path
	}
	return words, nil
}

// mode gives the permission bits of a file, and whose it is as chown takes it; 0 when it
// is not there.
func (d *Destination) mode(at string) (bits fs.FileMode, owner string, err error) {
	info, err := fs.Stat(d.Over.FS(), strings.TrimPrefix(at, "/"))
	switch {
	case kind.Lost(err):
		return 0, "", err
	case err != nil:
		return 0, "", nil //nolint:nilerr // it is not there, or not to be seen
	}
	if o, known := reach.OwnerOf(info); known {
		owner = fmt.Sprintf("%d:%d", o.UID, o.GID)
	}
	return info.Mode().Perm(), owner, nil
}

// setMode gives a file other permission bits, and another owner first where that is
// planned; what has them already stays, and what has neither is not touched.
func (d *Destination) setMode(ctx context.Context, x *install.Mode) error {
	is, of, err := d.mode(x.Path)
	switch {
	case err != nil:
		return err
	case is != x.Before && is != x.After, x.To != "" && of != x.From && of != x.To:
		return &install.ChangedError{What: x.Path}
	}
	var does []string
	if x.To != "" && of != x.To {
		does = append(does, fmt.Sprintf("chown %s -- %s", x.To, reach.Quoted(x.Path)))
	}
	if is != x.After || len(does) > 0 { // some systems take bits away with the owner
		does = append(does, fmt.Sprintf("chmod %04o -- %s", x.After, reach.Quoted(x.Path)))
	}
	if len(does) == 0 {
		return nil
	}
	_, err = d.run(ctx, strings.Join(does, " && "))
	return err
}

// lead lets the link lead to a version, in one rename; "" takes it away.
func (d *Destination) lead(ctx context.Context, l *layout, version string) error {
	script := "cd " + reach.Quoted(l.Folder) + " && rm -f now"
	if version != "" {
		to := "versions/" + version
		script = "cd " + reach.Quoted(l.Folder) + " && test -f " + reach.Quoted(to+"/"+l.Key) +
			" && ln -sfn " + reach.Quoted(to) + " .now.$$ && mv -T .now.$$ now"
	}
	_, err := d.run(ctx, script)
	return err
}

// leads says whether a link leads where it was laid to lead.
func (d *Destination) leads(x *install.Link) (bool, error) {
	to, err := fs.ReadLink(d.Over.FS(), strings.TrimPrefix(x.Path, "/"))
	switch {
	case kind.Lost(err):
		return false, err
	case err == nil && to == x.To && x.To != "":
		return true, nil
	}
	_, err = fs.Lstat(d.Over.FS(), strings.TrimPrefix(x.Path, "/"))
	if errors.Is(err, fs.ErrNotExist) {
		return x.To == "", nil
	} else if kind.Lost(err) {
		return false, err
	}
	return false, nil
}

// exists says whether something lies at a path.
func (d *Destination) exists(p string) (bool, error) {
	_, err := fs.Lstat(d.Over.FS(), strings.TrimPrefix(p, "/"))
	if kind.Lost(err) {
		return false, err
	}
	return err == nil, nil
}

// put is a script that brings a file or link to a path in one rename. Its name
// meanwhile is one that no server loads out of a folder.
func put(how, from, to string) string {
	meanwhile := reach.Quoted(path.Join(path.Dir(to), "."+path.Base(to)+".insegna"))
	return "rm -f -- " + meanwhile + " && " + how + " " + reach.Quoted(from) + " " + meanwhile + " && mv -T -- " +
		meanwhile + " " + reach.Quoted(to)
}

// link lays a link where nothing is, or in the place of a file that is kept; one
// that leads there stays.
func (d *Destination) link(ctx context.Context, x install.Link) error {
	if done, err := d.leads(&x); done || err != nil {
		return err
	}
	if x.Kept == "" {
		if there, err := d.exists(x.Path); err != nil {
			return err
		} else if there {
			return &install.ChangedError{What: x.Path}
		}
		_, err := d.run(ctx, "ln -sT "+reach.Quoted(x.To)+" "+reach.Quoted(x.Path))
		return err
	}
	if err := d.asPlanned(&x); err != nil {
		return err
	}
	script := "mkdir -p -m 700 -- " + reach.Quoted(path.Dir(x.Kept)) + " && " + put("cp -a --", x.Path, x.Kept) + " && "
	if x.To == "" {
		script += "rm -f -- " + reach.Quoted(x.Path)
	} else {
		script += put("ln -sT", x.To, x.Path)
	}
	_, err := d.run(ctx, script)
	return err
}

// unlink takes a link away that leads where it was laid to lead, and puts what was
// kept in its place.
func (d *Destination) unlink(ctx context.Context, x install.Link) error {
	done, err := d.leads(&x)
	if err != nil {
		return err
	}
	there, err := d.exists(x.Path)
	if err != nil {
		return err
	}
	if x.Kept == "" {
		switch {
		case !there:
			return nil
		case !done:
			return &install.ChangedError{What: x.Path}
		}
		_, err = d.run(ctx, "rm -f -- "+reach.Quoted(x.Path))
		return err
	}
	kept, err := d.exists(x.Kept)
	switch {
	case err != nil:
		return err
	case !done && there:
		return d.asPlanned(&x) // it was not changed, or is back already
	case !kept:
		return &install.ChangedError{What: x.Kept}
	}
	_, err = d.run(ctx, put("cp -a --", x.Kept, x.Path))
	return err
}

// replace writes a file that is as it was before; one that is as wanted stays.
func (d *Destination) replace(at, before, after string) error {
	data, info, err := d.file(at)
	switch {
	case err != nil && kind.Lost(err):
		return err
	case err != nil, string(data) != before && string(data) != after:
		return &install.ChangedError{What: at}
	case string(data) == after:
		return nil
	}
	return d.Over.Write(at, []byte(after), reach.Attributes{Mode: info.Mode().Perm()})
}

// TakeIn implements install.Destination: it runs the reload command.
func (d *Destination) TakeIn(ctx context.Context, p *install.Plan) (string, error) {
	l, err := read(p)
	if err != nil {
		return "", err
	}
	if l.Quiet {
		return "nothing has to be taken in", nil
	}
	if err := d.survives("mend that, then reload the server by hand"); err != nil {
		return "", err
	}
	words := l.Reload
	if l.Live != nil && d.Live != nil {
		limit := d.Limit
		if limit == 0 {
			limit = liveLimit
		}
		inTime, cancel := context.WithTimeout(ctx, limit)
		said, err := d.Live.TakeIn(inTime, d.Over, l.Live)
		cancel()
		var f *install.FaultError
		switch {
		case err == nil:
			return said, nil
		case errors.As(err, &f) || kind.Lost(err):
			return "", err
		}
		words = fmt.Sprintf("%s\nreloaded, since the running server could not be told: %v", l.Reload, err)
	}
	return words, d.command(ctx, l.Reload, "see that the server runs, and the command reload of the estate file")
}

// Back implements install.Destination: files and link become as they were.
func (d *Destination) Back(ctx context.Context, p *install.Plan) (string, error) {
	l, err := read(p)
	if err != nil {
		return "", err
	}
	for n := len(p.Links) - 1; n >= 0; n-- {
		if err := d.unlink(ctx, p.Links[n]); err != nil {
			return "", err
		}
	}
	for n := len(p.Files) - 1; n >= 0; n-- {
		f := p.Files[n]
		if err := d.replace(f.Path, f.After, f.Before); err != nil {
			return "", err
		}
	}
	for _, x := range p.Modes {
		back := x.Back()
		if err := d.setMode(ctx, &back); err != nil {
			return "", err
		}
	}
	if l.Only {
		return "files are as they were", nil
	}
	at, err := d.linked(l)
	if err != nil {
		return "", err
	}
	if at == l.Version {
		if err := d.lead(ctx, l, l.Before); err != nil {
			return "", err
		}
	} else if at != l.Before {
		return "", &install.ChangedError{What: l.in("now")}
	}
	return "files and link are as they were", nil
}

// randomLength is how many characters of rand.Text make a name that nobody
// else uses; the names of files that are being written end so.
const randomLength = 12

// unfinished are patterns, for the shell, of files that a process that was
// killed may have left: the copy, and what was not renamed yet of it and of the
// files of the configuration.
func (l *layout) unfinished(p *install.Plan) (list string) {
	random := strings.Repeat("[A-Z2-7]", randomLength)
	written := func(at string) string {
		return " " + reach.Quoted(path.Join(path.Dir(at), "."+path.Base(at)+".")) + random
	}
	for _, f := range p.Files {
		list += written(f.Path)
	}
	for _, x := range p.Links {
		list += " " + reach.Quoted(path.Join(path.Dir(x.Path), "."+path.Base(x.Path)+".insegna"))
	}
	if l.Copy == "" {
		return list
	}
	copied := reach.Quoted(path.Join(path.Dir(l.Copy), "."+path.Base(l.Copy)))
	return list + " " + reach.Quoted(l.Copy) + random + " " + reach.Quoted(l.Copy) + random + ".? " + copied + random + "." +
		random + " " + copied + random + ".?." + random
}

// Clear implements install.Destination. After an installation that is done it
// keeps the newest versions and those this installation needs, and has the link
// written to the disk; otherwise it takes away what was staged, and folders that
// are empty then.
func (d *Destination) Clear(ctx context.Context, p *install.Plan, kept bool) error {
	l, err := read(p)
	if err != nil {
		return err
	}
	if l.Only {
		script := "rm -f --" + l.unfinished(p)
		if l.Mends && !kept { // what was put aside is back in its place
			script += "; rm -rf -- " + reach.Quoted(l.Folder) + "; rmdir -- " + reach.Quoted(path.Dir(l.Folder)) + " " +
				reach.Quoted(path.Dir(path.Dir(l.Folder))) + " 2>/dev/null; true"
		}
		_, err := d.run(ctx, script)
		return err
	}
	if kept {
		return d.prune(ctx, l, p)
	}
	if l.Version == l.Before {
		return nil
	}
	folder := reach.Quoted(l.in("versions", l.Version))
	_, err = d.run(ctx, "rm -rf -- "+folder+" "+reach.Quoted(l.in("before", l.Version))+
		"; rm -f -- "+reach.Quoted(l.in(".now."))+"*"+l.unfinished(p)+
		"; rmdir -- "+reach.Quoted(l.in("versions"))+" "+reach.Quoted(l.in("before"))+" "+reach.Quoted(l.Folder)+" "+
		reach.Quoted(path.Dir(l.Folder))+" 2>/dev/null; test ! -e "+folder)
	return err
}

// prune takes away what a broken-off act left behind and the oldest versions,
// never the one in use nor the one before it.
func (d *Destination) prune(ctx context.Context, l *layout, p *install.Plan) error {
	n := d.Keep
	if n == 0 {
		n = keep
	}
	_, err := d.run(ctx,
		fmt.Sprintf("cd %s && rm -f -- ../.now.* %s && sync .. && ls -1t | tail -n +%d | while IFS= read -r v; do [ \"$v\" "+
			"= %s ] || [ \"$v\" = %s ] || rm -rf -- \"$v\"; done",
			reach.Quoted(l.in("versions")), l.unfinished(p), n+1, reach.Quoted(l.Version), reach.Quoted(l.Before)))
	return err
}

// run runs a script of ours on the server.
func (d *Destination) run(ctx context.Context, script string) (string, error) {
	out, err := d.Over.Run(ctx, script, commandLimit)
	if err != nil {
		return "", err
	}
	if out.Exit != 0 {
		return "", &install.FaultError{Words: oneLine(out.Text),
			Advice: "see that the service may write there and that there is room", Said: out.Text}
	}
	return out.Text, nil
}

// command runs a command of the estate file on the server.
func (d *Destination) command(ctx context.Context, command, advice string) error {
	limit := d.Limit
	if limit == 0 {
		limit = commandLimit
	}
	out, err := d.Over.Run(ctx, command, limit)
	var late *reach.TimeError
	if errors.As(err, &late) {
		return &install.FaultError{Words: late.Error(), Advice: advice}
	} else if err != nil {
		return err
	}
	if out.Exit != 0 {
		return &install.FaultError{Words: fmt.Sprintf("%s ends with %d: %s", command, out.Exit, oneLine(out.Text)),
			Advice: advice, Said: out.Text}
	}
	return nil
}

// file gives a file of the server; fs.ErrNotExist when there is none.
func (d *Destination) file(p string) ([]byte, fs.FileInfo, error) {
	f, err := d.Over.FS().Open(strings.TrimPrefix(path.Clean(p), "/"))
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
		err = &install.FaultError{Words: fmt.Sprintf("%s is larger than %d MB", p, fileLimit>>20),
			Advice: "see what that file is"}
	}
	return data, info, err
}

// oneLine puts what a command said into one line of bounded length.
func oneLine(s string) string {
	s = strings.Join(strings.FieldsFunc(s, func(r rune) bool { return r == '\n' || r == '\r' }), "; ")
	const most = 600
	if len(s) > most {
		s = s[:most] + "…"
	}
	return strings.ToValidUTF8(s, "�")
}
